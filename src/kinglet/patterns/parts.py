"""Parts: named pieces of pattern, put where patterns refer to them."""

from __future__ import annotations

from collections.abc import Mapping

from kinglet.patterns.grammar import Blank, Literal, Optional, PartRef, Token


def references(tokens: tuple[Token, ...]) -> list[PartRef]:
    """The references to parts in a pattern, those in optional parts too."""
    found: list[PartRef] = []
    for token in tokens:
        if isinstance(token, PartRef):
            found.append(token)
        elif isinstance(token, Optional):
            found += references(token.tokens)
    return found


def size(tokens: tuple[Token, ...]) -> int:
    """Characters of text, and pieces, of a pattern without references."""
    found = len(tokens)
    for token in tokens:
        if isinstance(token, Literal):
            found += len(token.text)
        elif isinstance(token, Optional):
            found += size(token.tokens)
    return found


def expanded(tokens: tuple[Token, ...], parts: Mapping[str, tuple[Token, ...]]) -> tuple[Token, ...]:
    """A pattern with its parts in place, as if they had been written there; parts refer to no others any more.

    What stands in a part has the offset of the reference to it. Text, and blanks, on both sides of an edge are one.
    """
    done: list[Token] = []
    for token in tokens:
        if isinstance(token, PartRef):
            for inner in parts[token.name]:
                _add(done, _moved(inner, token.offset))
        elif isinstance(token, Optional):
            _add(done, token._replace(tokens=expanded(token.tokens, parts)))
        else:
            _add(done, token)
    return tuple(done)


def _add(done: list[Token], token: Token) -> None:
    last = done[-1] if done else None
    if isinstance(token, Blank) and isinstance(last, Blank):
        return
    if isinstance(token, Literal) and isinstance(last, Literal):
        done[-1] = last._replace(text=last.text + token.text)
        return
    done.append(token)


def _moved(token: Token, offset: int) -> Token:
    if isinstance(token, Optional):
        return Optional(tuple(_moved(inner, offset) for inner in token.tokens), offset)
    return token._replace(offset=offset)
