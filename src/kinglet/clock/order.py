"""What only the order of a log tells: repeated hours, dates that are left out, events without a stamp.

The rows of one log are looked at in order, batch after batch, with what was known at the end of
the batch before; so the result does not depend on where batches end.
"""

from __future__ import annotations

import re
from datetime import UTC, datetime
from typing import NamedTuple

import polars as pl

from kinglet.clock import notes
from kinglet.clock.calendar import DAY, days, exists
from kinglet.clock.zones import Zone, changes, to_utc
from kinglet.columns import put

_MINUTE = 60_000_000
BACKWARD = 5 * _MINUTE
"""A time of day that goes back by more belongs to the next day."""
REPEAT = _MINUTE
"""In an hour that occurs twice, a clock that goes back by more has come to the second."""
_AROUND = 2 * 60 * _MINUTE  # how long after a repeated hour an event shows that it is over

_NAME_DATE = re.compile(r"(?<![0-9])((?:19|20)[0-9]{2})([-_.]?)([01][0-9])\2([0-3][0-9])(?![0-9])")


class Known(NamedTuple):
    """What is known of a log so far, in microseconds.

    first, last: its first and its latest instant in the order of the log. plain: the latest that was
    read from a stamp of one meaning. high: the latest first reading in the last hour that occurred
    twice. second: whether its second reading has begun.
    """

    first: int | None = None
    last: int | None = None
    plain: int | None = None
    high: int | None = None
    second: bool = False


class Times(NamedTuple):
    """The times of a log's events in order: microseconds, null where open; see `reading.Stamps`."""

    time: pl.Series
    notes: pl.Series
    later: pl.Series | None = None
    of_day: pl.Series | None = None


def after(time: pl.Series, known: Known) -> Known:
    """What is known behind some times."""
    some = time.drop_nulls()
    if not len(some):
        return known
    first = known.first if known.first is not None else int(some.item(0))
    return known._replace(first=first, last=int(some.item(-1)))


def second_hours(times: Times, known: Known) -> tuple[Times, Known]:
    """The readings of hours that occur twice.

    The first is taken until the clock goes back within the hour, or an event before came after it;
    from there on the second. In a log that runs back in time the first is taken.
    """
    if times.later is None or times.later.null_count() == len(times.later):
        return times, plainly(times.time, known)
    time, bits = times.time, times.notes
    start = known.first if known.first is not None else _first(time)
    single = time.set(times.later.is_not_null(), None)
    plain = single.forward_fill()
    plain = plain if known.plain is None else plain.fill_null(known.plain)
    rows = times.later.is_not_null().arg_true()
    while len(rows):
        first = time.gather(rows)
        low = int(first.min())  # type: ignore[arg-type]
        here = first - low < DAY // 2
        some, rows = rows.filter(here), rows.filter(~here)
        first, second = first.filter(here), times.later.gather(some)
        same = known.high is not None and abs(known.high - low) < DAY // 2
        before = plain.gather(some)
        high = first.cum_max().shift(1)
        if same and known.high is not None:
            high = high.fill_null(known.high).clip(lower_bound=known.high)
        goes_back = (high - first > REPEAT).fill_null(False)
        is_over = ((before - first > REPEAT) & (before < 2 * second - first + _AROUND)).fill_null(False)
        runs_back = (before < start).fill_null(False) if start is not None else goes_back & ~goes_back
        turned = ((goes_back | is_over) & ~runs_back).cum_max()
        if same and known.second:
            turned = pl.Series([True]).new_from_index(0, len(some))
        time = put(time, some, first.zip_with(~turned, second))
        change = pl.Series([notes.BIT["hour-twice-first"] | notes.BIT["hour-twice-second"]], dtype=notes.DTYPE)
        marks = bits.gather(some)
        bits = put(bits, some, marks.zip_with(~turned, marks ^ change))
        top = int(first.max())  # type: ignore[arg-type]
        known = known._replace(
            high=max(top, known.high) if same and known.high is not None else top, second=bool(turned.item(-1))
        )
    return times._replace(time=time, notes=bits, later=None), plainly(single, known)


def plainly(single: pl.Series, known: Known) -> Known:
    """What is known behind times that were read from stamps of one meaning."""
    some = single.drop_nulls()
    return known._replace(plain=int(some.item(-1))) if len(some) else known


def _first(time: pl.Series) -> int | None:
    some = time.drop_nulls()
    return int(some.item(0)) if len(some) else None


def date_in_name(name: str) -> int | None:
    """The day, since 1970, of a date that stands in the name of a log, such as `app-2026-03-05.log`."""
    for match in _NAME_DATE.finditer(name.replace("\\", "/").rpartition("/")[2]):
        year, month, day = int(match[1]), int(match[3]), int(match[4])
        if exists(year, month, day):
            return int(days(year, month, day))
    return None


class Dates(NamedTuple):
    """Where stamps without a date take it from: the event before, the log itself, or whichever there is."""

    zone: Zone
    of_previous: bool
    of_log: bool
    name: str
    reference: datetime


def dated(times: Times, rows: pl.Series, dates: Dates, known: Known) -> Times:
    """Dates for the stamps in some rows that have none.

    A clock that goes back by more than five minutes has passed midnight; one that goes forward by
    almost a day stands before it.
    """
    assert times.of_day is not None
    full = times.time.is_not_null() if dates.of_previous else pl.Series([False]).new_from_index(0, len(times.time))
    open_rows = put(pl.Series([False]).new_from_index(0, len(times.time)), rows, True)
    took_part = (full | open_rows).arg_true()
    is_full = full.gather(took_part)
    wall = _wall(times.time.gather(took_part), dates.zone)
    clock = times.of_day.gather(took_part).zip_with(~is_full, wall % DAY)
    anchor, bit = _anchor(int(times.of_day.gather(rows).item(0)), dates, known)
    if anchor is not None:
        is_full = pl.concat([pl.Series([True]), is_full])
        wall = pl.concat([pl.Series([anchor], dtype=pl.Int64), wall])
        clock = pl.concat([pl.Series([anchor % DAY], dtype=pl.Int64), clock])
    day = _days(is_full, wall, clock, dates.zone)
    if anchor is not None:
        is_full, day, clock = is_full.slice(1), day.slice(1), clock.slice(1)
    mine = (~is_full & day.is_not_null()).arg_true()
    where = took_part.gather(mine)
    local = to_utc(day.gather(mine) * DAY + clock.gather(mine), dates.zone)
    bits = pl.Series([bit], dtype=notes.DTYPE) | local.notes
    if dates.of_previous and bit != notes.BIT["date-of-previous"]:
        behind = full.cum_max().gather(where)
        bits = bits.zip_with(~behind, pl.Series([notes.BIT["date-of-previous"]], dtype=notes.DTYPE) | local.notes)
    later = times.later
    if local.later is not None:
        later = pl.Series([None], dtype=pl.Int64).new_from_index(0, len(times.time)) if later is None else later
        later = put(later, where, local.later)
    return Times(
        put(times.time, where, local.time), put(times.notes, where, times.notes.gather(where) | bits), later,
        times.of_day,
    )  # fmt: skip


def _anchor(clock: int, dates: Dates, known: Known) -> tuple[int | None, int]:
    """A wall clock before the first stamp, from which days are counted, and how it is known."""
    carried = known.last if dates.of_previous or dates.of_log else None
    if carried is not None:
        bit = notes.BIT["date-of-previous"]
        return int(_wall(pl.Series([carried], dtype=pl.Int64), dates.zone).item()), bit
    if not dates.of_log:
        return None, notes.BIT["date-of-previous"]
    named = date_in_name(dates.name)
    if named is not None:
        return named * DAY + clock, notes.BIT["date-of-name"]
    limit = (dates.reference - datetime(1970, 1, 1, tzinfo=UTC)) // datetime.resolution + DAY
    day = int(_wall(pl.Series([limit], dtype=pl.Int64), dates.zone).item()) // DAY
    local = to_utc(pl.Series([day * DAY + clock], dtype=pl.Int64), dates.zone).time.item()
    if local > limit - DAY + BACKWARD:  # nearest: today, unless that lies ahead of the reference
        day -= 1 + (local > limit)
    return day * DAY + clock, notes.BIT["date-nearest"]


def _days(is_full: pl.Series, wall: pl.Series, clock: pl.Series, zone: Zone) -> pl.Series:
    """The day of each row: its own, or counted on from the row before; null before the first that has one."""
    change = (clock - clock.shift(1)).fill_null(0)
    steps = pl.Series([0], dtype=pl.Int64).new_from_index(0, len(clock))
    steps = steps.set(change < -BACKWARD, 1).set(change > DAY - BACKWARD, -1).set(is_full, 0)
    frame = pl.DataFrame({"group": is_full.cast(pl.UInt32).cum_sum(), "step": steps, "wall": wall, "full": is_full})

    def count(steps: pl.Series) -> pl.Series:
        counted = frame.with_columns(step=steps).with_columns(
            day=pl.col("wall").first().over("group") // DAY + pl.col("step").cum_sum().over("group")
        )
        return counted.select(pl.when(pl.col("group") > 0).then("day")).to_series()

    day = count(steps)
    if zone.name is None or not (steps == 1).any():
        return day
    for number in day.unique().drop_nulls().sort():  # an hour that occurs twice goes back without a new day
        for start, end in _repeated(zone.name, number):
            before = day.shift(1) == number
            inside = clock.is_between(start, end, closed="left") & clock.shift(1).is_between(start, end, closed="left")
            repeats = (before & inside & (steps == 1)).fill_null(False)
            if repeats.any():
                steps = steps.set(repeats, 0)
                day = count(steps)
    return day


def _repeated(zone: str, day: int) -> list[tuple[int, int]]:
    """The hours of a day that a zone's clocks show twice, as microseconds since midnight."""
    year = 1970 + int((day + 0.5) / 365.2425)
    found = [change for near in (year - 1, year, year + 1) if 0 < near < 9999 for change in changes(zone, near)]
    return [
        ((change.at + change.after) % DAY, (change.at + change.after) % DAY + change.before - change.after)
        for change in found
        if change.after < change.before and (change.at + change.after) // DAY == day
    ]


def _wall(time: pl.Series, zone: Zone) -> pl.Series:
    """Instants as wall clocks of a zone."""
    if zone.name is None:
        return time + zone.offset
    local = time.cast(pl.Datetime("us")).dt.replace_time_zone("UTC").dt.convert_time_zone(zone.name)
    return local.dt.replace_time_zone(None).to_physical()


def near(of_day: pl.Series, time: pl.Series, zone: Zone) -> Times:
    """Stamps without a date as the instants nearest to other instants, in microseconds."""
    wall = _wall(time, zone)
    day = wall // DAY
    ahead = of_day - wall % DAY
    day = day + (ahead < -DAY // 2).cast(pl.Int64) - (ahead > DAY // 2).cast(pl.Int64)
    local = to_utc(day * DAY + of_day, zone)
    bit = pl.Series([notes.BIT["date-of-event"]], dtype=notes.DTYPE)
    return Times(local.time, (local.notes | bit).set(local.time.is_null(), 0), local.later)


def filled(times: Times, rows: pl.Series, known: Known) -> Times:
    """The time of the event before for events without one, as far as there is one."""
    time = times.time.clone()
    if known.last is not None and time.item(0) is None:
        time = put(time, 0, known.last)
    time = time.forward_fill()
    found = rows.filter(time.gather(rows).is_not_null())
    bit = pl.Series([notes.BIT["time-of-previous"]], dtype=notes.DTYPE)
    return times._replace(
        time=put(times.time, found, time.gather(found)),
        notes=put(times.notes, found, times.notes.gather(found) | bit),
    )
