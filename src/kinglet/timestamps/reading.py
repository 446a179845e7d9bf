"""Stamps to instants: whole columns at a time, in UTC with microseconds."""

from __future__ import annotations

import itertools
import sys
from collections.abc import Callable, Sequence
from datetime import UTC, datetime
from typing import Any, NamedTuple

import polars as pl

from kinglet.columns.put import put
from kinglet.timestamps import notes
from kinglet.timestamps.calendar import DAY, weekday
from kinglet.timestamps.dates import beyond_of, clock_of, day_of, last_year, latest_existing, weekday_of, year_of
from kinglet.timestamps.epoch import FIRST, LAST, from_epoch
from kinglet.timestamps.formats import Format, FormatForm, parse_format
from kinglet.timestamps.parts import Parts, by_regex
from kinglet.timestamps.stamps import INSTANT, Reference, Stamps, microseconds
from kinglet.timestamps.zones import Instants, Zone, configured_zone, find_zone, to_utc

PIVOT = 70
_SECOND = 1_000_000
_MANY = 4096  # speed
"""From so many stamps on it pays to look for quicker ways; `_FEW` where what they need is loaded already."""
_FEW = 256  # speed
_FEW_FORMS = 4  # speed

_RFC5322_ZONES = tuple(
    (name, f"{'-' if minutes < 0 else '+'}{abs(minutes):02}:00")
    for name, minutes in {
        "EST": -5,
        "EDT": -4,
        "CST": -6,
        "CDT": -5,
        "MST": -7,
        "MDT": -6,
        "PST": -8,
        "PDT": -7,
    }.items()
)
"""What the standard itself says of these names (section 4.3)."""


class TimeReading(NamedTuple):
    """How stamps in one place are read; formats are tried in order.

    zone: that of stamps which carry none. year: that of stamps which carry none; None for the
    nearest. pivot: the two-digit year from which on years are 19xx. zones: abbreviations and what
    they mean.
    """

    formats: tuple[Format, ...]
    zone: str | None = None
    year: int | None = None
    pivot: int = PIVOT
    zones: tuple[tuple[str, str], ...] = ()


ISO = TimeReading((parse_format("iso8601"),))
"""How stamps are read for which a parser has no rule."""


def instants(text: pl.Series, reading: TimeReading, reference: Reference, zone: str | None = None) -> pl.Series:
    """The instants that stamps stand for, null where a stamp cannot be read or has no date.

    text: stamps as text. reference: the moment nearest to which a missing year is taken. zone:
    IANA zone for stamps that carry none, where the reading has none.
    Returns a Datetime column of the same length, UTC, microseconds.
    """
    return read(text, reading, reference, zone).time


def is_read(text: str, reading: TimeReading) -> bool:
    """Whether a stamp can be read."""
    return bool(read(pl.Series([text]), reading, datetime.now(UTC)).good.item())


def read(
    text: pl.Series, reading: TimeReading, reference: Reference, zone: str | None = None, zones: pl.Series | None = None
) -> Stamps:
    """What a column of stamps says; zones has for each stamp the text of its zone, where there is one."""
    if zones is None and not isinstance(reference, pl.Series) and _repeats(text):
        import numpy as np

        runs = text.rle().struct.unnest()
        lengths, values = runs.to_series(0), runs.to_series(1).rename(text.name)
        rows = np.repeat(np.arange(len(lengths), dtype=np.uint32), lengths.to_numpy())
        return read(values, reading, reference, zone).at(pl.Series(rows))
    work = _Reading(text, reading, reference, reading.zone or zone or "UTC", zones)
    for epoch, formats in itertools.groupby(reading.formats, key=lambda fmt: fmt.epoch):
        if epoch:
            work.try_epochs(list(formats))
        else:
            work.try_forms([(fmt, form) for fmt in formats for form in fmt.forms])
    return work.stamps()


def _has_many(count: int) -> bool:
    """Whether it pays to look for quicker ways, given what they need first."""
    return count >= (_FEW if "numpy" in sys.modules else _MANY)  # speed


def _repeats(text: pl.Series) -> bool:
    """Whether stamps stand in runs of equal ones, so that each run need be read only once."""
    if len(text) < _MANY:
        return False
    probe = text.head(1024)
    return int(probe.ne_missing(probe.shift(1)).sum()) < 512  # from nothing to nothing is no change


class _Reading:
    """A column on its way: what is read of it so far."""

    def __init__(
        self, text: pl.Series, reading: TimeReading, reference: Reference, zone: str, zones: pl.Series | None
    ) -> None:
        self.text = text
        self.reading = reading
        self.limit = microseconds(reference) + DAY
        self.zone = configured_zone(zone, reading.zones) or Zone()
        self.zones = zones
        # rows not read yet; None means all
        self.gaps: pl.Series | None = text.is_not_null().arg_true() if text.null_count() else None
        self.done: list[tuple[pl.Series | None, Stamps]] = []

    def try_epochs(self, formats: Sequence[Format]) -> None:
        for fmt in formats:
            self._take(lambda text, fmt=fmt: from_epoch(text, fmt))  # type: ignore[misc]

    def try_forms(self, forms: Sequence[tuple[Format, FormatForm]]) -> None:
        if _has_many(len(self.text) if self.gaps is None else len(self.gaps)):
            self._try_layouts(forms)
        if len(forms) > _FEW_FORMS and not self._has_any(forms):
            return
        for fmt, form in forms:
            self._take(lambda text, fmt=fmt, form=form: self._stamps(text, fmt, form))  # type: ignore[misc]

    def _try_layouts(self, forms: Sequence[tuple[Format, FormatForm]]) -> None:
        from kinglet.timestamps.fixed_layouts import by_layouts

        text = self.text if self.gaps is None else self.text[self.gaps]
        open_rows = pl.Series([True]).new_from_index(0, len(text))
        for number, rows, found in by_layouts(text, [form for _, form in forms]):
            where = self.gaps if rows is None else rows if self.gaps is None else self.gaps[rows]
            limit = self.limit[where] if isinstance(self.limit, pl.Series) and where is not None else self.limit
            zones = self.zones[where] if self.zones is not None and where is not None else self.zones
            stamps = self._read(found, forms[number][0], limit, zones)
            good = stamps.good
            if good.all():
                self.done.append((where, stamps))
                if rows is None:
                    self.gaps = pl.Series([], dtype=pl.UInt32)
                    return
                open_rows = put(open_rows, rows, False)
                continue
            kept = good.arg_true()
            if not len(kept):
                continue
            inside = kept if rows is None else rows[kept]
            self.done.append((inside if self.gaps is None else self.gaps[inside], stamps.at(kept)))
            open_rows = put(open_rows, inside, False)
        unread = open_rows.arg_true()
        if len(unread) < len(text):
            self.gaps = unread if self.gaps is None else self.gaps[unread]

    def _has_any(self, forms: Sequence[tuple[Format, FormatForm]]) -> bool:
        """Whether any of what is left has one of the forms: one search for all, where most logs have none or one."""
        text = self.text if self.gaps is None else self.text[self.gaps]
        every = "|".join(form.shape for _, form in forms)
        return bool(text.str.contains(f"^(?:{every})$").any())

    def _take(self, how: Callable[[pl.Series], Stamps | None]) -> None:
        if self.gaps is not None and not len(self.gaps):
            return
        text = self.text if self.gaps is None else self.text[self.gaps]
        found = how(text)
        if found is None:
            return
        good = found.good
        if not good.any():
            return
        if good.all():
            self.done.append((self.gaps, found))
            self.gaps = pl.Series([], dtype=pl.UInt32)
            return
        rows = good.arg_true()
        unread = (~good).arg_true()
        self.done.append((rows if self.gaps is None else self.gaps[rows], found.at(rows)))
        self.gaps = unread if self.gaps is None else self.gaps[unread]

    def stamps(self) -> Stamps:
        if len(self.done) == 1 and self.done[0][0] is None:
            return self.done[0][1]
        height = len(self.text)
        columns: list[pl.Series | None] = [
            self._times(),
            notes.none(height),
            None,
            None,
            None,
        ]
        for rows, found in self.done:
            assert rows is not None
            for i, values in enumerate(found[1:], 1):
                if values is None or (i == 1 and not (values != 0).any()):
                    continue
                into = columns[i]
                if into is None:
                    into = pl.Series([None], dtype=values.dtype).new_from_index(0, height)
                columns[i] = put(into, rows, values)
        time, bits, later, of_day, beyond = columns
        assert time is not None and bits is not None
        return Stamps(time.rename(self.text.name), bits, later, of_day, beyond)

    def _times(self) -> pl.Series:
        """The instants of all that is read, each where it belongs."""
        height = len(self.text)
        # numpy assigns to rows in place; the column engine copies the column for each form
        if self.done and "numpy" in sys.modules and not any(found.time.null_count() for _, found in self.done):
            import numpy as np

            micros = np.zeros(height, np.int64)
            for rows, found in self.done:
                micros[rows] = found.time.to_physical().to_numpy()
            time = pl.Series(micros).cast(INSTANT)
            time = time if self.gaps is None or not len(self.gaps) else put(time, self.gaps, None)
            return time.set(self.text.is_null(), None) if self.text.null_count() else time
        time = pl.Series([None], dtype=INSTANT).new_from_index(0, height)
        for rows, found in self.done:
            assert rows is not None
            time = put(time, rows, found.time)
        return time

    def _stamps(self, text: pl.Series, fmt: Format, form: FormatForm) -> Stamps | None:
        found, matched = by_regex(text, form)
        count = int(matched.sum())
        if not count:
            return None
        limit, zones = self.limit, self.zones
        if self.gaps is not None:
            limit = limit[self.gaps] if isinstance(limit, pl.Series) else limit
            zones = zones[self.gaps] if zones is not None else None
        # rows are gathered only where some do not match: in most logs all do
        if count == len(text):
            return self._read(found, fmt, limit, zones)
        rows = matched.arg_true()
        parts = {name: column[rows] for name, column in found.items()}
        stamps = self._read(
            parts,
            fmt,
            limit[rows] if isinstance(limit, pl.Series) else limit,
            zones[rows] if zones is not None else None,
        )
        back = pl.Series([None], dtype=pl.UInt32).new_from_index(0, len(text))
        return stamps.at(put(back, rows, pl.int_range(count, dtype=pl.UInt32, eager=True)))

    def _read(self, found: Parts, fmt: Format, limit: Any, zones: pl.Series | None) -> Stamps:
        clock, good = clock_of(found)
        bits = notes.none(len(clock))
        if "second" in found:
            leap = found["second"] == 60
            if leap.any():
                bits = bits | notes.where(leap, "leap-second")
        beyond = beyond_of(found)
        if "epoch" in found:
            time = found["epoch"].cast(pl.Int64) * _SECOND + clock
            return Stamps(_datetime(time, good), bits, beyond=beyond)
        if not fmt.has_date:
            return Stamps(_datetime(clock, clock.is_null()), bits, of_day=clock.set(~good, None), beyond=beyond)
        local, fits = self._instants(found, fmt, clock, limit, zones)
        # an offset may lead out of the calendar, which ends with the year 9999
        fits = fits & local.time.is_between(FIRST, LAST)
        silent = _without_clock(found, len(clock))
        if silent is not None:
            bits = bits | notes.where(silent, "no-time-of-day")
        return Stamps(
            _datetime(local.time, good & fits),
            bits | local.notes,
            None if local.later is None else local.later.cast(pl.Datetime("us")).dt.replace_time_zone("UTC"),
            beyond=beyond,
        )

    def _instants(
        self, found: Parts, fmt: Format, clock: pl.Series, limit: Any, zones: pl.Series | None
    ) -> tuple[Instants, pl.Series]:
        if "day_number" in found:
            return self._dated(found["day_number"], None, found, fmt, clock, zones)
        year = year_of(found, self.reading.pivot)
        if year is None and self.reading.year is not None:
            year = pl.Series([self.reading.year], dtype=pl.Int32).new_from_index(0, len(clock))
        if year is None:
            return self._nearest(found, fmt, clock, limit, zones)
        if year.null_count():  # the year stands in an optional part of the format
            return self._partly(found, fmt, year, clock, limit, zones)
        return self._dated(*day_of(found, year), found, fmt, clock, zones)

    def _dated(
        self,
        day: pl.Series,
        fits: pl.Series | None,
        found: Parts,
        fmt: Format,
        clock: pl.Series,
        zones: pl.Series | None,
    ) -> tuple[Instants, pl.Series]:
        """Stamps whose date is known."""
        wanted = weekday_of(found)
        if wanted is not None:
            right = wanted.is_null() | (weekday(day) == wanted)
            fits = right if fits is None else fits & right
        local, known = self._localised(day.cast(pl.Int64) * DAY + clock, found, fmt, zones)
        return local, known if fits is None else fits & known

    def _partly(
        self, found: Parts, fmt: Format, year: pl.Series, clock: pl.Series, limit: Any, zones: pl.Series | None
    ) -> tuple[Instants, pl.Series]:
        """Stamps of which some carry a year."""
        height = len(clock)
        time = pl.Series([None], dtype=pl.Int64).new_from_index(0, height)
        later, bits = time.clone(), notes.none(height)
        good = pl.Series([False]).new_from_index(0, height)
        for rows in (year.is_not_null().arg_true(), year.is_null().arg_true()):
            parts = {name: column[rows] for name, column in found.items()}
            if year[rows].null_count():
                for name in ("year", "year_of_century"):
                    parts.pop(name, None)
            local, fits = self._instants(
                parts,
                fmt,
                clock[rows],
                limit[rows] if isinstance(limit, pl.Series) else limit,
                zones[rows] if zones is not None else None,
            )
            time, bits, good = put(time, rows, local.time), put(bits, rows, local.notes), put(good, rows, fits)
            later = put(later, rows, local.later) if local.later is not None else later
        return Instants(time, later if later.null_count() < height else None, bits), good

    def _nearest(
        self, found: Parts, fmt: Format, clock: pl.Series, limit: Any, zones: pl.Series | None
    ) -> tuple[Instants, pl.Series]:
        """The latest year that puts the instant no later than the limit, and in which day and weekday exist."""
        height = len(clock)
        upper = last_year(limit, height)
        wanted = weekday_of(found)
        bits = notes.none(height) | notes.BIT["year-nearest"]
        # of 29 February and of weekdays the year before the limit may be wrong more than once
        for _ in range(4):
            day, year, by_weekday, fits = latest_existing(found, upper, wanted)
            local, known = self._localised(day.cast(pl.Int64) * DAY + clock, found, fmt, zones)
            over = (local.time > limit).fill_null(False) & fits
            if not over.any():
                break
            upper = year.zip_with(~over, year - 1)
        if by_weekday.any():
            bits = bits.zip_with(~by_weekday, notes.none(height) | notes.BIT["year-by-weekday"])
        return local._replace(notes=local.notes | bits), fits & known & ~over

    def _localised(
        self, wall: pl.Series, found: Parts, fmt: Format, zones: pl.Series | None
    ) -> tuple[Instants, pl.Series]:
        """Instants of wall clocks by the offset or zone that each stamp carries, otherwise by that of the rule."""
        height = len(wall)
        good = pl.Series([True]).new_from_index(0, height)
        offset = found.get("offset")
        if offset is not None and not offset.null_count():
            return Instants(wall - offset.cast(pl.Int64) * _SECOND, None, notes.none(height)), offset.abs() < 86_400
        named = found.get("zone")
        if zones is not None:
            named = zones if named is None else named.zip_with(named.is_not_null(), zones)
        if offset is None and (named is None or named.null_count() == height):
            return to_utc(wall, self.zone), good
        time = pl.Series([None], dtype=pl.Int64).new_from_index(0, height)
        later, bits = time.clone(), notes.none(height)
        open_ = pl.Series([True]).new_from_index(0, height)
        if offset is not None:
            time = wall - offset.cast(pl.Int64) * _SECOND
            open_ = offset.is_null()
            good = (offset.abs() < 86_400).fill_null(True)
        table = (*self.reading.zones, *(_RFC5322_ZONES if fmt.text == "rfc5322" else ()))
        # a log has few zones; each is looked up once, and its rows are converted together
        for name in [None] if named is None else named.filter(open_).unique().to_list():
            zone = self.zone if name is None else find_zone(name, table)
            mask = open_ if named is None else open_ & named.eq_missing(pl.Series([name], dtype=pl.String))
            rows = mask.arg_true()
            if zone is None:
                good = put(good, rows, False)
                continue
            local = to_utc(wall[rows], zone)
            time, bits = put(time, rows, local.time), put(bits, rows, local.notes)
            if local.later is not None:
                later = put(later, rows, local.later)
        return Instants(time, later if later.null_count() < height else None, bits), good


def _without_clock(found: Parts, height: int) -> pl.Series | None:
    """Which stamps name no hour; None where all do."""
    hour = next((found[name] for name in ("hour", "hour_of_half", "clock") if name in found), None)
    if hour is None:
        return pl.Series([True]).new_from_index(0, height)
    return hour.is_null() if hour.null_count() else None


def _datetime(micros: pl.Series, good: pl.Series) -> pl.Series:
    if not good.all():
        micros = micros.set(~good.fill_null(False), None)
    return micros.cast(pl.Datetime("us")).dt.replace_time_zone("UTC")
