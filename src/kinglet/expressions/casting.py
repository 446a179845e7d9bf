"""Values as another type: what CAST makes of one."""

from __future__ import annotations

from collections.abc import Mapping

import polars as pl

from kinglet.expressions.terms import (
    BOOL,
    INT,
    NULL,
    NUMBER,
    TEXT,
    ExpressionError,
    Term,
    as_text,
    combined,
    kind_of,
)

TARGETS: Mapping[str, pl.DataType] = {
    **dict.fromkeys(("INT", "INTEGER", "BIGINT", "SMALLINT", "TINYINT"), INT),
    **dict.fromkeys(("DOUBLE", "FLOAT", "REAL", "DECIMAL", "NUMERIC"), NUMBER),
    **dict.fromkeys(("VARCHAR", "TEXT", "CHAR", "NVARCHAR", "NCHAR"), TEXT),
    "BOOLEAN": BOOL,
}
"""The types to cast to, by their names in SQL."""
_TRUE, _FALSE = ("true", "yes", "on", "1"), ("false", "no", "off", "0")


def cast(term: Term, target: pl.DataType) -> Term:
    """A value as another type; null, and a failure, where it cannot become one.

    Raises:
        ExpressionError: no value of the type can.
    """
    if term.dtype == target:
        return term
    if term.dtype == NULL:
        return term._replace(value=pl.lit(None, dtype=target), dtype=target)
    if target == TEXT:
        return as_text(term)
    value = term.value
    if isinstance(term.dtype, pl.List | pl.Struct | pl.Datetime):
        hint = f"write EXTRACT(EPOCH FROM {term.source})" if isinstance(term.dtype, pl.Datetime) else ""
        raise ExpressionError(f"`{term.source}` is {kind_of(term.dtype)}, which cannot become a number", hint)
    if target == BOOL:
        if term.is_number:
            made = value != 0
        else:
            word = value.str.to_lowercase()
            made = pl.when(word.is_in(_TRUE)).then(True).when(word.is_in(_FALSE)).then(False)
    elif term.dtype == BOOL or target == INT:
        made = value.cast(target, strict=False)
    else:
        number = value.cast(NUMBER, strict=False)
        made = pl.when(number.is_finite()).then(number)
    return combined(made, target, [term]).failing(made.is_null() & value.is_not_null())
