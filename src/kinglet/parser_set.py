"""Several parsers for logs in which the events of many devices stand together."""

from __future__ import annotations

import functools
import os
from collections.abc import Callable, Iterator, Sequence
from datetime import date, datetime
from pathlib import Path
from typing import Any

import polars as pl

from kinglet.errors import ParserFileError, Place, Problem, UsageError
from kinglet.ocsf.schema import Model
from kinglet.output.mixed_view import MixedView
from kinglet.parser import Parser, call_options, checked_workers, load
from kinglet.plan.data import STATES
from kinglet.runtime.candidate_parsers import Claimed
from kinglet.runtime.several import NO_PARSER, UNCLAIMED, Mixed, Mixer
from kinglet.source.logs import Given, Source, open_sources

_NOBODY: dict[str, Any] = {
    "kinglet": 1,
    "parser": UNCLAIMED,
    "version": "0",
    "product": {"vendor": "Unknown", "name": "Unknown"},
    "variants": [{"name": NO_PARSER, "regex": r"[^\s\S]"}],
}


def load_set(*sources: str | os.PathLike[str], model: Model | None = None) -> ParserSet:
    """Loads parsers to be used together: files, names of ready parsers, and folders of parser files.

    Raises:
        ParserFileError: a file has problems, a folder has no parser file, or two parsers have one name.
    """
    files: list[str | os.PathLike[str]] = []
    for source in sources:
        if Path(source).is_dir():
            found = sorted(Path(source).glob("*.yaml"))
            if not found:
                raise ParserFileError([Problem(Place(str(source)), "", "has no parser file", "they end with .yaml")])
            files += found
        else:
            files.append(source)
    return ParserSet([load(file, model=model) for file in files])


class ParserSet:
    """Parsers that read logs together: each event goes to the one that reads it best.

    Which come into question for a log its path says, where one claims it; otherwise all do, those first that claim text
    which it contains. The log is cut by the rule of one of them, under which most of its beginning is complete. For an
    event its text says.
    """

    def __init__(self, parsers: Sequence[Parser]) -> None:
        if not parsers:
            raise UsageError("a set needs at least one parser")
        self.parsers = {parser.name: parser for parser in parsers}
        if len(self.parsers) < len(parsers):
            names = [parser.name for parser in parsers]
            twice = next(parser for i, parser in enumerate(parsers) if parser.name in names[:i])
            first = self.parsers[twice.name] is twice and next(p for p in parsers if p.name == twice.name)
            where = first.document.name if first else twice.document.name
            problem = Problem(
                twice.document.place(("parser",)), "parser", f"a second parser `{twice.name}`", f"the first is {where}"
            )
            raise ParserFileError([problem])
        self._nobody = load(_NOBODY)
        self.mixer = Mixer([_claimed(parser) for parser in parsers], self._nobody.plan)

    def __reduce__(self) -> tuple[Any, ...]:
        """Copies and pickles carry the parsers."""
        return ParserSet, (list(self.parsers.values()),)

    def view(self, form: str) -> MixedView:
        """How events go out: `fields` or `model`."""
        return MixedView([*(parser.plan for parser in self.parsers.values()), self._nobody.plan], form)

    def parse(
        self,
        *sources: Given,
        at: str | date | datetime | None = None,
        zone: str | None = None,
        encoding: str | None = None,
        unpack_limit: int | None = None,
    ) -> MixedResult:
        """Parses logs into memory; see `Parser.parse` for what can be given.

        Raises:
            InputError: a log cannot be read.
        """
        opened = open_sources(*sources, encoding=encoding, unpack_limit=unpack_limit)
        return MixedResult(self, tuple(mixed for mixed, _ in self.run_batches(opened, at=at, zone=zone)))

    def run_batches(
        self,
        sources: Sequence[Source],
        *,
        at: str | date | datetime | None = None,
        zone: str | None = None,
        workers: int | None = None,
        then: Callable[[Mixed], Any] = lambda mixed: None,
    ) -> Iterator[tuple[Mixed, Any]]:
        """Parses opened sources; gives each batch with what `then` made of it on a thread of its own."""
        return self.mixer.run(sources, call_options(at, zone), checked_workers(workers), then)

    def __repr__(self) -> str:
        return f"<ParserSet of {', '.join(self.parsers)}>"


def _claimed(parser: Parser) -> Claimed:
    claims = parser.definition.claims
    if claims is None:
        return Claimed(parser.plan)
    return Claimed(parser.plan, tuple(claims.path or ()), tuple(claims.contains or ()))


class MixedResult:
    """Events of several parsers."""

    def __init__(self, parsers: ParserSet, batches: tuple[Mixed, ...]) -> None:
        self.parsers, self.batches = parsers, batches

    @functools.cached_property
    def events(self) -> pl.DataFrame:
        """One row an event, in the order of the logs, with the columns of all parsers; `parser` says whose it is."""
        view = self.parsers.view("fields")
        frames = [view.table(batch) for batch in self.batches]
        return pl.concat(frames) if frames else pl.DataFrame(schema=view.schema)

    @functools.cached_property
    def counts(self) -> dict[str, int]:
        """Events by state; complete + partial + unmatched + dropped = events."""
        total = dict.fromkeys(("events", *STATES), 0)
        for batch in self.batches:
            for state, count in batch.counts.items():
                total[state] += count
        return total

    @functools.cached_property
    def by_parser(self) -> dict[str, dict[str, int]]:
        """The same for each parser that read an event, the busiest first; `unclaimed` has those that none reads."""
        found: dict[str, dict[str, int]] = {}
        for batch in self.batches:
            add_counts(found, batch)
        return dict(sorted(found.items(), key=lambda item: (-item[1]["events"], item[0])))

    def __repr__(self) -> str:
        return f"<MixedResult of {len(self.by_parser)} parsers: {self.counts['events']:,} events>"


def add_counts(found: dict[str, dict[str, int]], batch: Mixed) -> None:
    """Adds the events of a batch to counts by parser."""
    for parsed in batch.by_parser:
        here = found.setdefault(parsed.plan.parser, dict.fromkeys(("events", *STATES), 0))
        for state, count in parsed.counts.items():
            here[state] += count
