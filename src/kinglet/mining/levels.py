"""Words that say how grave an event is, whole or cut to a few letters, and what they mean."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Mapping

_MOST = 10
_RARE = 0.02
_WORDS = {
    "Fatal": "fatal ftl emerg emergency panic",
    "Critical": "critical crit crt alert",
    "High": "error erro err severe fail",
    "Medium": "warning warn wrn",
    "Low": "notice ntc",
    "Informational": "information informational info inf debug debg dbug dbg trace trce trc verbose fine finer finest "
    "config",
}
MEANINGS: Mapping[str, str] = {word: meant for meant, words in _WORDS.items() for word in words.split()}
"""The severity of the common model that a level is."""
LEVELS = frozenset((*MEANINGS, "audit", "success", "failure"))
LETTERS = {word[0].upper(): word for word in (
    "trace", "verbose", "debug", "info", "notice", "warning", "error", "critical", "alert", "fatal"
)}  # fmt: skip
"""Levels of one letter, and the words that they stand for."""


def are_levels(words: Counter[str], lines: int) -> bool:
    """Whether words, with how many of the lines have them, are levels: those that are no exceptions, or some of all."""
    usual = [word.strip() for word, count in words.items() if count > _RARE * lines]
    if usual and all(word.lower() in LEVELS for word in usual):
        return True
    return some_are_levels({word.strip() for word in words})


def some_are_levels(words: Collection[str]) -> bool:
    """Whether some of few words are levels, and the others written alike: a program has levels of its own name, too.

    All are in capitals, or all are letters.
    """
    if not 1 < len(words) <= _MOST:
        return False
    if all(len(word) == 1 and word.isalpha() for word in words):
        known = sum(word in LETTERS for word in words)
        return known > 1 and 2 * known >= len(words)
    return any(word.lower() in LEVELS for word in words) and all(word.isupper() for word in words)
