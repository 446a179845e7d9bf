"""What stands above each variant in an editor: how many events of the sample it reads, how many cases hold."""

from __future__ import annotations

import re
from collections.abc import Mapping
from pathlib import Path
from typing import NamedTuple

import polars as pl

from kinglet.discover.words import counted
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


def cases_of(parser: Parser) -> dict[str, tuple[int, int]]:
    """How many cases of each variant hold, and how many there are."""
    good: dict[str, list[bool]] = {}
    for outcome in check_cases(parser):
        good.setdefault(str(outcome.case.expect.get("variant", "")), []).append(outcome.good)
    return {name: (sum(own), len(own)) for name, own in good.items()}


def lenses(
    text: str, parser: Parser, events: pl.DataFrame | None, cases: Mapping[str, tuple[int, int]] | None = None
) -> list[Lens]:
    """A lens for each variant. cases: those of `cases_of`, where they are known."""
    cases = cases_of(parser) if cases is None else cases
    starts = item_lines(text, "variants")
    counts = dict(events["variant"].drop_nulls().value_counts().iter_rows()) if events is not None else {}
    out = []
    for line, variant in zip(starts, parser._plan.variants, strict=False):
        said = []
        if events is not None:
            said.append(f"{counts.get(variant.name, 0):,} of {events.height:,} events")
        good, own = cases.get(variant.name, (0, 0))
        said.append(f"{good} of {counted(own, 'case')} good" if own else "no case")
        out.append(Lens(line, "; ".join(said)))
    return out
