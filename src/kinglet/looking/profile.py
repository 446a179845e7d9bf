"""A look at a log, step by step."""

from __future__ import annotations

from dataclasses import replace

from kinglet.discover.anomalies import basics
from kinglet.discover.facts import facts
from kinglet.discover.report import Look
from kinglet.discover.suggestion import beginning, command_text, file_stem
from kinglet.drafting.ready import ready
from kinglet.looking.shapes import shapes_of
from kinglet.source.logs import SAMPLE_BYTES, Given, Source, open_sources

_WORTH_A_WORD = 0.05
"""The share of events that a ready parser must read to be named."""
_LINE_RULES = ("line", "start", "end", "indent", "blank-line", "csv")


def look(*logs: Given, encoding: str | None = None, max_unpacked_bytes: int | None = None) -> list[Look]:
    """Looks at raw logs: a Look for each argument; a folder or glob is looked at as one log.

    Raises:
        InputError: a log cannot be read, or has nothing in it.
    """
    return [_look(open_sources(log, encoding=encoding, max_unpacked_bytes=max_unpacked_bytes), log) for log in logs]


def _look(sources: list[Source], given: Given) -> Look:
    found = facts(sources, given)
    sample, frame, rules = found.sample, found.frame, found.boundaries
    shapes = shapes_of(found)
    records = found.records
    begun = beginning(file_stem(found.name), found)
    stamps = found.stamps.places
    if begun.parted is not None:
        stamps = [begun.parted.told, *(replace(place, is_time=False) for place in stamps)]
    return Look(
        name=found.name,
        files=sample.files,
        looked_at=sample.about,
        whole=sample.whole,
        basics=basics(
            sample,
            found.batches,
            frame,
            contained=records is not None,
            by_lines=next(iter(rules[0].events)) in _LINE_RULES,
        ),
        container=records.container if records else None,
        boundaries=rules,
        events=frame.height,
        stamps=stamps,
        shapes=shapes.shapes,
        shape_count=shapes.total,
        pairs=shapes.pairs,
        suggestion=begun.text,
        command=command_text(found.name),
        ready=ready(sample.text, _WORTH_A_WORD, SAMPLE_BYTES),
    )
