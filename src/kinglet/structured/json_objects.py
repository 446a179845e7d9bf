"""JSON objects (RFC 8259) in texts.

The keys of objects within an object have those above before them, with dots between; lists stay
JSON. Values are the text of strings without escapes, and of numbers, true and false as they stand; null
is as if the key were missing. Line ends within strings are let be.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from json import JSONDecodeError, JSONDecoder
from json.decoder import scanstring  # type: ignore[attr-defined]
from typing import Any

import polars as pl

from kinglet.columns.put import put
from kinglet.structured.by_form import Value
from kinglet.structured.in_one_pass import Loop
from kinglet.structured.unreadable import UnreadableError, why_unreadable

MOST_LEVELS = 64

_W = r"[ \t\r\n]*"
_STRING = r'"(?:[^"\\]|\\(?:["\\/bfnrt]|u[0-9A-Fa-f]{4}))*"'
_NUMBER = r"-?(?:0|[1-9][0-9]*)(?:\.[0-9]+)?(?:[eE][+-]?[0-9]+)?"
_PLAIN = rf"{_STRING}|{_NUMBER}|true|false|null"


def _list_of(items: str) -> str:
    return rf"\[{_W}(?:(?:{items}){_W}(?:,{_W}(?:{items}){_W})*)?\]"


def _object_of(items: str) -> str:
    pair = rf"{_STRING}{_W}:{_W}(?:{items}){_W}"
    return rf"\{{{_W}(?:{pair}(?:,{_W}{pair})*)?\}}"


_LIST = _list_of(_PLAIN)
_DEEP_LIST = _list_of(f"{_PLAIN}|{_LIST}|{_object_of(f'{_PLAIN}|{_LIST}')}")
_BLANKS = re.compile(_W)
_DECODER = JSONDecoder(strict=False)
_NO_NUMBER = re.compile("NaN|Infinity")
_ESCAPES = {
    "\\\\": "\\", '\\"': '"', "\\/": "/", "\\n": "\n", "\\t": "\t", "\\r": "\r", "\\b": "\b", "\\f": "\f",
}  # fmt: skip

_PLAIN_WORDS = {
    "Expecting value": "a value expected",
    "Expecting ',' delimiter": "`,` or `]` expected",
    "Unterminated string starting at": "a quote that is not closed",
    "Invalid \\escape": "an escape that JSON does not know",
    "Invalid \\uXXXX escape": "four digits of base 16 expected",
}


class JsonObjects:
    """The structure of texts that are a JSON object each."""

    name = "json"
    nothing: str | None = "null"
    escape = "\\"
    may_repeat = False
    has_lists = True
    loop: Loop | None = Loop("json_objects")
    kinds = {"plain": _PLAIN, "list": _LIST, "deep list": _DEEP_LIST}  # noqa: RUF012
    alike = r':[ ]*(?:"(?:[^"\\]|\\.)*"|\[[^\[\]{}]*\]|[^",{}\[\]]+)'

    def values(self, text: str) -> list[Value] | None:
        """The values of an object; None where the text is none."""
        try:
            return read_object(text)
        except NoJsonError:
            return None

    def unread(self, text: str) -> tuple[int, str]:
        """Where it stops to be JSON, and what was to stand there."""
        return why_unreadable(lambda: read_object(text), "no JSON object")

    def written(self, key: str) -> str | None:
        """The key in quotes, without those above it."""
        return f'"{key.rpartition(".")[2]}"'

    def fault(self, values: Sequence[Value]) -> str | None:
        """Nothing: whatever can be read is as it should be."""
        return None

    def meaning(self, token: pl.Expr) -> pl.Expr:
        """Strings without their quotes, null as null."""
        inside = token.str.slice(1, token.str.len_chars() - 2)
        return pl.when(token.str.starts_with('"')).then(inside).when(token != "null").then(token)

    def unescaped(self, tokens: pl.Series, written: pl.Series) -> pl.Series:
        """The insides of strings without escapes; half a surrogate pair becomes U+FFFD."""
        rows = tokens.str.contains("\\", literal=True).fill_null(False).arg_true()
        if not len(rows):
            return tokens
        escaped = tokens[rows]
        # all are two characters and begin alike: one pass from left to right reads them, but for codes
        meant = escaped.str.replace_many(_ESCAPES)
        coded = escaped.str.contains("\\u", literal=True)
        if coded.any():
            known = {text: _string(f'"{text}"', 0)[0] for text in escaped.filter(coded).unique()}
            meant = meant.zip_with(~coded, escaped.replace_strict(known, default=escaped, return_dtype=pl.String))
        return put(tokens, rows, meant)

    def finished(self, tokens: pl.Series) -> pl.Series:
        """The insides of strings without escapes."""
        return self.unescaped(tokens, tokens)

    def json_values(self, token: pl.Expr) -> pl.Expr:
        """Values as they stand."""
        return pl.when(token != "null").then(token)

    def item(self, text: str | None, path: str) -> str | None:
        """See `item_of`."""
        return item_of(text, path)

    def items(self, texts: pl.Series, path: str) -> pl.Series:
        """See `item_of`."""
        # logs repeat their lists; each is taken apart once
        known = {text: item_of(text, path) for text in texts.drop_nulls().unique().to_list()}
        found = texts.replace_strict(list(known), list(known.values()), default=None, return_dtype=pl.String)
        return found.alias(texts.name)


_STEP = re.compile(r"\[(-?[1-9][0-9]*)?\]")


def item_of(text: str | None, path: str) -> str | None:
    """An item of a JSON list, or a value in one: `[2].name`, `[-1]`, `[].name` for all of them as a list; or None.

    >>> item_of('[{"a": 1}, {"a": "x"}]', "[2].a"), item_of('[{"a": 1}, {"a": "x"}]', "[].a")
    ('x', '[1,"x"]')
    """
    token = _token_at(text, path) if text is not None else None
    if token is None or token == "null":
        return None
    return _string(token, 0)[0] if token.startswith('"') else token


def _token_at(text: str, path: str) -> str | None:
    """What stands at a path, as it is written."""
    if not path:
        return text
    step = _STEP.match(path)
    if step is None:
        return _member(text, path.removeprefix("."))
    items, rest = _tokens(text), path[step.end() :]
    if items is None:
        return None
    if step[1] is None:
        tokens = [_token_at(item, rest) for item in items]
        return "[" + ",".join(item or "null" for item in tokens) + "]"
    number = int(step[1])
    if abs(number) > len(items):
        return None
    return _token_at(items[number - (number > 0)], rest)


def _tokens(text: str) -> list[str] | None:
    """The items of a list as they are written; None where the text is none."""
    if not text.startswith("["):
        return None
    found: list[str] = []
    at = _BLANKS.match(text, 1).end()  # type: ignore[union-attr]
    while text[at : at + 1] not in ("]", ""):
        _, end = _DECODER.raw_decode(text, at)
        found.append(text[at:end])
        at = _BLANKS.match(text, end).end()  # type: ignore[union-attr]
        at = _BLANKS.match(text, at + (text[at : at + 1] == ",")).end()  # type: ignore[union-attr]
    return found


def _member(text: str, path: str) -> str | None:
    """The value of a key of an object, as it is written; the key may lead through objects to a list's item."""
    if not text.startswith("{"):
        return None
    places = {value.path: text[value.start : value.end] for value in read_object(text)}
    if path in places:
        return places[path]
    base, bracket, rest = path.partition("[")
    return _token_at(places[base], bracket + rest) if bracket and base in places else None


class NoJsonError(UnreadableError):
    """A text is no JSON object."""


def read_object(text: str) -> list[Value]:
    """The values of an object, in order.

    Raises:
        NoJsonError: the text is none, or has more than MOST_LEVELS levels.
    """
    reader = _Reader(text)
    try:
        reader.read()
    except JSONDecodeError as error:
        raise NoJsonError(_PLAIN_WORDS.get(error.msg, error.msg.lower()), error.pos) from None
    except RecursionError:
        raise NoJsonError(f"more than {MOST_LEVELS} levels", 0) from None
    return reader.found


class _Reader:
    def __init__(self, text: str) -> None:
        self.text = text
        self.found: list[Value] = []

    def read(self) -> None:
        end = self._blanks(self._object(self._blanks(0), "", 1))
        if end < len(self.text):
            raise NoJsonError("nothing more expected", end)

    def _blanks(self, at: int) -> int:
        match = _BLANKS.match(self.text, at)
        return match.end() if match else at

    def _expect(self, at: int, char: str) -> int:
        if self.text[at : at + 1] != char:
            raise NoJsonError(f"`{char}` expected", at)
        return self._blanks(at + 1)

    def _object(self, at: int, above: str, level: int) -> int:
        if level > MOST_LEVELS:
            raise NoJsonError(f"more than {MOST_LEVELS} levels", at)
        at = self._expect(at, "{")
        if self.text[at : at + 1] == "}":
            return self._blanks(at + 1)
        while True:
            if self.text[at : at + 1] != '"':
                raise NoJsonError("a key in double quotes expected", at)
            key, end = _string(self.text, at)
            at = self._expect(self._blanks(end), ":")
            path = f"{above}.{key}" if above else key
            at = self._object(at, path, level + 1) if self.text[at : at + 1] == "{" else self._value(at, path)
            if self.text[at : at + 1] == "}":
                return self._blanks(at + 1)
            if self.text[at : at + 1] != ",":
                raise NoJsonError("`,` or `}` expected", at)
            at = self._blanks(at + 1)

    def _value(self, at: int, path: str) -> int:
        value, end = _DECODER.raw_decode(self.text, at)
        token = self.text[at:end]
        if _NO_NUMBER.search(token) and _NO_NUMBER.search(re.sub(_STRING, '""', token)):
            raise NoJsonError("a value expected", at)
        if isinstance(value, list):
            flat = not any(isinstance(item, list | dict) for item in value)
            kind = "list" if flat else "deep list" if _is_shallow(value) else "deeper list"
            self.found.append(Value(path, at, end, kind, token))
        else:
            text = None if value is None else _string(token, 0)[0] if isinstance(value, str) else token
            self.found.append(Value(path, at, end, "plain", text))
        return self._blanks(end)


def _string(text: str, at: int) -> tuple[str, int]:
    """The string that begins at a quote, and where it ends."""
    value, end = scanstring(text, at + 1, False)
    return value.encode("utf-16", "surrogatepass").decode("utf-16", "replace"), end


def _is_shallow(items: list[Any]) -> bool:
    """Whether a list's items are no deeper than objects of flat lists, and lists of neither."""
    for item in items:
        inner = list(item.values()) if isinstance(item, dict) else item if isinstance(item, list) else []
        if isinstance(item, list) and any(isinstance(value, list | dict) for value in inner):
            return False
        for value in inner:
            if isinstance(value, dict) or (
                isinstance(value, list) and any(isinstance(part, list | dict) for part in value)
            ):
                return False
    return True
