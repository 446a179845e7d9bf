"""Times of whole logs through the public interface: the story of any days, folders, pipes, what is handed on."""

from __future__ import annotations

import json
import os
import random
import re
import unittest
from datetime import UTC, datetime, timedelta
from pathlib import Path

import polars as pl

import kinglet
from kinglet.demo.logs import LOGS, SEED, log_bytes
from kinglet.demo.scenario import DAYS, Story
from kinglet.timestamps.directives import DIRECTIVES
from kinglet.timestamps.formats import NAMED, parse_format
from kinglet.timestamps.notes import NOTES
from tests.helpers import ROOT, InFolder, kinglet_process, with_pattern
from tests.helpers import kinglet as command

PARSERS = ROOT / "src" / "kinglet" / "demo" / "parsers"
FIRST_DAYS = {
    "in winter": datetime(2026, 3, 2, tzinfo=UTC),
    "clocks go forward": datetime(2026, 3, 26, tzinfo=UTC),
    "clocks go back": datetime(2026, 10, 22, tzinfo=UTC),
    "over New Year": datetime(2026, 12, 30, tzinfo=UTC),
    "over a leap day": datetime(2028, 2, 27, tzinfo=UTC),
}
PLAIN = "time: {find: start, format: '%Y-%m-%d %H:%M:%S', zone: Europe/Lisbon}\n"


class Stories(unittest.TestCase):
    def test_every_log_gives_the_instants_that_were_written(self) -> None:
        """The generators know the instants; in the repeated hour only what the log's order shows can be right."""
        for about, first in FIRST_DAYS.items():
            story = Story(first)
            for name, form in LOGS.items():
                entries = sorted(entry.at for entry in form.entries(story, random.Random(f"{SEED} {name}")))
                entries = entries[form.suffix == ".csv" :]  # the header is no event
                result = kinglet.load(PARSERS / f"{name}.yaml").parse(
                    log_bytes(name, story=story), reference_time=story.end
                )
                found = result.events["time"].drop_nulls().to_list()
                with self.subTest(story=about, log=name):
                    self.assertEqual(len(entries), len(found))
                    off = [(at, time) for at, time in zip(entries, found, strict=True)
                           if abs(at - time) >= timedelta(seconds=1)]  # fmt: skip
                    noted = result.events.filter(pl.col("time_notes").list.contains("hour-twice-first")).height
                    self.assertLessEqual(len(off), noted)
                    self.assertTrue(about == "clocks go back" or not noted)

    def test_look_reads_the_stamps_of_any_story_without_a_hint(self) -> None:
        for about, first in FIRST_DAYS.items():
            for name in ("winch-audit", "harbour-radar", "slipway-vpn"):
                best = kinglet.look(log_bytes(name, story=Story(first)))[0].stamps[0]
                with self.subTest(story=about, log=name):
                    assert best.first is not None and best.last is not None
                    self.assertEqual(first.date(), best.first.date())
                    self.assertLess(best.last - first, timedelta(days=DAYS + 1))


class Folders(InFolder):
    def test_each_log_has_its_own_reference_and_its_own_night(self) -> None:
        night = "2026-10-25 01:40:00 a\n2026-10-25 01:10:00 b\n2026-10-25 01:20:00 c\n"
        (self.folder / "in").mkdir()
        for name in ("1.log", "2.log", "3.log"):
            self.write(f"in/{name}", night)
        times = kinglet.load(with_pattern("{m:rest}") + PLAIN).parse("in").events["time"]
        self.assertEqual(["00:40", "01:10", "01:20"] * 3, [f"{time:%H:%M}" for time in times])

        yearless = kinglet.load(with_pattern("{m:rest}") + "time: {find: start, format: rfc3164}\n")
        for name, at in (("1.log", "2026-01-02"), ("2.log", "2025-12-31"), ("3.log", "2025-06-01")):
            written = datetime.fromisoformat(f"{at}T12:00:00+00:00").timestamp()
            os.utime(self.write(f"in/{name}", "Dec 31 23:00:00 a\nJan  1 01:00:00 b\n"), (written, written))
        times = yearless.parse("in").events["time"]
        self.assertEqual([2025, 2026, 2025, 2026, 2024, 2025], times.dt.year().to_list())

    def test_a_log_without_dates_takes_them_from_its_own_name(self) -> None:
        text = with_pattern("{m:rest}") + "time: {find: start, format: '%H:%M:%S', date: file}\n"
        for day in (4, 5):
            self.write(f"gate-2026-03-0{day}.log", "23:59:58 a\n00:00:01 b\n")
        self.write("gate.yaml", text)
        done = command("run", "-p", "gate.yaml", "gate-2026-03-04.log", "gate-2026-03-05.log", "-o", "out.ndjson")
        self.assertEqual(0, done.status, done.err)
        rows = [json.loads(line) for line in Path("out.ndjson").read_text().splitlines()]
        self.assertEqual(
            ["2026-03-04T23:59:58", "2026-03-05T00:00:01", "2026-03-05T23:59:58", "2026-03-06T00:00:01"],
            [row["time"][:19] for row in rows],
        )
        self.assertEqual(["at the start"] * 4, [row["time_rule"] for row in rows])
        self.assertEqual([["date-of-name"]] * 4, [row["time_notes"] for row in rows])

    def test_what_is_noted_goes_into_the_mapped_event(self) -> None:
        parser = kinglet.load(with_pattern("{m:rest}") + PLAIN)
        raw = ["2026-10-25 01:30:00 a", "2026-03-29 01:30:00 b", "2026-03-01 01:30:00 c"]
        events = list(parser.parse(raw, reference_time="2026-11-01").to_model())
        self.assertEqual(
            [["hour-twice-first"], ["hour-skipped"], None],
            [event.get("unmapped", {}).get("time_notes") for event in events],
        )
        self.assertEqual([text[:19] for text in raw], [event["metadata"]["original_time"] for event in events])
        instants = [datetime.fromtimestamp(event["time"] / 1000, UTC) for event in events]
        self.assertEqual(["00:30", "01:30", "01:30"], [f"{instant:%H:%M}" for instant in instants])


class Pipes(InFolder):
    def test_the_reference_of_a_pipe_is_its_arrival_or_what_the_call_says(self) -> None:
        self.write("p.yaml", with_pattern("{m:rest}") + "time: {find: start, format: rfc3164}\n")
        yesterday = datetime.now(UTC) - timedelta(days=1)
        given = f"{yesterday:%b %d %H:%M:%S} x\n".encode()
        for options, year in (((), yesterday.year), (("--at", "2021-12-31"), 2021)):
            done = kinglet_process("run", "-p", "p.yaml", "-", "-o", "out.ndjson", *options, given=given)
            self.assertEqual(0, done.returncode, done.stderr)
            self.assertEqual(str(year), json.loads(Path("out.ndjson").read_text())["time"][:4])

    def test_a_stamp_behind_three_megabytes_is_looked_for_only_as_far_as_said(self) -> None:
        self.write("long.log", "x" * 3_000_000 + " at 2026-03-03 22:10:41\n2026-03-03 22:10:42 y\n")
        for within, wanted in (("", [41, 42]), (", within: 20", [None, 42])):
            rule = f"time: {{find: anywhere, format: '%Y-%m-%d %H:%M:%S'{within}}}\n"
            events = kinglet.load(with_pattern("{m:rest}") + rule).parse("long.log", reference_time="2026-03-05").events
            self.assertEqual(wanted, [time and time.second for time in events["time"]])


class Documented(unittest.TestCase):
    TEXT = (ROOT / "docs" / "times.md").read_text(encoding="utf-8")

    def test_directives_formats_and_notes(self) -> None:
        rows = dict(re.findall(r"^\| `([^`]+)` \| (.*) \|$", self.TEXT, re.MULTILINE))
        for code, directive in DIRECTIVES.items():
            self.assertEqual(directive.about, rows[code], code)
        for note in NOTES:
            self.assertEqual(note.about, rows[note.name], note.name)
        for name in NAMED:
            self.assertRegex(self.TEXT, rf"\| (`\w+` )*`{name}`( `\w+`)* \|")

    def test_a_zone_behind_a_time_of_day_is_refused(self) -> None:
        for text in ("%H:%M:%S%z", "%H:%M %Z", "%T[[ %z]]"):
            with self.assertRaisesRegex(ValueError, "has a zone without a date; write the zone as text"):
                parse_format(text)


if __name__ == "__main__":
    unittest.main()
