"""Words that name what stands behind them, such as `Start-Date:` and `ts=`."""

from __future__ import annotations

import re

_GRAVE = re.compile(
    "(?:trace|debug|info|information|notice|warn|warning|err|error|crit|critical|alert|emerg|emergency|fatal|severe):",
    re.IGNORECASE,
)


_LABEL = re.compile(r"""[^\w\s]*[A-Za-z_][A-Za-z_. -]*["']?\s*[:=]""")


def is_label(word: str | None) -> bool:
    """Whether a text is a label.

    How grave an event is (`WARN:`) names nothing, nor does what has numbers (`app[7]:`).
    """
    return word is not None and _LABEL.fullmatch(word) is not None and _GRAVE.fullmatch(word) is None
