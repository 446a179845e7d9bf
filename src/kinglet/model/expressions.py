"""SQL expressions over fields."""

from __future__ import annotations

import re
from collections.abc import Mapping

import polars as pl

from kinglet.errors import did_you_mean


def sql(text: str, fields: Mapping[str, pl.DataType]) -> pl.Expr:
    """A SQL expression over fields.

    Raises:
        ValueError: it is not SQL, or names a field that does not exist.
    """
    try:
        expression = pl.sql_expr(_quoted_fields(text, fields))
        names = expression.meta.root_names()
    except pl.exceptions.PolarsError as error:
        reason = str(error).splitlines()[0]
        word = re.fullmatch(r"unsupported function '(\w+)'", reason)
        if word is None or re.search(rf"\b{word[1]}\s*\(", text):
            raise ValueError(f"`{text}` is not a SQL expression: {reason}") from None
        names = [word[1]]  # a word that SQL takes for a function, such as `user`
        expression = pl.col(word[1])
    for name in names:
        if name not in fields:
            hint = did_you_mean(name, fields, f"for a fixed text write \"'{name}'\"")
            raise ValueError(f"`{name}` is no field of this variant; {hint}")
    return expression


_SQL_PIECE = re.compile(
    r"""'(?:[^']|'')*'|"(?:[^"]|"")*"|[A-Za-z_][A-Za-z0-9_]*(?:\.[A-Za-z_0-9]+)*(?!\s*\()|.""", re.DOTALL
)


_DOTTED = re.compile(r"[A-Za-z_]\w*(\.\w+)+")


def _quoted_fields(text: str, fields: Mapping[str, pl.DataType]) -> str:
    """SQL whose field names are quoted, so that a field may be called `user` or `order`."""
    return "".join(
        f'"{piece}"' if piece in fields or _DOTTED.fullmatch(piece) else piece for piece in _SQL_PIECE.findall(text)
    )
