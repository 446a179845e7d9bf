"""A draft held against its log: which events its variants read, and whether the values are those that stand there."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from typing import NamedTuple

import polars as pl

from kinglet.columns.amounts import whole
from kinglet.drafting.patterns import Slot
from kinglet.drafting.shape import Variant


class Proof(NamedTuple):
    """What came of a sample.

    stolen: of variants, by name, how many of their events each other variant read. missed: events of a variant that no
    variant read. wrong: slots whose values are not those found, by variant.
    """

    stolen: dict[tuple[str, str], int]
    missed: dict[str, int]
    wrong: dict[str, list[Slot]]


def prove(events: pl.DataFrame, variants: Sequence[Variant]) -> Proof:
    """Compares what was read with what was found: rows of variants are those of events."""
    stolen: dict[tuple[str, str], int] = defaultdict(int)
    missed: dict[str, int] = {}
    wrong: dict[str, list[Slot]] = {}
    for variant in variants:
        mine = events[variant.rows]
        for name, count in mine["variant"].value_counts(name="n").iter_rows():
            if name is None:
                missed[variant.name] = count
            elif name != variant.name:
                stolen[variant.name, name] = count
        own = (mine["variant"] == variant.name).fill_null(False)
        if own.any():
            bad = [slot for slot in variant.slots if slot.name and not _agrees(mine, own, slot)]
            if bad:
                wrong[variant.name] = bad
    return Proof(stolen, missed, wrong)


def _agrees(mine: pl.DataFrame, own: pl.Series, slot: Slot) -> bool:
    """Whether the column of a slot has the values that were found, in the rows that its variant read."""
    if slot.name not in mine.columns:
        return all(text is None for text in slot.values)
    got = mine[slot.name].filter(own)
    found = pl.Series(slot.values, dtype=pl.String).filter(own)
    if slot.type == "size":
        wanted = whole(found)
    elif got.dtype.is_numeric():
        wanted = found.cast(got.dtype, strict=False)
    elif got.dtype == pl.String:
        wanted = found
    else:
        return bool((got.is_null() == found.is_null()).all())
    return bool((wanted.eq_missing(got)).all())
