"""Steps on whole fields: set, rename, copy, keep, remove."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import polars as pl

from kinglet.columns.faults import Faults
from kinglet.errors import InvalidError, parts_of
from kinglet.expressions.compiling import Expression
from kinglet.expressions.terms import constant, refuse_quoted
from kinglet.names import RESERVED
from kinglet.plan.data import DTYPES, name_problem
from kinglet.plan.steps import ALWAYS, Action, Fields, Json, Needs
from kinglet.runtime.steps import Asked, all_placed, computed, placed
from kinglet.spec.section import FixedText, Scalar
from kinglet.steps.context import StepContext
from kinglet.timestamps.stamps import Reference

_VALUES = {*DTYPES.values(), pl.List(pl.String())}


class Assignment(NamedTuple):
    """A field and the expression of its value; needs: what the expression uses."""

    name: str
    expression: Expression
    needs: Needs


@dataclass(frozen=True)
class Set(Action):
    """Fields by expressions, all of which see the event as it was before the step."""

    assignments: tuple[Assignment, ...]

    def act(self, frame: pl.DataFrame, where: pl.Series | None, reference: Reference) -> tuple[pl.DataFrame, Faults]:
        """See `Action`."""
        asked = [Asked(item.expression, item.needs, item.name) for item in self.assignments]
        found = computed(frame, where, asked)
        values = {item.name: value for item, (value, _) in zip(self.assignments, found, strict=True)}
        return all_placed(frame, values, where), [fault for _, bad in found for fault in bad]

    def fields(self, before: Fields, always: bool) -> Fields:
        """See `Action`."""
        return before | {item.name: item.expression.dtype for item in self.assignments}

    @property
    def uses(self) -> tuple[str, ...]:
        """See `Action`."""
        return tuple(name for item in self.assignments for name, _ in item.needs)

    @property
    def gives(self) -> tuple[str, ...]:
        """See `Action`."""
        return tuple(item.name for item in self.assignments)

    def json(self, before: Json) -> Json:
        """See `Action`."""
        return before - {*self.gives}


@dataclass(frozen=True)
class Rename(Action):
    """Fields under other names; keeps: whether the old ones stay too."""

    names: tuple[tuple[str, str], ...]
    keeps: bool = False

    def act(self, frame: pl.DataFrame, where: pl.Series | None, reference: Reference) -> tuple[pl.DataFrame, Faults]:
        """See `Action`."""
        before = frame
        taken = {new for _, new in self.names}
        for old, new in self.names:
            if old not in before.columns:
                continue
            frame = placed(frame, new, before[old], where)
            if not self.keeps and old not in taken:
                frame = frame.drop(old) if where is None else frame.with_columns_seq(before[old].set(where, None))
        return frame, []

    def fields(self, before: Fields, always: bool) -> Fields:
        """See `Action`."""
        after = dict(before)
        for old, _ in self.names:
            if not self.keeps and always:
                after.pop(old, None)
        return after | {new: before[old] for old, new in self.names if old in before}

    @property
    def uses(self) -> tuple[str, ...]:
        """See `Action`."""
        return tuple(old for old, _ in self.names)

    @property
    def gives(self) -> tuple[str, ...]:
        """See `Action`."""
        return tuple(new for _, new in self.names)

    def json(self, before: Json) -> Json:
        """See `Action`."""
        return (before - {*self.gives}) | {new for old, new in self.names if old in before}


@dataclass(frozen=True)
class Remove(Action):
    """Without some fields, or without all but some."""

    names: frozenset[str]
    keeps: bool = False

    def _goes(self, name: str) -> bool:
        return (name not in self.names) if self.keeps else name in self.names

    def act(self, frame: pl.DataFrame, where: pl.Series | None, reference: Reference) -> tuple[pl.DataFrame, Faults]:
        """See `Action`."""
        kept = {*RESERVED, *ALWAYS}
        gone = [name for name in frame.columns if name not in kept and name[0] != "#" and self._goes(name)]
        if where is None:
            return frame.drop(gone), []
        return frame.with_columns_seq(frame[name].set(where, None) for name in gone), []

    def fields(self, before: Fields, always: bool) -> Fields:
        """See `Action`."""
        return {name: dtype for name, dtype in before.items() if not always or not self._goes(name)}

    @property
    def uses(self) -> tuple[str, ...]:
        """See `Action`."""
        return tuple(self.names) if self.keeps else ()

    @property
    def gives(self) -> tuple[str, ...]:
        """See `Action`."""
        return ()

    def json(self, before: Json) -> Json:
        """See `Action`."""
        return before


def set_fields(context: StepContext, form: dict[str, Scalar | FixedText]) -> Action | None:
    """`set`: fields by expressions."""
    found: list[Assignment] = []
    for name, value in form.items():
        key = ("set", name)
        if isinstance(value, str):
            try:
                refuse_quoted(value)
            except InvalidError as error:
                context.report(key, *parts_of(error))
                continue
            made = context.expression(key, value)
            if made is None:
                continue
            expression, needs = made
        else:
            given = value.text if isinstance(value, FixedText) else value
            fixed = constant(given)
            expression, needs = Expression(str(given), fixed.value, fixed.dtype, ()), ()
        dtype = expression.dtype
        if dtype == pl.Null():
            dtype = context.types.get(name, pl.String())
            expression = expression._replace(value=pl.lit(None, dtype=dtype), dtype=dtype)
        if dtype not in _VALUES:
            context.report(key, f"`{value}` is {dtype}, which no field can be", "cast it: CAST(… AS VARCHAR)")
            continue
        before = context.types.get(name)
        if name_problem(name) is not None or before is None:
            context.free(key, name, dtype)
        found.append(Assignment(name, expression, needs))
    return Set(tuple(found))


def rename(context: StepContext, form: dict[str, str]) -> Action | None:
    """`rename`: fields under other names."""
    return _renamed(context, form, keeps=False)


def copy(context: StepContext, form: dict[str, str]) -> Action | None:
    """`copy`: fields under other names too."""
    return _renamed(context, form, keeps=True)


def _renamed(context: StepContext, form: dict[str, str], *, keeps: bool) -> Action | None:
    if not context.known((context.step.operation,), form):
        return None
    free = context if keeps else context._replace(types={k: v for k, v in context.types.items() if k not in form})
    for old, new in form.items():
        free.free((context.step.operation, old), new, context.types[old])
    if len(set(form.values())) < len(form):
        context.report((context.step.operation,), "gives one name to two fields", "each field needs a name of its own")
    return Rename(tuple(form.items()), keeps=keeps)


def remove(context: StepContext, form: list[str]) -> Action | None:
    """`remove`: without these fields."""
    context.known(("remove",), form)
    return Remove(frozenset(form))


def keep(context: StepContext, form: list[str]) -> Action | None:
    """`keep`: no fields but these."""
    context.known(("keep",), form)
    return Remove(frozenset(form), keeps=True)
