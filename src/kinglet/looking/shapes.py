"""The shapes of a log with their columns, and the pairs of columns that belong together."""

from __future__ import annotations

import re
from typing import Any, NamedTuple, TypeVar

import polars as pl

from kinglet.discover.columns import MOST_PAIRS, described, pairs, type_of
from kinglet.discover.containers import LABEL, MOST_RECORDS
from kinglet.discover.facts import Facts
from kinglet.discover.report import Pair, Shape, ShapeColumn
from kinglet.drafting.drafted import as_found
from kinglet.drafting.naming import Names
from kinglet.drafting.patterns import Slot, written
from kinglet.drafting.shape import Variant
from kinglet.drafting.text_logs import stamps_in
from kinglet.drafting.work import Wishes, Work, sampled
from kinglet.looking.patterns import reads, whole_pattern
from kinglet.mining.heads import Head
from kinglet.mining.messages import mine
from kinglet.structured.json_objects import JsonObjects

MOST_SHAPES = 200
"""Shapes that are told of by themselves; the rest is counted."""
DETAILED = 6
"""Shapes whose columns are looked into."""
_LONGEST = 1000
T = TypeVar("T")


class Described(NamedTuple):
    """Shapes, how many there are in all, and pairs of columns over all of them."""

    shapes: list[Shape]
    total: int
    pairs: list[Pair]


def shapes_of(found: Facts) -> Described:
    """The shapes of events: by their columns, their labels, or the messages that a draft would read them by."""
    records = found.records
    if records is not None and records.values is not None:
        return _record_shapes(found.frame, records.values)
    if records is not None and records.container.name == "labelled blocks":
        return _block_shapes(found.frame)
    return _text_shapes(found)


def _text_shapes(found: Facts) -> Described:
    """A shape for each variant that a draft has for the log, and one for what none of them reads."""
    work = Work(found, Wishes())
    events, _ = as_found(work, by_keys=False)
    _without_own_types(work)
    numbered = events.select("variant").with_row_index("row")
    rows = dict(numbered.group_by("variant", maintain_order=True).agg("row").iter_rows())
    unread = rows.pop(None, [])
    by_name = {variant.name: variant for variant in work.shape.variants}
    shapes: list[Shape] = []
    common = dict(sorted(rows.items(), key=lambda item: -len(item[1])))
    for name, own in common.items():
        read = events[own]
        text = whole_pattern(work.shape, by_name[name], read)
        columns = _columns(text, work.outer, by_name[name], read) if len(shapes) < DETAILED else []
        shapes.append(_shape(found.frame, text, own, columns))
    shapes += _others(work, unread, MOST_SHAPES - len(shapes))
    return Described(shapes, len(shapes), _pairs_of(work, events, list(common)[:DETAILED]))


def _without_own_types(work: Work) -> None:
    """Makes text of slots whose type only the draft's file would define."""
    for slots in (work.outer, *(variant.slots for variant in work.shape.variants)):
        for slot in slots:
            if slot.type.startswith("/"):
                slot.type, slot.own = "text", ""


def _others(work: Work, rows: list[int], most: int) -> list[Shape]:
    """Shapes of events that no variant reads, which begin unlike the others; what is left has one without a form."""
    frame = work.found.frame
    chosen = sampled(rows) if most > 0 else []
    mined = mine([str(frame["raw"][row]) for row in chosen], stamps_in(work), Head()) if chosen else None
    shapes: list[Shape] = []
    for message in mined.messages[:most] if mined is not None else ():
        own = [chosen[row] for row in message.rows]
        text = written(message, Names(), stamp=work.stamp_of(own)).pattern
        if reads(text, frame["raw"].gather(own)):
            shapes.append(_shape(frame, text, own, []))
            rows = sorted(set(rows) - set(own))
    return [*shapes, *([_shape(frame, "{text:rest}", rows, [])] if rows else [])]


def _is_named(name: str) -> bool:
    """Whether a name says more than the type of its values."""
    return name.rstrip("_0123456789") not in ("number", "text", "value")


def _shape(frame: pl.DataFrame, text: str, rows: list[int], columns: list[ShapeColumn]) -> Shape:
    example, number = str(frame["raw"][rows[0]])[:_LONGEST], int(frame["number"][rows[0]])
    return Shape(text, len(rows), len(rows) / frame.height, example, number, columns)


def _columns(text: str, outer: list[Slot], variant: Variant, events: pl.DataFrame) -> list[ShapeColumn]:
    """The values of slots, as the events of their variant have them; but for those that are fixed text in a shape."""
    slots = [slot for slot in outer if slot.text in text] + variant.everything
    found = [slot for slot in slots if slot.name in events.columns]
    return [described(slot.name, events[slot.name], slot.type) for slot in found]


def _pairs_of(work: Work, events: pl.DataFrame, shapes: list[str]) -> list[Pair]:
    """Fields that belong together: over all events, and within those of each of some variants."""
    slots = {slot.name: slot for variant in work.shape.variants for slot in (*work.outer, *variant.everything)}
    types = {name: slot.type for name, slot in slots.items() if name in events.columns and _is_named(name)}
    found: list[Pair] = []
    for part in (events, *(events.filter(pl.col("variant") == name) for name in shapes)):
        known = {frozenset((pair.one, pair.many)) for pair in found}
        own = pairs({name: part[name] for name in types}, types)
        found += [pair for pair in own if frozenset((pair.one, pair.many)) not in known]
    return found[:MOST_PAIRS]


def _most(found: list[T]) -> list[T]:
    """The commonest, and of very many the rarest as well."""
    return found if len(found) <= MOST_SHAPES else [*found[: MOST_SHAPES - 20], *found[-20:]]


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
