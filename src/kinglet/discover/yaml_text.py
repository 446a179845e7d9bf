"""Values as a parser file writes them on one line."""

from __future__ import annotations

import json
import re
from typing import Any

_PLAIN = re.compile(r"[A-Za-z][A-Za-z0-9_.-]*(?: [A-Za-z0-9_.-]+)*")
_WORDS = frozenset(["null", "true", "false", "yes", "no", "on", "off", "y", "n"])


def scalar(value: Any) -> str:
    """A value as YAML 1.2 within braces: text in quotes where it needs them.

    >>> scalar("m.okoro"), scalar("10"), scalar("it's"), scalar(3.5)
    ('m.okoro', "'10'", "'it''s'", '3.5')
    """
    if value is None:
        return "null"
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, int):
        return str(value)
    if isinstance(value, float):
        return repr(value)
    if isinstance(value, dict):
        return "{" + ", ".join(f"{scalar(key)}: {scalar(item)}" for key, item in value.items()) + "}"
    if isinstance(value, list):
        return "[" + ", ".join(map(scalar, value)) + "]"
    text = str(value)
    if _PLAIN.fullmatch(text) and text.lower() not in _WORDS:
        return text
    return quoted(text)


def quoted(text: str) -> str:
    """Text in quotes: single ones, or where signs in it do not show, double ones with escapes."""
    if text.isprintable():
        return "'" + text.replace("'", "''") + "'"
    out = json.dumps(text, ensure_ascii=False)  # JSON text is a double-quoted scalar of YAML 1.2
    return "".join(char if char.isprintable() else _escape(char) for char in out)


def _escape(char: str) -> str:
    code = ord(char)
    return f"\\u{code:04x}" if code < 0x10000 else f"\\U{code:08x}"
