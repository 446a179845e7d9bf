"""Where a byte stands in a buffer."""

from __future__ import annotations

from typing import Any

from kinglet.kernels.loops.pointers import bytes_at, equal_32, first_bit, numbers_at

DATA, SIZE, BYTE, PLACES, ROOM = range(5)


def run(given: Any) -> int:
    """Writes the positions of a byte; returns how many there are, or -1 where there is no room for them."""
    data, size, byte, room = given[DATA], given[SIZE], given[BYTE], given[ROOM]
    places = numbers_at(given[PLACES])
    text = bytes_at(data)
    count = 0
    for block in range(0, size - 31, 32):
        bits = equal_32(data + block, byte)
        if room - count < 32:
            return -1
        while bits != 0:
            places[count] = block + first_bit(bits)
            bits &= bits - 1
            count += 1
    if room - count < 32:
        return -1
    for i in range(size - size % 32, size):
        if text[i] == byte:
            places[count] = i
            count += 1
    return count
