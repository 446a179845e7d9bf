"""The end of a batch: types, faults, states and times of all events together, whatever variant they took.

A column operation has its cost for each call; a log of hundreds of variants would pay it for each of them.
"""

from __future__ import annotations

from collections.abc import Sequence
from itertools import accumulate
from typing import NamedTuple

import polars as pl

from kinglet.clock import notes
from kinglet.clock.reading import INSTANT, Reference
from kinglet.engine.convert import Faults, convert
from kinglet.engine.groups import Group
from kinglet.engine.parsed import Part
from kinglet.engine.plan import STAMP, STATES, FieldPlan, Plan
from kinglet.engine.timing import Timing, dated_fields, nanoseconds, timing, zone_of

_NO_FAULTS = pl.List(pl.String())
_STATES = pl.Series("state", STATES, dtype=pl.Enum(STATES))


class Kept(NamedTuple):
    """Events that one variant of a plan reads, or none does, and their state but for what is wrong with values."""

    plan: Plan
    variant: int | None
    group: Group
    state: str


def times_of(kept: Sequence[Kept], reference: Reference, zone: str | None) -> Timing:
    """The times of all events, group after group; their plans have the same rules."""
    plan, groups = kept[0].plan, [item.group for item in kept]
    slots = {name for rule in plan.times for name in (rule.slot, rule.zone_slot) if name is not None}
    frames = [
        pl.DataFrame([group.columns["raw"].alias("#raw"), *(group.texts[n] for n in group.texts.columns if n in slots)])
        for group in groups
    ]
    whole = frames[0] if len(frames) == 1 else pl.concat(frames, how="diagonal", rechunk=True)
    return timing(plan, whole["#raw"], whole.drop("#raw"), _nearest(reference, groups), zone)


def _nearest(reference: Reference, groups: Sequence[Group]) -> Reference:
    if not isinstance(reference, pl.Series):
        return reference
    return reference.gather(_concat([group.columns["#source"] for group in groups]))


def _concat(columns: Sequence[pl.Series]) -> pl.Series:
    return columns[0] if len(columns) == 1 else pl.concat(columns, rechunk=True)


def rows_of(kept: Sequence[Kept]) -> pl.Series:
    """The rows of the batch that all these events are, group after group."""
    return _concat([item.group.rows for item in kept])


def finish(kept: Sequence[Kept], times: Timing, reference: Reference, zone: str | None) -> list[Part]:
    """A part for each group: fields with their types, times, faults and states. times: of all events."""
    plan, groups = kept[0].plan, [item.group for item in kept]
    zones = {rule.field: zone_of(rule, zone) for rule in plan.times if rule.field is not None}
    times = times._replace(fields=dated_fields(times, zones))
    values, bad = _converted(groups, reference)
    timed = pl.DataFrame(_time_columns(plan, times, _nearest(reference, groups)))
    timed_names = set(timed.columns)
    stamps = timed.get_columns()
    late = [*(fault for found in times.fields.values() for fault in found.faults), *_time_faults(plan, times)]
    height = len(times.time)
    no_faults = pl.Series("faults", [[]], dtype=_NO_FAULTS).new_from_index(0, height)
    names = _names(kept)
    same = {state: _STATES.slice(STATES.index(state), 1).new_from_index(0, height) for state in {i.state for i in kept}}
    parts: list[Part] = []
    starts = accumulate((len(group.rows) for group in groups), initial=0)
    for item, value, wrong, start in zip(kept, values, bad, starts, strict=False):
        group, height = item.group, len(item.group.rows)
        of_time = [(name, mask.slice(start, height)) for name, mask in late] if item.state != "unmatched" else []
        faults = [(name, mask) for name, mask in (*group.faults, *wrong, *of_time) if mask.any()]
        states = same[item.state].slice(0, height)
        if faults and item.state == "complete":
            masks = pl.DataFrame([mask.alias(str(i)) for i, (_, mask) in enumerate(faults)])
            states = states.set(masks.select(pl.any_horizontal(pl.all())).to_series(), "partial")
        variant = item.plan.variants[item.variant] if item.variant is not None else None
        gone = timed_names.union(column.name for column in value)
        if variant is not None and item.plan.body is not None and variant.reads_body:
            gone.add(item.plan.body)
        own = [column for column in value if column.name not in timed_names]
        before = [column for column in group.columns.get_columns() if column.name not in gone]
        lists = _fault_lists(faults) if faults else no_faults.slice(0, height)
        after = [group.rows.alias("row"), states, lists, names.slice(start, height)]
        frame = pl.DataFrame([*before, *own, *after, *(column.slice(start, height) for column in stamps)])
        parts.append(Part(item.variant, frame))
    return parts


def _names(kept: Sequence[Kept]) -> pl.Series:
    """The name of each event's variant."""
    names = [item.plan.variants[item.variant].name if item.variant is not None else None for item in kept]
    heights = pl.Series([len(item.group.rows) for item in kept], dtype=pl.UInt32)
    frame = pl.DataFrame({"variant": pl.Series(names, dtype=pl.String), "height": heights})
    return frame.select(pl.col("variant").repeat_by("height").explode(empty_as_null=False)).to_series()


def _converted(groups: Sequence[Group], reference: Reference) -> tuple[list[list[pl.Series]], list[Faults]]:
    """The values of each group's pending fields, and what is wrong with them; each field of all groups at once."""
    # by a type's identity: to hash all that it consists of takes longer than to convert a few hundred texts
    members: dict[tuple[str, int], tuple[FieldPlan, list[int]]] = {}
    for i, group in enumerate(groups):
        for item in group.pending:
            members.setdefault((item.name, id(item.type)), (item, []))[1].append(i)
    values: list[dict[str, pl.Series]] = [{} for _ in groups]
    faults: list[dict[str, Faults]] = [{} for _ in groups]
    for item, places in members.values():
        text = _concat([groups[i].texts[item.name] for i in places])
        moments = _nearest(reference, [groups[i] for i in places]) if item.type.value == "time" else reference
        frame, bad = convert(pl.DataFrame([text.alias(item.name)]), [item], moments)
        whole, start = frame[item.name], 0
        for i in places:
            height = len(groups[i].rows)
            values[i][item.name] = whole.slice(start, height)
            if bad:
                faults[i][item.name] = [(name, mask.slice(start, height)) for name, mask in bad]
            start += height
    return (
        [[values[i][item.name] for item in group.pending] for i, group in enumerate(groups)],
        [[fault for item in group.pending for fault in faults[i].get(item.name, ())] for i, group in enumerate(groups)],
    )


def _time_faults(plan: Plan, found: Timing) -> Faults:
    """What is wrong with the stamps of events that have no time of their own."""
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


def _time_columns(plan: Plan, found: Timing, reference: Reference) -> list[pl.Series]:
    """The event's time, how it was found, and the fields of further stamps."""
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
    columns.append(_together(lists).alias("time_notes"))
    for item in plan.times:
        if item.nanos is not None and item.field is None:
            columns.append(nanoseconds(time, found.beyond).alias(item.nanos))
        elif item.nanos is not None and item.field in found.fields:
            stamps = found.fields[item.field]
            columns.append(nanoseconds(stamps.time, stamps.beyond).alias(item.nanos))
    return list({column.name: column for column in columns}.values())


def _together(lists: list[pl.Series]) -> pl.Series:
    if len(lists) == 1:
        return lists[0]
    some = pl.DataFrame([column.alias(str(i)) for i, column in enumerate(lists)])
    every = pl.concat_list(pl.col(name).fill_null([]) for name in some.columns)
    return some.select(pl.when(every.list.len() > 0).then(every)).to_series()


def _fault_lists(faults: Faults) -> pl.Series:
    """The names of what is wrong with each event."""
    named = [
        pl.DataFrame({"bad": mask}).select(pl.when("bad").then(pl.lit(name)).alias(str(i))).to_series()
        for i, (name, mask) in enumerate(faults)
    ]
    lists = pl.DataFrame(named).select(pl.concat_list(pl.all()).list.drop_nulls().alias("faults"))
    return lists.to_series()
