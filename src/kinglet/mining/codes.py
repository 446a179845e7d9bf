"""Digits of base 16 that look like a number and its unit, such as `1234b` beside `12ab`."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator, Sequence

from kinglet.mining.cells import NAME, NUMBER, Cells, value

_NUMBER, _NAME = value(NUMBER), value(NAME)
_NEAR = 2  # cells in front that tell a place
_UNITS = ("b", "d", "B")
_CODE = re.compile(r"(?=[0-9A-Fa-f]*[A-Fa-f])(?=[0-9A-Fa-f]*[0-9])[0-9A-Fa-f]{3,}")
_OFTEN = 3

_Place = tuple[tuple[str, ...], int]


def with_codes(lines: Sequence[Cells]) -> list[Cells]:
    """Lines in which digits and a letter are one word, where at their place others surely are digits of base 16.

    They have as many characters as those.
    """
    known: Counter[_Place] = Counter()
    open_: list[tuple[int, int]] = []
    for number, line in enumerate(lines):
        for i, key in enumerate(line.keys):
            if key == _NAME and _CODE.fullmatch(line.texts[i]):
                known[_place(line, i, len(line.texts[i]))] += 1
        open_ += [(number, i) for i in _with_unit(line)]
    out = list(lines)
    for number, i in reversed(open_):  # from the end of each line, so that the places before stay
        keys, texts = out[number]
        joined = texts[i] + texts[i + 1]
        if known[_place(lines[number], i, len(joined))] >= _OFTEN:
            out[number] = Cells((*keys[:i], _NAME, *keys[i + 2 :]), (*texts[:i], joined, *texts[i + 2 :]))
    return out


def _with_unit(line: Cells) -> Iterator[int]:
    pairs = zip(line.keys, line.keys[1:], strict=False)
    return (i for i, (key, unit) in enumerate(pairs) if key == _NUMBER and unit in _UNITS)


def _place(line: Cells, i: int, length: int) -> _Place:
    return line.keys[max(0, i - _NEAR) : i], length
