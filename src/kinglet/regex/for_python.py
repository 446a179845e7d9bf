"""Regexes of the dialect for Python's `re`, which shows where in a text a field was found."""

from __future__ import annotations

import functools
import re
import warnings

_PIECE = re.compile(
    r"\\.|\[\^?\]?(?:\\.|[^\]\\])*\]|\(\?(?P<on>[a-z]*)(?:-(?P<off>[a-z]+))?(?P<end>[:)])|\(|\)|\$", re.DOTALL
)


@functools.lru_cache(maxsize=4096)
def for_python(regex: str) -> re.Pattern[str]:
    r"""A regex of the dialect compiled by Python's `re` to match as the linear-time engine does.

    `$` is the very end there, and not also before a line end that stands last; `\B` is also in
    empty text.
    """
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        return re.compile(translated(regex))


def translated(regex: str) -> str:
    """A regex of the dialect as Python writes it."""
    many_lines = [False]  # of each group that is open, whether `$` is the end of any line there
    found: list[str] = []
    last = 0
    for piece in _PIECE.finditer(regex):
        found.append(regex[last : piece.start()])
        last = piece.end()
        text = piece[0]
        if piece["end"]:
            now = ("m" in piece["on"] or many_lines[-1]) and "m" not in (piece["off"] or "")
            many_lines = [*many_lines, now] if piece["end"] == ":" else [*many_lines[:-1], now]
        elif text == "(":
            many_lines.append(many_lines[-1])
        elif text == ")" and len(many_lines) > 1:
            many_lines.pop()
        elif text == "$" and not many_lines[-1]:
            text = r"\Z"
        elif text == r"\B":
            text = r"(?:\B|\A\Z)"
        found.append(text)
    return "".join(found) + regex[last:]
