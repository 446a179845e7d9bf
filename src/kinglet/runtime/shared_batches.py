"""A batch of events that several parsers may read: each event goes to the one that reads it best."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace

import polars as pl

from kinglet.cutting.cutter import EventBatch
from kinglet.plan.data import ROW, Plan
from kinglet.runtime.best_readers import ranks, winners
from kinglet.runtime.candidate_parsers import CandidateFinder, is_general
from kinglet.runtime.event_times import needs_order
from kinglet.runtime.extraction.candidate_variants import slices
from kinglet.runtime.extraction.regex_requests import Requests, run_requests, side_by_side
from kinglet.runtime.extraction.variants import read_events
from kinglet.runtime.handover import Handovers
from kinglet.runtime.mixed import Mixed
from kinglet.runtime.parsed import Parsed, VariantEvents
from kinglet.runtime.pipeline import STAGES, complete, parse_batch
from kinglet.runtime.stages.steps import steps
from kinglet.runtime.work import Extracted, Options, Work, reference_of

NO_PARSER = "no-parser"


class Tier:
    """Plans that are asked together; numbers: which of all they are."""

    def __init__(self, plans: Sequence[Plan], numbers: Sequence[int]) -> None:
        chooser = CandidateFinder([plans[i] for i in numbers])
        self.chooser, self.numbers = chooser, pl.Series(list(numbers), dtype=pl.UInt32)
        self.always = self.numbers[pl.Series(chooser.always, dtype=pl.UInt32)]


class Plans:
    """Plans that may read the same events. claim: how many of the first claim the log. strangers: see `_surely`.

    tiers: those that claim it, and the others, which are asked for what these do not read completely. same_times: of
    each plan the first whose time rules are the same.
    """

    def __init__(self, plans: Sequence[Plan], claim: int = 0, strangers: Iterable[int] = ()) -> None:
        self.plans = list(plans)
        self.strangers = frozenset(strangers)
        numbers = range(len(plans))
        self.tiers = [Tier(plans, part) for part in (numbers[:claim], numbers[claim:]) if len(part)]
        firsts: list[int] = []
        self.same_times: list[int] = []
        for i, plan in enumerate(plans):
            rules = (plan.times, plan.limits, plan.missing, plan.bare)
            # compared one by one: rules hold regexes and tables, of which not all can be hashed
            same = (j for j in firsts if (plans[j].times, plans[j].limits, plans[j].missing, plans[j].bare) == rules)
            first = next(same, i)
            if first == i:
                firsts.append(i)
            self.same_times.append(first)


def parse_by_several(
    batch: EventBatch, plans: Plans, unclaimed: Plan, options: Options, known: Handovers | None = None
) -> Mixed:
    """A batch; unclaimed: the plan of events that no other reads.

    known: what each plan knows of the logs from the batch before, and hands on to the next.
    """
    height = len(batch)
    rows = pl.int_range(height, dtype=pl.UInt32, eager=True)
    found: list[tuple[int, Parsed]] = []
    for tier in plans.tiers:
        open_ = rows.filter(ranks(found, height) > 0) if found else rows
        if not len(open_):
            break
        by_text = tier.chooser.by_text(batch.frame["raw"][open_])
        pairs = pl.DataFrame({"row": open_, "place": by_text}).drop_nulls().explode("place")
        pairs = pairs.with_columns_seq(tier.numbers[pairs["place"]].alias("place"))
        found += _each(batch, pairs, plans, options, known)
        # parsers without fixed text are asked last, and only for what no other has read completely
        if len(tier.always):
            open_ = rows.filter(ranks(found, height) > 0)
            if not len(open_):
                break
            pairs = pl.DataFrame({"row": open_}).join(pl.DataFrame({"place": tier.always}), how="cross")
            found += [
                (i, _surely(parsed, i in plans.strangers)) for i, parsed in _each(batch, pairs, plans, options, known)
            ]
    found = winners(found, height)
    taken = [part.frame[ROW] for _, parsed in found for part in parsed.parts]
    unread_rows = rows.filter(~rows.is_in(pl.concat(taken).implode())) if taken else rows
    if len(unread_rows):
        unread = _placed(parse_batch(unclaimed, _rows_of(batch, unread_rows), options), unread_rows)
        found.append((len(plans.plans), _nobody(unread)))
    return Mixed(tuple(parsed for _, parsed in found), batch.bytes_read)


def _each(
    batch: EventBatch, pairs: pl.DataFrame, plans: Plans, options: Options, known: Handovers | None
) -> Iterator[tuple[int, Parsed]]:
    """Each parser over the events for which it comes into question."""
    reference = options.reference_time or reference_of(batch, plans.plans[0])
    order, runs = slices(pairs["place"])
    all_rows = pairs["row"][order]
    whole = _rows_of(batch, all_rows)
    orders = [needs_order(plans.plans[number], options.zone) for number, _, _ in runs]
    readers: list[Requests[list[Extracted]]] = []
    for (number, start, length), in_order in zip(runs, orders, strict=True):
        rows = pl.int_range(length, dtype=pl.UInt32, eager=True) if in_order else all_rows.slice(start, length)
        readers.append(read_events(plans.plans[number], part_of(whole, start, length), rows, reference))
    read = run_requests(side_by_side(readers))
    shared: dict[int, list[tuple[int, Extracted]]] = {}
    for (number, _, _), in_order, found in zip(runs, orders, read, strict=True):
        # plans with the same time rules go through the stages together, which saves most of the time of many
        if not in_order:
            shared.setdefault(plans.same_times[number], []).extend((number, extracted) for extracted in found)
    for members in shared.values():
        yield from _same_times(batch, plans, members, options)
    for (number, start, length), in_order, found in zip(runs, orders, read, strict=True):
        if in_order:
            plan, events = plans.plans[number], part_of(whole, start, length)
            handover = known.of.get(number) if known is not None else None
            yield (
                number,
                _placed(complete(plan, events, found, options, handover), all_rows.slice(start, length)),
            )


def _same_times(
    batch: EventBatch, plans: Plans, members: Sequence[tuple[int, Extracted]], options: Options
) -> Iterator[tuple[int, Parsed]]:
    """What plans with the same rules for times have read, each by the number of its plan."""
    if not members:
        return
    work = Work.of(members[0][1].plan, batch, options)
    work.take([extracted for _, extracted in members])
    for stage in STAGES[1:-1]:  # all but to extract, which is done, and steps, which are each plan's own
        stage(work)
    of_plan: dict[int, list[VariantEvents]] = {}
    for (number, _), own in zip(members, work.parts, strict=True):
        of_plan.setdefault(number, []).extend(own)
    for number, own in of_plan.items():
        alone = replace(work, plan=plans.plans[number], parts=[own])
        steps(alone)
        yield number, replace(alone.parsed(), bytes_read=0)


def _placed(parsed: Parsed, rows: pl.Series) -> Parsed:
    """Some events of a batch; rows: where they stand in it."""
    frames = [item.frame.with_columns_seq(rows[item.frame[ROW]].alias(ROW)) for item in parsed.parts]
    parts = [VariantEvents(item.variant, frame) for item, frame in zip(parsed.parts, frames, strict=True)]
    return replace(parsed, parts=tuple(parts))


def _rows_of(batch: EventBatch, rows: pl.Series) -> EventBatch:
    faults = tuple((name, mask[rows]) for name, mask in batch.faults)
    return replace(batch, frame=batch.frame[rows], faults=faults, bytes_read=0)


def part_of(batch: EventBatch, start: int, length: int) -> EventBatch:
    faults = tuple((name, mask.slice(start, length)) for name, mask in batch.faults)
    return replace(batch, frame=batch.frame.slice(start, length), faults=faults, bytes_read=0)


def _surely(parsed: Parsed, is_stranger: bool) -> Parsed:
    """Only events that are complete, or have a variant and a time: no text tells that they are the parser's own.

    is_stranger: whether the parser claims texts, and none of them stands in the log: what it reads by a variant that
    reads anything is not its own.
    """
    parts = [
        part
        for part in parsed.parts
        if part.variant is not None and not (is_stranger and is_general(parsed.plan.variants[part.variant]))
    ]
    sure = [part.frame["time"].is_not_null() | part.frame["state"].is_in(["complete", "dropped"]) for part in parts]
    kept = [part.where(good) for part, good in zip(parts, sure, strict=True)]
    return replace(parsed, parts=tuple(part for part in kept if part.frame.height))


def _nobody(parsed: Parsed) -> Parsed:
    """Events that no parser reads, with the fault that says so."""

    def named(faults: pl.Expr) -> pl.Expr:
        return faults.list.eval(pl.when(pl.element() == "no-match").then(pl.lit(NO_PARSER)).otherwise(pl.element()))

    parts = tuple(
        VariantEvents(part.variant, part.frame.with_columns_seq(named(pl.col("faults")))) for part in parsed.parts
    )
    return replace(parsed, parts=parts)
