"""Text of strangers as people may see it."""

from __future__ import annotations

_VISIBLE: dict[int, str | int] = {
    **{code: 0x2400 + code for code in range(32) if code not in (9, 10)},
    9: " ",
    127: 0x2421,
    # what a terminal obeys beyond ASCII, what turns the direction of text, and what has no width
    **dict.fromkeys((*range(0x80, 0xA0), 0xAD, 0x61C, 0x180E, 0xFEFF, 0x2028, 0x2029), "\ufffd"),
    **dict.fromkeys((*range(0x200B, 0x2010), *range(0x202A, 0x202F), *range(0x2060, 0x2070)), "\ufffd"),
    **dict.fromkeys((*range(0xD800, 0xE000), *range(0xFFF0, 0xFFFC), *range(0xE0000, 0xE0080)), "\ufffd"),
}


def visible(text: str) -> str:
    """Control characters as their pictures (Unicode block Control Pictures), one for one; tabs as blanks.

    Characters beyond ASCII that a terminal obeys, that turn the direction of text or have no width are U+FFFD.
    """
    return text.translate(_VISIBLE)
