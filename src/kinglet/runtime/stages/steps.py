"""Steps: the operations on fields that the parser lists, one after the other."""

from __future__ import annotations

from kinglet.runtime.parsed import VariantEvents
from kinglet.runtime.steps import apply
from kinglet.runtime.work import Work


def steps(work: Work) -> None:
    """Puts in place of the parts what they are after all steps of the plan."""
    if work.plan.steps:
        work.parts = [
            [VariantEvents(part.variant, apply(work.plan.steps, part.frame, work.reference)) for part in parts]
            for parts in work.parts
        ]
