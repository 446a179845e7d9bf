"""Directives of timestamp formats, and a format's text as tokens."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from typing import NamedTuple

from kinglet.errors import InvalidError

_TWO = "[0-9]{1,2}"
OFFSET = "(?:[Zz]|[+-][0-9]{2}(?::?[0-9]{2})?)"
ZONE = "(?:(?:UTC|GMT)[+-][0-9]{1,2}:[0-9]{2}|[A-Za-z][A-Za-z0-9_]*(?:[/+-][A-Za-z0-9_]+)*)"


class Directive(NamedTuple):
    """What a directive reads (a regex), the part of a moment it gives, and the widths it may have.

    Without widths a format with it is read by its regex alone.
    """

    shape: str
    part: str = ""
    widths: tuple[int, ...] = ()
    about: str = ""
    means: str = ""


DIRECTIVES: dict[str, Directive] = {  # speed: widths only; what a stamp may be its regex says
    "%Y": Directive("[0-9]{4}", "year", (4,), "year with century"),
    "%y": Directive(_TWO, "year_of_century", (2, 1), "year without century; see `pivot`"),
    "%m": Directive(_TWO, "month", (2, 1), "month as a number"),
    "%b": Directive("[A-Za-z]{3}", "month_name", (3,), "month, short English name, any case"),
    "%B": Directive("[A-Za-z]{3,9}", "month_name", tuple(range(3, 10)), "month, English name, any case"),
    "%d": Directive(_TWO, "day", (2, 1), "day of the month"),
    "%e": Directive(" ?[0-9]{1,2}", "day", (2, 1), "day of the month, padded with a blank"),
    "%j": Directive("[0-9]{1,3}", "day_of_year", (3, 2, 1), "day of the year, 1 to 366"),
    "%G": Directive("[0-9]{4}", "week_year", (4,), "year that the week of `%V` belongs to (ISO 8601)"),
    "%V": Directive(_TWO, "week", (2, 1), "week of the year, 01 to 53 (ISO 8601)"),
    "%u": Directive("[1-7]", "weekday", (1,), "weekday as a number, 1 for Monday"),
    "%w": Directive("[0-6]", "weekday_sunday", (1,), "weekday as a number, 0 for Sunday"),
    "%a": Directive("[A-Za-z]{3}", "weekday_name", (3,), "weekday, short English name, any case"),
    "%A": Directive("[A-Za-z]{3,9}", "weekday_name", tuple(range(3, 10)), "weekday, English name, any case"),
    "%H": Directive(_TWO, "hour", (2, 1), "hour, 0 to 23; 24 with nothing behind it is the end of the day"),
    "%k": Directive(" ?[0-9]{1,2}", "hour", (2, 1), "hour, padded with a blank"),
    "%I": Directive(_TWO, "hour_of_half", (2, 1), "hour, 1 to 12; goes with `%p`"),
    "%l": Directive(" ?[0-9]{1,2}", "hour_of_half", (2, 1), "hour, 1 to 12, padded with a blank"),
    "%p": Directive(r"[AaPp]\.?[Mm]\.?", "half", (2,), "AM, PM, am, p.m."),
    "%M": Directive(_TWO, "minute", (2, 1), "minute"),
    "%S": Directive(_TWO, "second", (2, 1), "second; 60 is a leap second"),
    "%f": Directive("[0-9]{1,9}", "fraction", (6, 3, 9, 1, 2, 4, 5, 7, 8), "1 to 9 digits of the second's fraction"),
    "%z": Directive(OFFSET, "offset", (6, 5, 1, 3), "offset from UTC: `Z`, `+01`, `+0100`, `+01:00`"),
    "%Z": Directive(ZONE, "zone", (), "name of a zone (`Europe/Lisbon`) or its abbreviation; see `zones`"),
    "%s": Directive("-?[0-9]{1,11}", "epoch", (), "seconds since 1970-01-01T00:00:00Z"),
    "%T": Directive("", means="%H:%M:%S", about="`%H:%M:%S`"),
    "%R": Directive("", means="%H:%M", about="`%H:%M`"),
    "%r": Directive("", means="%I:%M:%S %p", about="`%I:%M:%S %p`"),
    "%F": Directive("", means="%Y-%m-%d", about="`%Y-%m-%d`"),
    "%D": Directive("", means="%m/%d/%y", about="`%m/%d/%y`"),
    "%c": Directive("", means="%a %b %e %H:%M:%S %Y", about="`%a %b %e %H:%M:%S %Y`"),
    "%h": Directive("", means="%b", about="`%b`"),
    "%n": Directive("", means=" ", about="blanks"),
    "%t": Directive("", means=" ", about="blanks"),
    "%%": Directive("%", about="a percent sign"),
}
"""POSIX `strptime`, and what it lacks: `%f`, `%G`, `%V`, `%u`, `%k`, `%l`, `%z`, `%Z`, `%s`."""

_EXACT: dict[str, Directive] = {  # speed: as above
    "%2m": Directive("[0-9]{2}", "month", (2,)),
    "%2d": Directive("[0-9]{2}", "day", (2,)),
    "%2H": Directive("[0-9]{2}", "hour", (2,)),
    "%2I": Directive("[0-9]{2}", "hour_of_half", (2,)),
    "%2M": Directive("[0-9]{2}", "minute", (2,)),
    "%2S": Directive("[0-9]{2}", "second", (2,)),
    "%2V": Directive("[0-9]{2}", "week", (2,)),
    "%2y": Directive("[0-9]{2}", "year_of_century", (2,)),
    "%3j": Directive("[0-9]{3}", "day_of_year", (3,)),
    "%5z": Directive("[+-][0-9]{2}:?[0-9]{2}", "offset", (6, 5)),
    "%4Z": Directive("(?:[A-Z]{1,3}T|UTC?|Z)", "zone"),
}
"""Narrower ones of named formats: all their digits, no offset of hours alone, no zone that is any word."""


class Text(NamedTuple):
    """Characters one of which stands at each place."""

    places: tuple[str, ...]


class Blanks(NamedTuple):
    """One blank or more, be they tabs or of those that hold words together (U+00A0, U+202F)."""


class FormatPart(NamedTuple):
    code: str

    @property
    def directive(self) -> Directive:
        return DIRECTIVES.get(self.code) or _EXACT[self.code]

    @property
    def written(self) -> str:
        """The directive as a format has it."""
        return f"%{self.code[-1]}"

    @property
    def exact(self) -> FormatPart:
        """The same with as many digits as it can have; what has no shorter form stays as it is."""
        code = f"%{self.directive.widths[:1][0]}{self.code[1]}" if self.directive.widths else self.code
        return FormatPart(code) if code in _EXACT else self


class Maybe(NamedTuple):
    """What may be missing."""

    tokens: tuple[Token, ...]


Token = Text | Blanks | FormatPart | Maybe

_PIECE = re.compile(r"(\[\[)|(\]\])|(%.?)|(\s+)|((?:(?!\[\[|\]\])[^%\s])+)", re.DOTALL)


def tokens(text: str) -> tuple[Token, ...]:
    """A format's text as tokens, shorthand directives written out.

    Raises:
        ValueError: a directive that is not known, or brackets that do not close.
    """
    return _apart(_tokens(_spelt(text)))


def _apart(items: tuple[Token, ...]) -> tuple[Token, ...]:
    """The same, in which a number right before another has all its digits, for else none could tell them apart."""
    found: list[Token] = []
    for item, behind in zip(items, (*items[1:], None), strict=True):
        first = behind
        while isinstance(first, Maybe):
            first = first.tokens[0] if first.tokens else None
        digits = isinstance(first, FormatPart) and first.directive.shape.startswith(
            ("[0-9]", "-?[0-9]", "[1-7]", "[0-6]")
        )
        digits |= isinstance(first, Text) and first.places[0][0].isdigit()
        if isinstance(item, Maybe):
            inner = item.tokens
            found.append(
                Maybe(_apart((*inner, first))[: len(inner)] if digits and first is not None else _apart(inner))
            )
        else:
            found.append(item.exact if digits and isinstance(item, FormatPart) else item)
    return tuple(found)


def _tokens(text: str) -> tuple[Token, ...]:
    stack: list[list[Token]] = [[]]
    for match in _PIECE.finditer(text):
        opens, closes, directive, blanks, plain = match.groups()
        if opens:
            stack.append([])
        elif closes:
            if len(stack) == 1:
                raise InvalidError(f"{text!r} closes `]]` what it never opened", "write `[[` before the optional part")
            inner = stack.pop()
            stack[-1].append(Maybe(tuple(inner)))
        elif directive == "%%":
            stack[-1].append(Text(("%",)))
        elif directive:
            stack[-1].append(FormatPart(directive))
        else:
            stack[-1].append(Blanks() if blanks else Text(tuple(plain)))
    if len(stack) > 1:
        raise InvalidError(f"{text!r} opens `[[` and does not close it", "write `]]` behind the optional part")
    return tuple(stack[0])


_HINTS = {
    "L": "%f", "N": "%f", "f": "%f", "P": "%p", "E": "%s", "v": "%e-%b-%Y", "x": "%m/%d/%y",
    "X": "%H:%M:%S", "i": "%M", "d": "%d", "e": "%e", "m": "%m", "H": "%H", "I": "%I", "k": "%k", "l": "%l", "M": "%M",
    "S": "%S", "y": "%y", "Y": "%Y", "j": "%j", "z": "%z", "Z": "%Z", "b": "%b", "a": "%a",
}  # fmt: skip
"""What directives that other languages have are called here, whatever stands between % and letter."""


def _spelt(text: str) -> str:
    """The text with every shorthand written out."""

    def means(match: re.Match[str]) -> str:
        directive = DIRECTIVES.get(match[0])
        if directive is None:
            named = _HINTS.get(match[0].lstrip("%").lstrip("-_^#0123456789"))
            hint = f"write `{named}`" if named else "known are " + " ".join(DIRECTIVES)
            raise InvalidError(f"{text!r} has the unknown directive `{match[0]}`", hint)
        return directive.means or match[0]

    return re.sub(r"(?s)%(?:[-_^#0-9]*[A-Za-z]|.?)", means, text)


def parts(items: Sequence[Token]) -> Iterator[FormatPart]:
    """The directives among tokens, in order, those of optional parts too."""
    for item in items:
        if isinstance(item, FormatPart):
            yield item
        elif isinstance(item, Maybe):
            yield from parts(item.tokens)


def regex(items: Sequence[Token], *, groups: bool) -> str:
    """The regex of what tokens read; with groups every directive is a group named by its part."""
    return "".join(_regex(item, groups) for item in items)


def _regex(item: Token, groups: bool) -> str:
    match item:
        case Text(places):
            return "".join(re.escape(place) if len(place) == 1 else f"[{re.escape(place)}]" for place in places)
        case Blanks():
            return r"[ \t\xa0\u202f]+"
        case FormatPart():
            shape = item.directive.shape
            return f"(?P<{item.directive.part}>{shape})" if groups else shape
        case Maybe(inner):
            return f"(?:{regex(inner, groups=groups)})?"


def readings(items: Sequence[Token]) -> list[tuple[Text | Blanks | FormatPart, ...]]:
    """Every way to take or leave the optional parts, the longest first."""
    sequences: list[tuple[Text | Blanks | FormatPart, ...]] = [()]
    for item in items:
        choices = [*readings(item.tokens), ()] if isinstance(item, Maybe) else [(item,)]
        sequences = [(*sequence, *choice) for sequence in sequences for choice in choices]
    return sequences
