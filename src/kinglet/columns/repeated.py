"""Columns of repeated values; made from one series, since to make each anew costs more than many a small operation."""

from __future__ import annotations

from collections.abc import Sequence

import polars as pl

_TRUE = pl.Series([True], dtype=pl.Boolean)


def true_of(height: int) -> pl.Series:
    """A mask of so many events, all of them meant."""
    return _TRUE.new_from_index(0, height)


def repeated(values: pl.Series, counts: Sequence[int]) -> pl.Series:
    """Each value as many times as is said, one after the other; there is one at least."""
    runs = [values.slice(i, 1).new_from_index(0, count) for i, count in enumerate(counts)]
    return runs[0] if len(runs) == 1 else pl.concat(runs, rechunk=True)
