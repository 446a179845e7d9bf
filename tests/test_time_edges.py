"""The edges of times, many stamps at a time, held against the standard library."""

from __future__ import annotations

import itertools
import unittest
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

import polars as pl
from hypothesis import given
from hypothesis import strategies as st

import kinglet
from kinglet.patterns.grammar import PatternError, parse
from kinglet.runtime.event_times import nanoseconds
from kinglet.timestamps.abbreviations import OFFSETS
from kinglet.timestamps.formats import parse_format
from kinglet.timestamps.reading import TimeReading, read
from kinglet.timestamps.stamps_in_text import stamps
from kinglet.timestamps.zones import Zone, to_utc
from tests.helpers import examples

NOON = datetime(2026, 3, 5, 12, tzinfo=UTC)
MANY = 4000
ZONES = ("Europe/Lisbon", "Atlantic/Azores", "America/Caracas", "Pacific/Apia", "Asia/Kathmandu", "Africa/Casablanca")
HEAD = "kinglet: 1\nparser: gate\nversion: 1.0.0\nproduct: {vendor: Brackwater, name: Gatekeeper}\n"


def micros(moment: datetime) -> int:
    return (moment - datetime(1970, 1, 1, tzinfo=UTC)) // timedelta(microseconds=1)


class Many(unittest.TestCase):
    """What is read in thousands goes other ways than what is read one by one."""

    def same(self, wanted: Sequence[int | None], found: Sequence[int | None], of: object = "") -> None:
        """Says the first that differ: the usual comparison of so many takes minutes."""
        differ = [(i, *pair) for i, pair in enumerate(zip(wanted, found, strict=True)) if pair[0] != pair[1]]
        self.assertEqual([], differ[:3], of)

    def read(self, fmt: str, texts: list[str]) -> tuple[list[int | None], list[int | None]]:
        stamped = read(pl.Series(texts), TimeReading((parse_format(fmt),), None, None), NOON)
        beyond = stamped.beyond if stamped.beyond is not None else pl.Series([None] * len(texts))
        return stamped.time.to_physical().to_list(), beyond.to_list()

    def test_fractions_of_any_width(self) -> None:
        for width in range(1, 10):
            fractions = [(i * 7919 + 1) % 10**width for i in range(MANY)]
            texts = [f"2026-03-03T22:10:{i % 60:02}.{part:0{width}}Z" for i, part in enumerate(fractions)]
            found, beyond = self.read("iso8601", texts)
            nanos = [part * 10 ** (9 - width) for part in fractions]
            start = micros(datetime(2026, 3, 3, 22, 10, tzinfo=UTC))
            self.same([start + i % 60 * 1_000_000 + nano // 1000 for i, nano in enumerate(nanos)], found, width)
            self.same([nano % 1000 for nano in nanos], [one or 0 for one in beyond], width)

    def test_the_end_of_a_day_has_no_fraction(self) -> None:
        texts = ["2026-03-03T24:00:00.000Z", "2026-03-03T24:00:00.001Z", "2026-03-03T23:59:59.999Z"] * MANY
        found, _ = self.read("iso8601", texts)
        end = micros(datetime(2026, 3, 4, tzinfo=UTC))
        self.same([end, None, end - 1000] * MANY, found)

    def test_offsets(self) -> None:
        for fmt, form in (("iso8601", "{:%Y-%m-%dT%H:%M:%S}{}"), ("%d/%b/%Y:%H:%M:%S %z", "{:%d/%b/%Y:%H:%M:%S} {}"),
                          ("%A, %d %B %Y %H:%M:%S %z", "{:%A, %d %B %Y %H:%M:%S} {}")):  # fmt: skip
            moments = [NOON + timedelta(minutes=37 * i) for i in range(MANY)]
            offsets = [(i % 47 - 23) * 60 + (i * 7 % 60) * (1 if i % 47 > 22 else -1) for i in range(MANY)]
            signs = [f"{'-' if offset < 0 else '+'}{abs(offset) // 60:02}{abs(offset) % 60:02}" for offset in offsets]
            texts = [form.format(moment, sign) for moment, sign in zip(moments, signs, strict=True)]
            found, _ = self.read(fmt, texts)
            wanted = [micros(moment) - offset * 60_000_000 for moment, offset in zip(moments, offsets, strict=True)]
            self.same(wanted, found, fmt)
            self.assertEqual([None], self.read(fmt, [form.format(NOON, "+0160")])[0])
            self.assertEqual([None], self.read(fmt, [form.format(NOON, "+2400")])[0])
            self.assertEqual([micros(NOON) - 119 * 60_000_000], self.read(fmt, [form.format(NOON, "+0159")])[0])

    @given(st.sampled_from(ZONES), st.lists(st.tuples(st.integers(1950, 2079), st.integers(0, 366 * 24)), max_size=40))
    @examples(60)
    def test_wall_clocks_of_any_years_together(self, name: str, clocks: list[tuple[int, int]]) -> None:
        zone = ZoneInfo(name)
        walls = [datetime(year, 1, 1) + timedelta(hours=hours, minutes=30) for year, hours in clocks]
        column = pl.Series([micros(wall.replace(tzinfo=UTC)) for wall in walls], dtype=pl.Int64)
        # of an hour that occurs twice the first, of one that is skipped as if the clocks had not been changed
        wanted = [micros(wall.replace(tzinfo=zone)) for wall in walls]
        self.assertEqual(wanted, to_utc(column, Zone(name=name)).time.to_list())

    def test_a_january_behind_years_in_which_the_zone_changed(self) -> None:
        for name in ("Europe/Moscow", "Asia/Pyongyang", "Asia/Kathmandu", "America/Caracas", "Pacific/Apia"):
            for years in itertools.combinations((1955, 1984, 1987, 2003, 2012, 2015, 2017, 2020), 2):
                walls = [datetime(year, month, 10, 7, 30) for year in years for month in (1, 2, 7, 12)]
                column = pl.Series([micros(wall.replace(tzinfo=UTC)) for wall in walls], dtype=pl.Int64)
                wanted = [micros(wall.replace(tzinfo=ZoneInfo(name))) for wall in walls]
                self.assertEqual(wanted, to_utc(column, Zone(name=name)).time.to_list(), (name, years))

    def test_what_64_bits_hold(self) -> None:
        limit = (2**63 - 1) // 1000
        values = [0, limit - 1, limit, -limit + 1, -limit, None]
        time = pl.Series(values, dtype=pl.Int64).cast(pl.Datetime("us", "UTC"))
        wanted = [0, (limit - 1) * 1000, None, (1 - limit) * 1000, None, None]
        self.assertEqual(wanted, nanoseconds(time, None).to_list())
        beyond = pl.Series([1, 2, 3, None, 5, 6], dtype=pl.UInt16)
        added = [1, (limit - 1) * 1000 + 2, None, (1 - limit) * 1000, None, None]
        self.assertEqual(added, nanoseconds(time, beyond).to_list())


class One(unittest.TestCase):
    def test_an_abbreviation_behind_a_stamp_is_part_of_it(self) -> None:
        names = [name for name in OFFSETS if len(name) > 2]
        self.assertGreater(len(names), 30)
        for name in names:
            (found,) = stamps(f"2026-11-20 07:08:09 {name} door")
            self.assertEqual(len(f"2026-11-20 07:08:09 {name}"), found.end, name)
        (found,) = stamps("2026-11-20 07:08:09 at the door")
        self.assertEqual(len("2026-11-20 07:08:09"), found.end)

    def test_two_late_events_do_not_end_an_hour_and_three_in_a_row_do(self) -> None:
        # in Lisbon the clocks go back at 01:00 UTC, which is 02:00 there
        start = datetime(2026, 10, 25, 0, 0, tzinfo=UTC)
        parser = kinglet.load(
            HEAD + "clock: {zone: Europe/Lisbon}\ntime: {find: start, format: '%Y-%m-%d %H:%M:%S'}\n"
            "variants: [{name: any, regex: '^(?P<all>.*)$'}]\n"
        )
        for late, in_time in ((2, True), (3, False)):
            moments = [start + timedelta(seconds=20 * i) for i in range(90)]
            moments[60:60] = [start + timedelta(minutes=10, seconds=i) for i in range(late)]
            lines = [f"{moment.astimezone(ZoneInfo('Europe/Lisbon')):%Y-%m-%d %H:%M:%S} x" for moment in moments]
            times = parser.parse(lines, reference_time="2026-11-01").events["time"].to_list()
            self.assertIs(in_time, times == moments, late)

    def test_what_neither_rule_reads_shows_what_stood_there(self) -> None:
        parser = kinglet.load(
            HEAD + "time:\n  - {from: first, format: iso8601}\n  - {from: second, format: iso8601}\n"
            "variants: [{name: any, pattern: '[[a={first:word} ]]b={second:word}[[ c]]'}]\n"
            "event: {class: Base Event}\n"
        )
        lines = ["a=x b=y", "b=y", "a=x b=2026-03-05T01:02:03Z", "a=2026-03-05T01:02:04Z b=y", "b=2026-03-05T01:02:05Z"]
        told = [one["metadata"].get("original_time") for one in parser.parse(lines).to_model()]
        self.assertEqual(["x", "y", "2026-03-05T01:02:03Z", "2026-03-05T01:02:04Z", "2026-03-05T01:02:05Z"], told)

    def test_the_innermost_part_that_is_not_closed_is_shown(self) -> None:
        for pattern, at in (
            ("door [[ {a:word}", 5),
            ("door [[[[ x", 7),
            ("[[a]] [[ b [[[ c", 11),
            ("a [[b [[c]] d", 2),
        ):
            with self.subTest(pattern), self.assertRaises(PatternError) as caught:
                parse(pattern)
            self.assertEqual(at, caught.exception.offset)
