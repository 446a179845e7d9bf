"""How logs are given to parsers: the calls that one parser and several have alike."""

from __future__ import annotations

import zoneinfo
from collections.abc import Iterator, Mapping, Sequence
from datetime import date, datetime
from typing import TYPE_CHECKING, Any

from kinglet.errors import UsageError, did_you_mean, parts_of
from kinglet.result import Result
from kinglet.runtime.work import Options
from kinglet.runtime.workers import Then
from kinglet.source.columns import of_column
from kinglet.source.logs import Given, Source, open_sources
from kinglet.timestamps.reference_time import as_moment
from kinglet.timestamps.zones import configured_zone

if TYPE_CHECKING:
    from kinglet.output.views import View
    from kinglet.parser import Parser

MOST_WORKERS = 256

ReferenceTime = str | date | datetime | None
"""A date or a moment, also as ISO 8601 text, near which timestamps without a year lie."""


class ParseCalls:
    """What can be asked of one parser and of several alike; see `Parser` and `ParserSet`."""

    @property
    def parsers(self) -> Mapping[str, Parser]:
        """The parsers by their names."""
        raise NotImplementedError

    @property
    def needs_order(self) -> bool:
        """Whether a timestamp may mean one thing or another by the order of the log: batches of it are no islands then.

        Such are timestamps without a date or a year, in a zone whose clocks change, or missing and taken from the event
        before. What splits a log among processes has to leave each log whole, or hand a `Session` on.
        """
        raise NotImplementedError

    def _view(self, form: str) -> View:
        """How events go out: `fields` or `model`."""
        raise NotImplementedError

    def _run(
        self, sources: Sequence[Source], options: Options, workers: int | None, then: Then | None
    ) -> Iterator[Any]:
        raise NotImplementedError

    def parse(
        self,
        *sources: Given,
        reference_time: ReferenceTime = None,
        zone: str | None = None,
        encoding: str | None = None,
        max_unpacked_bytes: int | None = None,
        limit: int | None = None,
        workers: int | None = None,
    ) -> Result:
        """Parses whole logs, one after another, into memory.

        sources: each a path, a glob, a folder, `-`, bytes, a text of several lines, or an iterable of raw events.
        reference_time: near which timestamps without a year lie; otherwise when the file was written.
        zone: IANA zone of timestamps that carry none, where the parser names none.
        encoding: of the logs; otherwise what the parser says, or what their content tells.
        max_unpacked_bytes: the most that a packed log may unpack to.
        limit: stop after so many events.
        workers: threads; all processors unless given.

        Raises:
            InputError: a log cannot be read.
            UsageError: an argument means nothing.
        """
        checked_limit(limit)
        batches: list[Any] = []
        count = 0
        opened = _opened(sources, "parse", encoding, max_unpacked_bytes)
        for parsed in run_batches(self, opened, reference_time=reference_time, zone=zone, workers=workers):
            batches.append(parsed)
            count += parsed.counts["events"]
            if limit is not None and count >= limit:
                break
        return Result(self, tuple(batches), limit)

    def parse_batches(
        self,
        *sources: Given,
        reference_time: ReferenceTime = None,
        zone: str | None = None,
        encoding: str | None = None,
        max_unpacked_bytes: int | None = None,
        workers: int | None = None,
    ) -> Iterator[Result]:
        """Parses logs that need not fit in memory, a batch at a time and in order; the arguments are those of `parse`.

        Raises:
            InputError: a log cannot be read.
            UsageError: an argument means nothing.
        """
        opened = _opened(sources, "parse_batches", encoding, max_unpacked_bytes)
        for parsed in run_batches(self, opened, reference_time=reference_time, zone=zone, workers=workers):
            yield Result(self, (parsed,))

    def parse_column(self, column: Any, *, reference_time: ReferenceTime = None, zone: str | None = None) -> Result:
        """Parses raw events that are a column of text already; nothing is done to one item at a time.

        column: a polars series of strings, or whatever exports an Arrow array or stream of them (Arrow PyCapsule
        interface): a pyarrow, pandas or nanoarrow column. A null is an event without text. `line` counts from 1.

        Raises:
            UsageError: it is no column of text.
        """
        batches = run_batches(self, [of_column(column)], reference_time=reference_time, zone=zone)
        return Result(self, tuple(batches))


def run_batches(
    reader: ParseCalls,
    sources: Sequence[Source],
    *,
    reference_time: ReferenceTime = None,
    zone: str | None = None,
    workers: int | None = None,
    then: Then | None = None,
) -> Iterator[Any]:
    """Parses opened sources; then says what the threads that parse them do with batches besides."""
    return reader._run(sources, call_options(reference_time, zone), checked_workers(workers), then)


def view_of(reader: ParseCalls, form: str) -> View:
    """How events of one parser or several go out: `fields` or `model`."""
    return reader._view(form)


def _opened(sources: Sequence[Given], call: str, encoding: str | None, max_unpacked_bytes: int | None) -> list[Source]:
    if not sources:
        raise UsageError(f"{call} needs at least one source")
    return open_sources(*sources, encoding=encoding, max_unpacked_bytes=max_unpacked_bytes)


def call_options(reference_time: ReferenceTime, zone: str | None) -> Options:
    """What a call says beside the parser.

    Raises:
        UsageError: the reference time is no date, or `zone` no zone.
    """
    if zone is not None and not isinstance(zone, str):
        raise UsageError(f"zone: {zone!r} is no text", "name a zone such as Atlantic/Azores")
    if zone is not None and configured_zone(zone) is None:
        otherwise = "name one such as Atlantic/Azores, or an offset such as +02:00"
        hint = did_you_mean(zone, zoneinfo.available_timezones(), otherwise)
        raise UsageError(f"zone: no such zone `{zone}`", hint)
    try:
        return Options(as_moment(reference_time) if reference_time is not None else None, zone)
    except ValueError as error:
        message, hint = parts_of(error)
        raise UsageError(f"reference time (--at): {message}", hint) from None


def checked_workers(workers: int | None) -> int | None:
    """A number of threads.

    Raises:
        UsageError: it is none.
    """
    if workers is not None and (not isinstance(workers, int) or not 1 <= workers <= MOST_WORKERS):
        raise UsageError(f"workers: {workers!r} is no number of threads", f"give 1 to {MOST_WORKERS}")
    return workers


def checked_limit(limit: int | None) -> None:
    """A number of events.

    Raises:
        UsageError: it is none.
    """
    if limit is not None and (not isinstance(limit, int) or limit < 0):
        raise UsageError(f"limit: {limit!r} is no number of events", "give a whole number from 0 on")
