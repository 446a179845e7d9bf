"""Parsers that exist already and read a log: perhaps nothing needs writing."""

from __future__ import annotations

from kinglet.discover.report import Ready
from kinglet.parser import load_text
from kinglet.spec.ready import ready_parsers

NEARLY_ALL = 0.9
_BYTES = 256 * 1024


def ready(text: bytes, enough: float = NEARLY_ALL, most: int = _BYTES) -> list[Ready]:
    """The ready parsers that read so large a share of a text wholly, the best first.

    most: so many bytes of it are looked at.
    """
    part = text if len(text) <= most else text[: text.rfind(b"\n", 0, most) + 1] or text[:most]
    found = []
    for name, path in ready_parsers().items():
        parser = load_text(_without_cases(path.read_text("utf-8")), str(path))
        claims = parser._definition.claims
        texts = (claims.contains or []) if claims is not None else []
        claimed = next((one for one in texts if one.encode() in part), None)
        if texts and claimed is None:
            continue  # it says itself that the log is none of its own
        counts = parser.parse(part, workers=1).counts
        if counts["events"] and counts["complete"] >= max(enough * counts["events"], 1):
            found.append(Ready(name, counts["complete"] / counts["events"], claimed))
    return sorted(found, key=lambda one: -one.complete)


def _without_cases(text: str) -> str:
    """The text of a parser file up to its cases, which are most of it and say nothing of another log."""
    return text.split("\ncases:\n")[0] + "\n"
