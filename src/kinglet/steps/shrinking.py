"""Steps that make events smaller: roll fields into one, shorten or drop the raw text, drop the event."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import polars as pl

from kinglet.columns.faults import Faults
from kinglet.plan.steps import Action, Fields, Json, StepAbout
from kinglet.runtime.steps import placed
from kinglet.spec import steps as forms
from kinglet.steps.context import StepContext
from kinglet.timestamps.stamps import Reference


@dataclass(frozen=True)
class Roll(Action):
    """Several fields as one JSON object, without those that are empty; null where all are."""

    names: tuple[str, ...]
    to: str
    of_json: Json = frozenset()
    """Those of them whose text is JSON already."""

    @property
    def about(self) -> StepAbout:
        return StepAbout(taken=self.names)

    def act(self, frame: pl.DataFrame, where: pl.Series | None, reference: Reference) -> tuple[pl.DataFrame, Faults]:
        """See `Action`."""
        from kinglet.columns.json_text import json_lines

        there = [name for name in self.names if name in frame.columns]
        if not there:
            return frame, []
        text = json_lines(frame, {name: name for name in there}, raw=self.of_json)
        frame = placed(frame, self.to, text.set(text == "{}", None), where)
        if where is None:
            return frame.drop(name for name in there if name != self.to), []
        return frame.with_columns_seq(frame[name].set(where, None) for name in there if name != self.to), []

    def fields(self, before: Fields, always: bool) -> Fields:
        """See `Action`."""
        if not set(self.names) & set(before):
            return before
        kept = {name: dtype for name, dtype in before.items() if not always or name not in self.names}
        return kept | {self.to: pl.String()}

    @property
    def uses(self) -> tuple[str, ...]:
        """See `Action`."""
        return self.names

    @property
    def gives(self) -> tuple[str, ...]:
        """See `Action`."""
        return (self.to,)

    def json(self, before: Json) -> Json:
        """See `Action`."""
        return (before - {*self.names}) | {self.to}


@dataclass(frozen=True)
class Raw(Action):
    """The raw text of complete events, cut after so many characters, or dropped; others keep theirs."""

    shorten: int | None

    def act(self, frame: pl.DataFrame, where: pl.Series | None, reference: Reference) -> tuple[pl.DataFrame, Faults]:
        """See `Action`."""
        complete = frame["state"] == "complete"
        where = complete if where is None else complete & where
        raw = frame["raw"]
        short = raw.new_from_index(0, 0) if self.shorten is None else raw.str.head(self.shorten)
        value = raw.set(where, None) if self.shorten is None else short.zip_with(where, raw)
        return frame.with_columns_seq(value.alias("raw")), []

    def fields(self, before: Fields, always: bool) -> Fields:
        """See `Action`."""
        return before

    @property
    def gives(self) -> tuple[str, ...]:
        """See `Action`."""
        return ()

    def json(self, before: Json) -> Json:
        """See `Action`."""
        return before


@dataclass(frozen=True)
class Drop(Action):
    """The event is dropped; the reason stands among its faults."""

    reason: str

    @property
    def about(self) -> StepAbout:
        return StepAbout(reason=self.reason)

    def act(self, frame: pl.DataFrame, where: pl.Series | None, reference: Reference) -> tuple[pl.DataFrame, Faults]:
        """See `Action`."""
        every = pl.Series([True]).new_from_index(0, frame.height) if where is None else where
        dropped = pl.Series("state", ["dropped"], dtype=frame.schema["state"])
        states = frame["state"].zip_with(~every, dropped.new_from_index(0, frame.height))
        return frame.with_columns_seq(states.alias("state")), [(f"dropped:{self.reason}", every)]

    def fields(self, before: Fields, always: bool) -> Fields:
        """See `Action`."""
        return before

    @property
    def gives(self) -> tuple[str, ...]:
        """See `Action`."""
        return ()

    def json(self, before: Json) -> Json:
        """See `Action`."""
        return before


def roll(context: StepContext, form: forms.Roll) -> Action | None:
    """`roll`: several fields as one JSON object."""
    if not context.known(("roll", "fields"), form.fields):
        return None
    context._replace(types={k: v for k, v in context.types.items() if k not in form.fields}).free(
        ("roll", "to"), form.to, pl.String()
    )
    return Roll(tuple(form.fields), form.to, context.json)


def raw(context: StepContext, form: Literal["drop"] | forms.Shorten) -> Action | None:
    """`raw`: the raw text dropped, or cut."""
    return Raw(form.shorten if isinstance(form, forms.Shorten) else None)


def drop(context: StepContext, form: str) -> Action | None:
    """`drop`: the event is dropped for a reason."""
    return Drop(form)
