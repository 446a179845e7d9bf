"""The shapes of a log with their columns, and the pairs of columns that belong together."""

from __future__ import annotations

import re
from typing import Any, NamedTuple, TypeVar

import polars as pl

from kinglet.discover import shapes as forms_of
from kinglet.discover.columns import described, pairs, type_of
from kinglet.discover.containers import LABEL, MOST_RECORDS, Records
from kinglet.discover.report import Pair, Shape
from kinglet.discover.slots import Slot, same_names, slots_of
from kinglet.discover.times import Times
from kinglet.patterns.compiling import to_regexes
from kinglet.patterns.grammar import PatternError, parse
from kinglet.patterns.grammar import slots as in_pattern
from kinglet.structured.json_objects import JsonObjects

MOST_SHAPES = 200
"""Shapes that are told of by themselves; the rest is counted."""
NAMED = 40
"""Shapes whose slots are given names and types."""
DETAILED = 6
"""Shapes whose columns are looked into."""
_LONGEST = 1000
T = TypeVar("T")


class Described(NamedTuple):
    """Shapes, how many there are in all, and pairs of columns over all of them."""

    shapes: list[Shape]
    total: int
    pairs: list[Pair]


def shapes_of(frame: pl.DataFrame, records: Records | None, stamps: Times) -> Described:
    """The shapes of events: by their columns, their labels, or the text of their first lines."""
    if records is not None and records.values is not None:
        return _record_shapes(frame, records.values)
    if records is not None and records.container.name == "labelled blocks":
        return _block_shapes(frame)
    return _text_shapes(frame, stamps, pairs_=records is not None and records.container.name == "key=value")


def _text_shapes(frame: pl.DataFrame, stamps: Times, *, pairs_: bool) -> Described:
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
        text = _reading(form, slots, lines, stamp)
        example = str(frame["raw"][first])[:_LONGEST]
        count = len(form.rows)
        shapes.append(Shape(text, count, count / frame.height, example, int(frame["number"][first]), columns))
    return Described(shapes, len(found), _pairs_over(read))


_PROBED = 2000


def _reading(form: forms_of.LineForm, slots: list[Slot], lines: pl.Series, stamp: str) -> str:
    """The shape as a pattern that reads the lines it was counted from: with the types of its slots, or wider ones."""
    probe = lines.gather(form.rows.head(_PROBED))
    named = forms_of.shown(form.text, [slot.shown for slot in slots])
    for text in (named, re.sub(r"\{(\w+)(?::(?!time\b)\w+)?\}", r"{\1:text}", named)):
        try:
            tokens = parse(text)
            regex = to_regexes(tokens, {slot.name: f"(?i:{stamp})" for slot in in_pattern(tokens)})[-1]
            if probe.str.strip_chars_end(" \t").str.contains(regex).all():
                return text
        except (PatternError, pl.exceptions.PolarsError, KeyError):
            continue
    return named


def _most(found: list[T]) -> list[T]:
    """The commonest, and of very many the rarest as well."""
    return found if len(found) <= MOST_SHAPES else [*found[: MOST_SHAPES - 20], *found[-20:]]


def _pairs_over(read: list[list[Slot]]) -> list[Pair]:
    """Pairs over all shapes that have both columns, put together by their names."""
    types: dict[str, str] = {}
    frames = []
    for slots in read:
        by_name = {slot.name: slot for slot in slots if slot.type != "time" and not (slot.plain and slot.name in types)}
        if by_name:
            types |= {name: slot.type for name, slot in by_name.items()}
            frames.append(pl.DataFrame([slot.values.alias(name) for name, slot in by_name.items()]))
    if not frames:
        return []
    table = pl.concat(frames, how="diagonal")
    return pairs({name: table[name] for name in table.columns}, types)


def _record_shapes(frame: pl.DataFrame, values: list[dict[str, Any]]) -> Described:
    """Shapes of records by the columns that have a value."""
    by_keys: dict[tuple[str, ...], list[int]] = {}
    for i, record in enumerate(values):
        by_keys.setdefault(tuple(record), []).append(i)
    ordered = sorted(by_keys.items(), key=lambda item: -len(item[1]))
    names = list(dict.fromkeys(name for keys, _ in ordered for name in keys))[:80]
    table = {name: pl.Series("value", [record.get(name) for record in values], dtype=pl.String) for name in names}
    kinds = {name: type_of(column) for name, column in table.items()}
    columns = [described(name, column, kinds[name]) for name, column in table.items()]
    rest = frame.height - len(values) if len(values) < MOST_RECORDS else 0
    every = frame
    if rest > 0:
        structure = JsonObjects()
        is_record = pl.Series([structure.values(text) is not None for text in frame["raw"]], dtype=pl.Boolean)
        frame = frame.filter(is_record)
    whole = len(values) == frame.height
    shapes: list[Shape] = []
    for keys, rows in _most(ordered):
        example = str(frame["raw"][rows[0]])[:_LONGEST] if rows[0] < frame.height and (whole or not rest) else ""
        number = int(frame["number"][rows[0]]) if whole else 0
        text = " ".join(keys)
        share = len(rows) / (len(values) + rest)
        shapes.append(Shape(text, len(rows), share, example, number, [] if shapes else columns))
    if rest > 0:
        others = every.filter(~is_record)
        example = str(others["raw"][0])[:_LONGEST] if others.height else ""
        number = int(others["number"][0]) if others.height else 0
        shapes.append(Shape("what is no record", rest, rest / every.height, example, number, []))
    return Described(shapes, len(ordered) + (rest > 0), pairs(table, kinds))


def _block_shapes(frame: pl.DataFrame) -> Described:
    """Shapes of blocks by their labels."""
    probe = frame.head(20_000)
    rows: list[dict[str, str]] = []
    for text in probe["raw"]:
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
    return _record_shapes(probe, rows)
