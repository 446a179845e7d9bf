"""What is noted of an instant that the text alone does not give."""

from __future__ import annotations

from typing import NamedTuple

import polars as pl

from kinglet.columns.named_bits import name_lists


class Note(NamedTuple):
    name: str
    about: str


NOTES = (
    Note("year-nearest", "no year in the text; the one nearest to the log's reference"),
    Note("year-by-weekday", "no year in the text; the last one in which its weekday fits"),
    Note("hour-twice-first", "the clocks go back and the hour occurs twice; the first is taken"),
    Note("hour-twice-second", "the hour occurs twice; the order of the log shows the second"),
    Note("hour-skipped", "the clocks go forward over this time; moved forward"),
    Note("leap-second", "a second 60; the second after it is taken"),
    Note("unit-by-size", "the unit of the count is taken from its size"),
    Note("date-of-previous", "no date in the text; that of the event before, or the day after it"),
    Note("date-of-name", "no date in the text; that in the name of the log, or a day after it"),
    Note("date-nearest", "no date in the text; the one nearest to the log's reference"),
    Note("date-of-event", "no date in the text; the one nearest to the event's time"),
    Note("time-of-previous", "no stamp that can be read; the time of the event before"),
    Note("time-of-log", "no stamp that can be read; the reference of the log"),
    Note("no-time-of-day", "no time of day in the text; midnight is taken"),
)
BIT = {note.name: 1 << i for i, note in enumerate(NOTES)}
"""The bit of each note in a column of notes."""

DTYPE = pl.UInt16()


def none(height: int) -> pl.Series:
    return pl.Series([0], dtype=DTYPE).new_from_index(0, height)


def where(mask: pl.Series, name: str) -> pl.Series:
    """The note where mask is true."""
    return mask.fill_null(False).cast(DTYPE) * BIT[name]


def named(bits: int) -> list[str]:
    return [note.name for note in NOTES if bits & BIT[note.name]]


def lists(bits: pl.Series, of: str = "") -> pl.Series:
    """The names of each row's notes, null where there is none; of: a field that they are about."""
    return name_lists(bits, lambda value: [of + name for name in named(value)] or None)


def joined(lists: list[pl.Series]) -> pl.Series:
    """Columns of lists of notes as one; null where an event has none."""
    if len(lists) == 1:
        return lists[0]
    frame = pl.DataFrame([column.alias(str(i)) for i, column in enumerate(lists)])
    every = pl.concat_list(pl.col(name).fill_null([]) for name in frame.columns)
    return frame.select_seq(pl.when(every.list.len() > 0).then(every)).to_series()
