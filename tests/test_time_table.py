"""Stamps and the instants they mean: tables whose expectations come from `datetime` and `zoneinfo` alone."""

from __future__ import annotations

import calendar
import functools
import itertools
import re
import unittest
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from email.utils import parsedate_to_datetime
from typing import NamedTuple
from zoneinfo import ZoneInfo

import numpy as np
import polars as pl
from hypothesis import assume, given
from hypothesis import strategies as st

import kinglet
from kinglet.timestamps import notes
from kinglet.timestamps.abbreviations import OFFSETS, SEVERAL
from kinglet.timestamps.formats import parse_format
from kinglet.timestamps.reading import TimeReading, read
from kinglet.timestamps.stamps import Stamps
from kinglet.timestamps.stamps_in_text import format_of, stamps
from kinglet.timestamps.why_unread import why
from tests.helpers import examples, with_pattern

MANY = 20
"""So many times the cases of a format make a column that is read by its layout, once numpy is there."""
NOON = datetime(2026, 3, 5, 12, tzinfo=UTC)
ZONES = ("UTC", "Europe/Lisbon", "Atlantic/Azores", "Asia/Kolkata", "America/St_Johns")
MOMENTS = [
    datetime(2026, 3, 3, 22, 10, 41, 7_000, UTC),
    datetime(2026, 1, 1, 0, 0, 0, 0, UTC),
    datetime(2025, 12, 31, 23, 59, 59, 999_999, UTC),
    datetime(2024, 2, 29, 12, 0, 0, 120_000, UTC),
    datetime(2026, 3, 29, 0, 59, 59, 0, UTC),  # the clocks of both harbours go forward at 01:00 UTC
    datetime(2026, 3, 29, 1, 0, 0, 0, UTC),
    datetime(2026, 10, 25, 0, 30, 0, 500_000, UTC),  # and back again
    datetime(2026, 10, 25, 1, 30, 0, 0, UTC),
    datetime(2000, 1, 1, 12, 34, 56, 789_012, UTC),
    datetime(1999, 11, 30, 1, 2, 3, 0, UTC),
    datetime(2069, 7, 4, 9, 8, 7, 0, UTC),
]


class Way(NamedTuple):
    """A format, how text of it is written, the digits of its second that survive, and whether it says the zone."""

    format: str
    write: Callable[[datetime], str]
    digits: int = 0
    has_zone: bool = False
    step: timedelta = timedelta(seconds=1)


def by(pattern: str) -> Callable[[datetime], str]:
    return lambda local: local.strftime(pattern)


def colon(local: datetime) -> str:
    text = local.strftime("%z")
    return f"{text[:3]}:{text[3:5]}"


def bare(pattern: str) -> Callable[[datetime], str]:
    """Written without the zeros that stand before numbers."""
    return lambda local: " ".join(
        "/".join(str(int(number)) if number.isdigit() else number for number in word.split("/"))
        for word in local.strftime(pattern).split(" ")
    )


def micros(local: datetime) -> int:
    return (local - datetime(1970, 1, 1, tzinfo=UTC)) // timedelta(microseconds=1)


SECOND, MINUTE = timedelta(seconds=1), timedelta(minutes=1)
WAYS = [
    Way("iso8601", by("%Y-%m-%dT%H:%M:%S")),
    Way("iso8601", by("%Y-%m-%d %H:%M:%S,%f"), 6),
    Way("iso8601", by("%Y-%m-%dT%H:%M"), step=MINUTE),
    Way("iso8601", by("%Y%m%dT%H%M%S%z"), has_zone=True),
    Way("iso8601", by("%Y%m%dT%H%M%S.%f%z"), 6, True),
    Way("iso8601", lambda local: local.strftime("%Y-%m-%dT%H:%M:%S.%f") + colon(local), 6, True),
    Way("iso8601", lambda local: local.strftime("%G-W%V-%uT%H:%M:%S") + colon(local), has_zone=True),
    Way("iso8601", by("%GW%V%uT%H%M%S")),
    Way("iso8601", by("%Y-%jT%H:%M:%S")),
    Way("iso8601", by("%Y%jT%H%M%S")),
    Way("rfc5322", by("%a, %d %b %Y %H:%M:%S %z"), has_zone=True),
    Way("rfc5322", by("%d %b %Y %H:%M %z"), has_zone=True, step=MINUTE),
    Way("ncsa", by("%d/%b/%Y:%H:%M:%S %z"), has_zone=True),
    Way("%Y-%m-%d %H:%M:%S", by("%Y-%m-%d %H:%M:%S")),
    Way("%F %T.%f", by("%Y-%m-%d %H:%M:%S.%f"), 6),
    Way("%d.%m.%Y %T:%f", lambda local: f"{local:%d.%m.%Y %H:%M:%S:}{local.microsecond // 1000:03}", 3),
    Way("%d/%m/%Y %H:%M:%S", by("%d/%m/%Y %H:%M:%S")),
    Way("%m/%d/%Y %H:%M", bare("%m/%d/%Y %H:%M"), step=MINUTE),
    Way("%m/%d/%Y %I:%M:%S %p", by("%m/%d/%Y %I:%M:%S %p")),
    Way("%D %l:%M:%S%p", lambda local: f"{local:%m/%d/%y} {local.hour % 12 or 12:2}" + f"{local::%M:%S%p}".lower()),
    Way("%y%m%d %T", by("%y%m%d %H:%M:%S")),
    Way("%A, %d %B %Y %T", by("%A, %d %B %Y %H:%M:%S")),
    Way("%c", lambda local: f"{local:%a %b} {local.day:2} {local:%H:%M:%S %Y}"),
    Way("%b %e %Y %k:%M:%S", lambda local: f"{local:%b} {local.day:2} {local.year} {local.hour:2}:{local:%M:%S}"),
    Way("%d-%b-%Y %H.%M.%S", lambda local: local.strftime("%d-%b-%Y %H.%M.%S").upper()),
    Way("%Y day %j at %H:%M:%S", by("%Y day %j at %H:%M:%S")),
    Way("%Y-%m-%d[[ %H:%M:%S[[.%f]]]][[ %z]]", by("%Y-%m-%d %H:%M:%S.%f %z"), 6, True),
    Way("%Y-%m-%d %H:%M:%S %Z", lambda local: local.strftime("%Y-%m-%d %H:%M:%S ") + str(local.tzinfo), step=SECOND),
    Way("%s", lambda local: str(micros(local) // 10**6), has_zone=True),
    Way("epoch", lambda local: f"{micros(local) // 10**6}.{micros(local) // 1000 % 1000:03}", 3, True),
    Way("epoch_ms", lambda local: str(micros(local) // 1000), 3, True),
    Way("epoch_us", lambda local: str(micros(local)), 6, True),
    Way("epoch_ns", lambda local: str(micros(local) * 1000 + 7), 6, True),
    Way("epoch_any", lambda local: str(micros(local)), 6, True),
]  # fmt: skip


DATES = (
    "%Y-%m-%d", "%d/%m/%Y", "%d.%m.%y", "%Y%m%d", "%d %b %Y", "%b %d, %Y", "%A, %B %d, %Y", "%d%b%Y", "%Y-%b-%d",
    "%Y/%m/%d", "%Y.%m.%d", "%d.%m.%Y", "%d-%m-%Y", "%d-%m-%y", "%d/%m/%y", "%d-%b-%Y", "%d/%b/%Y", "%d.%b.%Y",
    "%d %b %y", "%d-%b-%y", "%b %d %Y", "%B %d, %Y", "%d %B %Y", "%a %d %b %Y", "%a, %d %b %Y", "%A %d %B %Y",
    "%a %b %d %Y", "%Y %b %d", "%Y/%b/%d", "%b-%d-%Y", "%b/%d/%Y", "%d. %B %Y", "%G-W%V-%u", "%d. %m. %Y",
)  # fmt: skip
CLOCKS = (
    "%H:%M:%S", "%H.%M.%S", "%H%M%S", "%I:%M:%S %p", "%H:%M", "%H:%M:%S.%f", "%H:%M:%S,%f", "%I:%M %p", "%I:%M:%S%p",
    "%Hh%Mm%Ss", "%H-%M-%S", "%I:%M:%S p.m.",
    "%H.%M.%S.%f", "%H-%M-%S.%f", "%H%M%S.%f", "%H%M%S,%f", "%H%M%S%f", "%H:%M:%S UTC", "%H:%M:%S +0200", "%H:%M:%SZ",
)  # fmt: skip
BETWEEN = ("  ", ", ", "T", "-", "_", " - ", "/", ":", " at ", "|", ";", "\t", ".", "@")


def meant(way: Way, local: datetime) -> datetime:
    """The instant that the text stands for: what was written of it, of two readings the first."""
    keep = way.step if not way.digits else timedelta(microseconds=10 ** (6 - way.digits))
    shown = local.replace(second=0, microsecond=0) if keep == MINUTE else local
    shown = shown.replace(microsecond=shown.microsecond // (keep.microseconds or 1_000_000) * (keep.microseconds or 0))
    return shown.astimezone(UTC) if way.has_zone else shown.replace(fold=0).astimezone(UTC)


@functools.cache
def cases() -> tuple[tuple[Way, str, str, datetime], ...]:
    found = []
    for way in WAYS:
        for zone in ZONES:
            for moment in MOMENTS:
                local = moment.astimezone(ZoneInfo(zone))
                found.append((way, zone, way.write(local), meant(way, local)))
    return tuple(found)


def of(*texts: str | None, fmt: str, zone: str | None = None, pivot: int = 70, at: datetime = NOON) -> Stamps:
    return read(pl.Series(texts, dtype=pl.String), TimeReading((parse_format(fmt),), zone, pivot=pivot), at)


HAND = [
    # format, text, instant in UTC; none where there is no such moment
    ("iso8601", "2026-03-03T22:10:41.1Z", "2026-03-03T22:10:41.100000"),
    ("iso8601", "2026-03-03T22:10:41.123456789Z", "2026-03-03T22:10:41.123456"),
    ("iso8601", "2026-03-03T22:10:41,12345+02", "2026-03-03T20:10:41.123450"),
    ("iso8601", "2026-03-03T22:10:41 +0200", "2026-03-03T20:10:41"),
    ("iso8601", "2026-03-03T22:10:41-00:00", "2026-03-03T22:10:41"),
    ("iso8601", "2026-03-03T22Z", "2026-03-03T22:00:00"),
    ("iso8601", "2026-03-03T24:00:00Z", "2026-03-04T00:00:00"),
    ("iso8601", "2026-12-31T23:59:60Z", "2027-01-01T00:00:00"),
    ("iso8601", "20260303", "2026-03-03T00:00:00"),
    ("iso8601", "2026-W01-1", "2025-12-29T00:00:00"),
    ("iso8601", "2020-W53-7", "2021-01-03T00:00:00"),
    ("iso8601", "2026-366", None),
    ("iso8601", "2024-366", "2024-12-31T00:00:00"),
    ("iso8601", "2026-000", None),
    ("iso8601", "2025-W53-1", None),
    ("iso8601", "2026-W10-8", None),
    ("iso8601", "2026-W00-1", None),
    ("iso8601", "2026-02-29", None),
    ("iso8601", "2024-02-30T00:00:00", None),
    ("iso8601", "1900-02-29", None),
    ("iso8601", "2000-02-29", "2000-02-29T00:00:00"),
    ("iso8601", "2026-04-31", None),
    ("iso8601", "2026-13-01", None),
    ("iso8601", "2026-00-01", None),
    ("iso8601", "2026-03-00", None),
    ("iso8601", "0000-03-03", None),
    ("iso8601", "0001-01-01", "0001-01-01T00:00:00"),
    ("iso8601", "2026-03-03T25:00:00", None),
    ("iso8601", "2026-03-03T24:00:01", None),
    ("iso8601", "2026-03-03T22:60:00", None),
    ("iso8601", "2026-03-03T22:10:61", None),
    ("iso8601", "2026-03-03T22:10:41+24:00", None),
    ("iso8601", "2026-03-03T22:10:41+02:60", None),
    ("iso8601", "2026-3-3", None),
    ("iso8601", " 2026-03-03", None),
    ("iso8601", "2026-03-03 ", None),
    ("iso8601", "", None),
    ("rfc5322", "Tue, 3 Mar 2026 22:10:41 GMT", "2026-03-03T22:10:41"),
    ("rfc5322", "3 Mar 2026 22:10:41 EST", "2026-03-04T03:10:41"),
    ("rfc5322", "3 Mar 2026 22:10:41 PST", "2026-03-04T06:10:41"),
    ("rfc5322", "Mon, 3 Mar 2026 22:10:41 +0000", None),
    ("rfc3164", "Mar  3 22:10:41", "2026-03-03T22:10:41"),
    ("rfc3164", "Mar 03 22:10:41.5", "2026-03-03T22:10:41.500000"),
    ("rfc3164", "Feb 30 22:10:41", None),
    ("%b %e %H:%M", "mar  3 09:05", "2026-03-03T09:05:00"),
    ("%B %d, %Y %I:%M %p", "MARCH 3, 2026 12:00 AM", "2026-03-03T00:00:00"),
    ("%B %d, %Y %I:%M %p", "Sept 3, 2026 12:00 p.m.", "2026-09-03T12:00:00"),
    ("%B %d, %Y %I:%M %p", "March 3, 2026 13:00 PM", None),
    ("%B %d, %Y %I:%M %p", "March 3, 2026 00:00 AM", None),
    ("%B %d, %Y", "Mai 3, 2026", None),
    ("%a %d %b %Y", "TUE 03 MAR 2026", "2026-03-03T00:00:00"),
    ("%w %Y-%m-%d", "2 2026-03-03", "2026-03-03T00:00:00"),
    ("%u %Y-%m-%d", "3 2026-03-03", None),
    ("%Y-%m-%d %H:%M:%S %Z", "2026-03-03 22:10:41 WEST", "2026-03-03T21:10:41"),
    ("%Y-%m-%d %H:%M:%S %Z", "2026-03-03 22:10:41 utc", "2026-03-03T22:10:41"),
    ("%Y-%m-%d %H:%M:%S %Z", "2026-07-03 22:10:41 Atlantic/Azores", "2026-07-03T22:10:41"),
    ("%Y-%m-%d %H:%M:%S %Z", "2026-03-03 22:10:41 CST", None),
    ("%Y-%m-%d %H:%M:%S %Z", "2026-03-03 22:10:41 XYZ", None),
    ("at %H:%M on %d.%m.%Y!", "at 22:10 on 03.03.2026!", "2026-03-03T22:10:00"),
    ("%Y%%%m%%%d", "2026%03%03", "2026-03-03T00:00:00"),
    ("%Y-%m-%d %H:%M", "2026-03-03    22:10", "2026-03-03T22:10:00"),
    ("%d%m%Y", "03032026", "2026-03-03T00:00:00"),
    ("epoch", "0", "1970-01-01T00:00:00"),
    ("epoch", "1772575841.123456789", "2026-03-03T22:10:41.123456"),
    ("epoch", "-0.5", "1969-12-31T23:59:59.500000"),
    ("epoch", "1e9", None),
    ("epoch", "", None),
    ("epoch_ms", "1772575841123.5", "2026-03-03T22:10:41.123500"),
    ("epoch_ns", "-1", "1969-12-31T23:59:59.999999"),
    ("epoch_any", "1772575841", "2026-03-03T22:10:41"),
    ("epoch_any", "1772575841.25", "2026-03-03T22:10:41.250000"),
    ("epoch_any", "1772575841123", "2026-03-03T22:10:41.123000"),
    ("epoch_any", "1772575841123456789", "2026-03-03T22:10:41.123456"),
    ("%s.%f", "1772575841.25", "2026-03-03T22:10:41.250000"),
]


def plain(stamps: Stamps) -> list[str | None]:
    return [None if value is None else value.replace(tzinfo=None).isoformat() for value in stamps.time]


class Tables(unittest.TestCase):
    def test_every_way_of_writing_in_every_zone(self) -> None:
        count = 0
        for (way, zone), some in itertools.groupby(cases(), key=lambda case: case[:2]):
            rows = [(text, instant) for _, _, text, instant in some]
            old = [(text, instant) for text, instant in rows if instant.year < 2000]
            for pivot, part in ((69, old), (70, [row for row in rows if row not in old])):
                texts = [text for text, _ in part]
                found = of(*texts, fmt=way.format, zone=None if way.has_zone else zone, pivot=pivot).time.to_list()
                with self.subTest(format=way.format, zone=zone):
                    self.assertEqual([(text, instant) for text, instant in part], list(zip(texts, found, strict=True)))
                count += len(part)
        self.assertGreaterEqual(count, 300)

    def test_the_shape_of_a_format_is_that_of_its_forms(self) -> None:
        for name in ("iso8601", "rfc5322"):
            fmt = parse_format(name)
            texts = [text for _, text, _ in HAND] + [way.write(at) for way in WAYS for at in MOMENTS]
            for text in (*texts, *(text[:-1] for text in texts), *(f"{text}0" for text in texts)):
                whole = bool(re.fullmatch(fmt.shape, text))
                self.assertEqual(whole, any(re.match(form.regex, text) for form in fmt.forms), (name, text))

    def test_large_columns_are_read_alike(self) -> None:
        """Many stamps of one format together give what each gives alone, whatever stands between them."""
        self.assertTrue(np.__version__)
        for way in WAYS:
            for zone in ("Atlantic/Azores",):
                texts: list[str | None] = [text for other, its, text, _ in cases() if other is way and its == zone]
                texts += [None, "", "no stamp", texts[0] + "x" if texts[0] else "", *texts[:3]]
                alone = of(*texts, fmt=way.format, zone=zone)
                with self.subTest(format=way.format, zone=zone):
                    together = of(*(texts * MANY), fmt=way.format, zone=zone)
                    self.assertEqual(alone.time.to_list() * MANY, together.time.to_list())
                    self.assertEqual(alone.notes.to_list() * MANY, together.notes.to_list())

    def test_by_hand(self) -> None:
        for fmt, text, instant in HAND:
            with self.subTest(fmt=fmt, text=text):
                self.assertEqual([instant], plain(of(text, fmt=fmt)))
                other = "2026-03-03T00:00:01Z" if fmt == "iso8601" else text
                self.assertEqual(instant, plain(of(*[text, other] * 150, fmt=fmt))[-2])

    def test_what_is_found_is_read_as_it_was_meant(self) -> None:
        seen = 0
        for way, zone, text, instant in cases():
            found = stamps(f"<{text}>")
            if (
                zone != "Europe/Lisbon"
                or instant.hour == 0
                or way.format in ("%s", "epoch_any")
                or len(found) != 1
                or instant.year < 2001
            ):
                continue
            start, end = found[0].start, found[0].end
            if f"<{text}>"[start:end] != text or not found[0].form.date:
                continue
            spec = format_of(found[0].form, text, swapped=bool(found[0].form.swapped) and "%m/%d" in way.format)
            with self.subTest(text=text, format=spec):
                pivot = 70 if instant.year < 2069 else 60
                if "%y" not in spec:
                    self.assertEqual(instant, of(text, fmt=spec, zone=zone, pivot=pivot).time.item())
                seen += 1
        self.assertGreater(seen, 80)

    def test_zones_in_brackets_and_days_of_the_year(self) -> None:
        for text in (
            "2026-11-23 21:05:44 (UTC)", "2026-11-23T22:05:44.000 (CET)", "23/11/2026 23:05:44 (GMT+2)",
            "2026.327 21:05:44", "2026/327 210544", "Nov 23 21:05:44 2026", "23 Nov 21:05:44 2026 UTC",
        ):  # fmt: skip
            with self.subTest(text=text):
                (found,) = stamps(f"{text} gate 17 opened")
                self.assertEqual((0, len(text)), (found.start, found.end))
                spec = format_of(found.form, text)
                self.assertEqual([datetime(2026, 11, 23, 21, 5, 44, tzinfo=UTC)], of(text, fmt=spec).time.to_list())

    def test_a_date_and_a_time_of_day_however_they_are_joined(self) -> None:
        moment = datetime(2026, 11, 23, 21, 5, 44, 120_000, UTC)
        every = itertools.product(range(len(DATES)), range(len(CLOCKS)))
        ways = [(DATES[i], CLOCKS[k], " ") for i, k in every if (i + k) % 3 == 0]
        ways += [(date, clock, between) for date in DATES[:4] for clock in CLOCKS[:2] for between in BETWEEN]
        for date, clock, between in ways:
            text = f"{moment:{date}}{between}{moment:{clock}}"
            found = stamps(f"{text} gate 17 opened")
            with self.subTest(text=text):
                self.assertEqual([(0, len(text))], [(stamp.start, stamp.end) for stamp in found])
                form = found[0].form
                specs = [format_of(form, text, swapped=other) for other in (False, bool(form.swapped))]
                meant = moment.replace(
                    microsecond=moment.microsecond if "%f" in clock else 0, second=44 if "%S" in clock else 0
                ) - timedelta(hours=2 * ("+" in clock))
                self.assertIn(meant, [of(text, fmt=spec).time.item() for spec in specs])

    def test_what_stands_close_together_is_found_whole(self) -> None:
        moment = datetime(2026, 11, 20, 8, 0, 15, 497000, UTC)
        for form in ("%m%d %H:%M:%S.%f", "%m%d %H:%M:%S", "%y%m%d %H:%M:%S"):
            text = f"{moment:{form}}"
            for letter in "IWE":
                (stamp,) = stamps(f"{letter}{text} gate 17")
                self.assertEqual(
                    (form, text), (format_of(stamp.form, text), f"{letter}{text}"[stamp.start : stamp.end])
                )
                self.assertEqual([(1, 1 + len(text))], [(stamp.start, stamp.end)])
                value = of(text, fmt=form, at=moment).time.item()
                self.assertEqual(moment.replace(microsecond=moment.microsecond if "%f" in form else 0), value)
        for sign, fraction in itertools.product("-_T ", ("", ".%f", ",%f")):
            text = f"{moment:%y%m%d{sign}%H%M%S{fraction}}"
            (stamp,) = stamps(f"a {text}|gate")
            self.assertEqual(f"%y%m%d{sign}%H%M%S{fraction}", format_of(stamp.form, text))
            self.assertEqual(len(text), stamp.end - stamp.start)
        for text in ("20261120080015497", "20261120-080015497", "20261120080015497000", "2026112008001549700"):
            (stamp,) = stamps(text)
            self.assertEqual(moment, of(text, fmt=format_of(stamp.form, text)).time.item())
        for text, form in (
            ("261120;08:00:15.497", "%y%m%d;%H:%M:%S.%f"),
            ("261120T08:00:15", "%y%m%dT%H:%M:%S"),
            ("2026-W47-5 08:00:15,497", "%G-W%V-%u %H:%M:%S,%f"),
            ("08.00.15 - 20 Nov 2026", "%H.%M.%S - %d %b %Y"),
            ("08:00:15.497 Fri, 20 Nov 2026", "%H:%M:%S.%f %a, %d %b %Y"),
            ("08:00 AM 2026 Nov 20", "%I:%M %p %Y %b %d"),
            ("08:00 20/11/2026", "%H:%M %d/%m/%Y"),
            ("20.11. 08:00:15", "%d.%m. %H:%M:%S"),
            ("20/11  08:00:15,497", "%d/%m %H:%M:%S,%f"),
            ("2026/11/20 080015-0330", "%Y/%m/%d %H%M%S%z"),
            ("20261120-040015-04", "%Y%m%d-%H%M%S%z"),
            ("2026-Nov-20 08:00 AM-05", "%Y-%b-%d %I:%M %p%z"),
            ("2026-11-20 09:00:15.497 [CET]", "%Y-%m-%d %H:%M[[:%S.%f]] [%Z]"),
            ("20 Nov 2026 08:00:15 [+00:00]", "%d %b %Y %H:%M:%S [%z]"),
        ):
            (stamp,) = stamps(f"a {text} gate")
            self.assertEqual((text, form), (f"a {text}"[stamp.start : stamp.end], format_of(stamp.form, text)))
            wanted = moment.replace(
                hour=11 if "-0330" in text else 13 if text.endswith("-05") else 8,
                minute=30 if "-0330" in text else 0,
                second=15 if "15" in text else 0,
                microsecond=497000 if "497" in text else 0,
            )
            self.assertEqual(wanted, of(text, fmt=form, at=moment).time.item(), text)
        # numbers beside a time of day, and names of numbers and letters, are no dates
        for text in ("pid 1120 08:00:15", "1120 08:00:15", "AB1120 08:00:15", "I1320 08:00:15", "x1120 08:00:15"):
            (stamp,) = stamps(text)
            self.assertEqual("%H:%M:%S", stamp.form.format, text)
        for text in (
            "E4101",
            "A20261120",
            "W261120",
            "131320-080015",
            "201120-250000",
            "P1120 8 gates",
            "pid 101010 20 gates",
            "gate 3/4, 261120; 8 open",
        ):
            self.assertEqual([], stamps(text), text)

    def test_years_of_two_digits_turn_at_the_pivot(self) -> None:
        for text, pivot, year in (
            ("70", 70, 1970),
            ("69", 70, 2069),
            ("00", 0, 1900),
            ("99", 100, 2099),
            ("26", 27, 2026),
        ):
            with self.subTest(text=text, pivot=pivot):
                self.assertEqual(year, of(f"{text}-03-03", fmt="%y-%m-%d", pivot=pivot).time.item().year)
        self.assertIsNone(of("00-02-29", fmt="%y-%m-%d", pivot=0).time.item())  # 1900 had no such day

    @given(
        st.datetimes(
            datetime(1971, 1, 1), datetime(2068, 12, 31), timezones=st.sampled_from(list(map(ZoneInfo, ZONES)))
        ),
        st.sampled_from(WAYS),
    )
    @examples(36)
    def test_any_instant_survives_any_way_of_writing_it(self, moment: datetime, way: Way) -> None:
        assume(
            way.format != "epoch_any" or moment.year > 1973
        )  # its unit is told by its digits, of which these have few
        zone = str(moment.tzinfo)
        local = moment.astimezone(UTC).astimezone(ZoneInfo(zone))
        pivot = local.year % 100 if local.year < 2000 else min(local.year % 100 + 1, 100)
        found = of(way.write(local), fmt=way.format, zone=None if way.has_zone else zone, pivot=pivot).time.item()
        self.assertEqual(meant(way, local), found)


class Years(unittest.TestCase):
    """A year that the text leaves out, against a plain search through the years."""

    @given(st.datetimes(datetime(1980, 1, 1), datetime(2060, 1, 1)), st.integers(0, 365), st.sampled_from(ZONES))
    @examples(40)
    def test_the_latest_that_is_no_more_than_a_day_ahead(self, at: datetime, day: int, zone: str) -> None:
        reference = at.replace(tzinfo=UTC)
        written = datetime(2000, 1, 1, 13, 30) + timedelta(days=day)
        wanted = None
        for year in range(reference.year + 2, reference.year - 10, -1):
            if written.month == 2 and written.day == 29 and not calendar.isleap(year):
                continue
            instant = written.replace(year=year, tzinfo=ZoneInfo(zone)).astimezone(UTC)
            if instant <= reference + timedelta(days=1):
                wanted = instant
                break
        text = written.strftime("%b %d %H:%M:%S")
        found = of(text, fmt="%b %e %H:%M:%S", zone=zone, at=reference)
        self.assertEqual(wanted, found.time.item())
        self.assertEqual(["year-nearest"], notes.named(found.notes.item()))

    def test_a_weekday_tells_the_year(self) -> None:
        for text, year, note in (
            ("Tue Mar  3 10:00:00", 2026, "year-nearest"),
            ("Mon Mar  3 10:00:00", 2025, "year-by-weekday"),
            ("Fri Mar  3 10:00:00", 2023, "year-by-weekday"),
            ("Sat Feb 29 10:00:00", 2020, "year-by-weekday"),
        ):
            with self.subTest(text=text):
                found = of(text, fmt="%a %b %e %H:%M:%S")
                self.assertEqual(year, found.time.item().year)
                self.assertEqual([note], notes.named(found.notes.item()))

    def test_each_log_has_its_own_reference(self) -> None:
        references = pl.Series([datetime(2026, 1, 1, tzinfo=UTC), datetime(2020, 6, 1, tzinfo=UTC)])
        texts = pl.Series(["Dec 31 23:00:00", "Dec 31 23:00:00"])
        found = read(texts, TimeReading((parse_format("rfc3164"),)), references)
        self.assertEqual([2025, 2019], found.time.dt.year().to_list())


class ZonesAndNotes(unittest.TestCase):
    def test_abbreviations_are_those_of_the_zone_database(self) -> None:
        for zone, when, name in (
            ("Europe/Lisbon", datetime(2026, 7, 1), "WEST"), ("Europe/Berlin", datetime(2026, 1, 1), "CET"),
            ("America/New_York", datetime(2026, 7, 1), "EDT"), ("Asia/Tokyo", datetime(2026, 7, 1), "JST"),
        ):  # fmt: skip
            local = when.replace(tzinfo=ZoneInfo(zone))
            self.assertEqual(name, local.tzname())
            self.assertEqual(OFFSETS[name] * 60, (local.utcoffset() or timedelta()).total_seconds())
        self.assertFalse(set(OFFSETS) & set(SEVERAL))

    def test_a_parser_says_what_an_abbreviation_means(self) -> None:
        reading = TimeReading((parse_format("%F %T %Z"),), zones=(("CST", "Asia/Shanghai"), ("AZOT", "-01:00")))
        texts = pl.Series(["2026-03-03 10:00:00 CST", "2026-03-03 10:00:00 azot", "2026-03-03 10:00:00 IST"])
        self.assertEqual([2, 11, None], read(texts, reading, NOON).time.dt.hour().to_list())

    def test_an_offset_behind_the_name_of_what_it_is_from(self) -> None:
        for text, hours in (("GMT+1", 1), ("UTC-05:30", -5.5), ("gmt+0930", 9.5), ("UTC+0", 0), ("Etc/GMT+1", -1)):
            with self.subTest(text=text):
                found = of(f"2026-03-05 12:00:00 {text}", fmt="%Y-%m-%d %H:%M:%S %Z")
                self.assertEqual([NOON - timedelta(hours=hours)], found.time.to_list())
        for text in ("GMT+15", "UTC+1:75", "UTC+"):
            self.assertEqual([None], of(f"2026-03-05 12:00:00 {text}", fmt="%Y-%m-%d %H:%M:%S %Z").time.to_list())

    def test_repeated_and_skipped_hours_bear_a_note(self) -> None:
        found = of("2026-10-25 01:30", "2026-10-25 02:00", "2026-03-29 01:30", fmt="%F %R", zone="Europe/Lisbon")
        names = [notes.named(bits) for bits in found.notes]
        self.assertEqual([["hour-twice-first"], [], ["hour-skipped"]], names)
        assert found.later is not None
        self.assertEqual([datetime(2026, 10, 25, 1, 30, tzinfo=UTC), None, None], found.later.to_list())
        fixed = of("2026-10-25 01:30 WET", "2026-10-25 01:30 WEST", fmt="%F %R %Z", zone="Europe/Lisbon")
        self.assertEqual(([1, 0], [0, 0]), (fixed.time.dt.hour().to_list(), fixed.notes.to_list()))

    def test_nanoseconds_are_kept_beside_the_instant(self) -> None:
        for fmt, text in (("iso8601", "2026-03-03T22:10:41.123456789Z"), ("epoch_ns", "1772575841123456789")):
            for count in (1, 6000):
                found = of(*[text] * count, fmt=fmt)
                assert found.beyond is not None
                self.assertEqual([789] * count, found.beyond.to_list())

    def test_why_a_stamp_cannot_be_read(self) -> None:
        for fmt, text, said in (
            ("%d/%b/%Y", "30/Feb/2026", "has the day 30, which February 2026 lacks"),
            ("%d/%b", "31/Apr", "has the day 31, which April lacks"), ("%d/%m/%Y", "01/13/2026", "has the month 13"),
            ("%d/%m/%Y", "32/01/2026", "has the day 32"), ("%F %R", "2026-03-03 25:00", "has the hour 25"),
            ("%F %T", "2026-03-03 22:61:00", "has the minute 61"), ("%d %b", "3 Mai", "has a month of no known name"),
            ("%a %F", "Mon 2026-03-03", "is a Tuesday, not a Monday"),
            ("iso8601", "soon", "is no time in the format iso8601"),
            ("%F %T %Z", "2026-03-03 22:10:41 CST", "may mean -06:00, -05:00, +08:00; say which under `clock.zones`"),
            ("%F %T %Z", "2026-03-03 22:10:41 QQQ", "which is not known"),
            ("%F %T %z", "2026-03-03 22:10:41 +25:00", "an offset that no clock has"),
        ):  # fmt: skip
            with self.subTest(text=text):
                self.assertIn(said, why(text, TimeReading((parse_format(fmt),))))


class Edges(unittest.TestCase):
    def test_the_names_of_zones_in_mail_dates_are_those_of_the_standard_library(self) -> None:
        parser = kinglet.load(with_pattern("{t:time}") + "time: {from: t, format: rfc5322}\n")
        texts = [
            f"Tue, 03 Mar 2026 22:10:41 {name}"
            for name in ["EST", "EDT", "CST", "CDT", "MST", "MDT", "PST", "PDT", "GMT"]
        ]
        expected = [parsedate_to_datetime(text).astimezone(UTC) for text in texts]
        self.assertEqual(expected, parser.parse(texts).events["time"].to_list())

    def test_the_nearest_year_ends_a_day_after_the_reference(self) -> None:
        parser = kinglet.load(with_pattern("{t:time}") + "time: {from: t, format: '%d/%b %H:%M:%S', zone: UTC}\n")
        texts = ["05/Mar 12:00:00", "05/Mar 12:00:01", "06/Mar 00:00:00"]
        found = parser.parse(texts, reference_time="2026-03-04T12:00:00Z").events["time"].dt.year().to_list()
        self.assertEqual([2026, 2025, 2025], found)


if __name__ == "__main__":
    unittest.main()
