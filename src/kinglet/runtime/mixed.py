"""Events of one log as several parsers read them."""

from __future__ import annotations

import functools
from dataclasses import dataclass, replace

import polars as pl

from kinglet.plan.data import ROW
from kinglet.runtime.parsed import Parsed, total_of
from kinglet.source.logs import Source


@dataclass(frozen=True)
class Mixed:
    """A batch of events as several parsers read them; the parts of each have rows of the whole batch."""

    by_parser: tuple[Parsed, ...]
    bytes_read: int

    @functools.cached_property
    def counts(self) -> dict[str, int]:
        """Events by state; the states add up to `events`."""
        return total_of(parsed.counts for parsed in self.by_parser)

    @property
    def dropped(self) -> dict[str, int]:
        """Dropped events by the reason of the step that dropped them."""
        found: dict[str, int] = {}
        for parsed in self.by_parser:
            for reason, count in parsed.dropped.items():
                found[reason] = found.get(reason, 0) + count
        return found

    @property
    def sources(self) -> tuple[Source, ...]:
        """The logs that the events come from."""
        return tuple({id(source): source for parsed in self.by_parser for source in parsed.sources}.values())

    def add_counts(self, counts: dict[str, dict[str, int]]) -> None:
        """Adds the events to counts by parser."""
        for parsed in self.by_parser:
            parsed.add_counts(counts)

    def add_by_log(self, found: dict[str, dict[str, int]]) -> None:
        """Adds the events to numbers by log, and in each by parser."""
        for parsed in self.by_parser:
            parsed.add_by_log(found)

    def header_of(self, file: str, line: int) -> str | None:
        """The header that names the columns of the event at a line of a log, where it has one."""
        each = (parsed.header_of(file, line) for parsed in self.by_parser)
        return next((found for found in each if found is not None), None)

    def head(self, most: int) -> Mixed:
        """The first events of the batch, in the order of the log."""
        if self.counts["events"] <= most:
            return self
        rows = pl.concat([part.frame[ROW] for parsed in self.by_parser for part in parsed.parts]).sort().head(most)
        shortened = (parsed.of_rows(rows) for parsed in self.by_parser)
        return replace(self, by_parser=tuple(parsed for parsed in shortened if parsed.parts))

    def kept(self) -> Mixed:
        """The same without dropped events."""
        return replace(self, by_parser=tuple(parsed.kept() for parsed in self.by_parser))
