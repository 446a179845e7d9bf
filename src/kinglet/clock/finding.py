"""Stamps in text: the formats that are looked for, and where they stand."""

from __future__ import annotations

import re
from typing import NamedTuple

_D, _T = "[0-9]{1,2}", "[0-9]{1,2}:[0-9]{2}:[0-9]{2}"
_ISO_DATE = "[0-9]{4}-[0-9]{2}-[0-9]{2}"
_FRACTION = "(?:[.,:][0-9]{1,9})?"
_POINT = "(?:[.,][0-9]{1,9})?"
_ZONE = "(?:Z|[+-][0-9]{2}:?[0-9]{2}|[+-][0-9]{2})"
_MONTH = "(?:Jan|Feb|Mar|Apr|May|Jun|Jul|Aug|Sep|Oct|Nov|Dec)"
_DAY = "(?:Mon|Tue|Wed|Thu|Fri|Sat|Sun)"


class Findable(NamedTuple):
    """A form of stamp.

    name: what it is called where it is shown. shape: its regex. format: how a parser reads it, in
    the words of its `format` key, or nothing where it cannot be read by itself. swapped: the same
    with day and month the other way. date, clock: whether it has them.
    """

    name: str
    shape: str
    format: str = ""
    swapped: str = ""
    date: bool = True
    clock: bool = True


FINDABLE = (
    Findable("ISO 8601", f"{_ISO_DATE}[T ][0-9]{{2}}:[0-9]{{2}}(?::[0-9]{{2}}{_POINT})?(?: ?{_ZONE})?", "iso8601"),
    Findable("ISO 8601, several blanks", f"{_ISO_DATE} {{2,}}{_T}{_POINT}", "%Y-%m-%d %H:%M:%S"),
    Findable(
        "RFC 5322 date",
        f"{_DAY}, {_D} {_MONTH} [0-9]{{4}} {_T}(?: [+-][0-9]{{4}}| [A-Z]{{3,4}})?",
        "%a, %d %b %Y %H:%M:%S %z",
    ),
    Findable("C date", f"{_DAY} {_MONTH} [ 0-9]?[0-9] {_T} [0-9]{{4}}(?: [+-][0-9]{{4}})?", "%a %b %e %H:%M:%S %Y"),
    Findable("C date with a zone name", f"{_DAY} {_MONTH} [ 0-9]?[0-9] {_T} [A-Z]{{3,5}} [0-9]{{4}}"),
    Findable("NCSA", f"{_D}/{_MONTH}/[0-9]{{4}}:{_T} [+-][0-9]{{4}}", "%d/%b/%Y:%H:%M:%S %z"),
    Findable("day/month name/year", f"{_D}/{_MONTH}/[0-9]{{4}}:? {_T}{_POINT}", "%d/%b/%Y %H:%M:%S"),
    Findable("day-month name-year", f"{_D}-{_MONTH}-[0-9]{{4}} {_T}{_POINT}", "%d-%b-%Y %H:%M:%S"),
    Findable("day month name year", f"{_D} {_MONTH} [0-9]{{4}} {_T}{_POINT}", "%d %b %Y %H:%M:%S"),
    Findable("month name, 12 hours", f"{_MONTH} {_D}, [0-9]{{4}},? {_T} ?[AaPp][Mm]", "%b %d, %Y %I:%M:%S %p"),
    Findable("month name day year", f"{_MONTH} [ 0-9]?[0-9],? [0-9]{{4}} {_T}{_POINT}", "%b %e %Y %H:%M:%S"),
    Findable("RFC 3164, no year", f"{_MONTH} [ 0-9]?[0-9] {_T}{_POINT}", "%b %e %H:%M:%S"),
    Findable("day/month name, no year", f"{_D}/{_MONTH} {_T}{_POINT}", "%d/%b %H:%M:%S"),
    Findable("year/month/day", f"[0-9]{{4}}/[0-9]{{2}}/[0-9]{{2}}[ T-]{_T}{_POINT}", "%Y/%m/%d %H:%M:%S"),
    Findable("year.month.day", f"[0-9]{{4}}\\.[0-9]{{2}}\\.[0-9]{{2}} {_T}{_POINT}", "%Y.%m.%d %H:%M:%S"),
    Findable(
        "slashes, 12 hours", f"{_D}/{_D}/[0-9]{{4}},? {_T} ?[AaPp][Mm]", "%d/%m/%Y %I:%M:%S %p", "%m/%d/%Y %I:%M:%S %p"
    ),
    Findable("slashes", f"{_D}/{_D}/[0-9]{{4}},? {_T}{_POINT}", "%d/%m/%Y %H:%M:%S", "%m/%d/%Y %H:%M:%S"),
    Findable("slashes, minutes", f"{_D}/{_D}/[0-9]{{4}} [0-9]{{1,2}}:[0-9]{{2}}", "%d/%m/%Y %H:%M", "%m/%d/%Y %H:%M"),
    Findable("points", f"{_D}\\.{_D}\\.[0-9]{{4}},? {_T}{_POINT}", "%d.%m.%Y %H:%M:%S", "%m.%d.%Y %H:%M:%S"),
    Findable(
        "points, minutes", f"{_D}\\.{_D}\\.[0-9]{{4}},? [0-9]{{1,2}}:[0-9]{{2}}", "%d.%m.%Y %H:%M", "%m.%d.%Y %H:%M"
    ),
    Findable("dashes", f"{_D}-{_D}-[0-9]{{4}} {_T}{_POINT}", "%d-%m-%Y %H:%M:%S", "%m-%d-%Y %H:%M:%S"),
    Findable("dashes, minutes", f"{_D}-{_D}-[0-9]{{4}} [0-9]{{1,2}}:[0-9]{{2}}", "%d-%m-%Y %H:%M", "%m-%d-%Y %H:%M"),
    Findable(
        "slashes, two-digit year", f"{_D}/{_D}/[0-9]{{2}},? {_T}{_POINT}", "%d/%m/%y %H:%M:%S", "%m/%d/%y %H:%M:%S"
    ),
    Findable("compact", "(?:19|20)[0-9]{6}T?[0-9]{6}(?:Z|[+-][0-9]{4})?", "%Y%m%d%H%M%S"),
    Findable("epoch, seconds", "1[0-9]{9}(?:\\.[0-9]{1,9})?", "epoch"),
    Findable("epoch, milliseconds", "1[0-9]{12}", "epoch_ms"),
    Findable("epoch, microseconds", "1[0-9]{15}", "epoch_us"),
    Findable("epoch, nanoseconds", "1[0-9]{18}", "epoch_ns"),
    Findable("date", _ISO_DATE, "iso8601", clock=False),
    Findable("date, slashes", f"{_D}/{_D}/[0-9]{{4}}", "%d/%m/%Y", "%m/%d/%Y", clock=False),
    Findable("time of day", f"{_T}{_FRACTION}", date=False),
)  # fmt: skip
"""The forms in order: of two that fit at the same place the first is taken."""

_ANY = re.compile(
    r"(?<![0-9A-Za-z.:/-])(?:" + "|".join(f"(?P<f{i}>{item.shape})" for i, item in enumerate(FINDABLE)) + r")(?![0-9])",
    re.IGNORECASE,
)


class Stamp(NamedTuple):
    """A stamp in a text: its form and the characters it takes."""

    form: Findable
    start: int
    end: int


def stamps(text: str) -> list[Stamp]:
    """The stamps in a text, in order."""
    found: list[Stamp] = []
    for match in _ANY.finditer(text):
        assert match.lastgroup is not None
        form = FINDABLE[int(match.lastgroup[1:])]
        found.append(Stamp(form, match.start(), match.end()))
    return found


def format_of(form: Findable, example: str, *, swapped: bool = False) -> str:
    """The format of a stamp of this form as a parser file has it: with its fraction and its offset."""
    text = form.swapped if swapped else form.format
    if not text.startswith("%"):
        return text
    if form.name == "compact":
        text = text.replace("%d%H", "%dT%H") if "T" in example else text
        return text + ("%z" if re.search(r"(?:Z|[+-][0-9]{4})$", example) else "")
    fraction = re.search(r"(?<![0-9:])[0-9]{1,2}:[0-9]{2}:[0-9]{2}([.,:])[0-9]", example)
    if fraction and "%S" in text:
        text = text.replace("%S", f"%S{fraction[1]}%f")
    for between in (",", ":"):
        if re.search(rf"[0-9]{between} [0-9]{{1,2}}:", example):
            text = re.sub(r"(%[Yy]) ", rf"\1{between} ", text)
    if "%z" in text and not re.search(r"[+-][0-9]{4}$", example):
        return text.removesuffix(" %z")
    if "%z" not in text and re.search(r" [+-][0-9]{4}$", example):
        return f"{text} %z"
    if "%I" in text and not re.search(r" [AaPp][Mm]$", example):
        text = text.replace(" %p", "%p")
    if re.match(r"[0-9]{4}/..?/..?([T-])", example):
        text = text.replace("%d ", f"%d{example[10]}")
    return text
