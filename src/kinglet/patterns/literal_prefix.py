"""Patterns that are the same but for the fixed text they begin with.

Of many messages of a log often some differ in their first words only: `user added by {who}`, `user removed by {who}`.
What stands behind these words is then one regex for all of them, and the words are a comparison.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

from kinglet.patterns.compiling import to_regexes
from kinglet.patterns.grammar import Blank, Literal, Token
from kinglet.patterns.types import TYPES, SlotType


class LiteralPrefix(NamedTuple):
    """text: what a message may begin with, each run of blanks a single one; regex: for all that follows.

    Where a text begins so and the regex matches behind it, both together are the match of the whole pattern. Other
    texts may match the pattern all the same.
    """

    text: str
    regex: str


def literal_prefix_of(
    tokens: tuple[Token, ...], times: Mapping[str, str], types: Mapping[str, SlotType] = TYPES
) -> LiteralPrefix | None:
    r"""The literal prefix of a pattern; None where it begins with a slot, or is nothing but text.

    times and types are as for `to_regexes`.

    >>> from kinglet.patterns.grammar import parse
    >>> literal_prefix_of(parse("pump stopped  after {s:int}s"), {})
    LiteralPrefix(text='pump stopped after', regex='^[ \\t]+(?P<s>[+-]?[0-9]+)s[ \\t]*$')
    """
    count = next((i for i, token in enumerate(tokens) if not isinstance(token, (Literal, Blank))), len(tokens))
    # the blanks before a slot belong to what follows: in a log there may be more of them
    while count and isinstance(tokens[count - 1], Blank):
        count -= 1
    if not count or count == len(tokens):
        return None
    text = "".join(token.text if isinstance(token, Literal) else " " for token in tokens[:count])
    return LiteralPrefix(text, to_regexes(tokens[count:], times, types)[0])
