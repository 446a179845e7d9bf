"""The structured data of a syslog message (RFC 5424, section 6.3).

The key of a parameter is its name behind the id of its element, with a dot between.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

import polars as pl

from kinglet.structured.by_form import Value, WithoutLists, json_strings

_ELEMENT = re.compile(r"\[([^\s=\]\"]{1,256})")
_PARAMETER = re.compile(r" +([^\s=\]\"]{1,256})=\"((?:[^\"\\]|\\.)*)\"", re.DOTALL)


class StructuredData(WithoutLists):
    """The structure of texts that are elements such as `[berth@32473 quay="4"]`, or `-` for none."""

    name = "sdata"
    unread_words = "no structured data from here on"
    nothing: str | None = None
    escape = "\\"
    may_repeat = True
    kinds = {"parameter": r'(?:[^"\\]|\\(?s:.))*'}  # noqa: RUF012
    alike = r'"(?:[^"\\]|\\.)*"'

    def values(self, text: str) -> list[Value] | None:
        """The parameters; None where the text is no structured data."""
        found: list[Value] = []
        at, end = 0, len(text)
        if text == "-":
            return found
        while at < end:
            element = _ELEMENT.match(text, at)
            if element is None:
                return None
            at = element.end()
            while parameter := _PARAMETER.match(text, at):
                plain = re.sub(r'\\(["\\\]])', r"\1", parameter[2])
                path = f"{element[1]}.{parameter[1]}"
                found.append(Value(path, *parameter.span(2), "parameter", plain))
                at = parameter.end()
            if text[at : at + 1] != "]":
                return None
            at += 1
        return found if text else None

    def written(self, key: str) -> str | None:
        """The name and what stands behind it."""
        return f"{key.rpartition('.')[2]}="

    def fault(self, values: Sequence[Value]) -> str | None:
        """Nothing: whatever can be read is as it should be."""
        return None

    def meaning(self, token: pl.Expr) -> pl.Expr:
        """What stands in the quotes, which may be nothing."""
        return token

    def unescaped(self, tokens: pl.Series, written: pl.Series) -> pl.Series:
        """The same without the backslashes before quotes, brackets and backslashes."""
        return tokens.str.replace_all(r'\\(["\\\]])', "${1}")

    def json_values(self, token: pl.Expr) -> pl.Expr:
        """Values as JSON strings."""
        return json_strings(token.str.replace_all(r'\\(["\\\]])', "${1}"))
