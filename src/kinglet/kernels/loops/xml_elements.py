"""XML elements to the values of their keys: the loop beside `kinglet.structured.xml_elements`.

Odd are texts with a key twice, comments, instructions, sections of characters, text beside elements, references to
characters by number, names beyond ASCII, and what is no XML.
"""

from __future__ import annotations

from typing import Any

from kinglet.kernels.loops.keys import (
    BUFFERS,
    ESCAPED,
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
from kinglet.kernels.loops.texts import past_blanks, put_raw, source_of

BY, BY_LENGTH = OPTIONS, OPTIONS + 1
_MOST_LEVELS = 60
# behind the path and the hashes: of each element that is open the length of its path, and its name
_LEVELS = 2 * MOST_PATH + 8 * MOST_KEYS
_SEEN, _IS_ESCAPED = _LEVELS + 3 * 8 * 64, _LEVELS + 3 * 8 * 64 + 8
_LESS, _GREATER, _SLASH, _EQUALS, _AMPERSAND, _COLON = 60, 62, 47, 61, 38, 58
_IS_ODD, _NO_ROOM = 0, -1


@loop
def _is_letter(byte: int) -> bool:
    return 65 <= byte <= 90 or 97 <= byte <= 122 or byte == 95


@loop
def _name(at: int, end: int) -> int:
    """Where a name of ASCII ends, which may have a prefix; 0 where there is none."""
    if at >= end or not _is_letter(bytes_at(at)[0]):
        return 0
    has_prefix = False
    while at < end:
        byte = bytes_at(at)[0]
        if byte >= 128:
            return 0
        if byte == _COLON:
            if has_prefix or at + 1 >= end or not _is_letter(bytes_at(at + 1)[0]):
                return 0
            has_prefix = True
        elif not (_is_letter(byte) or 48 <= byte <= 57 or byte == 46 or byte == 45):
            break
        at += 1
    return at


@loop
def _local(start: int, end: int) -> int:
    """Where the name begins behind its prefix."""
    colon = find(start, end, _COLON)
    return colon + 1 if colon < end else start


@loop
def _same(one: int, other: int, length: int) -> bool:
    for i in range(length):  # noqa: SIM110
        if bytes_at(one)[i] != bytes_at(other)[i]:
            return False
    return True


@loop
def _is_entity(at: int, end: int) -> bool:
    """Whether one of the five entities of the standard begins here."""
    text = bytes_at(at)
    left = end - at
    if left >= 4 and text[2] == 116 and text[3] == 59:
        return bool(text[1] == 108 or text[1] == 103)
    if left >= 5 and text[1] == 97 and text[2] == 109 and text[3] == 112:
        return bool(text[4] == 59)
    if left < 6 or text[5] != 59:
        return False
    quot = text[1] == 113 and text[2] == 117 and text[3] == 111 and text[4] == 116
    apos = text[1] == 97 and text[2] == 112 and text[3] == 111 and text[4] == 115
    return bool(quot or apos)


@loop
def _give(given: Any, row: int, view: int, text: int, path: int, start: int, end: int, others: int, begun: int) -> int:
    """Gives a value to the key whose path stands in the scratch memory; path: its length.

    Returns where others go on.
    """
    while start < end and past_blanks(start, start + 1) > start:
        start += 1
    while end > start and past_blanks(end - 1, end) == end:
        end -= 1
    seen = numbers_at(given[SCRATCH] + _SEEN)
    hashed = hash_of(given[SCRATCH], path)
    if seen[0] >= MOST_KEYS or not is_new(given, seen[0], hashed):
        return _IS_ODD
    seen[0] += 1
    if start == end:
        return others
    has_entities = False
    at = find(start, end, _AMPERSAND)
    while at < end:
        if not _is_entity(at, end):
            return _IS_ODD
        has_entities = True
        at = find(at + 1, end, _AMPERSAND)
    key = wanted_key(given, hashed, given[SCRATCH], path)
    if key >= 0:
        put_wanted(given, row, key, start, end - start, view, text)
        if has_entities:
            numbers_at(given[SCRATCH] + _IS_ESCAPED)[0] = 1
        return others
    if has_entities:
        return _IS_ODD
    others = put_other(given, others, begun, given[SCRATCH], path, start, end - start, True)
    return _NO_ROOM if others == 0 else others


@loop
def _attribute(at: int, end: int, places: Any) -> int:
    """Where an attribute ends; its name, and the start and end of its value, are noted. 0 where there is none."""
    name = _name(at, end)
    if name == 0:
        return 0
    places[0] = at
    places[1] = name
    at = past_blanks(name, end)
    if at >= end or bytes_at(at)[0] != _EQUALS:
        return 0
    at = past_blanks(at + 1, end)
    if at >= end:
        return 0
    quote = bytes_at(at)[0]
    if quote != 34 and quote != 39:
        return 0
    close = find(at + 1, end, quote)
    if close == end or find(at + 1, close, _LESS) < close:
        return 0
    places[2] = at + 1
    places[3] = close
    return close + 1


@loop
def _is_namespace(start: int, end: int) -> bool:
    name = bytes_at(start)
    return bool(
        end - start >= 5 and name[0] == 120 and name[1] == 109 and name[2] == 108 and name[3] == 110 and name[4] == 115
    )


@loop
def _is_plain_path(at: int, length: int) -> bool:
    """Whether text can stand in a JSON string as it is."""
    for i in range(length):
        byte = bytes_at(at)[i]
        if byte < 32 or byte == 34 or byte == 92:
            return False
    return True


@loop
def _ended(given: Any, row: int, begun: int, others: int, is_whole: bool) -> int:
    """The state of a row whose outermost element has ended, with nothing behind it where it is whole."""
    if not is_whole:
        return ODD
    end_others(given, row, begun, others)
    return ESCAPED if numbers_at(given[SCRATCH] + _IS_ESCAPED)[0] == 1 else READ


@loop
def _element(given: Any, row: int, view: int, begun: int) -> int:
    """The state of a row; -1 where there is no room."""
    text = source_of(view, given[BUFFERS])
    end = text + (numbers_at(view)[0] & 0xFFFFFFFF)
    path = given[SCRATCH]
    lengths = numbers_at(given[SCRATCH] + _LEVELS)
    names = numbers_at(given[SCRATCH] + _LEVELS + 8 * 64)
    name_ends = numbers_at(given[SCRATCH] + _LEVELS + 16 * 64)
    places = numbers_at(given[SCRATCH] + _IS_ESCAPED + 8)
    numbers_at(given[SCRATCH] + _SEEN)[0] = 0
    numbers_at(given[SCRATCH] + _IS_ESCAPED)[0] = 0
    by = given[BY]
    others = begun
    level = 0
    at = past_blanks(text, end)
    while True:
        if at >= end or bytes_at(at)[0] != _LESS:
            return ODD
        if at + 1 < end and bytes_at(at + 1)[0] == _SLASH:
            close = _name(at + 2, end)
            if level == 0 or close == 0:
                return ODD
            level -= 1
            length = name_ends[level] - names[level]
            if close - at - 2 != length or not _same(at + 2, names[level], length):
                return ODD
            at = past_blanks(close, end)
            if at >= end or bytes_at(at)[0] != _GREATER:
                return ODD
            at = past_blanks(at + 1, end)
            if level == 0:
                return _ended(given, row, begun, others, at == end)
            continue
        name = at + 1
        name_end = _name(name, end)
        if name_end == 0 or level >= _MOST_LEVELS:
            return ODD
        # the attribute that names the element may stand anywhere among them
        local = _local(name, name_end)
        local_length = name_end - local
        at = name_end
        behind = past_blanks(at, end)
        while behind > at and behind < end and _is_letter(bytes_at(behind)[0]):
            at = _attribute(behind, end, places)
            if at == 0:
                return ODD
            start = _local(places[0], places[1])
            is_by = by != 0 and places[1] - start == given[BY_LENGTH] and _same(start, by, given[BY_LENGTH])
            if is_by and places[3] > places[2]:
                local = places[2]
                local_length = places[3] - places[2]
                if find(local, places[3], _AMPERSAND) < places[3] or not _is_plain_path(local, local_length):
                    return ODD
            behind = past_blanks(at, end)
        # the outermost element has no name in paths
        whole = 0
        if level > 0:
            whole = lengths[level - 1]
            if whole + local_length + 2 >= MOST_PATH:
                return ODD
            if whole > 0:
                bytes_at(path + whole)[0] = 46
                whole += 1
            put_raw(path + whole, local, local_length)
            whole += local_length
        at = name_end
        behind = past_blanks(at, end)
        while behind > at and behind < end and _is_letter(bytes_at(behind)[0]):
            at = _attribute(behind, end, places)
            start = _local(places[0], places[1])
            length = places[1] - start
            is_by = by != 0 and length == given[BY_LENGTH] and _same(start, by, length)
            if not is_by and not _is_namespace(places[0], places[1]):
                longer = whole
                if whole + length + 2 >= MOST_PATH:
                    return ODD
                if whole > 0:
                    bytes_at(path + whole)[0] = 46
                    longer += 1
                put_raw(path + longer, start, length)
                others = _give(given, row, view, text, longer + length, places[2], places[3], others, begun)
                if others <= 0:
                    return others
            behind = past_blanks(at, end)
        at = behind
        if at >= end:
            return ODD
        if bytes_at(at)[0] == _SLASH:
            if at + 1 >= end or bytes_at(at + 1)[0] != _GREATER:
                return ODD
            at = past_blanks(at + 2, end)
            if level == 0:
                return _ended(given, row, begun, others, at == end)
            continue
        if bytes_at(at)[0] != _GREATER:
            return ODD
        at += 1
        lengths[level] = whole
        names[level] = name
        name_ends[level] = name_end
        level += 1
        close = find(at, end, _LESS)
        if close + 1 >= end:
            return ODD
        if bytes_at(close + 1)[0] == _SLASH:
            if whole == 0:
                return ODD
            others = _give(given, row, view, text, whole, at, close, others, begun)
            if others <= 0:
                return others
            at = close
        else:
            at = past_blanks(at, end)


run = of_rows(_element)
