"""Columns to JSON objects in one pass over the rows, where machine code for it is there.

The bytes are those of `kinglet.columns.json_text`, which does it with the column engine.
"""

from __future__ import annotations

import functools
from collections.abc import Callable, Collection, Iterator, Sequence
from typing import Any, NamedTuple

import polars as pl

from kinglet.columns import arrow
from kinglet.columns.json_text import (
    ESCAPED,
    Layout,
    as_json,
    dumped,
    is_constant,
    iso_text,
    json_values,
    python_value,
)
from kinglet.columns.paths import Items, tree

_LITERAL, _OPEN, _CLOSE_OBJECT, _CLOSE_LIST, _RAW, _TEXT, _NUMBER, _INSTANT = range(8)
_LONGEST_NUMBER = 40
_LONGEST_ESCAPE = 7
_PARAMETERS = 14
_MOST_KEPT = 10_000
_BUFFER = 2**21  # speed
_MORE = 64
"""Bytes that the loop may write behind what it writes."""
_SMALL = (pl.Int8, pl.Int16, pl.Int32, pl.Int64, pl.UInt8, pl.UInt16, pl.UInt32)
_YEARS = (-62_135_596_800_000_000, 253_402_300_799_999_999)
"""The microseconds since 1970 of the years 1 to 9999."""


class Piece(NamedTuple):
    """Some rows with the same layout: their places among all rows, their columns, and which of them hold JSON."""

    places: pl.Series
    frame: pl.DataFrame
    layout: Layout
    raw: Collection[str]


def json_bytes(pieces: Sequence[Piece], run: Callable[[int], int]) -> Iterator[memoryview]:
    """The rows of all pieces by their places, a line each, some at a time; the next are written over them.

    run: the machine code of `kinglet.kernels.loops.json_rows`.
    """
    import numpy as np

    literals = bytearray()
    operations: list[Any] = []
    starts = [0]
    columns: list[list[int]] = []
    held = []
    margin = depth = 0
    for piece in pieces:
        used, kinds = _writable(piece)
        line = _line(piece.layout, kinds)
        table = line.operations.copy()
        table[:, 1] += len(literals)
        table[:, 4] += len(columns)
        operations.append(table)
        starts.append(starts[-1] + len(table))
        literals += line.literals
        memory = arrow.columns_of(used)
        held.append(memory)
        columns += memory.columns
        margin, depth = max(margin, line.most), max(depth, line.depth)
    heights = [piece.frame.height for piece in pieces]
    total = sum(heights)
    given = np.zeros(_PARAMETERS, np.int64)
    of_all = np.concatenate(operations) if operations else np.zeros(0, np.int64)
    tables = [of_all, np.array(starts, np.int64), np.array(columns, np.int64)]
    fixed = np.frombuffer(bytes(literals) + bytes(_MORE), np.uint8)
    opened = np.zeros(2 * depth + 2, np.int64)
    order = np.concatenate([piece.places.to_numpy() for piece in pieces]) if pieces else np.zeros(0, np.int64)
    if len(pieces) > 1 or (order[1:] < order[:-1]).any():
        by = np.argsort(order, kind="stable")
        piece_of = np.repeat(np.arange(len(pieces)), heights)[by]
        places = np.concatenate([np.arange(height) for height in heights])[by]
        given[5], given[6] = piece_of.ctypes.data, places.ctypes.data
    given[0], given[9] = total, margin
    given[7], given[8], given[12] = (table.ctypes.data for table in tables)
    given[10], given[11], given[13] = fixed.ctypes.data, escapes().ctypes.data, opened.ctypes.data
    out: Any = np.empty(_BUFFER + margin, np.uint8)
    done = 0
    while done < total:
        start = out.ctypes.data
        given[1], given[3], given[4] = done, start + len(out), start
        done = run(given.ctypes.data)
        position = int(given[4]) - start
        if position:
            yield memoryview(out)[:position]
        else:
            out = np.empty(2 * len(out), np.uint8)


class _Line(NamedTuple):
    """What the loop does for a row of one layout: operations, with places among their own literals and columns."""

    operations: Any
    literals: bytes
    most: int
    """The most bytes of a row beside its texts."""
    depth: int


_lines: dict[tuple[int, tuple[int, ...]], tuple[Layout, _Line]] = {}


def _line(layout: Layout, kinds: dict[str, int]) -> _Line:
    """The operations of a layout; made once, as long as it is the same object.

    kinds: how each of its columns is written, in their order.
    """
    key = (id(layout), tuple(kinds.values()))
    known = _lines.get(key)
    if known is None:
        if len(_lines) >= _MOST_KEPT:
            _lines.clear()
        known = _lines[key] = (layout, _Compiler(layout, kinds).line())
    return known[1]


class _Compiler:
    """Makes the operations of a layout."""

    def __init__(self, layout: Layout, kinds: dict[str, int]) -> None:
        self.operations: list[list[int]] = []
        self.literals = bytearray()
        self.most = _MORE
        self.depth = 0
        self.columns = {name: (number, kind) for number, (name, kind) in enumerate(kinds.items())}
        self._object(tree(layout.items()), "{", False, 0)
        self._add(_LITERAL, "\n")

    def line(self) -> _Line:
        import numpy as np

        return _Line(np.array(self.operations, np.int64), bytes(self.literals), self.most, self.depth)

    def _add(self, what: int, key: str = "", may_be_first: bool = False, column: int = 0) -> None:
        start = len(self.literals)
        self.literals += key.encode()
        length = len(self.literals) - start
        self.most += length + _LONGEST_NUMBER
        self.operations.append([what, start, length, may_be_first, column])

    def _object(self, members: dict[str, Any], opening: str, may_be_first: bool, depth: int) -> None:
        """An object; without anything in it it is left out, but for a whole line, at depth 0."""
        self.depth = max(self.depth, depth)
        fixed = {name: value for name, value in members.items() if is_constant(value)}
        sure = depth == 0 or bool(fixed)
        # constants go first
        self._add(_LITERAL if sure else _OPEN, opening + dumped(python_value(fixed))[1:-1], may_be_first)
        for name, value in members.items():
            if name not in fixed:
                self._member(f",{dumped(name)}:", value, not fixed, depth + 1)
        if sure:
            self._add(_LITERAL, "}")
        else:
            self._add(_CLOSE_OBJECT)

    def _member(self, key: str, value: Any, may_be_first: bool, depth: int) -> None:
        if isinstance(value, Items):
            self.depth = max(self.depth, depth)
            self._add(_OPEN, key + "[", may_be_first)
            for item in value.values():
                self._object(item, ",{", True, depth + 1)
            self._add(_CLOSE_LIST)
        elif isinstance(value, dict):
            self._object(value, key + "{", may_be_first, depth)
        else:
            number, what = self.columns[value]
            self._add(what, key + ('"' if what in (_TEXT, _INSTANT) else ""), may_be_first, number)


def _writable(piece: Piece) -> tuple[list[pl.Series], dict[str, int]]:
    """The columns of a piece in forms that the loop knows, and how it writes each."""
    used = []
    kinds = {}
    for name in dict.fromkeys(value for value in piece.layout.values() if isinstance(value, str)):
        kinds[name], column = (_RAW, piece.frame[name]) if name in piece.raw else _known_form(piece.frame[name])
        used.append(column)
    return used, kinds


def _known_form(column: pl.Series) -> tuple[int, pl.Series]:
    """How the loop writes a column, and the column in a form that it knows."""
    dtype = column.dtype
    if dtype == pl.String:
        return _TEXT, column
    if isinstance(dtype, pl.Enum | pl.Categorical):
        return _TEXT, column.cast(pl.String)
    if dtype in _SMALL:
        return _NUMBER, column.cast(pl.Int64)
    if isinstance(dtype, pl.Datetime):
        counted = column.to_physical()
        if dtype.time_unit == "us" and (counted.min() or 0) >= _YEARS[0] and (counted.max() or 0) <= _YEARS[1]:  # type: ignore[operator]
            return _INSTANT, counted
        return _TEXT, iso_text(column)
    return _RAW, as_json(column)


@functools.cache
def escapes() -> Any:
    """Of each byte below 128 how long its JSON text is, and that text: as the column engine writes it. A row more."""
    import numpy as np

    table = np.zeros((129, 1 + _LONGEST_ESCAPE), np.uint8)
    texts = json_values(pl.Series(ESCAPED)).to_list()
    for character, text in zip(ESCAPED, texts, strict=True):
        inside = text[1:-1].encode()
        table[ord(character), 0] = len(inside)
        table[ord(character), 1 : 1 + len(inside)] = list(inside)
    return table
