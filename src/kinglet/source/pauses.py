"""What a log that is still being written says between its bytes."""

from __future__ import annotations

from enum import Enum


class Pause(Enum):
    """Nothing more is there for now (SHORT), or nothing has come for the idle time (LONG)."""

    SHORT = "short"
    LONG = "long"


Chunk = bytes | Pause
