"""Reads a column of stamps one way and prints how many it read and the seconds it took, without start-up.

    python benchmarks/stamps.py WAY FORM COUNT

WAY is kinglet, strptime, pandas or polars; FORM one of FORMS. Five events a second on average, at
irregular intervals, as in a busy log.
"""

from __future__ import annotations

import random
import sys
import time
import warnings
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from typing import NamedTuple

import polars as pl

REFERENCE = datetime(2026, 6, 1, tzinfo=UTC)


class Form(NamedTuple):
    """How a stamp is written, and how each way is told to read it; nothing where it cannot."""

    write: Callable[[datetime], str]
    kinglet: tuple[str, ...]
    strptime: str = ""
    polars: str = ""
    zone: str | None = None


def _millis(pattern: str, between: str = ".") -> Callable[[datetime], str]:
    return lambda at: f"{at.strftime(pattern)}{between}{at.microsecond // 1000:03}"


_DAY = "%Y-%m-%d %H:%M:%S"
_MIXED = (
    f"{_DAY}.%f",
    "%d/%b/%Y:%H:%M:%S.%f",
    "%d.%m.%Y %H:%M:%S,%f",
    "%b %d %Y %H:%M:%S.%f",
    "%Y%m%d%H%M%S.%f",
)
_HALVES = "%m/%d/%Y %I:%M:%S %p"


def _mixed(at: datetime) -> str:
    return _millis(_MIXED[at.microsecond % 5][:-3], _MIXED[at.microsecond % 5][-3])(at)


FORMS = {
    "day and time": Form(lambda at: at.strftime(_DAY), (_DAY,), _DAY, _DAY),
    "the same, Azores": Form(lambda at: at.strftime(_DAY), (_DAY,), _DAY, _DAY, "Atlantic/Azores"),
    "RFC 3339, microseconds": Form(
        lambda at: at.isoformat(timespec="microseconds") + "+01:00",
        ("iso8601",),
        "%Y-%m-%dT%H:%M:%S.%f%z",
        "%Y-%m-%dT%H:%M:%S%.f%:z",
    ),
    "milliseconds": Form(_millis(_DAY), (f"{_DAY}.%f",), f"{_DAY}.%f", f"{_DAY}%.f"),
    "NCSA": Form(
        lambda at: at.strftime("%d/%b/%Y:%H:%M:%S +0000"), ("ncsa",), "%d/%b/%Y:%H:%M:%S %z", "%d/%b/%Y:%H:%M:%S %z"
    ),
    "12 hours": Form(lambda at: at.strftime(_HALVES), (_HALVES,), _HALVES, _HALVES),
    "month name": Form(
        lambda at: at.strftime("%d %B %Y %H:%M:%S"), ("%d %B %Y %H:%M:%S",), "%d %B %Y %H:%M:%S", "%d %B %Y %H:%M:%S"
    ),
    "RFC 3164, no year": Form(lambda at: at.strftime("%b %d %H:%M:%S"), ("rfc3164",)),
    "comma before milliseconds": Form(_millis(_DAY, ","), (f"{_DAY},%f",), f"{_DAY},%f"),
    "zone names": Form(lambda at: at.strftime(f"{_DAY} WEST"), (f"{_DAY} %Z",)),
    "ISO week": Form(lambda at: at.strftime("%G-W%V-%uT%H:%M:%S"), ("iso8601",)),
    "epoch, milliseconds": Form(lambda at: str(int(at.replace(tzinfo=UTC).timestamp() * 1000)), ("epoch_ms",)),
    "epoch, decimal seconds": Form(lambda at: f"{at.replace(tzinfo=UTC).timestamp():.3f}", ("epoch",)),
    "five mixed": Form(_mixed, _MIXED),
}


def written(form: Form, count: int) -> list[str]:
    chance = random.Random(20260302)
    at = datetime(2026, 3, 2)
    found = []
    for _ in range(count):
        at += timedelta(microseconds=chance.randrange(400_000))
        found.append(form.write(at))
    return found


def reader(way: str, form: Form, texts: list[str]) -> Callable[[], int]:
    """What is timed; it gives the number of stamps that were read."""
    column = pl.Series("stamp", texts)
    if way == "kinglet":
        from kinglet.timestamps.formats import parse_format
        from kinglet.timestamps.reading import TimeReading, read

        reading = TimeReading(tuple(map(parse_format, form.kinglet)), form.zone)
        return lambda: int(read(column, reading, REFERENCE).time.count())
    if way == "strptime":
        return lambda: len([datetime.strptime(text, form.strptime) for text in texts])
    if way == "polars":

        def convert() -> int:
            values = column.str.to_datetime(form.polars, time_unit="us")
            if form.zone is not None:
                values = values.dt.replace_time_zone(
                    form.zone, ambiguous="earliest", non_existent="null"
                ).dt.convert_time_zone("UTC")
            return int(values.count())

        return convert
    import pandas as pd

    given = pd.Series(texts)

    def to_datetime() -> int:
        values = pd.to_datetime(given, format=form.strptime)
        if form.zone is not None:
            values = values.dt.tz_localize(form.zone, ambiguous=True, nonexistent="shift_forward").dt.tz_convert("UTC")
        return int(values.count())

    return to_datetime


def main() -> None:
    way, name, count = sys.argv[1], sys.argv[2], int(sys.argv[3])
    warnings.simplefilter("ignore")
    texts = written(FORMS[name], count)
    work = reader(way, FORMS[name], texts)
    best = 1e9
    for _ in range(1 if way == "strptime" else 5):
        started = time.perf_counter()
        read = work()
        best = min(best, time.perf_counter() - started)
    print(read, best)


if __name__ == "__main__":
    main()
