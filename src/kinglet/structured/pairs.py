"""Pairs of keys and values in texts, such as `user="t.varela" src=192.0.2.14`.

A value is what stands up to the next separator, or text in quotes, in which a backslash lets a quote or a backslash be
itself; any other backslash is one. A key without a value stands for `true`. An empty value is as if the
key were missing.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import NamedTuple

import polars as pl

from kinglet.patterns.compiling import escape
from kinglet.structured.by_form import Value, WithoutLists, json_strings
from kinglet.structured.in_one_pass import Loop


class _Signs(NamedTuple):
    """Regexes of a key, what stands between pairs, a value in quotes, one without."""

    key: re.Pattern[str]
    gap: re.Pattern[str]
    quoted: re.Pattern[str]
    bare: re.Pattern[str]


_BLANKS = " \t\r\n"
_BLANK = f"[{_BLANKS}]"
"""What separates; other blanks, such as those of other alphabets, are text."""
_UNREGULAR = "unregular"
"""A kind of value that no regex of the engine can tell the end of; such texts are read one by one."""
_MEANT = {"n": "\n", "r": "\r", "t": "\t"}


class _Between(NamedTuple):
    """Regexes of what separates two pairs, and of a value without quotes in which it does not stand.

    free: None where no regex without a look ahead says that. stop: what no key holds, as the inside of a class.
    """

    gap: str
    free: str | None
    stop: str


def _between(sign: str, quote: str) -> _Between:
    """What a separator means: a blank is any blanks, other blanks are themselves, blanks around a sign may be more."""
    core, mark = sign.strip(), in_class(quote)
    if sign == " ":
        return _Between(r"[ \t\r\n]+", _of_class(r" \t\r\n", mark), r" \t\r\n")
    if not core:
        # of a sign repeated, more of it is one separator too: an empty value between would be none
        same = len(set(sign)) == 1
        gap = f"{escape(sign[0])}{{{len(sign)},}}" if same else f"(?:{escape(sign)})+"
        free = _of_class(in_class(sign) + r"\r\n", mark) if len(sign) == 1 else None
        return _Between(rf"(?:{gap}|\r?\n)", free, rf"\r\n{in_class(sign) if same else ''}")
    before = r"[ \t]+" if sign[0] in " \t" else r"[ \t\r\n]*"
    behind = r"[ \t\r\n]+" if sign[-1] in " \t" else r"[ \t\r\n]*"
    # a value may hold the first sign of a longer separator, which no plain class can say
    first = in_class(core[0])
    free = _of_class(rf"\r\n{first}", mark)  # other values without quotes are read text by text
    if len(core) == 1 and sign[0] == core and sign != core:
        free = rf"(?:[^{first}{mark}\r\n]|{escape(core)}+[^{first}{mark} \t\r\n])*{escape(core)}*"
    return _Between(rf"{before}{escape(core)}{behind}", free, rf"\r\n{first}")


def _of_class(stop: str, mark: str) -> str:
    """A regex of text without some characters that does not begin with a quote."""
    return f"(?:[^{stop}{mark}][^{stop}]*)?"


class Pairs(WithoutLists):
    r"""The structure of texts that are pairs; between: what separates two, equals: a key from its value.

    open_values: whether values without quotes may hold blanks, up to the next key. escapes: whether a backslash in them
    lets the next sign be itself, and `\n`, `\r` and `\t` what they are elsewhere.
    """

    name = "pairs"
    unread_words = "no pairs of keys and values from here on"
    nothing: str | None = None
    escape = "\\"
    may_repeat = True

    def __init__(
        self,
        between: str = " ",
        equals: str = "=",
        quote: str = '"',
        *,
        open_values: bool = False,
        escapes: bool = False,
    ) -> None:
        self.between, self.equals, self.quote, self.escapes = between, equals, quote, escapes
        self.open_values = open_values
        mark = between.strip()
        signs = (between, equals, quote)
        plain = all(len(sign) == 1 and " " <= sign < "\x7f" for sign in signs) and len(set(signs)) == 3
        if plain and not (open_values or escapes):
            self.loop = Loop("pairs", (ord(between), ord(equals), ord(quote), b"true"))
        how = _between(between, quote)
        quoted = rf"{escape(quote)}(?:[^{in_class(quote)}\\]|\\.)*{escape(quote)}"
        key = rf"[^{how.stop}{in_class(equals[0] + quote)}]+"
        gap = "" if not mark else r"[ \t]*"
        # a value goes on to where a key and its sign begin, so that words within it are none
        ends = rf"(?={how.gap}{key}{escape(equals)}|{_BLANK}*\Z)" if open_values else rf"(?={how.gap}|{_BLANK}*\Z)"
        piece = r"(?:\\.|[^\\\r\n])" if escapes else r"[^\r\n]"
        lazy = rf"(?!{escape(quote)}){piece}*?{ends}"
        free = _of_class(rf"\r\n{in_class(equals[0])}", in_class(quote)) if open_values else how.free
        if escapes and free is not None:  # a sign behind a backslash ends nothing, which is told text by text
            free = free.replace("[^", r"[^\\")
        self._free = re.compile(free) if free is not None else None
        bare = free if free is not None else ""
        self.kinds = {"value": f"{gap}(?:{quoted}|{bare})"}
        self.alike = rf"{escape(equals)}[ \t]*(?:{quoted}|[^{how.stop}]*)"
        self.signs = _Signs(
            *(re.compile(regex) for regex in (key, how.gap, gap + quoted, gap + "?" * bool(gap) + lazy))
        )

    def values(self, text: str) -> list[Value] | None:
        """The values of a text; None where something in it is neither a pair nor a key."""
        signs, found = self.signs, list[Value]()
        # blanks around all pairs are none of them
        at, end = _start(text), len(text.rstrip(_BLANKS))
        while at < end:
            key = signs.key.match(text, at)
            if key is None:
                return None
            name = key[0].rstrip(_BLANKS)
            at = key.end()
            if text.startswith(self.equals, at):
                at += len(self.equals)
                value = signs.quoted.match(text, at) or signs.bare.match(text, at)
                if value is None:
                    return None
                found.append(Value(name, at, value.end(), self._kind(value[0]), self._unquoted(value[0])))
                at = value.end()
            else:
                found.append(Value(name, at, at, "", "true"))
            if at < end:
                gap = signs.gap.match(text, at)
                if gap is None:
                    return None
                at = gap.end()
        return found or None

    def _kind(self, token: str) -> str:
        """Whether the engine can tell where a value ends."""
        bare = token.strip(" \t")
        if bare.startswith(self.quote) or (self._free is not None and self._free.fullmatch(bare)):
            return "value"
        return _UNREGULAR

    def written(self, key: str) -> str | None:
        """The key and what stands behind it."""
        return f"{key}{self.equals}"

    def fault(self, values: Sequence[Value]) -> str | None:
        """Nothing: whatever can be read is as it should be."""
        return None

    def meaning(self, token: pl.Expr) -> pl.Expr:
        """What stands in quotes without them; nothing as null."""
        bare = token.str.strip_chars(_BLANKS)
        inside = bare.str.slice(1, bare.str.len_chars() - 2)
        return pl.when(bare.str.starts_with(self.quote)).then(inside).when(bare != "").then(bare)

    def unescaped(self, tokens: pl.Series, written: pl.Series) -> pl.Series:
        """The same without the backslashes before quotes and backslashes, where it stood in quotes."""
        quoted = written.str.strip_chars_start(" \t").str.starts_with(self.quote)
        plain = tokens.str.replace_all(rf"\\({escape(self.quote)}|\\)", "${1}")
        return plain.zip_with(quoted, tokens)

    def json_values(self, token: pl.Expr) -> pl.Expr:
        """Values as JSON strings."""
        bare = token.str.strip_chars_start(" \t")
        meant = self.meaning(token)
        plain = meant.str.replace_all(rf"\\({escape(self.quote)}|\\)", "${1}")
        return json_strings(pl.when(bare.str.starts_with(self.quote)).then(plain).otherwise(meant))

    def _unquoted(self, token: str) -> str | None:
        whole = token.lstrip(_BLANKS)
        token = whole.rstrip(_BLANKS)
        cut = whole[len(token) : len(token) + 1]
        if token.startswith(self.quote):
            return re.sub(rf"\\({escape(self.quote)}|\\)", r"\1", token[1:-1])
        if self.escapes and "\\" in token:
            if cut and (len(token) - len(token.rstrip("\\"))) % 2:  # the blank at the end is meant
                token += cut
            return re.sub(r"\\(.)", lambda found: _MEANT.get(found[1], found[1]), token)
        return token or None


def _start(text: str) -> int:
    return len(text) - len(text.lstrip(_BLANKS))


def in_class(char: str) -> str:
    """Characters as the inside of a character class."""
    return "".join(f"\\{one}" if one in r"\]^-[&~" else one for one in char)
