"""Where a step is built: what its parts may be held against, and where problems are reported."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import NamedTuple

import polars as pl

from kinglet.errors import did_you_mean
from kinglet.expressions.compiling import Expression, sql
from kinglet.expressions.terms import ExpressionError
from kinglet.plan.data import Plan, name_problem, said_type
from kinglet.plan.readings import Context
from kinglet.plan.steps import ALWAYS, Fields, Json, Needs
from kinglet.spec.document import KeyPath
from kinglet.spec.steps import Step
from kinglet.structured.by_form import is_within

OtherParser = Callable[[str], Plan]
"""Compiles the parser of a name; raises ValueError where it cannot be had."""


class StepContext(NamedTuple):
    """Where a step is built: what reports, its place, the step in the file, the fields that there are before it."""

    work: Context
    path: KeyPath
    step: Step
    types: Fields
    json: Json
    other: OtherParser

    def report(self, key: tuple[str | int, ...], message: str, hint: str = "") -> None:
        self.work.report((*self.path, *key), message, hint)

    def known(self, key: tuple[str | int, ...], names: Iterable[str]) -> bool:
        """Whether all these are fields; reports those that are not."""
        good = True
        for name in names:
            if name not in self.types:
                hint = did_you_mean(name, self.types, "the fields here are " + ", ".join(self.types))
                self.report(key, f"there is no field `{name}` before this step", hint)
                good = False
        return good

    def free(self, key: tuple[str | int, ...], name: str, dtype: pl.DataType) -> None:
        """Reports a name that no field can have, or not with this type."""
        before = self.types.get(name)
        inside = next((other for other in self.types if is_within(name, other)), None)
        wrong = name_problem(name)
        if wrong is not None:
            self.report(key, *wrong)
        elif before is not None and before != dtype:
            self.report(
                key, f"`{name}` is {said_type(before)}, and this gives {said_type(dtype)}", "give it another name"
            )
        elif before is None and inside is not None:
            self.report(key, f"`{name}` and `{inside}` cannot both be fields", "give it another name")

    def text(self, key: tuple[str | int, ...], names: Iterable[str]) -> bool:
        """Whether all these are fields of text; reports those that are not."""
        names = list(names)
        if not self.known(key, names):
            return False
        for name in names:
            if self.types[name] != pl.String():
                self.report(key, f"`{name}` is {said_type(self.types[name])}", "this reads text")
                return False
        return True

    def expression(self, key: tuple[str | int, ...], text: str) -> tuple[Expression, Needs] | None:
        """A SQL expression, and the fields it uses; reports what is wrong with it."""
        known = {**ALWAYS, **self.types}
        try:
            expression = sql(text, known)
        except ExpressionError as error:
            self.report(key, error.message.replace("of this variant", "before this step"), error.hint)
            return None
        return expression, tuple((name, known[name]) for name in expression.names)
