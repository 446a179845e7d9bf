"""A look at a log, step by step."""

from __future__ import annotations

import re
from dataclasses import replace
from pathlib import PurePath
from typing import Any, NamedTuple, TypeVar

import polars as pl

from kinglet.definition.schema import Events
from kinglet.errors import InputError
from kinglet.looking import shapes as forms_of
from kinglet.looking.columns import described, pairs, type_of
from kinglet.looking.containers import LABEL, Records, container_of
from kinglet.looking.oddities import basics
from kinglet.looking.report import Boundary, Look, Pair, Shape
from kinglet.looking.sample import Sample, take
from kinglet.looking.slots import Slot, same_names, slots_of
from kinglet.looking.starts import boundaries
from kinglet.looking.suggestion import parser_text
from kinglet.looking.times import Times, times
from kinglet.looking.words import counted, percent
from kinglet.raw.cutting import CutRule, EventBatch, cut
from kinglet.raw.rules import cut_rule
from kinglet.raw.sources import Given, Source, open_sources

MOST_SHAPES = 200
"""Shapes that are told of by themselves; the rest is counted."""
NAMED = 40
"""Shapes whose slots are given names and types."""
DETAILED = 6
"""Shapes whose columns are looked into."""
_LONGEST = 1000
_LINE_RULES = ("line", "start", "end", "indent", "blank-line", "csv")
T = TypeVar("T")


def look(*logs: Given, encoding: str | None = None, unpack_limit: int | None = None) -> list[Look]:
    """Looks at raw logs: a Look for each argument; a folder or glob is looked at as one log.

    Raises:
        InputError: a log cannot be read, or has nothing in it.
    """
    return [_look(open_sources(log, encoding=encoding, unpack_limit=unpack_limit), log) for log in logs]


def _look(sources: list[Source], given: Given) -> Look:
    sample = take(sources)
    name = sources[0].name if len(sources) == 1 else str(given)
    if not sample.text.strip():
        raise InputError(f"{name}: is empty; there is nothing to look at")
    records = container_of(sample)
    known = records.events if records else None
    count = _count(sample, known) if known else None
    ways = boundaries(sample, known, count)
    frame, batches = _cut(sample, ways[0].events)
    if sample.ends.get("CRLF", 0) > sample.ends.get("LF", 0):
        ways = [_with_returns(way) for way in ways]
    if known:
        ways[0] = _counted(ways[0], frame)
    reference = max(source.reference for source in sources)
    stamps = times(frame["raw"], frame["number"], reference)
    found = _shapes(frame, records, stamps)
    text = parser_text(file_stem(name), ways[0].events, stamps, frame["raw"])
    return Look(
        name=name,
        files=sample.files,
        looked_at=sample.about,
        whole=sample.whole,
        basics=basics(
            sample, batches, frame, contained=records is not None, by_lines=next(iter(ways[0].events)) in _LINE_RULES
        ),
        container=records.container if records else None,
        boundaries=ways,
        events=frame.height,
        stamps=stamps.places,
        shapes=found.shapes,
        shape_count=found.total,
        pairs=found.pairs,
        suggestion=text,
        command=_command(name, sources),
    )


def _rule(events: dict[str, Any]) -> CutRule:
    return cut_rule(Events.model_validate(events))._replace(encoding="utf-8", line_ends="lf")


def _count(sample: Sample, events: dict[str, Any]) -> int:
    return sum(len(batch) for batch in cut(open_sources(sample.text)[0], _rule(events)))


def _cut(sample: Sample, events: dict[str, Any]) -> tuple[pl.DataFrame, list[EventBatch]]:
    """The events of the sample: line in it, number of that line in the log, offset and text."""
    batches = list(cut(open_sources(sample.text)[0], _rule(events)))
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


def _counted(way: Boundary, frame: pl.DataFrame) -> Boundary:
    many = float(frame["raw"].str.contains("\n", literal=True).mean() or 0) if frame.height else 0.0  # type: ignore[arg-type]
    evidence = f"the container says where records begin and end: {counted(frame.height, 'event')}"
    if many:
        evidence += f", {percent(many)} of them of several lines"
    return Boundary(way.events, frame.height, way.explained, many, evidence, way.wrong)


def _command(name: str, sources: list[Source]) -> str:
    from kinglet.definition.loading import ready_parsers

    plain = name if name not in ("<stdin>", "<bytes>", "<text>", "<events>") else "LOG"
    quoted = f"'{plain}'" if re.search(r"[\s*?\[]", plain) else plain
    stem = file_stem(name)
    if stem in ready_parsers():
        return f"kinglet try {stem} {quoted}"
    return f"kinglet try {stem}.yaml {quoted}"


def file_stem(name: str) -> str:
    """A name for a parser of this log."""
    stem = PurePath(name.rstrip("/*")).name.split(".")[0]
    return re.sub(r"[^A-Za-z0-9_-]+", "-", stem).strip("-") or "log"


class Found(NamedTuple):
    """Shapes, how many there are in all, and pairs of columns over all of them."""

    shapes: list[Shape]
    total: int
    pairs: list[Pair]


def _shapes(frame: pl.DataFrame, records: Records | None, stamps: Times) -> Found:
    if records is not None and records.values is not None:
        return _record_shapes(frame, records.values)
    if records is not None and records.container.name == "labelled blocks":
        return _block_shapes(frame)
    return _text_shapes(frame, stamps, pairs_=records is not None and records.container.name == "key=value")


def _text_shapes(frame: pl.DataFrame, stamps: Times, *, pairs_: bool) -> Found:
    """Shapes of events by their first lines; what stands on others is told by the boundary."""
    lines = frame["raw"].str.split("\n").list.first().str.slice(0, _LONGEST) if frame.height else frame["raw"]
    regexes = [place.around for place in sorted(stamps.where, key=lambda place: -place.order)]
    found = forms_of.forms(lines, regexes, pairs=pairs_)
    stamp = "|".join(dict.fromkeys(place.form.shape for place in stamps.where)) or "x^"
    read = [slots_of(form, lines.gather(form.rows), stamp) for form in found[:NAMED]]
    same_names(read)
    shapes = []
    for i, form in enumerate(_most(found)):
        slots = read[i] if i < len(read) else []
        first = int(form.rows[0])
        columns = (
            [described(slot.name, slot.values, slot.type) for slot in slots if not slot.fixed] if i < DETAILED else []
        )
        text = forms_of.shown(form.text, [slot.shown for slot in slots])
        example = str(frame["raw"][first])[:_LONGEST]
        count = len(form.rows)
        shapes.append(Shape(text, count, count / frame.height, example, int(frame["number"][first]), columns))
    return Found(shapes, len(found), _pairs_over(read))


def _most(found: list[T]) -> list[T]:
    """The commonest, and of very many the rarest as well."""
    return found if len(found) <= MOST_SHAPES else [*found[: MOST_SHAPES - 20], *found[-20:]]


def _pairs_over(read: list[list[Slot]]) -> list[Pair]:
    """Pairs over all shapes that have both columns, put together by their names."""
    types: dict[str, str] = {}
    frames = []
    for slots in read:
        some = {slot.name: slot for slot in slots if slot.type != "time" and not (slot.plain and slot.name in types)}
        if some:
            types |= {name: slot.type for name, slot in some.items()}
            frames.append(pl.DataFrame([slot.values.alias(name) for name, slot in some.items()]))
    if not frames:
        return []
    table = pl.concat(frames, how="diagonal")
    return pairs({name: table[name] for name in table.columns}, types)


def _record_shapes(frame: pl.DataFrame, values: list[dict[str, Any]]) -> Found:
    """Shapes of records by the columns that have a value."""
    by_keys: dict[tuple[str, ...], list[int]] = {}
    for i, record in enumerate(values):
        by_keys.setdefault(tuple(record), []).append(i)
    ordered = sorted(by_keys.items(), key=lambda item: -len(item[1]))
    names = list(dict.fromkeys(name for keys, _ in ordered for name in keys))[:80]
    table = {name: pl.Series(name, [record.get(name) for record in values], dtype=pl.String) for name in names}
    kinds = {name: type_of(column) for name, column in table.items()}
    columns = [described(name, column, kinds[name]) for name, column in table.items()]
    whole = len(values) == frame.height
    shapes: list[Shape] = []
    for keys, rows in _most(ordered):
        example = str(frame["raw"][rows[0]])[:_LONGEST] if rows[0] < frame.height else ""
        number = int(frame["number"][rows[0]]) if whole else 0
        text = " ".join(keys)
        shapes.append(Shape(text, len(rows), len(rows) / len(values), example, number, [] if shapes else columns))
    return Found(shapes, len(ordered), pairs(table, kinds))


def _block_shapes(frame: pl.DataFrame) -> Found:
    """Shapes of blocks by their labels."""
    some = frame.head(20_000)
    rows: list[dict[str, str]] = []
    for text in some["raw"]:
        values: dict[str, str] = {}
        for line in text.split("\n"):
            match = re.match(LABEL, line)
            if match:
                name, number = match[1], 2
                while name in values:
                    name, number = f"{match[1]} ({number})", number + 1
                if value := line[match.end() :].strip():
                    values[name] = value
        rows.append(values)
    return _record_shapes(some, rows)
