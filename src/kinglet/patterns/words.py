"""Types of slots whose text is one of some words: `{direction:in|out}`."""

from __future__ import annotations

import re

from kinglet.patterns.compiling import escape
from kinglet.patterns.types import SlotType, own_type


def words_type(name: str, words: tuple[str, ...]) -> SlotType:
    """The type of a slot; words: as the pattern has them, some in double quotes. A blank matches a run of blanks."""
    words = tuple(word.strip('"') for word in words)
    # of words of which one begins another, the longer has to be tried first
    longest = sorted(words, key=len, reverse=True)
    regex = "|".join("[ \t]+".join(map(escape, re.split("[ \t]+", word))) for word in longest)
    return own_type(name, regex, "text", "one of " + ", ".join(f"`{word}`" for word in words))
