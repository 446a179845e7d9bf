"""The step that takes escapes out of text: of C, of JSON (RFC 8259), percent (RFC 3986), references of HTML."""

from __future__ import annotations

import html
import json
import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from urllib.parse import unquote_to_bytes

import polars as pl

from kinglet.columns.faults import Faults
from kinglet.plan.steps import Action, OnTexts
from kinglet.runtime.steps import placed
from kinglet.spec import steps as forms
from kinglet.steps.context import StepContext
from kinglet.timestamps.stamps import Reference

_C = re.compile(r"\\(?:x([0-9A-Fa-f]{2})|([0-7]{1,3})|u([0-9A-Fa-f]{4})|U([0-9A-Fa-f]{8})|([abefnrtv\\'\"?]))")
_REFERENCE = re.compile(r"&(?:#[0-9]{1,7}|#[xX][0-9A-Fa-f]{1,6}|[A-Za-z][A-Za-z0-9]{1,31});")
_SIGNS = dict(zip("abefnrtv\\'\"?", "\a\b\x1b\f\n\r\t\v\\'\"?", strict=True))


@dataclass(frozen=True)
class Unescape(OnTexts):
    """Texts as what their escapes stand for; a text whose escapes are none, or give no UTF-8, is a fault and null."""

    names: tuple[str, ...]
    form: str

    def act(self, frame: pl.DataFrame, where: pl.Series | None, reference: Reference) -> tuple[pl.DataFrame, Faults]:
        """See `Action`."""
        found: Faults = []
        marked = {"percent": "%", "html": "&"}.get(self.form, "\\")
        for name in self.names:
            if name not in frame.columns:
                continue
            text = frame[name]
            escaped = text.str.contains(marked, literal=True).fill_null(False)
            if where is not None:
                escaped = escaped & where
            if not escaped.any():
                continue
            known = {value: _meant(value, FORMS[self.form]) for value in text.filter(escaped).unique().to_list()}
            meant = text.replace_strict(list(known), list(known.values()), default=None, return_dtype=pl.String)
            found.append((f"bad-value:{name}", escaped & meant.is_null()))
            frame = placed(frame, name, meant, escaped)
        return frame, found


def _meant(text: str, read: Callable[[str], str]) -> str | None:
    try:
        return read(text)
    except ValueError:  # UnicodeDecodeError and JSONDecodeError are such
        return None


def _of_c(text: str) -> str:
    r"""Escapes of ISO 9899; one that is none stays as it is. `\xHH` are bytes, of which several are one character."""
    done = bytearray()
    last = 0
    for match in _C.finditer(text):
        done += text[last : match.start()].encode()
        last = match.end()
        byte, octal, short, long, sign = match.groups()
        if byte or octal:
            number = int(byte, 16) if byte else int(octal, 8)
            if number > 255:
                raise ValueError("no byte")
            done.append(number)
        else:
            done += (_SIGNS[sign] if sign else chr(int(short or long, 16))).encode()
    return (done + text[last:].encode()).decode()


def _of_json(text: str) -> str:
    meant = json.loads(f'"{text}"', strict=False)
    if not isinstance(meant, str):
        raise ValueError("no string")
    meant.encode()  # half of a pair of surrogates is no text
    return meant


def _of_percent(text: str) -> str:
    return unquote_to_bytes(text).decode()


def _of_html(text: str) -> str:
    """References that end with a semicolon; others, which HTML knows too, may be parts of a URL: `?a=1&notify=2`."""
    return _REFERENCE.sub(lambda match: html.unescape(match[0]), text)


FORMS: Mapping[str, Callable[[str], str]] = {
    "c": _of_c,
    "json": _of_json,
    "percent": _of_percent,
    "html": _of_html,
}


def unescape(context: StepContext, form: forms.Unescape) -> Action | None:
    """`unescape`: what the escapes of a text stand for."""
    return Unescape(tuple(form.fields), form.as_) if context.text(("unescape", "fields"), form.fields) else None
