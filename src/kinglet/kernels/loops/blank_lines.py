"""Which lines of a buffer hold nothing but blanks."""

from __future__ import annotations

from typing import Any

from kinglet.kernels.loops.pointers import bytes_at, loop, numbers_at

DATA, STARTS, ENDS, COUNT, BLANK = range(5)


@loop
def _is_blank(text: Any, start: int, end: int) -> bool:
    for place in range(start, end):  # noqa: SIM110
        if text[place] != 32 and text[place] != 9:
            return False
    return True


def run(given: Any) -> int:
    """Writes a byte for each line, 1 for a blank one; returns how many of those there are."""
    text = bytes_at(given[DATA])
    starts, ends = numbers_at(given[STARTS]), numbers_at(given[ENDS])
    blank = bytes_at(given[BLANK])
    found = 0
    for line in range(given[COUNT]):
        is_blank = _is_blank(text, starts[line], ends[line])
        blank[line] = is_blank
        found += is_blank
    return found
