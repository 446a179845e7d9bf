"""The characters that a match of a regex can begin with."""

from __future__ import annotations

import functools
import re
from typing import Any, NamedTuple

from kinglet.regex.syntax_tree import tree_of

_ASCII = 128
BEYOND = _ASCII
"""Stands for all characters beyond ASCII."""
EVERY = frozenset(range(_ASCII + 1))


class Beginnings(NamedTuple):
    """chars: code points of ASCII, and `BEYOND`; may_be_empty: whether a match may have no characters at all."""

    chars: frozenset[int]
    may_be_empty: bool


@functools.lru_cache(maxsize=1024)
def beginnings(regex: str) -> Beginnings:
    """Reads a regex of the dialect; never too few characters, at worst all.

    >>> "".join(map(chr, sorted(beginnings("(?:0[xX])?[0-3]+|-").chars)))
    '-0123'
    """
    tree = tree_of(regex)
    # case folding beyond ASCII has letters that ASCII letters become; all characters is never wrong
    if tree.state.flags & re.IGNORECASE:
        return Beginnings(EVERY, True)
    return _of_sequence(tree)


def _of_sequence(tree: Any) -> Beginnings:
    chars: frozenset[int] = frozenset()
    for operation, value in tree:
        here = _of(str(operation), value)
        chars |= here.chars
        if not here.may_be_empty:
            return Beginnings(chars, False)
    return Beginnings(chars, True)


def _of(operation: str, value: Any) -> Beginnings:
    match operation:
        case "LITERAL":
            return Beginnings(_point(value), False)
        case "NOT_LITERAL":
            return Beginnings(EVERY - {value}, False)
        case "IN":
            return Beginnings(_of_class(value), False)
        case "AT":
            return Beginnings(frozenset(), True)
        case "SUBPATTERN" if not value[1] & re.IGNORECASE:
            return _of_sequence(value[3])
        case "BRANCH":
            alternatives = [_of_sequence(inner) for inner in value[1]]
            return Beginnings(
                frozenset().union(*(one.chars for one in alternatives)),
                any(one.may_be_empty for one in alternatives),
            )
        case "MAX_REPEAT" | "MIN_REPEAT":
            least, _, inner = value
            found = _of_sequence(inner)
            return Beginnings(found.chars, found.may_be_empty or least == 0)
    return Beginnings(EVERY, True)


def _of_class(items: Any) -> frozenset[int]:
    found: frozenset[int] = frozenset()
    negated = False
    for operation, value in items:
        match str(operation):
            case "NEGATE":
                negated = True
            case "LITERAL":
                found |= _point(value)
            case "RANGE":
                low, high = value
                found |= frozenset(range(low, min(high + 1, _ASCII))) | _point(high)
            case _:
                return EVERY
    return (EVERY - found) | {BEYOND} if negated else found


def _point(code: int) -> frozenset[int]:
    return frozenset((min(code, BEYOND),))
