"""What is wrong with some of the events that a column stands for."""

from __future__ import annotations

import polars as pl

from kinglet.columns.named_bits import name_lists

Faults = list[tuple[str, pl.Series]]
"""Faults by name, each with a mask of the events that have it; the masks are as long as the columns."""
_AT_ONCE = 60  # bits of a number


def fault_lists(faults: Faults) -> pl.Series:
    """The names of what is wrong with each event, in the order of the faults; there is one at least."""
    lists = [_named(faults[start : start + _AT_ONCE]) for start in range(0, len(faults), _AT_ONCE)]
    if len(lists) == 1:
        return lists[0]
    frame = pl.DataFrame([column.alias(str(i)) for i, column in enumerate(lists)])
    return frame.select_seq(pl.concat_list(pl.all()).alias("faults")).to_series()


def _named(faults: Faults) -> pl.Series:
    bits = pl.Series([0], dtype=pl.Int64).new_from_index(0, len(faults[0][1]))
    for i, (_, mask) in enumerate(faults):
        bits = bits + mask.fill_null(False).cast(pl.Int64) * (1 << i)
    return name_lists(bits, lambda value: [name for i, (name, _) in enumerate(faults) if value >> i & 1]).alias(
        "faults"
    )
