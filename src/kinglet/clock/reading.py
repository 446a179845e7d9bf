"""Stamps to instants: whole columns at a time, in UTC with microseconds."""

from __future__ import annotations

import re
from collections.abc import Callable
from datetime import datetime, timedelta
from typing import NamedTuple

import polars as pl

from kinglet.clock.formats import EPOCH_UNITS, Format

INSTANT = pl.Datetime("us", "UTC")
_NAIVE = pl.Datetime("us")
_OFFSET = re.compile(r"(?:Z|([+-])([0-9]{2}):?([0-9]{2})?)$")
_LEAP_SPAN = 8  # the longest stretch without a 29 February


class TimeReading(NamedTuple):
    """How stamps in one place are read; formats are tried in order."""

    formats: tuple[Format, ...]
    zone: str | None = None
    year: int | None = None


Reference = datetime | pl.Series
"""The moment near which stamps lie, aware and in UTC: one for all of them, or one for each."""


def instants(text: pl.Series, reading: TimeReading, reference: Reference, zone: str | None = None) -> pl.Series:
    """The instants that stamps stand for, null where a stamp cannot be read.

    text: stamps as text. reference: the moment nearest to which a missing year is taken. zone:
    IANA zone for stamps that carry none, where the reading has none.
    Returns a Datetime column of the same length, UTC, microseconds.
    """
    local = reading.zone or zone or "UTC"
    result = pl.Series(text.name, [None], dtype=INSTANT).new_from_index(0, len(text))
    for fmt in reading.formats:
        gaps = (result.is_null() & text.is_not_null()).arg_true()
        if not len(gaps):
            break
        if len(gaps) == len(text):
            result = _read(text, fmt, reading, reference, local).cast(INSTANT)
        else:
            found = _read(text.gather(gaps), fmt, reading, _of(reference, gaps), local)
            result = result.scatter(gaps, found.cast(INSTANT))
    return result


def _of(reference: Reference, rows: pl.Series) -> Reference:
    return reference.gather(rows) if isinstance(reference, pl.Series) else reference


def _read(text: pl.Series, fmt: Format, reading: TimeReading, reference: Reference, zone: str) -> pl.Series:
    if fmt.epoch:
        return _from_epoch(text, fmt.epoch)
    if fmt.text == "iso8601":
        text = text.str.to_uppercase().str.replace(",", ".", literal=True)
    if fmt.fraction:
        text = text.str.replace(*fmt.fraction)
    if fmt.has_year:
        return _from_engine(text, fmt, zone)
    if reading.year is not None:
        return _from_engine(_with_year(text, reading.year), _dated(fmt), zone)
    return _nearest_year(text, _dated(fmt), reference, zone)


def _from_engine(text: pl.Series, fmt: Format, zone: str) -> pl.Series:
    result: pl.Series | None = None
    for directives in fmt.engine:

        def read(part: pl.Series, directives: str = directives) -> pl.Series:
            if "%#z" in directives:
                return _with_offsets(part, directives)
            return localize(part.str.to_datetime(directives, time_unit="us", strict=False), zone)

        result = read(text) if result is None else _filled(result, text, read)
        if result.null_count() == text.null_count():
            break
    assert result is not None
    return result.cast(INSTANT)


def _with_offsets(text: pl.Series, directives: str) -> pl.Series:
    """Stamps that carry an offset. Where all carry the same one, it is read once, which is quicker."""
    first = text.drop_nulls().head(1)
    offset = _OFFSET.search(first.item()) if len(first) and directives.endswith("%#z") else None
    if offset is None or not text.str.ends_with(offset[0]).all():
        return text.str.to_datetime(directives, time_unit="us", strict=False)
    sign = -1 if offset[1] == "-" else 1
    ahead = timedelta(hours=sign * int(offset[2] or 0), minutes=sign * int(offset[3] or 0))
    wall = text.str.to_datetime(directives.removesuffix("%#z") + offset[0], time_unit="us", strict=False)
    return (wall - ahead).dt.replace_time_zone("UTC") if ahead else wall.dt.replace_time_zone("UTC")


def localize(values: pl.Series, zone: str) -> pl.Series:
    """Wall-clock times of a zone to instants.

    Of an hour that occurs twice the first is taken; a time that the clocks skip moves forward by
    what they skipped (RFC 5545, section 3.3.5).
    """
    if zone == "UTC":
        return values.cast(_NAIVE).dt.replace_time_zone("UTC")
    local = values.dt.replace_time_zone(zone, ambiguous="earliest", non_existent="null")
    if local.null_count() > values.null_count():
        later = (values + timedelta(hours=1)).dt.replace_time_zone(zone, ambiguous="earliest", non_existent="null")
        local = local.zip_with(local.is_not_null(), later)
    return local.dt.convert_time_zone("UTC")


def _nearest_year(text: pl.Series, fmt: Format, reference: Reference, zone: str) -> pl.Series:
    """The latest year that puts the instant no more than a day after the reference."""
    if isinstance(reference, pl.Series):
        years = reference.dt.year()
        first, last = int(years.min()), int(years.max())  # type: ignore[arg-type]
    else:
        first = last = reference.year
    result = pl.Series(text.name, [None], dtype=INSTANT).new_from_index(0, len(text))
    for year in range(last + 1, first - _LEAP_SPAN - 1, -1):
        gaps = (result.is_null() & text.is_not_null()).arg_true()
        if not len(gaps):
            break
        values = _from_engine(_with_year(text.gather(gaps), year), fmt, zone)
        near = values <= _of(reference, gaps) + timedelta(days=1)
        result = result.scatter(gaps.filter(near), values.filter(near))
    return result


def _dated(fmt: Format) -> Format:
    return Format(fmt.text, fmt.shape, tuple(f"%Y {directives}" for directives in fmt.engine))


def _with_year(text: pl.Series, year: int) -> pl.Series:
    return f"{year:04} " + text


def _from_epoch(text: pl.Series, unit: str) -> pl.Series:
    micros = EPOCH_UNITS[unit]
    if text.str.contains(".", literal=True).any():
        counts = (text.cast(pl.Float64, strict=False) * (micros or 0.001)).round(0).cast(pl.Int64, strict=False)
    else:
        whole = text.cast(pl.Int64, strict=False)
        limit = (2**62) // max(micros, 1)
        whole = whole.set(whole.abs() > limit, None)
        counts = whole * micros if micros else whole // 1000
    first, last = -62_135_596_800_000_000, 253_402_300_799_999_999  # years 1 to 9999
    return counts.set((counts < first) | (counts > last), None).cast(_NAIVE).dt.replace_time_zone("UTC")


def _filled(result: pl.Series, text: pl.Series, read: Callable[[pl.Series], pl.Series]) -> pl.Series:
    """The result with its gaps read once more; only the gaps cost."""
    gaps = result.is_null() & text.is_not_null()
    count = gaps.sum()
    if not count:
        return result
    if count == len(text):
        return read(text).cast(INSTANT)
    return result.scatter(gaps.arg_true(), read(text.filter(gaps)).cast(INSTANT))
