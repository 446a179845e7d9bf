"""The end of a batch: types, faults, states and times of all events together, whatever variant they took.

A column operation has its cost for each call; a log of hundreds of variants would pay it for each of them.
"""

from __future__ import annotations

from collections.abc import Hashable, Sequence
from typing import NamedTuple

import polars as pl

from kinglet.columns.faults import Faults
from kinglet.columns.repeated import repeated
from kinglet.plan.data import ROW, STAMP, STATES, FieldPlan, Plan
from kinglet.runtime.convert import convert
from kinglet.runtime.groups import Group, joined
from kinglet.runtime.parsed import Part
from kinglet.runtime.time import Timing, dated_fields, nanoseconds, timing, zone_of
from kinglet.timestamps import notes
from kinglet.timestamps.stamps import INSTANT, Reference

_NO_FAULTS = pl.Series("faults", [[]], dtype=pl.List(pl.String()))
_STATES = pl.Series("state", STATES, dtype=pl.Enum(STATES))


class Kept(NamedTuple):
    """Events that variants of a plan read, or none does, and their state but for what is wrong with values.

    runs: the variants, one after the other, and how many of the events each of them reads.
    """

    plan: Plan
    runs: tuple[tuple[int | None, int], ...]
    group: Group
    state: str

    @staticmethod
    def of(plan: Plan, variant: int | None, group: Group, state: str) -> Kept:
        """Events that one variant reads."""
        return Kept(plan, ((variant, len(group.rows)),), group, state)

    @property
    def gone(self) -> str | None:
        """The slot of the envelope that is none of the fields, since the variants read it."""
        first = self.runs[0][0]
        return self.plan.body if first is not None and self.plan.variants[first].reads_body else None


class Bundle(NamedTuple):
    """Groups of events with the same columns and the same state, as one; members: each, and its place among all."""

    group: Group
    state: str
    gone: str | None
    """The slot of the envelope that is none of their fields, since their variants read it."""
    members: list[tuple[int, Kept]]


def bundled(kept: Sequence[Kept]) -> list[Bundle]:
    """Groups put together where that is possible; a log of many variants has many groups, and few kinds of them."""
    by_form: dict[Hashable, list[tuple[int, Kept]]] = {}
    for place, item in enumerate(kept):
        by_form.setdefault(_form(item), []).append((place, item))
    return [
        Bundle(joined([item.group for _, item in members]), members[0][1].state, members[0][1].gone, members)
        for members in by_form.values()
    ]


def _form(item: Kept) -> Hashable:
    """What groups have in common that can be one."""
    group = item.group
    # a type by its identity: to hash all that it consists of takes longer than to convert a few hundred texts
    pending = tuple((field.name, id(field.type)) for field in group.pending)
    columns = tuple(group.columns.schema.items())
    faults = tuple(name for name, _ in group.faults)
    return item.state, item.gone, columns, tuple(group.texts.columns), pending, faults


def times_of(plan: Plan, bundles: Sequence[Bundle], reference: Reference, zone: str | None) -> Timing:
    """The times of all events, bundle after bundle; plan: one of those that read them, of which all have its rules."""
    groups = [item.group for item in bundles]
    slots = {name for rule in plan.times for name in rule.slots if name is not None}
    raw = _concat([group.columns.get_column("raw") for group in groups])
    texts = [_everywhere(name, groups) for name in slots if any(name in group.texts.columns for group in groups)]
    frame = pl.DataFrame(texts) if texts else pl.DataFrame(height=len(raw))
    return timing(plan, raw, frame, _nearest(reference, groups), zone)


def _everywhere(name: str, groups: Sequence[Group]) -> pl.Series:
    """The text of a field in all groups, null in those that do not have it."""
    nothing = pl.Series(name, [None], dtype=pl.String)
    return _concat(
        [
            group.texts.get_column(name) if name in group.texts.columns else nothing.new_from_index(0, len(group.rows))
            for group in groups
        ]
    )


def _nearest(reference: Reference, groups: Sequence[Group]) -> Reference:
    if not isinstance(reference, pl.Series):
        return reference
    return reference.gather(_concat([group.columns.get_column("#source") for group in groups]))


def _concat(columns: Sequence[pl.Series]) -> pl.Series:
    return columns[0].rechunk() if len(columns) == 1 else pl.concat(columns, rechunk=True)


def rows_of(bundles: Sequence[Bundle]) -> pl.Series:
    """The rows of the batch that all these events are, bundle after bundle."""
    return _concat([item.group.rows for item in bundles])


def finish(
    plan: Plan, bundles: Sequence[Bundle], times: Timing, reference: Reference, zone: str | None
) -> list[list[Part]]:
    """For all that was put together in bundles, in its order, a part for each variant: fields, times, faults, states.

    times: of all events. plan: one of those that read them, of which all have its rules for times.
    """
    groups = [item.group for item in bundles]
    zones = {rule.field: zone_of(rule, zone) for rule in plan.times if rule.field is not None}
    times = times._replace(fields=dated_fields(times, zones))
    values, bad, noted = _converted(plan, groups, reference, zone)
    timed = pl.DataFrame(_time_columns(plan, times, _nearest(reference, groups)))
    timed_names = set(timed.columns)
    late = [*(fault for found in times.fields.values() for fault in found.faults), *_time_faults(plan, times)]
    parts: dict[int, list[Part]] = {}
    start = 0
    for item, value, wrong, of_fields in zip(bundles, values, bad, noted, strict=True):
        group, height = item.group, len(item.group.rows)
        of_time = [(name, mask.slice(start, height)) for name, mask in late] if item.state != "unmatched" else []
        faults = [(name, mask) for name, mask in (*group.faults, *wrong, *of_time) if mask.any()]
        states = _STATES.slice(STATES.index(item.state), 1).new_from_index(0, height)
        if faults and item.state == "complete":
            masks = pl.DataFrame([mask.alias(str(i)) for i, (_, mask) in enumerate(faults)])
            states = states.set(masks.select(pl.any_horizontal(pl.all())).to_series(), "partial")
        gone = {*timed_names, *(column.name for column in value), item.gone}
        own = [column for column in value if column.name not in timed_names]
        before = [column for column in group.columns.get_columns() if column.name not in gone]
        fault_lists = _fault_lists(faults) if faults else _NO_FAULTS.new_from_index(0, height)
        after = [group.rows.alias(ROW), states, fault_lists, _names(item.members)]
        time_columns = timed.slice(start, height)
        if of_fields:
            lists = [time_columns["time_notes"], *(notes.lists(bits, f"{name}:") for name, bits in of_fields)]
            time_columns = time_columns.with_columns(_together(lists).alias("time_notes"))
        frame = pl.DataFrame([*before, *own, *after, *time_columns.get_columns()])
        start += height
        at = 0
        for place, member in item.members:
            parts[place] = []
            for variant, count in member.runs:
                parts[place].append(Part(variant, frame.slice(at, count)))
                at += count
    return [parts[place] for place in sorted(parts)]


def _names(members: Sequence[tuple[int, Kept]]) -> pl.Series:
    """The name of each event's variant."""
    runs = [(item.plan.variants[i].name if i is not None else None, n) for _, item in members for i, n in item.runs]
    return repeated(pl.Series("variant", [name for name, _ in runs], dtype=pl.String), [count for _, count in runs])


def _converted(
    plan: Plan, groups: Sequence[Group], reference: Reference, zone: str | None
) -> tuple[list[list[pl.Series]], list[Faults], list[Faults]]:
    """The values of each group's pending fields, what is wrong with them, and notes on those that are stamps.

    Each field of all groups is done at once.
    """
    members: dict[tuple[str, int], tuple[FieldPlan, list[int]]] = {}
    for i, group in enumerate(groups):
        for item in group.pending:
            members.setdefault((item.name, id(item.type)), (item, []))[1].append(i)
    values: list[dict[str, pl.Series]] = [{} for _ in groups]
    faults: list[dict[str, Faults]] = [{} for _ in groups]
    notes_of: list[Faults] = [[] for _ in groups]
    for item, places in members.values():
        text = _concat([groups[i].texts.get_column(item.name) for i in places])
        moments = _nearest(reference, [groups[i] for i in places]) if item.type.value == "time" else reference
        noted: dict[str, pl.Series] = {}
        frame, bad = convert(pl.DataFrame([text.alias(item.name)]), [item], moments, plan.bare, zone, noted)
        whole, start = frame[item.name], 0
        for i in places:
            height = len(groups[i].rows)
            values[i][item.name] = whole.slice(start, height)
            if bad:
                faults[i][item.name] = [(name, mask.slice(start, height)) for name, mask in bad]
            notes_of[i] += [(name, bits.slice(start, height)) for name, bits in noted.items()]
            start += height
    return (
        [[values[i][item.name] for item in group.pending] for i, group in enumerate(groups)],
        [[fault for item in group.pending for fault in faults[i].get(item.name, ())] for i, group in enumerate(groups)],
        notes_of,
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
