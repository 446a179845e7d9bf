"""A plan over batches: the order of steps for one batch, and many batches on several threads."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from datetime import datetime
from typing import TYPE_CHECKING, NamedTuple, TypeVar

import polars as pl

from kinglet.cutting.cutter import EventBatch
from kinglet.cutting.small_logs import cut_all
from kinglet.plan.data import Plan
from kinglet.runtime.assemble import Kept, bundled, finish, rows_of, times_of
from kinglet.runtime.candidate_variants import FEW
from kinglet.runtime.parsed import Parsed, Part
from kinglet.runtime.regex_requests import answered
from kinglet.runtime.time import needs_order
from kinglet.runtime.variants import read_events
from kinglet.runtime.workers import Turn, in_turn
from kinglet.source.logs import Source
from kinglet.timestamps.order import moment_in_name
from kinglet.timestamps.stamps import INSTANT, Reference

if TYPE_CHECKING:
    from kinglet.runtime.time_by_order import Placed
    from kinglet.timestamps.order import Known


class Options(NamedTuple):
    """What a call says beside the parser: the moment to take missing years from, a default zone."""

    reference_time: datetime | None = None
    zone: str | None = None


T = TypeVar("T")
_MOST_LARGER = 8
Settled = Callable[[Sequence["Placed"], Sequence[Source], pl.Series], list["Placed"]]
"""Settles the times of a batch by what is known of the batches before."""


def parse_batch(plan: Plan, batch: EventBatch, options: Options, settled: Settled | None = None) -> Parsed:
    """Parses one batch: envelope, kind, variants; then types, time and state; then steps."""
    reference = options.reference_time or reference_of(batch, plan)
    rows = pl.int_range(len(batch), dtype=pl.UInt32, eager=True)
    return completed(plan, batch, answered(read_events(plan, batch, rows, reference)), options, settled)


def parse_in_order(plan: Plan, batch: EventBatch, options: Options, known: Known) -> tuple[Parsed, Known]:
    """Parses one batch of one log; known: what the batches before it have shown of its times, and then it as well."""
    if not needs_order(plan, options.zone):
        return parse_batch(plan, batch, options), known
    from kinglet.runtime.time_by_order import settle

    after = known

    def settled(parts: Sequence[Placed], of: Sequence[Source], source_of: pl.Series) -> list[Placed]:
        nonlocal after
        memory = {id(source): (source, known) for source in of}
        found, memory_after = settle(plan, parts, of, source_of, options.zone, options.reference_time, memory)
        after = memory_after[id(of[0])][1]
        return found

    return parse_batch(plan, batch, options, settled), after


def completed(
    plan: Plan, batch: EventBatch, kept: Sequence[Kept], options: Options, settled: Settled | None = None
) -> Parsed:
    """Events of a batch that were read, with all that is told at its end: types, time and state; then steps."""
    reference = options.reference_time or reference_of(batch, plan)
    if not kept:
        return Parsed(plan, batch.sources, (), batch.bytes_read, reference)
    bundles = bundled(kept)
    times = times_of(plan, bundles, reference, options.zone)
    if settled is not None:
        from kinglet.runtime.time_by_order import Placed

        source_of = (
            batch.frame["#source"] if "#source" in batch.frame.columns else pl.zeros(len(batch), pl.UInt32, eager=True)
        )
        times = settled([Placed(rows_of(bundles), times)], batch.sources, source_of)[0].timing
    parts = [part for some in finish(plan, bundles, times, reference, options.zone) for part in some]
    return Parsed(plan, batch.sources, after_steps(plan, parts, reference), batch.bytes_read, reference)


def after_steps(plan: Plan, parts: Sequence[Part], reference: Reference) -> tuple[Part, ...]:
    """Parts after all steps of their plan."""
    if not plan.steps:
        return tuple(parts)
    from kinglet.runtime.steps import apply

    return tuple(Part(part.variant, apply(plan.steps, part.frame, reference)) for part in parts)


def reference_of(batch: EventBatch, plan: Plan) -> Reference:
    """The moment near which stamps lie: of the log, or where there are several, of each of them."""
    moments = [reference_of_source(source, plan) for source in batch.sources]
    if len(set(moments)) == 1:
        return moments[0]
    return pl.Series(moments, dtype=INSTANT)


def reference_of_source(source: Source, plan: Plan) -> datetime:
    """The moment near which a log's stamps lie: the date in its name, where the parser says so."""
    named = moment_in_name(source.name) if plan.year_of_name else None
    return source.reference if named is None else named


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
        def settled(parts: Sequence[Placed], of: Sequence[Source], source_of: pl.Series) -> list[Placed]:
            from kinglet.runtime.time_by_order import settle

            assert mine is not None
            memory = before.result() if before is not None else {}
            found, known = settle(plan, parts, of, source_of, options.zone, options.reference_time, memory)
            mine.set_result(known)
            return found

        parsed = parse_batch(plan, batch, options, settled if ordered else None)
        return parsed, then(parsed)

    return in_turn(batches, work, workers, ordered)
