"""Line ends within events: patterns and regexes read CRLF as they read LF, and raw text and keys keep it."""

from __future__ import annotations

import json
import re
import tempfile
import unittest
from pathlib import Path

import polars as pl
from hypothesis import given
from hypothesis import strategies as st

import kinglet

HEAD = "kinglet: 1\nparser: locks\nversion: 1.0.0\nproduct: {vendor: Quayline, name: Locks}\n"
CUTS = {
    "start: '^gate'": "",
    "end: '^  end'": "",
    'separator: "\\n--\\n"': "--\n",
    "{end: '^  end', max_lines: 9}": "",
    "blank-line": "\n",
}
READINGS = (
    'pattern: "gate {gate:int} {what:text}\\n  {key:text}: {value:text}\\n  end[[ {by:word}]]"',
    r"regex: '^gate (?P<gate>\d+) (?P<what>.*)\n  (?P<key>.*): (?P<value>.*)\n  end(?: (?P<by>.*))?$'",
    r"regex: '^gate (?P<gate>\d+) (?P<what>.*)(?<!x)\n  (?P<key>.*): (?P<value>.*)\n  end(?: (?P<by>.*))?$'",
    'pattern: "gate {gate:int} {what:text}\\n{:block}"',
)
ENVELOPES = ("", "envelope: '{name:word} {body:rest}'\n")
EXACT = ("raw", "file", "offset", "id")


def parser_of(cut: str, envelope: str, reading: str) -> kinglet.Parser:
    cut = cut if cut.startswith("{") or ":" not in cut else f"{{{cut}}}"
    reading = reading.replace("gate {", "{").replace("^gate ", "^") if envelope else reading
    return kinglet.load(f"{HEAD}events: {cut}\n{envelope}variants: [{{name: moved, {reading}}}]\n")


def read(parser: kinglet.Parser, log: str) -> pl.DataFrame:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "gates.log"
        path.write_bytes(log.encode())
        return parser.parse(path, reference_time="2026-11-30").events


class OfEvents(unittest.TestCase):
    def test_fields_are_those_of_the_same_log_with_other_line_ends(self) -> None:
        for cut, between in CUTS.items():
            log = "".join(
                f"gate {i} half open\n  why: tide {i}\n  end{' m.okoro' if i % 2 else ''}\n{between}" for i in range(7)
            )
            for envelope in ENVELOPES:
                for reading in READINGS:
                    with self.subTest(cut=cut, envelope=envelope, reading=reading):
                        parser = parser_of(cut, envelope, reading)
                        unix, dos = read(parser, log), read(parser, log.replace("\n", "\r\n"))
                        if "--" not in between:  # whose line ends are LF or CRLF
                            alone = read(parser, log.replace("\n", "\r"))
                            self.assertEqual(unix.drop(EXACT).rows(), alone.drop(EXACT).rows())
                        self.assertEqual(unix["state"].to_list(), ["complete"] * 7)
                        self.assertEqual(unix["what"].to_list(), ["half open"] * 7)
                        self.assertEqual(unix.drop(EXACT).rows(), dos.drop(EXACT).rows())
                        raws = [raw.replace("\n", "\r\n") for raw in unix["raw"]]
                        self.assertEqual([raw.rstrip("\r\n") for raw in dos["raw"]], raws)
                        given = parser.parse(raws, reference_time="2026-11-30").events
                        self.assertEqual(unix.drop(*EXACT, "line").rows(), given.drop(*EXACT, "line").rows())

    @given(st.lists(st.text("a \t\r:é", max_size=6), min_size=1, max_size=5))
    def test_any_text_is_read_as_python_reads_it_with_lf(self, lines: list[str]) -> None:
        raw = "\r\n".join(lines)
        regex = r"^(?P<first>.*)(?:\n(?P<others>(?s:.*)))?$"
        row = parser_of("blank-line", "", f"regex: '{regex}'").parse([raw]).events.row(0, named=True)
        match = re.search(regex.replace("$", r"\Z"), raw.replace("\r\n", "\n").rstrip("\n"))
        assert match is not None
        self.assertEqual({"raw": raw, **match.groupdict()}, {name: row[name] for name in ("raw", "first", "others")})

    def test_events_that_are_given_may_have_several_lines_where_each_line_of_a_log_is_one(self) -> None:
        parser = kinglet.load(HEAD + 'variants: [{name: a, pattern: "gate {gate:int}\\n  {why:text}"}]\n')
        events = parser.parse(["gate 4\r\n  low tide\r\n", "gate 5\n  late"]).events
        self.assertEqual([(4, "low tide"), (5, "late")], events.select("gate", "why").rows())
        self.assertEqual("gate 4\r\n  low tide\r\n", events["raw"][0])


class OfMessages(unittest.TestCase):
    def test_a_message_within_json_keeps_them(self) -> None:
        parser = kinglet.load(
            HEAD + "envelope: {json: true, keys: {body: Message, kind: Id}, types: {body: text, kind: int}}\n"
            "kind: kind\nvariants:\n"
            '  - {name: on, kind: 1, pattern: "logged on\\n\\nSubject:\\n\\tName:\\t{user:text}\\n{others:rest}"}\n'
            "  - {name: off, kind: 2, regex: '^off\\n(?P<why>.*)\\n(?P<others>(?s:.*))$'}\n"
            "steps:\n  - copy: {body: said}\n"
            "  - parse: {field: others, regex: '^(?P<x>.*)\\n(?P<y>.*)$', optional: true}\n"
        )
        messages = {1: "logged on\n\nSubject:\n\tName:\tM. Okoro\na\nb", 2: "off\nlow tide\na\nb"}
        for end in ("\n", "\r\n"):
            said = {kind: text.replace("\n", end) + end * kind for kind, text in messages.items()}
            events = parser.parse([json.dumps({"Id": kind, "Message": text}) for kind, text in said.items()]).events
            self.assertEqual(events["said"].to_list(), [*said.values()])
            self.assertEqual(events["user"].to_list(), ["M. Okoro", None])
            self.assertEqual(events["why"].to_list(), [None, "low tide"])
            self.assertEqual([*zip(events["x"], events["y"], strict=True)], [("a", "b")] * 2)


class Shown(unittest.TestCase):
    def test_places_are_those_of_the_raw_text(self) -> None:
        parser = parser_of("start: '^gate'", "", READINGS[0].replace("value:text", "value:int"))
        for raw, fault, place in (
            ("gate 4 open\r\n  why: 99999999999999999999\r\n  end", "bad-value:value", "99999999999999999999"),
            ("gate 4 open\r\n  why: 12\r\n  stop", "no-match", "stop"),
        ):
            (reason,) = kinglet.diagnose(parser, raw)
            self.assertEqual((reason.fault, raw[reason.start : reason.end]), (fault, place))

    def test_a_stamp_that_is_searched_for_and_cannot_be_read_is_pointed_at(self) -> None:
        stamp = "2026-13-45 08:00:00"
        for where in ("after: 'at '", "find: anywhere", "from: what, after: 'at '"):
            parser = kinglet.load(
                f"{HEAD}time: {{{where}, format: '%Y-%m-%d %H:%M:%S'}}\n"
                'variants: [{name: a, pattern: "gate {gate:int}\\n{what:rest}"}]\n'
            )
            for end in ("\n", "\r\n"):
                raw = f"gate 4{end}opened at {stamp} by m.okoro"
                (reason,) = kinglet.diagnose(parser, raw)
                self.assertEqual(stamp, raw[reason.start : reason.end])
                self.assertEqual(f"`{stamp}` has the month 13", reason.message)

    def test_what_a_draft_says_holds(self) -> None:
        lines = [
            f"2026-11-20T08:00:{i:02}Z ERROR gate {i} failed\r\n  cause: line {i % 7}\r\n  at panel P{i % 5}\r\n"
            if i % 3
            else f"2026-11-20T08:00:{i:02}Z INFO gate {i} opened by m.okoro\r\n"
            for i in range(60)
        ]
        with tempfile.TemporaryDirectory() as folder:
            log = Path(folder) / "gates.log"
            log.write_bytes("".join(lines).encode())
            drafted = kinglet.draft(log)
            counts = drafted.parser.parse(log).counts
            self.assertEqual((counts["events"], counts["complete"]), (60, 60))
