"""The first look: right about the demo logs, about real logs of this machine, and about odd ones."""

from __future__ import annotations

import json
import logging
import os
import re
import subprocess
import sys
import unittest
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any
from unittest import mock

import polars as pl

import kinglet as package
from kinglet.demo import scenario
from kinglet.demo.logs import LOGS
from kinglet.demo.writing import write_demo
from kinglet.discover import sample
from kinglet.discover.columns import type_of
from kinglet.discover.report import Look
from kinglet.source.logs import Source
from kinglet.spec.ready import ready_parsers
from kinglet.timestamps.formats import parse_format
from kinglet.timestamps.known_forms import FINDABLE
from kinglet.timestamps.stamps_in_text import format_of, stamps
from tests.helpers import ROOT, InFolder, kinglet

# name: encoding, container, events, number of events, place of the time, its format
DEMO: dict[str, tuple[str, str | None, dict[str, Any], str, str]] = {
    "pump-panel": ("utf-8", None, {"line": True}, "at the start", "%d/%b %H:%M:%S"),
    "slipway-vpn": ("utf-8", "key=value", {"line": True}, "at the start, after `ts=`", "epoch_ms"),
    "jump-host": ("utf-8", "RFC 3164", {"line": True}, "at the start", "%b %e %H:%M:%S"),
    "kiosk-app": (
        "utf-8", None, {"start": r"^[A-Za-z]+\s+\d{4}-\d{2}-\d{2}[T ]\d{2}:\d{2}"}, "the first in the event", "iso8601",
    ),
    "winch-audit": ("utf-8", "labelled blocks", {"blank-line": True}, "after `Time:`", "%d/%m/%Y %H:%M:%S"),
    "manifest-store": ("utf-8", "JSON lines", {"json": True}, 'at the start, after `{"time": "`', "iso8601"),
    "resolver": ("utf-8", "CSV", {"csv": True}, "at the start", "epoch"),
    "harbour-radar": ("utf-16-le", "CSV", {"csv": {"delimiter": ";"}}, "at the start", "%d.%m.%Y %H:%M:%S"),
}  # fmt: skip


def one(log: object, **options: Any) -> Look:
    return package.look(log, **options)[0]  # type: ignore[arg-type]


class DemoLogs(InFolder):
    def setUp(self) -> None:
        super().setUp()
        self.logs = {item.name: item for item in write_demo(self.folder)}

    def test_form_boundaries_and_time_of_every_demo_log(self) -> None:
        self.assertEqual(set(LOGS), set(DEMO))
        for name, (encoding, container, events, place, text) in DEMO.items():
            with self.subTest(log=name):
                found = one(self.logs[name].log)
                self.assertEqual(encoding, found.basics.encoding)
                self.assertEqual(container, found.container.name if found.container else None)
                self.assertEqual(events, found.boundaries[0].events)
                self.assertEqual(1.0, found.boundaries[0].explained)
                self.assertEqual(
                    (place, text, True), (found.stamps[0].place, found.stamps[0].format, found.stamps[0].is_time)
                )
                parsed = package.load(self.logs[name].parser).parse(self.logs[name].log)
                self.assertEqual(len(parsed), found.events)
                self.assertEqual(sum(shape.count for shape in found.shapes), found.events)
                times = parsed.events["time"].drop_nulls()
                first, last = found.stamps[0].first, found.stamps[0].last
                assert first is not None and last is not None
                self.assertLess(abs(times.min() - first), timedelta(hours=2))  # type: ignore[operator]
                self.assertLess(abs(times.max() - last), timedelta(hours=2))  # type: ignore[operator]

    def test_what_it_suggests_loads_and_reads_every_event(self) -> None:
        for name, item in self.logs.items():
            with self.subTest(log=name):
                found = one(item.log)
                self.assertRegex(found.command, rf"^kinglet try {name}\.yaml \S+{name}")
                counts = package.load(found.suggestion).parse(item.log).counts
                self.assertEqual((found.events, found.events), (counts["events"], counts["complete"]))

    def test_it_finds_what_the_story_leaves_behind(self) -> None:
        vpn = one(self.logs["slipway-vpn"].log).pairs[0]
        self.assertEqual(("user", "src_ip", "one to one", 1), (vpn.one, vpn.many, vpn.relation, vpn.exceptions))
        self.assertEqual(
            [f"user {scenario.VICTIM} has 2 src_ip: {scenario.HOMES[scenario.VICTIM]}, {scenario.STRANGER}"],
            vpn.examples,
        )
        cards = [pair for pair in one(self.logs["kiosk-app"].log).pairs if {pair.one, pair.many} == {"card", "user"}]
        self.assertTrue(any("has 2" in example and scenario.VICTIM in example for example in cards[0].examples), cards)
        store = one(self.logs["manifest-store"].log).pairs[0]
        self.assertIn(scenario.TUNNEL, store.examples[0])

    def test_shapes_have_slots_with_names_and_types(self) -> None:
        texts = [shape.text for shape in one(self.logs["pump-panel"].log).shapes]
        self.assertEqual("{stamp:time} {unit} PMP/4001 pump {pump:int} started", texts[0])
        self.assertIn("{stamp:time} {unit} PMP/4002 pump {pump:int} stopped after {after:int}s", texts)
        self.assertTrue(any("setpoint {setpoint} {number:num} -> {number_2:num} by {user}[[" in text for text in texts))
        jump = one(self.logs["jump-host"].log).shapes
        self.assertTrue(any("session opened for user {user}(uid={uid:int}) by (uid=" in shape.text for shape in jump))
        columns = {column.name: column for shape in jump for column in shape.columns}
        self.assertEqual(("port", "unique"), (columns["port"].type, columns["port"].about))

    def test_shapes_are_the_variants_of_a_draft(self) -> None:
        for name in ("pump-panel", "jump-host", "kiosk-app"):
            shapes, messages = one(self.logs[name].log).shapes, package.draft(self.logs[name].log).messages
            self.assertEqual(sorted(one.count for one in messages), sorted(one.count for one in shapes))
            by_text = {shape.text: shape.count for shape in shapes}
            for message in messages:
                self.assertEqual([message.count], [by_text[text] for text in by_text if text.endswith(message.pattern)])

    def test_day_and_month_are_told_by_when_the_log_was_written(self) -> None:
        found = one(self.logs["winch-audit"].log).stamps[0]
        self.assertIn(
            "the other way the log would run on to 2026-06-03, and it was written by 2026-03-07", found.ambiguity
        )

    def test_second_stamps_are_told_of(self) -> None:
        found = one(self.logs["kiosk-app"].log).stamps[1]
        self.assertEqual(("after `booked`", "%d/%m/%Y", False), (found.place, found.format, found.is_time))
        self.assertIn("from the event's time at the median", found.apart)

    def test_the_command_shows_it_within_100_columns(self) -> None:
        for name, item in self.logs.items():
            with self.subTest(log=name):
                called = kinglet("look", item.log)
                self.assertEqual(0, called.status, called.err)
                for said in (
                    "encoding",
                    "line ends",
                    "events  where",
                    "times  where",
                    "shapes",
                    "columns",
                    "next  put",
                ):
                    self.assertIn(said, called.out)
                shown = called.out.partition("next  put")[0].splitlines()[1:]
                self.assertLessEqual(max(len(line) for line in shown), 100)

    def test_json_has_all_of_it(self) -> None:
        called = kinglet("look", self.logs["slipway-vpn"].log, self.logs["resolver"].log, "--json")
        logs = json.loads(called.out)["logs"]
        self.assertEqual(2, len(logs))
        self.assertEqual(one(self.logs["slipway-vpn"].log).to_dict()["pairs"], logs[0]["pairs"])
        self.assertEqual("CSV", logs[1]["container"]["name"])
        self.assertLess({"basics", "boundaries", "stamps", "shapes", "command", "suggestion"}, set(logs[0]))


class RealLogs(InFolder):
    def test_logs_of_the_package_manager(self) -> None:
        for path, events, text in (
            ("/var/log/dpkg.log", {"line": True}, "iso8601"),
            ("/var/log/alternatives.log", {"line": True}, "iso8601"),
            ("/var/log/apt/history.log", {"start": "^Start-Date:"}, "%Y-%m-%d %H:%M:%S"),
        ):
            with self.subTest(log=path):
                if not Path(path).exists() or not Path(path).stat().st_size:
                    self.skipTest(f"this machine has no {path}")
                found = one(path)
                self.assertEqual(events, found.boundaries[0].events)
                self.assertEqual((text, True), (found.stamps[0].format, found.stamps[0].is_time))
                counts = package.load(found.suggestion).parse(path).counts
                self.assertEqual(counts["events"], counts["complete"])
        self.assertIn("dpkg", ready_parsers())
        self.assertEqual("kinglet try dpkg /var/log/dpkg.log", one("/var/log/dpkg.log").command)

    def test_a_git_log(self) -> None:
        done = subprocess.run(["git", "-C", str(ROOT), "log", "--stat"], capture_output=True, check=False)
        commits = len(re.findall(rb"^commit ", done.stdout, re.MULTILINE))
        if commits < 3:
            self.skipTest("there is no history here")
        found = one(done.stdout)
        self.assertEqual(({"start": "^commit"}, commits), (found.boundaries[0].events, found.events))
        self.assertEqual("after `Date:`", found.stamps[0].place)

    def test_a_program_with_stack_traces(self) -> None:
        path = self.folder / "store.log"
        handler = logging.FileHandler(path)
        handler.setFormatter(logging.Formatter("%(asctime)s %(levelname)s %(name)s: %(message)s"))
        logger = logging.Logger("quay.store")
        logger.addHandler(handler)
        for i in range(60):
            logger.info("stored manifest M-%d in %d ms", i, i * 7)
            try:
                _ = 1 // (i % 5)
            except ZeroDivisionError:
                logger.exception("cannot store M-%d", i)
        handler.close()
        found = one(path)
        self.assertEqual({"start": r"^\d{4}-\d{2}-\d{2}[T ]\d{2}:\d{2}"}, found.boundaries[0].events)
        self.assertEqual(72, found.events)
        self.assertEqual([60, 12], [shape.count for shape in found.shapes])
        self.assertIn("Traceback", found.boundaries[-1].wrong + found.boundaries[1].wrong)


class Oddities(InFolder):
    def test_containers(self) -> None:
        records = [{"t": f"2026-03-05T01:{i:02}:00Z", "u": "m.okoro", "n": {"k": i}} for i in range(20)]
        xml = "<Events>" + "".join(f"<Event id='{i}'><A>{i}</A></Event>\n" for i in range(9)) + "</Events>"
        five = "".join(
            f'<34>1 2026-03-05T01:00:{i:02}Z quay-1.example app 77 ID{i} [a b="1"] hello\n' for i in range(9)
        )
        ncsa = "".join(
            f'192.0.2.{i} - - [05/Mar/2026:01:00:{i:02} +0000] "GET / HTTP/1.1" 200 {i * 9}\n' for i in range(9)
        )
        for text, name, events in (
            (json.dumps(records), "JSON array", {"json": True}),
            (json.dumps({"next": 1, "Records": records}), "JSON under a key", {"json": "Records"}),
            ("\n".join(json.dumps(r, indent=2) for r in records), "JSON objects, pretty-printed", {"json": True}),
            (xml, "XML", {"xml": "Event"}),
            (five, "RFC 5424", {"line": True}),
            ("".join(f"{len(line.encode())} {line}" for line in five.splitlines()) * 3, "RFC 5424", {"counted": True}),
            (ncsa, "NCSA access log", {"line": True}),
            ("a|b|c\n" + "1|x y|2\n" * 9, "CSV", {"csv": {"delimiter": "|"}}),
            ("".join(f"{i}\t10.5\tok\n" for i in range(9)), "CSV", {"csv": {"delimiter": "\t", "header": False}}),
            ("# doors v2; when|door|badge\n" + "05:01|door 1|77\n" * 9, "CSV", {"csv": {"delimiter": "|"}}),
        ):
            with self.subTest(name=name, events=events):
                found = one(text.encode())
                assert found.container is not None
                self.assertEqual((name, events), (found.container.name, found.boundaries[0].events))
                self.assertEqual(len(package.load(found.suggestion).parse(text.encode())), found.events)

    def test_lines_of_one_sign_separate_events(self) -> None:
        text = "".join(f"change {i} by m.okoro at 05.03.2026 10:0{i}\n  old: {i}\n----\n" for i in range(9))
        for data, separator in ((text, "\n----\n"), (text.replace("\n", "\r\n"), "\r\n----\r\n")):
            found = one(data.encode())
            self.assertEqual(({"separator": separator}, 9), (found.boundaries[0].events, found.events))
            self.assertEqual({"start": "^change"}, found.boundaries[1].events)
            counts = package.load(found.suggestion).parse(data.encode()).counts
            self.assertEqual((9, 9), (counts["events"], counts["complete"]))

    def test_what_is_odd_is_said_with_its_lines(self) -> None:
        data = (
            b"10:00 a\r\n" * 5
            + b"10:01 b\n\n10:02 z\x00z\n10:03 \xff\n"
            + "10:04 ü\n".encode() * 9
            + b"x" * 20_000
            + b"\n"
        )
        found = one(data).basics
        said = {odd.what.split(",")[0]: (odd.count, odd.lines) for odd in found.anomalies}
        self.assertEqual((1, [8]), said["zero bytes"])
        self.assertEqual((1, [9]), said["bytes that are not in the encoding"])
        self.assertIn("mixed line ends", said)
        self.assertEqual((1, [19]), said["lines of more than 16"])
        self.assertEqual(({"LF": 14, "CRLF": 5}, 1), (found.line_ends, found.empty_lines))
        self.assertEqual((20_000, 19), (found.longest_line, found.longest_line_number))
        mixed = one(b'{"time": 1}\n' * 40 + b"Mar  5 01:31:00 quay-1 sshd[7]: hello\n" * 60 + b"x").basics.anomalies
        self.assertEqual(
            [
                ("the last line has no end: it may be cut off, or still be written", 1),
                ("lines are RFC 3164, the others are not: mixed formats", 60),
                ("lines are JSON, the others are not: mixed formats", 40),
            ],
            [(odd.what, odd.count) for odd in mixed[:3]],
        )
        broken = one(b'{"a": 1}\n' * 30 + b'{"b": \n' + b'{"a": 2}\n' * 30 + b'{"a": \n')
        self.assertEqual(
            [("events whose end is missing", 2)], [(odd.what, odd.count) for odd in broken.basics.anomalies]
        )

    def test_day_or_month_first(self) -> None:
        written = datetime(2026, 12, 31, tzinfo=UTC).timestamp()
        for days, said, text in (
            (
                ["03/04", "14/04", "15/04"],
                "day first: in 2 the first number is above 12, such as line 2: `14/04/2026",
                "%d/%m",
            ),
            (["03/04", "04/14", "04/15"], "month first: in 2 the second number is above 12", "%m/%d"),
            (["03/14", "14/03"], "both orders: line 2 can only be day first, line 1 only month first", "%d/%m"),
            (["03/04", "03/05", "04/01"], "month first is likely, not sure", "%m/%d"),
            (["03/03", "04/04"], "cannot be told from this sample", "%d/%m"),
            (["12/03"], "month first is likely, not sure: no number is above 12, but so the log ends", "%m/%d"),
        ):
            with self.subTest(days=days):
                path = self.write("x.log", "".join(f"{day}/2026 10:00:00 pump started\n" for day in days))
                os.utime(path, (written, written))
                found = one(path).stamps[0]
                self.assertIn(said, found.ambiguity)
                self.assertEqual(f"{text}/%Y %H:%M:%S", found.format)

    def test_a_year_of_two_digits_may_stand_first(self) -> None:
        written = datetime(2026, 12, 31, tzinfo=UTC).timestamp()
        for dates, said, text in (
            (["26/12/03", "26/12/04", "26/12/05"], "the year first: the first number changes less", "%y/%m/%d"),
            (["03/12/26", "04/12/26"], "", "%d/%m/%y"),
            (["26/12/23", "26/12/23"], "the year first is likely, not sure: so the log ends on 2026-12-23", "%y/%m/%d"),
            (["12/11/10", "12/11/10"], "the year first", "%y/%m/%d"),
        ):
            with self.subTest(dates=dates):
                path = self.write("x.log", "".join(f"{day} 10:00:0{i} pump on\n" for i, day in enumerate(dates)))
                os.utime(path, (written, written))
                found = one(path).stamps[0]
                self.assertIn(said, found.ambiguity)
                self.assertEqual(f"{text} %H:%M:%S", found.format)

    def test_where_events_start(self) -> None:
        for event, start in (
            ("Nov 24 21:15:{0:02} 2026 winch {0}\n  load={0}\n", r"^[A-Za-z]+ [ \d]\d \d+:\d{2}:\d{2} (?:19|20)\d{2}"),
            ("-----BEGIN-----\nid={0}\ntime=2026-11-24T21:15:{0:02}Z\n  more\n-----END-----\n", "^-----BEGIN-----$"),
            ("20261124T2115{0:02}Z gate {0}\n\tis open\n", r"^(?:19|20)\d{6}T\d{4}"),
        ):
            with self.subTest(event=event):
                found = one("".join(event.format(i) for i in range(40)).encode())
                self.assertEqual(({"start": start}, 40), (found.boundaries[0].events, found.boundaries[0].count))
                self.assertEqual((1.0, True), (found.stamps[0].share, found.stamps[0].is_time))
                self.assertEqual(datetime(2026, 11, 24, 21, 15, 39, tzinfo=UTC), found.stamps[0].last)

    def test_where_the_date_of_times_of_day_may_be(self) -> None:
        clocks = [f"10:00:{i:02} pump {i} on\n" for i in range(30)]
        for text, said in (
            ("".join(f"23 listopada 2026 {line}" for line in clocks), "such as `23 listopada 2026`, may be its date"),
            ("".join(f"== 0{day} Nov 2026 ==\n{''.join(clocks)}" for day in (3, 4)), "such as `== 03 Nov 2026 ==`"),
            ("".join(clocks), ""),
        ):
            with self.subTest(said=said):
                place = one(text.encode()).stamps[0]
                self.assertEqual(("%H:%M:%S", not said), (place.format, place.decided))
                self.assertIn(said, place.ambiguity)

    def test_large_logs_are_sampled_and_it_is_said(self) -> None:
        lines = "".join(
            f"2026-03-05T{i // 3600 % 24:02}:{i // 60 % 60:02}:{i % 60:02}Z pump {i % 7} started\n"
            for i in range(40_000)
        )
        path = self.write("big.log", lines)
        wide = self.write("wide.log", lines.encode("utf-16"))
        with mock.patch.multiple(sample, WHOLE_BYTES=300_000, PART_BYTES=60_000, MOST_BYTES=900_000):
            for log in (path, wide, lines.encode()):
                with self.subTest(log=log if isinstance(log, Path) else "bytes"):
                    found = one(log)
                    self.assertFalse(found.whole)
                    self.assertIn("head, middle and tail", found.looked_at)
                    self.assertEqual(1, found.shape_count)
                    self.assertEqual("iso8601", found.stamps[0].format)
                    self.assertEqual(0, sum(odd.count for odd in found.basics.anomalies))
            estimate = one(path).basics
            self.assertTrue(estimate.lines_estimated)
            self.assertAlmostEqual(40_000, estimate.lines, delta=500)

    def test_a_large_log_on_one_line_or_with_returns_only(self) -> None:
        array = json.dumps([{"time": f"2026-03-05T01:{i % 60:02}:00Z", "n": i} for i in range(20_000)])
        returns = "2026-03-05T01:31:00Z pump 3 started\r" * 20_000
        with mock.patch.multiple(sample, WHOLE_BYTES=300_000, PART_BYTES=60_000):
            found = one(self.write("array.json", array))
            assert found.container is not None
            self.assertEqual("JSON array", found.container.name)
            self.assertEqual("events whose end is missing", found.basics.anomalies[-1].what)
            found = one(self.write("returns.log", returns))
            self.assertEqual((["CR"], 1), (list(found.basics.line_ends), found.shape_count))

    def test_a_pipe_that_is_still_written_to_is_looked_at_as_far_as_it_has_come(self) -> None:
        reader, writer = os.pipe()
        os.write(writer, b"2026-03-05T01:31:00Z pump 3 started\n" * 3)
        with (
            mock.patch.object(sys, "stdin", mock.Mock(buffer=os.fdopen(reader, "rb"))),
            mock.patch.object(Source.chunks, "__kwdefaults__", {"idle": 0.2, "head_texts": None}),
        ):
            found = one("-")
        os.close(writer)
        self.assertEqual((3, "what had come of it, 108 bytes"), (found.events, found.looked_at))

    def test_a_folder_is_looked_at_as_one_log(self) -> None:
        for i in range(100):
            self.write(f"{i:03}.log", f"2026-03-05T01:00:{i % 60:02}Z pump {i} started\n" * 3)
        found = one(self.folder)
        self.assertEqual((100, 1, 180), (found.files, found.shape_count, found.events))
        self.assertIn("60 of 100 files", found.looked_at)
        self.assertEqual(150, one("0[0-4]*.log").events)

    def test_one_line_no_final_newline_and_nothing(self) -> None:
        self.assertEqual(1, one(b"x").events)
        self.assertEqual(1, one("2026-03-05T01:00:00Z a\u2028b\x85c".encode()).events)
        for data in (b"", b"\n \n", b"\xef\xbb\xbf"):
            with self.subTest(data=data), self.assertRaisesRegex(package.InputError, "nothing to look at"):
                one(data)
        self.write("empty.log", "")
        for name, said in {"empty.log": "is empty", "none.log": "no such file"}.items():
            called = kinglet("look", name)
            self.assertEqual((2, ""), (called.status, called.out))
            self.assertRegex(called.err, rf"^kinglet: {name}: {said}.*\n$")


class Parts(unittest.TestCase):
    def test_every_form_of_stamp_is_found_and_what_it_suggests_reads_it(self) -> None:
        for text, name in {
            "2026-03-05T01:31:00.123+01:00": "ISO 8601",
            "2026-03-05 01:31:00,123": "ISO 8601",
            "Thu, 05 Mar 2026 01:31:00 +0000": "RFC 5322 date",
            "Thu Mar  5 01:31:00 2026": "C date",
            "Thu Mar 5 01:31:00 2026 +0100": "C date",
            "05/Mar/2026:01:31:00 +0000": "NCSA",
            "05/Mar/2026 01:31:00.5": "day/month name/year",
            "5-Mar-2026 01:31:00": "day-month name-year",
            "05 Mar 2026 01:31:00": "day month name year",
            "Mar 5, 2026 1:31:00 AM": "month name, 12 hours",
            "Mar  5 2026 01:31:00": "month name day year",
            "Mar  5 01:31:00": "RFC 3164, no year",
            "05/Mar 01:31:00": "day/month name, no year",
            "2026/03/05 01:31:00": "year/month/day",
            "2026.03.05 01:31:00": "year.month.day",
            "05/03/2026 01:31:00 PM": "slashes, 12 hours",
            "05/03/2026, 01:31:00": "slashes",
            "05/03/2026 01:31": "slashes, minutes",
            "05.03.2026 01:31:00": "points",
            "05-03-2026 01:31:00": "dashes",
            "05.03.2026 01:31": "points, minutes",
            "05/03/26 01:31:00": "slashes, two-digit year",
            "20260305T013100Z": "ISO 8601 basic",
            "20260305013100": "compact",
            "1772674260": "epoch, seconds",
            "1772674260.123": "epoch, seconds",
            "1772674260123": "epoch, milliseconds",
            "1772674260123456": "epoch, microseconds",
            "1772674260123456789": "epoch, nanoseconds",
            "2026-03-05": "date",
            "05/03/2026": "date, slashes",
            "01:31:00:250": "time of day",
            "Thu Mar  5 01:31:00 CET 2026": "C date with a zone name",
            "2026-03-05  01:31:00": "ISO 8601, several blanks",
        }.items():
            with self.subTest(text=text):
                found = stamps(f"x={text}, and 12 more")
                self.assertEqual([(name, text)], [(s.form.name, f"x={text}"[s.start : s.end]) for s in found])
                if found[0].form.format and found[0].form.clock:
                    spec = format_of(found[0].form, text)
                    date = "" if found[0].form.date else ", date: file"
                    parsed = package.load(
                        "kinglet: 1\nparser: x\nversion: '1'\nproduct: {vendor: a, name: b}\n"
                        f'time: {{from: stamp, format: "{spec}"{date}}}\n'
                        'variants: [{name: v, pattern: "{stamp:time}"}]\n'
                    ).parse([text], reference_time="2026-03-05")
                    self.assertEqual(datetime(2026, 3, 5).date(), parsed.events["time"].item().date(), spec)
        self.assertEqual(len(FINDABLE), len({form.name for form in FINDABLE}))
        self.assertTrue(all(parse_format(form.swapped) for form in FINDABLE if form.swapped))

    def test_no_stamp_in_what_only_looks_like_one(self) -> None:
        for text in ("10.0.2026.99", "id 99177267426012", "ratio 1:2:3", "v2026.03", "Mary 5 apples", "2026-13"):
            self.assertEqual([], [s.form.name for s in stamps(text)], text)

    def test_types_of_columns(self) -> None:
        for values, name in (
            (["192.0.2.1", "198.51.100.7"], "ipv4"), (["2001:db8::1"], "ipv6"), (["1", "-2"], "int"),
            (["1.5", "2"], "num"), (["0x1f", "0xAB"], "hex"), (["00:00:5e:00:53:0a"], "mac"), (["m.okoro"], "word"),
            (["a@marram.example"], "email"), (["https://a.example/x"], "url"), (["/srv/x", "/"], "path"),
            (["store.marram.example"], "host"), ([], "empty"),
            (["yes", "no"], "bool"), (["2026-03-05 01:00:00"], "time"), (["two words", "x"], "text"),
            (["0f1c2d3e-0000-4000-8000-00000000002a"], "uuid"), ([None, "7"], "int"),
        ):  # fmt: skip
            with self.subTest(name=name):
                self.assertEqual(name, type_of(pl.Series(values, dtype=pl.String)))
