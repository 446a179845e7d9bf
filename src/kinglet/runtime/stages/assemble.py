"""Assemble: fields, times, faults and states of events as one frame for each variant."""

from __future__ import annotations

from collections.abc import Sequence

import polars as pl

from kinglet.columns.faults import Faults, fault_lists
from kinglet.columns.repeated import repeated
from kinglet.plan.data import ROW, STATES
from kinglet.runtime.extraction.line_ends import TEXT_READ
from kinglet.runtime.parsed import VariantEvents
from kinglet.runtime.work import Bundle, Extracted, Values, Work
from kinglet.timestamps import notes

_NO_FAULTS = pl.Series("faults", [[]], dtype=pl.List(pl.String()))
_STATES = pl.Series("state", STATES, dtype=pl.Enum(STATES))


def assemble(work: Work) -> None:
    """Adds for each of what was extracted, in its order, a part for each variant."""
    assert work.times is not None
    parts: dict[int, list[VariantEvents]] = {}
    start = 0
    for item, values in zip(work.bundles, work.values, strict=True):
        height = len(item.group.rows)
        # an event that nothing reads has one fault, and that is not its time
        late = work.times.faults if item.state != "unmatched" else []
        of_time = [(name, mask.slice(start, height)) for name, mask in late]
        frame = _frame(item, values, work.times.columns.slice(start, height), of_time)
        start += height
        at = 0
        for place, member in item.members:
            parts[place] = []
            for variant, count in member.runs:
                parts[place].append(VariantEvents(variant, frame.slice(at, count)))
                at += count
    work.parts = [parts[place] for place in sorted(parts)]


def _frame(item: Bundle, values: Values, times: pl.DataFrame, of_time: Faults) -> pl.DataFrame:
    """The columns of a bundle: what was read before, values, row, state, faults, variant, times."""
    group, height = item.group, len(item.group.rows)
    faults = [(name, mask) for name, mask in (*group.faults, *values.faults, *of_time) if mask.any()]
    states = _STATES.slice(STATES.index(item.state), 1).new_from_index(0, height)
    if faults and item.state == "complete":
        masks = pl.DataFrame([mask.alias(str(i)) for i, (_, mask) in enumerate(faults)])
        states = states.set(masks.select_seq(pl.any_horizontal(pl.all())).to_series(), "partial")
    timed = set(times.columns)
    gone = {*timed, *(column.name for column in values.columns), item.consumed, TEXT_READ}
    own = [column for column in values.columns if column.name not in timed]
    before = [column for column in group.columns.get_columns() if column.name not in gone]
    named = fault_lists(faults) if faults else _NO_FAULTS.new_from_index(0, height)
    if values.notes:
        lists = [times["time_notes"], *(notes.lists(bits, f"{name}:") for name, bits in values.notes)]
        times = times.with_columns_seq(notes.joined(lists).alias("time_notes"))
    after = [group.rows.alias(ROW), states, named, _names(item.members)]
    return pl.DataFrame([*before, *own, *after, *times.get_columns()])


def _names(members: Sequence[tuple[int, Extracted]]) -> pl.Series:
    """The name of each event's variant."""
    runs = [(item.plan.variants[i].name if i is not None else None, n) for _, item in members for i, n in item.runs]
    return repeated(pl.Series("variant", [name for name, _ in runs], dtype=pl.String), [count for _, count in runs])
