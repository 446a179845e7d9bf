"""What stands above each variant in an editor: how many events of the sample it reads, how many cases hold."""

from __future__ import annotations

import re
from pathlib import Path
from typing import NamedTuple

import polars as pl

from kinglet.editor.where import item_lines
from kinglet.errors import KingletError
from kinglet.insight.cases import check_cases
from kinglet.parser import Parser

_SAMPLE = re.compile(r"^#\s*sample:\s*(\S.*?)\s*$", re.MULTILINE)
MOST = 20_000
"""Events of a sample that are read while one types."""


class Lens(NamedTuple):
    """A text above a line, from 0."""

    line: int
    text: str


def sample_of(text: str, name: str, setting: str | None = None) -> Path | None:
    """The sample of a parser file: that of its comment `# sample: PATH`, or of the client's settings."""
    match = _SAMPLE.search(text)
    chosen = match[1] if match else setting
    if not chosen:
        return None
    path = Path(name).parent / chosen
    return path if path.exists() else None


def sampled_events(parser: Parser, path: Path) -> pl.DataFrame | None:
    """What a parser reads of a sample; none where it cannot be read."""
    try:
        return parser.parse(path, limit=MOST).events
    except KingletError:
        return None


def lenses(text: str, parser: Parser, events: pl.DataFrame | None) -> list[Lens]:
    """A lens for each variant."""
    starts = item_lines(text, "variants")
    counts = dict(events["variant"].drop_nulls().value_counts().iter_rows()) if events is not None else {}
    good: dict[str, list[bool]] = {}
    for outcome in check_cases(parser):
        expected = str(outcome.case.expect.get("variant", ""))
        good.setdefault(expected, []).append(outcome.good)
    out = []
    for line, variant in zip(starts, parser._plan.variants, strict=False):
        said = []
        if events is not None:
            said.append(f"{counts.get(variant.name, 0):,} of {events.height:,} events")
        own = good.get(variant.name, [])
        said.append(f"{sum(own)} of {len(own)} cases good" if own else "no case")
        out.append(Lens(line, "; ".join(said)))
    return out
