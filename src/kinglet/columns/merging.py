"""Objects in JSON text that are put together."""

from __future__ import annotations

import re
from collections.abc import Sequence
from json import JSONDecoder
from json.decoder import scanstring  # type: ignore[attr-defined]
from typing import NamedTuple

import polars as pl

from kinglet.columns.put import put

_STRINGS = r'"(?:[^"\\]|\\.)*":?'
"""Strings, with the colon that makes a key of one."""
_BLANKS = re.compile(r"[ \t\r\n]*")
_DECODER = JSONDecoder(strict=False, parse_int=str, parse_float=str)  # no number is too long


class Merged(NamedTuple):
    """Objects, null where none is, and those that would have had a key twice: of it the last value is kept."""

    text: pl.Series
    repeated: pl.Series


def merged(objects: Sequence[pl.Series]) -> Merged:
    """Objects of JSON, compact, as one that has the keys of all; one without keys is none."""
    objects = [column.set(column == "{}", None) for column in objects]
    no = pl.Series([False]).new_from_index(0, len(objects[0]))
    filled = [column for column in objects if column.null_count() < len(column)] or objects[:1]
    text, repeated = filled[0], no
    for other in filled[1:]:
        text, again = _two(text, other)
        repeated = repeated | again
    return Merged(text, repeated)


def _two(one: pl.Series, other: pl.Series) -> tuple[pl.Series, pl.Series]:
    pair = pl.DataFrame({"one": one, "other": other})
    inside = pl.col("one").str.head(-1) + "," + pl.col("other").str.slice(1)
    both = pl.col("one").is_not_null() & pl.col("other").is_not_null()
    text = pair.select_seq(pl.when(both).then(inside).otherwise(pl.coalesce("one", "other"))).to_series()
    rows = pair.select_seq(both).to_series().arg_true()
    keys = text[rows].str.extract_all(_STRINGS).list.eval(pl.element().filter(pl.element().str.ends_with('":')))
    # a key may be written in two ways
    escaped = keys.list.eval(pl.element().str.contains("\\", literal=True)).list.any()
    doubtful = rows.filter((keys.list.len() > keys.list.n_unique()) | escaped)
    repeated = pl.Series([False]).new_from_index(0, len(one))
    if not len(doubtful):
        return text, repeated
    # a key may also stand within a value, in each of two
    found = [(_members(a), _members(b)) for a, b in pair[doubtful].iter_rows()]
    again = pl.Series([not a.keys().isdisjoint(b) for a, b in found])
    whole = ["{" + ",".join((a | b).values()) + "}" for a, b in found]
    return put(text, doubtful, whole), put(repeated, doubtful, again)


def _members(text: str) -> dict[str, str]:
    """What an object holds, as it is written, by its keys."""
    found: dict[str, str] = {}
    at = 0
    while True:
        at = text.index('"', at)
        key, colon = scanstring(text, at + 1, False)
        _, end = _DECODER.raw_decode(text, _BLANKS.match(text, colon + 1).end())  # type: ignore[union-attr]
        found[key] = text[at:end]
        end = _BLANKS.match(text, end).end()  # type: ignore[union-attr]
        if text[end] == "}":
            return found
        at = end
