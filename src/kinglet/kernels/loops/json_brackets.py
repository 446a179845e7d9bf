"""The brackets of JSON outside strings: the loop beside `kinglet.cutting.boundaries.objects`."""

from __future__ import annotations

from typing import Any

from kinglet.kernels.loops.pointers import bytes_at, first_bit, json_signs_32, loop, numbers_at

DATA, SIZE, INSIDE, ESCAPED, PLACES, CODES, ROOM = range(7)
_LINE_FEED, _QUOTE, _BACKSLASH = 10, 34, 92


def run(given: Any) -> int:
    """Writes the places and codes of brackets; returns how many there are, or -1 where there is no room for them.

    given: the address of the bytes and how many they are, whether they begin within a string, whether a backslash
    stands before them; where places go, eight bytes each, and codes, one each, and for how many there is room.
    """
    data, size = given[DATA], given[SIZE]
    places = numbers_at(given[PLACES])
    codes = bytes_at(given[CODES])
    inside = given[INSIDE]
    # the backslash after which a quote, or another backslash, is none
    escaping = -1 if given[ESCAPED] != 0 else -2
    count = 0
    for block in range(0, size, 32):
        signs = json_signs_32(data + block) if size - block >= 32 else _signs(data + block, size - block)
        if given[ROOM] - count < 32:
            return -1
        while signs != 0:
            place = block + first_bit(signs)
            signs &= signs - 1
            byte = bytes_at(data)[place]
            if byte == _LINE_FEED:
                inside = 0
            elif byte == _BACKSLASH:
                # of two in a row the second is one that is escaped
                escaping = -2 if escaping == place - 1 else place
            elif byte == _QUOTE:
                if escaping != place - 1:
                    inside ^= 1
            elif inside == 0:
                places[count] = place
                codes[count] = byte
                count += 1
    return count


@loop
def _signs(at: int, count: int) -> int:
    found = 0
    for i in range(count):
        byte = bytes_at(at)[i]
        is_bracket = byte == 91 or byte == 93 or byte == 123 or byte == 125
        if is_bracket or byte in (_LINE_FEED, _QUOTE, _BACKSLASH):
            found |= 1 << i
    return found
