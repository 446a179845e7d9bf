"""Pairs of keys and values in texts, such as `user="t.varela" src=192.0.2.14`.

A value is what stands up to the next separator, or text in quotes, in which a backslash lets a quote be
itself. A key without a value stands for `true`. An empty value is as if the key were missing.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import NamedTuple

import polars as pl

from kinglet.extract.forms import Value, json_strings
from kinglet.patterns.compiling import escape


class _Signs(NamedTuple):
    """Regexes of a key, what stands between pairs, a value in quotes, one without."""

    key: re.Pattern[str]
    gap: re.Pattern[str]
    quoted: re.Pattern[str]
    bare: re.Pattern[str]


class Pairs:
    """The structure of texts that are pairs; between: what separates two, equals: a key from its value."""

    name = "pairs"
    nothing: str | None = None
    escape = "\\"
    may_repeat = True

    def __init__(self, between: str = " ", equals: str = "=", quote: str = '"') -> None:
        self.equals, self.quote = equals, quote
        mark = between.strip()
        quoted = rf"{escape(quote)}(?:[^{in_class(quote)}\\]|\\.)*{escape(quote)}"
        stop = r" \t\r\n" if not mark else r"\r\n" + in_class(mark[0])
        begin = r" \t\r\n" + in_class(quote + mark[:1])
        bare = f"(?:[^{begin}][^{stop}]*)?"
        key = rf"[^{stop}{in_class(equals[0] + quote)}]+"
        edge = r"[ \t\r\n]+" if not mark else rf"[ \t\r\n]*{escape(mark)}[ \t\r\n]*"
        gap = "" if not mark else r"[ \t]*"
        self.kinds = {"value": f"{gap}(?:{quoted}|{bare})"}
        self.alike = rf"{escape(equals)}[ \t]*(?:{quoted}|[^{stop}]*)"
        self.signs = _Signs(*(re.compile(some) for some in (key, edge, gap + quoted, gap + bare)))

    def values(self, text: str) -> list[Value] | None:
        """The values of a text; None where something in it is neither a pair nor a key."""
        signs, found = self.signs, list[Value]()
        at, end = _start(text), len(text.rstrip())
        while at < end:
            key = signs.key.match(text, at)
            if key is None:
                return None
            name = key[0].rstrip()
            at = key.end()
            if text.startswith(self.equals, at):
                at += len(self.equals)
                value = signs.quoted.match(text, at) or signs.bare.match(text, at)
                assert value is not None
                found.append(Value(name, at, value.end(), "value", self._plain(value[0])))
                at = value.end()
            else:
                found.append(Value(name, at, at, "", "true"))
            if at < end:
                gap = signs.gap.match(text, at)
                if gap is None:
                    return None
                at = gap.end()
        return found or None

    def written(self, key: str) -> str | None:
        """The key and what stands behind it."""
        return f"{key}{self.equals}"

    def fault(self, values: Sequence[Value]) -> str | None:
        """Nothing: whatever can be read is as it should be."""
        return None

    def meaning(self, token: pl.Expr) -> pl.Expr:
        """What stands in quotes without them; nothing as null."""
        bare = token.str.strip_chars(" \t\r\n")
        inside = bare.str.slice(1, bare.str.len_chars() - 2)
        return pl.when(bare.str.starts_with(self.quote)).then(inside).when(bare != "").then(bare)

    def unescaped(self, tokens: pl.Series) -> pl.Series:
        """The same without the backslashes before quotes and backslashes."""
        return tokens.str.replace_all(rf"\\({escape(self.quote)}|\\)", "${1}")

    def as_json(self, token: pl.Expr) -> pl.Expr:
        """Values as JSON strings."""
        return json_strings(self.meaning(token).str.replace_all(rf"\\({escape(self.quote)}|\\)", "${1}"))

    def _plain(self, token: str) -> str | None:
        token = token.strip(" \t\r\n")
        plain = token[1:-1] if token.startswith(self.quote) else token
        return re.sub(rf"\\({escape(self.quote)}|\\)", r"\1", plain) if token else None


def _start(text: str) -> int:
    return len(text) - len(text.lstrip())


def in_class(char: str) -> str:
    """Characters as the inside of a character class."""
    return "".join(f"\\{one}" if one in r"\]^-[&~" else one for one in char)
