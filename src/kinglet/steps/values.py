"""Steps on values: convert, replace, split, join."""

from __future__ import annotations

import json
import re
from dataclasses import dataclass

import polars as pl

from kinglet.columns.faults import Faults
from kinglet.patterns.types import OF_PATTERNS
from kinglet.plan.data import FieldPlan, said_type
from kinglet.plan.steps import Action, Fields, Json, OnTexts, StepAbout
from kinglet.runtime.steps import placed
from kinglet.runtime.typed_values import convert
from kinglet.spec import steps as forms
from kinglet.steps.context import StepContext
from kinglet.timestamps.reading import ISO, TimeReading
from kinglet.timestamps.stamps import Reference

LIST = pl.List(pl.String())
_REFERENCE = re.compile(r"\$\$|\$\{(\w+)\}|\$")


@dataclass(frozen=True)
class Convert(Action):
    """Fields as other types; a value that is none of its type is a fault and becomes null.

    lists: fields whose text is a JSON list, which become lists of text.
    """

    items: tuple[FieldPlan, ...]
    lists: tuple[str, ...] = ()
    times: TimeReading = ISO

    @property
    def about(self) -> StepAbout:
        return StepAbout(types=self.items)

    def act(self, frame: pl.DataFrame, where: pl.Series | None, reference: Reference) -> tuple[pl.DataFrame, Faults]:
        """See `Action`."""
        found: Faults = []
        near = reference[frame["#source"]] if isinstance(reference, pl.Series) else reference
        for item in self.items:
            if item.name not in frame.columns:
                continue
            if frame.schema[item.name] == item.dtype and item.dtype != pl.String():
                continue
            value, faults = _converted(frame[item.name], item, near, self.times)
            found += faults
            frame = placed(frame, item.name, value, where)
        for name in self.lists:
            if name in frame.columns and frame.schema[name] == pl.String():
                value, bad = _as_list(frame[name])
                found.append((f"bad-value:{name}", bad))
                frame = placed(frame, name, value, where)
        return frame, found

    def fields(self, before: Fields, always: bool) -> Fields:
        """See `Action`."""
        after = before | {item.name: item.dtype for item in self.items if item.name in before}
        return after | {name: LIST for name in self.lists if name in before}

    @property
    def uses(self) -> tuple[str, ...]:
        """See `Action`."""
        return self.gives

    @property
    def gives(self) -> tuple[str, ...]:
        """See `Action`."""
        return (*(item.name for item in self.items), *self.lists)

    def json(self, before: Json) -> Json:
        """See `Action`."""
        return before - {*self.gives}


def _converted(
    column: pl.Series, item: FieldPlan, reference: Reference, times: TimeReading
) -> tuple[pl.Series, Faults]:
    if column.dtype.is_float() and item.dtype == pl.Int64():
        value = column.cast(pl.Int64, strict=False)
        bad = column.is_not_null() & (value.is_null() | (value.cast(pl.Float64) != column)).fill_null(True)
        return value.set(bad, None), [(f"bad-value:{item.name}", bad)]
    text = column if column.dtype == pl.String() else _as_text(column)
    values, faults = convert(pl.DataFrame([text.alias(item.name)]), [item], reference, times)
    return values[item.name], faults


def _as_text(column: pl.Series) -> pl.Series:
    text = column.cast(pl.String)
    return text.str.strip_suffix(".0") if column.dtype.is_float() else text


def _as_list(column: pl.Series) -> tuple[pl.Series, pl.Series]:
    texts = column.drop_nulls().unique().to_list()
    lists: list[list[str] | None] = []
    for text in texts:
        try:
            value = json.loads(text, strict=False)
        except (ValueError, RecursionError):
            value = None
        lists.append([_item(item) for item in value] if isinstance(value, list) else None)
    places = column.replace_strict(texts, list(range(len(texts))), default=None, return_dtype=pl.UInt32)
    found = pl.Series(lists, dtype=LIST)[places]
    return found, found.is_null() & column.is_not_null()


def _item(value: object) -> str:
    return value if isinstance(value, str) else json.dumps(value, ensure_ascii=False)


@dataclass(frozen=True)
class Replace(OnTexts):
    """Text of a regex by other text, wherever it stands in fields."""

    names: tuple[str, ...]
    regex: str
    with_: str

    def act(self, frame: pl.DataFrame, where: pl.Series | None, reference: Reference) -> tuple[pl.DataFrame, Faults]:
        """See `Action`."""
        for name in self.names:
            if name in frame.columns:
                frame = placed(frame, name, frame[name].str.replace_all(self.regex, self.with_), where)
        return frame, []


@dataclass(frozen=True)
class Split(Action):
    """The parts of a text in fields of their own, or as a list; what is more than fields stays with the last."""

    name: str
    at: str
    into: tuple[str, ...]
    to: str | None

    def act(self, frame: pl.DataFrame, where: pl.Series | None, reference: Reference) -> tuple[pl.DataFrame, Faults]:
        """See `Action`."""
        if self.name not in frame.columns:
            return frame, []
        text = frame[self.name]
        if self.to is not None:
            return placed(frame, self.to, text.str.split(self.at), where), []
        if len(self.into) == 1:
            return placed(frame, self.into[0], text, where), []
        parts = text.str.splitn(self.at, len(self.into)).struct.unnest()
        for name, part in zip(self.into, parts.get_columns(), strict=True):
            frame = placed(frame, name, part, where)
        return frame, []

    def fields(self, before: Fields, always: bool) -> Fields:
        """See `Action`."""
        if self.name not in before:
            return before
        return before | ({self.to: LIST} if self.to is not None else dict.fromkeys(self.into, pl.String()))

    @property
    def uses(self) -> tuple[str, ...]:
        """See `Action`."""
        return (self.name,)

    @property
    def gives(self) -> tuple[str, ...]:
        """See `Action`."""
        return (*self.into, *([self.to] if self.to is not None else []))

    def json(self, before: Json) -> Json:
        """See `Action`."""
        return before - {*self.gives}


@dataclass(frozen=True)
class Join(Action):
    """Fields, and the items of those that are lists, as one text; null where all are empty."""

    names: tuple[str, ...]
    with_: str
    to: str

    def act(self, frame: pl.DataFrame, where: pl.Series | None, reference: Reference) -> tuple[pl.DataFrame, Faults]:
        """See `Action`."""
        there = [name for name in self.names if name in frame.columns]
        texts = [_joined(frame[name], self.with_).alias(str(i)) for i, name in enumerate(there)]
        if not texts:
            return frame, []
        text = (
            pl.DataFrame(texts).select_seq(pl.concat_str(pl.all(), separator=self.with_, ignore_nulls=True)).to_series()
        )
        some_value = pl.DataFrame(texts).select_seq(pl.any_horizontal(pl.all().is_not_null())).to_series()
        return placed(frame, self.to, text.set(~some_value, None), where), []

    def fields(self, before: Fields, always: bool) -> Fields:
        """See `Action`."""
        return before | ({self.to: pl.String()} if set(self.names) & set(before) else {})

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
        return before - {self.to}


def _joined(column: pl.Series, with_: str) -> pl.Series:
    if isinstance(column.dtype, pl.List):
        return column.cast(LIST).list.join(with_)
    return _as_text(column)


def convert_fields(context: StepContext, form: dict[str, str]) -> Action | None:
    """`convert`: fields as other types."""
    context.known(("convert",), form)
    items: list[FieldPlan] = []
    for name, kind in form.items():
        if kind == "list":
            if context.types.get(name) not in (pl.String(), None):
                context.report(
                    ("convert", name), f"`{name}` is {said_type(context.types[name])}", "a list is made of JSON text"
                )
        elif kind not in context.work.types or kind in OF_PATTERNS:
            context.report(("convert", name), f"no such type `{kind}`", context.work.type_hint(kind))
        else:
            items.append(FieldPlan(name, context.work.types[kind]))
    return Convert(tuple(items), tuple(name for name, kind in form.items() if kind == "list"), context.work.bare)


def replace(context: StepContext, form: forms.Replace) -> Action | None:
    """`replace`: text of a regex by other text."""
    groups = context.work.checked_regex((*context.path, "replace", "regex"), form.regex)
    if not context.text(("replace", "fields"), form.fields) or groups is None:
        return None
    numbers = re.compile(form.regex).groups
    for reference in _REFERENCE.finditer(form.with_):
        name = reference[1]
        if reference[0] == "$":
            context.report(
                ("replace", "with"), "has a `$` that names no group", "write ${1} or ${name}, and $$ for a dollar"
            )
        elif name and name not in groups and not (name.isdigit() and int(name) <= numbers):
            context.report(("replace", "with"), f"names the group `{name}`, which the regex lacks", "count from 1")
    return Replace(tuple(form.fields), form.regex, form.with_)


def split(context: StepContext, form: forms.Split) -> Action | None:
    """`split`: one text as several."""
    if not context.text(("split", "field"), [form.field]):
        return None
    action = Split(form.field, form.at, tuple(form.into or ()), form.to)
    for name in form.into or ():
        context.free(("split", "into"), name, pl.String())
    if form.to is not None and form.to != form.field:
        context.free(("split", "to"), form.to, pl.List(pl.String()))
    return action


def join(context: StepContext, form: forms.Join) -> Action | None:
    """`join`: several texts as one."""
    if not context.known(("join", "fields"), form.fields):
        return None
    if form.to not in form.fields:
        context.free(("join", "to"), form.to, pl.String())
    return Join(tuple(form.fields), form.with_, form.to)
