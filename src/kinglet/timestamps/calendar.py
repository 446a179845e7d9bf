"""The proleptic Gregorian calendar and ISO 8601 weeks, by arithmetic on whole columns.

The functions take integers, numpy arrays or Polars series alike.
"""

from __future__ import annotations

from typing import Any

DAY = 86_400_000_000
"""Microseconds of a day."""


def days(year: Any, month: Any, day: Any) -> Any:
    """Days since 1970-01-01, for years from 1 on."""
    early = (14 - month) // 12  # 1 in January and February, which end the year before
    shifted = year - early
    of_year = (153 * (month + 12 * early - 3) + 2) // 5 + day
    return 365 * shifted + shifted // 4 - shifted // 100 + shifted // 400 + of_year - 719_469


def is_leap(year: Any) -> Any:
    return (year % 4 == 0) & ((year % 100 != 0) | (year % 400 == 0))


def exists(year: Any, month: Any, day: Any) -> Any:
    """Whether there is such a day."""
    plain = 30 + (month + month // 8) % 2  # 31 for January, March, May, July, August, …
    fits = (day <= plain) & ((month != 2) | (day <= 28) | ((day == 29) & is_leap(year)))
    return (year >= 1) & (month >= 1) & (month <= 12) & (day >= 1) & fits


def is_clock(hour: Any, minute: Any, second: Any) -> Any:
    """Whether there is such a time of day: up to 23:59:60, and 24:00:00 for the end of a day."""
    return ((hour <= 23) & (minute <= 59) & (second <= 60)) | ((hour == 24) & (minute == 0) & (second == 0))


def seconds(hour: Any, minute: Any, second: Any) -> Any:
    """Seconds since midnight."""
    return hour * 3600 + minute * 60 + second


def weekday(day_number: Any) -> Any:
    """0 for Monday to 6 for Sunday."""
    return (day_number + 3) % 7


def week_start(year: Any) -> Any:
    """The Monday of the first ISO week of a year: that of its 4 January."""
    fourth = days(year, 1 + year * 0, 4)
    return fourth - weekday(fourth)


def days_of_week_date(year: Any, week: Any, day: Any) -> Any:
    """Days since 1970-01-01 of an ISO week date; day is 1 for Monday."""
    return week_start(year) + (week - 1) * 7 + day - 1


def week_exists(year: Any, week: Any, day: Any) -> Any:
    weeks = (week_start(year + 1) - week_start(year)) // 7
    return (year >= 1) & (week >= 1) & (week <= weeks) & (day >= 1) & (day <= 7)
