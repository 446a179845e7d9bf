"""Words that name what stands behind them, such as `Start-Date:` and `ts=`."""

from __future__ import annotations

import re

from kinglet.mining.levels import LEVELS

_LABEL = re.compile(r"""[^\w\s]*([A-Za-z_][A-Za-z_. -]*)["']?\s*[:=]""")


def is_label(word: str | None) -> bool:
    """Whether a text is a label.

    How grave an event is (`WARN:`) names nothing, nor does what has numbers (`app[7]:`).
    """
    match = _LABEL.fullmatch(word) if word is not None else None
    return match is not None and match[1].lower() not in LEVELS
