"""Pairs to the values of their keys: the loop beside `kinglet.structured.pairs`.

Odd are texts with a key twice, control characters, backslashes, quotes within a value, and what is no pairs.
"""

from __future__ import annotations

from typing import Any

from kinglet.kernels.loops.keys import (
    BUFFERS,
    MOST_KEYS,
    MOST_PATH,
    ODD,
    OPTIONS,
    OUT_STRIDE,
    OUT_VALIDITY,
    OUT_VIEWS,
    READ,
    ROWS,
    end_others,
    hash_of,
    is_new,
    of_rows,
    put_other,
    put_wanted,
    wanted_key,
)
from kinglet.kernels.loops.pointers import bytes_at, loop, numbers_at
from kinglet.kernels.loops.texts import put_view, source_of

SIGN, EQUALS, QUOTE, TRUE = range(OPTIONS, OPTIONS + 4)
_BLANK = 32


@loop
def _is_odd(byte: int, quote: int) -> bool:
    return byte < 32 or byte == quote or byte == 92 or byte == 127


@loop
def _past_blanks(at: int, end: int) -> int:
    while at < end and bytes_at(at)[0] == _BLANK:
        at += 1
    return at


@loop
def _pairs(given: Any, row: int, view: int, begun: int) -> int:
    """The state of a row; -1 where there is no room."""
    text = source_of(view, given[BUFFERS])
    end = text + (numbers_at(view)[0] & 0xFFFFFFFF)
    sign, equals, quote = given[SIGN], given[EQUALS], given[QUOTE]
    while end > text and bytes_at(end - 1)[0] == _BLANK:
        end -= 1
    at = _past_blanks(text, end)
    seen = 0
    others = begun
    while at < end:
        key = at
        while at < end:
            byte = bytes_at(at)[0]
            if byte in (equals, sign):
                break
            if _is_odd(byte, quote) or byte == 34:  # keys are written as they are
                return ODD
            at += 1
        length = at - key
        while length > 0 and bytes_at(key + length - 1)[0] == _BLANK:
            length -= 1
        if length == 0 or length >= MOST_PATH:
            return ODD
        hashed = hash_of(key, length)
        if seen >= MOST_KEYS or not is_new(given, seen, hashed):
            return ODD
        seen += 1
        wanted = wanted_key(given, hashed, key, length)
        if at < end and bytes_at(at)[0] == equals:
            at += 1
            if sign != _BLANK:
                at = _past_blanks(at, end)
            value = at
            is_quoted = at < end and bytes_at(at)[0] == quote
            if is_quoted:
                value += 1
                at += 1
                while at < end and bytes_at(at)[0] != quote:
                    if _is_odd(bytes_at(at)[0], quote):
                        return ODD
                    at += 1
                if at == end:
                    return ODD
            else:
                while at < end and bytes_at(at)[0] != sign:
                    if _is_odd(bytes_at(at)[0], quote):
                        return ODD
                    at += 1
            count = at - value
            if is_quoted:
                at += 1
            else:
                while count > 0 and bytes_at(value + count - 1)[0] == _BLANK:
                    count -= 1
            # an empty value without quotes is as if the key were missing
            if is_quoted or count > 0:
                if wanted >= 0:
                    put_wanted(given, row, wanted, value, count, view, text)
                else:
                    others = put_other(given, others, begun, key, length, value, count, True)
        elif wanted >= 0:
            put_view(given[OUT_VIEWS] + 16 * (wanted * given[ROWS] + row), given[TRUE], 4, 0, 0)
            bits = bytes_at(given[OUT_VALIDITY] + wanted * given[OUT_STRIDE])
            bits[row >> 3] |= 1 << (row & 7)
        else:
            others = put_other(given, others, begun, key, length, given[TRUE], 4, False)
        if others == 0:
            return -1
        if at < end:
            if sign != _BLANK:
                at = _past_blanks(at, end)
                if at == end:
                    break
            if bytes_at(at)[0] != sign:
                return ODD
            at = _past_blanks(at + 1, end)
    if seen == 0:
        return ODD
    end_others(given, row, begun, others)
    return READ


run = of_rows(_pairs)
