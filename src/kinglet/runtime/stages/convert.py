"""Convert: the text of fields to values of their types, each field of all bundles at once."""

from __future__ import annotations

import polars as pl

from kinglet.columns.faults import Faults
from kinglet.plan.data import FieldPlan
from kinglet.runtime.typed_values import convert as typed
from kinglet.runtime.work import Values, Work, one_column, references_of


def convert(work: Work) -> None:
    """Adds the values of each bundle's pending fields, what is wrong with them, and notes on those that are times."""
    groups = [item.group for item in work.bundles]
    members: dict[tuple[str, int], tuple[FieldPlan, list[int]]] = {}
    for i, group in enumerate(groups):
        for item in group.pending:
            members.setdefault((item.name, id(item.type)), (item, []))[1].append(i)
    values: list[dict[str, pl.Series]] = [{} for _ in groups]
    faults: list[dict[str, Faults]] = [{} for _ in groups]
    notes_of: list[Faults] = [[] for _ in groups]
    plan, zone = work.plan, work.options.zone
    for item, places in members.values():
        text = one_column([groups[i].texts.get_column(item.name) for i in places])
        is_time = item.type.value == "time"
        reference = references_of(work.reference, [groups[i] for i in places]) if is_time else work.reference
        noted: dict[str, pl.Series] = {}
        frame, bad = typed(pl.DataFrame([text.alias(item.name)]), [item], reference, plan.bare, zone, noted)
        whole, start = frame[item.name], 0
        for i in places:
            height = len(groups[i].rows)
            values[i][item.name] = whole.slice(start, height)
            if bad:
                faults[i][item.name] = [(name, mask.slice(start, height)) for name, mask in bad]
            notes_of[i] += [(name, bits.slice(start, height)) for name, bits in noted.items()]
            start += height
    work.values = [
        Values(
            [values[i][item.name] for item in group.pending],
            [fault for item in group.pending for fault in faults[i].get(item.name, ())],
            notes_of[i],
        )
        for i, group in enumerate(groups)
    ]
