"""Where tags of one name may begin in XML: the loop beside `kinglet.cutting.boundaries.elements`."""

from __future__ import annotations

from typing import Any

from kinglet.kernels.loops.pointers import bytes_at, find, loop, numbers_at

DATA, SIZE, NAME, NAME_LENGTH, PLACES, ROOM = range(6)
_LESS, _SLASH, _MARK, _COLON = 60, 47, 33, 58


@loop
def _is_of_name(byte: int) -> bool:
    is_letter = 65 <= byte <= 90 or 97 <= byte <= 122
    return is_letter or 48 <= byte <= 58 or byte == 95 or byte == 46 or byte == 45


@loop
def _ends_with(at: int, end: int, name: int, length: int) -> bool:
    """Whether what stands here is a name, or that behind a prefix."""
    if end - at < length or (end - at > length and bytes_at(end - length - 1)[0] != _COLON):
        return False
    for i in range(length):  # noqa: SIM110
        if bytes_at(end - length)[i] != bytes_at(name)[i]:
            return False
    return True


def run(given: Any) -> int:
    """Writes the places at which a tag of the name, a comment or the like may begin; returns how many, or -1.

    given: the address of the bytes and how many they are, those of the name, where places go, and for how many there is
    room, which -1 says is too little.
    """
    data = given[DATA]
    end = data + given[SIZE]
    places = numbers_at(given[PLACES])
    count = 0
    at = find(data, end, _LESS)
    while at + 1 < end:
        start = at
        byte = bytes_at(at + 1)[0]
        at += 1
        is_found = byte == _MARK
        if not is_found:
            if byte == _SLASH:
                at += 1
            behind = at
            while behind < end and _is_of_name(bytes_at(behind)[0]):
                behind += 1
            is_found = _ends_with(at, behind, given[NAME], given[NAME_LENGTH])
            at = behind
        if is_found:
            if count >= given[ROOM]:
                return -1
            places[count] = start - data
            count += 1
        at = find(at, end, _LESS)
    return count
