"""Columns of lists of names, from columns of numbers whose bits stand for them."""

from __future__ import annotations

from collections.abc import Callable

import polars as pl

_LISTS = pl.List(pl.String())


def name_lists(bits: pl.Series, names: Callable[[int], list[str] | None]) -> pl.Series:
    """The names that the bits of each row stand for; few rows differ, so each number is told once."""
    found = bits.unique().sort()
    lists = pl.Series([names(value) for value in found], dtype=_LISTS)
    return lists.new_from_index(0, len(bits)) if len(found) == 1 else lists[found.search_sorted(bits)]
