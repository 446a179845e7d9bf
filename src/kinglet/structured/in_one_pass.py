"""Structured texts read by machine code, in one pass over their bytes, where it is there.

What a loop finds odd is left to `kinglet.structured.by_form`, which would read all of it to the same effect.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from typing import Any, NamedTuple

import polars as pl

from kinglet.columns import arrow
from kinglet.columns.json_rows import escapes
from kinglet.kernels.compiled import kernel

(
    _ROWS, _FIRST, _VIEWS, _BUFFERS, _VALIDITY, _OFFSET, _STATES, _WANTED, _KEYS, _NAMES, _TABLE, _MASK,
    _OUT_VIEWS, _OUT_VALIDITY, _OUT_STRIDE, _MORE_VIEWS, _MORE_VALIDITY, _MORE, _MORE_SIZE, _MORE_USED,
    _PREFIX, _PREFIX_LENGTH, _ESCAPES, _SCRATCH, _BRACKETS, _OPTIONS,
) = range(26)  # fmt: skip
"""The places of what the loops are given; see `kinglet.kernels.loops.keys`."""
_PARAMETERS = 32
_SCRATCH_BYTES = 8192
_ESCAPED = 2
_SLACK = 64


class Loop(NamedTuple):
    """The loop for a structure, by its name, and what it is told beside the texts.

    options: numbers, or bytes of which it gets the address. names: where the keys have places, those; none is twice.
    """

    name: str
    options: Sequence[int | bytes] = ()
    names: Sequence[str] | None = None


class Found(NamedTuple):
    """What a loop has read: the columns of wanted keys, the others as JSON objects, which rows those are.

    escaped: the rows in whose wanted values escapes still stand.
    """

    columns: list[pl.Series]
    more: pl.Series
    read: pl.Series
    escaped: pl.Series


def read(texts: pl.Series, loop: Loop | None, wanted: Sequence[str], prefix: str) -> Found | None:
    """What texts hold; None where there is no machine code for it.

    wanted: paths; of an item of a list it is the whole list that is found, and stays among the other keys as well.
    """
    run = kernel(loop.name, len(texts)) if loop is not None and len(texts) else None
    if loop is None or run is None:
        return None
    bases = [key.partition("[")[0] for key in wanted] if loop.names is None else list(wanted)
    keys = list(dict.fromkeys(bases))
    found = _read(texts, loop, _Keys(keys, [key not in wanted for key in keys], bases != list(wanted)), prefix, run)
    return found._replace(columns=[found.columns[keys.index(base)] for base in bases])


class _Keys(NamedTuple):
    """Wanted keys, none twice; whether each stays among the others as well; whether items of some are asked for."""

    wanted: Sequence[str]
    stay: Sequence[bool]
    has_items: bool


def _read(texts: pl.Series, loop: Loop, keys: _Keys, prefix: str, run: Callable[[int], int]) -> Found:
    import numpy as np
    import pyarrow

    rows = len(texts)
    wanted = keys.wanted
    given = np.zeros(_PARAMETERS, np.int64)
    held: list[Any] = []

    def at(data: Any) -> int:
        """The address of bytes or an array, which live as long as the call."""
        array = np.frombuffer(data, np.uint8) if isinstance(data, bytes) else data
        held.append(array)
        return int(array.ctypes.data)

    column = arrow.columns_of([texts])
    held.append(column)
    given[_ROWS] = rows
    given[[_VIEWS, _BUFFERS, _VALIDITY, _OFFSET]] = column.columns[0]
    states = np.zeros(rows, np.uint8)
    stride = (rows + 63) // 64 * 8
    views = np.zeros((len(wanted), rows, 2), np.int64)  # the engine looks at those of nulls, too
    validity = np.zeros((len(wanted) + 1, stride), np.uint8)
    more_views = np.zeros((rows, 2), np.int64)
    given[_STATES], given[_OUT_VIEWS], given[_OUT_VALIDITY] = at(states), at(views), at(validity)
    given[_OUT_STRIDE], given[_WANTED] = stride, len(wanted)
    given[_MORE_VIEWS], given[_MORE_VALIDITY] = at(more_views), at(validity) + stride * len(wanted)
    given[_ESCAPES], given[_SCRATCH] = at(escapes()), at(np.zeros(_SCRATCH_BYTES, np.uint8))
    given[_BRACKETS] = keys.has_items
    if loop.names is None:
        start = f'"{json.dumps(prefix, ensure_ascii=False)[1:-1]}'.encode()
        given[_PREFIX], given[_PREFIX_LENGTH] = at(start + bytes(_SLACK)), len(start)
        _put_keys(given, at, keys)
    else:
        given[_PREFIX], given[_PREFIX_LENGTH] = at(b'"' + bytes(_SLACK)), 1
    options = list(loop.options)
    if loop.names is not None:
        options += [len(loop.names), *_cells(given, at, loop.names, wanted, prefix)]
    for place, option in enumerate(options, _OPTIONS):
        given[place] = at(option + bytes(_SLACK)) if isinstance(option, bytes) else option
    size = int(texts.str.len_bytes().sum()) + rows * _SLACK + 4096
    more = np.empty(size, np.uint8)
    while True:
        given[_MORE], given[_MORE_SIZE] = more.ctypes.data, len(more)
        given[_FIRST] = run(given.ctypes.data)
        if given[_FIRST] == rows:
            break
        grown = np.empty(2 * len(more), np.uint8)
        grown[: int(given[_MORE_USED])] = more[: int(given[_MORE_USED])]
        more = grown
    buffers = arrow.buffers_of(column)
    columns = [arrow.text_column(validity[number], views[number], buffers) for number in range(len(wanted))]
    others = arrow.text_column(validity[-1], more_views, [pyarrow.py_buffer(more)])
    return Found(columns, others, pl.Series(states > 0), pl.Series(np.flatnonzero(states == _ESCAPED)))


def _put_keys(given: Any, at: Callable[[Any], int], keys: _Keys) -> None:
    """The table from hashes to wanted keys."""
    import numpy as np

    size = 8
    while size < 4 * len(keys.wanted):
        size *= 2
    table = np.zeros(size, np.int64)
    rows = np.zeros((len(keys.wanted) + 1, 4), np.int64)
    names = b""
    for number, key in enumerate(keys.wanted):
        name = key.encode()
        hashed = hash_of(name)
        rows[number] = hashed, len(names), len(name), keys.stay[number]
        names += name
        slot = hashed & (size - 1)
        while table[slot]:
            slot = (slot + 1) & (size - 1)
        table[slot] = number + 1
    given[_KEYS], given[_TABLE], given[_MASK], given[_NAMES] = at(rows), at(table), size - 1, at(names + bytes(_SLACK))


def _cells(given: Any, at: Callable[[Any], int], names: Sequence[str], wanted: Sequence[str], prefix: str) -> list[int]:
    """The address of what the loop knows of each place."""
    import numpy as np

    rows = np.zeros((len(names), 3), np.int64)
    text = b""
    for place, name in enumerate(names):
        written = json.dumps(prefix + name, ensure_ascii=False)[1:-1].encode()
        rows[place] = wanted.index(name) if name in wanted else -1, len(text), len(written)
        text += written
    given[_NAMES] = at(text + bytes(_SLACK))
    return [at(rows)]


def hash_of(name: bytes) -> int:
    """A number of 62 bits for some bytes (after Fowler, Noll and Vo), the one that the loops compute."""
    found = 0x2BF29CE484222325
    for byte in name:
        found = ((found ^ byte) * 0x100000001B3) & 0x3FFFFFFFFFFFFFFF
    return found
