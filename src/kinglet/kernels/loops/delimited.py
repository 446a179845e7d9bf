"""Rows of values to columns: the loop beside `kinglet.structured.delimited`.

Odd are rows with more or fewer values than names, and with a quote written twice in a value that is not wanted.
"""

from __future__ import annotations

from typing import Any

from kinglet.kernels.loops.keys import (
    BUFFERS,
    ESCAPED,
    NAMES,
    ODD,
    OPTIONS,
    READ,
    end_others,
    of_rows,
    put_other,
    put_wanted,
)
from kinglet.kernels.loops.pointers import bytes_at, find, loop, numbers_at
from kinglet.kernels.loops.texts import source_of

DELIMITER, QUOTE, NOTHING, NOTHING_LENGTH, COUNT, CELLS = range(OPTIONS, OPTIONS + 6)
# of a cell: the number of the wanted key, or -1, and where its name as JSON stands, and how long that is
CELL = 3


@loop
def _cells(given: Any, row: int, view: int, begun: int) -> int:
    """The state of a row; -1 where there is no room."""
    text = source_of(view, given[BUFFERS])
    end = text + (numbers_at(view)[0] & 0xFFFFFFFF)
    delimiter, quote, count = given[DELIMITER], given[QUOTE], given[COUNT]
    cells = numbers_at(given[CELLS])
    at = text
    others = begun
    state = READ
    has_bare = False
    for place in range(count):
        is_quoted = at < end and bytes_at(at)[0] == quote
        value = at
        has_double = False
        if is_quoted:
            value += 1
            at = find(value, end, quote)
            # a quote that is written twice is one of the value
            while at + 1 < end and bytes_at(at + 1)[0] == quote:
                has_double = True
                at = find(at + 2, end, quote)
            if at == end:
                return ODD
            length = at - value
            at += 1
        else:
            at = find(at, end, delimiter)
            length = at - value
            # there two quotes are two
            has_bare = has_bare or find(value, at, quote) < at
        # an empty value without quotes is as if it were missing, and so is the text that stands for none
        is_missing = not is_quoted and length == 0
        if not is_quoted and length == given[NOTHING_LENGTH]:
            same = 0
            while same < length and bytes_at(value + same)[0] == bytes_at(given[NOTHING] + same)[0]:
                same += 1
            is_missing = same == length
        if not is_missing:
            wanted = cells[CELL * place]
            if wanted >= 0:
                put_wanted(given, row, wanted, value, length, view, text)
                if has_double:
                    state = ESCAPED
            elif has_double:
                return ODD
            else:
                name = given[NAMES] + cells[CELL * place + 1]
                others = put_other(given, others, begun, name, cells[CELL * place + 2], value, length, True)
                if others == 0:
                    return -1
        if place < count - 1:
            if at == end or bytes_at(at)[0] != delimiter:
                return ODD
            at += 1
    if at < end or (has_bare and state == ESCAPED):
        return ODD
    end_others(given, row, begun, others)
    return state


run = of_rows(_cells)
