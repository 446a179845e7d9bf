"""Wall clocks to UTC: offsets, zone names and abbreviations, and the hours that clocks repeat or skip."""

from __future__ import annotations

import functools
import re
import zoneinfo
from collections.abc import Mapping
from datetime import UTC, datetime, timedelta
from typing import NamedTuple

import polars as pl

from kinglet.timestamps import notes
from kinglet.timestamps.abbreviations import OFFSETS, SEVERAL
from kinglet.timestamps.calendar import DAY, days

_OFFSET = re.compile(r"([+-])([0-9]{2}):?([0-9]{2})?")
_FROM_UTC = re.compile(r"(?i:UTC|GMT)([+-])(0?[0-9]|1[0-4])(?::?([0-5][0-9]))?")
"""An offset behind the name of what it is from, with the sign that ISO 8601 gives it; `Etc/GMT+1` has the other."""
_SECOND = 1_000_000
_FIRST_YEAR, _LAST_YEAR = 2, 9998  # those at the edge of the calendar have the clocks of these


_UNCHANGING = re.compile(r"(?:Etc/)?(?:UTC|UCT|Zulu|Universal|Greenwich|GMT[+-]?0?)|Etc/GMT[+-][0-9]{1,2}")
"""IANA zones whose offset has never changed, by definition."""


class Zone(NamedTuple):
    """An offset from UTC in microseconds, or the name of an IANA zone."""

    offset: int = 0
    name: str | None = None


class Instants(NamedTuple):
    """Wall clocks in UTC.

    time: microseconds since 1970. later: the second reading where an hour occurs twice, otherwise
    null; None where no hour does. notes: bits of `notes.BIT`.
    """

    time: pl.Series
    later: pl.Series | None
    notes: pl.Series


class ZoneChange(NamedTuple):
    """A moment at which a zone's offset changes, all in microseconds."""

    at: int
    before: int
    after: int


@functools.lru_cache(4096)
def is_zone(name: str) -> bool:
    if re.fullmatch(r"[A-Za-z][A-Za-z0-9_+-]*(?:/[A-Za-z0-9_+-]+){0,2}", name) is None or len(name) > 64:
        return False  # no path leads out of the database
    try:
        zoneinfo.ZoneInfo(name)
        # the engine lacks a few names of the database, such as Factory, which are no places
        pl.Series([0], dtype=pl.Datetime("us", "UTC")).dt.convert_time_zone(name)
    except (zoneinfo.ZoneInfoNotFoundError, ValueError, OSError, pl.exceptions.PolarsError):
        return False
    return True


@functools.lru_cache(4096)
def find_zone(text: str, table: tuple[tuple[str, str], ...] = ()) -> Zone | None:
    """The zone that a text means: an offset, an abbreviation or an IANA name; None where it means none, or several.

    table: abbreviations of the parser, which stand over the built-in ones.
    """
    own = dict(table).get(text.upper())
    # `zones: {CET: CET}` means the built-in one; to look it up in the table again would have no end
    if own is not None and own.upper() != text.upper():
        return find_zone(own)
    match = _OFFSET.fullmatch(text) or _FROM_UTC.fullmatch(text)
    if match is not None:
        minutes = int(match[2]) * 60 + int(match[3] or 0)
        return Zone((-minutes if match[1] == "-" else minutes) * 60 * _SECOND)
    name = text.upper()
    if name in SEVERAL:
        return None
    if name in OFFSETS:
        return Zone(OFFSETS[name] * 60 * _SECOND)
    return Zone(name=text) if is_zone(text) else None


def configured_zone(text: str, table: tuple[tuple[str, str], ...] = ()) -> Zone | None:
    """The zone that a parser or a call names for stamps that carry none.

    The IANA database has zones called CET or EST5EDT, whose clocks change; in a stamp the same letters are an offset.
    """
    if text.upper() not in dict(table) and _OFFSET.fullmatch(text) is None and is_zone(text):
        if _UNCHANGING.fullmatch(text):  # such a log needs no order, and no look at the database for each stamp
            fixed = zoneinfo.ZoneInfo(text).utcoffset(datetime(2000, 1, 1)) or timedelta()
            return Zone(fixed // timedelta(microseconds=1))
        return Zone(name=text)
    return find_zone(text, table)


def means_several(text: str, table: Mapping[str, str]) -> tuple[int, ...]:
    """The minutes from UTC that an abbreviation may mean, where the parser does not say which."""
    return () if text.upper() in table else SEVERAL.get(text.upper(), ())


@functools.lru_cache(4096)
def changes(name: str, year: int) -> tuple[ZoneChange, ...]:
    """The changes of a zone in a calendar year, UTC."""
    zone = zoneinfo.ZoneInfo(name)

    def offset(at: datetime) -> timedelta:
        return at.astimezone(zone).utcoffset() or timedelta()

    found: list[ZoneChange] = []
    # the database has changes that last for a day only, none for half of one
    step = timedelta(hours=12)
    low = datetime(year, 1, 1, tzinfo=UTC)
    end = datetime(year + 1, 1, 1, tzinfo=UTC)
    while low < end:
        high = min(low + step, end)
        before, after = offset(low), offset(high)
        if before != after:
            early, late = low, high
            while late - early > timedelta(seconds=1):
                middle = early + (late - early) // 2
                early, late = (middle, late) if offset(middle) == before else (early, middle)
            moment = late.replace(microsecond=0)
            found.append(
                ZoneChange(_micros(moment), before // timedelta(microseconds=1), after // timedelta(microseconds=1))
            )
        low = high
    return tuple(found)


def _changes(name: str, years: list[int]) -> list[ZoneChange]:
    """The changes in some years; what happened in years between them counts as one change."""
    found: list[ZoneChange] = []
    for i, year in enumerate(years):
        if i and years[i - 1] != year - 1:
            before = found[-1].after if found else _offset_at_start(name, years[0])
            after = _offset_at_start(name, year)
            if before != after:
                found.append(ZoneChange(days(year, 1, 1) * DAY, before, after))
        found.extend(changes(name, year))
    return found


def _micros(moment: datetime) -> int:
    return (moment - datetime(1970, 1, 1, tzinfo=UTC)) // timedelta(microseconds=1)


def _offset_at_start(name: str, year: int) -> int:
    start = datetime(year, 1, 1, tzinfo=UTC)
    return (start.astimezone(zoneinfo.ZoneInfo(name)).utcoffset() or timedelta()) // timedelta(microseconds=1)


def to_utc(wall: pl.Series, zone: Zone) -> Instants:
    """Wall-clock times, in microseconds, to instants.

    Of an hour that occurs twice the first is taken, and the second kept as `later`; a time that
    the clocks skip moves forward by what they skip (RFC 5545, section 3.3.5).
    """
    if zone.name is None:
        return Instants(wall - zone.offset if zone.offset else wall, None, notes.none(len(wall)))
    years = _years(wall)
    if not years:
        return Instants(wall, None, notes.none(len(wall)))
    known = _changes(zone.name, years)
    low, high = wall.min(), wall.max()
    assert isinstance(low, int) and isinstance(high, int)
    first = _offset_at_start(zone.name, years[0])
    before = [change for change in known if change.at + max(change.before, change.after) <= low]
    near = [change for change in known[len(before) :] if change.at + min(change.before, change.after) <= high]
    start = before[-1].after if before else first
    if not near:
        return Instants(wall - start, None, notes.none(len(wall)))
    # a wall clock is past a change when both readings are: of an hour that occurs twice the first one counts
    turns = pl.Series([change.at + max(change.before, change.after) for change in near])
    offsets = pl.Series([start, *(change.after for change in near)], dtype=pl.Int64)
    time = wall - offsets[turns.search_sorted(wall, "right")]
    bits = notes.none(len(wall))
    later: pl.Series | None = None
    for change in near:
        inside = wall.is_between(
            change.at + min(change.before, change.after), change.at + max(change.before, change.after), closed="left"
        ).fill_null(False)
        if not inside.any():
            continue
        if change.after > change.before:
            bits = bits | notes.where(inside, "hour-skipped")
        else:
            bits = bits | notes.where(inside, "hour-twice-first")
            second = (wall - change.after).set(~inside, None)
            later = second if later is None else later.zip_with(later.is_not_null(), second)
    return Instants(time, later, bits)


def _years(wall: pl.Series) -> list[int]:
    """The years of wall clocks, with those a day away."""
    low, high = wall.min(), wall.max()
    if not isinstance(low, int) or not isinstance(high, int):
        return []
    first, last = _year(low - DAY), _year(high + DAY)
    if last - first > 3:
        found = {_year(value + shift) for value in (wall // DAY).unique().drop_nulls() * DAY for shift in (-DAY, DAY)}
        return sorted({_within(year) for year in found})
    return sorted({_within(year) for year in range(first, last + 1)})


def _within(year: int) -> int:
    return min(max(year, _FIRST_YEAR), _LAST_YEAR)


def _year(micros: int) -> int:
    day = micros // DAY
    year = 1970 + int(day / 365.2425)
    while days(year, 1, 1) > day:
        year -= 1
    while days(year + 1, 1, 1) <= day:
        year += 1
    return int(year)
