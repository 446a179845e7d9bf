"""Keys and values of texts: what the loops that read structure have in common.

What they are given, by number: rows, the first of them, of the texts views, buffers, validity and first row; a state
for each row (a byte), how many keys are wanted, of each of them hash, place of its name, its length and whether its
value stays among the others too; names, a table from hashes to wanted keys (their number from 1, 0 for none) and its
mask; of wanted keys views, validity, and how many bytes those of one key take; of the others the same, the memory for
their text, its size, how much of it is taken; what stands before each of their keys, its length; escapes; memory.
"""

from __future__ import annotations

from typing import Any

from kinglet.kernels.loops.pointers import bytes_at, loop, numbers_at
from kinglet.kernels.loops.texts import is_valid, put_escaped, put_raw, put_view, put_view_of

ROWS, FIRST, VIEWS, BUFFERS, VALIDITY, OFFSET, STATES, WANTED, KEYS, NAMES, TABLE, MASK = range(12)
OUT_VIEWS, OUT_VALIDITY, OUT_STRIDE, MORE_VIEWS, MORE_VALIDITY, MORE, MORE_SIZE, MORE_USED = range(12, 20)
PREFIX, PREFIX_LENGTH, ESCAPES, SCRATCH, BRACKETS = range(20, 25)
OPTIONS = 25
"""From here on each loop has its own."""

# states of a row: left to the column engine, read, read with escapes that are still there
ODD, READ, ESCAPED = 0, 1, 2
MOST_PATH = 1000
MOST_KEYS = 128


@loop
def hash_of(path: int, length: int) -> int:
    """A number of 62 bits for some bytes (after Fowler, Noll and Vo)."""
    found = 0x2BF29CE484222325
    text = bytes_at(path)
    for i in range(length):
        found = ((found ^ text[i]) * 0x100000001B3) & 0x3FFFFFFFFFFFFFFF
    return found


@loop
def wanted_key(given: Any, hashed: int, path: int, length: int) -> int:
    """The number of a wanted key from its path, or -1."""
    table = numbers_at(given[TABLE])
    slot = hashed & given[MASK]
    while table[slot] != 0:
        key = numbers_at(given[KEYS] + 32 * (table[slot] - 1))
        if key[0] == hashed and key[2] == length:
            name = bytes_at(given[NAMES] + key[1])
            same = True
            for i in range(length):
                if name[i] != bytes_at(path)[i]:
                    same = False
                    break
            if same:
                return table[slot] - 1
        slot = (slot + 1) & given[MASK]
    return -1


@loop
def is_new(given: Any, seen: int, hashed: int) -> bool:
    """Whether a hash is none of those seen before in this row; it is kept."""
    hashes = numbers_at(given[SCRATCH] + 2 * MOST_PATH)
    for i in range(seen):
        if hashes[i] == hashed:
            return False
    hashes[seen] = hashed
    return True


@loop
def put_wanted(given: Any, row: int, key: int, source: int, length: int, view: int, text: int) -> None:
    """Gives a wanted key its value, which lies within the text of a view."""
    put_view_of(given[OUT_VIEWS] + 16 * (key * given[ROWS] + row), source, length, view, text)
    bits = bytes_at(given[OUT_VALIDITY] + key * given[OUT_STRIDE])
    bits[row >> 3] |= 1 << (row & 7)


@loop
def forget_row(given: Any, row: int) -> None:
    """Takes back what was given to wanted keys."""
    for key in range(given[WANTED]):
        bits = bytes_at(given[OUT_VALIDITY] + key * given[OUT_STRIDE])
        bits[row >> 3] &= ~(1 << (row & 7))
    bits = bytes_at(given[MORE_VALIDITY])
    bits[row >> 3] &= ~(1 << (row & 7))


@loop
def put_other(given: Any, at: int, begun: int, path: int, length: int, source: int, count: int, quoted: bool) -> int:
    """Adds a key and its value to the others; 0 where there may be no room.

    quoted: whether the value is text, which becomes a JSON string, or JSON already.
    """
    size = (6 * count if quoted else count) + length + given[PREFIX_LENGTH] + 80
    if given[MORE] + given[MORE_SIZE] - at < size:
        return 0
    bytes_at(at)[0] = 123 if at == begun else 44
    at = put_raw(at + 1, given[PREFIX], given[PREFIX_LENGTH])
    at = put_raw(at, path, length)
    bytes_at(at)[0] = 34
    bytes_at(at)[1] = 58
    at += 2
    if not quoted:
        return put_raw(at, source, count)
    bytes_at(at)[0] = 34
    at = put_escaped(at + 1, source, count, given[ESCAPES])
    bytes_at(at)[0] = 34
    return at + 1


@loop
def end_others(given: Any, row: int, begun: int, at: int) -> None:
    """Ends what the other keys of a row are written as, where there are any."""
    if at == begun:
        return
    bytes_at(at)[0] = 125
    length = at + 1 - begun
    put_view(given[MORE_VIEWS] + 16 * row, begun, length, 0, begun - given[MORE])
    bits = bytes_at(given[MORE_VALIDITY])
    bits[row >> 3] |= 1 << (row & 7)
    given[MORE_USED] = at + 1 - given[MORE]


def of_rows(read: Any) -> Any:
    """The function that reads all rows.

    read: gives the state of a row, from what the loop is given, the row, its view, and where its other keys begin; -1
    where there is no room for those.
    """

    def run(given: Any) -> int:
        """Reads rows until the last, or the first for whose other keys there is no room; returns it."""
        for row in range(given[FIRST], given[ROWS]):
            number = row + given[OFFSET]
            bytes_at(given[STATES])[row] = ODD
            if not is_valid(given[VALIDITY], number):
                continue
            found = read(given, row, given[VIEWS] + 16 * number, given[MORE] + given[MORE_USED])
            if found == ODD:
                forget_row(given, row)
            elif found < 0:
                forget_row(given, row)
                return row
            bytes_at(given[STATES])[row] = found
        return given[ROWS]

    return run
