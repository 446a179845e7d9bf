"""Which characters an item of a regex matches, and the bytes of those beyond ASCII (UTF-8: RFC 3629, section 3)."""

from __future__ import annotations

import functools
import re
from typing import Any, NamedTuple

ASCII = 128
ALL_OF_ASCII = (1 << ASCII) - 1
FOLLOWING = 64
"""So many bytes may follow a first byte, from 0x80 on."""
_CATEGORIES = {
    "CATEGORY_DIGIT": (r"\d", b"0123456789"),
    "CATEGORY_SPACE": (r"\s", b"\t\n\v\f\r "),
    "CATEGORY_WORD": (r"\w", b"0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZ_abcdefghijklmnopqrstuvwxyz"),
}
_ALSO = {"s": 0x17F, "k": 0x212A}
"""Characters beyond ASCII that are letters of ASCII where case does not count (Unicode, simple case folding)."""
_NO_CHARACTERS = range(0xD800, 0xE000)
_LAST = 0x10FFFF


class UnknownItemError(Exception):
    """An item means what is not known here."""


class Characters(NamedTuple):
    """Characters: those of ASCII, a bit each, and what is needed to tell the others.

    ranges: first and last code points. categories: the classes of the engine, and whether all but those are meant.
    """

    ascii: int
    ranges: tuple[tuple[int, int], ...]
    categories: tuple[tuple[str, bool], ...]
    negated: bool

    def behind(self, first: int) -> tuple[int, int]:
        """Of the characters with a first byte beyond ASCII, a bit each, those that are meant; how many bytes follow it.

        The lowest bit is the character whose other bytes are 0x80; there are bits for what is no character.
        """
        low, count = _span(first)
        whole = (1 << FOLLOWING**count) - 1
        found = 0
        for start, end in self.ranges:
            start, end = max(start - low, 0), min(end - low + 1, FOLLOWING**count)
            if start < end:
                found |= (1 << end) - (1 << start)
        for category, all_but in self.categories:
            bits = _of_category(category, first)
            found |= whole & ~bits if all_but else bits
        return (whole & ~found if self.negated else found), count


def characters_of(operation: str, value: Any, flags: int) -> Characters:
    """What an item that matches one character matches.

    Raises:
        UnknownItemError: it has a part that is not known, or letters beyond ASCII whose case does not count.
    """
    if operation == "ANY":
        newline = () if flags & re.DOTALL else ((10, 10),)
        return Characters(ALL_OF_ASCII & ~(1 << 10) if newline else ALL_OF_ASCII, newline, (), True)
    negated = operation == "NOT_LITERAL"
    ranges: list[tuple[int, int]] = []
    categories: list[tuple[str, bool]] = []
    found = 0
    for kind, what in value if operation == "IN" else [("LITERAL", value)]:
        match str(kind):
            case "NEGATE":
                negated = True
            case "LITERAL":
                ranges.append((what, what))
            case "RANGE":
                ranges.append((what[0], what[1]))
            case "CATEGORY":
                name = str(what)
                known = _CATEGORIES.get(name.replace("_NOT_", "_"))
                if known is None:
                    raise UnknownItemError
                of_ascii = sum(1 << char for char in known[1])
                categories.append((known[0], "_NOT_" in name))
                found |= ALL_OF_ASCII & ~of_ascii if "_NOT_" in name else of_ascii
            case _:
                raise UnknownItemError
    for low, high in ranges:
        if low < ASCII:
            found |= (1 << (min(high, ASCII - 1) + 1)) - (1 << low)
    if flags & re.IGNORECASE:
        if any(high >= ASCII for _, high in ranges):
            raise UnknownItemError
        for byte in range(ord("a"), ord("z") + 1):
            either = (1 << byte) | (1 << (byte - 32))
            if found & either:
                found |= either
                also = _ALSO.get(chr(byte))
                ranges += [(also, also)] if also is not None else []
    return Characters(ALL_OF_ASCII & ~found if negated else found, tuple(ranges), tuple(categories), negated)


@functools.lru_cache(maxsize=512)
def _of_category(category: str, first: int) -> int:
    """The characters of a class of the engine that have a first byte, a bit each."""
    import polars as pl

    low, count = _span(first)
    points = range(low, min(low + FOLLOWING**count, _LAST + 1))
    chars = pl.Series([chr(point) if point not in _NO_CHARACTERS else "" for point in points])
    found = chars.str.contains(f"^{category}$").to_list()
    return int("".join("01"[is_in] for is_in in reversed(found)), 2)


def _span(first: int) -> tuple[int, int]:
    """The lowest code point that the bits of a first byte leave room for, and how many bytes follow it."""
    if first < 0xE0:
        return (first & 0x1F) << 6, 1
    if first < 0xF0:
        return (first & 0x0F) << 12, 2
    return (first & 0x07) << 18, 3
