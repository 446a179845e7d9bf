"""The forms in which events of several parsers go out together, in the order of the log."""

from __future__ import annotations

from collections.abc import Sequence

import polars as pl

from kinglet.columns.json_rows import Piece
from kinglet.columns.json_text import nested
from kinglet.output.views import FieldsView, ModelView, flat, lines_of
from kinglet.plan.data import ROW, Plan
from kinglet.runtime.mixed import Mixed
from kinglet.runtime.parsed import Parsed


class MixedView:
    """Events of several plans as their fields, or as classes of the model.

    A table has the columns of all plans; one that has a type here and another there is text.
    """

    def __init__(self, plans: Sequence[Plan], form: str) -> None:
        self.model = form == "model"
        self.views = {plan.parser: ModelView(plan) if self.model else FieldsView(plan) for plan in plans}
        self.schema: dict[str, pl.DataType] = {}
        last: dict[str, pl.DataType] = {}
        for plan in plans:
            view = self.views[plan.parser]
            columns = view.schema if isinstance(view, ModelView) else plan.schema
            own = dict(columns)
            if not self.model:
                tail = list(own)[list(own).index("time_rule") :]
                last |= {name: own.pop(name) for name in tail}
            for name, dtype in own.items():
                self.schema[name] = dtype if self.schema.get(name, dtype) == dtype else pl.String()
        self.schema |= last | ({"time_rule": pl.String()} if "time_rule" in last else {})

    @property
    def counted(self) -> dict[str, int]:
        """What could not be mapped as it stood, by parser and attribute, over all batches so far."""
        return {
            f"{parser}: {name}": count for parser, view in self.views.items() for name, count in view.counted.items()
        }

    @property
    def invalid(self) -> int:
        """How many events are not valid, over all parsers."""
        return sum(view.invalid for view in self.views.values())

    def table(self, mixed: Mixed) -> pl.DataFrame:
        """Typed columns, nested where the form is."""
        whole = self._whole(mixed)
        return nested(whole, list(self.schema)) if self.model else whole

    def flat(self, mixed: Mixed) -> pl.DataFrame:
        """Columns that a row of plain text can hold."""
        return flat(self._whole(mixed))

    def pieces(self, mixed: Mixed) -> list[Piece]:
        """What makes a JSON object of each event."""
        return [piece for parsed in mixed.by_parser for piece in self.views[parsed.plan.parser].pieces(parsed)]

    def lines(self, mixed: Mixed, end: str = "") -> pl.Series:
        """A JSON object for each event, with `end` behind it."""
        return lines_of(self.pieces(mixed), end)

    def _whole(self, mixed: Mixed) -> pl.DataFrame:
        frames = [self._aligned(self._columns(parsed)) for parsed in mixed.by_parser]
        if not frames:
            return pl.DataFrame(schema=self.schema)
        return pl.concat(frames)[_order(mixed)]

    def _columns(self, parsed: Parsed) -> pl.DataFrame:
        view = self.views[parsed.plan.parser]
        return view.columns(parsed) if isinstance(view, ModelView) else parsed.events()

    def _aligned(self, frame: pl.DataFrame) -> pl.DataFrame:
        there = frame.schema
        return frame.select_seq(
            (pl.col(name) if there[name] == dtype else _as_text(name, there[name]))
            if name in there
            else pl.lit(None, dtype=dtype).alias(name)
            for name, dtype in self.schema.items()
        )


def _as_text(name: str, dtype: pl.DataType) -> pl.Expr:
    if isinstance(dtype, pl.List):
        return pl.col(name).cast(pl.List(pl.String)).list.join(" ")
    return pl.col(name).cast(pl.String)


def _order(mixed: Mixed) -> pl.Series:
    """The places of events, parser after parser, in the order of the log."""
    rows = [pl.concat([part.frame[ROW] for part in parsed.parts]).sort() for parsed in mixed.by_parser if parsed.parts]
    return pl.concat(rows).arg_sort()
