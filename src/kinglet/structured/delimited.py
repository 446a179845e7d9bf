"""Values between delimiters (RFC 4180) in texts, named by their places.

A value may stand in quotes, in which a quote is written twice. An empty value without quotes is as if
it were missing, and so is the text that stands for none.
"""

from __future__ import annotations

import functools
import re
from collections.abc import Sequence

import polars as pl

from kinglet.names import name_alike
from kinglet.patterns.compiling import escape
from kinglet.structured.by_form import Value, WithoutLists, json_strings
from kinglet.structured.in_one_pass import Loop
from kinglet.structured.pairs import in_class


class Delimited(WithoutLists):
    """The structure of texts that are rows; names: of the columns. nothing: what stands for no value."""

    name = "delimited"
    unread_words = "text behind the quotes of a value, or quotes that are not closed"
    nothing: str | None = None  # no value of a row is written as JSON's null is
    escape = "\\"
    may_repeat = True

    def __init__(
        self, names: Sequence[str], delimiter: str = ",", quote: str = '"', nothing: str | None = None
    ) -> None:
        self.names, self.delimiter, self.quote, self.none = tuple(names), delimiter, quote, nothing
        if all(len(sign) == 1 and sign.isascii() for sign in (delimiter, quote)) and len(set(names)) == len(names):
            none = (nothing or "").encode()
            self.loop = Loop("delimited", (ord(delimiter), ord(quote), none, len(none)), self.names)
        quoted = f"{escape(quote)}(?:[^{in_class(quote)}]|{escape(quote * 2)})*{escape(quote)}"
        bare = f"(?:[^{in_class(quote + delimiter)}][^{in_class(delimiter)}]*)?"
        self.kinds = {"cell": f"{quoted}|{bare}"}
        self.alike = f"{quoted}|[^{in_class(delimiter)}]+"
        self._cell = re.compile(f"{quoted}|{bare}")

    def values(self, text: str) -> list[Value] | None:
        """The values of a row; None where something stands behind the quotes of one."""
        found: list[Value] = []
        at = 0
        while True:
            cell = self._cell.match(text, at)
            assert cell is not None
            place = len(found)
            path = self.names[place] if place < len(self.names) else f"column_{place + 1}"
            found.append(Value(path, at, cell.end(), "cell", self._unquoted(cell[0])))
            at = cell.end()
            if at == len(text):
                return found
            if text[at] != self.delimiter:
                return None
            at += 1

    def written(self, key: str) -> str | None:
        """Nothing: names do not stand in rows."""
        return None

    def fault(self, values: Sequence[Value]) -> str | None:
        """Whether there are as many values as names."""
        if len(values) == len(self.names):
            return None
        return "few-columns" if len(values) < len(self.names) else "many-columns"

    def is_turned(self, header: str) -> bool:
        """Whether a header has the columns that these names are of, but two or more of them at other places."""
        said = [name_alike(value.text or "") for value in self.values(header) or ()]
        names = [name_alike(name) for name in self.names]
        known = [place for place, name in enumerate(names) if name in said]
        turned = sum(said.index(names[place]) != place for place in known)
        return len(set(said)) == len(said) and turned > 1 and 2 * len(known) >= len(names)

    def renamed(self, keys: Sequence[str]) -> list[str]:
        """Those of the keys that no column is called, but one is that is none of them: but for capitals and signs."""
        others = {name_alike(name) for name in self.names if name not in keys}
        return [key for key in keys if key not in self.names and name_alike(key) in others]

    def meaning(self, token: pl.Expr) -> pl.Expr:
        """What stands in quotes without them; nothing as null."""
        inside = token.str.slice(1, token.str.len_chars() - 2).str.replace_all(self.quote * 2, self.quote, literal=True)
        is_value = token != "" if self.none is None else (token != "") & (token != self.none)
        return pl.when(token.str.starts_with(self.quote)).then(inside).when(is_value).then(token)

    def unescaped(self, tokens: pl.Series, written: pl.Series) -> pl.Series:
        """The same: a row knows no escapes but the quotes written twice."""
        return tokens

    def finished(self, tokens: pl.Series) -> pl.Series:
        """Text without quotes written twice."""
        return tokens.str.replace_all(self.quote * 2, self.quote, literal=True)

    def json_values(self, token: pl.Expr) -> pl.Expr:
        """Values as JSON strings."""
        return json_strings(self.meaning(token))

    def _unquoted(self, token: str) -> str | None:
        if token.startswith(self.quote):
            return token[1:-1].replace(self.quote * 2, self.quote)
        return None if token in ("", self.none) else token


class UnderHeader(Delimited):
    """The structure of rows whose columns the header of their log names.

    A row of which no header is known has the fault `no-header`, and values called `column_1` and so on.
    """

    def __init__(self, delimiter: str = ",", quote: str = '"', nothing: str | None = None) -> None:
        super().__init__((), delimiter, quote, nothing)
        self.loop = None

    def under(self, header: str) -> Delimited:
        """The structure of rows under a header; its names without blanks around them."""
        return _under(self, header)

    def fault(self, values: Sequence[Value]) -> str | None:
        """That there is no header."""
        return "no-header"


@functools.lru_cache(16)  # of few logs at a time: a header may be as long as an event
def _under(rows: UnderHeader, header: str) -> Delimited:
    """See `UnderHeader.under`; made once for all batches of a log."""
    values = rows.values(header)
    if values is None:
        return rows
    names = [(value.text or "").strip() or value.path for value in values]
    return Delimited(names, rows.delimiter, rows.quote, rows.none)
