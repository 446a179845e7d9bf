"""The step that finds all matches of a pattern in a text: a list of values, or of records."""

from __future__ import annotations

from dataclasses import dataclass

import polars as pl

from kinglet.columns.faults import Faults
from kinglet.columns.json_text import json_lines
from kinglet.columns.put import put
from kinglet.plan.data import FieldPlan
from kinglet.plan.readings import read_search
from kinglet.plan.steps import Action, Fields, Json
from kinglet.runtime.steps import placed
from kinglet.runtime.typed_values import convert
from kinglet.spec import steps as forms
from kinglet.steps.context import StepContext
from kinglet.timestamps.stamps import Reference


@dataclass(frozen=True)
class Find(Action):
    """The matches of a regex in a field, from the left, none within another; null where there is none.

    items: what each has. One makes a list of values, several one of records, as JSON. A value that is none of its type
    is a fault, and no item.
    """

    name: str
    regex: str
    items: tuple[FieldPlan, ...]
    to: str

    @property
    def dtype(self) -> pl.DataType:
        """The type of what is found."""
        return pl.List(self.items[0].dtype) if len(self.items) == 1 else pl.String()

    def act(self, frame: pl.DataFrame, where: pl.Series | None, reference: Reference) -> tuple[pl.DataFrame, Faults]:
        """See `Action`."""
        if self.name not in frame.columns:
            return frame, []
        asked = frame[self.name].is_not_null() if where is None else where & frame[self.name].is_not_null()
        rows = asked.arg_true()
        matches = pl.DataFrame({"row": rows, "item": frame[self.name][rows].str.extract_all(self.regex)})
        matches = matches.explode("item").drop_nulls()
        # a match by itself gives the same groups: nothing of the regex looks at what is around it
        groups = matches["item"].str.extract_groups(f"^{self.regex}$").struct.unnest()
        texts = groups.select_seq(item.name for item in self.items)
        values, wrong = convert(texts, self.items, reference)
        bad = pl.Series([False]).new_from_index(0, frame.height)
        good = pl.Series([True]).new_from_index(0, matches.height)
        for _, mask in wrong:
            bad, good = put(bad, matches["row"].filter(mask), True), good & ~mask
        if len(self.items) == 1:
            column = values[self.items[0].name].alias("item")
            good = good & column.is_not_null()
            whole = pl.col("item")
        else:
            column = json_lines(values, {item.name: item.name for item in self.items}).alias("item")
            whole = pl.concat_str(pl.lit("["), pl.col("item").str.join(","), pl.lit("]")).alias("item")
        kept = pl.DataFrame([matches["row"], column]).filter(good)
        lists = kept.group_by("row", maintain_order=True).agg(whole)
        found = pl.Series(self.to, [None], dtype=self.dtype).new_from_index(0, frame.height)
        places = pl.Series([None], dtype=pl.UInt32).new_from_index(0, frame.height)
        places = put(places, lists["row"], pl.int_range(lists.height, dtype=pl.UInt32, eager=True))
        found = lists["item"].cast(self.dtype)[places] if lists.height else found
        return placed(frame, self.to, found, where), [(f"bad-value:{self.to}", bad)]

    def fields(self, before: Fields, always: bool) -> Fields:
        """See `Action`."""
        return before | ({self.to: self.dtype} if self.name in before else {})

    @property
    def uses(self) -> tuple[str, ...]:
        """See `Action`."""
        return (self.name,)

    @property
    def gives(self) -> tuple[str, ...]:
        """See `Action`."""
        return (self.to,)

    def json(self, before: Json) -> Json:
        """See `Action`."""
        return (before - {self.to}) | ({self.to} if len(self.items) > 1 else set())


def find(context: StepContext, form: forms.Find) -> Action | None:
    """`find`: all matches of a pattern."""
    good = context.text(("find", "field"), [form.field])
    search = read_search(context.work, (*context.path, "find", "pattern"), form.pattern)
    if search is None or not good:
        return None
    action = Find(form.field, *search, form.to)
    context.free(("find", "to"), form.to, action.dtype)
    return action
