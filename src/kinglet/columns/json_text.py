"""Columns to JSON objects, a line of text for each row (RFC 8259), without nulls.

The text is put together by column operations; only strings that need escapes go through the
encoder. The order of keys never depends on the data, so that a batch of any size gives the same
bytes.
"""

from __future__ import annotations

import json
import re
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

import polars as pl

from kinglet.columns.paths import Items, tree
from kinglet.columns.put import put

ESCAPED = [*map(chr, range(32)), '"', "\\", "\x7f"]
_ESCAPED = re.compile(r'[\x00-\x1f"\\\x7f]')
_FEW = 100  # speed


class Constant(NamedTuple):
    """A value that is the same in every row."""

    value: Any


Layout = Mapping[str, "str | Constant"]
"""Dotted path of a key to the name of a column, or to a constant."""


def json_lines(frame: pl.DataFrame, layout: Layout, end: str = "", raw: Collection[str] = ()) -> pl.Series:
    """One JSON object for each row of the frame; a null leaves its key out, an empty object too.

    end is put behind every object. raw: columns whose text is JSON already.
    """
    whole_tree = tree(layout.items())
    named = sorted({name for name in layout.values() if isinstance(name, str)})
    columns = [_Column(frame[name]) if name in raw else _value(frame[name]) for name in named]
    # all is constant: one line serves every row
    if not columns:
        return pl.Series("json", [dumped(python_value(whole_tree)) + end], dtype=pl.String).new_from_index(
            0, frame.height
        )
    whole = _object(whole_tree, {column.text.name: column for column in columns})
    # an empty object is still a line, since every event has one
    parts = whole.parts if not whole.optional else [_joined(whole.parts).fill_null("{}")]
    ready = pl.DataFrame([column.text for column in columns])
    return ready.select_seq(_joined([*parts, end]).alias("json")).to_series()


@dataclass(frozen=True)
class _Column:
    """A column as JSON text, but for the quotes around it where `quoted`."""

    text: pl.Series
    quoted: bool = False


Part = str | pl.Expr


class _Text(NamedTuple):
    """Pieces that follow each other; optional when any of them may be null, which leaves all out."""

    parts: list[Part]
    optional: bool


def _joined(parts: list[Part]) -> pl.Expr:
    """One text of all pieces; neighbouring constants become one, for every piece costs its time in every row."""
    merged: list[Part] = []
    for part in parts:
        if isinstance(part, str) and merged and isinstance(merged[-1], str):
            merged[-1] += part
        else:
            merged.append(part)
    return pl.concat_str(
        [pl.lit(part) if isinstance(part, str) else part for part in merged if not (isinstance(part, str) and not part)]
    )


def _object(tree: dict[str, Any], ready: dict[str, _Column]) -> _Text:
    """The text of an object with its braces."""
    # constants go first: then no value has to ask whether it needs a comma before it
    fixed = {name: value for name, value in tree.items() if is_constant(value)}
    if fixed:
        parts: list[Part] = [dumped(python_value(fixed))[:-1]]
        for name, value in tree.items():
            if name not in fixed:
                parts.extend(_member(name, value, ready, ","))
        return _Text([*parts, "}"], False)
    members = [(name, value, _text(value, ready)) for name, value in tree.items()]
    # without any, a value that is always there can stand first; else each brings its comma, and one is cut off
    sure = next((i for i, (_, _, text) in enumerate(members) if not text.optional), None)
    if sure == 0:
        parts = ["{"]
        for i, (name, value, _) in enumerate(members):
            parts.extend(_member(name, value, ready, "," if i else ""))
        return _Text([*parts, "}"], False)
    inside = _joined([part for name, value, _ in members for part in _member(name, value, ready, ",")])
    inside = inside.str.strip_prefix(",")
    if sure is not None:
        return _Text(["{", inside, "}"], False)
    return _Text([pl.when(inside != "").then(_joined(["{", inside, "}"]))], True)


def _list(items: Items, ready: dict[str, _Column]) -> _Text:
    """The text of a list of objects; those of which nothing is known are left out."""
    texts = [_object(item, ready) for item in items.values()]
    if not any(text.optional for text in texts):
        inside = [part for i, text in enumerate(texts) for part in ("," if i else "", *text.parts)]
        return _Text(["[", *inside, "]"], False)
    items_text = _joined([_joined([",", *text.parts]).fill_null("") for text in texts]).str.strip_prefix(",")
    return _Text([pl.when(items_text != "").then(_joined(["[", items_text, "]"]))], True)


def _text(value: Any, ready: dict[str, _Column]) -> _Text:
    if isinstance(value, Items):
        return _list(value, ready)
    if isinstance(value, dict):
        return _object(value, ready)
    column = ready[value]
    quote = '"' if column.quoted else ""
    return _Text([quote, pl.col(value), quote], column.text.null_count() > 0)


def _member(name: str, value: Any, ready: dict[str, _Column], comma: str) -> list[Part]:
    """`,"name":value`, or nothing where there is no value."""
    key = f"{comma}{json.dumps(name)}:"
    if is_constant(value):
        return [key + dumped(python_value(value))]
    text = _text(value, ready)
    if not text.optional:
        return [key, *text.parts]
    return [_joined([key, *text.parts]).fill_null("")]


def dumped(value: Any) -> str:
    return json.dumps(value, ensure_ascii=False, separators=(",", ":"))


def is_constant(value: Any) -> bool:
    if isinstance(value, dict):
        return all(is_constant(inner) for inner in value.values())
    return isinstance(value, Constant)


def python_value(value: Any) -> Any:
    if isinstance(value, Items):
        return [python_value(inner) for inner in value.values()]
    if isinstance(value, dict):
        return {name: python_value(inner) for name, inner in value.items()}
    return value.value


def _value(column: pl.Series) -> _Column:
    """Values as JSON text, nulls as nulls."""
    dtype = column.dtype
    if dtype == pl.String or isinstance(dtype, pl.Enum | pl.Categorical):
        text = column.cast(pl.String)
        if _needs_escapes(text):
            return _Column(json_values(text))
        return _Column(text, quoted=True)
    if isinstance(dtype, pl.Datetime):
        return _Column(iso_text(column), quoted=True)
    return _Column(as_json(column))


def as_json(column: pl.Series) -> pl.Series:
    """Numbers, truth values and lists as JSON text; an empty list is null, and so is what JSON has no number for."""
    if isinstance(column.dtype, pl.List):
        lengths = column.list.len()
        empty = pl.Series(column.name, [None], dtype=pl.String).new_from_index(0, len(column))
        if not lengths.max():
            return empty
        filled = (lengths > 0).fill_null(False)
        rows = filled.arg_true()
        if len(rows) == len(column):
            return json_values(column)
        # most lists of most logs are empty, and the encoder takes its time over each
        return put(empty, rows, json_values(column.filter(filled)))
    if column.dtype.is_float():
        column = column.set(~column.is_finite(), None)
    return column.cast(pl.String)


def _needs_escapes(text: pl.Series) -> bool:
    # speed: a few values tell most columns that need it, and to get ready to look at all takes 0.6 ms
    if any(_ESCAPED.search(value) for value in text.head(_FEW).to_list() if value):
        return True
    return len(text) > _FEW and bool(text.str.contains_any(ESCAPED).any())


def json_values(column: pl.Series) -> pl.Series:
    """Values through the JSON encoder of the engine."""
    # the engine encodes structs alone, so each value is one for a moment
    whole = column.alias("v").to_frame().select_seq(pl.struct("v").struct.json_encode()).to_series()
    text = whole.str.strip_prefix('{"v":').str.strip_suffix("}")
    return text.set(column.is_null(), None).alias(column.name) if column.null_count() else text.alias(column.name)


def iso_text(column: pl.Series) -> pl.Series:
    """Instants as RFC 3339 text in UTC, with six digits of fraction where an instant has one."""
    wall = column.dt.replace_time_zone(None)
    # the shorter form for a whole column costs a third
    if not (wall.dt.microsecond() != 0).any():
        return wall.dt.strftime("%Y-%m-%dT%H:%M:%SZ").alias(column.name)
    text = wall.dt.strftime("%Y-%m-%dT%H:%M:%S%.6f").str.strip_suffix(".000000")
    return (text + "Z").alias(column.name)


def nested(frame: pl.DataFrame, paths: Sequence[str]) -> pl.DataFrame:
    """Columns named by dotted paths as columns of structs."""
    whole = tree((path, path) for path in paths)
    return frame.select_seq(_struct(value).alias(name) for name, value in whole.items())


def _struct(value: Any) -> pl.Expr:
    if isinstance(value, str):
        return pl.col(value)
    if isinstance(value, Items):
        items = [_struct(item) for item in value.values()]
        filled = [
            pl.when(pl.any_horizontal(_leaves(item))).then(one) for item, one in zip(value.values(), items, strict=True)
        ]
        return pl.concat_list(filled).list.drop_nulls()
    return pl.struct(_struct(inner).alias(name) for name, inner in value.items())


def _leaves(tree_of: dict[Any, Any]) -> list[pl.Expr]:
    """Whether each value in a tree is there."""
    found: list[pl.Expr] = []
    for value in tree_of.values():
        found += _leaves(value) if isinstance(value, dict) else [pl.col(value).is_not_null()]
    return found
