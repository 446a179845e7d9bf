"""The fewest events of a log that show all that a parser does with it."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any, NamedTuple

import polars as pl

from kinglet.insight.cases import case_batches
from kinglet.parser import Parser

_MOST_KINDS = 20_000
"""Kinds of events that are told apart in a log."""


class Shows(NamedTuple):
    """An event of a log, and what it shows that nothing before it does."""

    file: str
    line: int
    raw: str
    shows: tuple[str, ...]

    @property
    def place(self) -> str:
        return f"{self.file}:{self.line}"


class Covered(NamedTuple):
    """The events that are proposed; of so many things that the log shows, and how many of them cases show already."""

    events: list[Shows]
    shown: int
    already: int


def cover(parser: Parser, log: str) -> Covered:
    """Proposes events of a log as cases: every variant, optional part, word of an enumeration and fault once.

    Raises:
        InputError: the log cannot be read.
    """
    what = _What(parser)
    kinds: dict[tuple[Any, ...], tuple[str, int, str]] = {}
    for batch in parser.parse_batches(log):
        for key, place in what.kinds(batch.events):
            if len(kinds) < _MOST_KINDS:
                kinds.setdefault(key, place)
    cases = (batch.parsed.events() for batch in case_batches(parser))
    of_cases = [key for events in cases for key, _ in what.kinds(events)]
    varies = what.varying([*kinds, *of_cases])
    known = {thing for key in of_cases for thing in what.shows(key, varies)}
    things = {key: frozenset(what.shows(key, varies)) for key in kinds}
    everything = frozenset().union(*things.values()) if things else frozenset()
    wanted = set(everything - known)
    found: list[Shows] = []
    while wanted:
        # the most that is new; of those that show as much the shortest
        best = max(things, key=lambda key: (len(things[key] & wanted), -len(kinds[key][2])))
        new = things[best] & wanted
        if not new:
            break
        found.append(Shows(*kinds[best], tuple(sorted(new))))
        wanted -= new
    return Covered(sorted(found, key=lambda one: one.line), len(everything), len(everything & known))


class _What:
    """What events of a parser can show."""

    def __init__(self, parser: Parser) -> None:
        plan = parser._plan
        self.names = [name for name in plan.fields if name not in ("body", "more")]
        envelope = plan.envelope.every_field if plan.envelope is not None else ()
        self.words = {
            item.name
            for reading in (envelope, *(variant.reading.every_field for variant in plan.variants))
            for item in reading
            if "|" in item.type.name
        } | {kind.slot for kind in plan.kinds}
        self.words &= set(self.names)

    def kinds(self, events: pl.DataFrame) -> Iterator[tuple[tuple[Any, ...], tuple[str, int, str]]]:
        """The kinds of events in a frame, each with the place and text of its shortest."""
        there = [name for name in self.names if name in events.columns]
        keys = [
            pl.col("variant").cast(pl.String),
            pl.col("faults").list.join(" ").alias("!faults"),
            pl.col("time_rule").cast(pl.String).alias("!rule")
            if "time_rule" in events.columns
            else pl.lit(None).alias("!rule"),
            *(pl.col(name).is_not_null().alias(f"#{name}") for name in there),
            *(pl.col(name).cast(pl.String).alias(f"={name}") for name in there if name in self.words),
        ]
        grouped = (
            events.sort(pl.col("raw").str.len_chars(), maintain_order=True)
            .group_by(keys, maintain_order=True)
            .agg(
                pl.col("file").first().alias("file"),
                pl.col("line").first().alias("line"),
                pl.col("raw").first().alias("raw"),
            )
        )
        for row in grouped.iter_rows(named=True):
            key = tuple((name, value) for name, value in row.items() if name not in ("file", "line", "raw"))
            yield key, (str(row["file"]), int(row["line"]), str(row["raw"]))

    @staticmethod
    def varying(keys: Iterable[tuple[tuple[str, Any], ...]]) -> set[tuple[Any, str]]:
        """The fields that some events of a variant have and others lack, each with its variant."""
        seen: dict[tuple[Any, str], set[bool]] = {}
        for key in keys:
            variant = dict(key)["variant"]
            for column, value in key:
                if column[0] == "#" and column not in ("!faults", "!rule"):
                    seen.setdefault((variant, column), set()).add(value)
        return {place for place, values in seen.items() if len(values) > 1}

    @staticmethod
    def shows(key: Iterable[tuple[str, Any]], varies: set[tuple[Any, str]]) -> Iterator[str]:
        """What an event of a kind shows, in words."""
        values = dict(key)
        variant = values["variant"]
        name = variant or "no variant"
        yield name
        for fault in (values["!faults"] or "").split():
            yield f"{name}: fault {fault}"
        if values["!rule"] is not None:
            yield f"time {values['!rule']}"
        for column, value in values.items():
            if variant is not None and (variant, column) in varies:
                yield f"{name}: {'with' if value else 'without'} {column[1:]}"
            elif column[0] == "=" and value is not None:
                yield f"{name}: {column[1:]} {value}"
