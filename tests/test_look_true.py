"""What `look` says is so: the parser that it prints reads what was found, shapes read their lines, claims hold."""

from __future__ import annotations

import json
import re
from datetime import UTC, datetime, timedelta

from hypothesis import given
from hypothesis import strategies as st

import kinglet
from kinglet.lint.linting import lint
from kinglet.patterns.compiling import to_regexes
from kinglet.patterns.grammar import parse, slots
from kinglet.patterns.types import TYPES
from kinglet.patterns.words import words_type
from tests.helpers import InFolder, examples

START = datetime(2026, 11, 20, 8, 0, 10, tzinfo=UTC)
FORMS = [
    "[%Y-%m-%d %H:%M:%S] ", "%Y-%m-%dT%H:%M:%SZ ", "(%d/%b/%Y:%H:%M:%S +0000): ", "%b %e %H:%M:%S quay gate[4]: ",
    "<34>1 %Y-%m-%dT%H:%M:%SZ quay gate 4 ID1 - ", "%Y-%m-%d  %H:%M:%S ", "%d.%m.%Y %H:%M:%S; ",
    "level=info %Y/%m/%d %H:%M:%S | ", "%s ", "P04 [%d/%b %H:%M:%S] ", "2019-01-01 boot %Y-%m-%d %H:%M:%S ",
]  # fmt: skip
REST = ["valve open", "{unit} [[x]] shut", "[a] <b> m.okoro", "took 2026-01-01", "12 boats"]


def lines(form: str, rests: list[str], count: int = 40) -> list[str]:
    moments = [START + timedelta(seconds=37 * i) for i in range(count)]
    return [f"{moment.strftime(form)}{rests[i % len(rests)]} {i}" for i, moment in enumerate(moments)]


class Printed(InFolder):
    @given(st.sampled_from(FORMS), st.lists(st.sampled_from(REST), min_size=1, max_size=3))
    @examples(24)
    def test_the_parser_reads_the_stamp_that_was_found(self, form: str, rests: list[str]) -> None:
        text = "\n".join(lines(form, rests)) + "\n"
        found = kinglet.look(text)[0]
        parser = kinglet.load(found.suggestion)
        events = parser.parse(text, reference_time="2026-11-20T12:00:00Z").events
        chosen = [place for place in found.stamps if place.is_time]
        self.assertTrue(chosen, form)
        expected = [START + timedelta(seconds=37 * i) for i in range(40)]
        self.assertEqual(expected, events["time"].to_list(), found.suggestion)
        self.assertEqual(40, found.events)

    @given(st.lists(st.sampled_from([*REST, "{", "[[", "]]", '{"a": 1}', "x{{y}}", "[1]"]), min_size=1, max_size=4))
    @examples(24)
    def test_shapes_are_patterns_that_read_their_lines(self, rests: list[str]) -> None:
        text = "\n".join(lines("%Y-%m-%dT%H:%M:%SZ ", rests)) + "\n"
        for shape in kinglet.look(text)[0].shapes:
            tokens = parse(shape.text)
            stamp = r"[0-9-]+[T ][0-9:.]+Z?|[0-9-]+"
            words = {slot.type: words_type(slot.type, slot.words) for slot in slots(tokens) if slot.words}
            stamps = {slot.name: stamp for slot in slots(tokens) if slot.type == "time"}
            regex = to_regexes(tokens, stamps, {**TYPES, **words})[-1]
            self.assertRegex(shape.example, re.compile(regex))

    def test_few_names_at_a_place_of_names_are_a_slot(self) -> None:
        for people in (["okoro", "tait"], ["okoro", "tait", "brandt"]):
            rests = [f"session opened for user {one} on deck" for one in people]
            rests += [f"valve shut role={one} ok" for one in people]
            shapes = kinglet.look("\n".join(lines("%Y-%m-%dT%H:%M:%SZ ", rests)) + "\n")[0].shapes
            self.assertEqual(
                ["{stamp:time} session opened for user {user} on deck {deck:int}",
                 "{stamp:time} valve shut role={role} ok {ok:int}"],
                sorted(re.sub("role:[a-z|]+", "role", shape.text) for shape in shapes),
            )  # fmt: skip

    def test_two_forms_in_one_log_are_all_events(self) -> None:
        for one, other in (("%b %e %H:%M:%S quay gate[4]: ", "<34>1 %Y-%m-%dT%H:%M:%SZ quay gate 4 ID1 - "),
                           ("%Y-%m-%dT%H:%M:%SZ ", "[%d/%b/%Y:%H:%M:%S +0000] ")):  # fmt: skip
            mixed = [line for pair in zip(lines(one, REST), lines(other, REST), strict=True) for line in pair]
            found = kinglet.look("\n".join(mixed) + "\n")[0]
            self.assertEqual((80, {"line": True}), (found.events, found.boundaries[0].events))
            traces = [text for line in mixed for text in (line, "  at quay")]
            found = kinglet.look("\n".join(traces) + "\n")[0]
            self.assertEqual(80, found.events, found.boundaries)

    def test_the_key_that_was_found_holds_the_time(self) -> None:
        rows = [
            {"id": i, "created": "2020-01-01T00:00:00Z", "expires": 1900000000 + i, "ts": 1772575841 + i}
            for i in range(40)
        ]
        found = kinglet.look("".join(json.dumps(row) + "\n" for row in rows))[0]
        self.assertIn("time: {from: ts, format: 'epoch'}", found.suggestion)
        self.assertNotIn("always rising", [place.reason for place in found.stamps if place.example.startswith("2020")])
        events = kinglet.load(found.suggestion).parse("".join(json.dumps(row) + "\n" for row in rows)).events
        self.assertEqual(1772575841 + 39, int(events["time"][39].timestamp()))

    def test_a_zone_behind_the_stamp_is_told(self) -> None:
        found = kinglet.look("\n".join(lines("%d.%m.%Y %H:%M:%S CET ", REST)) + "\n")[0]
        self.assertNotIn("none in the text", found.stamps[0].zone)

    def test_rules_for_logs_without_lines(self) -> None:
        stamps = [f"{START + timedelta(seconds=i):%Y-%m-%dT%H:%M:%SZ}" for i in range(50)]
        for data, events in (
            ("".join(f"{stamp} opened\nby {i}\0" for i, stamp in enumerate(stamps)), {"nul": True}),
            ("".join(f"{stamp}P04 open   " for stamp in stamps), {"length": 31}),
            ("".join(f"x={i}\n y\nEND\n" for i in range(50)), {"end": r"^\s*END\s*$"}),
        ):
            found = kinglet.look(data.encode())[0]
            self.assertIn(events, [way.events for way in found.boundaries], data[:40])
            self.assertEqual(50, found.events)
        self.assertEqual(50, kinglet.look("\r".join(stamps).encode())[0].events)

    def test_heads_that_are_known(self) -> None:
        access = '192.0.2.7 - - [20/Nov/2026:08:00:{:02} +0000] "GET /tide HTTP/1.1" 200 {}'
        for form, said in (
            ("%b %e %H:%M:%S quay gate[4]: ", "envelope: {syslog: rfc3164}"),
            ("<34>1 %Y-%m-%dT%H:%M:%SZ quay gate 4 ID1 - ", "envelope: {syslog: rfc5424}"),
        ):
            text = "\n".join(lines(form, REST)) + "\n"
            self.assertIn(said, kinglet.look(text)[0].suggestion)
        text = "".join(access.format(i, 100 + i) + "\n" for i in range(50))
        suggestion = kinglet.look(text)[0].suggestion
        self.assertIn("format: ncsa", suggestion)
        self.assertEqual(50, kinglet.load(suggestion).parse(text).counts["complete"])
        named = text.replace("192.0.2.7", "quay.marram.example")
        for log, client in ((text, "{client:ip} "), (named, "{client} ")):
            self.assertIn(client, kinglet.look(log)[0].suggestion)
            self.assertEqual([], [str(one) for one in lint(kinglet.load(kinglet.draft(log).text))])

    def test_odd_logs_do_not_stop_it(self) -> None:
        for data in (
            *(
                "[" * 3000 + "]" * 3000,
                '{"a":' * 3000 + "1" + "}" * 3000,
                "=" * 2_000_000,
                "a=" * 100_000,
                "\t" * 9 + "x",
            ),
            *('{"m":"' + "x" * 1_500_000 + '"}', "<a>" * 5000, '"' * 100_000, "x," + "y" * 200_000 + ",z"),
        ):
            found = kinglet.look((data + "\n").encode())[0]
            self.assertEqual(1, found.boundaries[0].count if found.boundaries else 1, data[:10])
            kinglet.load(found.suggestion)
