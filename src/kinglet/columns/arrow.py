"""Where columns lie in memory: text as views (Apache Arrow, columnar format, variable-size binary view layout)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import nanoarrow
import polars as pl

_FEW = 20_000


@dataclass(frozen=True)
class Columns:
    """Columns by address, four numbers each, as long as this object lives.

    Of text: its views, the addresses of its buffers, its validity (0 where there is no null), its first row; of numbers
    the first is the address of the numbers, and there are no buffers.
    """

    columns: list[list[int]]
    held: Any


def columns_of(columns: Sequence[pl.Series]) -> Columns:
    """Columns of text and of 64-bit numbers, of the same height; one in several chunks is put together first.

    The text of a column may lie in any number of buffers.
    """
    import numpy as np

    found: list[list[int]] = []
    if not columns or not len(columns[0]):
        return Columns([[0, 0, 0, 0] for _ in columns], None)
    # the names mean nothing, but a frame wants them to differ
    frame = pl.DataFrame([column.alias(str(i)) for i, column in enumerate(columns)]).rechunk()
    array = next(iter(nanoarrow.c_array_stream(frame)))
    held: list[Any] = [array]
    for number, column in enumerate(columns):
        child = array.child(number)
        pointers = child.buffers
        buffers = 0
        if column.dtype == pl.String:
            # views, any number of buffers of text, and their sizes
            addresses = np.array(pointers[2:], np.int64)
            held.append(addresses)
            buffers = addresses.ctypes.data
        found.append([pointers[1], buffers, pointers[0] if child.null_count else 0, child.offset])
    return Columns(found, held)


def buffers_of(column: Columns) -> list[Any]:
    """The buffers in which the text of the only one of some columns lies."""
    import pyarrow

    child = column.held[0].child(0)
    laid = child.view()
    # an empty one has no address, and is not told from a missing one
    found = [laid.buffer(number) if child.buffers[number] else b" " for number in range(2, laid.n_buffers - 1)]
    return [pyarrow.py_buffer(buffer) for buffer in found]


def text_column(validity: Any, views: Any, buffers: Sequence[Any]) -> pl.Series:
    """A column of text from its views and validity, arrays of numbers, and its buffers; no byte of text is copied."""
    import pyarrow

    laid = [pyarrow.py_buffer(validity), pyarrow.py_buffer(views), *buffers]
    return pl.Series(Exported(pyarrow.Array.from_buffers(pyarrow.string_view(), len(views), laid)))


class Exported:
    """An array as any library may take it; the column engine would load more of Arrow's for one that it knows."""

    def __init__(self, array: Any) -> None:
        self.array = array

    def __arrow_c_array__(self, requested_schema: object = None) -> Any:
        return self.array.__arrow_c_array__(requested_schema)


def text_of(column: pl.Series) -> bytes | memoryview:
    """The bytes of all texts of a column, one behind the other."""
    if len(column) < _FEW:
        return "".join(column.to_list()).encode()
    # the one format in which all text lies in one buffer can be written as it is; it takes a library long to load
    text = column.to_arrow(compat_level=pl.CompatLevel.oldest())
    return memoryview(text.buffers()[2] or b"")
