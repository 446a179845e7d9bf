"""A loaded parser, and what parsing gives: the two objects that users hold in their hands."""

from __future__ import annotations

import functools
import json
import os
import zoneinfo
from collections.abc import Callable, Collection, Iterator, Sequence
from dataclasses import dataclass
from datetime import date, datetime
from typing import TYPE_CHECKING, Any

import polars as pl

from kinglet.compiler import build
from kinglet.errors import UsageError, did_you_mean
from kinglet.ocsf.schema import Model
from kinglet.plan.data import MORE, STATES, Plan
from kinglet.runtime.parsed import Parsed
from kinglet.runtime.pipeline import Options, run
from kinglet.source.logs import Given, Source, open_sources
from kinglet.spec import loading
from kinglet.spec.document import Document
from kinglet.spec.schema import ParserFile
from kinglet.timestamps.reference_time import as_moment

if TYPE_CHECKING:
    import pandas as pd


MOST_WORKERS = 256


def load(source: str | os.PathLike[str] | dict[str, Any], *, model: Model | None = None) -> Parser:
    """Loads a parser.

    source: the path of a parser file, the name of a ready parser, YAML text, or a mapping.
    model: what its events map onto, from `load_model()`; the one that ships unless given.

    Raises:
        ParserFileError: with every problem of the file, each with file, line and column.
    """
    definition, document = loading.read(source)
    return Parser(definition, document, build(definition, document, model=model), model)


@dataclass(frozen=True, eq=False)
class Parser:
    """A parser, compiled once; it holds no state of a run and may be shared between threads."""

    definition: ParserFile
    document: Document
    plan: Plan
    model: Model | None = None
    """What its events map onto, if not the model that ships."""

    def __reduce__(self) -> tuple[Any, ...]:
        """Copies and pickles carry the parser file, which is compiled anew where they arrive."""
        return _compiled, (self.definition, self.document, self.model)

    @property
    def name(self) -> str:
        return self.plan.parser

    @property
    def version(self) -> str:
        return self.plan.version

    @property
    def fields(self) -> dict[str, pl.DataType]:
        """Every field that an event of this parser can have, with its type."""
        return dict(self.plan.fields)

    def read_tables(self) -> None:
        """Reads the tables that steps look things up in, which parsing does otherwise when it needs them.

        Raises:
            ParserFileError: a table cannot be read.
        """
        from kinglet.steps.tables import Lookup, Translate

        for step in self.plan.steps:
            if isinstance(step.action, Lookup | Translate):
                step.action.ready()

    def with_steps(self, *, without: Collection[int] = (), until: int | None = None) -> Parser:
        """The same parser with fewer steps, and without its mapping, which may need them.

        without: the numbers of steps, from 1, that are left out. until: the last step that is done; 0 for none.

        Raises:
            UsageError: there is no such step.
            ParserFileError: a step that is left needs what another gave.
        """
        count = len(self.definition.steps)
        for number in (*without, *([until] if until else [])):
            if not 1 <= number <= count:
                some = f"it has steps 1 to {count}" if count else "it has none"
                raise UsageError(f"{self.name} has no step {number}; {some}")
        steps = [
            step.model_copy(update={"off": True}) if i in without or (until is not None and i > until) else step
            for i, step in enumerate(self.definition.steps, 1)
        ]
        bare = [variant.model_copy(update={"event": None}) for variant in self.definition.variants]
        definition = self.definition.model_copy(update={"steps": steps, "event": None, "variants": bare})
        return Parser(definition, self.document, build(definition, self.document, model=self.model), self.model)

    def __repr__(self) -> str:
        return (
            f"<Parser {self.name} {self.version}: {len(self.plan.variants)} variants, {len(self.plan.fields)} fields>"
        )

    def parse(
        self,
        source: Given,
        *,
        at: str | date | datetime | None = None,
        zone: str | None = None,
        encoding: str | None = None,
        unpack_limit: int | None = None,
        most: int | None = None,
    ) -> Result:
        """Parses a whole log, or all logs that a folder or glob means, into memory.

        source: a path, a glob, a folder, `-`, bytes, a text of several lines, or an iterable of raw events.
        at: the moment near which stamps without a year lie; otherwise when the file was written.
        zone: IANA zone for stamps that carry none, where the parser names none.
        encoding: of the log; otherwise what the parser says, or what its content tells.
        unpack_limit: the most bytes that a packed log may unpack to.
        most: stop after so many events.

        Raises:
            InputError: the log cannot be read.
        """
        if most is not None and (not isinstance(most, int) or most < 0):
            raise UsageError(f"most: {most!r} is no number of events; give a whole number from 0 on")
        batches: list[Parsed] = []
        count = 0
        sources = open_sources(source, encoding=encoding, unpack_limit=unpack_limit)
        for parsed, _ in self.run_batches(sources, at=at, zone=zone):
            batches.append(parsed)
            count += parsed.counts["events"]
            if most is not None and count >= most:
                return Result(self, tuple(batches), most)
        return Result(self, tuple(batches))

    def parse_batches(
        self,
        *sources: Given,
        at: str | date | datetime | None = None,
        zone: str | None = None,
        encoding: str | None = None,
        unpack_limit: int | None = None,
        workers: int | None = None,
    ) -> Iterator[Result]:
        """Parses logs that need not fit in memory, a batch at a time and in order.

        Raises:
            InputError: a log cannot be read.
        """
        if not sources:
            raise UsageError("parse_batches needs at least one source")
        opened = open_sources(*sources, encoding=encoding, unpack_limit=unpack_limit)
        for parsed, _ in self.run_batches(opened, at=at, zone=zone, workers=workers):
            yield Result(self, (parsed,))

    def run_batches(
        self,
        sources: Sequence[Source],
        *,
        at: str | date | datetime | None = None,
        zone: str | None = None,
        workers: int | None = None,
        then: Callable[[Parsed], Any] = lambda parsed: None,
    ) -> Iterator[tuple[Parsed, Any]]:
        """Parses opened sources; gives each batch with what `then` made of it on a thread of its own."""
        return run(self.plan, sources, call_options(at, zone), checked_workers(workers), then)


def _compiled(definition: ParserFile, document: Document, model: Model | None) -> Parser:
    return Parser(definition, document, build(definition, document, model=model), model)


def call_options(at: str | date | datetime | None, zone: str | None) -> Options:
    """What a call says beside the parser.

    Raises:
        UsageError: `at` is no date, or `zone` no zone.
    """
    from kinglet.timestamps.zones import configured_zone

    if zone is not None and not isinstance(zone, str):
        raise UsageError(f"zone: {zone!r} is no text; name a zone such as Atlantic/Azores")
    if zone is not None and configured_zone(zone) is None:
        otherwise = "name one such as Atlantic/Azores, or an offset such as +02:00"
        hint = did_you_mean(zone, zoneinfo.available_timezones(), otherwise)
        raise UsageError(f"zone: no such zone `{zone}`; {hint}")
    try:
        return Options(as_moment(at) if at is not None else None, zone)
    except ValueError as error:
        raise UsageError(f"at: {error}") from None


def checked_workers(workers: int | None) -> int | None:
    """A number of threads.

    Raises:
        UsageError: it is none.
    """
    if workers is not None and (not isinstance(workers, int) or not 1 <= workers <= MOST_WORKERS):
        raise UsageError(f"workers: {workers!r} is no number of threads; give 1 to {MOST_WORKERS}")
    return workers


class Result:
    """Parsed events: all of a log, or of one batch of it."""

    def __init__(self, parser: Parser, batches: tuple[Parsed, ...], most: int | None = None) -> None:
        self.parser = parser
        self.batches = batches
        self._most = most

    @functools.cached_property
    def events(self) -> pl.DataFrame:
        """One row an event: line, raw, state, faults, variant, time, the fields, then where it came from."""
        schema = self.parser.plan.schema
        frames = [batch.events() for batch in self.batches]
        frame = pl.concat(frames) if frames else pl.DataFrame(schema=schema)
        return frame.head(self._most) if self._most is not None else frame

    @functools.cached_property
    def counts(self) -> dict[str, int]:
        """Events by state; complete + partial + unmatched + dropped = events."""
        if self._most is not None:
            by_state = dict(self.events["state"].value_counts().iter_rows())
            return {"events": self.events.height, **{state: by_state.get(state, 0) for state in STATES}}
        total = dict.fromkeys(("events", *STATES), 0)
        for batch in self.batches:
            for state, count in batch.counts.items():
                total[state] += count
        return total

    @property
    def fault_counts(self) -> dict[str, int]:
        """How often each fault occurs, the commonest first."""
        counted = self.events["faults"].explode().drop_nulls().value_counts()
        return dict(sorted(counted.iter_rows(), key=lambda row: (-row[1], row[0])))

    def spread(self, most: int = 100) -> pl.DataFrame:
        """The events with the keys of `more` as columns of text, for a look at keys that the parser does not name.

        The columns are all keys of all these events, the commonest first, `most` at most; what is left stays in `more`.
        One whose name the events have already, or could not have, is called `more.KEY`.
        """
        from kinglet.output.spreading import spread

        return spread(self.events, most) if MORE in self.parser.plan.json else self.events

    def to_pandas(self) -> pd.DataFrame:
        """The events as a pandas frame."""
        return self.events.to_pandas()

    def to_model(self) -> Iterator[dict[str, Any]]:
        """The events mapped onto the common model, as plain dicts without nulls."""
        from kinglet.output.views import ModelView

        form = ModelView(self.parser.plan)
        left = self._most
        for batch in self.batches:
            if left is not None:
                batch, left = batch.head(left), left - min(left, batch.counts["events"])
            if batch.parts:
                yield from map(json.loads, form.lines(batch.kept()))

    def __len__(self) -> int:
        return self.counts["events"]

    def __repr__(self) -> str:
        counts = ", ".join(f"{count} {state}" for state, count in self.counts.items() if count or state == "events")
        return f"<Result of {self.parser.name}: {counts}>"

    def _repr_html_(self) -> str:
        from kinglet.notebook.html import result_html

        return result_html(self)
