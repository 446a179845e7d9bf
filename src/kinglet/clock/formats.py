"""Timestamp formats: what each directive means, and the shape of text it reads.

Directives are those of C and POSIX `strptime`, with `%f` for the digits of a fraction (1 to 9 of
them) and `%z` for `Z`, `+01`, `+0100` and `+01:00`. Named formats: `iso8601` (ISO 8601-1:2019
calendar dates in extended form, which covers RFC 3339), and epoch counts in four units.
"""

from __future__ import annotations

import re
from typing import NamedTuple

from kinglet.errors import did_you_mean

_TWO = "[0-9]{1,2}"


class Directive(NamedTuple):
    """What a directive reads (a regex) and how the column engine writes it."""

    shape: str
    engine: str
    gives: str = ""
    about: str = ""


DIRECTIVES: dict[str, Directive] = {
    "%Y": Directive("[0-9]{4}", "%Y", "year", "year with century"),
    "%y": Directive("[0-9]{2}", "%y", "year", "year of the century; 70 and above are 19xx"),
    "%m": Directive(_TWO, "%m", "date", "month as a number"),
    "%b": Directive("[A-Za-z]{3}", "%b", "date", "month, short English name"),
    "%B": Directive("[A-Za-z]{3,9}", "%B", "date", "month, English name"),
    "%d": Directive(_TWO, "%d", "date", "day of the month"),
    "%e": Directive(_TWO, "%e", "date", "day of the month, padded with a blank"),
    "%j": Directive("[0-9]{1,3}", "%j", "date", "day of the year"),
    "%a": Directive("[A-Za-z]{3}", "%a", "", "weekday, short English name"),
    "%A": Directive("[A-Za-z]{6,9}", "%A", "", "weekday, English name"),
    "%H": Directive(_TWO, "%H", "", "hour, 0 to 23"),
    "%I": Directive(_TWO, "%I", "", "hour, 1 to 12; goes with %p"),
    "%p": Directive("[AaPp][Mm]", "%p", "", "AM or PM"),
    "%M": Directive("[0-9]{2}", "%M", "", "minute"),
    "%S": Directive("[0-9]{2}", "%S", "", "second"),
    "%f": Directive("[0-9]{1,9}", "%f", "", "digits of the second's fraction"),
    "%z": Directive("(?:Z|[+-][0-9]{2}(?::?[0-9]{2})?)", "%#z", "zone", "offset from UTC"),
    "%T": Directive(f"{_TWO}:[0-9]{{2}}:[0-9]{{2}}", "%H:%M:%S", "", "the same as %H:%M:%S"),
    "%R": Directive(f"{_TWO}:[0-9]{{2}}", "%H:%M", "", "the same as %H:%M"),
    "%F": Directive("[0-9]{4}-[0-9]{2}-[0-9]{2}", "%Y-%m-%d", "year", "the same as %Y-%m-%d"),
    "%D": Directive(f"{_TWO}/{_TWO}/[0-9]{{2}}", "%m/%d/%y", "year", "the same as %m/%d/%y"),
    "%%": Directive("%", "%%", "", "a percent sign"),
}

EPOCH_UNITS: dict[str, int] = {"epoch": 1_000_000, "epoch_ms": 1_000, "epoch_us": 1, "epoch_ns": 0}
NAMED = ("iso8601", *EPOCH_UNITS)

_ISO_SHAPE = (
    "[0-9]{4}-[0-9]{2}-[0-9]{2}(?:[Tt ][0-9]{2}:[0-9]{2}(?::[0-9]{2}(?:[.,][0-9]{1,9})?)?"
    "(?:[Zz]|[+-][0-9]{2}(?::?[0-9]{2})?)?)?"
)
_ISO_ENGINE = (
    *(f"%Y-%m-%d{middle}%H:%M{rest}" for rest in (":%S%.f%#z", "%#z", ":%S%.f", "") for middle in ("T", " ")),
    "%Y-%m-%d",
)


class Format(NamedTuple):
    """A format ready to read with.

    shape is the regex of the text it reads; engine the formats to try in the column engine's own
    writing; fraction a regex and its replacement that put a point before a fraction that has none.
    """

    text: str
    shape: str
    engine: tuple[str, ...] = ()
    has_year: bool = True
    fraction: tuple[str, str] | None = None

    @property
    def epoch(self) -> str | None:
        return self.text if self.text in EPOCH_UNITS else None


def parse_format(text: str) -> Format:
    """A format from its text in the parser file.

    Raises:
        ValueError: a directive or name that is not known, or a format without a date; what it
            says before the first `; ` is the fault, after it the way to mend it.
    """
    if text == "iso8601":
        return Format(text, _ISO_SHAPE, _ISO_ENGINE)
    if text in EPOCH_UNITS:
        shape = r"-?[0-9]{1,20}(?:\.[0-9]{1,9})?"
        return Format(text, shape)
    if "%" not in text:
        hint = did_you_mean(text, NAMED, "use directives such as `%Y-%m-%d %H:%M:%S`, or one of " + ", ".join(NAMED))
        raise ValueError(f"{text!r} is not a time format; {hint}")
    shape, engine, gives = "", "", set()
    parts = re.findall(r"%.?|\s+|[^%\s]+", text)
    for _i, part in enumerate(parts):
        if part.startswith("%"):
            directive = DIRECTIVES.get(part)
            if directive is None:
                raise ValueError(f"{text!r} has the unknown directive `{part}`; known are " + " ".join(DIRECTIVES))
            shape += directive.shape
            engine += directive.engine
            gives.add(directive.gives)
        else:
            shape += " +" if part.isspace() else re.escape(part)
            engine += " " if part.isspace() else part
    if "date" not in gives and not {"%F", "%D"} & set(parts):
        raise ValueError(f"{text!r} reads no date; a stamp needs at least a month and a day")
    if "%I" in parts and "%p" not in parts:
        raise ValueError(f"{text!r} has %I without %p; add %p, or use %H")
    engine, fraction = _point_before_fraction(parts, engine)
    return Format(text, shape, (engine,), "year" in gives, fraction)


def _point_before_fraction(parts: list[str], engine: str) -> tuple[str, tuple[str, str] | None]:
    """Writes a fraction as the engine wants it: directly after a point."""
    if "%f" not in parts:
        return engine, None
    at = parts.index("%f")
    if at and parts[at - 1].endswith("."):
        return engine.replace(".%f", "%.f"), None
    separator = parts[at - 1] if at and not parts[at - 1].startswith("%") else ""
    shapes = [DIRECTIVES[p].shape if p in DIRECTIVES else " +" if p.isspace() else re.escape(p) for p in parts]
    before = "".join(shapes[: at - 1 if separator else at])
    if len(separator) > 1:
        before += " +" if separator.isspace() else re.escape(separator[:-1])
    pattern = f"^({before}){re.escape(separator[-1:])}({shapes[at]})({''.join(shapes[at + 1 :])})$"
    return engine.replace(separator[-1:] + "%f", "%.f"), (pattern, "${1}.${2}${3}")
