"""Labelled blocks: lines such as `Operator: m.okoro`, in sections that are told by indentation.

The key of a value is its label in small letters with `_` for all else, behind those of the sections it
is in, with dots between. A label without a value, or a line `[Name]`, begins a section. Lines without a label
continue the value above them where they stand further in; elsewhere they are values of the key `text`. A line that is
drawn, three or more of one of `-=_*#~+`, is passed over like an empty one.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import NamedTuple

import polars as pl

from kinglet.patterns.compiling import escape
from kinglet.structured.by_form import Value, WithoutLists, json_strings
from kinglet.structured.in_one_pass import Loop
from kinglet.structured.pairs import in_class
from kinglet.structured.repeats import selector

_DEEPEST = 12
_LONGEST_LABEL = 64
DRAWN = r"(?:-{3,}|={3,}|\*{3,}|#{3,}|_{3,}|~{3,}|\+{3,})"
"""A line of one sign, which parts others."""
_DRAWN = re.compile(DRAWN)
_DRAWN_WITHIN = rf"(?:\n[ \t]*{DRAWN}[ \t\r]*)+\n"
"""Drawn lines between those of a value, which are passed over."""
_TITLE = re.compile(r"\[([^\[\]\r\n]+)\][ \t]*")


class _Section(NamedTuple):
    indent: int
    path: str


class Blocks(WithoutLists):
    """The structure of texts that are labelled blocks; equals: what stands behind a label.

    labels: all that there are, where other lines may look as if they had one. quote: the character around values,
    within which a backslash before it, or before another, is an escape.
    """

    name = "block"
    nothing: str | None = None
    escape = "\0"
    may_repeat = True

    def __init__(self, equals: str = ":", labels: Sequence[str] | None = None, quote: str | None = None) -> None:
        self.equals, self.quote = equals, quote
        sign = re.escape(quote or "")
        self._quoted = rf"(?s)^{sign}((?:[^{sign}\\]|\\.)*){sign}$" if quote else None
        self._escape = rf"\\([{sign}\\])"
        if labels is None and quote is None and len(equals) == 1 and "!" <= equals <= "~" and equals not in "[]":
            self.loop = Loop("blocks", (ord(equals), _LONGEST_LABEL, b"text"))
        first, sign = in_class(equals[0]), escape(equals)
        free = rf"(?:[^{first}\r\n]|{sign}+[^{first} \t\r\n])"
        apart = equals == ":"  # in `10:41` it is no label
        self.kinds = {"value": r"(?:[ \t][^\r\n]*)?" if apart else r"[^\r\n]*", "text": rf"[^\[{first} \t\r\n]{free}*"}
        if len(equals) == 1:
            for indent in range(_DEEPEST):
                lines = rf"\r?\n[ \t]{{{indent + 1},}}[^\[{first} \t\r\n]{free}*"
                self.kinds[f"value {indent}"] = rf"{self.kinds['value']}(?:{lines})+"
        else:
            del self.kinds["text"]
        self.alike = rf"{sign}[ \t][^\r\n]*"
        behind = r"(?=[ \t\r]|\Z)" if apart else ""
        names = "|".join(re.escape(label) for label in sorted(labels or (), key=len, reverse=True))
        label = rf"(?i:{names})" if labels else rf"[^\r\n]{{1,{_LONGEST_LABEL}}}?"
        self._label = re.compile(rf"({label})[ \t]*{sign}{behind}" if labels else rf"({label}){sign}{behind}")
        self._odd = re.compile(rf"{sign}{behind}") if labels else None

    def values(self, text: str) -> list[Value] | None:
        """The values of a block; None where no line has a label."""
        found: list[Value] = []
        sections: list[_Section] = []
        labelled = looks_odd = False
        last: tuple[int, int] | None = None  # the value that lines further in continue: its number, its indent
        at = 0
        for line in text.split("\n"):
            start, at = at, at + len(line) + 1
            written = line.rstrip("\r")
            bare = written.strip(" \t")
            if not bare or _DRAWN.fullmatch(bare):
                continue
            indent = len(written) - len(written.lstrip(" \t"))
            label, title = self._label.match(written, indent), _TITLE.fullmatch(written, indent)
            if label is None and title is None and last is not None and indent > last[1]:
                found[last[0]] = self._longer(found[last[0]], start + len(written), bare, last[1])
                looks_odd |= self._odd is not None and self._odd.search(bare) is not None
                continue
            while sections and sections[-1].indent >= indent:
                sections.pop()
            above = f"{sections[-1].path}." if sections else ""
            if label is not None:
                path = above + key_of(label[1])
                value = written[label.end() :]
                found.append(
                    Value(path, start + label.end(), start + len(written), "value", value.strip(" \t\r\n") or None)
                )
                last, labelled = (len(found) - 1, indent), True
                sections.append(_Section(indent, path))
            elif title is not None:
                sections, last, labelled = [_Section(indent - 1, key_of(title[1]))], None, True
            else:
                found.append(Value(f"{above}text", start + indent, start + len(written), "text", bare))
                looks_odd |= self._odd is not None and self._odd.search(bare) is not None
                last = None
        if self._quoted is not None:
            found = [value if value.kind == "text" else value._replace(text=self._bare(value.text)) for value in found]
        if looks_odd:  # a line that looks like a label and is none: no regex of the engine can tell
            found = [value._replace(kind="line") for value in found]
        return found if labelled else None

    def _bare(self, text: str | None) -> str | None:
        """A value without the quotes around it."""
        quoted = re.fullmatch(self._quoted or "", text or "")
        return re.sub(self._escape, r"\1", quoted[1]) if quoted is not None and text else text

    def _longer(self, value: Value, end: int, line: str, indent: int) -> Value:
        kind = f"value {indent}" if value.kind == "value" else value.kind
        return value._replace(end=end, kind=kind, text=line if value.text is None else f"{value.text}\n{line}")

    def unread(self, text: str) -> tuple[int, str]:
        """The start: no line of it is one."""
        return 0, "no line with a label, such as `Name: value`"

    def written(self, key: str) -> str | None:
        """Nothing: a label may be written in several ways."""
        return None

    def fault(self, values: Sequence[Value]) -> str | None:
        """Nothing: whatever can be read is as it should be."""
        return None

    def meaning(self, token: pl.Expr) -> pl.Expr:
        """Lines without the blanks around them; nothing as null."""
        bare = token.str.replace_all(_DRAWN_WITHIN, "\n")
        bare = bare.str.replace_all(r"[ \t\r]*\n[ \t]*", "\n").str.strip_chars(" \t\r\n")
        bare = bare.replace("", None)
        if self._quoted is None:
            return bare
        inner = bare.str.extract(self._quoted, 1).str.replace_all(self._escape, "${1}")
        return pl.coalesce(inner, bare)

    def unescaped(self, tokens: pl.Series, written: pl.Series) -> pl.Series:
        """The same: a block knows no escapes."""
        return tokens

    def finished(self, tokens: pl.Series) -> pl.Series:
        """Lines without the blanks around them, and without empty and drawn ones."""
        return tokens.str.replace_all(_DRAWN_WITHIN, "\n").str.replace_all(r"[ \t\r]*\n[ \t\r\n]*", "\n")

    def json_values(self, token: pl.Expr) -> pl.Expr:
        """Values as JSON strings."""
        return json_strings(self.meaning(token))


def key_of(label: str) -> str:
    """A label as a key.

    >>> key_of("Account Name ")
    'account_name'
    """
    return re.sub(r"\W+", "_", label.strip().lower()).strip("_") or "_"


def path_of(written: str) -> str:
    """The key of a label that is written as it stands in the log, with those of its sections before it.

    >>> path_of("Operator.Account Name[2]")
    'operator.account_name[2]'
    """
    key, which = selector(written)
    rest = written[len(key) :] if which is not None else ""
    return ".".join(key_of(part) for part in key.split(".")) + rest
