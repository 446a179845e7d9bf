"""The two forms in which parsed events go out: their fields, or mapped onto the model."""

from __future__ import annotations

import threading
from collections.abc import Iterator, Mapping, Sequence
from types import MappingProxyType
from typing import Any, Protocol

import polars as pl

from kinglet.columns.json_rows import Piece
from kinglet.columns.json_text import Constant, Layout, iso_text, json_lines, json_values, nested
from kinglet.columns.put import rows_where
from kinglet.expressions import evaluating
from kinglet.ocsf.identity import Leaf
from kinglet.ocsf.mapping import BAD_VALUE, MappingPlan
from kinglet.plan.data import ROW, Plan
from kinglet.runtime.parsed import Parsed, VariantEvents


class View(Protocol):
    """What a writer asks for; every batch of a plan gives the same columns."""

    @property
    def schema(self) -> Mapping[str, pl.DataType]:
        """The columns and their types."""

    def table(self, parsed: Any) -> pl.DataFrame:
        """Typed columns, nested where the form is."""

    def flat(self, parsed: Any) -> pl.DataFrame:
        """Columns that a row of plain text can hold."""

    def pieces(self, parsed: Any) -> list[Piece]:
        """What makes a JSON object of each event."""

    def lines(self, parsed: Any, end: str = "") -> pl.Series:
        """A JSON object for each event, with `end` behind it."""

    @property
    def counted(self) -> Mapping[str, int]:
        """What could not go out as it stood, over all batches so far.

        `bad-value:PATH`, `other:PATH`, and of what makes an event invalid `missing:PATH`, `at least one of …`.
        """

    @property
    def invalid(self) -> int:
        """How many events are not valid, for lack of what their class requires."""


class FieldsView:
    """Events as their fields, with the columns of `Plan.schema`."""

    counted: Mapping[str, int] = MappingProxyType({})
    invalid = 0

    def __init__(self, plan: Plan) -> None:
        self.schema: Mapping[str, pl.DataType] = plan.schema
        self.json = [name for name in plan.schema if name in plan.json]
        self._layouts: dict[tuple[str, ...], Layout] = {}

    def table(self, parsed: Parsed) -> pl.DataFrame:
        return parsed.events()

    def flat(self, parsed: Parsed) -> pl.DataFrame:
        return flat(parsed.events())

    def pieces(self, parsed: Parsed) -> list[Piece]:
        found = []
        for part in parsed.parts:
            frame = part.frame.with_columns_seq(parsed.constants())
            found.append(Piece(frame[ROW], frame, self._layout(tuple(frame.columns)), self.json))
        return found

    def _layout(self, names: tuple[str, ...]) -> Layout:
        """The layout of events that have some of the columns; the same object for the same ones."""
        if names not in self._layouts:
            self._layouts[names] = {name: name for name in self.schema if name in names}
        return self._layouts[names]

    def lines(self, parsed: Parsed, end: str = "") -> pl.Series:
        return lines_of(self.pieces(parsed), end)


class ModelView:
    """Events as classes of the common model."""

    def __init__(self, plan: Plan) -> None:
        self.counted: dict[str, int] = {}
        self.invalid = 0
        """How many events lack what their class requires."""
        self.counted_of: set[int | None] = set()
        """The variants of whose events something was counted, or is lacking."""
        self._layouts: dict[int, tuple[Layout, list[str]]] = {}
        self._lock = threading.Lock()
        leaves: dict[str, Leaf] = {}
        for mapping in (*(one for variant in plan.variants for one in variant.mappings), plan.unread):
            if mapping is not None:
                leaves |= {leaf.path: leaf for leaf in mapping.leaves if leaf.path not in leaves}
        first = ["time", "class_uid", "class_name"]
        last = ["raw_data", *(path for path in leaves if path.startswith("unmapped."))]
        middle = [path for path in leaves if path not in first and path not in last]
        self.schema: Mapping[str, pl.DataType] = {path: leaves[path].dtype for path in (*first, *middle, *last)}

    def table(self, parsed: Parsed) -> pl.DataFrame:
        return nested(self.columns(parsed), list(self.schema))

    def flat(self, parsed: Parsed) -> pl.DataFrame:
        return flat(self.columns(parsed))

    def pieces(self, parsed: Parsed) -> list[Piece]:
        found = []
        for part, frame, mapping in _mapped(parsed):
            mapped = self._applied(parsed, part, frame, mapping)
            found.append(Piece(part.frame[ROW], mapped, *self._layout(mapping)))
        return found

    def _layout(self, mapping: MappingPlan) -> tuple[Layout, list[str]]:
        """The layout of a mapping, and which of its columns hold JSON; made once."""
        if id(mapping) not in self._layouts:
            layout = {leaf.path: Constant(leaf.value) if leaf.is_constant else leaf.path for leaf in mapping.leaves}
            self._layouts[id(mapping)] = layout, [leaf.path for leaf in mapping.leaves if leaf.is_json]
        return self._layouts[id(mapping)]

    def lines(self, parsed: Parsed, end: str = "") -> pl.Series:
        return lines_of(self.pieces(parsed), end)

    def columns(self, parsed: Parsed) -> pl.DataFrame:
        frames = []
        for part, frame, mapping in _mapped(parsed):
            constants = [
                pl.lit(pl.Series([leaf.value], dtype=leaf.dtype)).first().alias(leaf.path)
                for leaf in mapping.leaves
                if leaf.is_constant
            ]
            mapped = self._applied(parsed, part, frame, mapping).with_columns_seq(constants)
            frames.append(mapped.with_columns_seq(part.frame[ROW]))
        if not frames:
            return pl.DataFrame(schema=self.schema)
        whole = parsed.in_order(frames)
        missing = [_nulls(path, dtype) for path, dtype in self.schema.items() if path not in whole.columns]
        return whole.with_columns_seq(missing).select_seq(list(self.schema))

    def judge(self, parsed: Parsed) -> None:
        """Counts what cannot be mapped as it stands, and makes nothing of it."""
        for part, frame, mapping in _mapped(parsed):
            self._applied(parsed, part, frame, mapping)

    def _applied(self, parsed: Parsed, part: VariantEvents, frame: pl.DataFrame, mapping: MappingPlan) -> pl.DataFrame:
        counts = mapping.counts(frame)
        has_bad = any(name.startswith(BAD_VALUE) for name in counts)
        mapped = mapping.apply(frame, parsed.references(part), has_bad)
        invalid, reasons = mapping.invalid(mapped)
        if counts or invalid:
            with self._lock:
                self.invalid += invalid
                self.counted_of.add(part.variant)
                for name, count in (*counts.items(), *reasons.items()):
                    self.counted[name] = self.counted.get(name, 0) + count
        return mapped


def lines_of(pieces: Sequence[Piece], end: str) -> pl.Series:
    """The rows of all pieces as JSON objects, by their places."""
    texts = [json_lines(piece.frame, piece.layout, end, piece.raw).alias("json") for piece in pieces]
    if len(texts) < 2 and all(piece.places.is_sorted() for piece in pieces):
        return texts[0] if texts else pl.Series("json", [], dtype=pl.String)
    return pl.concat(texts)[pl.concat([piece.places for piece in pieces]).arg_sort()]


def _mapped(parsed: Parsed) -> Iterator[tuple[VariantEvents, pl.DataFrame, MappingPlan]]:
    """The events that have a mapping in common, with all columns that it may read."""
    plan = parsed.plan
    for part in parsed.parts:
        frame = part.frame.with_columns_seq(parsed.constants())
        if part.variant is None or plan.steps:  # fields that only other events have are missing
            frame = frame.with_columns_seq(
                _nulls(name, dtype) for name, dtype in plan.fields.items() if name not in frame.columns
            )
        if part.variant is None:
            assert plan.unread is not None
            yield part, frame, plan.unread
            continue
        variant = plan.variants[part.variant]
        if variant.class_number is None:
            yield part, frame, variant.mappings[0]
            continue
        # an expression that cannot be computed names no class, like a word of no table
        numbers = evaluating.column(frame, variant.class_number, pl.Int32())[0].fill_null(0)
        for number, mapping in enumerate(variant.mappings):
            mask = numbers == number
            if mask.any():
                yield part.where(mask), rows_where(frame, mask), mapping


def _nulls(name: str, dtype: pl.DataType) -> pl.Expr:
    return pl.lit(None, dtype=dtype).alias(name)


def flat(frame: pl.DataFrame) -> pl.DataFrame:
    """Lists as their items with blanks between, instants as RFC 3339 text."""
    columns = []
    for column in frame:
        if isinstance(column.dtype, pl.List):
            inner = column.dtype.inner
            if isinstance(inner, pl.Struct) and any(isinstance(item.dtype, pl.List) for item in inner.fields):
                column = json_values(column)
                columns.append(column)
                continue
            if isinstance(inner, pl.Struct):
                column = (
                    column.to_frame()
                    .select_seq(pl.col(column.name).list.eval(pl.element().struct.field(inner.fields[-1].name)))
                    .to_series()
                )
            column = column.cast(pl.List(pl.String)).list.join(" ")
        elif isinstance(column.dtype, pl.Datetime):
            column = iso_text(column)
        columns.append(column)
    return pl.DataFrame(columns)


def view(plan: Plan, form: str) -> View:
    """The view of a form, `fields` or `model`."""
    return ModelView(plan) if form == "model" else FieldsView(plan)
