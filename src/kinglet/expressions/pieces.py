"""What the text of an expression is broken into before anything is read of it, as regexes."""

from __future__ import annotations

MOST_CHARACTERS = 20_000
"""Of an expression; one of more is refused."""
QUOTED = r"""'(?:[^']|'')*'|"(?:[^"]|"")*\""""
"""Fixed text, and a name in double quotes."""
WORD = r"[A-Za-z_]\w*(?:\.\w+)*"
