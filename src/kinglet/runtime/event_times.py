"""The stamps of events: where the rules find them, and what they say."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime, timedelta
from typing import NamedTuple

import polars as pl

from kinglet.columns.faults import Faults
from kinglet.plan.data import Limits, Plan, TimeRulePlan
from kinglet.timestamps import notes
from kinglet.timestamps.reading import read
from kinglet.timestamps.stamps import INSTANT, Reference, Stamps
from kinglet.timestamps.zones import Zone, configured_zone


class Timing(NamedTuple):
    """The times of some events before the order of the log is looked at.

    rule: the number of the rule that gave each time, null where none did. stamp: its text. See
    `timestamps.stamps.Stamps` for the others. faults: what is wrong with stamps; they count only where
    no rule gave a time. fields: what further stamps became.
    """

    time: pl.Series
    notes: pl.Series
    later: pl.Series | None
    of_day: pl.Series | None
    beyond: pl.Series | None
    rule: pl.Series
    stamp: pl.Series
    faults: Faults
    fields: dict[str, FieldStamps]

    def slice(self, start: int, length: int) -> Timing:
        return Timing(
            self.time.slice(start, length),
            self.notes.slice(start, length),
            _part(self.later, start, length),
            _part(self.of_day, start, length),
            _part(self.beyond, start, length),
            self.rule.slice(start, length),
            self.stamp.slice(start, length),
            _sliced(self.faults, start, length),
            {name: stamps.slice(start, length) for name, stamps in self.fields.items()},
        )


def _part(column: pl.Series | None, start: int, length: int) -> pl.Series | None:
    return None if column is None else column.slice(start, length)


def _sliced(faults: Faults, start: int, length: int) -> Faults:
    return [(name, mask.slice(start, length)) for name, mask in faults]


class FieldStamps(NamedTuple):
    """Stamps that became a field."""

    time: pl.Series
    notes: pl.Series
    of_day: pl.Series | None
    beyond: pl.Series | None
    faults: Faults

    def slice(self, start: int, length: int) -> FieldStamps:
        return FieldStamps(
            self.time.slice(start, length),
            self.notes.slice(start, length),
            _part(self.of_day, start, length),
            _part(self.beyond, start, length),
            _sliced(self.faults, start, length),
        )


def timing(plan: Plan, raw: pl.Series, texts: pl.DataFrame, reference: Reference, zone: str | None) -> Timing:
    """Reads the stamps of events by all rules of a plan; texts are the fields as they stand in the log."""
    height = len(raw)
    found = Timing(
        pl.Series("time", [None], dtype=INSTANT).new_from_index(0, height),
        notes.none(height), None, None, None,
        pl.Series([None], dtype=pl.UInt8).new_from_index(0, height),
        pl.Series([None], dtype=pl.String).new_from_index(0, height),
        [], {},
    )  # fmt: skip
    numbers = {id(rule): i for i, rule in enumerate(rule for rule in plan.times if rule.field is None)}
    for rule in sorted(plan.times, key=lambda rule: rule.field is not None):  # further stamps lie near the event's time
        number = numbers.get(id(rule), 0)
        if rule.slot is not None and rule.slot not in texts.columns:
            continue
        text = texts[rule.slot] if rule.slot is not None else raw
        # two fields become one stamp, which is read as it would be in one piece
        if rule.date_slot is not None:
            if rule.date_slot not in texts.columns:
                continue
            both = pl.DataFrame([texts[rule.date_slot].alias("date"), text.alias("clock")])
            text = both.select_seq(pl.concat_str("date", "clock", separator=" ")).to_series()
        zones = texts[rule.zone_slot] if rule.zone_slot in texts.columns else None
        text, stamps = _searched(rule, text, _near_event(rule, found, reference), zone, zones)
        stamps, strange = _believed(stamps, plan.limits, reference)
        unread = ~stamps.good & text.is_not_null()
        faults: Faults = [(f"implausible-time:{rule.label}", strange)] if strange is not None else []
        if unread.any():
            faults.append((f"bad-time:{rule.label}", unread if strange is None else unread & ~strange))
        if rule.field is not None:
            found.fields[rule.field] = _as_field(found.fields.get(rule.field), stamps, faults)
        else:
            found = _first_wins(found, number, text, stamps, faults)
    return found


_HALF_A_YEAR = timedelta(days=181)


def _near_event(rule: TimeRulePlan, found: Timing, reference: Reference) -> Reference:
    """The moment near which stamps lie: for a further stamp without a year the event's time, in either direction."""
    if rule.field is None or all(fmt.has_year for fmt in rule.reading.formats) or not found.time.is_not_null().any():
        return reference
    # a year lies before its reference; half a year on, it lies on either side of the event
    shifted = found.time.cast(INSTANT) + _HALF_A_YEAR
    return (
        shifted.fill_null(reference)
        if not isinstance(reference, pl.Series)
        else shifted.zip_with(shifted.is_not_null(), reference.cast(INSTANT))
    )


def _searched(
    rule: TimeRulePlan, text: pl.Series, reference: Reference, zone: str | None, zones: pl.Series | None
) -> tuple[pl.Series, Stamps]:
    """The text of a rule's stamps, and what they say."""
    if not rule.searches:
        return text, read(text, rule.reading, reference, zone, zones)
    found = rule.searches[0].texts(text)
    stamps = read(found, rule.reading, reference, zone, zones)
    for search in rule.searches[1:]:
        unread = ~stamps.good & found.is_not_null()
        if not unread.any():
            break
        other = search.texts(text.set(~unread, None))
        more = read(other, rule.reading, reference, zone, zones)
        good = more.good
        found = other.zip_with(good, found)
        stamps = Stamps(
            more.time.zip_with(good, stamps.time),
            more.notes.zip_with(good, stamps.notes),
            *(_either(good, new, old) for new, old in zip(more[2:], stamps[2:], strict=True)),
        )
    return found, stamps


def _believed(stamps: Stamps, limits: Limits, reference: Reference) -> tuple[Stamps, pl.Series | None]:
    """Stamps without those outside the limits, and a mask of these where there are any."""
    low, high = stamps.time.min(), stamps.time.max()
    if not isinstance(low, datetime) or not isinstance(high, datetime):
        return stamps, None
    if isinstance(limits.latest, datetime):
        latest: Reference = limits.latest
        last = limits.latest
    elif isinstance(reference, pl.Series):
        latest = reference + limits.latest
        earliest_reference = reference.min()
        assert isinstance(earliest_reference, datetime)
        last = earliest_reference + limits.latest
    else:
        last = latest = reference + limits.latest
    # two numbers clear nearly every batch
    if low >= limits.earliest and high <= last:
        return stamps, None
    strange = ((stamps.time < limits.earliest) | (stamps.time > latest)).fill_null(False)
    if not strange.any():
        return stamps, None
    return stamps._replace(time=stamps.time.set(strange, None), notes=stamps.notes.set(strange, 0)), strange


def _as_field(known: FieldStamps | None, stamps: Stamps, faults: Faults) -> FieldStamps:
    """A stamp as a field of its own; the first rule for it that gives an instant wins."""
    if known is None:
        return FieldStamps(stamps.time, stamps.notes, stamps.of_day, stamps.beyond, faults)
    taken = known.time.is_not_null()
    time = known.time.zip_with(taken, stamps.time)
    gone = time.is_null()
    if known.of_day is not None:
        taken = taken | known.of_day.is_not_null()
    return FieldStamps(
        time,
        known.notes.zip_with(taken, stamps.notes),
        _either(taken, known.of_day, stamps.of_day),
        _either(taken, known.beyond, stamps.beyond),
        [(name, mask & gone) for name, mask in (*known.faults, *faults)],
    )


def _first_wins(found: Timing, number: int, text: pl.Series, stamps: Stamps, faults: Faults) -> Timing:
    read_now = stamps.time.is_not_null()
    if stamps.of_day is not None:
        read_now = read_now | stamps.of_day.is_not_null()
    mine = pl.Series([number], dtype=pl.UInt8).new_from_index(0, len(text))
    # the first rule, or none before it gave any: nothing to put together
    if found.rule.null_count() == len(found.rule):
        return found._replace(
            time=stamps.time.alias("time"),
            notes=stamps.notes,
            later=stamps.later,
            of_day=stamps.of_day,
            beyond=stamps.beyond,
            rule=mine if read_now.all() else mine.set(~read_now, None),
            stamp=text,
            faults=[*found.faults, *faults],
        )
    taken = found.rule.is_not_null()
    new = ~taken & read_now
    return found._replace(
        time=found.time.zip_with(taken, stamps.time),
        notes=found.notes.zip_with(taken, stamps.notes),
        later=_either(taken, found.later, stamps.later),
        of_day=_either(taken, found.of_day, stamps.of_day),
        beyond=_either(taken, found.beyond, stamps.beyond),
        rule=found.rule.zip_with(~new, mine),
        stamp=found.stamp.zip_with(taken | (found.stamp.is_not_null() & ~new), text),
        faults=[*found.faults, *faults],
    )


def _either(taken: pl.Series, first: pl.Series | None, second: pl.Series | None) -> pl.Series | None:
    if first is None and second is None:
        return None
    present = first if first is not None else second
    assert present is not None
    none = pl.Series([None], dtype=present.dtype).new_from_index(0, len(taken))
    return (first if first is not None else none).zip_with(taken, second if second is not None else none)


def nanoseconds(time: pl.Series, beyond: pl.Series | None) -> pl.Series:
    """Nanoseconds since 1970; null outside the years 1678 to 2261, which 64 bits cannot hold."""
    micros = time.to_physical()
    limit = (2**63 - 1) // 1000
    nanos = micros.set((micros.abs() >= limit).fill_null(False), None) * 1000
    return nanos if beyond is None else nanos + beyond.fill_null(0).cast(pl.Int64)


def dated_fields(found: Timing, zones: Mapping[str, Zone]) -> dict[str, FieldStamps]:
    """The further stamps, with the date nearest to the event's time where they have none; zones are those of fields."""
    dated: dict[str, FieldStamps] = {}
    for name, stamps in found.fields.items():
        if stamps.of_day is not None:
            from kinglet.timestamps.order import near

            times = near(stamps.of_day, found.time.to_physical(), zones[name])
            instants = times.time.cast(pl.Datetime("us")).dt.replace_time_zone("UTC")
            bare = stamps.time.is_null() & stamps.of_day.is_not_null()
            stamps = stamps._replace(
                time=stamps.time.zip_with(~bare, instants),
                notes=stamps.notes.zip_with(~bare, stamps.notes | times.notes),
                faults=[*stamps.faults, (f"no-date:{name}", bare & instants.is_null())],
                of_day=None,
            )
        dated[name] = stamps
    return dated


def needs_order(plan: Plan, zone: str | None) -> bool:
    """Whether events depend on the events before: their times, or what steps remember."""
    return plan.remembers or times_need_order(plan, zone)


def times_need_order(plan: Plan, zone: str | None) -> bool:
    """Whether the times of a plan's events depend on the events before."""
    return plan.missing == "previous" or any(
        not rule.is_dated or _may_repeat(rule, zone) for rule in plan.times if rule.field is None
    )


def _may_repeat(rule: TimeRulePlan, zone: str | None) -> bool:
    if all(fmt.has_zone for fmt in rule.reading.formats):
        return any("%Z" in fmt.text for fmt in rule.reading.formats)
    found = zone_of(rule, zone)
    return rule.zone_slot is not None or found.name is not None


def zone_of(rule: TimeRulePlan, zone: str | None) -> Zone:
    """The zone of a rule's stamps that carry none; zone: that of the call."""
    return configured_zone(rule.reading.zone or zone or "UTC", rule.reading.zones) or Zone()
