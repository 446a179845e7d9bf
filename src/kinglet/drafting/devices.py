"""Whether a log is of one device: its lines by how they begin."""

from __future__ import annotations

import re
from collections import Counter
from typing import NamedTuple

import polars as pl

from kinglet.discover.sample import Sample
from kinglet.timestamps.stamps_in_text import stamps

_PROBE = 2000
_SHARE = 0.1
_FEWEST = 5
_NEAR = 40


class Stretch(NamedTuple):
    """The lines of a log that begin alike. what: how, in words; numbers: those of its lines, 0 where not known."""

    what: str
    text: bytes
    numbers: pl.Series

    @property
    def lines(self) -> int:
        """How many they are."""
        return len(self.numbers)


def devices(sample: Sample) -> list[Stretch]:
    """The parts of a log that begin so differently that they are of several devices, the largest first; or none."""
    lines = sample.lines
    step = max(1, len(lines) // _PROBE)
    counts = Counter(_begins(line) for line in lines.gather_every(step).head(_PROBE) if line.strip())
    known = [what for what, count in counts.items() if what and count >= max(_FEWEST, _SHARE * counts.total())]
    if len(known) < 2:
        return []
    parts: dict[str, list[int]] = {what: [] for what in known}
    now = known[0]
    for i, line in enumerate(lines):
        what = _begins(line)
        now = what if what in parts else now
        parts[now].append(i)
    found = [
        Stretch(what, "".join(f"{line}\n" for line in lines.gather(those)).encode(), sample.numbers.gather(those))
        for what, those in parts.items()
    ]
    return sorted(found, key=lambda one: -one.lines)


def _begins(line: str) -> str:
    """How a line begins, in words; nothing where that tells nothing, as of a line that is indented."""
    if line[:1].isspace():
        return ""
    if line.startswith("{") and line.rstrip().endswith("}"):
        return "JSON objects"
    found = stamps(line[:80])
    if not found or found[0].start > _NEAR:
        return ""
    before = re.sub(r"[^\W\d_]+", "a", re.sub(r"[0-9]+", "9", line[: found[0].start]))
    before = re.sub(r"(\w) +(?=[\])|>])", r"\1", before)  # a word may be filled up with blanks
    if found[0].form.name.startswith("epoch") or len(before) > 12:
        return ""
    return f"lines that begin with a stamp as {found[0].form.name}" + (
        f" behind {before.strip()!r}" if before.strip() else ""
    )
