"""Stamps of fixed layout taken apart as columns of bytes: the quick way for large columns.

A form whose parts have known widths is a handful of layouts, each a number for every place of the
text: which character stands there, or which digit of which part. Stamps of one length are laid
side by side, and a place at a time is read for all of them. What fits no layout is left to
`kinglet.clock.parts`.
"""

from __future__ import annotations

import functools
import itertools
from collections.abc import Sequence
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt
import polars as pl

from kinglet.clock import directives
from kinglet.clock.calendar import days, exists, is_clock, micros
from kinglet.clock.directives import Blanks, Text
from kinglet.clock.formats import Form
from kinglet.clock.parts import MONTHS, WEEKDAYS, Parts

Bytes = npt.NDArray[np.uint8]
Numbers = npt.NDArray[np.int32]
Mask = npt.NDArray[np.bool_]

_LONGEST = 64
_MOST = 12
"""Layouts of one length that are tried; a form of more is read by its regex."""


class Place(NamedTuple):
    """Where a part stands in a layout, or a text, which has no part."""

    part: str
    start: int
    width: int
    chars: tuple[str, ...] = ()
    blank: bool = False


_FEW_YEARS = 200

Layout = tuple[Place, ...]


@functools.lru_cache(256)
def layouts(form: Form) -> dict[int, tuple[Layout, ...]]:
    """The layouts of a form by length; empty where it has a part of unknown width."""
    found: dict[int, list[Layout]] = {}
    for tokens in directives.readings(form.tokens):
        widths = [_widths(*pair) for pair in itertools.zip_longest(tokens, tokens[1:])]
        if not all(widths):
            return {}
        for choice in itertools.product(*widths):
            places: list[Place] = []
            at = 0
            for token, width in zip(tokens, choice, strict=True):
                places.append(_place(token, at, width))
                at += width
            if at <= _LONGEST:
                found.setdefault(at, []).append(tuple(places))
    return {length: tuple(ways[:_MOST]) for length, ways in found.items()}


def _widths(token: directives.Token, behind: directives.Token | None) -> tuple[int, ...]:
    """The widths of a token; a number right before another has all its digits."""
    match token:
        case Text(places):
            return (len(places),) if all(place.isascii() for place in places) else ()
        case Blanks():
            return (1,)
    assert isinstance(token, directives.Part)
    widths = token.directive.widths
    digits = behind.places[0][0].isdigit() if isinstance(behind, Text) else isinstance(behind, directives.Part)
    return widths[:1] if digits and token.directive.part not in ("fraction", "offset") else widths


def _place(token: directives.Token, at: int, width: int) -> Place:
    match token:
        case Text(places):
            return Place("", at, width, places)
        case Blanks():
            return Place("", at, 1, (" ",))
    assert isinstance(token, directives.Part)
    return Place(token.directive.part, at, width, blank=token.directive.shape.startswith(" ?"))


def by_layouts(text: pl.Series, form: Form) -> tuple[Parts, pl.Series]:
    """The parts of stamps, as `parts.by_regex` gives them, and a mask of the stamps that were read."""
    ways = layouts(form)
    height = len(text)
    lengths = text.str.len_bytes()
    known = [length for length in lengths.unique().drop_nulls() if length in ways] if ways else []
    if not known:
        return {}, pl.Series([False]).new_from_index(0, height)
    if len(known) == 1 and lengths.null_count() == 0 and (lengths == known[0]).all():
        pieces = _of_length(text, known[0], ways[known[0]])
        if len(pieces) == 1 and pieces[0][0] is None:
            return pieces[0][1], pl.Series([True]).new_from_index(0, height)
        rows = pl.int_range(height, dtype=pl.UInt32, eager=True)
        found = [(rows, pieces)]
    else:
        found = []
        for length in known:
            rows = (lengths == length).fill_null(False).arg_true()
            found.append((rows, _of_length(text.gather(rows), length, ways[length])))
    parts: Parts = {}
    matched = pl.Series([False]).new_from_index(0, height)
    for rows, pieces in found:
        for some, columns in pieces:
            here = rows if some is None else rows.gather(some)
            matched = matched.scatter(here, True)
            for name, values in columns.items():
                if name not in parts:
                    parts[name] = pl.Series(name, [None], dtype=values.dtype).new_from_index(0, height)
                parts[name] = parts[name].scatter(here, values)
    return parts, matched


def _of_length(text: pl.Series, length: int, ways: Sequence[Layout]) -> list[tuple[pl.Series | None, Parts]]:
    """Stamps of one length: the rows that each layout fits, None for all, and their parts."""
    height = len(text)
    if not length:
        return []
    joined = text.str.join("").item().encode()
    chars = np.ascontiguousarray(np.frombuffer(joined, np.uint8).reshape(height, length).T)
    found: list[tuple[pl.Series | None, Parts]] = []
    left = np.arange(height)
    for way in _likely(chars, ways):
        if not len(left):
            break
        parts, good = _read(chars if len(left) == height else chars[:, left], way)
        if not good.any():
            continue
        _put_together(parts, good)
        everything = good.all()
        columns = {name: pl.Series(name, values if everything else values[good]) for name, values in parts.items()}
        found.append((None if everything and len(left) == height else pl.Series(left[good]), columns))
        left = left[~good]
    return found


def _likely(chars: Bytes, ways: Sequence[Layout]) -> Sequence[Layout]:
    """The layouts, that of the first stamp in front; no stamp has more than one."""
    if len(ways) == 1:
        return ways
    first = next((way for way in ways if _read(chars[:, :1], way)[1].all()), ways[0])
    return (first, *(way for way in ways if way is not first))


def _read(chars: Bytes, layout: Layout) -> tuple[dict[str, Any], Mask]:
    good = np.ones(chars.shape[1], np.bool_)
    parts: dict[str, Any] = {}
    for place in layout:
        some = chars[place.start : place.start + place.width]
        if not place.part:
            for row, allowed in zip(some, place.chars, strict=True):
                if len(allowed) == 1:
                    good &= row == ord(allowed)
                else:
                    good &= functools.reduce(np.logical_or, (row == ord(char) for char in allowed))
        elif place.part in _WORDS:
            parts[place.part] = _word(some, *_WORDS[place.part])
        elif place.part == "offset":
            parts[place.part] = _offset(some, good)
        elif place.part == "fraction":
            parts[place.part] = _digits(some, good)
            parts["width"] = place.width
        else:
            parts[place.part] = _digits(some, good, blank=place.blank)
    return parts, good


def _put_together(parts: dict[str, Any], good: Mask) -> None:
    """Time of day and date as the numbers that `kinglet.clock.parts` describes; `good` loses what does not exist."""
    if "hour_of_half" in parts:
        of_half, half = parts.pop("hour_of_half"), parts.pop("half")
        good &= (of_half >= 1) & (of_half <= 12) & (half >= 0)
        parts["hour"] = np.where(of_half == 12, 0, of_half) + half
    nothing = np.zeros(1, np.int32)
    hour, minute, second = (parts.pop(name, nothing) for name in ("hour", "minute", "second"))
    good &= is_clock(hour, minute, second)
    clock = micros(hour, minute, second.astype(np.int64))
    if (second == 60).any():
        parts["second"] = second
    fraction, width = parts.pop("fraction", None), parts.pop("width", 0)
    if fraction is not None:
        good &= (hour < 24) | (fraction == 0)
        clock += fraction // np.int32(10 ** (width - 6)) if width > 6 else fraction * np.int32(10 ** (6 - width))
        if width > 6:
            parts["beyond"] = fraction % np.int32(10 ** (width - 6)) * np.int32(10 ** (9 - width))
    parts["clock"] = np.broadcast_to(clock, good.shape)
    month = parts.get("month", parts.get("month_name"))
    if month is None or "year" not in parts:
        return
    parts["day_number"] = _day_numbers(parts["year"], month, parts["day"], good)
    for name in ("year", "month", "month_name", "day"):
        parts.pop(name, None)


def _day_numbers(year: Numbers, month: Numbers, day: Numbers, good: Mask) -> Numbers:
    """Days since 1970-01-01, looked up month by month."""
    first, last = int(year.min()), int(year.max())
    good &= (month >= 1) & (month <= 12)
    if last - first > _FEW_YEARS:
        good &= exists(year, month, day)
        far: Numbers = days(year, month, day)
        return far
    starts, lengths = _months(first, last)
    at = np.clip((year - np.int32(first)) * np.int32(12) + month - np.int32(1), 0, len(starts) - 1)
    good &= (day >= 1) & (day <= lengths[at])
    numbers: Numbers = starts[at] + day - np.int32(1)
    return numbers


@functools.lru_cache(64)
def _months(first: int, last: int) -> tuple[Numbers, Numbers]:
    """The day on which each month of some years begins, and how many days it has; none in the year 0."""
    year, month = (grid.ravel() for grid in np.meshgrid(np.arange(first, last + 1), np.arange(1, 13), indexing="ij"))
    starts = days(year, month, 1)
    lengths = days(year + month // 12, month % 12 + 1, 1) - starts
    return starts.astype(np.int32), np.where(year < 1, 0, lengths).astype(np.int32)


def _digits(some: Bytes, good: Mask, *, blank: bool = False) -> Numbers:
    """A number of so many digits; `good` loses what is none."""
    values = some - np.uint8(48)
    if blank and len(some) > 1:
        values[0] = np.where(some[0] == 32, 0, values[0])
    for row in values:
        good &= row <= 9
    if len(values) == 1:
        single: Numbers = values[0].astype(np.int32)
        return single
    with np.errstate(over="ignore"):
        pairs = [values[i] * np.uint8(10) + values[i + 1] for i in range(len(values) % 2, len(values), 2)]
    total: Numbers = pairs[0].astype(np.int32) if len(values) % 2 == 0 else values[0].astype(np.int32)
    for pair in pairs if len(values) % 2 else pairs[1:]:
        total = total * np.int32(100) + pair
    return total


_WORDS: dict[str, tuple[tuple[str, ...], tuple[int, ...]]] = {
    "month_name": (MONTHS, tuple(range(1, 13))),
    "weekday_name": (WEEKDAYS, tuple(range(7))),
    "half": (("am", "pm"), (0, 12)),
}


def _word(some: Bytes, words: tuple[str, ...], numbers: tuple[int, ...]) -> Numbers:
    """The number of a word, any case; -1 for others."""
    lower = some | np.uint8(32)
    code = lower[0].astype(np.int32)
    for row in lower[1:]:
        code = code * np.int32(256) + row
    codes = np.array([functools.reduce(lambda high, low: high * 256 + low, word.encode()) for word in words], np.int32)
    order = np.argsort(codes)
    at = np.minimum(np.searchsorted(codes[order], code), len(words) - 1)
    found = np.array(numbers, np.int32)[order][at]
    numbered: Numbers = np.where(codes[order][at] == code, found, np.int32(-1)).astype(np.int32)
    return numbered


def _offset(some: Bytes, good: Mask) -> Numbers:
    """Seconds east of UTC of `Z`, `+01`, `+0100` and `+01:00`."""
    if len(some) == 1:
        good &= (some[0] | np.uint8(32)) == ord("z")
        return np.zeros(some.shape[1], np.int32)
    east = some[0] == ord("+")
    good &= east | (some[0] == ord("-"))
    hours = _digits(some[1:3], good)
    minutes = _digits(some[-2:], good) if len(some) > 3 else np.int32(0)
    if len(some) == 6:
        good &= some[3] == ord(":")
    seconds = hours * np.int32(3600) + minutes * np.int32(60)
    seconds = np.where((hours > 23) | (minutes > 59), np.int32(86_400), seconds)
    signed: Numbers = np.where(east, seconds, -seconds).astype(np.int32)
    return signed
