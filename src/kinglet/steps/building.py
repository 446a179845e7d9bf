"""The `steps` of a parser file to a plan's steps, and the fields that events have after them."""

from __future__ import annotations

from collections.abc import Callable, Collection
from typing import Any

import polars as pl

from kinglet.expressions.compiling import Expression
from kinglet.lazy import lazy
from kinglet.plan.data import said_type
from kinglet.plan.readings import Context
from kinglet.plan.steps import Action, Fields, Json, Needs, StepPlan
from kinglet.spec.steps import Step, operations
from kinglet.steps.context import OtherParser, StepContext


def build_steps(
    work: Context, steps: Collection[Step], fields: Fields, json: Json, other: OtherParser
) -> tuple[tuple[StepPlan, ...], Fields, Json]:
    """The steps that are on, the types of all fields that there are on the way, and those that are JSON at the end.

    fields: those that events have before; json: those of them whose text is JSON. A field keeps its type but where a
    step gives it another in all events.
    """
    found: list[StepPlan] = []
    types, every = dict(fields), dict(fields)
    dropped = False
    for i, step in enumerate(steps):
        if step.off:
            continue
        context = StepContext(work, ("steps", i), step, types, json, other)
        condition, needs = _condition(context)
        action = _builder(step)(context, step.form)
        if action is None:
            continue
        found.append(StepPlan(i + 1, step.operation, step.note, action, step.when, condition, needs))
        after = action.fields(types, step.when is None and not dropped)
        for name, dtype in after.items():
            if step.when is not None and name in types and types[name] != dtype:
                message = f"`{name}` is {said_type(types[name])}, and would be {said_type(dtype)} in some events only"
                context.report((step.operation,), message, "leave `when` out, or give the result another name")
        # where only some events may get JSON, or keep text that is none, all of the field is text
        sure = step.when is None and not dropped
        json = frozenset(
            name
            for name in action.json(json)
            if name in json or name not in types or (sure and name in action.about.taken)
        )
        types = after
        every |= after
        dropped |= action.about.reason is not None
    return tuple(found), every, json


def after_steps(steps: Collection[StepPlan], before: Fields) -> Fields:
    """The fields that events have after all steps which have these before."""
    dropped = False
    for step in steps:
        before = step.action.fields(before, step.when is None and not dropped)
        dropped |= step.action.about.reason is not None
    return before


def _condition(context: StepContext) -> tuple[Expression | None, Needs]:
    if context.step.when is None:
        return None, ()
    found = context.expression(("when",), context.step.when)
    if found is None:
        return None, ()
    expression, needs = found
    if expression.dtype != pl.Boolean():
        context.report(
            ("when",), f"`{context.step.when}` is no condition", "compare something: `code = 4102`, `user LIKE 'm.%'`"
        )
    return expression, needs


def _builder(step: Step) -> Callable[[StepContext, Any], Action | None]:
    """What makes the action of a step's operation."""
    found: Callable[[StepContext, Any], Action | None] = lazy("kinglet.steps", operations()[step.operation].function)
    return found
