"""Labelled blocks to the values of their keys: the loop beside `kinglet.structured.blocks`.

Odd are texts with a key twice, labels beyond ASCII, lines that a carriage return ends before their end, and those
without a label.
"""

from __future__ import annotations

from typing import Any

from kinglet.kernels.loops.keys import (
    BUFFERS,
    ESCAPED,
    ESCAPES,
    MORE,
    MORE_SIZE,
    MOST_KEYS,
    MOST_PATH,
    ODD,
    OPTIONS,
    READ,
    SCRATCH,
    end_others,
    hash_of,
    is_new,
    of_rows,
    put_other,
    put_wanted,
    wanted_key,
)
from kinglet.kernels.loops.pointers import bytes_at, find, loop, numbers_at
from kinglet.kernels.loops.texts import past_blanks, put_escaped, source_of

SIGN, LONGEST, TEXT = range(OPTIONS, OPTIONS + 3)
# behind the path and the hashes: of each section its indent and the length of its path
_LEVELS = 2 * MOST_PATH + 8 * MOST_KEYS
_MOST_LEVELS = 60
_TAB, _RETURN, _BLANK, _COLON, _OPEN, _CLOSE, _DOT, _LOW_LINE = 9, 13, 32, 58, 91, 93, 46, 95
_NONE, _IS_ODD = 0, -1


@loop
def _is_blank(byte: int) -> bool:
    return byte in (_BLANK, _TAB)


@loop
def _is_drawn(at: int, end: int) -> bool:
    """Whether a line is drawn: three or more of one sign."""
    first = bytes_at(at)[0]
    if end - at < 3 or first not in (35, 42, 43, 45, 61, 95, 126):  # #*+-=_~
        return False
    place = at + 1
    while place < end and bytes_at(place)[0] == first:
        place += 1
    return place == end


@loop
def _label(at: int, end: int, sign: int, longest: int) -> int:
    """Where the sign behind a label stands; `_NONE` where there is no label, `_IS_ODD` where that cannot be told."""
    last = min(end, at + longest + 1)
    for place in range(at, last):
        byte = bytes_at(place)[0]
        if byte == sign:
            if place == at:
                return _IS_ODD
            # in `10:41` it is no label
            if sign != _COLON or place + 1 == end:
                return place
            behind = bytes_at(place + 1)[0]
            if _is_blank(behind) or behind == _RETURN:
                return place
        elif byte == _RETURN:
            return _NONE
        elif byte >= 128:
            return _IS_ODD if find(place, end, sign) < end else _NONE
    return _NONE


@loop
def _title(at: int, end: int) -> int:
    """Where the closing bracket of `[Name]` stands; `_NONE`, or `_IS_ODD`."""
    if bytes_at(at)[0] != _OPEN:
        return _NONE
    for place in range(at + 1, end):
        byte = bytes_at(place)[0]
        if byte == _CLOSE:
            # what is behind it without blanks is the end
            return place if place > at + 1 and place + 1 == end else _NONE
        if byte in (_OPEN, _RETURN):
            return _NONE
        if byte >= 128:
            return _IS_ODD
    return _NONE


@loop
def _put_key(path: int, begun: int, at: int, end: int) -> int:
    """Writes a label as a key into a path at its end; returns the new end.

    Letters are small ones, all that is neither letter nor digit is `_`, once, and neither the first nor the last.
    """
    out = bytes_at(path)
    length = begun
    was_other = False
    for place in range(at, end):
        byte = bytes_at(place)[0]
        if 65 <= byte <= 90:
            byte += 32
        is_word = 97 <= byte <= 122 or 48 <= byte <= 57 or byte == _LOW_LINE
        if not is_word:
            if was_other:
                continue
            byte = _LOW_LINE
        was_other = not is_word
        if byte == _LOW_LINE and length == begun:
            continue
        out[length] = byte
        length += 1
    while length > begun and out[length - 1] == _LOW_LINE:
        length -= 1
    if length == begun:
        out[length] = _LOW_LINE
        length += 1
    return length


@loop
def _lines(given: Any, row: int, view: int, begun: int) -> int:
    """The state of a row; -1 where there is no room."""
    text = source_of(view, given[BUFFERS])
    end = text + (numbers_at(view)[0] & 0xFFFFFFFF)
    sign = given[SIGN]
    path = given[SCRATCH]
    levels = numbers_at(path + _LEVELS)
    depth = seen = length = 0
    others = begun
    state = READ
    is_block = False
    # of the value that lines further in continue: whether there is one, its indent, its key or -1, where it begins or 0
    goes_on, inner, key, value = False, 0, -1, 0
    line = text
    while line < end:
        stop = find(line, end, 10)
        behind = stop + 1
        while stop > line and bytes_at(stop - 1)[0] == _RETURN:
            stop -= 1
        start = line
        while start < stop and _is_blank(bytes_at(start)[0]):
            start += 1
        whole = stop
        while stop > start and _is_blank(bytes_at(stop - 1)[0]):
            stop -= 1
        indent = start - line
        line = behind
        if start == stop or _is_drawn(start, stop):
            continue
        if bytes_at(stop - 1)[0] == _RETURN:
            return ODD
        label = _label(start, whole, sign, given[LONGEST])
        title = _title(start, stop) if label == _NONE else _NONE
        if label == _IS_ODD or title == _IS_ODD:
            return ODD
        if label == _NONE and title == _NONE and goes_on and indent > inner:
            if key >= 0:
                if value != 0:
                    state = ESCAPED
                else:
                    value = start
                put_wanted(given, row, key, value, stop - value, view, text)
            elif value == 0:
                value = start
                others = put_other(given, others, begun, path, length, start, stop - start, True)
            else:
                if given[MORE] + given[MORE_SIZE] - others < 6 * (stop - start) + 80:
                    return -1
                bytes_at(others - 1)[0] = 92
                bytes_at(others)[0] = 110
                others = put_escaped(others + 1, start, stop - start, given[ESCAPES])
                bytes_at(others)[0] = 34
                others += 1
            if others == 0:
                return -1
            continue
        while depth > 0 and levels[2 * depth - 2] >= indent:
            depth -= 1
        length = levels[2 * depth - 1] if depth > 0 else 0
        if length + 2 + max(stop - start, 4) >= MOST_PATH or depth >= _MOST_LEVELS:
            return ODD
        if title != _NONE:
            length = _put_key(path, 0, start + 1, title)
            levels[0] = indent - 1
            levels[1] = length
            depth = 1
            goes_on = False
            is_block = True
            continue
        if length > 0:
            bytes_at(path + length)[0] = _DOT
            length += 1
        if label == _NONE:
            for i in range(4):
                bytes_at(path + length)[i] = bytes_at(given[TEXT])[i]
            length += 4
            value = start
            goes_on = False
        else:
            length = _put_key(path, length, start, label)
            levels[2 * depth] = indent
            levels[2 * depth + 1] = length
            depth += 1
            value = past_blanks(label + 1, stop)
            goes_on, inner, is_block = True, indent, True
        hashed = hash_of(path, length)
        if seen >= MOST_KEYS or not is_new(given, seen, hashed):
            return ODD
        seen += 1
        key = wanted_key(given, hashed, path, length)
        if value >= stop:
            value = 0
        elif key >= 0:
            put_wanted(given, row, key, value, stop - value, view, text)
        else:
            others = put_other(given, others, begun, path, length, value, stop - value, True)
            if others == 0:
                return -1
    if not is_block:
        return ODD
    end_others(given, row, begun, others)
    return state


run = of_rows(_lines)
