"""Stamps are read whole or not at all; zones, notes and order: against the standard library and generators."""

from __future__ import annotations

import re
import unittest
from datetime import UTC, datetime, timedelta
from unittest import mock
from zoneinfo import ZoneInfo, available_timezones

from hypothesis import example, given
from hypothesis import strategies as st

import kinglet
from kinglet.cutting import cutter as cutting
from kinglet.cutting import small_logs as joining
from tests.helpers import ROOT, InFolder, examples

HEAD = "kinglet: 1\nparser: bench\nversion: 1.0.0\nproduct: {vendor: Marram Ferries, name: Bench}\n"
AZORES, LISBON = ZoneInfo("Atlantic/Azores"), ZoneInfo("Europe/Lisbon")
ANY = "variants: [{name: any, pattern: '{m:rest}'}]\n"


def parser(rule: str, more: str = "", variants: str = ANY) -> kinglet.Parser:
    return kinglet.load(HEAD + f"time: {rule}\n{more}{variants}")


def found(rule: str, *lines: str, more: str = "", zone: str | None = None) -> list[tuple[datetime | None, list[str]]]:
    events = parser(rule, more).parse(list(lines), reference_time="2026-11-01", zone=zone).events
    return [(time, faults) for time, faults in events.select("time", "faults").iter_rows()]


class Documented(unittest.TestCase):
    def test_every_row_of_the_table(self) -> None:
        text = (ROOT / "docs/times.md").read_text(encoding="utf-8")
        rows = re.findall(r"^\| `([^`]+)`(, the date in the slot `day`)? \| `(.+?)` \|$", text, re.MULTILINE)
        rows = [row for row in rows if row[2].startswith(("format:", "since:"))]
        self.assertGreaterEqual(len(rows), 30)
        wanted = datetime(2026, 3, 3, 22, 10, tzinfo=UTC)
        for stamp, in_slot, rule in rows:
            pattern = "{day:text}|{stamp:time}" if in_slot else "{stamp:time}"
            line = f"03.03.2026|{stamp}" if in_slot else stamp
            self.assertNotIn("'", rule)
            one = parser(f"{{from: stamp, {rule}}}", variants=f"variants: [{{name: a, pattern: '{pattern}'}}]\n")
            with mock.patch("kinglet.source.logs.datetime") as clock:
                clock.now.return_value = datetime(2026, 3, 4, 1, tzinfo=UTC)
                (event,) = one.parse([line], reference_time="2026-03-04T01:00:00Z").events.to_dicts()
            away = timedelta(hours=1) if stamp.endswith(("CET", "GMT+1")) or "+01:00" in stamp else timedelta()
            self.assertEqual(wanted, event["time"].replace(second=0, microsecond=0) + away, (stamp, event["faults"]))

    def test_other_names_lead_to_ours(self) -> None:
        for rule, hint in {
            "{from: m, format: rfc3339}": "write `iso8601`",
            "{from: m, format: rfc5424}": "write `iso8601`",
            "{from: m, format: epoch_s}": "write `epoch`",
            "{from: m, format: '%H:%M:%S.%L'}": "write `%f`",
            "{from: m, format: '%H:%M:%S.%3N'}": "write `%f`",
            "{from: m, format: '%-d/%m/%Y'}": "write `%d`",
            "{field: m}": "write `from`",
            "{from: m, timezone: UTC}": "write `zone`",
            "{from: m, since: 1601-01-01, unit: 7 ns}": "is no unit of a count",
            "{from: m, since: yesterday, unit: s}": "is not a date",
            "{from: m, since: 1601-01-01}": "go together",
            "{from: m, format: '%H:%M', date: {from: x, format: '%H'}}": "are no day and time of day",
            "{from: m, format: epoch, date: {from: x, format: '%F'}}": "are no day and time of day",
            "{from: m, format: '%F %H:%M', date: {from: x, format: '%F'}}": "are no day and time of day",
            "{from: m, format: '%H:%M', date: [previous, {from: x}]}": "with no other `date`",
        }.items():
            with self.subTest(rule=rule), self.assertRaises(kinglet.ParserFileError) as caught:
                parser(rule)
            self.assertIn(hint, str(caught.exception))


class NeverCut(unittest.TestCase):
    """What goes on like a stamp is read, or is a fault."""

    @given(
        st.datetimes(datetime(2020, 1, 1), datetime(2026, 10, 1)),
        st.sampled_from(
            [
                ("%Y-%m-%d", ["  %H:%M:%S", "_%H:%M:%S", ", %H:%M", " T%H:%M"]),
                ("%Y-%m-%dT%H:%M", [":%S:%f", ".5", " PM", " pm.", ":%S EST", ":%S (UTC)"]),
                ("%Y-%m-%d %H:%M:%S", [".1234567891", ",%f7777", " PM", " AM x", " CEST", " Europe/Lisbon", ":123"]),
                ("%Y-%j", [" %H:%M:%S"]),
                ("%G-W%V-%u", [" %H:%M:%S"]),
            ]
        ),
        st.data(),
    )
    @examples(48)
    def test_iso(self, moment: datetime, form: tuple[str, list[str]], data: st.DataObject) -> None:
        behind = data.draw(st.sampled_from(form[1]))
        line = f"quay {moment.strftime(form[0] + behind)} moored"
        ((time, faults),) = found("{find: anywhere}", line)
        self.assertEqual((None, ["bad-time:anywhere"]), (time, faults), line)

    @given(
        st.datetimes(datetime(2020, 1, 1), datetime(2026, 10, 1)),
        st.sampled_from(
            [
                " x",
                ": x",
                ", 5 boats",
                "] 12 x",
                " -10 C",
                " 12 pumps",
                "; 2 of 3",
                ".",
                " ACT now",
                " pumps",
                " (4)",
                "|1:2",
            ]
        ),
    )
    @examples(36)  # fmt: skip
    def test_what_is_no_part_of_it(self, moment: datetime, behind: str) -> None:
        line = f"quay {moment:%Y-%m-%d %H:%M:%S}{behind}"
        self.assertEqual([(moment.replace(microsecond=0, tzinfo=UTC), [])], found("{find: anywhere}", line), line)

    def test_formats_without_a_year_a_half_or_a_zone(self) -> None:
        rule = "{find: anywhere, format: '%b %e %H:%M:%S'}"
        bad = [
            "Mar  3 22:10:41 2026",
            "Mar  3 22:10:41.5",
            "Mar  3 22:10:41 +0100",
            "Mar  3 22:10:41 CET",
            "Mar  3 2:10:41 PM",
        ]
        self.assertEqual([(None, ["bad-time:anywhere"])] * len(bad), found(rule, *bad))
        rule = "{find: anywhere, format: ['%Y-%m-%d %H:%M:%S %Z', '%Y-%m-%d %H:%M:%S']}"
        lines = ["2026-03-03 22:10:41 IST x", "2026-03-03 22:10:41 pumps", "2026-03-03 22:10:41 CET x"]
        self.assertEqual([None, 22, 21], [time and time.hour for time, _ in found(rule, *lines)])

    def test_directly_behind_and_no_sign_dropped(self) -> None:
        lines = [
            "at=1772575841",
            "at= 1772575841",
            "at=-1772575841",
            "at=1.772575841e9",
            "at=1772575841e3",
            "at=x 1772575841",
        ]
        times = [time for time, _ in found("{after: 'at=', format: epoch}", *lines)]
        self.assertEqual([True, True, False, False, False, False], [time is not None for time in times])
        times = [
            time
            for time, _ in found("{find: anywhere, format: epoch}", "x -1772575841", "1.1772575841", "x 1772575841,")
        ]
        self.assertEqual([False, False, True], [time is not None for time in times])

    def test_blanks_and_single_digits(self) -> None:
        rule = "{find: start, format: '%Y-%m-%d %H:%M:%S'}"
        for blank in (" ", "   ", "\t", "\u00a0", "\u202f"):
            self.assertEqual([(datetime(2026, 3, 3, 7, 8, 9, tzinfo=UTC), [])], found(rule, f"2026-3-3{blank}7:8:9 x"))
        rule = "{find: start, format: '%Y%m%d%H%M%S'}"
        self.assertEqual([(datetime(2026, 3, 3, 7, 8, 9, tzinfo=UTC), [])], found(rule, "20260303070809 x"))


class ZonesAndNotes(unittest.TestCase):
    def test_stamps_without_a_rule(self) -> None:
        text = HEAD + "%svariants: [{name: a, pattern: '{end:time} {m:rest}'}]\n"
        lines = ["2026-10-25T01:30:00 x", "2026-10-25T01:30:00Z x", "2026-06-05 x"]
        for own, given_zone in (("clock: {zone: Europe/Lisbon}\n", None), ("", "Europe/Lisbon")):
            events = kinglet.load(text % own).parse(lines, zone=given_zone).events
            hours = [time.strftime("%d %H:%M") for time in events["end"]]
            self.assertEqual(["25 00:30", "25 01:30", "04 23:00"], hours)
            self.assertEqual([["end:hour-twice-first"], None, ["end:no-time-of-day"]], events["time_notes"].to_list())

    def test_a_zone_that_is_none(self) -> None:
        for zone in ("Nowhere/Quay", "../../etc/passwd", "/etc/localtime", "IST", ""):
            with self.subTest(zone=zone), self.assertRaisesRegex(kinglet.UsageError, "zone: no such zone"):
                parser("{find: start}").parse("2026-03-03 x\n", zone=zone)

    def test_names_that_are_zones_and_abbreviations(self) -> None:
        lines = [f"2026-{month:02}-05T12:00:00 x" for month in (1, 7)]
        for name in ("CET", "EET", "MET", "WET", "EST5EDT", "Europe/Lisbon"):
            expected = [datetime(2026, m, 5, 12, tzinfo=ZoneInfo(name)).astimezone(UTC) for m in (1, 7)]
            self.assertEqual(expected, [time for time, _ in found("{find: start}", *lines, zone=name)], name)
            rule = f"{{find: start, zone: {name}}}"
            self.assertEqual(expected, [time for time, _ in found(rule, *lines)], name)

    @given(
        st.sampled_from(sorted(available_timezones() - {"Factory"})),
        st.lists(st.tuples(st.integers(1925, 2036), st.integers(0, 366)), min_size=1, max_size=9),
    )
    @examples(20)
    @example("Pacific/Fiji", [(2013, day) for day in range(365)])
    @example("America/Sao_Paulo", [(year, 5) for year in range(1950, 2020, 4)])
    @example("Asia/Kathmandu", [(year, 2) for year in (1980, 1981, 1984, 1985, 1986, 1987, 1988)])
    def test_every_zone_of_the_database(self, name: str, days: list[tuple[int, int]]) -> None:
        zone = ZoneInfo(name)
        walls = [datetime(year, 1, 1) + timedelta(day, minutes=30) for year, day in days]
        walls = [wall + timedelta(hours=hour) for wall in walls for hour in (0, 1, 2, 3, 12)]
        lines = [f"{wall:%Y-%m-%d %H:%M:%S} x" for wall in walls]
        more = f"clock: {{zone: {name}, earliest: '1900-01-01', latest: '2100-01-01'}}\n"
        events = parser("{find: start}", more).parse(lines, reference_time="2040-01-01").events
        for wall, time, notes in zip(walls, events["time"], events["time_notes"], strict=True):
            both = [wall.replace(tzinfo=zone, fold=fold).astimezone(UTC) for fold in (0, 1)]
            real = [one for one in both if one.astimezone(zone).replace(tzinfo=None) == wall]
            self.assertIn(time, both)
            if both[0] == both[1]:
                self.assertIsNone(notes)
            else:
                self.assertRegex(notes[0], "hour-twice-" if real else "hour-skipped", wall)

    def test_the_end_of_a_day_has_no_fraction(self) -> None:
        hours = ("24:00:00.0", "24:00:00.5", "24:00:00.000001", "24:00:01.0", "23:59:59.999999")
        midnight = datetime(2026, 3, 6, tzinfo=UTC)
        for rule in ("{find: start}", "{find: start, format: '%Y-%m-%dT%H:%M:%S.%f'}"):
            times = [time for time, _ in found(rule, *(f"2026-03-05T{hour}" for hour in hours))]
            self.assertEqual([midnight, None, None, None, midnight - timedelta(microseconds=1)], times)

    def test_the_edges_of_the_calendar(self) -> None:
        lines = ["0001-01-01", "0001-01-01T00:00:00+14:00", "9999-12-31T23:59:59-14:00", "9999-12-31 23:59:59"]
        more = "clock: {earliest: '0001-01-01', latest: '9999-12-31T23:59:59Z', zone: %s}\n"
        for zone in ("Asia/Tokyo", "Atlantic/Azores", "UTC", "'+14:00'", "'-12:00'"):
            for time, faults in found("{find: start}", *lines, more=more % zone):
                self.assertTrue((time is None) == bool(faults) and (time is None or 1 <= time.year <= 9999))

    def test_an_optional_stamp_in_every_second_line(self) -> None:
        text = HEAD + "variants: [{name: a, pattern: '[[{t:time} ]]{m:rest}'}]\n"
        lines = ["2026-03-05T01:00:00 x" if i % 2 else "x" for i in range(9000)]
        self.assertEqual(4500, kinglet.load(text).parse(lines).events["t"].null_count())


def clocks(moments: list[datetime], zone: ZoneInfo, form: str) -> list[str]:
    return [f"{moment.astimezone(zone).strftime(form)} x" for moment in moments]


class FurtherStamps(unittest.TestCase):
    @given(st.datetimes(datetime(2019, 1, 1), datetime(2025, 10, 1)), st.integers(-170, 170))
    @examples(24)
    def test_without_a_year_they_lie_near_their_event(self, moment: datetime, days: int) -> None:
        other = moment + timedelta(days=days)
        rules = "[{from: until, to: until, format: '%d.%m. %H:%M:%S'}, {from: at}]"
        variants = "variants: [{name: a, pattern: '{at:time} until {until:time}'}]\n"
        line = f"{moment:%Y-%m-%dT%H:%M:%SZ} until {other:%d.%m. %H:%M:%S}"
        (event,) = parser(rules, variants=variants).parse([line]).events.to_dicts()
        self.assertEqual(other.replace(microsecond=0, tzinfo=UTC), event["until"])


class Order(InFolder):
    @given(
        st.sampled_from([LISBON, AZORES]), st.booleans(), st.integers(60, 240),
        st.lists(st.tuples(st.integers(0, 400), st.integers(2, 45)), max_size=4),
        st.integers(40, 90),
    )  # fmt: skip
    @example(LISBON, True, 110, [(142, 24)], 40)
    @examples(20)
    def test_the_hour_that_occurs_twice(
        self, zone: ZoneInfo, backward: bool, pace: int, late: list[tuple[int, int]], batch: int
    ) -> None:
        """Both directions, with a few events that come late: no other event is wrong for them, in any batches."""
        start, change = datetime(2026, 10, 24, 22, 0, tzinfo=UTC), datetime(2026, 10, 25, 1, 0, tzinfo=UTC)
        moments = [start + timedelta(seconds=i * pace) for i in range(5 * 3600 // pace)]
        placed: dict[int, int] = {}
        for place, minutes in late:
            # near the end of a pass a late event looks like the beginning of the other
            near = place >= len(moments) or abs(moments[place] - change) < timedelta(minutes=50)
            near = near or abs(abs(moments[place] - change) - timedelta(hours=1)) < timedelta(minutes=20)
            if place > 3 and not near and not any(abs(place - other) < 12 for other in placed):
                placed[place] = minutes
        for place, minutes in sorted(placed.items(), reverse=True):
            moments.insert(place, moments[place] - timedelta(minutes=minutes))
        if backward:
            moments.reverse()
        lines = clocks(moments, zone, "%Y-%m-%d %H:%M:%S")
        one = parser("{find: start, format: '%Y-%m-%d %H:%M:%S'}", f"clock: {{zone: {zone.key}}}\n")
        times = []
        for events in (100_000, batch):
            with (
                mock.patch.object(cutting, "MAX_EVENTS", events),
                mock.patch.multiple(joining, SHARED_EVENTS=0, SMALL_BYTES=0),
            ):
                times.append(one.parse(lines, reference_time="2026-11-01").events["time"].to_list())
        self.assertEqual(times[0], times[1])
        wrong = [moment for moment, time in zip(moments, times[0], strict=True) if moment != time]
        turning = 70 // pace + 2  # the first minute of the other pass looks like disorder
        self.assertLessEqual(len(wrong), 2 * turning + 6 * len(placed), (zone, wrong))

    @given(st.booleans(), st.integers(1, 50), st.integers(400, 4000), st.integers(5, 30))
    @examples(25)
    def test_times_of_day_in_both_directions(self, backward: bool, count: int, pace: int, batch: int) -> None:
        start = datetime(2026, 3, 3, 21, 0, tzinfo=UTC)
        moments = [start + timedelta(seconds=i * pace) for i in range(count + 5)]
        moments = moments[::-1] if backward else moments
        one = parser("{find: start, format: '%H:%M:%S', date: [previous, file]}")
        self.write("day-2026-03-03.log", "\n".join(clocks(moments, ZoneInfo("UTC"), "%H:%M:%S")))
        times = []
        for events in (100_000, batch):
            with (
                mock.patch.object(cutting, "MAX_EVENTS", events),
                mock.patch.multiple(joining, SHARED_EVENTS=0, SMALL_BYTES=0),
            ):
                times.append(one.parse(self.folder / "day-2026-03-03.log").events["time"].to_list())
        self.assertEqual(times[0], times[1])
        apart = timedelta(days=(moments[0].date() - start.date()).days)  # the name tells the day of the first event
        self.assertEqual([moment - apart for moment in moments], times[0])

    def test_the_year_in_the_name_of_a_log(self) -> None:
        one = parser("{find: start, format: rfc3164, year: file}")
        for name, year in {"app-2019.log": 2019, "app-2021-12-31.log": 2021, "2022.log": 2022}.items():
            path = self.write(name, "Dec 31 22:10:41 x\n")
            self.assertEqual(year, one.parse(path).events["time"].dt.year()[0], name)
        path, now = self.write("app.log", "Dec 31 22:10:41 x\n"), datetime.now(UTC)
        is_near = datetime(now.year, 12, 31, 22, 10, 41, tzinfo=UTC) <= now + timedelta(days=1)
        self.assertEqual(now.year - (not is_near), one.parse(path).events["time"].dt.year()[0])
