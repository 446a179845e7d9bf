"""Steps: the operations on fields that the parser lists, one after the other."""

from __future__ import annotations

import itertools

from kinglet.plan.steps import ActsAcross, Remembered, SomeEvents, StepPlan
from kinglet.runtime.handover import Handover
from kinglet.runtime.parsed import VariantEvents
from kinglet.runtime.steps import apply, done_to
from kinglet.runtime.work import Work


def steps(work: Work) -> None:
    """Puts in place of the parts what they are after all steps of the plan."""
    if not work.plan.steps:
        return
    if work.handover is None or not work.plan.remembers:
        work.parts = [
            [VariantEvents(part.variant, apply(work.plan.steps, part.frame, work.reference)) for part in parts]
            for parts in work.parts
        ]
        return
    flat = [part for parts in work.parts for part in parts]
    kept: dict[int, dict[int, Remembered]] = {i: {} for i in range(len(work.batch.sources))}
    for across, run in itertools.groupby(work.plan.steps, lambda step: isinstance(step.action, ActsAcross)):
        if not across:
            some = tuple(run)
            flat = [VariantEvents(part.variant, apply(some, part.frame, work.reference)) for part in flat]
            continue
        for step in run:
            flat = _across(work, step, work.handover, flat, kept)
    work.handover.kept.set_result({id(source): (source, kept[i]) for i, source in enumerate(work.batch.sources)})
    remaining = iter(flat)
    work.parts = [list(itertools.islice(remaining, len(parts))) for parts in work.parts]


def _across(
    work: Work, step: StepPlan, handover: Handover, parts: list[VariantEvents], kept: dict[int, dict[int, Remembered]]
) -> list[VariantEvents]:
    """A step that looks at all events together; kept: takes down what it keeps of each log."""
    assert isinstance(step.action, ActsAcross)
    some: list[SomeEvents] = []
    for part in parts:
        frame, where = done_to(step, part.frame)
        some.append(SomeEvents(frame, where))
    before: dict[int, Remembered] = {}
    for i, source in enumerate(work.batch.sources):
        _, known = handover.kept_before.get(id(source), (source, {}))
        before[i] = known.get(step.number, Remembered())
    frames, after = step.action.act_across(some, before)
    for i, one in after.items():
        kept[i][step.number] = one
    return [VariantEvents(part.variant, frame) for part, frame in zip(parts, frames, strict=True)]
