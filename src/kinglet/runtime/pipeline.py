"""The way of a batch of events: its stages in order, and many batches on several threads.

Before these stages `cutting` makes batches of a log's bytes; behind them `output.views` maps the events onto the model,
where asked, and `output.writers` writes them, on the thread that parsed them.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import TypeVar

from kinglet.cutting.cutter import EventBatch
from kinglet.cutting.small_logs import cut_all
from kinglet.plan.data import Plan
from kinglet.runtime.event_times import needs_order
from kinglet.runtime.extraction.candidate_variants import FEW
from kinglet.runtime.parsed import Parsed
from kinglet.runtime.stages.assemble import assemble
from kinglet.runtime.stages.convert import convert
from kinglet.runtime.stages.extract import extract
from kinglet.runtime.stages.steps import steps
from kinglet.runtime.stages.time import time
from kinglet.runtime.work import ByOrder, Extracted, Options, Work
from kinglet.runtime.workers import Turn, in_turn
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

T = TypeVar("T")
_MOST_LARGER = 8


def parse_batch(plan: Plan, batch: EventBatch, options: Options, by_order: ByOrder | None = None) -> Parsed:
    """Parses one batch; by_order: what the batches before have shown of times, where the plan needs that."""
    return _done(Work.of(plan, batch, options, by_order), STAGES)


def complete(
    plan: Plan,
    batch: EventBatch,
    extracted: Sequence[Extracted],
    options: Options,
    by_order: ByOrder | None = None,
) -> Parsed:
    """Parses one batch from which events were extracted already, together with those of other parsers."""
    work = Work.of(plan, batch, options, by_order)
    work.take(extracted)
    return _done(work, STAGES[1:])


def _done(work: Work, stages: Sequence[Callable[[Work], None]]) -> Parsed:
    for stage in stages:
        if work.extracted is None or work.bundles:
            stage(work)
    return work.parsed()


def parse_in_order(plan: Plan, batch: EventBatch, options: Options, known: Known) -> tuple[Parsed, Known]:
    """Parses one batch of one log; known: what the batches before it have shown of its times, and then it as well."""
    if not needs_order(plan, options.zone):
        return parse_batch(plan, batch, options), known
    from kinglet.runtime.time_by_order import Memory, times_resolver

    before: Memory = {id(source): (source, known) for source in batch.sources}
    after: list[Memory] = []
    parsed = parse_batch(plan, batch, options, times_resolver(plan, options, lambda: before, after.append))
    return parsed, next(iter(after[-1].values()))[1] if after else known


def run(
    plan: Plan,
    sources: Iterable[Source],
    options: Options,
    workers: int | None,
    then: Callable[[Parsed], T],
) -> Iterator[tuple[Parsed, T]]:
    """Parses sources in order, batch by batch; a bounded number of batches is in memory at a time.

    then is done to every batch by the thread that parsed it.
    """
    batches = cut_all(sources, plan.cut, larger=min(_MOST_LARGER, max(1, len(plan.variants) // FEW)))
    ordered = needs_order(plan, options.zone)

    def work(batch: EventBatch, before: Turn | None, mine: Turn | None) -> tuple[Parsed, T]:
        by_order: ByOrder | None = None
        if mine is not None:
            from kinglet.runtime.time_by_order import times_resolver

            by_order = times_resolver(
                plan, options, lambda: before.result() if before is not None else {}, mine.set_result
            )
        parsed = parse_batch(plan, batch, options, by_order)
        return parsed, then(parsed)

    return in_turn(batches, work, workers, ordered)
