"""Whether a log is of one device: its lines by how they begin."""

from __future__ import annotations

import re
from collections import Counter
from typing import NamedTuple

import polars as pl

from kinglet.discover.heads import may_be_times
from kinglet.discover.sample import Sample
from kinglet.timestamps.known_forms import Findable
from kinglet.timestamps.stamps_in_text import Stamp, stamps

_PROBE = 2000
_SHARE = 0.1
_SHARE_OF_OTHER = 0.02
"""Lines with a stamp of another form may be fewer: no text goes on so."""
_FEWEST = 5
_NEAR = 40
_REACH = 80  # characters of a line within which its stamp ends


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
    counts: Counter[_Beginning | None] = Counter()
    said: dict[_Beginning, list[tuple[Findable, str]]] = {}
    for line in lines.gather_every(step).head(_PROBE):
        if line.strip():
            what, stamp = _begins(line)
            counts[what] += 1
            if what is not None and stamp is not None:
                said.setdefault(what, []).append((stamp.form, line[stamp.start : stamp.end]))
    commonest = next((what for what, _ in counts.most_common() if what is not None), None)
    usual = commonest.form if commonest is not None else ""
    known = [
        what
        for what, count in counts.items()
        if what is not None
        and count >= max(_FEWEST, (_SHARE if what.form == usual else _SHARE_OF_OTHER) * counts.total())
        and (not (what in said and commonest in said) or may_be_times(said[what], said[commonest]))
    ]
    if len(known) < 2:
        return []
    parts: dict[_Beginning, list[int]] = {what: [] for what in known}
    now = known[0]
    for i, line in enumerate(lines):
        what, _ = _begins(line)
        now = what if what is not None and what in parts else now
        parts[now].append(i)
    found = [
        Stretch(what.text, "".join(f"{line}\n" for line in lines.gather(those)).encode(), sample.numbers.gather(those))
        for what, those in parts.items()
    ]
    return sorted(found, key=lambda one: -one.lines)


class _Beginning(NamedTuple):
    """How a line begins: the form of its stamp, and what stands before it, its words as `a`."""

    form: str
    before: str

    @property
    def text(self) -> str:
        """The same in words."""
        if not self.before and not self.form:
            return "JSON objects"
        behind = f" behind {self.before!r}" if self.before else ""
        return f"lines that begin with a stamp as {self.form}{behind}"


def _begins(line: str) -> tuple[_Beginning | None, Stamp | None]:
    """How a line begins, and with which stamp; nothing where that tells nothing, as of a line that is indented."""
    if line[:1].isspace():
        return None, None
    if line.startswith("{") and line.rstrip().endswith("}"):
        return _Beginning("", ""), None
    found = stamps(line[:_REACH])
    if not found or found[0].start > _NEAR:
        return None, None
    # what differs in letters and digits alone, or stands for nothing, is a word, and several are as one
    before = re.sub(r" +", " ", line[: found[0].start])
    before = re.sub(r"(?:::)?\w+(?:[.:@/-]+\w+)*|(?<!\S)-(?!\S)", "a", before)
    before = re.sub(r"(\w) +(?=[\])|>])", r"\1", re.sub(r"\ba(?: +a\b)+", "a", before))
    if found[0].form.name.startswith("epoch") or len(before) > 12:
        return None, None
    return _Beginning(found[0].form.name, before.strip()), found[0]
