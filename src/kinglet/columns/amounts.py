"""Amounts with units whose size changes from event to event, as numbers.

Prefixes are those of the SI and of IEC 80000-13: `k`, `M`, `G` are powers of 1000, `Ki`, `Mi`, `Gi` of 1024.
"""

from __future__ import annotations

import polars as pl

_LETTERS = "kMGTPE"
_DECIMAL = {letter.lower(): 1000.0**i for i, letter in enumerate(_LETTERS, 1)}
_BINARY = {f"{letter.lower()}i": 1024.0**i for i, letter in enumerate(_LETTERS, 1)}
_FACTORS = {"": 1.0, **_DECIMAL, **_BINARY}
AMOUNT = r"[+-]?[0-9]+(?:[.,][0-9]+)?"
BYTES = r"(?:[kKMGTPE]i?)?(?:[Bb]|[Bb]ytes?)"
COUNT = "[kKMGTPE]?"


def whole(text: pl.Series) -> pl.Series:
    """The nearest whole number to an amount, of bytes or of anything; null where it has more than 63 bits."""
    groups = text.str.extract_groups(rf"^({AMOUNT}) ?(?:([kKMGTPE]i?)?(?:[Bb](?:ytes?)?)?)$").struct.unnest()
    number = groups.to_series(0).str.replace(",", ".", literal=True)
    factor = groups.to_series(1).fill_null("").str.to_lowercase().replace_strict(_FACTORS, return_dtype=pl.Float64)
    exact = number.cast(pl.Int64, strict=False).set(factor != 1.0, None)  # a float has 53 bits only
    rounded = (number.cast(pl.Float64, strict=False) * factor).round().cast(pl.Int64, strict=False)
    return exact.zip_with(exact.is_not_null(), rounded).alias(text.name)


def percentage(text: pl.Series) -> pl.Series:
    """The number before a percent sign."""
    number = text.str.strip_suffix("%").str.strip_chars_end(" ").str.replace(",", ".", literal=True)
    return number.cast(pl.Float64, strict=False)
