"""The offsets that stamps carry: the loop beside `kinglet.plan.zone_offset`."""

from __future__ import annotations

from typing import Any

from kinglet.kernels.loops.pointers import bytes_at, loop, numbers_at, small_numbers_at
from kinglet.kernels.loops.texts import is_valid, source_of

ROWS, VIEWS, BUFFERS, VALIDITY, OFFSET, MINUTES, STATES = range(7)
NULL, NONE, CARRIED, SILENT = 0, 1, 2, 3
_LESS, _PLUS, _COLON = 45, 43, 58


@loop
def _is_digit(byte: int) -> bool:
    return 48 <= byte <= 57


@loop
def _is_letter(byte: int) -> bool:
    return 65 <= byte <= 90 or 97 <= byte <= 122


@loop
def _has_clock(at: int, count: int) -> bool:
    """Whether a digit stands before a colon and two digits, or digits around a T."""
    text = bytes_at(at)
    for i in range(1, count - 1):
        byte = text[i]
        if byte == _COLON:
            if _is_digit(text[i - 1]) and _is_digit(text[i + 1]) and i + 2 < count and _is_digit(text[i + 2]):
                return True
        elif (byte == 84 or byte == 116) and _is_digit(text[i - 1]) and _is_digit(text[i + 1]):
            return True
    return False


@loop
def _signed(at: int, count: int) -> int:
    """The minutes that the text ends with, behind a sign; 9999 where it ends otherwise."""
    text = bytes_at(at)
    minutes = 0
    end = count
    if end >= 5 and _is_digit(text[end - 1]) and _is_digit(text[end - 2]):
        before = end - 3
        if text[before] == _COLON:
            before -= 1
        if before >= 2 and _is_digit(text[before]) and _is_digit(text[before - 1]):
            sign = text[before - 2]
            if sign in (_LESS, _PLUS):
                minutes = 10 * (text[end - 2] - 48) + text[end - 1] - 48
                minutes += 60 * (10 * (text[before - 1] - 48) + text[before] - 48)
                return -minutes if sign == _LESS else minutes
    if end >= 1 and text[end - 1] == _COLON:
        end -= 1
    if end >= 3 and _is_digit(text[end - 1]) and _is_digit(text[end - 2]):
        sign = text[end - 3]
        if sign in (_LESS, _PLUS):
            minutes = 60 * (10 * (text[end - 2] - 48) + text[end - 1] - 48)
            return -minutes if sign == _LESS else minutes
    return 9999


def run(given: Any) -> int:
    """Writes of each row a state, and the minutes that it carries."""
    for row in range(given[ROWS]):
        number = row + given[OFFSET]
        states = bytes_at(given[STATES])
        states[row] = NULL
        if not is_valid(given[VALIDITY], number):
            continue
        view = given[VIEWS] + 16 * number
        at = source_of(view, given[BUFFERS])
        count = small_numbers_at(view)[0]
        text = bytes_at(at)
        states[row] = NONE
        last = text[count - 1] if count > 0 else 0
        if count >= 2 and (last == 90 or last == 122) and _is_digit(text[count - 2]):
            states[row] = CARRIED
            numbers_at(given[MINUTES])[row] = 0
            continue
        if not _has_clock(at, count):
            continue
        minutes = _signed(at, count)
        if -1440 < minutes < 1440:
            states[row] = CARRIED
            numbers_at(given[MINUTES])[row] = minutes
        elif not (count >= 2 and _is_letter(last) and _is_letter(text[count - 2])):
            states[row] = SILENT
    return given[ROWS]
