"""A regex over texts, by the tables of `kinglet.regex.automaton`.

Odd are empty texts, and those of which the tables do not say how to go on and have no room for it.
"""

from __future__ import annotations

from typing import Any

from kinglet.kernels.loops.pointers import (
    bytes_at,
    loop,
    numbers_at,
    short_numbers_at,
    small_numbers_at,
)
from kinglet.kernels.loops.texts import is_valid, put_view_of, source_of

ROWS, VIEWS, BUFFERS, VALIDITY, OFFSET, REGEXES, GROUPS, OUT_VIEWS, OUT_VALIDITY, OUT_STRIDE = range(10)
MOVES, BEYOND, CHANGES, CHANGE_ENDS, FINAL, FINALS, REGISTERS, FIRST_ROW, STATE, AT_BYTE, IS_FULL = range(10, 21)
UNMATCHED, ODD = -1, -2
"""Instead of the number of a regex."""
_HERE, _START, _BYTE = -2, -3, -4
_LISTED = 256
_WIDTH = 128
_FIRST = 2
"""The first state; 1 is that of texts that cannot match, and 0 stands for what is not known."""


@loop
def _change(given: Any, code: int, registers: Any, place: int) -> None:
    """Does to registers what a code says, at the place of a byte."""
    if code < _LISTED:
        registers[code - 1] = place
        return
    number = code - _LISTED
    ends = small_numbers_at(given[CHANGE_ENDS])
    changes = short_numbers_at(given[CHANGES])
    for i in range(ends[number - 1], ends[number]):
        source = changes[2 * i + 1]
        registers[changes[2 * i]] = place if source == _BYTE else registers[source]


@loop
def _edge(registers: Any, edge: int, count: int) -> int:
    if edge >= 0:
        return registers[edge]
    if edge == _HERE:
        return count
    return 0 if edge == _START else -1


@loop
def _read(given: Any, at: int, count: int, registers: Any) -> int:
    """The number of the row of finals for a text, from 1.

    0 where it does not match, -1 for an empty one, -2 where it is not known yet how to go on.
    """
    moves = numbers_at(given[MOVES])
    beyond = numbers_at(given[BEYOND])
    text = bytes_at(at)
    if count == 0:
        return -1
    # of the state the place of its first move
    row = _FIRST * _WIDTH
    i = 0
    while i < count:
        byte = text[i]
        move = moves[row + byte] if byte < _WIDTH else beyond[row + byte - _WIDTH]
        i += 1
        # most bytes leave a state as it is, and then no load waits for the one before
        if move == row:
            continue
        if move <= _WIDTH:
            if move == _WIDTH:
                return 0
            given[STATE] = row // _WIDTH
            given[AT_BYTE] = byte
            return -2
        row = move & 0xFFFFFFFF
        if move >> 32 != 0:
            _change(given, move >> 32, registers, i - 1)
    return small_numbers_at(given[FINAL])[row // _WIDTH]


def run(given: Any) -> int:
    """Gives each row the regex that matches it, and its groups.

    Returns the number of rows, or the first for which a move has to be learned, from the state and by the byte that are
    noted.
    """
    registers = numbers_at(given[REGISTERS])
    regexes = short_numbers_at(given[REGEXES])
    width = 1 + 2 * given[GROUPS]
    for row in range(given[FIRST_ROW], given[ROWS]):
        number = row + given[OFFSET]
        regexes[row] = UNMATCHED
        if not is_valid(given[VALIDITY], number):
            continue
        view = given[VIEWS] + 16 * number
        at = source_of(view, given[BUFFERS])
        count = small_numbers_at(view)[0]
        found = _read(given, at, count, registers)
        if found <= 0:
            if found == -2 and given[IS_FULL] == 0:
                return row
            regexes[row] = UNMATCHED if found == 0 else ODD
            continue
        edges = short_numbers_at(given[FINALS] + 2 * width * (found - 1))
        regexes[row] = edges[0]
        for group in range(given[GROUPS]):
            start = _edge(registers, edges[1 + 2 * group], count)
            end = _edge(registers, edges[2 + 2 * group], count)
            if start >= 0 and end >= start:
                put_view_of(given[OUT_VIEWS] + 16 * (group * given[ROWS] + row), at + start, end - start, view, at)
                bits = bytes_at(given[OUT_VALIDITY] + group * given[OUT_STRIDE])
                bits[row >> 3] |= 1 << (row & 7)
    return given[ROWS]
