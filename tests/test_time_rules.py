"""Time rules of a parser file: where stamps are found, what the order of a log settles, what is never silent."""

from __future__ import annotations

import random
import unittest
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import polars as pl
from hypothesis import given
from hypothesis import strategies as st

import kinglet
from kinglet.errors import ParserFileError
from kinglet.insight.diagnosis import reasons
from kinglet.insight.timeline import timeline
from kinglet.lint.linting import lint
from kinglet.lint.table import chosen
from kinglet.parser import Parser
from kinglet.timestamps.order import (
    Dates,
    Known,
    Times,
    after,
    date_in_name,
    dated,
    filled,
    moment_in_name,
    near,
    second_hours,
)
from kinglet.timestamps.zones import Zone, to_utc
from tests.helpers import InFolder, examples, with_pattern
from tests.helpers import kinglet as command

AT = "2026-03-05T12:00:00Z"
DAY = 86_400_000_000
LISBON, AZORES = ZoneInfo("Europe/Lisbon"), ZoneInfo("Atlantic/Azores")


def parser(rules: str, *, pattern: str = "{body:rest}", more: str = "") -> Parser:
    return kinglet.load(with_pattern(pattern) + f"time: {rules}\n{more}")


def times(
    rules: str,
    *raw: str,
    pattern: str = "{body:rest}",
    more: str = "",
    reference_time: str = AT,
    zone: str | None = None,
) -> list[Any]:
    """Times as text, to the second, and null."""
    events = parser(rules, pattern=pattern, more=more).parse(list(raw), reference_time=reference_time, zone=zone).events
    return [value and f"{value:%m-%d %H:%M:%S}" for value in events["time"]]


class Places(unittest.TestCase):
    RAW = "done 2026-03-01 10:00:00 of job begun 2026-02-28 09:00:00, sent 2026-03-02 11:00:00"

    def test_where_a_stamp_stands(self) -> None:
        for rule, wanted in {
            "{find: anywhere}": "03-01 10:00:00",
            "{find: anywhere, within: 5}": "03-01 10:00:00",
            "{find: anywhere, within: 4}": None,
            "{after: 'begun '}": "02-28 09:00:00",
            "{after: 'begun', within: 1}": "02-28 09:00:00",
            "{after: 'job', within: 6}": None,
            "{after: 'job', within: 7}": "02-28 09:00:00",
            "{after: '(?i)SENT (?:on )?'}": "03-02 11:00:00",
            "{after: '(done|sent) .*(sent) '}": "03-02 11:00:00",
            "{after: 'never'}": None,
            "{find: start}": None,
            "{from: body, after: 'of .*, ', within: 20}": "03-02 11:00:00",
        }.items():
            with self.subTest(rule=rule):
                self.assertEqual([wanted], times(rule, self.RAW))

    def test_at_the_start_only_blanks_may_stand_before(self) -> None:
        rule = "{find: start, format: '%d/%b %H:%M:%S'}"
        self.assertEqual(
            ["03-03 22:10:41"] * 2 + [None],
            times(rule, "03/Mar 22:10:41 x", " \t03/Mar 22:10:41: x", "a 03/Mar 22:10:41"),
        )

    def test_digits_that_go_on_are_no_stamp(self) -> None:
        self.assertEqual(
            [None, None],
            times("{find: anywhere, format: '%H:%M %d.%m.%Y'}", "x 10:00 01.03.20261", "110:00 01.03.2026"),
        )
        self.assertEqual(
            ["03-03 22:10:41"], times("{find: anywhere, format: epoch}", "id 117725758410 at 1772575841, 5 of 8")
        )

    def test_what_follows_a_stamp_is_not_taken_for_a_part_of_it(self) -> None:
        iso, mail = "{from: stamp}", "{from: stamp, format: rfc5322}"
        for rule, raw, wanted, rest in (
            (iso, "2026-03-03 22 pumps", "03-03 00:00:00", "22 pumps"),
            (iso, "2026-03-03 22:10:41 -10 C", "03-03 22:10:41", "-10 C"),
            (iso, "2026-03-03 22:10:41 Zone 5", "03-03 22:10:41", "Zone 5"),
            (iso, "2026-03-03 22:10:41 +02:00 x", "03-03 20:10:41", "x"),
            (iso, "2026-03-03T22 -0130 x", "03-03 23:30:00", "x"),
            (iso, "20260303 2210 items", "03-03 00:00:00", "2210 items"),
            (iso, "20260303 221041,5 items", "03-03 22:10:41", "items"),
            (mail, "Tue, 3 Mar 2026 22:10:41 +0000 b-seed left", "03-03 22:10:41", "b-seed left"),
            (mail, "Tue, 3 Mar 2026 22:10 quay left", "03-03 22:10:00", "quay left"),
            (mail, "3 Mar 2026 22:10:41 CET left", "03-03 21:10:41", "left"),
        ):
            with self.subTest(raw=raw):
                events = parser(rule, pattern="{stamp:time} {m:rest}").parse([raw], reference_time=AT).events
                self.assertEqual((wanted, rest), (f"{events['time'][0]:%m-%d %H:%M:%S}", events["m"][0]))
                searched = times(rule.replace("from: stamp", "find: start"), raw)
                self.assertEqual([None if wanted.endswith("00:00:00") and raw[4] != "-" else wanted], searched)
        self.assertEqual(
            ["03-03 22:10:41"], times("{find: anywhere}", "order 20260301, item 2026060: 2026-03-03T22:10:41Z")
        )

    def test_the_format_that_reads_more_is_searched_first(self) -> None:
        rule = "{find: anywhere, format: ['%Y-%m-%d %H:%M', '%Y-%m-%d %H:%M:%S', '%Y-%m-%d %H:%M:%S %Z']}"
        self.assertEqual(
            ["03-03 22:10:00", "03-03 22:10:41", "03-03 21:10:41"],
            times(rule, "a 2026-03-03 22:10", "a 2026-03-03 22:10:41 b", "a 2026-03-03 22:10:41 CET b"),
        )

    def test_the_first_rule_that_gives_an_instant_wins_and_is_kept(self) -> None:
        rules = "[{after: 'at '}, {find: start, format: '%H:%M:%S %d.%m.%Y'}, {find: anywhere, format: epoch}]"
        found = (
            parser(rules)
            .parse(
                [
                    "10:00:00 01.03.2026 at 2026-03-02",
                    "10:00:00 01.03.2026 at 2026-02-30",
                    "at 2026-02-30 1772575841",
                    "none",
                ],
                reference_time=AT,
            )
            .events
        )
        self.assertEqual(["after at ", "at the start", "anywhere", None], found["time_rule"].to_list())
        self.assertEqual([[], [], [], ["no-time"]], found["faults"].to_list())

    def test_further_stamps_become_fields(self) -> None:
        text = with_pattern("{start:time} {end:word}[[ got {got:text}]]") + (
            "time:\n  - {from: start, format: '%Y-%m-%dT%H:%M:%S'}\n"
            "  - {from: end, to: end, format: '%H:%M:%S', date: event}\n"
            "  - {from: got, to: received, format: epoch_ms, nanoseconds: received_ns}\n"
            "  - {after: 'or ', to: received, format: '%d/%b %H:%M:%S'}\nclock: {zone: Atlantic/Azores}\n"
        )
        loaded = kinglet.load(text)
        events = loaded.parse(
            [
                "2026-03-03T23:59:00 00:00:10 got 1772575841123",
                "2026-03-03T00:00:01 23:59:59 got x or 03/Mar 22:00:00",
                "2026-03-03T12:00:00 99:00:00 got x",
            ],
            reference_time=AT,
        ).events
        self.assertEqual(
            [datetime(2026, 3, 4, 1, 0, 10, tzinfo=UTC), datetime(2026, 3, 3, 0, 59, 59, tzinfo=UTC), None],
            events["end"].to_list(),
        )
        received = [datetime(2026, 3, 3, 22, 10, 41, 123_000, UTC), datetime(2026, 3, 3, 23, tzinfo=UTC), None]
        self.assertEqual(received, events["received"].to_list())
        self.assertEqual(1_772_575_841_123_000_000, events["received_ns"][0])
        self.assertEqual(
            [["end:date-of-event"], ["end:date-of-event", "received:year-nearest"], None],
            events["time_notes"].to_list(),
        )
        self.assertEqual(
            [[], [], ["bad-time:end", "bad-time:received"]], [sorted(faults) for faults in events["faults"]]
        )
        self.assertEqual(
            {"end", "received", "received_ns"}, {name for name in loaded.fields if name not in ("start", "got")}
        )
        mapped = next(loaded.parse(["2026-03-03T23:59:00 00:00:10"], reference_time=AT).to_model())
        self.assertEqual("2026-03-04T01:00:10.000000Z", mapped["unmapped"]["end"])
        self.assertEqual(
            (["end:date-of-event"], "2026-03-03T23:59:00"),
            (mapped["unmapped"]["time_notes"], mapped["metadata"]["original_time"]),
        )

    def test_nanoseconds_have_a_field(self) -> None:
        events = (
            parser("{from: body, nanoseconds: ns}")
            .parse(["2026-03-03T22:10:41.123456789Z", "2026-03-03", "1600-01-01"], reference_time=AT)
            .events
        )
        self.assertEqual([1_772_575_841_123_456_789, 1_772_496_000_000_000_000, None], events["ns"].to_list())

    def test_a_slot_may_name_the_zone(self) -> None:
        pattern, rule = (
            "{stamp:time} {tz:word}[[ {m:rest}]]",
            "{from: stamp, format: '%Y-%m-%d %H:%M', zone: {from: tz}}",
        )
        raw = [
            f"2026-07-03 12:00 {zone}"
            for zone in ("Europe/Lisbon", "Atlantic/Azores", "+05:30", "-0800", "WEST", "MSK", "?")
        ]
        found = (
            parser(rule, pattern=pattern, more="clock: {zones: {MSK: Europe/Moscow}}")
            .parse(raw, reference_time=AT)
            .events
        )
        self.assertEqual([11, 12, 6, 20, 11, 9, None], found["time"].dt.hour().to_list())
        self.assertEqual(["bad-time:stamp"], found["faults"][-1].to_list())
        plan = parser(rule, pattern=pattern)._plan
        self.assertIn("which may mean +03:00, +04:00", reasons(plan, raw[5], "any", ["bad-time:stamp"])[0].message)
        self.assertIn("`?`, which is not known", reasons(plan, raw[6], "any", ["bad-time:stamp"])[0].message)

    def test_zones_of_call_parser_and_rule(self) -> None:
        for rule, more, zone, hour in (
            ("{find: anywhere}", "", None, "12"),
            ("{find: anywhere}", "", "Europe/Lisbon", "11"),
            ("{find: anywhere}", "clock: {zone: Asia/Kolkata}", "Europe/Lisbon", "06"),
            ("{find: anywhere, zone: '-03:00'}", "clock: {zone: Asia/Kolkata}", None, "15"),
        ):
            with self.subTest(rule=rule, more=more):
                self.assertEqual(
                    [f"07-01 {hour}:30:00"],
                    [
                        text.replace(":00:", ":30:")
                        for text in times(
                            rule, "2025-07-01 12:30:00" if hour != "06" else "2025-07-01 12:00:00", more=more, zone=zone
                        )
                    ],
                )


class Faults(unittest.TestCase):
    def test_stamps_outside_the_limits_are_faults(self) -> None:
        raw = ["1970-01-01T00:00:12Z boot", "2126-03-29 far", "2026-03-05 fine", "1989-12-31 before"]
        found = parser("{find: start}").parse(raw, reference_time=AT).events
        self.assertEqual([None, None, 5, None], found["time"].dt.day().to_list())
        self.assertEqual([["implausible-time:at the start"]] * 2, found["faults"].to_list()[:2])
        wide = "clock: {earliest: 1900-01-01, latest: 2200-01-01}"
        self.assertEqual(
            [1, 29, 5, 31],
            parser("{find: start}", more=wide).parse(raw, reference_time=AT).events["time"].dt.day().to_list(),
        )
        close = (
            parser("{find: start}", more="clock: {latest: 12 h}")
            .parse(["2026-03-06T00:00:01Z", "2026-03-05T23:59:59Z"], reference_time=AT)
            .events
        )
        self.assertEqual(["partial", "complete"], close["state"].to_list())
        said = reasons(parser("{find: start}")._plan, raw[0], "any", ["implausible-time:at the start"])[0]
        self.assertEqual((0, 20), (said.start, said.end))
        self.assertIn("lies outside what the parser believes: 1990-01-01 to 366 days after", said.message)

    def test_what_an_event_without_time_gets(self) -> None:
        raw = ["no stamp", "2026-03-03T10:00:00Z a", "b", "2026-02-30 c", "2026-03-03T10:00:09Z d"]
        for missing, wanted, faults in (
            (
                "fault",
                [None, "03-03 10:00:00", None, None, "03-03 10:00:09"],
                ["no-time", None, "no-time", "bad-time:at the start", None],
            ),
            (
                "previous",
                [None, "03-03 10:00:00", "03-03 10:00:00", "03-03 10:00:00", "03-03 10:00:09"],
                ["no-time", None, None, "bad-time:at the start", None],
            ),
            (
                "file",
                ["03-05 12:00:00", "03-03 10:00:00", "03-05 12:00:00", "03-05 12:00:00", "03-03 10:00:09"],
                [None, None, None, "bad-time:at the start", None],
            ),
        ):
            with self.subTest(missing=missing):
                loaded = parser("{find: start}", more=f"clock: {{missing: {missing}}}")
                events = loaded.parse(raw, reference_time=AT).events
                self.assertEqual(wanted, [value and f"{value:%m-%d %H:%M:%S}" for value in events["time"]])
                self.assertEqual(faults, [fault[0] if len(fault) else None for fault in events["faults"]])
        self.assertEqual(
            [["time-of-log"], None, ["time-of-log"], ["time-of-log"], None], events["time_notes"].to_list()
        )

    def test_unmatched_events_have_a_time_where_the_raw_text_has_one(self) -> None:
        text = with_pattern("never {n:int}") + "time: {find: anywhere}\nclock: {missing: previous}\n"
        events = kinglet.load(text).parse(["x 2026-03-03T10:00:00Z", "y"], reference_time=AT).events
        self.assertEqual(["unmatched"] * 2, events["state"].to_list())
        self.assertEqual([10, 10], events["time"].dt.hour().to_list())
        self.assertEqual([["no-match"]] * 2, events["faults"].to_list())

    def test_wrong_rules_are_refused_with_their_place(self) -> None:
        for rules, more, said in (
            ("{format: epoch}", "", "does not say where the stamp stands: add `from`, `after` or `find`"),
            ("{after: x, find: start}", "", "has both `after` and `find`"),
            ("{find: start, within: 3}", "", "goes with `after` and `find: anywhere`"),
            ("{after: '('}", "", "time.after: "),
            ("{after: '(?=x)'}", "", "look-around"),
            ("{find: start, format: '%H:%M:%S'}", "", "reads no date; add `date: previous` or `date: file`"),
            ("{find: start, to: x, format: '%H:%M:%S'}", "", "reads no date; add `date: event`"),
            ("{find: start, to: x, format: '%H:%M:%S', date: file}", "", "`file` does not go here"),
            ("{find: start, format: '%H:%M:%S', date: event}", "", "the event's time cannot come from itself"),
            ("{find: start, date: file}", "", "every format of this rule reads a date; leave `date` out"),
            ("{find: start, to: raw}", "", "`raw` is a column of every event"),
            ("{find: start, to: body}", "", "`body` is a slot already"),
            ("{find: start, to: a-b}", "", "`a-b` is no name of a field"),
            ("{from: bdoy}", "", "did you mean `body`"),
            ("{from: body, zone: {from: tz}}", "", "no pattern has a slot `tz`"),
            ("{find: start, zone: CST}", "", "it stands for several"),
            ("{find: start}", "clock: {zones: {A: Nowhere/Land}}", "no such zone `Nowhere/Land`"),
            ("{find: start}", "clock: {zone: Lisbon}", "did you mean"),
            ("{find: start}", "clock: {latest: soon}", "'soon' is neither a date nor a span"),
            ("{find: start}", "clock: {earliest: soon}", "'soon' is not a date"),
            ("[{find: start}, {find: start}]", "", "has a rule already"),
            ("{find: start, within: 2000}", "", "1000"),
        ):
            with self.subTest(rules=rules, more=more), self.assertRaises(ParserFileError) as caught:
                parser(rules, more=more)
            self.assertRegex(str(caught.exception), r"<text>:\d+:\d+: ")
            self.assertIn(said, str(caught.exception))


class RepeatedHours(unittest.TestCase):
    RULE = "{find: start, format: '%Y-%m-%d %H:%M:%S'}"

    def read(self, *clocks: str, zone: str = "Europe/Lisbon") -> list[str]:
        raw = [f"2026-10-{clock} x" for clock in clocks]
        return [
            text[3:-3] for text in times(self.RULE, *raw, more=f"clock: {{zone: {zone}}}", reference_time="2026-11-01")
        ]

    def test_the_first_unless_the_order_shows_the_second(self) -> None:
        self.assertEqual(["25 00:10", "25 00:50"], self.read("25 01:10:00", "25 01:50:00"))
        self.assertEqual(
            ["25 00:50", "25 01:10", "25 01:55", "25 02:05"],
            self.read("25 01:50:00", "25 01:10:00", "25 01:55:00", "25 02:05:00"),
        )
        self.assertEqual(["25 02:00", "25 01:30"], self.read("25 02:00:00", "25 01:30:00"))
        self.assertEqual(["24 23:59", "25 00:30", "25 00:29"], self.read("25 00:59:00", "25 01:30:30", "25 01:29:50"))
        self.assertEqual(
            ["25 00:00", "24 23:30", "24 23:10"],
            self.read("25 00:00:00", "24 23:30:00", "24 23:10:00", zone="Atlantic/Azores"),
        )

    def test_a_log_that_runs_back_shows_the_second_first(self) -> None:
        self.assertEqual(
            ["25 12:00", "25 02:10", "25 01:40", "24 23:20"],
            self.read("25 12:00:00", "25 02:10:00", "25 01:40:00", "25 00:20:00"),
        )

    def test_both_harbours_through_the_night_at_any_pace(self) -> None:
        """Every clock is right that an event a few minutes later bears out; in the first hour every one."""
        for zone, pace in ((LISBON, 60), (LISBON, 700), (AZORES, 420), (AZORES, 1)):
            start = datetime(2026, 10, 24, 23, 30, tzinfo=UTC)
            moments = [start + timedelta(seconds=step * pace) for step in range(10_800 // pace)]
            raw = [f"{moment.astimezone(zone):%Y-%m-%d %H:%M:%S} x" for moment in moments]
            with self.subTest(zone=zone, pace=pace):
                events = (
                    parser(self.RULE, more=f"clock: {{zone: {zone}}}").parse(raw, reference_time="2026-11-01").events
                )
                wrong = [moment for moment, found in zip(moments, events["time"], strict=True) if moment != found]
                self.assertLessEqual(len(wrong), 60 // pace + 1)
                noted = events["time_notes"].explode().drop_nulls().value_counts()
                self.assertEqual({"hour-twice-first", "hour-twice-second"}, set(noted["time_notes"]))

    @given(st.lists(st.integers(1, 12), max_size=6), st.integers(0, 999))
    @examples(24)
    def test_where_batches_end_changes_nothing(self, cuts: list[int], seed: int) -> None:
        chance = random.Random(seed)
        walls = [chance.randrange(0, 180) * 60_000_000 for _ in range(24)]
        if seed % 2:
            walls.sort()
        base = pl.Series([datetime(2026, 10, 25)]).to_physical().item()
        local = to_utc(pl.Series(walls, dtype=pl.Int64) + base, Zone(name="Europe/Lisbon"))
        gone = pl.Series([chance.random() < 0.2 for _ in walls])
        given = Times(
            local.time.set(gone, None), local.notes, None if local.later is None else local.later.set(gone, None)
        )

        def run(pieces: list[tuple[int, int]]) -> tuple[list[Any], list[Any]]:
            known, time, bits = Known(), [], []
            for start, length in pieces:
                part = Times(*(None if column is None else column.slice(start, length) for column in given))  # type: ignore[arg-type]
                found, known = second_hours(part, known)
                found = filled(found, found.time.is_null().arg_true(), known)
                known = after(found.time, known)
                time += found.time.to_list()
                bits += found.notes.to_list()
            return time, bits

        ends = sorted({min(sum(cuts[: i + 1]), 24) for i in range(len(cuts))} | {24})
        pieces = [(start, end - start) for start, end in zip([0, *ends], ends, strict=False) if end > start]
        self.assertEqual(run([(0, 24)]), run(pieces))


class MissingDates(unittest.TestCase):
    RULES = "[{from: stamp, format: ['%Y-%m-%d %H:%M:%S', '%H:%M:%S'], date: [previous, file]}]"
    PATTERN = "{stamp:time} {m:rest}"

    def read(self, *stamps: str, reference_time: str = AT, zone: str = "UTC", **options: str) -> list[Any]:
        rules = options.get("rules", self.RULES)
        return times(
            rules,
            *(f"{stamp} x" for stamp in stamps),
            pattern=self.PATTERN,
            more=f"clock: {{zone: {zone}}}",
            reference_time=reference_time,
        )

    def test_the_day_rolls_over_at_midnight(self) -> None:
        self.assertEqual(
            [
                "03-01 22:00:00",
                "03-01 23:59:58",
                "03-02 00:00:03",
                "03-01 23:59:59",
                "03-02 09:00:00",
                "03-03 08:00:00",
            ],
            self.read("2026-03-01 22:00:00", "23:59:58", "00:00:03", "23:59:59", "09:00:00", "08:00:00"),
        )
        self.assertEqual(
            ["03-01 10:00:05", "03-01 10:00:03", "03-01 09:56:00"],
            self.read("2026-03-01 10:00:05", "10:00:03", "09:56:00"),
        )
        self.assertEqual(  # five minutes back are late, more are the next day
            ["03-01 10:00:00", "03-01 09:55:00", "03-02 09:49:59"],
            self.read("2026-03-01 10:00:00", "09:55:00", "09:49:59"),
        )

    def test_without_an_earlier_event_the_log_tells_the_day(self) -> None:
        self.assertEqual(["03-05 11:00:00", "03-06 10:00:00"], self.read("11:00:00", "10:00:00"))
        self.assertEqual(["03-04 13:00:00", "03-05 01:00:00"], self.read("13:00:00", "01:00:00"))
        only = self.RULES.replace("[previous, file]", "previous")
        self.assertEqual(
            [None, "03-01 22:00:00", "03-01 23:00:00"],
            self.read("21:00:00", "2026-03-01 22:00:00", "23:00:00", rules=only),
        )
        events = parser(only, pattern=self.PATTERN).parse(["21:00:00 x"], reference_time=AT).events
        self.assertEqual([["no-date:stamp"]], events["faults"].to_list())
        said = reasons(parser(only, pattern=self.PATTERN)._plan, "21:00:00 x", "any", ["no-date:stamp"])[0]
        self.assertEqual("`21:00:00` has no date, and no event before it has one", said.message)

    def test_an_hour_that_occurs_twice_is_no_new_day(self) -> None:
        self.assertEqual(
            ["10-24 23:30:00", "10-25 00:50:00", "10-25 01:10:00", "10-25 02:30:00"],
            self.read(
                "2026-10-25 00:30:00",
                "01:50:00",
                "01:10:00",
                "02:30:00",
                reference_time="2026-11-01",
                zone="Europe/Lisbon",
            ),
        )
        self.assertEqual(
            ["03-24 01:50:00", "03-25 01:10:00"],
            self.read("2026-03-24 01:50:00", "01:10:00", reference_time="2026-03-26", zone="Europe/Lisbon"),
        )

    def test_dates_in_names(self) -> None:
        for name, day in (
            ("/var/app-2026-03-05.log", "2026-03-05"),
            ("app_20260305.log.gz", "2026-03-05"),
            ("2026.03.05/app.log", None),
            ("app-2026-13-05.log", None),
            ("app-2026-02-30.log", None),
            ("run-120260305.log", None),
            ("a-2026_03_05-1.log", "2026-03-05"),
        ):
            wanted = (datetime.fromisoformat(day) - datetime(1970, 1, 1)).days if day else None
            self.assertEqual(wanted, date_in_name(name), name)

    def test_stamps_near_another_instant(self) -> None:
        for moment, clock, wanted in (
            ("03-03T23:59", "00:01", "03-04T00:01"),
            ("03-03T00:01", "23:59", "03-02T23:59"),
            ("03-03T12:00", "11:00", "03-03T11:00"),
        ):
            time = pl.Series([datetime.fromisoformat(f"2026-{moment}")]).cast(pl.Datetime("us")).to_physical()
            hours, minutes = map(int, clock.split(":"))
            found = near(pl.Series([(hours * 60 + minutes) * 60_000_000]), time, Zone())
            self.assertEqual(datetime.fromisoformat(f"2026-{wanted}"), found.time.cast(pl.Datetime("us")).item())

    @given(st.lists(st.tuples(st.integers(0, 86_399), st.booleans()), min_size=1, max_size=20), st.integers(0, 20))
    @examples(24)
    def test_where_batches_end_changes_no_date(self, clocks: list[tuple[int, bool]], cut: int) -> None:
        whole = pl.Series(
            [DAY * 20_000 + i * DAY + clock * 10**6 if full else None for i, (clock, full) in enumerate(clocks)],
            dtype=pl.Int64,
        )
        of_day = pl.Series([None if full else clock * 10**6 for clock, full in clocks], dtype=pl.Int64)
        zero = pl.Series([0] * len(clocks), dtype=pl.UInt16)
        dates = Dates(Zone(), True, True, "a.log", datetime(2026, 3, 5, tzinfo=UTC))

        def run(pieces: list[slice]) -> list[Any]:
            known, found = Known(), []
            for piece in pieces:
                part = Times(whole[piece], zero[piece], None, of_day[piece])
                rows = of_day[piece].is_not_null().arg_true()
                part = dated(part, rows, dates, known) if len(rows) else part
                known = after(part.time, known)
                found += part.time.to_list()
            return found

        pieces = [slice(0, cut), slice(cut, len(clocks))] if 0 < cut < len(clocks) else [slice(0, len(clocks))]
        self.assertEqual(run([slice(0, len(clocks))]), run(pieces))


class NewYear(InFolder):
    def test_a_note_that_all_further_stamps_have_is_kept(self) -> None:
        rules = (
            "time: [{from: stamp, format: iso8601}, {from: seen, to: seen_at, format: '%b %e %H:%M:%S', year: nearest}]"
        )
        file = with_pattern("{stamp:time} seen {seen:text}") + rules
        lines = [f"2026-03-05T10:00:00Z seen Mar  {day} 09:59:58" for day in (4, 5)]
        events = kinglet.load(file).parse(lines).events
        self.assertEqual([["seen_at:year-nearest"]] * 2, events["time_notes"].to_list())
        self.assertEqual([datetime(2026, 3, day, 9, 59, 58, tzinfo=UTC) for day in (4, 5)], events["seen_at"].to_list())

    def test_the_new_year_comes_first_where_the_day_begins(self) -> None:
        rules = "time: {from: stamp, format: '%b %e %H:%M:%S', zone: Pacific/Kiritimati, year: nearest}"
        file = with_pattern("{stamp:text} x") + rules
        for reference in ("2026-12-30T20:00:00Z", "2026-12-31T10:00:00Z"):  # it may be a day behind
            with self.subTest(reference):
                events = kinglet.load(file).parse(["Jan  1 09:00:00 x"], reference_time=reference).events
                self.assertEqual([datetime(2026, 12, 31, 19, tzinfo=UTC)], events["time"].to_list())

    def test_the_moment_at_which_a_log_ends_that_has_it_in_its_name(self) -> None:
        for name, moment in {
            "app-2026-11-30.log": datetime(2026, 12, 1, tzinfo=UTC),
            "app-20261231.log": datetime(2027, 1, 1, tzinfo=UTC),
            "app-2026-02.log": datetime(2026, 3, 1, tzinfo=UTC),
            "app-2026.log": datetime(2027, 1, 1, tzinfo=UTC),
            "2024/app.log": None,
        }.items():
            with self.subTest(name):
                self.assertEqual(moment, moment_in_name(name))

    def test_a_log_over_new_year_in_either_direction_and_leap_days(self) -> None:
        rule = "{find: start, format: rfc3164}"
        stamps = ["Dec 31 23:59:58", "Dec 31 23:59:59", "Jan  1 00:00:00", "Jan  1 00:00:01"]
        for at in ("2026-01-01T00:00:02Z", "2026-01-15", "2025-12-31T23:59:59Z"):
            for order in (stamps, stamps[::-1]):
                with self.subTest(at=at, first=order[0]):
                    events = parser(rule).parse(order, reference_time=at).events
                    years = dict(zip(order, events["time"].dt.year(), strict=True))
                    self.assertEqual([2025, 2025, 2026, 2026], [years[stamp] for stamp in stamps])
        leap = (
            parser(rule)
            .parse(["Feb 28 23:00:00", "Feb 29 01:00:00", "Mar  1 00:00:00"], reference_time="2024-03-01")
            .events
        )
        self.assertEqual([28, 29, 1], leap["time"].dt.day().to_list())
        self.assertEqual([2024] * 3, leap["time"].dt.year().to_list())

    def test_the_same_as_a_file_in_batches_and_through_the_command(self) -> None:
        """A large log through the repeated hour: one worker or several, a file or what its events are given as."""
        start = datetime(2026, 10, 24, 22, tzinfo=UTC)
        moments = [start + timedelta(milliseconds=150 * i) for i in range(120_000)]
        lines = [f"{moment.astimezone(AZORES):%d.%m.%Y %H:%M:%S.%f} n{i}" for i, moment in enumerate(moments)]
        path = Path("radar-2026-10-26.log")
        path.write_text("\n".join(lines) + "\n")
        Path("radar.yaml").write_text(
            with_pattern("{stamp:time} {n:word}")
            + "time: {from: stamp, format: '%d.%m.%Y %H:%M:%S.%f', zone: Atlantic/Azores}\n"
        )
        loaded = kinglet.load("radar.yaml")
        for workers in (1, 4):
            results = list(loaded.parse_batches(path, workers=workers, reference_time="2026-11-01"))
            self.assertGreater(len(results), 1)
            found = pl.concat([result.events["time"] for result in results])
            wrong = (found != pl.Series(moments).cast(pl.Datetime("us", "UTC"))).sum()
            self.assertLess(wrong, 800)  # the first minute of the second hour cannot be told from disorder
        done = command("run", "-p", "radar.yaml", str(path), "-o", "out.parquet", "--at", "2026-11-01")
        self.assertEqual(0, done.status, done.err)
        self.assertTrue((pl.read_parquet("out.parquet")["time"] == found).all())


class Seen(InFolder):
    """What `try` and `check` say of times."""

    def setUp(self) -> None:
        super().setUp()
        Path("gate.yaml").write_text(
            with_pattern("{body:rest}") + "clock: {zone: Europe/Lisbon, missing: file}\ntime:\n"
            "  - {after: 'at ', within: 2, format: '%d/%m/%Y %H:%M:%S'}\n  - {find: anywhere, format: rfc3164}\n"
        )
        Path("gate.log").write_text(
            "gate at 05/10/2026 10:00:00 up\n"
            "gate at 25/10/2026 01:30:00 down\n"
            "Oct 25 01:10:00 up\n"
            "nothing\n"
            "gate at 25/10/2026 00:10:00 up\n"
        )

    def test_the_summary(self) -> None:
        result = kinglet.load("gate.yaml").parse("gate.log", reference_time="2026-10-26")
        found = timeline(result)
        self.assertEqual((5, 5, "Europe/Lisbon"), (found.events, found.with_time, found.zone))
        self.assertEqual([("after at ", 3), ("anywhere", 1)], [(rule.rule, rule.events) for rule in found.rules])
        self.assertIn(
            "day first, as the parser says: in 2 the first number is above 12, such as line 2", found.rules[0].order
        )
        self.assertEqual(
            (1, 5, timedelta(hours=-36, minutes=-50)),
            (found.steps_back, *((found.back and (found.back.line, found.back.length)) or ())),
        )
        self.assertEqual(
            [(2, 19.0 + 15.5 / 24)], [(step.line, step.length.total_seconds() / 86_400) for step in found.gaps[:1]]
        )
        self.assertEqual(1, found.at_arrival)
        self.assertEqual([(datetime(2026, 10, 25, 1, tzinfo=UTC), timedelta(hours=-1))], found.changes)
        self.assertEqual(
            {"hour-twice-first": 1, "hour-twice-second": 1, "year-nearest": 1, "time-of-log": 1},
            {note.note: note.events for note in found.notes},
        )

    def test_try_shows_stamps_and_their_instants(self) -> None:
        shown = command("try", "gate.yaml", "gate.log", "--at", "2026-10-26").out
        for text in (
            "1  05/10/2026 10:00:00  2026-10-05 09:00:00Z  2026-10-05 10:00:00 +01:00  by after at",
            "Oct 25 01:10:00      2026-10-25 01:10:00Z  2026-10-25 01:10:00 +00:00",
            "by anywhere, year-nearest, hour-twice-second",
            "time  Europe/Lisbon where a stamp carries no zone",
            "range    2026-10-05 09:00:00Z to 2026-10-26 12:00:00Z, 21 d 3 h",
            "found    3 of 5 by after at : %d/%m/%Y %H:%M:%S",
            "back     1, the longest 1 d 12 h before line 5",
            "arrival  1 events have the time of their log's arrival",
            "clocks   go back by 1 h at 2026-10-25 01:00:00Z in Europe/Lisbon",
            "noted    hour-twice-first 1, from line 2 on: ",
        ):
            self.assertIn(text, shown)
        self.assertLessEqual(max(map(len, shown.splitlines())), 100)
        plain = command("try", "gate.yaml", "gate.log", "--at", "2026-10-26", "--json").json()["files"][0]
        self.assertEqual({"start": 8, "end": 27}, plain["events"][0]["stamp"])
        self.assertEqual(("after at ", 3), (plain["times"]["rules"][0]["rule"], plain["times"]["rules"][0]["events"]))
        self.assertEqual(-133_800.0 + 1200, plain["times"]["longest_step_back"]["seconds"])

    def test_advice(self) -> None:
        case = "cases:\n  - {raw: 'gate at %s up', at: 2026-10-26}\n"
        for rules, more, said in (
            ("{after: 'at ', format: '%d/%m/%Y %H:%M:%S', zone: UTC}", "", ["has the day first, and no case shows it"]),
            ("{after: 'at ', format: '%d/%m/%Y %H:%M:%S', zone: UTC}", case % "25/10/2026 10:00:00", []),
            (
                "{after: 'at ', format: '%d/%m/%Y %H:%M:%S', zone: UTC}",
                case % "05/10/2026 10:00:00",
                ["no case shows it"],
            ),
            ("{after: 'at ', format: ['%d/%m/%Y', '%m/%d/%Y'], zone: UTC}", "", ["both read a date such as 03/04"]),
            ("{after: 'at ', format: '%F %T'}", "", ["carry no zone and no zone is given"]),
            ("{find: start, format: epoch}", "", []),
            ("{find: start, format: epoch_any}", "", ["takes the unit from the size"]),
            ("{find: start}", "", []),
            (
                "{after: 'at ', format: '%F %T %Z'}",
                case % "2026-10-05 10:00:00 CST",
                ["`CST` of a case may mean -6 h, -5 h, +8 h"],
            ),
            (
                "{after: 'at ', format: '%F %T %Z'}",
                "clock: {zones: {CST: '-06:00'}}\n" + case % "2026-10-05 10:00:00 CST",
                [],
            ),
        ):
            with self.subTest(rules=rules, more=more):
                found = lint(parser(rules, more=more), rules=chosen("T", None))
                self.assertEqual(len(said), len(found), found)
                for item, text in zip(found, said, strict=True):
                    self.assertIn(text, item.message)
        checked = command("check", "gate.yaml")
        self.assertEqual(0, checked.status)
        self.assertIn("! T04 order of day and month not decided  gate.yaml:11:", checked.out)
        first = command("check", "gate.yaml", "--json").json()["parsers"][0]["findings"][-1]
        self.assertEqual(("T06", "time[1].format"), (first["code"], first["key"]))

    def test_look_decides_by_a_companion(self) -> None:
        Path("two.log").write_text(
            "".join(f"2026-03-0{i} 10:00:00Z and 03/0{i}/2026 10:00:00 x\n" for i in range(1, 8))
        )
        shown = command("look", "two.log").out
        self.assertIn("month first: so it agrees with the other stamp of the same events", " ".join(shown.split()))

    def test_look_finds_times_of_day(self) -> None:
        Path("clock.log").write_text("".join(f"1{i}:00:00 pump {i}\n" for i in range(5)))
        shown = command("look", "clock.log").out
        self.assertIn("it has no date, which has to come from the log or an event before", " ".join(shown.split()))
        begun = "".join(line[4:] + "\n" for line in shown.splitlines() if line.startswith("    ") and ": " in line)
        Path("clock.yaml").write_text(begun[begun.index("kinglet: 1") :])
        tried = command("try", "clock.yaml", "clock.log", "--at", "2026-03-05T20:00:00Z")
        self.assertIn("2026-03-05 14:00:00Z", tried.out)


if __name__ == "__main__":
    unittest.main()
