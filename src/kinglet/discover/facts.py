"""What is found out about a log before anything is said of it: its text, its events, its stamps."""

from __future__ import annotations

import re
from dataclasses import replace
from datetime import datetime
from typing import Any, NamedTuple

import polars as pl

from kinglet.cutting.cutter import EventBatch, cut
from kinglet.cutting.from_spec import cut_rule
from kinglet.cutting.header_lines import HEADER
from kinglet.cutting.rule import CutRule
from kinglet.discover.containers import Records, container_of
from kinglet.discover.header_lines import HEADER_LINE, names_columns
from kinglet.discover.report import Boundary
from kinglet.discover.sample import Sample, take
from kinglet.discover.starts import boundaries
from kinglet.discover.times import Times, times
from kinglet.discover.words import counted, percent
from kinglet.errors import InputError
from kinglet.source.logs import Given, Source, open_sources
from kinglet.spec.schema import Events

_PROBE = 300


class Facts(NamedTuple):
    """A log as it was found.

    frame: its events: line in the sample, number of that line in the log (0 where not known), offset, raw. records:
    what the container holds, where the log has one. boundaries: ways to cut it, the likeliest first.
    """

    name: str
    sample: Sample
    frame: pl.DataFrame
    batches: list[EventBatch]
    boundaries: list[Boundary]
    stamps: Times
    records: Records | None
    reference: datetime

    @property
    def headers(self) -> pl.Series | None:
        """What a line of the log says above each event of its columns, where such lines name them."""
        return self.frame[HEADER] if HEADER in self.frame.columns else None


def facts(sources: list[Source], given: Given, reference: datetime | None = None) -> Facts:
    """What there is to know of logs that are looked at as one.

    reference: the moment by which they were written, if not when the newest of them was.

    Raises:
        InputError: a log cannot be read, or has nothing in it.
    """
    sample = take(sources)
    name = sources[0].name if len(sources) == 1 else str(given)
    if not sample.text.strip():
        raise InputError(f"{name}: is empty", "there is nothing to look at")
    below = _below_headers(sample)
    records = container_of(sample) if below is None else None
    if records is not None and records.events is not None:
        frame, batches = _cut(sample, records.events)
        rules = boundaries(sample, _of_container(records.events, frame))
    else:
        rules = boundaries(sample, below)
        frame, batches = _cut(sample, rules[0].events)
    if sample.ends.get("CRLF", 0) > sample.ends.get("LF", 0):
        rules = [_with_returns(rule) for rule in rules]
    reference = reference or max(source.reference for source in sources)
    stamps = times(_without_commas(frame["raw"], records), frame["number"], reference)
    return Facts(name, sample, frame, batches, rules, stamps, records, reference)


_COMMA_BEHIND_CLOCK = r"(:[0-9]{2}),([0-9])"


def _without_commas(raw: pl.Series, records: Records | None) -> pl.Series:
    """Rows between commas with other signs behind a time of day, so that the next column is no fraction of it."""
    dialect = records.events.get("csv") if records is not None and records.events is not None else None
    if dialect is None or (isinstance(dialect, dict) and "delimiter" in dialect):
        return raw
    values = (value for row in (records.values or ())[:_PROBE] for value in row.values()) if records else ()
    if any(re.search(_COMMA_BEHIND_CLOCK, value) for value in values):
        return raw  # they have commas within them
    return raw.str.replace_all(_COMMA_BEHIND_CLOCK, "$1;$2")


def _rule(events: dict[str, Any]) -> CutRule:
    return cut_rule(Events.model_validate(events))._replace(encoding="utf-8", line_ends="lf")


def _cut(sample: Sample, events: dict[str, Any]) -> tuple[pl.DataFrame, list[EventBatch]]:
    """The events of the sample: line in it, number of that line in the log, offset and text."""
    text = sample.text.rstrip(b"\n") if {"nul", "length"} & events.keys() and sample.unended else sample.text
    batches = list(cut(open_sources(text)[0], _rule(events)))
    if not batches:
        return pl.DataFrame(
            {"line": [], "offset": [], "raw": [], "number": []},
            schema={"line": pl.Int64, "offset": pl.Int64, "raw": pl.String, "number": pl.Int64},
        ), []
    frame = pl.concat([batch.frame for batch in batches])
    return frame.with_columns(sample.numbers.gather(frame["line"] - 1).alias("number")), batches


def _with_returns(way: Boundary) -> Boundary:
    """A separator as it stands in a log whose lines end with CRLF."""
    text = way.events.get("separator")
    return replace(way, events={"separator": text.replace("\n", "\r\n")}) if text else way


def _below_headers(sample: Sample) -> Boundary | None:
    """The way to cut a log whose own lines name the columns of those below them."""
    if not names_columns(sample.lines):
        return None
    count = int((sample.lines.str.contains(r"\S") & ~sample.lines.str.contains(f"^{HEADER_LINE}")).sum())
    evidence = f"every line is an event but for those that name the columns: {counted(count, 'event')}"
    return Boundary({"header": HEADER_LINE}, count, 1.0, 0.0, evidence)


def _of_container(events: dict[str, Any], frame: pl.DataFrame) -> Boundary:
    """The way to cut that the container prescribes."""
    many = float(frame["raw"].str.contains("\n", literal=True).mean() or 0) if frame.height else 0.0  # type: ignore[arg-type]
    evidence = f"the container says where records begin and end: {counted(frame.height, 'event')}"
    if many:
        evidence += f", {percent(many)} of them of several lines"
    return Boundary(events, frame.height, 1.0, many, evidence)
