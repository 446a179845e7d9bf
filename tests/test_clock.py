"""Timestamps: formats, zones, missing years."""

from __future__ import annotations

import unittest
from datetime import UTC, date, datetime, timedelta
from zoneinfo import ZoneInfo

import polars as pl
from hypothesis import given
from hypothesis import strategies as st

import kinglet
from kinglet.timestamps.directives import DIRECTIVES
from kinglet.timestamps.formats import parse_format
from kinglet.timestamps.reading import TimeReading, instants
from kinglet.timestamps.reference_time import as_moment
from tests.helpers import examples, with_pattern

NOON = datetime(2026, 3, 5, 12, tzinfo=UTC)


def read(fmt: str, *texts: str | None, zone: str | None = None, year: int | None = None) -> list[str | None]:
    """Instants as ISO text without the zone, which is always UTC."""
    column = pl.Series(texts, dtype=pl.String)
    found = instants(column, TimeReading((parse_format(fmt),), zone, year), NOON)
    return [None if value is None else value.replace(tzinfo=None).isoformat() for value in found]


FORMATS = [
    # format, text, instant in UTC
    ("iso8601", "2026-03-03T22:10:41Z", "2026-03-03T22:10:41"),
    ("iso8601", "2026-03-03t22:10:41.5z", "2026-03-03T22:10:41.500000"),
    ("iso8601", "2026-03-03 22:10:41,123", "2026-03-03T22:10:41.123000"),
    ("iso8601", "2026-03-03T22:10:41.123456789+01:00", "2026-03-03T21:10:41.123456"),
    ("iso8601", "2026-03-03T22:10+0200", "2026-03-03T20:10:00"),
    ("iso8601", "2026-03-03T22:10:41-03", "2026-03-04T01:10:41"),
    ("iso8601", "2026-03-03", "2026-03-03T00:00:00"),
    ("iso8601", "2026-13-03T22:10:41Z", None),
    ("iso8601", "yesterday", None),
    ("%Y-%m-%d %H:%M:%S", "2026-03-03 22:10:41", "2026-03-03T22:10:41"),
    ("%Y-%m-%d %H:%M:%S.%f", "2026-03-03 22:10:41.25", "2026-03-03T22:10:41.250000"),
    ("%Y-%m-%d %H:%M:%S,%f", "2026-03-03 22:10:41,123", "2026-03-03T22:10:41.123000"),
    ("%Y-%m-%d %H:%M:%S:%f", "2026-03-03 22:10:41:007", "2026-03-03T22:10:41.007000"),
    ("%d/%b/%Y:%H:%M:%S %z", "03/Mar/2026:22:10:41 +0130", "2026-03-03T20:40:41"),
    ("%d/%b/%Y:%H:%M:%S %z", "03/Mar/2026:22:10:41 -01:00", "2026-03-03T23:10:41"),
    ("%d/%b/%Y:%H:%M:%S %z", "31/Feb/2026:22:10:41 -01:00", None),
    ("%a %d %b %Y %T", "Tue 03 Mar 2026 22:10:41", "2026-03-03T22:10:41"),
    ("%A, %d %B %Y %R", "Tuesday, 03 March 2026 22:10", "2026-03-03T22:10:00"),
    ("%m/%d/%y %I:%M:%S %p", "03/04/26 10:10:41 PM", "2026-03-04T22:10:41"),
    ("%m/%d/%y %I:%M:%S %p", "03/04/26 12:10:41 am", "2026-03-04T00:10:41"),
    ("%F %T", "2026-03-03 22:10:41", "2026-03-03T22:10:41"),
    ("%D %T", "03/04/26 22:10:41", "2026-03-04T22:10:41"),
    ("%Y %j %H:%M", "2026 062 22:10", "2026-03-03T22:10:00"),
    ("at %Y%m%d%H%M%S!", "at 20260303221041!", "2026-03-03T22:10:41"),
    ("%y%m%d %H:%M", "700101 00:00", "1970-01-01T00:00:00"),
    ("%y%m%d %H:%M", "690101 00:00", "2069-01-01T00:00:00"),
    ("epoch", "1772575841", "2026-03-03T22:10:41"),
    ("epoch", "1772575841.25", "2026-03-03T22:10:41.250000"),
    ("epoch", "-1", "1969-12-31T23:59:59"),
    ("epoch", "99999999999999999999", None),
    ("epoch", "9999999999999", None),
    ("epoch_ms", "1772575841123", "2026-03-03T22:10:41.123000"),
    ("epoch_us", "1772575841123456", "2026-03-03T22:10:41.123456"),
    ("epoch_ns", "1772575841123456789", "2026-03-03T22:10:41.123456"),
]

YEARS = [
    # text, moment of reference, year that is meant
    ("Mar  4 10:00:00", NOON, 2026),
    ("Mar  6 11:00:00", NOON, 2026),  # less than a day ahead: the clock of the device is fast
    ("Mar  7 10:00:00", NOON, 2025),
    ("Dec 31 23:59:59", datetime(2026, 1, 1, 0, 5, tzinfo=UTC), 2025),
    ("Jan  1 00:00:01", datetime(2025, 12, 31, 23, 59, tzinfo=UTC), 2026),
    ("Feb 29 08:00:00", NOON, 2024),
    ("Feb 29 08:00:00", datetime(2028, 3, 1, tzinfo=UTC), 2028),
]


class Reading(unittest.TestCase):
    def test_formats(self) -> None:
        for fmt, text, instant in FORMATS:
            with self.subTest(fmt=fmt, text=text):
                self.assertEqual([instant], read(fmt, text))

    def test_every_format_reads_the_text_that_its_shape_describes(self) -> None:
        for fmt, text, instant in FORMATS:
            if instant is not None:
                with self.subTest(fmt=fmt, text=text):
                    shape = f"^{parse_format(fmt).shape}$"
                    self.assertTrue(pl.Series([text]).str.contains(shape).item())

    def test_nulls_stay_and_bad_stamps_do_not_spoil_good_ones(self) -> None:
        found = read("iso8601", None, "x", "2026-03-03", "2026-03-03T01:02:03+01:00")
        self.assertEqual([None, None, "2026-03-03T00:00:00", "2026-03-03T00:02:03"], found)

    def test_offsets_may_change_from_line_to_line(self) -> None:
        found = read("%Y-%m-%d %H:%M %z", "2026-03-29 00:30 +0000", "2026-03-29 02:30 +0100", "2026-03-29 02:30 Z")
        self.assertEqual(["2026-03-29T00:30:00", "2026-03-29T01:30:00", "2026-03-29T02:30:00"], found)

    def test_the_first_of_several_formats_that_reads_a_stamp_counts(self) -> None:
        reading = TimeReading(
            (parse_format("%Y-%m-%d %H:%M:%S"), parse_format("%d.%m.%Y %H:%M"), parse_format("epoch"))
        )
        column = pl.Series(["2026-03-03 01:02:03", "03.03.2026 04:05", "1772575841", "none"])
        found = instants(column, reading, NOON)
        self.assertEqual([1, 4, 22, None], [value.hour if value else None for value in found])

    def test_a_missing_year_is_the_one_that_puts_the_event_nearest(self) -> None:
        for text, reference, year in YEARS:
            with self.subTest(text=text, reference=reference):
                reading = TimeReading((parse_format("%b %e %H:%M:%S"),))
                found = instants(pl.Series([text]), reading, reference).item()
                self.assertEqual(year, found.year)

    def test_a_year_may_be_said(self) -> None:
        self.assertEqual(["2019-03-04T10:00:00"], read("%d/%b %H:%M", "04/Mar 10:00", year=2019))

    def test_bad_formats_say_what_would_be_right(self) -> None:
        for fmt, said in {
            "%Y-%m": "reads no date; a stamp needs at least a month and a day",
            "%p": "reads no date and no time of day",
            "%H:%M %I": "hour of twelve without %p",
            "%d %b %m": "in two ways",
            "%d %d %b": "has `%d` twice",
            "%d %e %b": "has both `%d` and `%e`",
            "%F[[ %T": r"opens `\[\[` and does not close it",
            "%F %T]]": r"closes `\]\]` what it never opened",
            "%d %b %I:%M": "add %p",
            "%Y-%m-%d %Q": "unknown directive `%Q`; known are",
            "epoch_sm": "did you mean `epoch_us`",
            "%Y-%m-%d %": "unknown directive `%`",
        }.items():
            with self.subTest(fmt=fmt), self.assertRaisesRegex(ValueError, said):
                parse_format(fmt)


class Zones(unittest.TestCase):
    def test_both_harbours_in_winter_and_summer(self) -> None:
        for zone, text, instant in [
            ("Europe/Lisbon", "2026-01-05 12:00", "2026-01-05T12:00:00"),
            ("Europe/Lisbon", "2026-07-05 12:00", "2026-07-05T11:00:00"),
            ("Atlantic/Azores", "2026-01-05 12:00", "2026-01-05T13:00:00"),
            ("Atlantic/Azores", "2026-07-05 12:00", "2026-07-05T12:00:00"),
        ]:
            with self.subTest(zone=zone, text=text):
                self.assertEqual([instant], read("%Y-%m-%d %H:%M", text, zone=zone))

    def test_an_hour_that_occurs_twice_and_one_that_does_not_occur(self) -> None:
        self.assertEqual(["2026-10-25T00:30:00"], read("iso8601", "2026-10-25 01:30:00", zone="Europe/Lisbon"))
        self.assertEqual(["2026-03-29T01:30:00"], read("iso8601", "2026-03-29 01:30:00", zone="Europe/Lisbon"))

    def test_the_zone_of_the_parser_stands_over_that_of_the_call(self) -> None:
        text = with_pattern("{stamp:time} {m:rest}") + "time: {from: stamp, format: iso8601%s}\n"
        raw = ["2026-07-05T12:00:00 x"]
        own = kinglet.load(text % ", zone: Europe/Lisbon").parse(raw, zone="Atlantic/Azores").events["time"].item()
        given_zone = kinglet.load(text % "").parse(raw, zone="Europe/Lisbon").events["time"].item()
        none = kinglet.load(text % "").parse(raw).events["time"].item()
        self.assertEqual((11, 11, 12), (own.hour, given_zone.hour, none.hour))

    @given(
        st.datetimes(datetime(1975, 1, 1), datetime(2037, 1, 1)),
        st.sampled_from(["Europe/Lisbon", "Atlantic/Azores", "UTC", "Asia/Kolkata"]),
        st.sampled_from(["%Y-%m-%d %H:%M:%S.%f", "%d/%b/%Y %H:%M:%S,%f", "%a %d %B %Y %I:%M:%S.%f %p"]),
    )
    @examples(24)
    def test_any_instant_survives_being_written_and_read(self, moment: datetime, zone: str, fmt: str) -> None:
        instant = moment.replace(tzinfo=UTC)
        local = instant.astimezone(ZoneInfo(zone))
        found = read(fmt, local.strftime(fmt), zone=zone)[0]
        assert found is not None
        first = local.replace(fold=0).astimezone(UTC)  # of two readings the first is taken
        self.assertEqual(first.replace(tzinfo=None), datetime.fromisoformat(found))


class Moments(unittest.TestCase):
    def test_dates_mean_noon_and_stamps_without_zone_mean_utc(self) -> None:
        self.assertEqual(NOON, as_moment("2026-03-05"))
        self.assertEqual(NOON, as_moment(date(2026, 3, 5)))
        self.assertEqual(NOON, as_moment("2026-03-05T12:00:00"))
        self.assertEqual(NOON + timedelta(hours=1), as_moment("2026-03-05T12:00:00-01:00"))
        with self.assertRaisesRegex(ValueError, "write it like `2026-03-05`"):
            as_moment("soon")

    def test_every_directive_is_documented(self) -> None:
        for name, directive in DIRECTIVES.items():
            with self.subTest(directive=name):
                self.assertTrue(directive.about)


class TimesOfEvents(unittest.TestCase):
    TEXT = with_pattern("{stamp:time}[[ [{second:time}]]] {m:rest}") + (
        "time:\n  - {from: stamp, format: '%Y-%m-%d %H:%M:%S'}\n  - {from: second, format: epoch}\n"
    )

    def test_the_first_rule_that_gives_an_instant_wins(self) -> None:
        result = kinglet.load(self.TEXT).parse(
            ["2026-03-03 22:10:41 x", "2026-02-30 22:10:41 [1772575841] x", "2026-02-30 22:10:41 x"]
        )
        self.assertEqual([41, 41, None], [value.second if value else None for value in result.events["time"]])
        self.assertEqual([[], [], ["bad-time:stamp"]], result.events["faults"].to_list())

    def test_an_event_without_a_stamp_says_so(self) -> None:
        text = with_pattern("[[at {stamp:time} ]]{m:rest}") + "time: {from: stamp, format: iso8601}\n"
        events = kinglet.load(text).parse(["at 2026-03-03 x", "no stamp"]).events
        self.assertEqual(["complete", "partial"], events["state"].to_list())
        self.assertEqual([[], ["no-time"]], events["faults"].to_list())
