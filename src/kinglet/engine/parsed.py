"""What a batch of events became."""

from __future__ import annotations

import functools
from dataclasses import dataclass
from datetime import datetime

import polars as pl

from kinglet.engine.plan import STATES, Plan
from kinglet.raw.sources import Source


@dataclass(frozen=True)
class Part:
    """The events of a batch that took the same variant, None where none matched.

    frame has `row`, the event's place in its batch, and all columns that these events have.
    """

    variant: int | None
    frame: pl.DataFrame


@dataclass(frozen=True)
class Parsed:
    """A parsed batch: its parts together are all its events."""

    plan: Plan
    source: Source
    parts: tuple[Part, ...]
    bytes_read: int
    reference: datetime
    """The moment near which the log's stamps lie."""

    @functools.cached_property
    def counts(self) -> dict[str, int]:
        """Events by state; the states add up to `events`."""
        found = dict.fromkeys(STATES, 0)
        for part in self.parts:
            for state, count in part.frame["state"].value_counts().iter_rows():
                found[state] += count
        return {"events": sum(found.values()), **found}

    def constants(self) -> list[pl.Expr]:
        """The columns that say where events come from and who parsed them."""
        return [
            pl.lit(self.source.name).alias("file"),
            pl.lit(self.plan.parser).alias("parser"),
            pl.lit(self.plan.version).alias("version"),
            pl.concat_str(pl.lit(f"{self.source.fingerprint}-"), pl.col("offset")).alias("id"),
        ]

    def in_order(self, frames: list[pl.DataFrame]) -> pl.DataFrame:
        """Frames of the parts, each with `row`, put together again as the events stood in the log."""
        if len(frames) == 1:
            return frames[0].drop("row")
        return pl.concat(frames, how="diagonal").sort("row").drop("row")

    def events(self) -> pl.DataFrame:
        """All events as one frame with the columns of `Plan.schema`."""
        frame = self.in_order([part.frame for part in self.parts]).with_columns(self.constants())
        missing = [
            pl.lit(None, dtype=dtype).alias(name)
            for name, dtype in self.plan.fields.items()
            if name not in frame.columns
        ]
        return frame.with_columns(missing).select(list(self.plan.schema))
