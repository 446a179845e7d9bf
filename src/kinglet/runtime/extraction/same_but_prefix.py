"""Variants that are the same but for the fixed text they open with: their events are read by one regex."""

from __future__ import annotations

from collections.abc import Hashable, Sequence

import polars as pl

from kinglet.columns.repeated import repeated
from kinglet.plan.data import VariantPlan

_BEHIND = (
    pl.when(pl.col("text").str.starts_with(pl.col("opening")))
    .then(pl.col("text").str.strip_prefix(pl.col("opening")))
    .alias("text")
)


def alike(variants: Sequence[VariantPlan]) -> tuple[int, ...]:
    """A number for each variant, the same for those that differ in nothing but their opening."""
    numbers: dict[Hashable, int] = {}
    return tuple(numbers.setdefault(_alike_by(variant) or i, i) for i, variant in enumerate(variants))


def _alike_by(variant: VariantPlan) -> Hashable:
    reading = variant.reading
    # structure, text kept for variants, and a budget belong to one variant; only the plain ones can be put together
    if reading.literal_prefix is None or reading.structures or reading.onward or reading.budget is not None:
        return None
    return reading.literal_prefix.regex, reading.fields, reading.always, variant.source, variant.keeps_body


def behind_prefixes(text: pl.Series, openings: Sequence[str], counts: Sequence[int]) -> pl.Series:
    """What follows its opening in each text, null where it begins otherwise; counts: how many have the same opening."""
    prefixes = repeated(pl.Series("opening", openings, dtype=pl.String), counts)
    return pl.DataFrame([text.alias("text"), prefixes]).select_seq(_BEHIND).to_series()
