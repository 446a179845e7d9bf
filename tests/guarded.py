"""Runs the loops over texts that end where memory ends: `python -m tests.guarded`.

A byte read too many ends the process.
"""

from __future__ import annotations

import ctypes
import mmap
import os
import sys
from typing import Any

import polars as pl
import pyarrow

from kinglet.columns.arrow import Exported, columns_of
from kinglet.columns.json_rows import Piece, json_bytes
from kinglet.kernels import compiled
from kinglet.plan import zone_offset
from kinglet.regex.automaton import Alternative
from kinglet.runtime.extraction import regex_at_once
from kinglet.structured import in_one_pass
from kinglet.structured.blocks import Blocks
from kinglet.structured.delimited import Delimited
from kinglet.structured.json_objects import JsonObjects
from kinglet.structured.pairs import Pairs
from kinglet.structured.xml_elements import XmlElements

_PAGE = mmap.PAGESIZE
_alive: list[Any] = []


def guarded(content: bytes) -> pyarrow.Buffer:
    """Bytes whose end is that of a page, behind which is one that nobody may touch."""
    pages = (len(content) + _PAGE - 1) // _PAGE + 1
    memory = mmap.mmap(-1, (pages + 1) * _PAGE)
    start = ctypes.addressof(ctypes.c_char.from_buffer(memory))
    if ctypes.CDLL(None, use_errno=True).mprotect(ctypes.c_void_p(start + pages * _PAGE), _PAGE, 0):
        raise OSError(ctypes.get_errno(), "no guard")
    place = pages * _PAGE - len(content)
    memory[place : place + len(content)] = content
    _alive.append(memory)
    return pyarrow.foreign_buffer(start + place, len(content))


def column_of(text: bytes) -> pl.Series:
    """A column of one text, whose bytes and whose view end where memory ends."""
    view = len(text).to_bytes(4, "little")
    view += text.ljust(12, b"\0") if len(text) <= 12 else text[:4] + bytes(8)
    laid = [None, guarded(view), guarded(text)]
    column = pl.Series(Exported(pyarrow.Array.from_buffers(pyarrow.string_view(), 1, laid)))
    # a copy would be no test
    assert columns_of([column]).columns[0][0] == laid[1].address
    return column


def main() -> None:
    os.environ[compiled.SETTING] = "always"
    run = compiled.kernel("json_rows", 1)
    if run is None:
        sys.exit("no machine code")
    for length in range(1, 100):
        filling = b"x" * length
        for text in (
            filling,
            b'"' * length,
            b'{"k":"' + filling + b'"}',
            b'{"k":"' + filling,
            b'{"k":[' + b"[" * length,
            b'{"k":' + b"1" * length,
            b'{"k":tru',
            b"k=" + filling,
            b'k="' + filling,
            filling + b",y",
            b'"' + filling,
            b"k: " + filling,
            b"k:\n " + filling + b":",
            b"k: 1\n [" + filling,
            b"<k>" + filling + b"</k>",
            b"<k><a b='" + filling + b"'>&am",
            b"<k><a>" + filling + b"</a",
            b"2026-11-29T17:22:50" + b"+0" * (length % 3) + b":"[: length % 2],
        ):
            column = column_of(text)
            assert column.to_list() == [text.decode()]
            for structure in (JsonObjects(), Pairs(), Pairs(";"), Delimited(["a", "b"]), Blocks(), XmlElements("b")):
                in_one_pass.read(column, structure.loop, ["k", "a"], "p.")
            regex_at_once.find(column, [Alternative(r"^(?P<k>[^=,]*)[=,]?(?P<v>.*?)$", ("k", "v"))])
            zone_offset._told(column)
            list(
                json_bytes([Piece(pl.Series([0]), pl.DataFrame([column.alias("k")]), {"k": "k", "o.k": "k"}, [])], run)
            )
    print("whole")


if __name__ == "__main__":
    main()
