"""Stamps of fixed layout taken apart as columns of bytes: the quick way for large columns.

A form whose parts have known widths is a handful of layouts, each a number for every place of the
text: which character stands there, or which digit of which part. Stamps of one length are laid
side by side, and a place at a time is read for all of them. What fits no layout is left to
`kinglet.timestamps.parts`.
"""

from __future__ import annotations

import functools
import itertools
from collections.abc import Iterator, Sequence
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt
import polars as pl

from kinglet.timestamps import directives
from kinglet.timestamps.calendar import days, exists, is_clock, seconds
from kinglet.timestamps.directives import Blanks, Text
from kinglet.timestamps.formats import FormatForm
from kinglet.timestamps.parts import NAMES, Parts

Bytes = npt.NDArray[np.uint8]
Numbers = npt.NDArray[np.int32]
Mask = npt.NDArray[np.bool_]
Rows = npt.NDArray[np.intp]

_LONGEST = 64  # speed: longer stamps are read by their regex
_MOST = 12  # speed
"""Layouts of one length that are tried; a form of more is read by its regex."""


class LayoutPlace(NamedTuple):
    """Where a part stands in a layout, or a text, which has no part."""

    part: str
    start: int
    width: int
    chars: tuple[str, ...] = ()
    blank: bool = False


_FEW_YEARS = 200  # speed
_BLOCK = 16_384  # speed: a block stays in the cache of a processor
"""Stamps that are read at a time."""

Layout = tuple[LayoutPlace, ...]


@functools.lru_cache(256)
def layouts(form: FormatForm) -> dict[int, tuple[Layout, ...]]:
    """The layouts of a form by length; empty where it has a part of unknown width."""
    found: dict[int, list[Layout]] = {}
    for tokens in directives.readings(form.tokens):
        widths = [_widths(*pair) for pair in itertools.zip_longest(tokens, tokens[1:])]
        # one part of any width, and no place behind it is known
        if not all(widths):
            return {}
        for choice in itertools.product(*widths):
            places: list[LayoutPlace] = []
            at = 0
            for token, width in zip(tokens, choice, strict=True):
                places.append(_place(token, at, width))
                at += width
            if at <= _LONGEST:
                found.setdefault(at, []).append(tuple(places))
    return {length: tuple(of_length[:_MOST]) for length, of_length in found.items()}


def _widths(token: directives.Token, behind: directives.Token | None) -> tuple[int, ...]:
    """The widths of a token; a number right before another has all its digits."""
    match token:
        case Text(places):
            return (len(places),) if all(place.isascii() for place in places) else ()
        case Blanks():
            return (1,)
    assert isinstance(token, directives.FormatPart)
    widths = token.directive.widths
    digits = behind.places[0][0].isdigit() if isinstance(behind, Text) else isinstance(behind, directives.FormatPart)
    return widths[:1] if digits and token.directive.part not in ("fraction", "offset") else widths


def _place(token: directives.Token, at: int, width: int) -> LayoutPlace:
    match token:
        case Text(places):
            return LayoutPlace("", at, width, places)
        case Blanks():
            return LayoutPlace("", at, 1, (" ",))
    assert isinstance(token, directives.FormatPart)
    return LayoutPlace(token.directive.part, at, width, blank=token.directive.shape.startswith(" ?"))


class Piece(NamedTuple):
    """Stamps of one form: the rows they stand in, None for all, and their parts as `parts.by_regex` gives them."""

    form: int
    rows: pl.Series | None
    parts: Parts


def by_layouts(text: pl.Series, forms: Sequence[FormatForm]) -> list[Piece]:
    """The stamps that fit a layout of some form, of several the first; the forms by their numbers."""
    height = len(text)
    known = [layouts(form) for form in forms]
    lengths = text.str.len_bytes()
    kinds = lengths.unique()
    # then no row has to be looked for, and none put back
    uniform = len(kinds) == 1
    numbers = lengths.fill_null(0).to_numpy()
    pieces: list[Piece] = []
    for length in kinds.drop_nulls():
        candidates = [(number, layout) for number, by_width in enumerate(known) for layout in by_width.get(length, ())]
        if not candidates or not length:
            continue
        rows = None if uniform else pl.Series(np.flatnonzero(numbers == length).astype(np.uint32))
        by_width = text if rows is None else text[rows]
        for number, inside, parts in _of_length(by_width, length, candidates):
            if inside is None:
                pieces.append(Piece(number, rows, parts))
            else:
                pieces.append(Piece(number, inside if rows is None else rows.gather(inside), parts))
    assert all(piece.rows is not None or len(pieces) == 1 for piece in pieces) or not height
    return pieces


def _of_length(
    text: pl.Series, length: int, candidates: Sequence[tuple[int, Layout]]
) -> Iterator[tuple[int, pl.Series | None, Parts]]:
    """Stamps of one length by form, and by the parts that they have; a block at a time, which stays in cache."""
    height = len(text)
    # texts of one length are a table of characters
    stamps = np.frombuffer(text.str.join("").item().encode(), np.uint8).reshape(height, length)
    found: dict[tuple[int, frozenset[str]], list[tuple[Rows, dict[str, Any]]]] = {}
    for start in range(0, height, _BLOCK):
        block = stamps[start : start + _BLOCK]
        # place by place, since every test is of one place in all stamps
        chars = np.ascontiguousarray(block.T)
        open_ = np.ones(len(block), np.bool_)
        for number, layout in _likely(chars, candidates):
            fits = _fits(chars, layout, open_)
            if fits is None:
                continue
            rows = np.flatnonzero(fits)
            parts, good = _read(chars if len(rows) == len(block) else np.ascontiguousarray(block[rows].T), layout)
            _put_together(parts, good)
            if not good.all():
                rows, parts = rows[good], {name: values[good] for name, values in parts.items()}
            if len(rows):
                found.setdefault((number, frozenset(parts)), []).append((rows + start, parts))
                open_[rows] = False
                if not open_.any():
                    break
    for (number, names), blocks in found.items():
        columns = {name: pl.Series(name, np.concatenate([parts[name] for _, parts in blocks])) for name in names}
        rows = np.concatenate([rows for rows, _ in blocks])
        whole = len(rows) == height and bool((rows[1:] > rows[:-1]).all())
        yield number, None if whole else pl.Series(rows), columns


def _likely(chars: Bytes, candidates: Sequence[tuple[int, Layout]]) -> Sequence[tuple[int, Layout]]:
    """The layouts in order of forms; of one form that of the first stamp first, for no stamp has more than one."""
    if len({number for number, _ in candidates}) > 1 or len(candidates) == 1:
        return candidates
    only = np.ones(1, np.bool_)
    first = next((one for one in candidates if _fits(chars[:, :1], one[1], only) is not None), candidates[0])
    return (first, *(one for one in candidates if one is not first))


def _fits(chars: Bytes, layout: Layout, among: Mask) -> Mask | None:
    """Which stamps among some have the characters that a layout has between its parts; None where none has."""
    good = among.copy()
    for place in layout:
        for i, allowed in enumerate(place.chars):
            row = chars[place.start + i]
            # numbers are tested later: few stamps of the wrong form get past the signs between them
            right = row == ord(allowed[0])
            for char in allowed[1:]:
                right |= row == ord(char)
            good &= right
            if not good.any():
                return None
    return good if good.any() else None


def _read(chars: Bytes, layout: Layout) -> tuple[dict[str, Any], Mask]:
    """The parts of stamps that fit a layout, and which of them are numbers and names as they should be."""
    good = np.ones(chars.shape[1], np.bool_)
    parts: dict[str, Any] = {}
    for place in layout:
        piece = chars[place.start : place.start + place.width]
        if not place.part:
            continue
        if place.part in _WORDS:
            parts[place.part] = _word(piece, place.part)
        elif place.part == "offset":
            parts[place.part] = _offset(piece, good)
        elif place.part == "fraction":
            parts[place.part] = _digits(piece, good)
            parts["width"] = place.width
        else:
            parts[place.part] = _digits(piece, good, blank=place.blank)
    return parts, good


def _put_together(parts: dict[str, Any], good: Mask) -> None:
    """Time of day and date as the numbers that `timestamps.parts` describes; `good` loses what does not exist."""
    if "hour_of_half" in parts:
        of_half, half = parts.pop("hour_of_half"), parts.pop("half")
        good &= (of_half >= 1) & (of_half <= 12) & (half >= 0)
        parts["hour"] = np.where(of_half == 12, 0, of_half) + half
    nothing = np.zeros(1, np.int32)
    hour, minute, second = (parts.pop(name, nothing) for name in ("hour", "minute", "second"))
    good &= is_clock(hour, minute, second)
    clock = seconds(hour, minute, second).astype(np.int64)
    clock *= 1_000_000
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
    # a year that is none must not stretch the table of months
    known = year if good.all() else year[good]
    if not len(known):
        return year
    first, last = int(known.min()), int(known.max())
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


def _digits(digits: Bytes, good: Mask, *, blank: bool = False) -> Numbers:
    """A number of so many digits; `good` loses what is none."""
    values = digits - np.uint8(48)
    if blank and len(digits) > 1:
        values[0] = np.where(digits[0] == 32, 0, values[0])
    for row in values:
        good &= row <= 9
    if len(values) == 1:
        single: Numbers = values[0].astype(np.int32)
        return single
    # what is no digit overflows, and is lost by `good` already
    with np.errstate(over="ignore"):
        pairs = [values[i] * np.uint8(10) + values[i + 1] for i in range(len(values) % 2, len(values), 2)]
    total: Numbers = pairs[0].astype(np.int32) if len(values) % 2 == 0 else values[0].astype(np.int32)
    for pair in pairs if len(values) % 2 else pairs[1:]:
        total = total * np.int32(100) + pair
    return total


_WORDS: dict[str, dict[str, int]] = {**NAMES, "half": {"am": 0, "pm": 12}}


@functools.lru_cache(64)
def _words(part: str, width: int) -> tuple[Bytes, Numbers, Numbers]:
    """The words of a part that have a width: their letters place by place, codes of their beginnings, their numbers."""
    words = sorted((word for word in _WORDS[part] if len(word) == width), key=lambda word: word[:3])
    letters = np.array([list(word.encode()) for word in words], np.uint8).reshape(len(words), width).T
    return letters, _codes(letters), np.array([_WORDS[part][word] for word in words], np.int32)


def _codes(letters: Bytes) -> Numbers:
    """One number for the first three letters."""
    code: Numbers = letters[0].astype(np.int32)
    for row in letters[1:3]:
        code = code * np.int32(256) + row
    return code


def _word(chars: Bytes, part: str) -> Numbers:
    """The number of a word, any case; -1 for others."""
    letters, codes, numbers = _words(part, len(chars))
    if not len(codes):
        return np.full(chars.shape[1], -1, np.int32)
    # the bit that makes a letter small
    lower = chars | np.uint8(32)
    code = _codes(lower)
    # three letters tell months and weekdays apart; the rest is compared behind them
    at = np.minimum(np.searchsorted(codes, code), len(codes) - 1)
    right = codes[at] == code
    for mine, theirs in zip(lower[3:], letters[3:], strict=True):
        right &= mine == theirs[at]
    numbered: Numbers = np.where(right, numbers[at], np.int32(-1)).astype(np.int32)
    return numbered


def _offset(chars: Bytes, good: Mask) -> Numbers:
    """Seconds east of UTC of `Z`, `+01`, `+0100` and `+01:00`."""
    if len(chars) == 1:
        good &= (chars[0] | np.uint8(32)) == ord("z")
        return np.zeros(chars.shape[1], np.int32)
    east = chars[0] == ord("+")
    good &= east | (chars[0] == ord("-"))
    hours = _digits(chars[1:3], good)
    minutes = _digits(chars[-2:], good) if len(chars) > 3 else np.int32(0)
    if len(chars) == 6:
        good &= chars[3] == ord(":")
    seconds = hours * np.int32(3600) + minutes * np.int32(60)
    # a day is no offset, and is found wrong where offsets are judged
    seconds = np.where((hours > 23) | (minutes > 59), np.int32(86_400), seconds)
    signed: Numbers = np.where(east, seconds, -seconds).astype(np.int32)
    return signed
