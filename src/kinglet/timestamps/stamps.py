"""What a column of stamps says: instants in UTC with microseconds, and what is noted of them."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Any, NamedTuple

import polars as pl

from kinglet.timestamps import notes

INSTANT = pl.Datetime("us", "UTC")
Reference = datetime | pl.Series
"""The moment near which stamps lie, aware and in UTC: one for all of them, or one for each."""


def microseconds(reference: Reference) -> Any:
    """The microseconds since 1970 of one moment, or a column of them."""
    if isinstance(reference, pl.Series):
        return reference.cast(INSTANT).to_physical()
    return (reference - datetime(1970, 1, 1, tzinfo=UTC)) // datetime.resolution


class Stamps(NamedTuple):
    """What a column of stamps says.

    time: Datetime, UTC, microseconds; null where a stamp cannot be read. later: the second instant
    of a clock time that occurs twice, where any does. notes: bits of `notes.BIT`. of_day:
    microseconds since midnight of stamps without a date, whose time is null; None where all have
    one. beyond: nanoseconds beyond the microsecond, where any stamp has digits for them.
    """

    time: pl.Series
    notes: pl.Series
    later: pl.Series | None = None
    of_day: pl.Series | None = None
    beyond: pl.Series | None = None

    @property
    def good(self) -> pl.Series:
        """Which stamps could be read."""
        good = self.time.is_not_null()
        return good if self.of_day is None else good | self.of_day.is_not_null()

    def at(self, rows: pl.Series) -> Stamps:
        """The stamps of some rows; a row may occur more than once."""
        plain = (self.notes == 0).all()
        return Stamps(
            self.time[rows],
            notes.none(len(rows)) if plain else self.notes[rows].fill_null(0),
            *(None if column is None else column[rows] for column in self[2:]),
        )
