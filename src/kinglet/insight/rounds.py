"""Rounds of work on a parser: what a save changed in what it reads, and what has changed since the work began."""

from __future__ import annotations

from dataclasses import dataclass

import polars as pl

from kinglet.discover.words import counted
from kinglet.insight.comparing import Comparison, compare_events

_FIELDS = 4


@dataclass(frozen=True)
class Round:
    """A round: its number, from 1, and the events by state.

    last, start: what changed since the round before and since the first; nothing in the first.
    """

    number: int
    counts: dict[str, int]
    last: list[str]
    start: list[str]


class Rounds:
    """The rounds so far: the events of the first and of the last."""

    def __init__(self) -> None:
        self.number = 0
        self._first: pl.DataFrame | None = None
        self._last: pl.DataFrame | None = None

    def took(self, events: pl.DataFrame) -> Round:
        """A new round, with the events that the parser reads now."""
        self.number += 1
        if self._first is None or self._last is None:
            self._first = self._last = events
            return Round(self.number, compare_events(events, events).counts[1], [], [])
        last, start = compare_events(self._last, events), compare_events(self._first, events)
        self._last = events
        return Round(self.number, last.counts[1], in_words(last), in_words(start) if self.number > 2 else [])

    def all_in_all(self) -> list[str]:
        """What has changed since the work began."""
        if self._first is None or self._last is None:
            return []
        return in_words(compare_events(self._first, self._last))


def in_words(found: Comparison) -> list[str]:
    """What differs, the most important first, such as `1 no longer complete: line 311`, `12 more complete`."""
    out: list[str] = []
    more = [item for item in found.states if item.now == "complete"]
    less = [item for item in found.states if item.before == "complete"]
    if count := sum(item.events for item in less):
        out.append(f"{count:,} no longer complete: line {less[0].line:,}")
    if count := sum(item.events for item in more):
        out.append(f"{count:,} more complete")
    others = sum(item.events for item in found.states) - sum(item.events for item in (*more, *less))
    if others:
        out.append(f"{counted(others, 'event')} of another state")
    before, now = (counts["events"] for counts in found.counts)
    if now != before:
        out.append(f"{counted(abs(now - before), 'event')} {'more' if now > before else 'less'}")
    elif found.cut:
        out.append(f"{counted(found.cut, 'event')} cut otherwise")
    for item in found.fields[:_FIELDS]:
        said = [
            f"{word} {count:,}"
            for word, count in (("new in", item.gained), ("gone in", item.lost), ("changed in", item.changed))
            if count
        ]
        out.append(f"`{item.name}` {', '.join(said)} (line {item.line:,})")
    if len(found.fields) > _FIELDS:
        out.append(f"{len(found.fields) - _FIELDS} more fields")
    moved = sum(item.events for item in found.variants)
    if moved and not found.states:
        out.append(f"{counted(moved, 'event')} of another variant")
    return out or ["nothing changed"]
