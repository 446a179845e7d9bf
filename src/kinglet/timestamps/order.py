"""What only the order of a log tells: repeated hours, dates that are left out, events without a stamp.

The rows of one log are looked at in order, batch after batch, with what was known at the end of
the batch before; so the result does not depend on where batches end.
"""

from __future__ import annotations

import re
from datetime import UTC, datetime, timedelta
from typing import NamedTuple

import polars as pl

from kinglet.columns.put import put
from kinglet.timestamps import notes
from kinglet.timestamps.calendar import DAY, days, exists
from kinglet.timestamps.zones import Zone, changes, to_utc

_MINUTE = 60_000_000
BACKWARD = 5 * _MINUTE
"""A time of day that goes back by more belongs to the next day."""
REPEAT = _MINUTE
"""In an hour that occurs twice, a clock that goes back by more has come to the second."""
_STEADY = 3  # so many steps show how close events stand, so many late events in a row that they are not late
_AROUND = 2 * 60 * _MINUTE  # how long after a repeated hour an event shows that it is over

_NAME_DATE = re.compile(r"(?<![0-9])((?:19|20)[0-9]{2})([-_.]?)([01][0-9])\2([0-3][0-9])(?![0-9])")


class Hour(NamedTuple):
    """Where a log stands in an hour that occurs twice; clocks count in the direction in which the log runs.

    start: the first reading of one of its events. passed: whether the log has come to its other pass. far: how far the
    clock has come in this pass. last: the clock of the event before. gap, steps: the widest step forward in the pass,
    and how many there were. behind: how many events in a row stood before `far`. jumped: where the clock had come
    before a step wider than all others, which may be a stray event's. plain: the latest before, of one meaning.
    """

    start: int
    passed: bool = False
    far: int | None = None
    last: int | None = None
    gap: int = 0
    steps: int = 0
    behind: int = 0
    jumped: int | None = None
    plain: int | None = None


class Known(NamedTuple):
    """What is known of a log so far, in microseconds.

    first, last: its first and its latest instant in the order of the log. plain: the latest that was
    read from a stamp of one meaning. hour: the last hour that occurred twice. backward: whether times of day
    run back, None while nothing shows it.
    """

    first: int | None = None
    last: int | None = None
    plain: int | None = None
    hour: Hour | None = None
    backward: bool | None = None


class Times(NamedTuple):
    """The times of a log's events in order: microseconds, null where open; see `stamps.Stamps`."""

    time: pl.Series
    notes: pl.Series
    later: pl.Series | None = None
    of_day: pl.Series | None = None


def after(time: pl.Series, known: Known) -> Known:
    """What is known behind some times."""
    known_times = time.drop_nulls()
    if not len(known_times):
        return known
    first = known.first if known.first is not None else int(known_times.item(0))
    return known._replace(first=first, last=int(known_times.item(-1)))


def second_hours(times: Times, known: Known) -> tuple[Times, Known]:
    """The readings of hours that occur twice, by the direction in which the log runs.

    A log that runs forward shows the first pass through the hour, then the second; one that runs backward the second
    before the first. See `_passed` for where the one ends.
    """
    if times.later is None or times.later.null_count() == len(times.later):
        # nearly every batch: no event of it lies in such an hour
        return times, plainly(times.time, known)
    time, bits = times.time, times.notes
    start = known.first if known.first is not None else _first(time)
    single = time.set(times.later.is_not_null(), None)
    plain = single.forward_fill()
    plain = plain if known.plain is None else plain.fill_null(known.plain)
    rows = times.later.is_not_null().arg_true()
    first, second = time[rows].to_list(), times.later[rows].to_list()
    turned: list[bool] = []
    hour = known.hour
    # only events within such hours come here, one after the other, since each depends on those before
    for one, two, before in zip(first, second, plain[rows].to_list(), strict=True):
        # no zone turns its clocks back twice within half a day
        if hour is None or abs(one - hour.start) >= DAY // 2:
            hour = Hour(one)
        backward = before is not None and start is not None and before < start - REPEAT
        ahead = before is not None and before != hour.plain and (before > two if backward else before < one)
        if ahead and not hour.passed and hour.steps < _STEADY:  # the log was not yet there: what came was stray
            hour = Hour(one)
        if backward:
            is_over = one - before > REPEAT
        else:
            is_over = before is not None and before - one > REPEAT and before < 2 * two - one + _AROUND
        hour = hour._replace(passed=True) if is_over else _passed(hour, -one if backward else one, two - one)
        hour = hour._replace(plain=before)
        turned.append(hour.passed is not backward)
    known = known._replace(hour=hour)
    mask = pl.Series(turned, dtype=pl.Boolean)
    found = times.later[rows].zip_with(mask, time[rows])
    change = pl.Series([notes.BIT["hour-twice-first"] | notes.BIT["hour-twice-second"]], dtype=notes.DTYPE)
    marks = bits[rows]
    time, bits = put(time, rows, found), put(bits, rows, marks.zip_with(~mask, marks ^ change))
    return times._replace(time=time, notes=bits, later=None), plainly(single, known)


def _passed(hour: Hour, clock: int, length: int) -> Hour:
    """The state of an hour after an event, whose clock counts in the direction of the log; length: of the hour.

    A clock that goes back has come to the other pass, unless the log has steps so small that the way there, to the end
    of the hour and on from its start, would be a silence out of proportion: then the event is a late one, of which
    three in a row are none.
    """
    if hour.far is None or hour.last is None:
        return hour._replace(far=clock, last=clock)
    wide = max(4 * hour.gap, 2 * REPEAT)
    if hour.passed or hour.far - clock <= REPEAT:
        step = max(clock - hour.last, 0)
        if not hour.passed and hour.steps >= _STEADY and hour.jumped is None and step > max(hour.gap, REPEAT):
            return hour._replace(far=max(hour.far, clock), last=clock, jumped=hour.far, behind=0)
        widest = max(hour.gap, step, hour.far - hour.jumped if hour.jumped is not None else 0)
        return hour._replace(
            far=max(hour.far, clock), last=clock, gap=widest, steps=hour.steps + 1, behind=0, jumped=None
        )
    if hour.jumped is not None and clock >= hour.jumped - REPEAT:  # the event that ran ahead was a stray one
        return hour._replace(far=max(hour.jumped, clock), last=clock, jumped=None)
    silence = clock - hour.far + length  # to the end of the hour, and from its start
    is_late = hour.steps >= _STEADY and silence > wide
    if is_late and hour.behind + 1 < _STEADY:
        return hour._replace(behind=hour.behind + 1)
    return Hour(hour.start, True, clock, clock)


def plainly(single: pl.Series, known: Known) -> Known:
    """What is known behind times that were read from stamps of one meaning."""
    known_times = single.drop_nulls()
    return known._replace(plain=int(known_times.item(-1))) if len(known_times) else known


def _first(time: pl.Series) -> int | None:
    known_times = time.drop_nulls()
    return int(known_times.item(0)) if len(known_times) else None


def date_in_name(name: str) -> int | None:
    """The day, since 1970, of a date that stands in the name of a log, such as `app-2026-03-05.log`."""
    # of the file's own name: a folder is often the day of an export
    for match in _NAME_DATE.finditer(name.replace("\\", "/").rpartition("/")[2]):
        year, month, day = int(match[1]), int(match[3]), int(match[4])
        if exists(year, month, day):
            return int(days(year, month, day))
    return None


_NAME_YEAR = re.compile(r"(?<![0-9])((?:19|20)[0-9]{2})(?:[-_.]?([01][0-9]))?(?![0-9])")


def moment_in_name(name: str) -> datetime | None:
    """The last moment of the day, month or year that stands in the name of a log, such as `app-2026.log`."""
    day = date_in_name(name)
    if day is not None:
        return datetime(1970, 1, 1, tzinfo=UTC) + timedelta(days=day + 1)
    match = _NAME_YEAR.search(name.replace("\\", "/").rpartition("/")[2])
    if match is None:
        return None
    year, month = int(match[1]), int(match[2]) if match[2] and 1 <= int(match[2]) <= 12 else 12
    return datetime(year + month // 12, month % 12 + 1, 1, tzinfo=UTC)


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
    almost a day stands before it. In a log that runs backward it is the other way round.
    """
    assert times.of_day is not None
    full = times.time.is_not_null() if dates.of_previous else pl.Series([False]).new_from_index(0, len(times.time))
    open_rows = put(pl.Series([False]).new_from_index(0, len(times.time)), rows, True)
    took_part = (full | open_rows).arg_true()
    is_full = full[took_part]
    wall = _wall(times.time[took_part], dates.zone)
    clock = times.of_day[took_part].zip_with(~is_full, wall % DAY)
    anchor, bit = _anchor(int(times.of_day[rows].item(0)), dates, known)
    if anchor is not None:
        # a row of its own in front, from which the days of the first rows are counted
        is_full = pl.concat([pl.Series([True]), is_full])
        wall = pl.concat([pl.Series([anchor], dtype=pl.Int64), wall])
        clock = pl.concat([pl.Series([anchor % DAY], dtype=pl.Int64), clock])
    day = _days(is_full, wall, clock, dates.zone, bool(known.backward))
    if anchor is not None:
        is_full, day, clock = is_full.slice(1), day.slice(1), clock.slice(1)
    mine = (~is_full & day.is_not_null()).arg_true()
    where = took_part[mine]
    local = to_utc(day[mine] * DAY + clock[mine], dates.zone)
    bits = pl.Series([bit], dtype=notes.DTYPE) | local.notes
    if dates.of_previous and bit != notes.BIT["date-of-previous"]:
        behind = full.cum_max()[where]
        bits = bits.zip_with(~behind, pl.Series([notes.BIT["date-of-previous"]], dtype=notes.DTYPE) | local.notes)
    later = times.later
    if local.later is not None:
        later = pl.Series([None], dtype=pl.Int64).new_from_index(0, len(times.time)) if later is None else later
        later = put(later, where, local.later)
    return Times(
        put(times.time, where, local.time), put(times.notes, where, times.notes[where] | bits), later,
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


def _days(is_full: pl.Series, wall: pl.Series, clock: pl.Series, zone: Zone, backward: bool) -> pl.Series:
    """The day of each row: its own, or counted on from the row before; null before the first that has one."""
    change = (clock - clock.shift(1)).fill_null(0)
    steps = pl.Series([0], dtype=pl.Int64).new_from_index(0, len(clock))
    if backward:
        steps = steps.set(change > BACKWARD, -1).set(change < BACKWARD - DAY, 1).set(is_full, 0)
    else:
        steps = steps.set(change < -BACKWARD, 1).set(change > DAY - BACKWARD, -1).set(is_full, 0)
    frame = pl.DataFrame({"group": is_full.cast(pl.UInt32).cum_sum(), "step": steps, "wall": wall, "full": is_full})

    def count(steps: pl.Series) -> pl.Series:
        counted = frame.with_columns_seq(step=steps).with_columns_seq(
            day=pl.col("wall").first().over("group") // DAY + pl.col("step").cum_sum().over("group")
        )
        return counted.select_seq(pl.when(pl.col("group") > 0).then("day")).to_series()

    day = count(steps)
    # a fixed offset has no hour that occurs twice, and a clock that never goes back has met none
    if backward or zone.name is None or not (steps == 1).any():
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
    found = rows.filter(time[rows].is_not_null())
    bit = pl.Series([notes.BIT["time-of-previous"]], dtype=notes.DTYPE)
    return times._replace(
        time=put(times.time, found, time[found]),
        notes=put(times.notes, found, times.notes[found] | bit),
    )
