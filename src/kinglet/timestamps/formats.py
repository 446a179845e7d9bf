"""Timestamp formats: those of directives, and those that have a name.

Named are `iso8601` (ISO 8601-1:2019, RFC 3339 among it), `rfc5322` (section 3.3, which took over
RFC 2822), `rfc3164`, `ncsa` (the common log format of web servers), and epoch counts.
"""

from __future__ import annotations

import functools
import re
from collections.abc import Callable, Sequence
from datetime import UTC, datetime
from typing import NamedTuple

from kinglet.errors import InvalidError, did_you_mean
from kinglet.timestamps import directives
from kinglet.timestamps.directives import Blanks, FormatPart, Maybe, Text, Token
from kinglet.timestamps.reference_time import as_moment

EPOCH_UNITS: dict[str, int | None] = {
    "epoch": 1_000_000_000,
    "epoch_ms": 1_000_000,
    "epoch_us": 1_000,
    "epoch_ns": 1,
    "epoch_any": None,
}
"""Nanoseconds of a unit; None where each stamp's size tells it."""

EPOCH_SHAPE = r"-?[0-9]{1,20}(?:\.[0-9]{1,9})?"

_EPOCH_DIGITS = {"epoch": "9,11", "epoch_ms": "12,14", "epoch_us": "15,17", "epoch_ns": "18,20", "epoch_any": "9,20"}
"""The digits of counts from the years 1973 to 5138; shorter numbers are everywhere."""

_DATED = ({"month", "day"}, {"month_name", "day"}, {"day_of_year"}, {"week_year", "week", "weekday"}, {"epoch"})
_CLOCKED = ({"hour"}, {"hour_of_half", "half"}, {"epoch"})


class FormatForm(NamedTuple):
    """One form that stamps of a format have."""

    tokens: tuple[Token, ...]

    @property
    def shape(self) -> str:
        return directives.regex(self.tokens, groups=False)

    @property
    def regex(self) -> str:
        """The regex of a whole stamp, with a group for each part."""
        return f"^{directives.regex(self.tokens, groups=True)}$"

    @property
    def parts(self) -> frozenset[str]:
        return frozenset(part.directive.part for part in directives.parts(self.tokens))


class Format(NamedTuple):
    """A format ready to read with: its forms are tried in order.

    has_year, has_date, has_zone: whether every stamp carries them (a zone or an offset). whole:
    the regex of a stamp that stands by itself, searched: of one among other text, where they are not
    simply the forms.
    """

    text: str
    forms: tuple[FormatForm, ...]
    has_year: bool = True
    has_date: bool = True
    has_zone: bool = False
    whole: str = ""
    searched: str = ""
    origin: int = 0
    unit: int | None = None
    """Of counts since another moment than 1970: microseconds from 1970 to that, and nanoseconds of the unit."""

    @property
    def epoch(self) -> bool:
        return self.text in EPOCH_UNITS or self.unit is not None

    @property
    def search_shape(self) -> str:
        """The same where it has to be found among other text."""
        if self.unit is not None:
            return EPOCH_SHAPE
        if self.epoch:
            return rf"[0-9]{{{_EPOCH_DIGITS[self.text]}}}(?:\.[0-9]{{1,9}})?"
        return self.searched or self.shape

    @property
    def shape(self) -> str:
        """The regex of the text it reads, without groups."""
        if self.epoch or self.whole:
            return self.whole or EPOCH_SHAPE
        shapes = [form.shape for form in self.forms]
        return shapes[0] if len(shapes) == 1 else f"(?:{'|'.join(shapes)})"


def _iso8601() -> Format:
    """Calendar, ordinal and week dates, extended and basic; the date may stand by itself.

    A blank in place of the T wants minutes behind the hour, and before an offset minutes in it: so that
    no number of the message is taken for them.
    """
    forms: list[FormatForm] = []
    for date in ("%Y-%m-%d", "%Y%m%d", "%G-W%V-%u", "%GW%V%u", "%Y-%j", "%Y%j"):
        colon: tuple[Token, ...] = (Text((":",)),) if "-" in date else ()
        second: tuple[Token, ...] = (*colon, FormatPart("%S"), Maybe((Text((".,",)), FormatPart("%f"))))
        behind_t = (Text(("Tt",)), FormatPart("%H"), Maybe((*colon, FormatPart("%M"), Maybe(second))))
        clocks: list[tuple[Token, ...]] = [behind_t]
        if date == "%Y-%m-%d":
            clocks.append((Text((" ",)), FormatPart("%H"), *colon, FormatPart("%M"), Maybe(second)))
        elif date == "%Y%m%d":
            clocks.append((Text((" ",)), FormatPart("%H"), FormatPart("%M"), *second))
        days = directives.tokens(date)
        forms += [FormatForm(_exact((*days, *clock, Maybe((FormatPart("%z"),))))) for clock in clocks]
        forms += [FormatForm(_exact((*days, *clock, Blanks(), FormatPart("%5z")))) for clock in clocks]
        forms.append(FormatForm(_exact(days)))
    return Format("iso8601", tuple(forms), whole=_iso_shape("?"), searched=_iso_shape(""))


def _iso_shape(bare: str) -> str:
    """The regex of all forms; bare: `?` where a date of digits alone may stand by itself."""
    zone = "(?: +[+-][0-9]{2}:?[0-9]{2}|[Zz]|[+-][0-9]{2}(?::?[0-9]{2})?)?"
    second = "[0-9]{2}(?:[.,][0-9]{1,9})?"
    behind_t = f"[Tt][0-9]{{2}}(?::[0-9]{{2}}(?::{second})?)?{zone}"
    behind_blank = f" [0-9]{{2}}:[0-9]{{2}}(?::{second})?{zone}"
    extended = f"[0-9]{{2}}-[0-9]{{2}}(?:{behind_t}|{behind_blank})?|(?:W[0-9]{{2}}-[1-7]|[0-9]{{3}})(?:{behind_t})?"
    clock = f"[Tt][0-9]{{2}}(?:[0-9]{{2}}(?:{second})?)?{zone}"
    basic = f"[0-9]{{4}}(?:{clock}| [0-9]{{4}}{second}{zone}){bare}|(?:W[0-9]{{2}}[1-7]|[0-9]{{3}})(?:{clock}){bare}"
    return f"(?:[0-9]{{4}}(?:-(?:{extended})|(?:{basic})))"


def _rfc5322() -> Format:
    """With a zone's name, an offset, or neither."""
    date = directives.tokens("[[%a,[[ ]]]]%d %b %Y %H:%M[[:%S]]")
    named, counted = (
        FormatForm((*date, Blanks(), FormatPart("%4Z"))),
        FormatForm((*date, Maybe((Blanks(), FormatPart("%5z"))))),
    )
    return Format("rfc5322", (named, counted))


def _exact(items: Sequence[Token]) -> tuple[Token, ...]:
    """The same with months, days and hours of two digits, and days of the year of three."""

    def exact(item: Token) -> Token:
        if isinstance(item, Maybe):
            return Maybe(_exact(item.tokens))
        return item.exact if isinstance(item, FormatPart) else item

    return tuple(exact(item) for item in items)


_NAMED_TEXTS = {
    "rfc3164": "%b %e %H:%M:%S[[.%f]]",
    "ncsa": "%d/%b/%Y:%H:%M:%S %z",
}
NAMED = ("iso8601", "rfc5322", *_NAMED_TEXTS, *EPOCH_UNITS)


_OF_FORMS: dict[str, Callable[[], Format]] = {"iso8601": _iso8601, "rfc5322": _rfc5322}


_UNIT_NANOS = {
    "ns": 1, "us": 1_000, "ms": 1_000_000, "s": 1_000_000_000, "min": 60_000_000_000, "h": 3_600_000_000_000,
    "d": 86_400_000_000_000,
}  # fmt: skip
_UNIT = re.compile(r"(?:([1-9][0-9]{0,2}) ?)?(ns|us|ms|s|min|h|d)")


def counted(since: str, unit: str) -> Format:
    """A format of counts since any moment, such as `1601-01-01` in `100 ns`.

    Raises:
        ValueError: the moment is none, or the unit.
    """
    origin = as_moment(f"{since}T00:00:00Z" if len(since) == 10 else since)
    match = _UNIT.fullmatch(unit)
    nanos = int(match[1] or 1) * _UNIT_NANOS[match[2]] if match else 0
    if not match or (nanos < 1000 and 1000 % nanos) or (nanos >= 1000 and nanos % 1000):
        raise InvalidError(f"`{unit}` is no unit of a count", "write `s`, `ms`, `us`, `100 ns`, `d` or the like")
    micros = (origin - datetime(1970, 1, 1, tzinfo=UTC)) // datetime.resolution
    return Format(f"{unit} since {since}", (), has_zone=True, origin=micros, unit=nanos)


_HINTS = {
    "epoch_s": "epoch", "unix": "epoch", "unix_ms": "epoch_ms", "timestamp": "epoch", "iso": "iso8601",
    "iso_8601": "iso8601", "rfc3339": "iso8601", "rfc5424": "iso8601", "rfc822": "rfc5322", "rfc2822": "rfc5322",
    "rfc1123": "rfc5322", "ctime": "%c", "asctime": "%c", "common": "ncsa",
}  # fmt: skip
"""What other names for formats lead to."""


@functools.lru_cache(maxsize=1024)
def parse_format(text: str) -> Format:
    """A format from its text in the parser file.

    Raises:
        InvalidError: a directive or name that is not known, or a format that tells neither a date nor a time of day.
    """
    if text in _OF_FORMS:
        return _OF_FORMS[text]()
    if text in EPOCH_UNITS:
        return Format(text, (), has_zone=True)
    if text in _NAMED_TEXTS:
        return _of_directives(text, _NAMED_TEXTS[text])
    if "%" not in text:
        known = _HINTS.get(text.lower().replace("-", "_"))
        otherwise = "use directives such as `%Y-%m-%d %H:%M:%S`, or one of " + ", ".join(NAMED)
        hint = f"write `{known}`" if known else did_you_mean(text, NAMED, otherwise)
        raise InvalidError(f"{text!r} is not a time format", hint)
    return _of_directives(text, text)


def _of_directives(text: str, spelt: str) -> Format:
    form = FormatForm(directives.tokens(spelt))
    _judge(text, form)
    always = {part.directive.part for part in form.tokens if isinstance(part, FormatPart)}
    has_date = any(needed <= form.parts for needed in _DATED)
    has_year = not has_date or bool(always & {"year", "year_of_century", "week_year", "epoch"})
    return Format(text, (form,), has_year, has_date, bool(always & {"offset", "zone", "epoch"}))


def _judge(text: str, form: FormatForm) -> None:
    found = [part.written for part in directives.parts(form.tokens)]
    by_part: dict[str, str] = {}
    for code in found:
        part = directives.DIRECTIVES[code].part
        other = by_part.setdefault(part, code)
        if found.count(code) > 1:
            raise InvalidError(f"{text!r} has `{code}` twice", "a stamp says each thing once")
        if other != code:
            raise InvalidError(f"{text!r} has both `{other}` and `{code}`", "keep the one that fits")
    parts = form.parts
    if "hour_of_half" in parts and "half" not in parts:
        raise InvalidError(f"{text!r} has an hour of twelve without %p", "add %p, or use %H")
    if {"month", "month_name"} <= parts or {"hour", "hour_of_half"} <= parts or {"year", "year_of_century"} <= parts:
        raise InvalidError(f"{text!r} says one thing in two ways", "keep the one that fits")
    dated = any(needed <= parts for needed in _DATED)
    if not dated and parts & {"year", "month", "month_name", "day", "week"}:
        raise InvalidError(f"{text!r} reads no date", "a stamp needs at least a month and a day")
    if not dated and parts & {"offset", "zone"}:
        raise InvalidError(f"{text!r} has a zone without a date", "write the zone as text, and give `zone`")
    if not dated and not any(needed <= parts for needed in _CLOCKED):
        raise InvalidError(f"{text!r} reads no date and no time of day", "a stamp needs one of them")
