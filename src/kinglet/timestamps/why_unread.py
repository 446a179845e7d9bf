"""Why a stamp cannot be read."""

from __future__ import annotations

import polars as pl

from kinglet.timestamps.calendar import days, weekday
from kinglet.timestamps.parts import by_regex
from kinglet.timestamps.reading import TimeReading
from kinglet.timestamps.zones import find_zone, means_several

_MONTHS = (
    "January", "February", "March", "April", "May", "June",
    "July", "August", "September", "October", "November", "December",
)  # fmt: skip
_DAYS = ["Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"]


def why(text: str, reading: TimeReading) -> str:
    """What is wrong with a stamp, in a few words."""
    for fmt in reading.formats:
        for form in fmt.forms:
            columns, matched = by_regex(pl.Series([text]), form)
            if matched.item():
                return _wrong({name: column.item() for name, column in columns.items()}, reading)
    return f"is no time in the format {' or '.join(fmt.text for fmt in reading.formats)}"


def _wrong(parts: dict[str, int | str | None], reading: TimeReading) -> str:
    numbers = {name: value for name, value in parts.items() if isinstance(value, int)}
    zone = parts.get("zone")
    if isinstance(zone, str) and find_zone(zone, reading.zones) is None:
        return zone_wrong(zone, reading)
    month = numbers.get("month", numbers.get("month_name", 1))
    day = numbers.get("day", 1)
    if not 1 <= month <= 12:
        return f"has the month {month}" if month >= 0 else "has a month of no known name"
    if not 1 <= day <= 31:
        return f"has the day {day}"
    if numbers.get("hour", 0) > 23 or not 0 <= numbers.get("hour_of_half", 1) <= 12:
        return f"has the hour {numbers.get('hour', numbers.get('hour_of_half'))}"
    for name in ("minute", "second"):
        if numbers.get(name, 0) > 59:
            return f"has the {name} {numbers[name]}"
    if abs(numbers.get("offset", 0)) >= 86_400:
        return "has an offset that no clock has"
    year = numbers.get("year")
    if ("month" in numbers or "month_name" in numbers) and day > _length(month, year):
        return f"has the day {day}, which {_MONTHS[month - 1]}{f' {year}' if year and month == 2 else ''} lacks"
    named = numbers.get("weekday_name")
    if named is not None and year is not None:
        real = int(weekday(days(year, month, day)))
        if named != real:
            return f"is a {_DAYS[real]}" + (f", not a {_DAYS[named]}" if named >= 0 else "")
    return "is a date or time that does not exist"


def zone_wrong(zone: str, reading: TimeReading) -> str:
    """What is wrong with the name of a zone."""
    several = means_several(zone, dict(reading.zones))
    if several:
        texts = [f"{'-' if minutes < 0 else '+'}{abs(minutes) // 60:02}:{abs(minutes) % 60:02}" for minutes in several]
        return f"has the zone `{zone}`, which may mean {', '.join(texts)}; say which under `clock.zones`"
    return f"has the zone `{zone}`, which is not known; say what it means under `clock.zones`"


def _length(month: int, year: int | None) -> int:
    year = 2000 if year is None else year
    return int(days(year + month // 12, month % 12 + 1, 1) - days(year, month, 1))
