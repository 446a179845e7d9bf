"""Regexes that a linear-time engine cannot run, and searches that end in time whatever the regex.

Look-around, back-references, atomic groups, possessive repeats and conditions need an engine that goes back, whose time
can grow without bounds on a text made to hurt it. So every such search has a budget.
"""

from __future__ import annotations

import functools
import re
import time
import warnings
from typing import Any

from kinglet.regex.for_python import for_python, translated

BUDGET = 0.1
"""Seconds that a slow regex may take on one event."""
_SHORT = 2000  # speed
_FEW = 2  # speed

_PIECE = re.compile(
    r"\\(?P<digit>[1-9])|\\.|\[\^?\]?(?:\\.|[^\]\\])*\]|\(\?(?P<group>[=!>(]|<[=!]|P=)"
    r"|(?:[*+?]|\{\d*,?\d*\})(?P<possessive>\+)",
    re.DOTALL,
)
_REPEAT = re.compile(
    r"\\.|\[\^?\]?(?:\\.|[^\]\\])*\]|(?P<repeat>[*+]|\{\d+,\d*\})|(?P<nested>\))(?:[*+]|\{\d)", re.DOTALL
)
_NAMES = {
    "=": "look-around", "!": "look-around", "<=": "look-around", "<!": "look-around",
    ">": "an atomic group", "(": "a condition", "P=": "a back-reference",
}  # fmt: skip


@functools.lru_cache(maxsize=4096)
def why_slow(regex: str) -> str | None:
    """What a regex has that a linear-time engine cannot run; None where it has nothing of the kind.

    >>> why_slow(r"(?<!un)locked")
    'look-around'
    """
    for piece in _PIECE.finditer(regex):
        if piece["group"]:
            return _NAMES[piece["group"]]
        if piece["digit"]:
            return "a back-reference"
        if piece["possessive"]:
            return "a possessive repeat"
    return None


@functools.lru_cache(maxsize=1024)
def _compiled(regex: str) -> Any:
    import regex as engine

    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        # V0 reads regexes as the standard library does; V1 has set operations, which are other regexes
        return engine.compile(translated(regex), engine.V0)


def search(regex: str, text: str, seconds: float = BUDGET) -> Any:
    """The first match of a regex of the dialect, also of a slow one, or None.

    Raises:
        TimeoutError: it took longer than that.
    """
    # the engine with a timeout costs ten times as much to start a search
    if why_slow(regex) is None and _is_harmless(regex, len(text)):
        return for_python(regex).search(text)
    return _compiled(regex).search(text, timeout=seconds)


@functools.lru_cache(maxsize=4096)
def _repeats(regex: str) -> int:
    """How many repeats without an end a regex has; many where one stands in another."""
    count = 0  # speed
    for piece in _REPEAT.finditer(regex):
        count += piece["repeat"] is not None
        # a repeated group can take time that doubles with each character, so one is too many
        count += (_FEW + 1) * (piece["nested"] is not None)
    return count


def _is_harmless(regex: str, length: int) -> bool:
    """Whether an engine that goes back cannot take long over so long a text."""
    return length <= _SHORT and _repeats(regex) <= _FEW  # speed


class Budget:
    """Time for several searches together."""

    def __init__(self, seconds: float = BUDGET) -> None:
        self.end = time.perf_counter() + seconds

    @property
    def remaining(self) -> float:
        """Seconds that are left; never none at all, since a search without a budget would have no end."""
        return max(self.end - time.perf_counter(), 0.001)
