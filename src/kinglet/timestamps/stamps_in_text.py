"""Stamps in text: where they stand, what form they have, and the format that reads them."""

from __future__ import annotations

import functools
import itertools
import re
from collections.abc import Iterator
from typing import NamedTuple

from kinglet.timestamps.formats import parse_format
from kinglet.timestamps.known_forms import (
    CLOCKS,
    COLOURED,
    DATES,
    FINDABLE,
    FRACTION,
    HALF,
    OFFSET,
    ZONE,
    ZONE_BEHIND,
    ZONE_IN_BRACKETS,
    Findable,
)

# behind a colon it is part of a clock or an address, but for one behind a key
_BEFORE = (
    r"(?:(?<![0-9A-Za-z.:/-])|(?<=[\"'\])}]:)|(?<=[A-Za-z_]:)(?=[0-9]{4}-[0-9]{2}-|1[0-9]{9})"
    r"|(?<=:)(?=(?:19|20)[0-9]{6}[:T_-][0-9]{6}(?![0-9]{3}))"
    r"|(?<=[0-9]T)(?=[0-9]{1,2}:[0-9]{2}:[0-9]{2})"
    r"|(?<=(?<![0-9A-Za-z.:/-])(?-i:[A-Z]))(?=[0-9]{4}[ 0-9/.-])"  # the letter of a level
    rf"|{COLOURED})"
)
_ALL = (*FINDABLE, *DATES)
_ISO = "%Y-%m-%d %H:%M[[:%S]]"
"""What `iso8601` is where something stands behind the time of day that it does not have."""
_BETWEEN = re.compile(r"(?=.)[\"'\])}]?[ \t]{0,4}[|;,/@]?[ \t]{0,4}[\"'\[({]?| - | at |::|[T_-]")
"""What may stand between a date and a time of day that belong together."""


@functools.cache
def _any() -> re.Pattern[str]:
    """All forms, one group each; compiled where it is first needed, for that takes its time."""
    forms = "|".join(f"(?P<f{i}>{item.behind}{item.shape}{item.before})" for i, item in enumerate(_ALL))
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
        if found and match.start() < found[-1].end:
            continue  # of a time of day that is one behind a date only
        stamp = Stamp(_ALL[int(match.lastgroup[1:])], match.start(), match.end())
        whole = _joined(text, found[-1], stamp) if found else None
        if whole is not None:
            found[-1] = whole
        else:
            found.append(_with_clock(text, stamp, found[-1].end if found else 0))
    return [_with_zone(text, _with_half(text, stamp)) for stamp in found if stamp.form not in DATES]


def has_date(text: str) -> bool:
    """Whether a date with its year, and without a time of day, stands in a text."""
    found = (_ALL[int(match.lastgroup[1:])] for match in _any().finditer(text) if match.lastgroup is not None)
    return any(form.date and not form.clock and re.search("%[Yy]|iso", form.format) for form in found)


_OFFSET = "[0-9]{2}(?::?[0-9]{2})?(?![0-9A-Za-z.:-])"
_REACH = 40  # characters before a date in which its time of day has room


@functools.cache
def _clocks() -> re.Pattern[str]:
    forms = "|".join(f"(?P<f{i}>{item.shape})" for i, item in enumerate(CLOCKS))
    return re.compile(
        rf"(?P<between>{_BETWEEN.pattern}|[:./-])(?:{forms})(?![.:]?[0-9]|-(?!{_OFFSET})[0-9])", re.IGNORECASE
    )


@functools.cache
def _clocks_before() -> re.Pattern[str]:
    # digits alone may be any number, unless a date stands before them
    forms = "|".join(f"(?P<f{i}>{item.shape})" for i, item in enumerate(CLOCKS) if "compact" not in item.name)
    return re.compile(rf"{_BEFORE}(?:{forms})(?:{HALF})?(?:{_BETWEEN.pattern})$", re.IGNORECASE)


def _with_clock(text: str, stamp: Stamp, start: int) -> Stamp:
    """A date with the time of day beside it, which may look like something else where it stands alone.

    start: where the text begins that is of no other stamp.
    """
    if not stamp.form.date or stamp.form.clock:
        return stamp
    if (match := _clocks().match(text, stamp.end)) is not None and match.lastgroup is not None:
        clock = CLOCKS[int(match.lastgroup[1:])]
        return _one(text, stamp, Stamp(clock, match.end("between"), match.end())) or stamp
    before = _clocks_before().search(text, max(start, stamp.start - _REACH), stamp.start)
    if before is None:
        return stamp
    name = next(name for name, found in before.groupdict().items() if found is not None)
    clock, end = CLOCKS[int(name[1:])], before.end(name)
    if (half := _HALF_BEHIND.match(text, end)) is not None:
        clock, end = _of_half(clock), half.end()
    return _one(text, Stamp(clock, before.start(), end), stamp) or stamp


_HALF_BEHIND = re.compile(HALF)


def _with_half(text: str, stamp: Stamp) -> Stamp:
    """A stamp with the half of the day that stands behind it, which makes another time of it."""
    match = _HALF_BEHIND.match(text, stamp.end) if stamp.form.clock else None
    return stamp if match is None else Stamp(_of_half(stamp.form), stamp.start, match.end())


_IN_BRACKETS = re.compile(ZONE_IN_BRACKETS, re.IGNORECASE)
_ZONE_BEHIND = re.compile(rf"{ZONE_BEHIND}(?![:.-]?[0-9])", re.IGNORECASE)


def _with_zone(text: str, stamp: Stamp) -> Stamp:
    """A stamp with the zone that stands behind it, where its form has none."""
    form = stamp.form
    if not (form.date and form.clock) or form.name.startswith("epoch"):
        return stamp
    if (bracketed := _IN_BRACKETS.match(text, stamp.end)) is not None:
        return Stamp(_zoned(form, ZONE_IN_BRACKETS), stamp.start, bracketed.end())
    if form.zone in form.shape or not form.format.startswith("%"):
        return stamp
    match = _ZONE_BEHIND.match(text, stamp.end)
    return stamp if match is None else Stamp(_zoned(form, ZONE_BEHIND), stamp.start, match.end())


@functools.lru_cache(256)  # speed
def _zoned(form: Findable, zone: str) -> Findable:
    text = _ISO if form.format == "iso8601" else form.format
    known = form.zone if form.shape.endswith(form.zone) else ""
    either = f"(?:{zone}|{known.removesuffix('?')})?" if known else f"{zone}?"
    return form._replace(shape=f"{form.shape.removesuffix(known)}{either}", zone=either, format=text)


@functools.lru_cache(256)  # speed
def _of_half(form: Findable) -> Findable:
    """A form whose hours are counted twice a day."""

    def half(text: str) -> str:
        text = _ISO if text == "iso8601" else text
        return text.replace("%H", "%I") + " %p" if "%H" in text else ""

    shape = f"{form.shape.removesuffix(form.zone)}{HALF}"
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
    return _one(text, first, second)


def _one(text: str, first: Stamp, second: Stamp) -> Stamp | None:
    """A date and a time of day as one stamp, where one form reads them."""
    between = text[first.end : second.start]
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

    zone = f"(?:{shape}{OFFSET}|{ZONE.removesuffix('?')})?"
    behind = f"{second.shape}{zone}" if not second.date and second.shape.endswith(FRACTION) else second.shape
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
    for code, sign in (
        (r"%a", re.search(r"(?i)\b(?:mon|tue|wed|thu|fri|sat|sun)[a-z]*,", example)),
        ("%b %[de]", re.search(r"[A-Za-z]\.?[ \t]*[0-9]{1,2},[ \t]*[0-9]{4}", example)),
    ):
        text = re.sub(rf"({code}),? ", rf"\1{',' if sign else ''} ", text, count=1)
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
    zones = (
        ("",)
        if "%Z" in text
        else (
            "",
            " %z",
            "%z",
            " %Z",
            " (%Z)",
            " (%z)",
            " [%Z]",
            " [%z]",
            *(f"{sign}%z" for sign in "|;," if sign in text),
        )
    )
    fractions = ("", ".%f", ",%f", ":%f") if re.search("%S(?!%f)", text) else ("",)
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
