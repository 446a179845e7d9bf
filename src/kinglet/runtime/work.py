"""A batch on its way: what is given, and what each stage adds to it."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import NamedTuple

import polars as pl

from kinglet.columns.faults import Faults
from kinglet.cutting.cutter import EventBatch
from kinglet.plan.data import Plan
from kinglet.runtime.event_times import Timing
from kinglet.runtime.groups import Group, joined
from kinglet.runtime.handover import Handover
from kinglet.runtime.parsed import Parsed, VariantEvents
from kinglet.source.logs import Source
from kinglet.timestamps.order import moment_in_name
from kinglet.timestamps.stamps import INSTANT, Reference


class Options(NamedTuple):
    """What a call says beside the parser: near which moment missing years are taken, a default zone."""

    reference_time: datetime | None = None
    zone: str | None = None


class Extracted(NamedTuple):
    """Events that variants of a plan read, or none does, and their state but for what is wrong with values.

    runs: the variants, one after the other, and how many of the events each of them reads.
    """

    plan: Plan
    runs: tuple[tuple[int | None, int], ...]
    group: Group
    state: str

    @staticmethod
    def of(plan: Plan, variant: int | None, group: Group, state: str) -> Extracted:
        """Events that one variant reads."""
        return Extracted(plan, ((variant, len(group.rows)),), group, state)

    @property
    def consumed(self) -> str | None:
        """The slot of the envelope that is none of the fields, since the variants read it."""
        first = self.runs[0][0]
        return self.plan.body if first is not None and self.plan.variants[first].consumes_body else None


class Bundle(NamedTuple):
    """Groups of events with the same columns and the same state, as one; members: each, and its place among all.

    A column operation has its cost for each call; a log of hundreds of variants would pay it for each of them.
    """

    group: Group
    state: str
    consumed: str | None
    """The slot of the envelope that is none of their fields, since their variants read it."""
    members: list[tuple[int, Extracted]]


class Values(NamedTuple):
    """What the fields of a bundle that were text so far have become.

    columns: the values. faults: of those that their type does not know. notes: of those that are timestamps.
    """

    columns: list[pl.Series]
    faults: Faults
    notes: Faults


class TimeColumns(NamedTuple):
    """The times of all events, bundle after bundle: columns of the frame, and what is wrong with them."""

    columns: pl.DataFrame
    faults: Faults


ByOrder = Callable[[pl.Series, Timing, Sequence[Source], pl.Series], Timing]
"""Settles times by the order of the logs: rows of the batch, their times, the logs, and of each row its log."""


@dataclass
class Work:
    """A batch on its way through the stages.

    by_order: settles times by what the batches before have shown, where the plan's need it. handover: what it takes
    from the batch before and hands on, none where the order of events is not known. extracted, bundles: added by
    `extract`. values: of each bundle, by `convert`. times: by `time`. parts: of each of `extracted`, by `assemble`, and
    by `steps` as they are after them.
    """

    plan: Plan
    batch: EventBatch
    options: Options
    reference: Reference
    by_order: ByOrder | None = None
    handover: Handover | None = None
    extracted: Sequence[Extracted] | None = None
    bundles: list[Bundle] = field(default_factory=list)
    values: list[Values] = field(default_factory=list)
    times: TimeColumns | None = None
    parts: list[list[VariantEvents]] = field(default_factory=list)

    @staticmethod
    def of(
        plan: Plan,
        batch: EventBatch,
        options: Options,
        by_order: ByOrder | None = None,
        handover: Handover | None = None,
    ) -> Work:
        return Work(plan, batch, options, options.reference_time or reference_of(batch, plan), by_order, handover)

    def take(self, extracted: Sequence[Extracted]) -> None:
        """Takes what was extracted from the events, bundled."""
        self.extracted, self.bundles = extracted, bundled(extracted)

    def parsed(self) -> Parsed:
        """What the batch has become."""
        parts = tuple(part for variants in self.parts for part in variants)
        return Parsed(self.plan, self.batch.sources, parts, self.batch.bytes_read, self.reference)


def bundled(extracted: Sequence[Extracted]) -> list[Bundle]:
    """Groups put together where that is possible; a log of many variants has many groups, and few kinds of them."""
    by_columns: dict[Hashable, list[tuple[int, Extracted]]] = {}
    for place, item in enumerate(extracted):
        by_columns.setdefault(_alike_by(item), []).append((place, item))
    return [
        Bundle(joined([item.group for _, item in members]), members[0][1].state, members[0][1].consumed, members)
        for members in by_columns.values()
    ]


def _alike_by(item: Extracted) -> Hashable:
    """What groups have in common that can be one."""
    group = item.group
    # a type by its identity: to hash all that it consists of takes longer than to convert a few hundred texts
    pending = tuple((field.name, id(field.type)) for field in group.pending)
    columns = tuple(group.columns.schema.items())
    faults = tuple(name for name, _ in group.faults)
    return item.state, item.consumed, columns, tuple(group.texts.columns), pending, faults


def reference_of(batch: EventBatch, plan: Plan) -> Reference:
    """The moment near which timestamps lie: of the log, or where there are several, of each of them."""
    moments = [_of_source(source, plan) for source in batch.sources]
    if len(set(moments)) == 1:
        return moments[0]
    return pl.Series(moments, dtype=INSTANT)


def _of_source(source: Source, plan: Plan) -> datetime:
    """The moment near which a log's timestamps lie: the date in its name, where the parser says so."""
    named = moment_in_name(source.name) if plan.year_of_name else None
    return source.reference if named is None else named


def rows_of(bundles: Sequence[Bundle]) -> pl.Series:
    """The rows of the batch that all these events are, bundle after bundle."""
    return one_column([item.group.rows for item in bundles])


def one_column(columns: Sequence[pl.Series]) -> pl.Series:
    """Columns one after the other, in one piece: what follows is quicker on it."""
    return columns[0].rechunk() if len(columns) == 1 else pl.concat(columns, rechunk=True)


def references_of(reference: Reference, groups: Sequence[Group]) -> Reference:
    """The reference of each event of some groups, where they come from several logs."""
    if not isinstance(reference, pl.Series):
        return reference
    return reference[one_column([group.columns.get_column("#source") for group in groups])]
