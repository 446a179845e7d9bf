"""Text written in other signs, as what they stand for: escapes of C, of JSON (RFC 8259), percent (RFC 3986), references
of HTML, base 16 and base 64 (RFC 4648).
"""

from __future__ import annotations

import base64
import html
import json
import re
from collections.abc import Callable, Mapping
from urllib.parse import unquote_to_bytes

import polars as pl

from kinglet.columns.put import put

_C = re.compile(r"\\(?:x([0-9A-Fa-f]{2})|([0-7]{1,3})|u([0-9A-Fa-f]{4})|U([0-9A-Fa-f]{8})|([abefnrtv\\'\"?]))")
_REFERENCE = re.compile(r"&(?:#[0-9]{1,7}|#[xX][0-9A-Fa-f]{1,6}|[A-Za-z][A-Za-z0-9]{1,31});")
_DIGITS = re.compile("(?:[0-9A-Fa-f]{2})+")
_URL = re.compile("[-_]")
_SIGNS = dict(zip("abefnrtv\\'\"?", "\a\b\x1b\f\n\r\t\v\\'\"?", strict=True))


def has_escapes(text: pl.Series, form: str) -> pl.Series:
    """Which texts may have escapes of a form."""
    if form in _WHOLE:
        return text.is_not_null()
    sign = {"percent": "%", "html": "&"}.get(form, "\\")
    return text.str.contains(sign, literal=True).fill_null(False)


def unescaped(text: pl.Series, form: str) -> pl.Series:
    """Texts without escapes of a form, one of `FORMS`; null where they are none, or give no UTF-8."""
    if form == "hex":
        return _hexadecimal(text)
    escaped = has_escapes(text, form)
    if not escaped.any():
        return text
    # few texts are different: each is read once
    known = {value: meaning(value, form) for value in text.filter(escaped).unique().to_list()}
    meant = text.replace_strict(list(known), list(known.values()), default=None, return_dtype=pl.String)
    return text.zip_with(~escaped, meant)


def _hexadecimal(text: pl.Series) -> pl.Series:
    """What `_of_hex` gives, of a column: programs write most texts so, and few are alike."""
    inside = text.str.slice(1, text.str.len_chars() - 2)
    meant = inside.zip_with(text.str.contains('^"(?s:.*)"$').fill_null(False), text)
    digits = text.str.contains("^(?:[0-9A-Fa-f]{2})+$").fill_null(False)
    if not digits.any():
        return meant
    try:
        decoded = text.filter(digits).str.decode("hex").cast(pl.String)
    except pl.exceptions.ComputeError:  # some of them are no UTF-8
        decoded = text.filter(digits).map_elements(lambda one: meaning(one, "hex"), return_dtype=pl.String)
    return put(meant, digits.arg_true(), decoded)


def meaning(text: str, form: str) -> str | None:
    """What one text means in a form; None where its escapes are none, or give no UTF-8."""
    try:
        return FORMS[form](text)
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


def _of_hex(text: str) -> str:
    """Digits as bytes. Text in double quotes is itself, and so is what is no digits, such as `(null)`."""
    if len(text) > 1 and text[0] == text[-1] == '"':
        return text[1:-1]
    return bytes.fromhex(text).decode() if _DIGITS.fullmatch(text) else text


def _of_base64(text: str) -> str:
    """In either alphabet, with or without what fills up the end."""
    bare = text.rstrip("=")
    return base64.b64decode(
        bare + "=" * (-len(bare) % 4), altchars=b"-_" if _URL.search(bare) else None, validate=True
    ).decode()


FORMS: Mapping[str, Callable[[str], str]] = {
    "c": _of_c,
    "json": _of_json,
    "percent": _of_percent,
    "html": _of_html,
    "hex": _of_hex,
    "base64": _of_base64,
}
_WHOLE = ("hex", "base64")
