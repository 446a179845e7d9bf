"""Steps that read a field once more: by a pattern, a regex, structure, or with another parser."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime

import polars as pl

from kinglet.columns.faults import Faults
from kinglet.columns.merging import merged
from kinglet.columns.put import put
from kinglet.cutting.cutter import EventBatch
from kinglet.errors import parts_of
from kinglet.plan.data import MORE, Plan, Reading
from kinglet.plan.readings import read_form
from kinglet.plan.steps import Action, Fields, Json, StepAbout
from kinglet.runtime.extraction.line_ends import as_read
from kinglet.runtime.extraction.read import read_fields
from kinglet.runtime.steps import column_of
from kinglet.source.logs import Source
from kinglet.spec import steps as forms
from kinglet.steps.context import StepContext
from kinglet.timestamps.reading import ISO, TimeReading
from kinglet.timestamps.stamps import INSTANT, Reference

VARIANT = "_variant"
"""What stands behind a field's name in that of the field which says how another parser read it."""


@dataclass(frozen=True)
class ParseAgain(Action):
    """The fields of a reading from a field's text; text that it does not match is a fault, unless optional."""

    name: str
    reading: Reading
    optional: bool
    times: TimeReading = ISO

    @property
    def about(self) -> StepAbout:
        return StepAbout(self.name, self.reading)

    def act(self, frame: pl.DataFrame, where: pl.Series | None, reference: Reference) -> tuple[pl.DataFrame, Faults]:
        """See `Action`."""
        if self.name not in frame.columns:
            return frame, []
        there = frame[self.name].is_not_null() if where is None else where & frame[self.name].is_not_null()
        rows = there.arg_true()
        if not len(rows):
            return frame, []
        texts = frame[self.name][rows]
        texts = as_read(texts) if self.reading.regexes else texts
        near = reference[frame["#source"][rows]] if isinstance(reference, pl.Series) else reference
        found = read_fields(self.reading, texts, near, self.times)
        faults: Faults = []
        if not self.optional:
            missed = there if found is None else put(there, rows.filter(found.matched), False)
            faults.append((f"not-read:{self.name}", missed))
        if found is None:
            return frame, faults
        hit = rows.filter(found.matched)
        no = pl.Series([False]).new_from_index(0, frame.height)
        for column in found.values.get_columns():
            frame, more = _with(
                frame, column, hit, self.name, [bad for name, bad in found.faults if name == _bad(column)]
            )
            faults += more
        faults += [(name, put(no, hit.filter(bad), True)) for name, bad in found.faults]
        return frame, faults

    def fields(self, before: Fields, always: bool) -> Fields:
        """See `Action`."""
        given = {item.name: item.dtype for item in self.reading.every_field}
        return before | (given if self.name in before else {})

    @property
    def uses(self) -> tuple[str, ...]:
        """See `Action`."""
        return (self.name,)

    @property
    def gives(self) -> tuple[str, ...]:
        """See `Action`."""
        return tuple(item.name for item in self.reading.every_field)

    def json(self, before: Json) -> Json:
        """See `Action`."""
        return (before - {*self.gives}) | ({MORE} if self.reading.structures else set())


@dataclass(frozen=True)
class Hand(Action):
    """The fields of another parser from a field's text, and under the field's name and VARIANT how it was read."""

    name: str
    plan: Plan
    optional: bool

    @property
    def about(self) -> StepAbout:
        return StepAbout(self.name, plan=self.plan)

    def act(self, frame: pl.DataFrame, where: pl.Series | None, reference: Reference) -> tuple[pl.DataFrame, Faults]:
        """See `Action`."""
        if self.name not in frame.columns:
            return frame, []
        there = frame[self.name].is_not_null() if where is None else where & frame[self.name].is_not_null()
        faults: Faults = []
        for moment, rows in _by_moment(frame, there.arg_true(), reference):
            frame, more = self._read(frame, rows, moment)
            faults += more
        return frame, faults

    def _read(self, frame: pl.DataFrame, rows: pl.Series, moment: datetime) -> tuple[pl.DataFrame, Faults]:
        """Events of which some are read by the other parser, its stamps near a moment."""
        from kinglet.runtime.pipeline import parse_batch
        from kinglet.runtime.work import Options

        numbers = pl.int_range(len(rows), eager=True)
        texts = pl.DataFrame([numbers.alias("line"), numbers.alias("offset"), frame[self.name][rows].alias("raw")])
        batch = EventBatch((Source(self.name, moment),), texts, given=True)
        events = parse_batch(self.plan, batch, Options(moment)).events()
        no = pl.Series([False]).new_from_index(0, frame.height)
        faults: Faults = []
        for column in (*(events[name] for name in self.plan.fields), events["variant"].alias(self.name + VARIANT)):
            frame, more = _with(frame, column, rows, self.name, [events["faults"].list.contains(_bad(column))])
            faults += more
        times = pl.Series("time", [None], dtype=events.schema["time"]).new_from_index(0, frame.height)
        frame = frame.with_columns_seq(pl.coalesce("time", put(times, rows, events["time"])))
        for fault in events["faults"].explode().drop_nulls().unique(maintain_order=True):
            if not self.optional or fault != "no-match":
                bad = rows.filter(events["faults"].list.contains(fault))
                faults.append((f"{self.name}/{fault}", put(no, bad, True)))
        return frame, faults

    def fields(self, before: Fields, always: bool) -> Fields:
        """See `Action`."""
        if self.name not in before:
            return before
        return before | dict(self.plan.fields) | {self.name + VARIANT: pl.String()}

    @property
    def uses(self) -> tuple[str, ...]:
        """See `Action`."""
        return (self.name,)

    @property
    def gives(self) -> tuple[str, ...]:
        """See `Action`."""
        return (*self.plan.fields, self.name + VARIANT)

    def json(self, before: Json) -> Json:
        """See `Action`."""
        return (before - {*self.gives}) | self.plan.json


def _with(
    frame: pl.DataFrame, column: pl.Series, rows: pl.Series, name: str, bad: list[pl.Series]
) -> tuple[pl.DataFrame, Faults]:
    """Events with values that were read from a field, at some rows; one not given stays what it was, unless bad.

    Keys without names join those that are there.
    """
    new, every = column.name not in frame.columns, len(rows) == frame.height
    if every and (new or (column.name != MORE and not column.null_count())):
        return frame.with_columns_seq(column), []
    if new:
        return frame.with_columns_seq(put(column_of(frame, column.name, column.dtype), rows, column)), []
    before = frame[column.name]
    if column.name == MORE:
        found = merged([before[rows], column])
        text, repeated = found.text, put(pl.Series([False]).new_from_index(0, frame.height), rows, found.repeated)
        return frame.with_columns_seq(put(before, rows, text).alias(MORE)), [(f"repeated-key:{name}", repeated)]
    given = column.is_not_null()
    for mask in bad:
        given = given | mask
    return frame.with_columns_seq(put(before, rows.filter(given), column.filter(given)).alias(column.name)), []


def _bad(column: pl.Series) -> str:
    return f"bad-value:{column.name}"


def _by_moment(frame: pl.DataFrame, rows: pl.Series, reference: Reference) -> Iterator[tuple[datetime, pl.Series]]:
    """Events by the reference of their logs."""
    if not isinstance(reference, pl.Series):
        if len(rows):
            yield reference, rows
        return
    near = reference[frame["#source"][rows]].cast(INSTANT)
    for moment in near.unique(maintain_order=True):
        yield moment, rows.filter(near == moment)


def parse(context: StepContext, form: forms.ParseAgain) -> Action | None:
    """`parse`: a field that holds text with fields of its own."""
    if not context.text(("parse", "field"), [form.field]):
        return None
    if form.parser is not None:
        try:
            plan = context.other(form.parser)
        except ValueError as error:
            context.report(("parse", "parser"), *parts_of(error))
            return None
        hand = Hand(form.field, plan, form.optional)
        for name, dtype in hand.fields({form.field: pl.String()}, True).items():
            if name != form.field:
                context.free(("parse", "parser"), name, dtype)
        _put_together(context, ("parse", "parser"), hand)
        return hand
    reading = read_form(context.work, (*context.path, "parse"), form, {})
    if reading is None:
        return None
    for field in reading.every_field:
        context.free(("parse",), field.name, field.dtype)
    again = ParseAgain(form.field, reading, form.optional, context.work.bare)
    _put_together(context, ("parse",), again)
    return again


def _put_together(context: StepContext, key: tuple[str, ...], action: Action) -> None:
    """Reports where keys without a name would be put together with a text, or in its place."""
    if MORE in action.gives and MORE in context.types and (MORE in context.json) != (MORE in action.json(frozenset())):
        kinds = ("keys that have no name", "a text")
        before, given = kinds if MORE in context.json else kinds[::-1]
        context.report(key, f"`{MORE}` is {before}, and this gives {given}", "give the text another name")
