"""Whether day or month stands first in a date of numbers, as far as a sample of stamps shows it."""

from __future__ import annotations

import re
from datetime import UTC, datetime, timedelta
from typing import NamedTuple

import polars as pl

from kinglet.timestamps.directives import FormatPart, parts
from kinglet.timestamps.formats import Format, parse_format
from kinglet.timestamps.reading import TimeReading, instants

_NEAR = 60
"""Days before it was written within which a log is likely to end, where nothing else tells."""
_POINTED = ("%d.%m", "%e.%m", "%m.%d", "%m.%e")
_DAY, _MONTH, _YEAR = {"%d", "%e"}, {"%m"}, {"%Y", "%y"}


class Decision(NamedTuple):
    """What stands first, `day` or `month`, None where the sample does not show it; and how that is known.

    sure: whether no other reading is possible.
    """

    first: str | None
    reason: str
    sure: bool = True


def first_of(fmt: Format) -> str | None:
    """`day` or `month` where a format has both as numbers and no year before them, otherwise None."""
    if len(fmt.forms) != 1:
        return None
    codes = [part.written for part in parts(fmt.forms[0].tokens) if isinstance(part, FormatPart)]
    dates = [code for code in codes if code in _DAY | _MONTH | _YEAR]
    if not (set(dates) & _DAY and set(dates) & _MONTH) or dates[0] in _YEAR:
        return None
    return "day" if dates[0] in _DAY else "month"


def swapped(fmt: Format) -> Format:
    """The same format with day and month the other way."""
    text = re.sub(r"%[dem]", lambda match: "%d" if match[0] == "%m" else "%m", fmt.text)
    return parse_format(text)


def decide(
    texts: pl.Series,
    lines: pl.Series,
    fmt: Format,
    reading: TimeReading,
    reference: datetime,
    companion: pl.Series | None = None,
) -> Decision:
    """Decides over all stamps: by values that no month has, by a companion, by the reference, by the order of the log.

    lines: the number of each stamp's line. companion: instants of another stamp in the same
    events, which leaves no doubt.
    """
    first = first_of(fmt)
    assert first is not None
    day_first, month_first = (fmt, swapped(fmt)) if first == "day" else (swapped(fmt), fmt)
    days, months = (_only(texts, one, other) for one, other in ((day_first, month_first), (month_first, day_first)))
    count, other = int(days.sum()), int(months.sum())
    if count and not other:
        return Decision("day", _deciding(texts, lines, days, "first"))
    if other and not count:
        return Decision("month", _deciding(texts, lines, months, "second"))
    if count and other:
        reason = f"line {lines.filter(days)[0]} can only be day first, line {lines.filter(months)[0]} only month first"
        return Decision("month" if count < other else "day", f"both orders: {reason}", sure=False)
    readings = [instants(texts, reading._replace(formats=(way,)), reference) for way in (day_first, month_first)]
    if companion is not None:
        apart = [float((values - companion).abs().dt.total_seconds().median() or 0) for values in readings]  # type: ignore[arg-type]
        if min(apart) < 86_400 <= max(apart):
            which = apart[1] < apart[0]
            return Decision("month" if which else "day", "so it agrees with the other stamp of the same events")
    limit = reference + timedelta(days=1)
    late = [_latest(values) for values in readings]
    if (late[0] > limit) != (late[1] > limit):
        which = late[0] > limit
        reason = (
            f"no number is above 12, but the other way the log would run on to {late[not which]:%Y-%m-%d}, "
            f"and it was written by {reference:%Y-%m-%d}"
        )
        return Decision("month" if which else "day", reason)
    falls = [int((values.drop_nulls().diff().dt.total_microseconds() < 0).sum()) for values in readings]
    if falls[0] != falls[1]:
        which = falls[1] < falls[0]
        often = f"so time goes back {min(falls):,} times and not {max(falls):,}"
        reason = f"likely, not sure: no number is above 12, but {often}"
        return Decision("month" if which else "day", reason, sure=False)
    if any(sign in fmt.text for sign in _POINTED):
        reason = "likely, not sure: no number is above 12, but between points the day mostly stands before the month"
        return Decision("day", reason, sure=False)
    apart = [abs(reference - moment).days for moment in late]
    if min(apart) <= _NEAR < max(apart):
        which = apart[1] < apart[0]
        reason = (
            f"likely, not sure: no number is above 12, but so the log ends on {late[which]:%Y-%m-%d}, "
            f"near {reference:%Y-%m-%d}, when it was written, and not on {late[not which]:%Y-%m-%d}"
        )
        return Decision("month" if which else "day", reason, sure=False)
    if "/" in fmt.text and "%p" in fmt.text:
        reason = "likely, not sure: no number is above 12, but beside a clock of 12 hours the month mostly stands first"
        return Decision("month", reason, sure=False)
    return Decision(None, "no number is above 12 and both orders rise alike", sure=False)


def year_first(texts: pl.Series, fmt: Format, reference: datetime) -> tuple[Format, str] | None:
    """The format with the year first and the reason, where a date of three pairs of digits rather is so.

    fmt: one with the day or the month first, and the year without its century last. Of the first number and the last
    the one that changes less is the year; where both change alike, the order by which the log ends nearer to the
    reference is taken, for a log is seldom looked at years after it was written.
    """
    match = re.search("%d(.)%m(.)%y|%m(.)%d(.)%y", fmt.text)
    if match is None:
        return None
    sign = match[0][2]
    other = parse_format(f"{fmt.text[: match.start()]}%y{sign}%m{sign}%d{fmt.text[match.end() :]}")
    numbers = texts.str.extract_groups(r"([0-9]{1,2})[/.-]([0-9]{1,2})[/.-]([0-9]{2})").struct.unnest()
    kinds = [numbers.to_series(i).n_unique() for i in (0, 2)]
    read = instants(texts, TimeReading((other,)), reference)
    if read.null_count() or kinds[0] > kinds[1] or _latest(read) > reference + timedelta(days=1):
        return None
    if kinds[0] < kinds[1]:
        return other, "the year first: the first number changes less than the last"
    ways = (instants(texts, TimeReading((way,)), reference) for way in (fmt, swapped(fmt)))
    known = [moment for values in ways if (moment := _latest(values)) <= reference + timedelta(days=1)]
    if reference - _latest(read) >= min((reference - moment for moment in known), default=timedelta.max):
        return None
    return other, (
        f"the year first is likely, not sure: so the log ends on {_latest(read):%Y-%m-%d}, "
        f"nearest to {reference:%Y-%m-%d}, when it was written"
    )


def _only(texts: pl.Series, fmt: Format, other: Format) -> pl.Series:
    """The stamps that the first format reads and the second does not."""
    first, second = (_numbers(texts, way) for way in (fmt, other))
    return (first & ~second).fill_null(False)


def _numbers(texts: pl.Series, fmt: Format) -> pl.Series:
    groups = texts.str.extract_groups(fmt.forms[0].regex).struct.unnest()
    day, month = (groups[name].str.strip_chars().cast(pl.Int32, strict=False) for name in ("day", "month"))
    return month.is_between(1, 12) & day.is_between(1, 31)


def _deciding(texts: pl.Series, lines: pl.Series, rows: pl.Series, which: str) -> str:
    """The lines that decide."""
    example = f"line {lines.filter(rows)[0]}: `{texts.filter(rows)[0]}`"
    return f"in {int(rows.sum()):,} the {which} number is above 12, such as {example}"


def _latest(values: pl.Series) -> datetime:
    latest = values.max()
    return latest if isinstance(latest, datetime) else datetime.min.replace(tzinfo=UTC)
