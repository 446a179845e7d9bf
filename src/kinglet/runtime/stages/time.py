"""Time: which timestamp is the event's, what it says, and what the order of the log says where it leaves that open."""

from __future__ import annotations

from collections.abc import Sequence

import polars as pl

from kinglet.columns.faults import Faults
from kinglet.plan.data import STAMP, Plan
from kinglet.runtime.event_times import Timing, dated_fields, nanoseconds, timing, zone_of
from kinglet.runtime.groups import Group
from kinglet.runtime.work import Bundle, TimeColumns, Work, one_column, references_of, rows_of
from kinglet.timestamps import notes
from kinglet.timestamps.stamps import INSTANT, Reference


def time(work: Work) -> None:
    """Adds the columns that say when events were, and what is wrong with their timestamps."""
    plan, batch, zone = work.plan, work.batch, work.options.zone
    times = times_of(plan, work.bundles, work.reference, zone)
    if work.by_order is not None:
        of_one = "#source" not in batch.frame.columns
        source_of = pl.zeros(len(batch), pl.UInt32, eager=True) if of_one else batch.frame["#source"]
        times = work.by_order(rows_of(work.bundles), times, batch.sources, source_of)
    zones = {rule.field: zone_of(rule, zone) for rule in plan.times if rule.field is not None}
    times = times._replace(fields=dated_fields(times, zones))
    reference = references_of(work.reference, [item.group for item in work.bundles])
    faults = [*(fault for found in times.fields.values() for fault in found.faults), *_faults(plan, times)]
    work.times = TimeColumns(pl.DataFrame(_columns(plan, times, reference)), faults)


def times_of(plan: Plan, bundles: Sequence[Bundle], reference: Reference, zone: str | None) -> Timing:
    """The times of all events, bundle after bundle; plan: one of those that read them, of which all have its rules."""
    groups = [item.group for item in bundles]
    slots = {name for rule in plan.times for name in rule.slots if name is not None}
    raw = one_column([group.columns.get_column("raw") for group in groups])
    texts = [_everywhere(name, groups) for name in slots if any(name in group.texts.columns for group in groups)]
    frame = pl.DataFrame(texts) if texts else pl.DataFrame(height=len(raw))
    return timing(plan, raw, frame, references_of(reference, groups), zone)


def _everywhere(name: str, groups: Sequence[Group]) -> pl.Series:
    """The text of a field in all groups, null in those that do not have it."""
    nothing = pl.Series(name, [None], dtype=pl.String)
    return one_column(
        [
            group.texts.get_column(name) if name in group.texts.columns else nothing.new_from_index(0, len(group.rows))
            for group in groups
        ]
    )


def _faults(plan: Plan, found: Timing) -> Faults:
    """What is wrong with the timestamps of events that have no time of their own."""
    gone = found.rule.is_null()
    faults: Faults = []
    if found.of_day is not None:
        undated = found.of_day.is_not_null() & found.time.is_null()
        labels = plan.rules
        for number in found.rule.filter(undated).unique().to_list():
            faults.append((f"no-date:{labels[number]}", undated & (found.rule == number).fill_null(False)))
    if plan.rules and gone.any():
        silent = gone
        for name, mask in found.faults:
            mask = mask & gone
            silent = silent & ~mask
            faults.append((name, mask))
        if plan.missing == "previous":
            silent = silent & found.time.is_null()
        if plan.missing != "file":
            faults.append(("no-time", silent))
    return [(name, mask) for name, mask in faults if mask.any()]


def _columns(plan: Plan, found: Timing, reference: Reference) -> list[pl.Series]:
    """The event's time, how it was found, and the fields of further timestamps."""
    time, bits = found.time, found.notes
    if plan.missing == "file" and time.null_count():
        gone = time.is_null()
        at = reference.cast(INSTANT) if isinstance(reference, pl.Series) else pl.Series([reference], dtype=INSTANT)
        time = time.zip_with(~gone, at if len(at) == len(time) else at.new_from_index(0, len(time)))
        bits = bits | notes.where(gone, "time-of-log")
    columns = [
        time.alias("time"),
        found.rule.cat.to(pl.Enum(plan.rules)).alias("time_rule"),
        found.stamp.alias(STAMP),
    ]
    lists = [notes.lists(bits)]
    for name, stamps in found.fields.items():
        columns.append(stamps.time.alias(name))
        if (stamps.notes != 0).any():
            lists.append(notes.lists(stamps.notes, f"{name}:"))
    columns.append(notes.joined(lists).alias("time_notes"))
    for item in plan.times:
        if item.nanos is not None and item.field is None:
            columns.append(nanoseconds(time, found.beyond).alias(item.nanos))
        elif item.nanos is not None and item.field in found.fields:
            stamps = found.fields[item.field]
            columns.append(nanoseconds(stamps.time, stamps.beyond).alias(item.nanos))
    return list({column.name: column for column in columns}.values())
