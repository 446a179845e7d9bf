"""A regex cut into the pieces it is a sequence of, to tell how far it got on a text."""

from __future__ import annotations

import re

from kinglet.regex.backtracking import Budget, search

_QUANTIFIER = re.compile(r"(?:[*+?]|\{\d+(?:,\d*)?\}|\{,\d+\})[?]?")
_FLAGS = re.compile(r"\(\?[a-zA-Z]+\)")


def atoms(regex: str) -> list[str]:
    r"""The pieces of a regex in order; one piece where it is an alternative at its top.

    >>> atoms(r"^pump (?P<n>\\d+)$")
    ['^', 'p', 'u', 'm', 'p', ' ', '(?P<n>\\\\d+)', '$']
    """
    found: list[str] = []
    position = 0
    while position < len(regex):
        end = _atom_end(regex, position)
        if regex[position] == "|":
            return [regex]
        if quantifier := _QUANTIFIER.match(regex, end):
            end = quantifier.end()
        found.append(regex[position:end])
        position = end
    return found


def _atom_end(regex: str, position: int) -> int:
    char = regex[position]
    if char == "\\":
        return min(position + 2, len(regex))
    if char == "[":
        return _class_end(regex, position)
    if char == "(":
        return _group_end(regex, position)
    return position + 1


def _class_end(regex: str, position: int) -> int:
    i = position + 1
    if regex[i : i + 1] == "^":
        i += 1
    if regex[i : i + 1] == "]":
        i += 1
    while i < len(regex) and regex[i] != "]":
        i += 2 if regex[i] == "\\" else 1
    return min(i + 1, len(regex))


def _group_end(regex: str, position: int) -> int:
    i = position + 1
    while i < len(regex) and regex[i] != ")":
        i = _atom_end(regex, i)
    return min(i + 1, len(regex))


def matching_prefix(regex: str, text: str) -> tuple[int, str]:
    """How far a regex gets from where its longest beginning matches.

    Returns the end of that match in text and the piece that does not match there; -1 and the
    first piece where nothing matches, the text's length and "" where all of it matches. Beginnings
    that take too long are passed over.
    """
    pieces = atoms(regex)
    flags = "".join(piece for piece in pieces if _FLAGS.fullmatch(piece))
    pieces = [piece for piece in pieces if not _FLAGS.fullmatch(piece)]
    budget = Budget()
    # from the whole regex down: the longest beginning that matches is found first, most often near the end
    for count in range(len(pieces), 0, -1):
        try:
            match = search(flags + "".join(pieces[:count]), text, budget.remaining)
        except TimeoutError:
            continue
        if match and (count == len(pieces) or match.end() or pieces[:count] != ["^"]):
            return match.end(), "".join(_next_run(pieces[count:]))
    return -1, "".join(_next_run(pieces))


def _next_run(pieces: list[str]) -> list[str]:
    """The next piece; of plain characters all that follow each other."""
    run: list[str] = []
    for piece in pieces:
        if piece == "^" and not run:
            continue
        plain = (len(piece) == 1 and piece not in "^$.") or (
            len(piece) == 2 and piece[0] == "\\" and not piece[1].isalnum()
        )
        if run and not plain:
            break
        run.append(piece)
        if not plain:
            break
    return run
