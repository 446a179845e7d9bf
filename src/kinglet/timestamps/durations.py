"""Lengths of time as text to seconds."""

from __future__ import annotations

import polars as pl

_AMOUNT = r"([0-9]+(?:[.,][0-9]+)?)"
_UNITS = (
    ("days?|d", 86_400.0),
    ("hours?|hrs?|h", 3_600.0),
    ("minutes?|mins?|m", 60.0),
    ("seconds?|secs?|s", 1.0),
    ("milliseconds?|msecs?|ms", 1e-3),
    ("microseconds?|us|µs", 1e-6),
    ("ns", 1e-9),
)
_WORDED = "".join(f"(?:{_AMOUNT} ?(?:{unit}),? ?)?" for unit, _ in _UNITS)
_CLOCK = r"(?:(?:([0-9]+):)?([0-9]+):([0-9]{2}(?:[.,][0-9]+)?))?"
_ISO = rf"P(?:{_AMOUNT}W)?(?:{_AMOUNT}D)?(?:T(?:{_AMOUNT}H)?(?:{_AMOUNT}M)?(?:{_AMOUNT}S)?)?"

_WAYS: tuple[tuple[str, tuple[float, ...]], ...] = (
    (f"^[+-]?{_WORDED}{_CLOCK}$", (*(seconds for _, seconds in _UNITS), 3_600.0, 60.0, 1.0)),
    (f"^[+-]?{_ISO}$", (604_800.0, 86_400.0, 3_600.0, 60.0, 1.0)),
)
"""A regex, and the seconds that one of each of its groups is."""


def seconds(text: pl.Series) -> pl.Series:
    """Seconds as numbers; null where the text is no length of time, or one of years or months, whose length varies."""
    found = pl.Series([None], dtype=pl.Float64).new_from_index(0, len(text))
    for regex, sizes in _WAYS:
        groups = text.str.extract_groups(regex).struct.unnest()
        amounts = [
            groups.to_series(i).str.replace(",", ".", literal=True).cast(pl.Float64, strict=False) * size
            for i, size in enumerate(sizes)
        ]
        total = pl.DataFrame([amount.alias(str(i)) for i, amount in enumerate(amounts)]).select_seq(
            pl.when(pl.any_horizontal(pl.all().is_not_null())).then(pl.sum_horizontal(pl.all()))
        )
        found = found.zip_with(found.is_not_null(), total.to_series())
        if found.null_count() == text.null_count():
            break
    negative = text.str.starts_with("-").fill_null(False)
    return (found.zip_with(~negative, -found) if negative.any() else found).alias(text.name)
