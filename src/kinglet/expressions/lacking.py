"""Expressions over fields of which some events have only some."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator

from kinglet.expressions.pieces import MOST_CHARACTERS, QUOTED, WORD

_PIECE = re.compile(rf"{QUOTED}|{WORD}|\s+|.", re.DOTALL)
_FIRST_OF = ("COALESCE", "IFNULL")


def fields_named(text: str, fields: Collection[str]) -> set[str]:
    """The fields that an expression names, whether or not it can be read."""
    return {name for piece in _PIECE.findall(text) if (name := _name(piece)) in fields}


def without_fields(text: str, lacking: Collection[str], fields: Collection[str]) -> str:
    """An expression in which `COALESCE` does not look at fields that are always null.

    lacking: these. fields: the others, of which it must look at one; where it has none it stays. What is too long, or
    nested too deeply, stays as well, so that reading it says so.
    """
    if len(text) > MOST_CHARACTERS:
        return text
    try:
        return "".join(_reduced(_PIECE.findall(text), lacking, fields))
    except RecursionError:
        return text


def _name(piece: str) -> str:
    return piece[1:-1] if piece[:1] == '"' else piece


def _reduced(pieces: list[str], lacking: Collection[str], fields: Collection[str]) -> Iterator[str]:
    at = 0
    while at < len(pieces):
        piece = pieces[at]
        opening = next((i for i in range(at + 1, len(pieces)) if not pieces[i].isspace()), len(pieces))
        is_call = piece.upper() in _FIRST_OF and pieces[opening : opening + 1] == ["("]
        closing = _closing(pieces, opening) if is_call else 0
        if not closing:
            yield piece
            at += 1
            continue
        items = ["".join(_reduced(item, lacking, fields)).strip() for item in _items(pieces[opening + 1 : closing])]
        kept = [item for item in items if _name(item) not in lacking]
        if not any(fields_named(item, fields) for item in kept):
            kept = items
        if len(kept) > 1:
            yield f"COALESCE({', '.join(kept)})"
        else:
            yield kept[0] if len(_PIECE.findall(kept[0])) == 1 else f"({kept[0]})"
        at = closing + 1


def _closing(pieces: list[str], opening: int) -> int:
    """The place of the bracket that closes another; 0 where none does."""
    depth = 0
    for i in range(opening, len(pieces)):
        depth += (pieces[i] == "(") - (pieces[i] == ")")
        if depth == 0:
            return i
    return 0


def _items(pieces: list[str]) -> Iterator[list[str]]:
    """What stands between commas that are in no bracket."""
    depth, item = 0, list[str]()
    for piece in pieces:
        depth += (piece == "(") - (piece == ")")
        if piece == "," and depth == 0:
            yield item
            item = []
        else:
            item.append(piece)
    yield item
