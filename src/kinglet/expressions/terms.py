"""What a piece of an expression is while it is compiled: a value, its type, and where it fails."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any, NamedTuple

import polars as pl

from kinglet.errors import InvalidError

TEXT, INT, NUMBER, BOOL, NULL = pl.String(), pl.Int64(), pl.Float64(), pl.Boolean(), pl.Null()
TIME = pl.Datetime("us", "UTC")
Failure = tuple[str, pl.Expr]
"""The first field that a failing piece reads, and the events in which it fails; never null."""


class ExpressionError(ValueError):
    """An expression that cannot be used: what is wrong, and how to mend it."""

    def __init__(self, message: str, hint: str = "") -> None:
        self.message, self.hint = message, hint
        super().__init__(f"{message}; {hint}" if hint else message)


class Term(NamedTuple):
    """A piece of an expression.

    fails: where it has no value though what it reads has one. growth: how many times longer than the texts it reads a
    text may become. constant: the value, where `is_constant`. source: how the expression writes it.
    """

    value: pl.Expr
    dtype: pl.DataType
    names: tuple[str, ...] = ()
    fails: tuple[Failure, ...] = ()
    growth: float = 1.0
    constant: Any = None
    is_constant: bool = False
    source: str = ""

    @property
    def is_number(self) -> bool:
        return self.dtype in (INT, NUMBER)

    def failing(self, where: pl.Expr) -> Term:
        """The same with further events in which it fails."""
        failure = (self.names[0] if self.names else "", where.fill_null(False))
        return self._replace(fails=(*self.fails, failure))

    def guarded(self, by: pl.Expr) -> tuple[Failure, ...]:
        """Where it fails, among the events in which it is looked at."""
        reached = by.fill_null(False)
        return tuple((name, bad & reached) for name, bad in self.fails)


_QUOTED = re.compile(r"\s*'((?:[^']|'')*)'\s*")


def refuse_quoted(text: str) -> None:
    """Refuses an expression that is nothing but fixed text, which quotes within quotes make hard to tell from a field.

    Raises:
        InvalidError: it is one; says how fixed text is written.
    """
    quoted = _QUOTED.fullmatch(text)
    if quoted is not None:
        fixed = quoted[1].replace("''", "'")
        written = fixed if re.fullmatch(r"[A-Za-z0-9_./-]+(?: [A-Za-z0-9_./-]+)*", fixed) else f'"{fixed}"'
        raise InvalidError("is fixed text in the quotes of an expression", f"write {{text: {written}}}")


def constant(value: str | int | float | bool | None, source: str = "") -> Term:
    """A fixed value."""
    types = {str: TEXT, bool: BOOL, int: INT, float: NUMBER, type(None): NULL}
    dtype = types[type(value)]
    return Term(pl.lit(value, dtype=dtype), dtype, constant=value, is_constant=True, source=source)


def combined(value: pl.Expr, dtype: pl.DataType, given: Sequence[Term], growth: float | None = None) -> Term:
    """A value made of others: it reads what they read and fails where they fail."""
    return Term(
        value,
        dtype,
        tuple(dict.fromkeys(name for term in given for name in term.names)),
        tuple(failure for term in given for failure in term.fails),
        growth if growth is not None else max((term.growth for term in given), default=1.0),
        source=given[0].source if given else "",
    )


def kind_of(dtype: pl.DataType) -> str:
    """What values of a type are called."""
    if isinstance(dtype, pl.List):
        return "a list"
    if isinstance(dtype, pl.Datetime):
        return "a time"
    names: dict[type[pl.DataType], str] = {
        pl.String: "text",
        pl.Int64: "a whole number",
        pl.Float64: "a number",
        pl.Boolean: "true or false",
        pl.Null: "NULL",
    }
    return names.get(type(dtype), str(dtype))


def as_text(term: Term) -> Term:
    """A value as text: times as RFC 3339, true and false as such, the items of a list with blanks between."""
    dtype = term.dtype
    if dtype == TEXT:
        return term
    value = term.value
    if isinstance(dtype, pl.Datetime):
        text = value.dt.convert_time_zone("UTC").dt.strftime("%Y-%m-%dT%H:%M:%S%.6f").str.strip_suffix(".000000") + "Z"
    elif isinstance(dtype, pl.List):
        text = value.cast(pl.List(pl.String)).list.join(" ", ignore_nulls=True)
    else:
        text = value.cast(pl.String)
    known = {True: "true", False: "false"}.get(term.constant) if isinstance(term.constant, bool) else None
    fixed = known or (str(term.constant) if term.constant is not None else None)
    return term._replace(value=text, dtype=TEXT, constant=fixed)


def whole(value: pl.Expr) -> pl.Expr:
    """A whole number of 128 bits as one of 64, null where it is larger."""
    return value.cast(pl.Int64, strict=False)
