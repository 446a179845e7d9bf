"""Steps on whole fields: set, rename, copy, keep, remove."""

from __future__ import annotations

from typing import NamedTuple

import polars as pl

from kinglet.clock.reading import Reference
from kinglet.engine.convert import Faults
from kinglet.engine.plan import RESERVED
from kinglet.steps.plan import ALWAYS, Fields, Needs, placed, selected


class Assignment(NamedTuple):
    """A field and the expression of its value; needs: what the expression uses."""

    name: str
    expression: pl.Expr
    dtype: pl.DataType
    needs: Needs


class Set(NamedTuple):
    """Fields by expressions, all of which see the event as it was before the step."""

    assignments: tuple[Assignment, ...]

    def act(self, frame: pl.DataFrame, where: pl.Series | None, reference: Reference) -> tuple[pl.DataFrame, Faults]:
        """See `Action`."""
        before = frame
        for item in self.assignments:
            value = selected(before, item.expression, item.needs).cast(item.dtype)
            frame = placed(frame, item.name, value, where)
        return frame, []

    def fields(self, before: Fields, always: bool) -> Fields:
        """See `Action`."""
        return before | {item.name: item.dtype for item in self.assignments}


class Rename(NamedTuple):
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
                frame = frame.drop(old) if where is None else frame.with_columns(before[old].set(where, None))
        return frame, []

    def fields(self, before: Fields, always: bool) -> Fields:
        """See `Action`."""
        after = dict(before)
        for old, _ in self.names:
            if not self.keeps and always:
                after.pop(old, None)
        return after | {new: before[old] for old, new in self.names if old in before}


class Remove(NamedTuple):
    """Without some fields, or without all but some."""

    names: frozenset[str]
    keeps: bool = False

    def _goes(self, name: str) -> bool:
        return (name not in self.names) if self.keeps else name in self.names

    def act(self, frame: pl.DataFrame, where: pl.Series | None, reference: Reference) -> tuple[pl.DataFrame, Faults]:
        """See `Action`."""
        own = [name for name in frame.columns if name not in RESERVED and name not in ALWAYS and _is_field(name)]
        gone = [name for name in own if self._goes(name)]
        if where is None:
            return frame.drop(gone), []
        return frame.with_columns(frame[name].set(where, None) for name in gone), []

    def fields(self, before: Fields, always: bool) -> Fields:
        """See `Action`."""
        return {name: dtype for name, dtype in before.items() if not always or not self._goes(name)}


def _is_field(name: str) -> bool:
    """Whether a column is a field, and none of those that the engine keeps for itself."""
    return not name.startswith("#") and name != "row"
