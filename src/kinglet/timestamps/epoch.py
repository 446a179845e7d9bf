"""Counts since 1970-01-01T00:00:00Z to instants."""

from __future__ import annotations

import polars as pl

from kinglet.columns.put import put
from kinglet.timestamps import notes
from kinglet.timestamps.formats import EPOCH_UNITS, Format
from kinglet.timestamps.stamps import Stamps

FIRST, LAST = -62_135_596_800_000_000, 253_402_300_799_999_999
"""Microseconds of the years 1 to 9999."""
_SIZES = (100_000_000_000, 100_000_000_000_000, 100_000_000_000_000_000)
"""Counts below these are seconds (up to the year 5138), milliseconds, microseconds; those above nanoseconds."""
_UNITS = (1_000_000_000, 1_000_000, 1_000, 1)


def from_epoch(text: pl.Series, fmt: Format) -> Stamps:
    """Instants of counts, whole or decimal; digits below the nanosecond are dropped."""
    nanos = fmt.unit if fmt.unit is not None else EPOCH_UNITS[fmt.text]
    whole, decimals = _split(text)
    count = whole.cast(pl.Int64, strict=False)
    if nanos is not None:
        micros, beyond = _of_unit(count, decimals, whole, nanos)
        bits = notes.none(len(text))
    else:
        bits = notes.where(count.is_not_null(), "unit-by-size")
        micros = pl.Series([None], dtype=pl.Int64).new_from_index(0, len(text))
        beyond = micros.clone()
        size = count.abs()
        for size_of, low, high in zip(_UNITS, (0, *_SIZES), (*_SIZES, 2**63 - 1), strict=True):
            rows = size.is_between(low, high, closed="left").fill_null(False).arg_true()
            if len(rows):
                part = decimals[rows] if decimals is not None else None
                instants, more = _of_unit(count[rows], part, whole[rows], size_of)
                micros = put(micros, rows, instants)
                beyond = put(beyond, rows, more) if more is not None else put(beyond, rows, instants * 0)
    if fmt.origin:
        micros = micros + fmt.origin
    bad = (micros < FIRST) | (micros > LAST)
    if bad.any():
        micros = micros.set(bad.fill_null(False), None)
    time = micros.cast(pl.Datetime("us")).dt.replace_time_zone("UTC")
    if beyond is not None:
        beyond = beyond.cast(pl.Int32) if (beyond != 0).any() else None
    return Stamps(time.rename(text.name), bits, beyond=beyond)


def _split(text: pl.Series) -> tuple[pl.Series, pl.Series | None]:
    """The whole part and the decimals of numbers, as text."""
    if not text.str.contains(".", literal=True).any():
        return text, None
    first = str(text.drop_nulls()[0])
    width = len(first) - 1 - first.find(".")
    # all with as many decimals as the first: two slices in place of a regex
    if "." in first and (text.str.slice(-width - 1, 1) == ".").all() and not text.str.contains("[^0-9.]").any():
        return text.str.head(-width - 1), text.str.tail(width)
    pieces = text.str.extract_groups(r"^(-?[0-9]+)(?:\.([0-9]+))?$").struct.unnest()
    return pieces.to_series(0), pieces.to_series(1)


def _of_unit(
    count: pl.Series, decimals: pl.Series | None, whole: pl.Series, nanos: int
) -> tuple[pl.Series, pl.Series | None]:
    """Microseconds, and nanoseconds beyond them, of counts of one unit."""
    beyond: pl.Series | None = None
    if nanos >= 1000:
        # the product would overflow without a word
        high = (count.abs() > 2**62 // (nanos // 1000)).fill_null(False)
        micros = (count.set(high, None) if high.any() else count) * (nanos // 1000)
    else:
        micros, beyond = count // (1000 // nanos), count % (1000 // nanos) * nanos
    if decimals is not None:
        digits = decimals.str.pad_end(9, "0").str.head(9).cast(pl.Int64, strict=False).fill_null(0)
        seconds, odd = divmod(nanos, 1_000_000_000)
        extra = digits * seconds if not odd else digits * nanos // 1_000_000_000
        negative = whole.str.starts_with("-").fill_null(False)
        # of -1.5 s the half second counts back too
        extra = extra.zip_with(~negative, -extra) if negative.any() else extra
        extra = extra if beyond is None else extra + beyond
        micros, beyond = micros + extra // 1000, extra % 1000
    return micros, beyond
