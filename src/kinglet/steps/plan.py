"""What a step is to the engine, and the steps of a parser done to events, one after the other."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import NamedTuple, Protocol

import polars as pl

from kinglet.clock.reading import Reference
from kinglet.engine.convert import Faults

ALWAYS: Mapping[str, pl.DataType] = {
    "raw": pl.String(),
    "time": pl.Datetime("us", "UTC"),
    "line": pl.Int64(),
    "state": pl.String(),
    "variant": pl.String(),
}
"""The columns besides fields that conditions and expressions may use."""

Fields = dict[str, pl.DataType]
Needs = tuple[tuple[str, pl.DataType], ...]
"""The fields that an expression uses, and their types at that step."""


class Action(Protocol):
    """What a step does; it holds no state of a run."""

    def act(self, frame: pl.DataFrame, where: pl.Series | None, reference: Reference) -> tuple[pl.DataFrame, Faults]:
        """Events after the step, and what is wrong with them; where: the ones it is done to, None for all.

        frame may lack fields that none of its events have.
        """

    def fields(self, before: Fields, always: bool) -> Fields:
        """The fields that events have afterwards; always: whether it is done to all of them."""


class StepPlan(NamedTuple):
    """A step. number counts from 1, steps that are off too.

    needs: the fields that its condition uses. json_field: the field of which it makes JSON text.
    """

    number: int
    operation: str
    note: str
    action: Action
    when: str | None = None
    condition: pl.Expr | None = None
    needs: Needs = ()
    json_field: str | None = None

    @property
    def label(self) -> str:
        """How people tell it from others."""
        return f"step {self.number}, {self.operation}" + (f" ({self.note})" if self.note else "")


def apply(steps: Sequence[StepPlan], frame: pl.DataFrame, reference: Reference) -> pl.DataFrame:
    """Events after all steps."""
    for step in steps:
        frame = apply_one(step, frame, reference)
    return frame


def apply_one(step: StepPlan, frame: pl.DataFrame, reference: Reference) -> pl.DataFrame:
    """Events after a step. Dropped events stay as they are."""
    where = _where(step, frame)
    if where is not None and not where.any():
        return frame
    frame, faults = step.action.act(frame, where, reference)
    faults = [(name, bad if where is None else bad & where) for name, bad in faults]
    return with_faults(frame, [(name, bad) for name, bad in faults if bad.any()])


def _where(step: StepPlan, frame: pl.DataFrame) -> pl.Series | None:
    """The events that a step is done to; None for all."""
    where = frame["state"] != "dropped"
    if step.condition is not None:
        where = where & selected(frame, step.condition, step.needs).fill_null(False)
    return None if where.all() else where


def selected(frame: pl.DataFrame, expression: pl.Expr, needs: Needs) -> pl.Series:
    """The value of an expression for each event, fields that they lack being null."""
    missing = [pl.lit(None, dtype=dtype).alias(name) for name, dtype in needs if name not in frame.columns]
    known = frame.with_columns(missing).with_columns(pl.col("state").cast(pl.String))
    found = known.select(expression.alias("value")).to_series()
    return found if len(found) == frame.height else found.new_from_index(0, frame.height)


def with_faults(frame: pl.DataFrame, faults: Faults) -> pl.DataFrame:
    """Events with further faults; a complete one that has any is partial."""
    for name, bad in faults:
        frame = frame.with_columns(
            pl.when(bad)
            .then(pl.concat_list("faults", pl.lit([name], dtype=pl.List(pl.String))))
            .otherwise("faults")
            .alias("faults"),
            frame["state"].zip_with(~(bad & (frame["state"] == "complete")), _state("partial", frame)),
        )
    return frame


def _state(name: str, frame: pl.DataFrame) -> pl.Series:
    return pl.Series("state", [name], dtype=frame.schema["state"])


def placed(frame: pl.DataFrame, name: str, value: pl.Series, where: pl.Series | None) -> pl.DataFrame:
    """Events with a field that has a new value, in all of them or where it is said."""
    value = value.alias(name)
    if where is not None:
        before = (
            frame[name]
            if name in frame.columns
            else pl.Series([None], dtype=value.dtype).new_from_index(0, frame.height)
        )
        value = value.zip_with(where, before).alias(name)
    return frame.with_columns(value)
