"""What the text of an expression is broken into before anything is read of it, as regexes."""

from __future__ import annotations

QUOTED = r"""'(?:[^']|'')*'|"(?:[^"]|"")*\""""
"""Fixed text, and a name in double quotes."""
WORD = r"[A-Za-z_]\w*(?:\.\w+)*"
