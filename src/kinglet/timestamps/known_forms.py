"""The forms of stamps that are looked for in text."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import NamedTuple

from kinglet.timestamps.abbreviations import OFFSETS, SEVERAL

_LONG = {
    "Jan": "uary", "Feb": "ruary", "Mar": "ch", "Apr": "il", "May": "", "Jun": "e",
    "Jul": "y", "Aug": "ust", "Sep": "tember", "Oct": "ober", "Nov": "ember", "Dec": "ember",
}  # fmt: skip
_WEEK = {"Mon": "", "Tue": "s", "Wed": "nes", "Thu": "rs", "Fri": "", "Sat": "ur", "Sun": ""}

_D, _T = "[0-9]{1,2}", "[0-9]{1,2}:[0-9]{2}:[0-9]{2}"
_HM, _HM2 = "[0-9]{1,2}:[0-9]{2}", "[0-9]{2}:?[0-9]{2}"
_ISO_DATE = "[0-9]{4}-[0-9]{2}-[0-9]{2}"
FRACTION = "(?:[.,:][0-9]{1,9})?"
_POINT = "(?:[.,][0-9]{1,9})?"
OFFSET = r"(?:Z\b|[+-][0-9]{2}:?[0-9]{2}|[+-][0-9]{2})"  # a word may begin with z
_NAME = (  # in capitals, and whole: `est` and `met` are words too
    "(?-i:(?:UTC|GMT)[+-][0-9]{1,2}(?::?[0-9]{2})?\\b|(?:"
    + "|".join(sorted((name for name in (*OFFSETS, *SEVERAL) if len(name) > 2), key=len, reverse=True))
    + r")\b|(?:Africa|America|Antarctica|Asia|Atlantic|Australia|Europe|Indian|Pacific)/[A-Z][A-Za-z_]+)"
)
_MONTH = "(?:" + "|".join(f"{name}(?:{rest})?" if rest else name for name, rest in _LONG.items()) + ")"
_SHORT = f"(?:{'|'.join(_LONG)})"
_DAY = "(?:" + "|".join(f"{name}(?:{rest}day)?" for name, rest in _WEEK.items()) + ")"
HALF = r"[ \xa0\u202f]?[AaPp](?:\.[Mm]\.|[Mm]\b)"
_ISO_CLOCK = f"[T ][0-9]{{2}}:[0-9]{{2}}(?::[0-9]{{2}}{_POINT})?(?: ?{OFFSET})?"
ZONE = f"(?: ?{OFFSET}| {_NAME})?"
_CENTURY = "(?:19|20)[0-9]{2}"
_HMS = "(?:[01][0-9]|2[0-3])[0-5][0-9][0-5][0-9]"
_OF_31, _OF_12 = "(?:0?[1-9]|[12][0-9]|3[01])", "(?:0?[1-9]|1[0-2])"
_DAY_AND_MONTH = rf"(?:{_OF_31}\.{_OF_12}|{_OF_12}\.{_OF_31})"
_WEEK_DATE = "[0-9]{4}-W[0-5][0-9]-[1-7]"
_MD = "(?:0[1-9]|1[0-2])(?:0[1-9]|[12][0-9]|3[01])"
_LETTER = "(?<=(?-i:[A-Z]))"
_BASIC = f"[0-9]{{4}}(?:[0-9]{{2}}{_POINT})?{OFFSET}?"


class Findable(NamedTuple):
    """A form of stamp.

    name: what it is called where it is shown. shape: its regex. format: how a parser reads it, in
    the words of its `format` key, or nothing where it cannot be read by itself. swapped: the same
    with day and month the other way. date, clock: whether it has them. zone: the end of the shape, where it is one that
    a zone may have. behind, before: a look-behind and a look-ahead: what it
    has to stand between, where a text is searched.
    """

    name: str
    shape: str
    format: str = ""
    swapped: str = ""
    date: bool = True
    clock: bool = True
    zone: str = ZONE
    behind: str = ""
    before: str = ""

    @property
    def outline(self) -> str:
        """The shape for people to read: names left open, and no zone behind it."""
        text = self.shape.removesuffix(self.zone)
        for names in (_MONTH, _DAY, _NAME):
            text = text.replace(names, "[A-Za-z]+" if names is not _NAME else "[A-Za-z/_]+")
        return text


def _numeric(name: str, between: str, written: str) -> Iterator[Findable]:
    """Dates of numbers alone, of which day or month may come first."""
    date = f"{_D}{between}{_D}{between}"
    for what, year, clock, code, reads in (
        (", 12 hours", "[0-9]{4}", f"{_T}{FRACTION}{HALF}", "%Y", "%I:%M:%S %p"),
        (", 12 hours, minutes", "[0-9]{4}", f"{_HM}{HALF}", "%Y", "%I:%M %p"),
        ("", "[0-9]{4}", f"{_T}{FRACTION}{ZONE}", "%Y", "%H:%M:%S"),
        (", minutes", "[0-9]{4}", _HM, "%Y", "%H:%M"),
        (", two-digit year, 12 hours", "[0-9]{2}", f"{_T}{FRACTION}{HALF}", "%y", "%I:%M:%S %p"),
        (", two-digit year", "[0-9]{2}", f"{_T}{FRACTION}{ZONE}", "%y", "%H:%M:%S"),
    ):
        day_first, month_first = (f"%{order[0]}{written}%{order[1]}{written}{code} {reads}" for order in ("dm", "md"))
        yield Findable(name + what, f"{date}{year},? {clock}", day_first, month_first)


def _with_month_name(sign: str) -> Iterator[Findable]:
    """Dates with the name of a month and one sign between their parts, or none."""
    between = re.escape(sign) if sign != " " else sign
    day = _D if sign else "[0-9]{2}"  # numbers without anything between have all their digits
    for name, parts, written in (
        ("day month name year", (_D, _MONTH, "[0-9]{4}"), "dbY"),
        ("year month name day", (_CENTURY, _MONTH, _D), "Ybd"),
        ("month name day year", (_MONTH, day, "[0-9]{4}"), "bdY"),
        ("day month name two-digit year", (_D, _MONTH, "[0-9]{2}"), "dby"),
        ("day month name, no year", (_D, _MONTH), "db"),
        ("month name day, no year", (_MONTH, _D), "bd"),
    ):
        yield Findable(name, between.join(parts), sign.join(f"%{part}" for part in written), clock=False)


FINDABLE = (
    Findable("ISO 8601 with a zone name", f"{_ISO_DATE}[T ]{_T}{_POINT} {_NAME}", "%Y-%m-%d %H:%M:%S %Z"),
    Findable("ISO 8601 with a colon before the fraction", f"{_ISO_DATE}[T ]{_T}:[0-9]{{1,9}}", "%Y-%m-%d %H:%M:%S"),
    Findable("ISO 8601", f"{_ISO_DATE}{_ISO_CLOCK}", "iso8601"),
    Findable("ISO 8601, several blanks", f"{_ISO_DATE} {{2,}}{_T}{_POINT}", "%Y-%m-%d %H:%M:%S"),
    Findable("ISO 8601 week date", f"{_WEEK_DATE}T{_ISO_CLOCK.removeprefix('[T ]')}", "iso8601"),
    Findable("ISO 8601 ordinal date", f"[0-9]{{4}}-[0-3][0-9]{{2}}{_ISO_CLOCK}", "iso8601"),
    Findable("ISO 8601 basic", f"(?:19|20)[0-9]{{6}}T{_BASIC}", "iso8601"),
    Findable("ISO 8601 basic week date", f"(?:19|20)[0-9]{{2}}W[0-5][0-9][1-7]T{_BASIC}", "iso8601"),
    Findable("ISO 8601 basic ordinal date", f"(?:19|20)[0-9]{{5}}T{_BASIC}", "iso8601"),
    Findable(
        "RFC 5322 date",
        f"(?:{_DAY}, ?)?{_D} {_SHORT} [0-9]{{4}} {_HM}(?::[0-9]{{2}})? (?:[+-][0-9]{{4}}|{_NAME})",
        "rfc5322",
    ),
    Findable("C date", f"{_DAY} {_MONTH} [ 0-9]?[0-9] {_T} [0-9]{{4}}{ZONE}", "%a %b %e %H:%M:%S %Y"),
    Findable(
        "C date with a zone name", f"{_DAY} {_MONTH} [ 0-9]?[0-9] {_T} {_NAME} [0-9]{{4}}", "%a %b %e %H:%M:%S %Z %Y"
    ),
    Findable(
        "weekday, day month name year",
        f"{_DAY},? {_D} {_MONTH} [0-9]{{4}},? {_T}{_POINT}",
        "%a, %d %b %Y %H:%M:%S",
    ),
    Findable(
        "weekday, month name, 12 hours",
        f"{_DAY},? {_MONTH} {_D}, [0-9]{{4}},? {_T}{FRACTION}{HALF}",
        "%a, %b %d, %Y %I:%M:%S %p",
    ),
    Findable("weekday, no year", f"{_DAY} {_MONTH} [ 0-9]?[0-9] {_T}{_POINT}", "%a %b %e %H:%M:%S"),
    Findable("NCSA", f"{_D}/{_SHORT}/[0-9]{{4}}:{_T} [+-][0-9]{{4}}", "ncsa"),
    Findable("day/month name/year", f"{_D}/{_MONTH}/[0-9]{{4}}[: ] ?{_T}{_POINT}{ZONE}", "%d/%b/%Y %H:%M:%S"),
    Findable("day-month name-year, 12 hours", f"{_D}-{_MONTH}-[0-9]{{4}} {_T}{FRACTION}{HALF}", "%d-%b-%Y %I:%M:%S %p"),
    Findable("day-month name-year", f"{_D}-{_MONTH}-[0-9]{{4}} {_T}{_POINT}{ZONE}", "%d-%b-%Y %H:%M:%S"),
    Findable("day-month name-two-digit year", f"{_D}-{_MONTH}-[0-9]{{2}} {_T}{_POINT}", "%d-%b-%y %H:%M:%S"),
    Findable("day month name year", f"{_D} {_MONTH} [0-9]{{4}},? {_T}{FRACTION}{ZONE}", "%d %b %Y %H:%M:%S"),
    Findable("month name, 12 hours", f"{_MONTH} {_D}, [0-9]{{4}},? {_T}{FRACTION}{HALF}", "%b %d, %Y %I:%M:%S %p"),
    Findable(
        "month name day year", f"{_MONTH} [ 0-9]?[0-9],? [0-9]{{4}},? {_T}{FRACTION}{ZONE}", "%b %e %Y %H:%M:%S"
    ),
    Findable("month name day, year last", f"{_MONTH} [ 0-9]?[0-9] {_T}{_POINT} {_CENTURY}{ZONE}", "%b %e %H:%M:%S %Y"),
    Findable("day month name, year last", f"{_D} {_MONTH} {_T}{_POINT} {_CENTURY}{ZONE}", "%d %b %H:%M:%S %Y"),
    Findable("year month name day", f"{_CENTURY} {_MONTH} [ 0-9]?[0-9] {_T}{FRACTION}{ZONE}", "%Y %b %e %H:%M:%S"),
    Findable(
        "day month name two-digit year", f"{_D} {_MONTH} [0-9]{{2}},? {_T}{FRACTION}{ZONE}", "%d %b %y %H:%M:%S"
    ),
    Findable("RFC 3164, no year", f"{_MONTH} [ 0-9]?[0-9] {_T}{_POINT}", "%b %e %H:%M:%S"),
    Findable("day/month name, no year", f"{_D}/{_MONTH} {_T}{FRACTION}", "%d/%b %H:%M:%S"),
    Findable("day month name, no year", f"{_D} {_MONTH} {_T}{FRACTION}", "%d %b %H:%M:%S"),
    Findable("year/month/day", f"[0-9]{{4}}/[0-9]{{2}}/[0-9]{{2}}[ T-]{_T}{FRACTION}{ZONE}", "%Y/%m/%d %H:%M:%S"),
    Findable("year.month.day", f"[0-9]{{4}}\\.[0-9]{{2}}\\.[0-9]{{2}} {_T}{FRACTION}{ZONE}", "%Y.%m.%d %H:%M:%S"),
    *_numeric("slashes", "/", "/"),
    *_numeric("points", r"\.", "."),
    *_numeric("dashes", "-", "-"),
    Findable("two-digit year, compact", f"[0-9]{{6}} {_T}{_POINT}", "%y%m%d %H:%M:%S"),
    *(
        Findable(f"two-digit year, {between}", f"[0-9]{{2}}{_MD}{sign}{_HMS}{_POINT}", f"%y%m%d{sign}%H%M%S")
        for sign, between in (("-", "dash"), ("_", "underscore"), ("T", "T"), (" ", "both compact"))
    ),
    Findable("month and day, compact", f"{_MD} {_T}{_POINT}", "%m%d %H:%M:%S", behind=_LETTER),
    Findable("compact, with its fraction", f"{_CENTURY}{_MD}{_HMS}[0-9]{{2,6}}", "%Y%m%d%H%M%S%f"),
    Findable("compact", r"(?:19|20)[0-9]{12}(?:[.,][0-9]{1,9})?(?:Z\b|[+-][0-9]{4})?", "%Y%m%d%H%M%S"),
    Findable("epoch, seconds", "1[0-9]{9}(?:\\.[0-9]{1,9})?", "epoch"),
    Findable("epoch, milliseconds", "1[0-9]{12}(?:\\.[0-9]{1,9})?", "epoch_ms"),
    Findable("epoch, microseconds", "1[0-9]{15}", "epoch_us"),
    Findable("epoch, nanoseconds", "1[0-9]{18}", "epoch_ns"),
    Findable("date", _ISO_DATE, "iso8601", clock=False),
    Findable("week date", _WEEK_DATE, "%G-W%V-%u", clock=False),
    Findable("slashes, no year", f"[0-3][0-9]/[0-3][0-9] {{1,3}}{_T}{_POINT}", "%d/%m %H:%M:%S", "%m/%d %H:%M:%S"),
    Findable("points, no year", rf"{_D}\.{_D}\. {_T}{_POINT}", "%d.%m. %H:%M:%S"),
    Findable("month-day, no year", f"[01][0-9]-[0-3][0-9] {{1,3}}{_T}{_POINT}", "%m-%d %H:%M:%S"),
    Findable("date, slashes", f"{_D}/{_D}/[0-9]{{4}}", "%d/%m/%Y", "%m/%d/%Y", clock=False),
    Findable("time of day, 12 hours", f"{_T}{FRACTION}{HALF}", "%I:%M:%S %p", date=False),
    Findable("time of day", f"{_T}{FRACTION}", "%H:%M:%S", date=False),
)  # fmt: skip
"""The forms in order: of two that fit at the same place the first is taken."""

DATES = (
    Findable(
        "weekday, month name day year", f"{_DAY},? {_MONTH} [ 0-9]?[0-9],? [0-9]{{4}}", "%a %b %e %Y", clock=False
    ),
    Findable("weekday, day month name year", f"{_DAY},? {_D} {_MONTH} [0-9]{{4}}", "%a, %d %b %Y", clock=False),
    Findable("weekday, month name day, no year", f"{_DAY},? {_MONTH} [ 0-9]?[0-9]", "%a %b %e", clock=False),
    Findable("weekday, day month name, no year", f"{_DAY},? {_D} {_MONTH}", "%a %d %b", clock=False),
    Findable("date", "[0-9]{4}/[0-9]{2}/[0-9]{2}", "%Y/%m/%d", clock=False),
    Findable("date", r"[0-9]{4}\.[0-9]{2}\.[0-9]{2}", "%Y.%m.%d", clock=False),
    Findable("date", "(?:19|20)[0-9]{6}", "%Y%m%d", clock=False),
    Findable("year and day of it", rf"{_CENTURY}\.[0-3][0-9]{{2}}", "%Y.%j", clock=False),
    Findable("year and day of it", f"{_CENTURY}/[0-3][0-9]{{2}}", "%Y/%j", clock=False),
    Findable("date, points", rf"{_D}\.{_D}\.[0-9]{{4}}", "%d.%m.%Y", "%m.%d.%Y", clock=False),
    Findable("date, points and blanks", rf"{_D}\. {_D}\. [0-9]{{4}}", "%d. %m. %Y", clock=False),
    Findable(
        "date, two-digit year, compact", f"[0-9]{{2}}{_MD}", "%y%m%d", clock=False, before=f"(?=[-_/;,|@T][ ]?{_HM})"
    ),
    Findable("date, dashes", f"{_D}-{_D}-[0-9]{{4}}", "%d-%m-%Y", "%m-%d-%Y", clock=False),
    Findable("date, slashes, two-digit year", f"{_D}/{_D}/[0-9]{{2}}", "%d/%m/%y", "%m/%d/%y", clock=False),
    Findable("date, points, two-digit year", rf"{_DAY_AND_MONTH}\.[0-9]{{2}}", "%d.%m.%y", "%m.%d.%y", clock=False),
    Findable("date, dashes, two-digit year", f"{_D}-{_D}-[0-9]{{2}}", "%d-%m-%y", "%m-%d-%y", clock=False),
    Findable("day month name year", rf"{_D}\. {_MONTH} [0-9]{{4}}", "%d. %b %Y", clock=False),
    Findable("month name day year", f"{_MONTH} [ 0-9]?[0-9],? [0-9]{{4}}", "%b %e %Y", clock=False),
    *(form for sign in ("/", "-", ".", " ", "_", "") for form in _with_month_name(sign)),
    Findable("month name day, no year", f"{_MONTH} [ 0-9]?[0-9]", "%b %e", clock=False),
)
"""Dates that are stamps only beside a time of day."""

_MINUTES = "[0-5][0-9]"
CLOCKS = (
    Findable("time of day", f"{_T}{FRACTION}", "%H:%M:%S", date=False),
    Findable("time of day, minutes", f"[0-2]?[0-9]:{_MINUTES}", "%H:%M", date=False),
    Findable("time of day, points", rf"[0-2]?[0-9]\.{_MINUTES}\.{_MINUTES}{_POINT}", "%H.%M.%S", date=False),
    Findable("time of day, letters", f"[0-2]?[0-9]h{_MINUTES}m{_MINUTES}s", "%Hh%Mm%Ss", date=False),
    Findable("time of day, dashes", f"[0-2][0-9]-{_MINUTES}-{_MINUTES}{_POINT}", "%H-%M-%S", date=False),
    Findable("time of day, compact", f"{_HMS}{_POINT}", "%H%M%S", date=False),
    Findable(
        "time of day, compact, with its fraction",
        f"{_HMS}[0-9]{{2,6}}",
        "%H%M%S%f",
        date=False,
    ),
)
"""Times of day that are stamps only behind a date."""

COLOURED = r"(?<=\x1b\[[0-9]m)|(?<=\x1b\[[0-9]{2}m)|(?<=\x1b\[[0-9];[0-9]{2}m)"
"""Right behind a sequence that colours what follows (ECMA-48, select graphic rendition)."""
_IN_BRACKETS = f"(?:{_NAME}|[+-][0-9]{{2}}:?[0-9]{{2}})"
ZONE_IN_BRACKETS = rf" (?:\({_IN_BRACKETS}\)|\[{_IN_BRACKETS}\])"
ZONE_BEHIND = rf"(?: ?(?:Z\b|[+-][0-9]{{2}}:?[0-9]{{2}}\b)|[+-][0-9]{{2}}\b| {_NAME})"
