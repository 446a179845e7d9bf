"""JSON objects to the values of their keys: the loop beside `kinglet.structured.json_objects`.

Odd are objects with a key twice, keys with escapes, control characters, and what is no JSON.
"""

from __future__ import annotations

from typing import Any

from kinglet.kernels.loops.keys import (
    BRACKETS,
    BUFFERS,
    ESCAPED,
    KEYS,
    MOST_KEYS,
    MOST_PATH,
    ODD,
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
from kinglet.kernels.loops.pointers import bytes_at, escapable_8, escapable_32, find, first_bit, loop, numbers_at
from kinglet.kernels.loops.texts import past_blanks, put_raw, source_of

_MOST_LEVELS = 60
_QUOTE, _BACKSLASH = 34, 92
_VALUE_OR_END, _VALUE, _COMMA_OR_END = range(3)


@loop
def _string(at: int, end: int) -> int:
    """Where a string ends, behind its quote, times two, and one more where it has escapes; 0 for what is none."""
    escaped = 0
    while at < end:
        if end - at >= 32:
            odd = escapable_32(at)
            if odd == 0:
                at += 32
                continue
            at += first_bit(odd)
        elif end - at >= 8:
            odd = escapable_8(at)
            if odd == 0:
                at += 8
                continue
            at += first_bit(odd)
        byte = bytes_at(at)[0]
        if byte == _QUOTE:
            return 2 * (at + 1) + escaped
        if byte < 32:
            return 0
        if byte == _BACKSLASH:
            escaped = 1
            at += 1
            if at >= end:
                return 0
            byte = bytes_at(at)[0]
            if byte == 117:
                if end - at < 5:
                    return 0
                for i in range(1, 5):
                    digit = bytes_at(at + i)[0]
                    is_digit = 48 <= digit <= 57 or 65 <= digit <= 70 or 97 <= digit <= 102
                    if not is_digit:
                        return 0
                at += 4
            elif not (
                byte == 34 or byte == 92 or byte == 47 or byte == 98
                or byte == 102 or byte == 110 or byte == 114 or byte == 116
            ):  # fmt: skip
                return 0
        at += 1
    return 0


@loop
def _digits(at: int, end: int) -> int:
    while at < end and 48 <= bytes_at(at)[0] <= 57:
        at += 1
    return at


@loop
def _scalar(at: int, end: int) -> int:
    """Where a number, true, false or null ends; 0 for what is none."""
    byte = bytes_at(at)[0]
    if byte == 116 or byte == 110:
        if end - at < 4:
            return 0
        word = numbers_at(at)[0] & 0xFFFFFFFF if end - at >= 8 else _four(at)
        if word == 0x65757274 or word == 0x6C6C756E:
            return at + 4
        return 0
    if byte == 102:
        if end - at < 5 or _four(at + 1) != 0x65736C61:
            return 0
        return at + 5
    if byte == 45:
        at += 1
    start = at
    at = _digits(at, end)
    if at == start or (bytes_at(start)[0] == 48 and at - start > 1):
        return 0
    if at < end and bytes_at(at)[0] == 46:
        start = at + 1
        at = _digits(start, end)
        if at == start:
            return 0
    if at < end and (bytes_at(at)[0] == 101 or bytes_at(at)[0] == 69):
        at += 1
        if at < end and (bytes_at(at)[0] == 43 or bytes_at(at)[0] == 45):
            at += 1
        start = at
        at = _digits(at, end)
        if at == start:
            return 0
    return at


@loop
def _four(at: int) -> int:
    text = bytes_at(at)
    found = 0
    for i in range(3, -1, -1):
        found = 256 * found + text[i]
    return found


@loop
def _list(at: int, end: int) -> int:
    """Where a list ends that begins here, behind its bracket; 0 for what is none, or too deep."""
    depth = 1
    # bit by bit from the innermost: whether it is an object
    objects = 0
    expected = _VALUE_OR_END
    at = past_blanks(at + 1, end)
    while at < end:
        byte = bytes_at(at)[0]
        inside_object = objects & 1
        if byte == (125 if inside_object == 1 else 93):
            if expected == _VALUE:
                return 0
            at += 1
            depth -= 1
            if depth == 0:
                return at
            objects >>= 1
            expected = _COMMA_OR_END
        elif expected == _COMMA_OR_END:
            if byte != 44:
                return 0
            at += 1
            expected = _VALUE
        else:
            if inside_object == 1:
                if byte != _QUOTE:
                    return 0
                at = _string(at + 1, end) >> 1
                if at == 0:
                    return 0
                at = past_blanks(at, end)
                if at >= end or bytes_at(at)[0] != 58:
                    return 0
                at = past_blanks(at + 1, end)
                if at >= end:
                    return 0
                byte = bytes_at(at)[0]
            if byte == 91 or byte == 123:
                depth += 1
                if depth > _MOST_LEVELS:
                    return 0
                objects = 2 * objects + (1 if byte == 123 else 0)
                at += 1
                expected = _VALUE_OR_END
            else:
                at = _string(at + 1, end) >> 1 if byte == _QUOTE else _scalar(at, end)
                if at == 0:
                    return 0
                expected = _COMMA_OR_END
        at = past_blanks(at, end)
    return 0


@loop
def _object(given: Any, row: int, view: int, begun: int) -> int:
    """The state of a row; -1 where there is no room."""
    text = source_of(view, given[BUFFERS])
    end = text + (numbers_at(view)[0] & 0xFFFFFFFF)
    path = given[SCRATCH]
    # of each object that is open: how long its path is, with the dot
    lengths = numbers_at(given[SCRATCH] + 2 * MOST_PATH + 8 * MOST_KEYS)
    state = READ
    has_list = False
    level = 0
    seen = 0
    others = begun
    at = past_blanks(text, end)
    if at >= end or bytes_at(at)[0] != 123:
        return ODD
    lengths[0] = 0
    at = past_blanks(at + 1, end)
    may_end = True
    while at < end:
        byte = bytes_at(at)[0]
        if may_end and byte == 125:
            at = past_blanks(at + 1, end)
            if level == 0:
                if at < end:
                    return ODD
                if has_list and state == ESCAPED:
                    return ODD
                end_others(given, row, begun, others)
                return state
            level -= 1
        else:
            if byte != _QUOTE:
                return ODD
            start = at + 1
            after = _string(start, end)
            if after == 0 or after & 1 == 1:
                return ODD
            at = after >> 1
            length = at - 1 - start
            whole = lengths[level] + length
            if length == 0 or whole >= MOST_PATH:
                return ODD
            put_raw(path + lengths[level], start, length)
            if given[BRACKETS] != 0:
                for i in range(length):
                    if bytes_at(start + i)[0] == 91:
                        return ODD
            at = past_blanks(at, end)
            if at >= end or bytes_at(at)[0] != 58:
                return ODD
            at = past_blanks(at + 1, end)
            if at >= end:
                return ODD
            byte = bytes_at(at)[0]
            if byte == 123:
                level += 1
                if level >= _MOST_LEVELS:
                    return ODD
                bytes_at(path + whole)[0] = 46
                lengths[level] = whole + 1
                at = past_blanks(at + 1, end)
                may_end = True
                continue
            value = at
            is_text = 0
            has_escapes = 0
            if byte == _QUOTE:
                after = _string(at + 1, end)
                at = after >> 1
                has_escapes = after & 1
                is_text = 1
            elif byte == 91:
                at = _list(at, end)
            else:
                at = _scalar(at, end)
            if at == 0:
                return ODD
            hashed = hash_of(path, whole)
            if seen >= MOST_KEYS or not is_new(given, seen, hashed):
                return ODD
            seen += 1
            # null is as if the key were missing
            if byte != 110:
                key = wanted_key(given, hashed, path, whole)
                if key >= 0:
                    put_wanted(given, row, key, value + is_text, at - value - 2 * is_text, view, text)
                    if has_escapes == 1:
                        state = ESCAPED
                    # of a list they stay
                    elif byte == 91 and find(value, at, _BACKSLASH) < at:
                        has_list = True
                if key < 0 or numbers_at(given[KEYS] + 32 * key)[3] != 0:
                    others = put_other(given, others, begun, path, whole, value, at - value, False)
                    if others == 0:
                        return -1
            at = past_blanks(at, end)
        if at >= end:
            return ODD
        if bytes_at(at)[0] == 44:
            at = past_blanks(at + 1, end)
            may_end = False
        else:
            may_end = True
            if bytes_at(at)[0] != 125:
                return ODD
    return ODD


run = of_rows(_object)
