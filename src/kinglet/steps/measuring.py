"""The step that turns numbers into metric points."""

from __future__ import annotations

from dataclasses import dataclass

import polars as pl

from kinglet.columns.faults import Faults
from kinglet.plan.data import said_type
from kinglet.plan.steps import Action, Fields, Json
from kinglet.runtime.steps import placed
from kinglet.spec import steps as forms
from kinglet.steps.context import StepContext
from kinglet.timestamps.stamps import Reference

LABEL = pl.Struct({"name": pl.String(), "value": pl.String()})
POINT = pl.Struct({"name": pl.String(), "value": pl.Float64(), "labels": pl.List(LABEL)})
POINTS = pl.List(POINT)


@dataclass(frozen=True)
class Measure(Action):
    """Points of an event: names and fields of numbers, and fields that tell points apart.

    A number that is empty gives no point, an empty label is left out; points that the field holds already stay.
    """

    values: tuple[tuple[str, str], ...]
    labels: tuple[str, ...]
    to: str

    def act(self, frame: pl.DataFrame, where: pl.Series | None, reference: Reference) -> tuple[pl.DataFrame, Faults]:
        """See `Action`."""
        there = [(name, field) for name, field in self.values if field in frame.columns]
        if not there:
            return frame, []
        labels = [
            pl.when(pl.col(label).is_not_null()).then(
                pl.struct(pl.lit(label).alias("name"), pl.col(label).cast(pl.String).alias("value"))
            )
            for label in self.labels
            if label in frame.columns
        ]
        filled = (
            pl.concat_list(labels).list.drop_nulls().cast(pl.List(LABEL))
            if labels
            else pl.lit([], dtype=pl.List(LABEL))
        )
        points = [
            pl.when(pl.col(field).is_not_null()).then(
                pl.struct(
                    pl.lit(name).alias("name"), pl.col(field).cast(pl.Float64).alias("value"), filled.alias("labels")
                )
            )
            for name, field in there
        ]
        made = pl.concat_list(points).list.drop_nulls().cast(POINTS)
        if self.to in frame.columns:
            made = pl.concat_list(pl.col(self.to).fill_null(pl.lit([], dtype=POINTS)), made)
        found = frame.select_seq(pl.when(made.list.len() > 0).then(made)).to_series()
        return placed(frame, self.to, found, where), []

    def fields(self, before: Fields, always: bool) -> Fields:
        """See `Action`."""
        return before | ({self.to: POINTS} if {field for _, field in self.values} & set(before) else {})

    @property
    def uses(self) -> tuple[str, ...]:
        """See `Action`."""
        return (*(field for _, field in self.values), *self.labels)

    @property
    def gives(self) -> tuple[str, ...]:
        """See `Action`."""
        return (self.to,)

    def json(self, before: Json) -> Json:
        """See `Action`."""
        return before - {self.to}


def measure(context: StepContext, form: forms.Measure) -> Action | None:
    """`measure`: numbers as metric points."""
    good = context.known(("measure", "values"), form.values.values())
    for name, field in form.values.items():
        dtype = context.types.get(field)
        if dtype is not None and not dtype.is_numeric():
            context.report(("measure", "values", name), f"`{field}` is {said_type(dtype)}", "measure numbers")
            good = False
    good &= context.known(("measure", "labels"), form.labels or ())
    action = Measure(tuple(form.values.items()), tuple(form.labels or ()), form.to)
    for dtype in action.fields(context.types, True).values():
        if good and form.to not in context.types:
            context.free(("measure", "to"), form.to, dtype)
            break
    return action if good else None
