"""Columns at fixed positions in texts.

Blanks around a value are no part of it; a value of blanks only is as if it were missing. What stands
between the columns is kept under `column_N`, by the position at which it begins.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import polars as pl

from kinglet.structured.by_form import Value, WithoutLists, json_strings

_WIDEST = 1000
"""Wider columns are read one by one: the regex engine has a limit on what it counts."""


class Fixed(WithoutLists):
    """The structure of texts in columns; columns: of each the first and last character, from 1, None for the end."""

    name = "fixed"
    nothing: str | None = None
    escape = "\0"
    may_repeat = True

    def __init__(self, columns: Mapping[str, tuple[int, int | None]]) -> None:
        self.columns: list[tuple[str, int, int | None, bool]] = []
        at = 1
        for name, (first, last) in sorted(columns.items(), key=lambda item: item[1][0]):
            if first > at:
                self.columns.append((f"column_{at}", at, first - 1, False))
            self.columns.append((name, first, last, True))
            at = last + 1 if last is not None else 0
        if at:
            self.columns.append((f"column_{at}", at, None, False))
        widths = [last - first + 1 for _, first, last, _ in self.columns if last is not None]
        widest = max((width for width in widths if width <= _WIDEST), default=1)
        self.kinds = {f"{width}": f"(?s:.{{{width}}})" for width in range(1, widest + 1)} | {"rest": "(?s:.*)"}
        self.alike = r"[^\s]"

    def values(self, text: str) -> list[Value] | None:
        """The values of a text, whose last column may be shorter than it should."""
        found: list[Value] = []
        for name, first, last, _ in self.columns:
            end = len(text) if last is None else min(last, len(text))
            if len(text) < first - (last is None):
                break
            kind = "rest" if last is None else f"{end - first + 1}"
            found.append(Value(name, first - 1, end, kind, text[first - 1 : end].strip(" \t\r\n") or None))
        return found

    def written(self, key: str) -> str | None:
        """Nothing: names do not stand in the text."""
        return None

    def fault(self, values: Sequence[Value]) -> str | None:
        """Whether the text ends before a column begins."""
        wanted = sum(named and last is not None for _, _, last, named in self.columns)
        got = {value.path for value in values}
        there = sum(named and last is not None and name in got for name, _, last, named in self.columns)
        return "few-columns" if there < wanted else None

    def meaning(self, token: pl.Expr) -> pl.Expr:
        """Text without the blanks around it; nothing as null."""
        bare = token.str.strip_chars(" \t\r\n")
        return bare.replace("", None)

    def unescaped(self, tokens: pl.Series, written: pl.Series) -> pl.Series:
        """The same: columns know no escapes."""
        return tokens

    def json_values(self, token: pl.Expr) -> pl.Expr:
        """Values as JSON strings."""
        return json_strings(self.meaning(token))
