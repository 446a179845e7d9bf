"""Events by the header that they stand under, and together again once they are read."""

from __future__ import annotations

from collections.abc import Sequence

import polars as pl

from kinglet.cutting.header_lines import HEADER
from kinglet.plan.data import Reading, StructurePlan
from kinglet.plan.headers import is_under_header, under
from kinglet.runtime.groups import Group, joined
from kinglet.source.logs import Source
from kinglet.structured.delimited import Delimited, UnderHeader


def with_headers(columns: pl.DataFrame, sources: Sequence[Source]) -> pl.DataFrame:
    """The events of a batch with the header that each stands under."""
    if HEADER in columns.columns:
        return columns
    of_log = pl.Series(HEADER, [source.header for source in sources], dtype=pl.String)
    if "#source" in columns.columns:
        return columns.with_columns_seq(of_log.gather(columns["#source"]))
    return columns.with_columns_seq(of_log.new_from_index(0, columns.height))


def by_header(reading: Reading, group: Group) -> list[tuple[Reading, Group]]:
    """Events by the header that they stand under, each with the reading as it is there."""
    if not is_under_header(reading):
        return [(reading, group)]
    said = group.columns[HEADER]
    kinds = said.unique(maintain_order=True)
    readings = [under(reading, header) for header in kinds]
    if len(kinds) == 1:
        return [(readings[0], group)]
    return [(one, group.where(said.eq_missing(kinds.slice(i, 1)))) for i, one in enumerate(readings)]


def with_other_columns(reading: Reading, group: Group | None) -> Group | None:
    """Events with the faults of those whose header has other columns than a reading of rows names or takes."""
    first = reading.structures[0] if reading.structures else None
    if group is None or first is None or HEADER not in group.columns.columns:
        return group
    structure = first.structure
    if first.source is not None or not isinstance(structure, Delimited) or isinstance(structure, UnderHeader):
        return group
    said = group.columns[HEADER]
    under: dict[str, list[str]] = {}
    for header in said.unique(maintain_order=True).drop_nulls():
        for fault in _other_columns(first, structure, header):
            under.setdefault(fault, []).append(header)
    faults = [(fault, said.is_in(headers).fill_null(False)) for fault, headers in under.items()]
    return group._replace(faults=[*group.faults, *faults]) if faults else group


def _other_columns(plan: StructurePlan, structure: Delimited, header: str) -> list[str]:
    """What is wrong with all rows below a header: with those that it names, and with those of names of one's own."""
    if structure.is_turned(header) or (plan.keys and not any(key in structure.names for key in plan.keys)):
        return ["other-columns"]
    renamed = structure.renamed(plan.keys)
    return [f"renamed-column:{plan.fields[plan.keys.index(key)].name}" for key in renamed]


def rejoined(groups: Sequence[Group | None]) -> Group | None:
    """Groups of one batch as one, in the order of their events; None where there are none."""
    there = [group for group in groups if group is not None]
    if len(there) < 2:
        return there[0] if there else None
    names = list(dict.fromkeys(name for group in there for name, _ in group.faults))
    whole = joined([_with_faults(group, names) for group in there])
    return whole.gather(whole.rows.arg_sort())


def _with_faults(group: Group, names: Sequence[str]) -> Group:
    """A group that has masks of some faults, in this order."""
    none = pl.Series([False]).new_from_index(0, len(group.rows))
    masks: dict[str, pl.Series] = {}
    for name, mask in group.faults:
        masks[name] = masks[name] | mask if name in masks else mask
    return group._replace(faults=[(name, masks.get(name, none)) for name in names])
