"""Pieces of pattern that several variants have, as parts with names."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable

_PAIR = re.compile(r"(?<= )(?:[a-z]+ )?\{[a-z_]+:[a-z]+\}(?::| [a-z]+ )\{[a-z_]+:[a-z]+\}(?=[ \]]|$)")
"""Two typed slots side by side, with a word in front: `from {src_ip:ip} port {port:port}`."""
_OFTEN = 3
_MOST = 4


def recurring(patterns: Iterable[str]) -> dict[str, str]:
    """The pieces that recur in patterns, the commonest first, by names for them.

    >>> recurring(f"{verb} by {{user}} from {{src_ip:ip}}:{{src_port:port}}" for verb in ("opened", "shut", "moved"))
    {'from': 'from {src_ip:ip}:{src_port:port}'}
    """
    counts = Counter(piece for pattern in patterns for piece in dict.fromkeys(_PAIR.findall(pattern)))
    out: dict[str, str] = {}
    for piece, count in counts.most_common(_MOST):
        if count < _OFTEN:
            break
        word = re.search("[a-z]+", piece)
        base = word[0] if word else "part"
        name, number = base, 1
        while name in out:
            number += 1
            name = f"{base}_{number}"
        out[name] = piece
    return out


def with_parts(pattern: str, parts: dict[str, str]) -> str:
    """A pattern that refers to parts where it has their text."""
    for name, piece in parts.items():
        pattern = re.sub(rf"(?<= ){re.escape(piece)}(?=[ \]]|$)", f"{{@{name}}}", pattern)
    return pattern
