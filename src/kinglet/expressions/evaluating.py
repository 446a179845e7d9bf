"""Expressions over the events of a batch, so that one which cannot be computed costs the events it fails on."""

from __future__ import annotations

from collections.abc import Sequence

import polars as pl

_WRONG = (pl.exceptions.PolarsError, pl.exceptions.PanicException)


def column(frame: pl.DataFrame, value: pl.Expr, dtype: pl.DataType) -> tuple[pl.Series, pl.Series | None]:
    """A value for each row, and the rows for which the engine cannot compute it; those are null.

    The rows are halved until those that fail are alone.
    """
    try:
        return _exactly(frame, value, dtype), None
    except _WRONG:
        pass
    if frame.height <= 1:
        nothing = pl.Series("", [None], dtype=dtype).new_from_index(0, frame.height)
        return nothing, pl.Series([True]).new_from_index(0, frame.height)
    middle = frame.height // 2
    halves = [column(part, value, dtype) for part in (frame.slice(0, middle), frame.slice(middle))]
    masks = [bad if bad is not None else pl.Series([False]).new_from_index(0, len(found)) for found, bad in halves]
    return pl.concat([found for found, _ in halves]), pl.concat(masks)


def columns(
    frame: pl.DataFrame, values: Sequence[tuple[str, pl.Expr, pl.DataType]]
) -> tuple[pl.DataFrame, dict[str, pl.Series]]:
    """A column for each named value, and for those that cannot be computed in some rows, these rows."""
    try:
        found = frame.select_seq(value.alias(name) for name, value, _ in values)
        return _whole(frame, found, values), {}
    except _WRONG:
        alone: list[pl.Series] = []
        wrong: dict[str, pl.Series] = {}
        for name, value, dtype in values:
            series, bad = column(frame, value, dtype)
            alone.append(series.alias(name))
            if bad is not None:
                wrong[name] = bad
        return pl.DataFrame(alone), wrong


def _exactly(frame: pl.DataFrame, value: pl.Expr, dtype: pl.DataType) -> pl.Series:
    return _whole(frame, frame.select_seq(value.alias("")), [("", value, dtype)]).to_series()


def _whole(
    frame: pl.DataFrame, found: pl.DataFrame, values: Sequence[tuple[str, pl.Expr, pl.DataType]]
) -> pl.DataFrame:
    """Constants alone as a value for each row, and all of the types that are said."""
    if found.height != frame.height:
        found = pl.DataFrame([column.new_from_index(0, frame.height) for column in found])
    kinds = found.dtypes
    casts = [
        pl.col(name).cast(dtype)
        for (name, _, dtype), kind in zip(values, kinds, strict=True)
        if kind != dtype and dtype != pl.Null
    ]
    return found.with_columns_seq(casts) if casts else found
