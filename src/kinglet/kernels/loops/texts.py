"""Texts that lie as views: reading them, and laying others over the same bytes.

A view is 16 bytes: the length, and up to twelve bytes of text, or four, the number of a buffer and the place in it
(Apache Arrow, columnar format, variable-size binary view layout).
"""

from __future__ import annotations

from kinglet.kernels.loops.pointers import (
    bytes_at,
    escapable_8,
    escapable_32,
    first_bit,
    loop,
    move_4,
    move_8,
    move_32,
    numbers_at,
    small_numbers_at,
)

INLINE = 12


@loop
def is_valid(bits: int, row: int) -> bool:
    """Whether a row is no null; bits: the address of the validity, 0 where there is none."""
    if bits == 0:
        return True
    return bool((bytes_at(bits)[row >> 3] >> (row & 7)) & 1)


@loop
def past_blanks(at: int, end: int) -> int:
    """Behind blanks, tabs and line ends."""
    while at < end:
        byte = bytes_at(at)[0]
        if byte != 32 and byte != 9 and byte != 10 and byte != 13:
            break
        at += 1
    return at


@loop
def source_of(view: int, buffers: int) -> int:
    """The address of the text of a view."""
    if small_numbers_at(view)[0] <= INLINE:
        return view + 4
    return numbers_at(buffers)[small_numbers_at(view)[2]] + (small_numbers_at(view)[3] & 0xFFFFFFFF)


@loop
def put_view(view: int, source: int, length: int, buffer: int, place: int) -> None:
    """Writes a view of text, which also lies in a buffer, at a place in it."""
    numbers_at(view)[0] = length
    numbers_at(view + 8)[0] = 0
    if length > INLINE:
        move_4(view + 4, source)
        small_numbers_at(view)[2] = buffer
        small_numbers_at(view)[3] = place
    elif length >= 8:
        move_8(view + 4, source)
        move_4(view + length, source + length - 4)
    elif length >= 4:
        move_4(view + 4, source)
        move_4(view + length, source + length - 4)
    else:
        for i in range(length):
            bytes_at(view + 4)[i] = bytes_at(source)[i]


@loop
def put_view_of(view: int, source: int, length: int, other: int, text: int) -> None:
    """The same of text within that of another view, which begins at an address."""
    buffer = 0
    place = 0
    if small_numbers_at(other)[0] > INLINE:
        buffer = small_numbers_at(other)[2]
        place = (small_numbers_at(other)[3] & 0xFFFFFFFF) + source - text
    put_view(view, source, length, buffer, place)


@loop
def put_raw(at: int, source: int, count: int) -> int:
    """Text as it is; up to 31 bytes more are written than it has."""
    end = source + count
    while end - source >= 32:
        move_32(at, source)
        at += 32
        source += 32
    while end - source >= 8:
        move_8(at, source)
        at += 8
        source += 8
    while source < end:
        bytes_at(at)[0] = bytes_at(source)[0]
        at += 1
        source += 1
    return at


@loop
def _put_escape(at: int, byte: int, table: int) -> int:
    """One sign as JSON escapes it; up to seven bytes more are written than that has."""
    move_8(at, table + 8 * byte + 1)
    return at + bytes_at(table)[8 * byte]


@loop
def put_escaped(at: int, source: int, count: int, table: int) -> int:
    """Text with what JSON escapes; up to 31 bytes more are written than it has.

    table: of each byte below 128 how long its text is, and seven bytes of it; behind it a byte more.
    """
    end = source + count
    while end - source >= 32:
        odd = escapable_32(source)
        if odd == 0:
            move_32(at, source)
            at += 32
            source += 32
            continue
        if end - source < 64:
            break
        behind = source + 32
        # escapes stand close together, and each is found in the bits that were made once
        while odd != 0:
            good = behind - 32 + first_bit(odd)
            move_32(at, source)
            at = _put_escape(at + good - source, bytes_at(good)[0], table)
            source = good + 1
            odd &= odd - 1
        move_32(at, source)
        at += behind - source
        source = behind
    while end - source >= 8:
        odd = escapable_8(source)
        move_8(at, source)
        if odd == 0:
            at += 8
            source += 8
            continue
        good = first_bit(odd)
        at = _put_escape(at + good, bytes_at(source + good)[0], table)
        source += good + 1
    while source < end:
        byte = bytes_at(source)[0]
        if byte < 32 or byte == 34 or byte == 92 or byte == 127:
            at = _put_escape(at, byte, table)
        else:
            bytes_at(at)[0] = byte
            at += 1
        source += 1
    return at
