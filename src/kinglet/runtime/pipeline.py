"""The way of a batch of events: its stages in order, and many batches on several threads.

Before these stages `cutting` makes batches of a log's bytes; behind them `output.views` maps the events onto the model,
where asked, and `output.writers` writes them, on the thread that parsed them.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from types import MappingProxyType
from typing import NamedTuple

from kinglet.cutting.cutter import EventBatch
from kinglet.cutting.small_logs import cut_all
from kinglet.plan.data import Plan
from kinglet.plan.steps import Remembered
from kinglet.runtime.event_times import needs_order, times_need_order
from kinglet.runtime.extraction.candidate_variants import FEW
from kinglet.runtime.handover import Handover
from kinglet.runtime.parsed import Parsed
from kinglet.runtime.stages.assemble import assemble
from kinglet.runtime.stages.convert import convert
from kinglet.runtime.stages.extract import extract
from kinglet.runtime.stages.steps import steps
from kinglet.runtime.stages.time import time
from kinglet.runtime.work import ByOrder, Extracted, Options, Work
from kinglet.runtime.workers import Then, in_turn
from kinglet.source.logs import Source
from kinglet.timestamps.order import Known

STAGES: tuple[Callable[[Work], None], ...] = (
    extract,  # the envelope, the kind, the variant; fields are text
    convert,  # text to values of their types
    time,  # which timestamp counts, and what it says
    assemble,  # states, faults, and one frame for each variant
    steps,  # operations on fields
)
"""What is done to a batch, in order; each adds to the work what the next ones need."""

_MOST_LARGER = 8  # speed: batches of many variants hold more events, as each variant has its cost


def parse_batch(plan: Plan, batch: EventBatch, options: Options, handover: Handover | None = None) -> Parsed:
    """Parses one batch; handover: what the batches before have shown, where the plan needs that."""
    return _done(begun(plan, batch, options, handover), STAGES)


def complete(
    plan: Plan,
    batch: EventBatch,
    extracted: Sequence[Extracted],
    options: Options,
    handover: Handover | None = None,
) -> Parsed:
    """Parses one batch from which events were extracted already, together with those of other parsers."""
    work = begun(plan, batch, options, handover)
    work.take(extracted)
    return _done(work, STAGES[1:])


def begun(plan: Plan, batch: EventBatch, options: Options, handover: Handover | None = None) -> Work:
    """A batch before its first stage."""
    by_order: ByOrder | None = None
    if handover is not None and times_need_order(plan, options.zone):
        from kinglet.runtime.time_by_order import times_resolver

        by_order = times_resolver(plan, options, handover)
    return Work.of(plan, batch, options, by_order, handover)


def _done(work: Work, stages: Sequence[Callable[[Work], None]]) -> Parsed:
    for stage in stages:
        if work.extracted is None or work.bundles:
            stage(work)
    return work.parsed()


class LogState(NamedTuple):
    """What the batches of one log have shown so far: of its times, and what steps have kept, by their numbers."""

    known: Known = Known()
    kept: Mapping[int, Remembered] = MappingProxyType({})


def parse_in_order(plan: Plan, batch: EventBatch, options: Options, state: LogState) -> tuple[Parsed, LogState]:
    """Parses one batch of one log; state: what the batches before it have shown, and then it as well."""
    if not needs_order(plan, options.zone):
        return parse_batch(plan, batch, options), state
    sources = batch.sources
    handover = Handover.of(
        {id(source): (source, state.known) for source in sources},
        {id(source): (source, state.kept) for source in sources},
    )
    parsed = parse_batch(plan, batch, options, handover)
    handover.close()
    known = next(iter(handover.times.result().values()))[1]
    return parsed, LogState(known, next(iter(handover.kept.result().values()))[1])


def run(
    plan: Plan,
    sources: Iterable[Source],
    options: Options,
    workers: int | None,
    then: Then | None,
) -> Iterator[Parsed]:
    """Parses sources in order, batch by batch; a bounded number of batches is in memory at a time."""
    larger = min(_MOST_LARGER, max(1, len(plan.variants) // FEW))  # speed
    batches = cut_all(sources, plan.cut, larger=larger)

    def parse(batch: EventBatch, handover: Handover | None) -> Parsed:
        parsed = parse_batch(plan, batch, options, handover)
        if handover is not None:
            handover.close()
        return parsed

    return in_turn(batches, parse, workers, Handover if needs_order(plan, options.zone) else None, then)
