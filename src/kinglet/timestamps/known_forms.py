"""Stamps in text: the formats that are looked for, and where they stand."""

from __future__ import annotations

import functools
import itertools
import re
from collections.abc import Iterator
from typing import NamedTuple

from kinglet.timestamps.abbreviations import OFFSETS, SEVERAL
from kinglet.timestamps.formats import parse_format

_LONG = {
    "Jan": "uary", "Feb": "ruary", "Mar": "ch", "Apr": "il", "May": "", "Jun": "e",
    "Jul": "y", "Aug": "ust", "Sep": "tember", "Oct": "ober", "Nov": "ember", "Dec": "ember",
}  # fmt: skip
_WEEK = {"Mon": "", "Tue": "s", "Wed": "nes", "Thu": "rs", "Fri": "", "Sat": "ur", "Sun": ""}

_D, _T = "[0-9]{1,2}", "[0-9]{1,2}:[0-9]{2}:[0-9]{2}"
_HM, _HM2 = "[0-9]{1,2}:[0-9]{2}", "[0-9]{2}:?[0-9]{2}"
_ISO_DATE = "[0-9]{4}-[0-9]{2}-[0-9]{2}"
_FRACTION = "(?:[.,:][0-9]{1,9})?"
_POINT = "(?:[.,][0-9]{1,9})?"
_OFFSET = r"(?:Z\b|[+-][0-9]{2}:?[0-9]{2}|[+-][0-9]{2})"  # a word may begin with z
_NAME = (  # in capitals, and whole: `est` and `met` are words too
    "(?-i:(?:"
    + "|".join(sorted((name for name in (*OFFSETS, *SEVERAL) if len(name) > 2), key=len, reverse=True))
    + r")\b|(?:Africa|America|Antarctica|Asia|Atlantic|Australia|Europe|Indian|Pacific)/[A-Z][A-Za-z_]+)"
)
_MONTH = "(?:" + "|".join(f"{name}(?:{rest})?" if rest else name for name, rest in _LONG.items()) + ")"
_DAY = "(?:" + "|".join(f"{name}(?:{rest}day)?" for name, rest in _WEEK.items()) + ")"
_HALF = " ?[AaPp][Mm]"
_ISO_CLOCK = f"[T ][0-9]{{2}}:[0-9]{{2}}(?::[0-9]{{2}}{_POINT})?(?: ?{_OFFSET})?"
_ZONE = f"(?: ?{_OFFSET}| {_NAME})?"
_BASIC = f"[0-9]{{4}}(?:[0-9]{{2}}{_POINT})?{_OFFSET}?"


class Findable(NamedTuple):
    """A form of stamp.

    name: what it is called where it is shown. shape: its regex. format: how a parser reads it, in
    the words of its `format` key, or nothing where it cannot be read by itself. swapped: the same
    with day and month the other way. date, clock: whether it has them. zone: the end of the shape, where it is one that
    a zone may have.
    """

    name: str
    shape: str
    format: str = ""
    swapped: str = ""
    date: bool = True
    clock: bool = True
    zone: str = _ZONE

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
        (", 12 hours", "[0-9]{4}", f"{_T}{_HALF}", "%Y", "%I:%M:%S %p"),
        (", 12 hours, minutes", "[0-9]{4}", f"{_HM}{_HALF}", "%Y", "%I:%M %p"),
        ("", "[0-9]{4}", f"{_T}{_FRACTION}{_ZONE}", "%Y", "%H:%M:%S"),
        (", minutes", "[0-9]{4}", _HM, "%Y", "%H:%M"),
        (", two-digit year, 12 hours", "[0-9]{2}", f"{_T}{_HALF}", "%y", "%I:%M:%S %p"),
        (", two-digit year", "[0-9]{2}", f"{_T}{_FRACTION}{_ZONE}", "%y", "%H:%M:%S"),
    ):
        day_first, month_first = (f"%{order[0]}{written}%{order[1]}{written}{code} {reads}" for order in ("dm", "md"))
        yield Findable(name + what, f"{date}{year},? {clock}", day_first, month_first)


FINDABLE = (
    Findable("ISO 8601 with a zone name", f"{_ISO_DATE}[T ]{_T}{_POINT} {_NAME}", "%Y-%m-%d %H:%M:%S %Z"),
    Findable("ISO 8601 with a colon before the fraction", f"{_ISO_DATE}[T ]{_T}:[0-9]{{1,9}}", "%Y-%m-%d %H:%M:%S"),
    Findable("ISO 8601", f"{_ISO_DATE}{_ISO_CLOCK}", "iso8601"),
    Findable("ISO 8601, several blanks", f"{_ISO_DATE} {{2,}}{_T}{_POINT}", "%Y-%m-%d %H:%M:%S"),
    Findable("ISO 8601 week date", f"[0-9]{{4}}-W[0-5][0-9]-[1-7](?:{_ISO_CLOCK})?", "iso8601"),
    Findable("ISO 8601 ordinal date", f"[0-9]{{4}}-[0-3][0-9]{{2}}{_ISO_CLOCK}", "iso8601"),
    Findable(
        "ISO 8601 basic", f"(?:(?:19|20)[0-9]{{6}}|[0-9]{{4}}W[0-5][0-9][1-7]|(?:19|20)[0-9]{{5}})T{_BASIC}", "iso8601"
    ),
    Findable(
        "RFC 5322 date",
        f"(?:{_DAY}, ?)?{_D} {_MONTH} [0-9]{{4}} {_HM}(?::[0-9]{{2}})? (?:[+-][0-9]{{4}}|{_NAME})",
        "rfc5322",
    ),
    Findable("C date", f"{_DAY} {_MONTH} [ 0-9]?[0-9] {_T} [0-9]{{4}}{_ZONE}", "%a %b %e %H:%M:%S %Y"),
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
        f"{_DAY},? {_MONTH} {_D}, [0-9]{{4}},? {_T}{_HALF}",
        "%a, %b %d, %Y %I:%M:%S %p",
    ),
    Findable("weekday, no year", f"{_DAY} {_MONTH} [ 0-9]?[0-9] {_T}{_POINT}", "%a %b %e %H:%M:%S"),
    Findable("NCSA", f"{_D}/{_MONTH}/[0-9]{{4}}:{_T} [+-][0-9]{{4}}", "ncsa"),
    Findable("day/month name/year", f"{_D}/{_MONTH}/[0-9]{{4}}[: ] ?{_T}{_POINT}{_ZONE}", "%d/%b/%Y %H:%M:%S"),
    Findable("day-month name-year, 12 hours", f"{_D}-{_MONTH}-[0-9]{{4}} {_T}{_HALF}", "%d-%b-%Y %I:%M:%S %p"),
    Findable("day-month name-year", f"{_D}-{_MONTH}-[0-9]{{4}} {_T}{_POINT}{_ZONE}", "%d-%b-%Y %H:%M:%S"),
    Findable("day-month name-two-digit year", f"{_D}-{_MONTH}-[0-9]{{2}} {_T}{_POINT}", "%d-%b-%y %H:%M:%S"),
    Findable("day month name year", f"{_D} {_MONTH} [0-9]{{4}},? {_T}{_FRACTION}{_ZONE}", "%d %b %Y %H:%M:%S"),
    Findable("month name, 12 hours", f"{_MONTH} {_D}, [0-9]{{4}},? {_T}{_HALF}", "%b %d, %Y %I:%M:%S %p"),
    Findable(
        "month name day year", f"{_MONTH} [ 0-9]?[0-9],? [0-9]{{4}},? {_T}{_FRACTION}{_ZONE}", "%b %e %Y %H:%M:%S"
    ),
    Findable("RFC 3164, no year", f"{_MONTH} [ 0-9]?[0-9] {_T}{_POINT}", "%b %e %H:%M:%S"),
    Findable("day/month name, no year", f"{_D}/{_MONTH} {_T}{_FRACTION}", "%d/%b %H:%M:%S"),
    Findable("day month name, no year", f"{_D} {_MONTH} {_T}{_FRACTION}", "%d %b %H:%M:%S"),
    Findable("year/month/day", f"[0-9]{{4}}/[0-9]{{2}}/[0-9]{{2}}[ T-]{_T}{_FRACTION}{_ZONE}", "%Y/%m/%d %H:%M:%S"),
    Findable("year.month.day", f"[0-9]{{4}}\\.[0-9]{{2}}\\.[0-9]{{2}} {_T}{_FRACTION}{_ZONE}", "%Y.%m.%d %H:%M:%S"),
    *_numeric("slashes", "/", "/"),
    *_numeric("points", r"\.", "."),
    *_numeric("dashes", "-", "-"),
    Findable("two-digit year, compact", f"[0-9]{{6}} {_T}{_POINT}", "%y%m%d %H:%M:%S"),
    Findable("compact", r"(?:19|20)[0-9]{12}(?:[.,][0-9]{1,9})?(?:Z\b|[+-][0-9]{4})?", "%Y%m%d%H%M%S"),
    Findable("epoch, seconds", "1[0-9]{9}(?:\\.[0-9]{1,9})?", "epoch"),
    Findable("epoch, milliseconds", "1[0-9]{12}(?:\\.[0-9]{1,9})?", "epoch_ms"),
    Findable("epoch, microseconds", "1[0-9]{15}", "epoch_us"),
    Findable("epoch, nanoseconds", "1[0-9]{18}", "epoch_ns"),
    Findable("date", _ISO_DATE, "iso8601", clock=False),
    Findable("date, slashes", f"{_D}/{_D}/[0-9]{{4}}", "%d/%m/%Y", "%m/%d/%Y", clock=False),
    Findable("time of day, 12 hours", f"{_T}{_HALF}", "%I:%M:%S %p", date=False),
    Findable("time of day", f"{_T}{_FRACTION}", "%H:%M:%S", date=False),
)  # fmt: skip
"""The forms in order: of two that fit at the same place the first is taken."""

# behind a colon it is part of a clock or an address, but for one behind a key
_BEFORE = (
    r"(?:(?<![0-9A-Za-z.:/-])|(?<=[\"'\])}]:)|(?<=[A-Za-z_]:)(?=[0-9]{4}-[0-9]{2}-|1[0-9]{9})"
    r"|(?<=[0-9]T)(?=[0-9]{1,2}:[0-9]{2}:[0-9]{2}))"
)
_DATES = (
    Findable(
        "weekday, month name day year", f"{_DAY},? {_MONTH} [ 0-9]?[0-9],? [0-9]{{4}}", "%a %b %e %Y", clock=False
    ),
    Findable("weekday, day month name year", f"{_DAY},? {_D} {_MONTH} [0-9]{{4}}", "%a, %d %b %Y", clock=False),
    Findable("date", "[0-9]{4}/[0-9]{2}/[0-9]{2}", "%Y/%m/%d", clock=False),
    Findable("date", r"[0-9]{4}\.[0-9]{2}\.[0-9]{2}", "%Y.%m.%d", clock=False),
    Findable("date", "(?:19|20)[0-9]{6}", "%Y%m%d", clock=False),
    Findable("date, points", rf"{_D}\.{_D}\.[0-9]{{4}}", "%d.%m.%Y", "%m.%d.%Y", clock=False),
    Findable("date, dashes", f"{_D}-{_D}-[0-9]{{4}}", "%d-%m-%Y", "%m-%d-%Y", clock=False),
    Findable("date, slashes, two-digit year", f"{_D}/{_D}/[0-9]{{2}}", "%d/%m/%y", "%m/%d/%y", clock=False),
    Findable("date, points, two-digit year", rf"{_D}\.{_D}\.[0-9]{{2}}", "%d.%m.%y", "%m.%d.%y", clock=False),
    Findable("day/month name/year", f"{_D}/{_MONTH}/[0-9]{{4}}", "%d/%b/%Y", clock=False),
    Findable("day-month name-year", f"{_D}-{_MONTH}-[0-9]{{4}}", "%d-%b-%Y", clock=False),
    Findable("day month name year", f"{_D} {_MONTH} [0-9]{{4}}", "%d %b %Y", clock=False),
    Findable("month name day year", f"{_MONTH} [ 0-9]?[0-9],? [0-9]{{4}}", "%b %e %Y", clock=False),
)
"""Dates that are stamps only beside a time of day."""
_ALL = (*FINDABLE, *_DATES)
_BETWEEN = re.compile(r"(?=.)[\"'\])}]?[ \t]{0,4}[|;,/@]?[ \t]{0,4}[\"'\[({]?| - | at |[T_-]")
"""What may stand between a date and a time of day that belong together."""


@functools.cache
def _any() -> re.Pattern[str]:
    """All forms, one group each; compiled where it is first needed, for that takes its time."""
    forms = "|".join(f"(?P<f{i}>{item.shape})" for i, item in enumerate(_ALL))
    return re.compile(rf"{_BEFORE}(?:{forms})(?![0-9])", re.IGNORECASE)


class Stamp(NamedTuple):
    """A stamp in a text: its form and the characters it takes."""

    form: Findable
    start: int
    end: int


def stamps(text: str) -> list[Stamp]:
    """The stamps in a text, in order; a date and a time of day with little between them are one."""
    found: list[Stamp] = []
    for match in _any().finditer(text):
        assert match.lastgroup is not None
        stamp = Stamp(_ALL[int(match.lastgroup[1:])], match.start(), match.end())
        whole = _joined(text, found[-1], stamp) if found else None
        if whole is not None:
            found[-1] = whole
        else:
            found.append(stamp)
    return [_with_half(text, stamp) for stamp in found if stamp.form not in _DATES]


_HALF_BEHIND = re.compile(rf"{_HALF}\b")


def _with_half(text: str, stamp: Stamp) -> Stamp:
    """A stamp with the half of the day that stands behind it, which makes another time of it."""
    match = _HALF_BEHIND.match(text, stamp.end) if stamp.form.clock else None
    return stamp if match is None else Stamp(_of_half(stamp.form), stamp.start, match.end())


@functools.lru_cache(256)  # speed
def _of_half(form: Findable) -> Findable:
    """A form whose hours are counted twice a day."""

    def half(text: str) -> str:
        text = "%Y-%m-%d %H:%M:%S" if text == "iso8601" else text
        return text.replace("%H", "%I") + " %p" if "%H" in text else ""

    shape = f"{form.shape.removesuffix(form.zone)}{_HALF}"
    return form._replace(
        name=f"{form.name}, 12 hours", shape=shape, format=half(form.format), swapped=half(form.swapped)
    )


def _joined(text: str, first: Stamp, second: Stamp) -> Stamp | None:
    """A date and a time of day, in either order, as one stamp; None where they are none, or too far from each other."""
    if (first.form.clock, first.form.date) == (second.form.clock, second.form.date):
        return None
    if (first.form.date and first.form.clock) or (second.form.date and second.form.clock):
        return None
    between = text[first.end : second.start]
    if _BETWEEN.fullmatch(between) is None:
        return None
    form = _together(first.form, second.form, re.sub(r"[ \t]+", " ", between))
    match = re.compile(form.shape, re.IGNORECASE).match(text, first.start)
    return Stamp(form, match.start(), match.end()) if match is not None else None


@functools.lru_cache(256)  # speed
def _together(first: Findable, second: Findable, between: str) -> Findable:
    """The form of two stamps with a text between them."""
    shape = re.sub(r"\\? ", r"[ \\t]+", re.escape(between))
    written = between.replace("%", "%%")

    def both(one: str, other: str) -> str:
        return f"{_written(one)}{written}{_written(other)}" if one and other else ""

    zone = f"(?:{shape}{_OFFSET}|{_ZONE.removesuffix('?')})?"
    behind = f"{second.shape}{zone}" if not second.date and second.shape.endswith(_FRACTION) else second.shape
    swapped = both(first.swapped or first.format, second.swapped or second.format)
    return Findable(
        f"{first.name}, {second.name}",
        f"{first.shape}{shape}{behind}",
        both(first.format, second.format),
        swapped if first.swapped or second.swapped else "",
        zone=zone,
    )


def _written(text: str) -> str:
    return "%Y-%m-%d" if text == "iso8601" else text


def format_of(form: Findable, example: str, *, swapped: bool = False) -> str:
    """The format of a stamp of this form as a parser file has it: with its fraction, its zone, its long names."""
    text = form.swapped if swapped else form.format
    return _fitting(text, re.sub("[0-9]", "0", example), example) if text.startswith("%") else text


def _fitting(text: str, mask: str, example: str) -> str:
    known = _FITTING.get((text, mask))
    if known is None:
        known = _FITTING[text, mask] = next(
            (way for way in _variants(text) if re.fullmatch(parse_format(way).shape, example)), text
        )
    return known


_FITTING: dict[tuple[str, str], str] = {}


def _variants(text: str) -> Iterator[str]:
    """The format with what stamps of its form may have besides, or have otherwise; the plainest first."""
    zones = ("",) if "%Z" in text else ("", " %z", "%z", " %Z", *(f"{sign}%z" for sign in "|;," if sign in text))
    fractions = ("", ".%f", ",%f", ":%f") if "%S" in text and "%p" not in text else ("",)
    halves = (" %p", "%p") if "%p" in text else ("",)
    befores = (" ", ", ", ": ", ":", "T", "-")
    months = ("%b", "%B") if "%b" in text else ("",)
    weekdays = ("%a", "%A") if "%a" in text else ("",)
    for zone, half, month, weekday, before, fraction in itertools.product(
        zones, halves, months, weekdays, befores, fractions
    ):
        way = re.sub(r"(%[Yyde]) (?=%[HI])", rf"\1{before}", text)
        way = way.replace("%S", f"%S{fraction}").replace(" %p", half or " %p")
        way = way.replace("%b", month or "%b").replace("%a", weekday or "%a")
        yield way + zone
        if "%a," in way or "%A," in way:
            yield re.sub("(%[aA]),", r"\1", way) + zone
        if re.search("%e %Y", way):
            yield way.replace("%e %Y", "%e, %Y") + zone
