"""The parts of stamps to days, years and times of day."""

from __future__ import annotations

from typing import Any

import polars as pl

from kinglet.timestamps.calendar import (
    days,
    days_of_week_date,
    exists,
    is_clock,
    is_leap,
    seconds,
    week_exists,
    weekday,
)
from kinglet.timestamps.parts import Parts

_SECOND = 1_000_000
_WEEKDAY_SPAN = 40  # the longest stretch in which a 29 February does not fall on a given weekday


def beyond_of(found: Parts) -> pl.Series | None:
    """Nanoseconds beyond the microsecond, where there are any."""
    if "beyond" in found:
        return found["beyond"].fill_null(0)
    beyond = found["fraction"].fill_null(0) % 1000 if "fraction" in found else None
    return beyond if beyond is not None and (beyond != 0).any() else None


def clock_of(found: Parts) -> tuple[pl.Series, pl.Series]:
    """Microseconds since midnight, and whether there is such a time of day."""
    if "clock" in found:
        return found["clock"], found["clock"].is_not_null()
    any_part = next(iter(found.values()))
    none = pl.Series([0], dtype=pl.Int32).new_from_index(0, len(any_part))

    def part(name: str) -> pl.Series:
        column = found.get(name)
        return none if column is None else column.fill_null(0)

    good = pl.Series([True]).new_from_index(0, len(any_part))
    hour = part("hour")
    if "hour_of_half" in found:
        half, of_half = part("half"), part("hour_of_half")
        hour = of_half % 12 + half
        good = (of_half >= 1) & (of_half <= 12) & (half >= 0)
    minute, second = part("minute"), part("second")
    fraction = part("fraction")
    good = good & is_clock(hour, minute, second)
    clock = seconds(hour, minute, second).cast(pl.Int64) * _SECOND
    if fraction is not none:
        clock = clock + fraction // 1000
        # 24:00:00 is the end of the day (ISO 8601); there is nothing after it
        good = good & ((hour < 24) | (fraction == 0))
    return clock, good


def year_of(found: Parts, pivot: int) -> pl.Series | None:
    for name in ("year", "week_year"):
        if name in found:
            return found[name]
    if "year_of_century" in found:
        year = found["year_of_century"]
        return year + 1900 + 100 * (year < pivot).cast(pl.Int32)
    return None


def weekday_of(found: Parts) -> pl.Series | None:
    """The weekday that stamps name, 0 for Monday; null where they name none."""
    if "weekday_name" in found:
        return found["weekday_name"]
    if "weekday_sunday" in found:
        return (found["weekday_sunday"] + 6) % 7
    if "weekday" in found and "week_year" not in found:
        return found["weekday"] - 1
    return None


def day_of(found: Parts, year: pl.Series) -> tuple[pl.Series, pl.Series]:
    """Days since 1970 of the date in some years, and whether there is such a date."""
    if "week_year" in found:
        week, of_week = found["week"], found["weekday"]
        return days_of_week_date(year, week, of_week), week_exists(year, week, of_week)
    if "day_of_year" in found:
        ordinal = found["day_of_year"]
        day = days(year, year * 0 + 1, ordinal)
        return day, (year >= 1) & (ordinal >= 1) & ((ordinal <= 365) | ((ordinal == 366) & is_leap(year)))
    month = found["month"] if "month" in found else found["month_name"]
    day = found["day"]
    return days(year, month, day), exists(year, month, day)


def latest_existing(
    found: Parts, upper: pl.Series, wanted: pl.Series | None
) -> tuple[pl.Series, pl.Series, pl.Series, pl.Series]:
    """The latest years, from `upper` down, in which the date exists and falls on the weekday wanted.

    Returns the days since 1970, the years, whether a weekday decided, and whether there is such a year.
    """
    year = upper
    by_weekday = pl.Series([False]).new_from_index(0, len(upper))
    # whole columns step back together, by a year where the date or its weekday does not exist
    for _ in range(_WEEKDAY_SPAN):
        day, fits = day_of(found, year)
        wrong = (weekday(day) != wanted).fill_null(False) & fits if wanted is not None else None
        again = ~fits if wrong is None else ~fits | wrong
        if not again.any():
            break
        if wrong is not None:
            by_weekday = by_weekday | wrong
        year = year - again.cast(pl.Int32)
    fits = fits if wrong is None else fits & ~wrong
    return day, year, by_weekday, fits


def last_year(limit: Any, height: int) -> pl.Series:
    """The year of the limit in the zone that is furthest ahead."""
    ahead = limit + 15 * 3600 * _SECOND
    if isinstance(ahead, pl.Series):
        return ahead.cast(pl.Datetime("us")).dt.year().cast(pl.Int32)
    value = pl.Series([ahead], dtype=pl.Int64).cast(pl.Datetime("us")).dt.year().cast(pl.Int32)
    return value.new_from_index(0, height)
