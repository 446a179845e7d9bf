"""What a batch of events became."""

from __future__ import annotations

import dataclasses
import functools
from collections.abc import Iterable, Mapping
from dataclasses import dataclass

import polars as pl

from kinglet.columns.put import rows_where
from kinglet.cutting.header_lines import HEADER
from kinglet.plan.data import DROPPED, ROW, STATES, Plan
from kinglet.source.logs import Source
from kinglet.timestamps.stamps import Reference


@dataclass(frozen=True)
class VariantEvents:
    """The events of a batch that took the same variant, None where none matched.

    frame has ROW, the event's place in its batch, and all columns that these events have.
    """

    variant: int | None
    frame: pl.DataFrame

    def where(self, mask: pl.Series) -> VariantEvents:
        """Some of the events."""
        return VariantEvents(self.variant, rows_where(self.frame, mask))


@dataclass(frozen=True)
class Parsed:
    """A parsed batch: its parts together are all its events."""

    plan: Plan
    sources: tuple[Source, ...]
    parts: tuple[VariantEvents, ...]
    bytes_read: int
    reference: Reference
    """The moment near which stamps lie: of the log, or where there are several, of each of them."""

    @functools.cached_property
    def counts(self) -> dict[str, int]:
        """Events by state; the states add up to `events`."""
        found = dict.fromkeys(STATES, 0)
        if self.parts:
            states = pl.concat([part.frame["state"] for part in self.parts])
            found |= dict(states.value_counts().iter_rows())
        return {"events": sum(found.values()), **found}

    @functools.cached_property
    def dropped(self) -> dict[str, int]:
        """Dropped events by the reason of the step that dropped them."""
        found: dict[str, int] = {}
        if not self.counts["dropped"]:
            return found
        for part in self.parts:
            faults = part.frame.filter(pl.col("state") == "dropped")["faults"].explode()
            for fault, count in faults.filter(faults.str.starts_with(DROPPED)).value_counts().iter_rows():
                reason = fault.removeprefix(DROPPED)
                found[reason] = found.get(reason, 0) + count
        return dict(sorted(found.items(), key=lambda item: (-item[1], item[0])))

    def add_counts(self, counts: dict[str, dict[str, int]]) -> None:
        """Adds the events to counts by parser."""
        mine = counts.get(self.plan.parser, {})
        counts[self.plan.parser] = total_of([mine, self.counts])

    def add_by_log(self, found: dict[str, dict[str, int]]) -> None:
        """Adds the events to numbers by log, and in each by parser."""
        for part in self.parts:
            if "#source" in part.frame.columns:
                counts = part.frame["#source"].value_counts().rows()
            else:
                counts = [(0, part.frame.height)]
            for place, count in counts:
                of_log = found.setdefault(self.sources[place].name, {})
                of_log[self.plan.parser] = of_log.get(self.plan.parser, 0) + count

    def head(self, most: int) -> Parsed:
        """The first events of the batch, in the order of the log."""
        if self.counts["events"] <= most:
            return self
        return self.of_rows(pl.concat([part.frame[ROW] for part in self.parts]).sort().head(most))

    def of_rows(self, rows: pl.Series) -> Parsed:
        """Only the events of some rows of the batch."""
        parts = (part.where(part.frame[ROW].is_in(rows.implode())) for part in self.parts)
        return dataclasses.replace(self, parts=tuple(part for part in parts if part.frame.height))

    def kept(self) -> Parsed:
        """The same without dropped events."""
        if not self.counts["dropped"]:
            return self
        parts = tuple(part.where(part.frame["state"] != "dropped") for part in self.parts)
        return dataclasses.replace(self, parts=parts)

    def header_of(self, file: str, line: int) -> str | None:
        """The header that names the columns of the event at a line of a log, where it has one and the event is here."""
        for place, source in enumerate(self.sources):
            if source.name != file:
                continue
            if source.header is not None:
                return source.header
            for part in self.parts:
                if HEADER in part.frame.columns:
                    here = pl.col("line") == line
                    here &= pl.col("#source") == place if "#source" in part.frame.columns else True
                    for found in part.frame.filter(here)[HEADER]:
                        return str(found) if found is not None else None
        return None

    def constants(self) -> list[pl.Expr]:
        """The columns that say where events come from and who parsed them."""
        return [
            self._of_source([source.name for source in self.sources]).alias("file"),
            pl.lit(self.plan.parser).alias("parser"),
            pl.lit(self.plan.version).alias("version"),
            pl.concat_str(
                self._of_source([f"{source.fingerprint}-" for source in self.sources]), pl.col("offset")
            ).alias("id"),
        ]

    def _of_source(self, values: list[str]) -> pl.Expr:
        """What the log has that an event comes from."""
        if len(values) == 1:
            return pl.lit(values[0])
        return pl.lit(pl.Series(values)).gather(pl.col("#source"))

    def references(self, part: VariantEvents) -> Reference:
        """The reference of every event of a part."""
        if isinstance(self.reference, pl.Series):
            return self.reference[part.frame["#source"]]
        return self.reference

    def in_order(self, frames: list[pl.DataFrame]) -> pl.DataFrame:
        """Frames of the parts, each with ROW, put together again as the events stood in the log."""
        whole = frames[0] if len(frames) == 1 else pl.concat(frames, how="diagonal")
        return (whole if whole[ROW].is_sorted() else whole.sort(ROW)).drop(ROW)

    def events(self) -> pl.DataFrame:
        """All events as one frame with the columns of `Plan.schema`."""
        if not self.parts:
            return pl.DataFrame(schema=self.plan.schema)
        frame = self.in_order([part.frame for part in self.parts]).with_columns_seq(self.constants())
        missing = [
            pl.lit(None, dtype=dtype).alias(name)
            for name, dtype in self.plan.fields.items()
            if name not in frame.columns
        ]
        return frame.with_columns_seq(missing).select_seq(list(self.plan.schema))


def total_of(counts: Iterable[Mapping[str, int]]) -> dict[str, int]:
    """Counts of events by state, added up."""
    total = dict.fromkeys(("events", *STATES), 0)
    for by_state in counts:
        for state, count in by_state.items():
            total[state] += count
    return total
