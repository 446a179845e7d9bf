"""A look at a log, step by step."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import polars as pl

from kinglet.cutting.cutter import EventBatch, cut
from kinglet.cutting.from_spec import cut_rule
from kinglet.cutting.rule import CutRule
from kinglet.discover.anomalies import basics
from kinglet.discover.containers import container_of
from kinglet.discover.describing import shapes_of
from kinglet.discover.report import Boundary, Look
from kinglet.discover.sample import Sample, take
from kinglet.discover.starts import boundaries
from kinglet.discover.suggestion import command_text, file_stem, parser_text
from kinglet.discover.times import times
from kinglet.discover.words import counted, percent
from kinglet.errors import InputError
from kinglet.source.logs import Given, Source, open_sources
from kinglet.spec.schema import Events

_LINE_RULES = ("line", "start", "end", "indent", "blank-line", "csv")


def look(*logs: Given, encoding: str | None = None, max_unpacked_bytes: int | None = None) -> list[Look]:
    """Looks at raw logs: a Look for each argument; a folder or glob is looked at as one log.

    Raises:
        InputError: a log cannot be read, or has nothing in it.
    """
    return [_look(open_sources(log, encoding=encoding, max_unpacked_bytes=max_unpacked_bytes), log) for log in logs]


def _look(sources: list[Source], given: Given) -> Look:
    sample = take(sources)
    name = sources[0].name if len(sources) == 1 else str(given)
    if not sample.text.strip():
        raise InputError(f"{name}: is empty", "there is nothing to look at")
    records = container_of(sample)
    if records is not None and records.events is not None:
        frame, batches = _cut(sample, records.events)
        rules = boundaries(sample, _of_container(records.events, frame))
    else:
        rules = boundaries(sample)
        frame, batches = _cut(sample, rules[0].events)
    if sample.ends.get("CRLF", 0) > sample.ends.get("LF", 0):
        rules = [_with_returns(rule) for rule in rules]
    reference = max(source.reference for source in sources)
    stamps = times(frame["raw"], frame["number"], reference)
    found = shapes_of(frame, records, stamps)
    columns = records.container.columns if records else []
    text = parser_text(file_stem(name), rules[0].events, stamps, frame["raw"], columns)
    return Look(
        name=name,
        files=sample.files,
        looked_at=sample.about,
        whole=sample.whole,
        basics=basics(
            sample,
            batches,
            frame,
            contained=records is not None,
            by_lines=next(iter(rules[0].events)) in _LINE_RULES,
        ),
        container=records.container if records else None,
        boundaries=rules,
        events=frame.height,
        stamps=stamps.places,
        shapes=found.shapes,
        shape_count=found.total,
        pairs=found.pairs,
        suggestion=text,
        command=command_text(name),
    )


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


def _of_container(events: dict[str, Any], frame: pl.DataFrame) -> Boundary:
    """The way to cut that the container prescribes."""
    many = float(frame["raw"].str.contains("\n", literal=True).mean() or 0) if frame.height else 0.0  # type: ignore[arg-type]
    evidence = f"the container says where records begin and end: {counted(frame.height, 'event')}"
    if many:
        evidence += f", {percent(many)} of them of several lines"
    return Boundary(events, frame.height, 1.0, many, evidence)
