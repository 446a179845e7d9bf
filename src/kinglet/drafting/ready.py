"""Parsers that exist already and read a log: perhaps nothing needs writing."""

from __future__ import annotations

from kinglet.drafting.report import Ready
from kinglet.parser import load
from kinglet.spec.loading import ready_parsers

_ENOUGH = 0.9
_BYTES = 256 * 1024


def ready(text: bytes) -> list[Ready]:
    """The ready parsers that read nearly all of a text wholly, the best first."""
    part = text if len(text) <= _BYTES else text[: text.rfind(b"\n", 0, _BYTES) + 1] or text[:_BYTES]
    found = []
    for name in ready_parsers():
        counts = load(name).parse(part, workers=1).counts
        if counts["events"] and counts["complete"] >= _ENOUGH * counts["events"]:
            found.append(Ready(name, counts["complete"] / counts["events"]))
    return sorted(found, key=lambda one: -one.complete)
