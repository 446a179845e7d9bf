"""A date and a time of day that stand in two fields of an event, and how they are read together."""

from __future__ import annotations

import functools
import re
from collections.abc import Mapping, Sequence
from dataclasses import replace
from datetime import datetime
from typing import Any, NamedTuple

import polars as pl

from kinglet.discover.report import StampPlace
from kinglet.discover.times import times
from kinglet.timestamps.formats import parse_format
from kinglet.timestamps.known_forms import CLOCKS, DATES, FINDABLE, HALF, OFFSET, Findable

_ALL = 0.98
_PROBE = 300
_MOST_MISSING = 0.1
_MOST = 40
_OF_DATE = re.compile(r"(?i)date|day|datum|^d$")
_OF_TIME = re.compile(r"(?i)time(?!zone|out)|clock|hour|^t$")
_OF_ZONE = re.compile(r"(?i)(?:^|[._-])(?:tz|time_?zone|zone|utc_?offset|gmt_?offset)$")
_ZONE = r"^(?:Z|UTC|GMT|(?:UTC|GMT)?[+-][0-9]{1,2}:?[0-9]{0,2}|[A-Z][a-z]+/[A-Z][A-Za-z_]+)$"
_CLOCK = re.compile("%[HIkl]")


class Parted(NamedTuple):
    """The fields that hold the date, the time of day and, where there is one, the zone of events.

    place: what is said of both together; texts: both of each event that has them, as one text. standard: the zone that
    the format of the log prescribes.
    """

    date: str
    clock: str
    zone: str | None
    place: StampPlace
    texts: pl.Series
    standard: str | None = None

    @property
    def told(self) -> StampPlace:
        """What is said of both, as of a place in the events."""
        reason = self.place.reason.replace(", it stands at the start", "")
        told = replace(self.place, place=f"in `{self.date}` and `{self.clock}`", reason=reason)
        if self.standard is not None:
            return replace(told, zone=f"{self.standard}, as the format of the log says")
        return told if self.zone is None else replace(told, zone=f"in `{self.zone}`")

    @property
    def rule(self) -> dict[str, Any]:
        """The time rule of a parser file."""
        date, clock = formats(self.place.format, self.texts)
        rule: dict[str, Any] = {"from": self.clock, "format": clock, "date": {"from": self.date, "format": date}}
        zone = self.standard or ({"from": self.zone} if self.zone is not None else None)
        return rule if zone is None else {**rule, "zone": zone}


def parted(columns: Mapping[str, pl.Series], reference: datetime) -> Parted | None:
    """The two fields of the event's time, where no other tells it.

    columns: the texts of the fields of events, in the order in which they stand.
    """
    names = list(columns)[:_MOST]
    probes = {name: columns[name].drop_nulls().head(_PROBE) for name in names}
    dates = [name for name in names if _are(probes[name], _dates(), _OF_DATE, name)]
    clocks = [name for name in names if _are(probes[name], _clocks(), _OF_TIME, name)]
    for date in _best_first(dates, _OF_DATE):
        for clock in sorted(_best_first(clocks, _OF_TIME), key=lambda name: _apart(names, date, name)):
            texts = pl.select(pl.concat_str([columns[date], columns[clock]], separator=" ")).to_series()
            if texts.null_count() > _MOST_MISSING * len(texts):
                continue
            texts = texts.drop_nulls()
            numbers = pl.Series(range(1, len(texts) + 1), dtype=pl.Int64)
            found = times(texts, numbers, reference)
            place = found.places[0] if found.places else None
            if place is None or not place.is_time or not _is_whole(found.texts[0], texts):
                continue
            fmt = parse_format(place.format)
            if fmt.has_date and place.unreadable <= (1 - _ALL) * len(texts):
                zone = None if fmt.has_zone else next((name for name in names if _is_zone(name, probes[name])), None)
                return Parted(date, clock, zone, place, texts)
    return None


def formats(text: str, stamps: pl.Series) -> tuple[str, str | list[str]]:
    """The format of dates, and those of times of day, of one that has both with a blank between; stamps: in it.

    >>> formats("%d.%m.%Y %I:%M:%S %p", pl.Series(["03.03.2026 10:10:41 PM"]))
    ('%d.%m.%Y', '%I:%M:%S %p')
    """
    if text != "iso8601":
        clock = _CLOCK.search(text)
        assert clock is not None
        return text[: clock.start()].rstrip(" ,"), text[clock.start() :]
    found = []
    for seconds, shape in ((":%S.%f", r":[0-9]{2}[.,][0-9]+"), (":%S", ":[0-9]{2}"), ("", "")):
        for zone, behind in (("%z", OFFSET), ("", "")):
            if stamps.str.contains(f"^[^ ]+ [0-9]{{2}}:[0-9]{{2}}{shape} ?{behind}$").any():
                found.append(f"%H:%M{seconds}{zone}")
    return "%Y-%m-%d", found[0] if len(found) == 1 else found


def _is_whole(found: pl.Series, texts: pl.Series) -> bool:
    return float((found == texts).fill_null(False).mean() or 0) >= _ALL  # type: ignore[arg-type]


def _best_first(names: Sequence[str], called: re.Pattern[str]) -> list[str]:
    return sorted(names, key=lambda name: called.search(name) is None)


def _apart(names: Sequence[str], one: str, other: str) -> tuple[bool, int]:
    """Those that are called a time first, and of these the nearest."""
    return _OF_TIME.search(other) is None, abs(names.index(one) - names.index(other))


def _are(texts: pl.Series, forms: str, called: re.Pattern[str], name: str) -> bool:
    """Whether texts have one of some forms; of digits alone, only where their field is called so."""
    if not len(texts) or float(texts.str.contains(forms).mean() or 0) < _ALL:  # type: ignore[arg-type]
        return False
    return called.search(name) is not None or not texts.str.contains(r"^[0-9]+(?:\.[0-9]+)?$").any()


def _is_zone(name: str, texts: pl.Series) -> bool:
    return bool(len(texts)) and _OF_ZONE.search(name) is not None and bool(texts.str.contains(_ZONE).all())


def _one_of(forms: Sequence[Findable], behind: str = "") -> str:
    return f"(?i)^(?:{'|'.join(form.shape for form in forms)}){behind}$"


@functools.cache
def _dates() -> str:
    return _one_of([*DATES, *(form for form in FINDABLE if form.date and not form.clock)])


@functools.cache
def _clocks() -> str:
    own = [form for form in FINDABLE if form.clock and not form.date]
    return _one_of([*CLOCKS, *own], f"(?:{HALF})?(?: ?{OFFSET})?")
