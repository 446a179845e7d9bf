"""The parts of a look, one by one: shapes and their slots, pairs, ways to cut, suggestions, figures."""

from __future__ import annotations

import json
import random
import unittest
from typing import Any

import polars as pl
from hypothesis import example, given
from hypothesis import strategies as st

import kinglet as package
from kinglet.discover.columns import described, pairs
from kinglet.discover.containers import container_of, mixture
from kinglet.discover.report import Look
from kinglet.discover.sample import Sample, take
from kinglet.discover.starts import boundaries
from kinglet.discover.suggestion import file_stem, flow
from kinglet.discover.words import percent, size
from kinglet.source.logs import open_sources
from kinglet.spec.schema import Csv, Events
from kinglet.timestamps.known_forms import FINDABLE
from kinglet.timestamps.stamps_in_text import format_of, stamps
from tests.helpers import examples

PEOPLE = ("m.okoro", "t.varela", "j.lindqvist", "a.pires", "s.amadi", "h.fontaine")


def sampled(text: str | bytes) -> Sample:
    return take(open_sources(text.encode() if isinstance(text, str) else text))


def ways(text: str) -> list[tuple[dict[str, Any], float]]:
    """The boundaries of a log with what they explain."""
    return [(way.events, way.explained) for way in boundaries(sampled(text))]


def shapes_of(lines: list[str]) -> list[tuple[int, str]]:
    """The shapes of lines with their counts."""
    return [(shape.count, shape.text) for shape in package.look("\n".join(lines) + "\n")[0].shapes]


class Shapes(unittest.TestCase):
    def test_what_has_a_digit_varies_and_what_never_varies_is_text(self) -> None:
        lines = [f"pump {i % 7} started in mode B2" for i in range(50)]
        self.assertEqual([(50, "pump {pump:int} started in mode B2")], shapes_of(lines))

    def test_words_vary_where_many_stand_at_one_place(self) -> None:
        lines = [f"door opened by {PEOPLE[i % 6]} today" for i in range(60)]
        self.assertEqual([(60, "door opened by {user} today")], shapes_of(lines))

    def test_few_words_are_messages_of_their_own(self) -> None:
        lines = ["valve opened", "valve closed", "valve stuck"] * 10
        self.assertEqual({(10, "valve opened"), (10, "valve closed"), (10, "valve stuck")}, set(shapes_of(lines)))

    def test_many_words_are_values_even_if_they_are_plain(self) -> None:
        words = ["amber", "birch", "cedar", "dove", "ember", "fern", "grove", "hazel", "iris", "jade"]
        self.assertEqual([(40, "berth {berth} free")], shapes_of([f"berth {words[i % 10]} free" for i in range(40)]))

    def test_quotes_paths_units_and_endings(self) -> None:
        lines = [f'read "/srv/m/{i}.json" as "berth {i}" took {i}ms of {i % 4 + 10}-11: ok' for i in range(30)]
        ((count, text),) = shapes_of(lines)
        self.assertEqual(30, count)
        self.assertIn('read "{read:path}" as "{text:text}" took {took:int}ms', text)
        self.assertIn(": ok", text)
        texts = [text for _, text in shapes_of([f"open /srv/{i}/x done" for i in range(9)])]
        self.assertEqual(["open {open:path} done"], texts)

    def test_members_of_json_are_columns(self) -> None:
        lines = [f'sold {{"ticket": "T{i}", "cents": {i * 7}}}' for i in range(20)]
        self.assertEqual([(20, "sold {:json}")], shapes_of(lines))
        columns = package.look("\n".join(lines))[0].shapes[0].columns
        self.assertEqual([("ticket", "word", 20), ("cents", "int", 20)],
                         [(one.name, one.type, one.distinct) for one in columns])  # fmt: skip

    def test_a_stamp_is_a_slot_of_its_own(self) -> None:
        self.assertEqual(
            [(2, "at {stamp:time} up")], shapes_of(["at 2026-03-05T10:00:00Z up", "at 2026-03-05T10:00:01Z up"])
        )

    def test_slots_with_the_same_values_get_the_same_name(self) -> None:
        texts = [text for i in range(30) for text in (
            f"session of user {PEOPLE[i % 6]} begun", f"{PEOPLE[i % 6]} left berth {i}",
            f"hold {i} temp=-{i % 9}.5C")]  # fmt: skip
        lines = [f"2026-03-05T10:{i // 60:02}:{i % 60:02}Z {text}" for i, text in enumerate(texts)]
        shapes = {"session of user {user} begun", "{user} left berth {berth:int}", "hold {hold:int} temp={temp:num}C"}
        self.assertEqual(shapes, {text.removeprefix("{stamp:time} ") for _, text in shapes_of(lines)})

    def test_units_and_quotes_are_fixed_text(self) -> None:
        lines = [
            f"2026-03-05T10:00:{i:02}Z load={9 + 37 * i}kg wind={i % 20}.{i % 7}m/s "
            f"heat {12 + i % 9}°C user «{PEOPLE[i % 6]}»"
            for i in range(60)
        ]
        shape = "{stamp:time} load={load:int}kg wind={wind:num}m/s heat {heat:int}°C user «{user}»"
        self.assertEqual([(60, shape)], shapes_of(lines))

    def test_rare_shapes_are_not_hidden(self) -> None:
        lines = [f"pump {i} started" for i in range(500)] + ["reactor on fire"]
        self.assertEqual([(500, "pump {pump:int} started"), (1, "reactor on fire")], shapes_of(lines))
        lines = [f"2026-03-05T10:{i // 60:02}:{i % 60:02}Z INFO [{'abc'[i % 3]}x] pump {i} started" for i in range(500)]
        lines.insert(200, "2026-03-05T10:03:20Z reactor on fire")
        self.assertEqual([(500, "{stamp:time} INFO [{unit}] pump {pump:int} started"),
                          (1, "{stamp:time} reactor on fire")], shapes_of(lines))  # fmt: skip

    def test_nothing_gets_lost_among_very_many_forms(self) -> None:
        lines = ["".join(chr(97 + (i // 26**k) % 26) for k in range(4)) + " x" * (i % 9) for i in range(6000)]
        self.assertEqual(6000, sum(count for count, _ in shapes_of(lines)))


class Columns(unittest.TestCase):
    def about(self, values: list[str | None]) -> str:
        return described("x", pl.Series(values, dtype=pl.String)).about

    def test_what_is_said_of_a_column(self) -> None:
        self.assertEqual("unique", self.about(["a", "b", "c"]))
        self.assertEqual("constant", self.about(["a", "a"]))
        self.assertEqual("once", self.about(["a"]))
        self.assertEqual("empty; in 0 %", self.about([None, None]))
        self.assertEqual("repeats; the commonest 66.7 %", self.about(["a", "a", "b"]))
        self.assertEqual("constant; in 50 %", self.about(["a", None, "a", None]))
        self.assertEqual("nearly unique", self.about([*map(str, range(99)), "1"]))

    def related(self, one: list[str], other: list[str]) -> list[tuple[str, str, str, int]]:
        columns = {"a": pl.Series(one), "b": pl.Series(other)}
        return [(p.one, p.many, p.relation, p.exceptions) for p in pairs(columns, {"a": "word", "b": "word"})]

    def test_one_to_one(self) -> None:
        people = [PEOPLE[i % 6] for i in range(60)]
        cards = [f"card-{i % 6}" for i in range(60)]
        self.assertEqual([("a", "b", "one to one", 0)], self.related(people, cards))

    def test_one_to_one_but_for_somebody(self) -> None:
        people = [PEOPLE[i % 6] for i in range(60)]
        cards = [f"card-{i % 6}" for i in range(60)]
        cards[7] = "card-9"
        columns = {"who": pl.Series(people), "card": pl.Series(cards)}
        found = pairs(columns, {"who": "word", "card": "word"})[0]
        self.assertEqual(("one to one", 1), (found.relation, found.exceptions))
        self.assertEqual(["who t.varela has 2 card: card-1, card-9"], found.examples)

    def test_one_to_many(self) -> None:
        harbours = [("Sandwick", "Elder")[i % 2] for i in range(80)]
        berths = [f"berth {i % 8}" for i in range(80)]
        self.assertEqual([("a", "b", "one to many", 0)], self.related(harbours, berths))

    def test_what_has_nothing_to_do_with_each_other(self) -> None:
        self.assertEqual([], self.related([PEOPLE[i % 6] for i in range(70)], [f"d{i % 7}" for i in range(70)]))
        self.assertEqual([], self.related(["x"] * 50, [str(i % 5) for i in range(50)]))
        self.assertEqual([], self.related([str(i) for i in range(50)], [str(i) for i in range(50)]))


class Ways(unittest.TestCase):
    def test_single_lines_with_a_stamp(self) -> None:
        found = ways("".join(f"2026-03-05 01:31:{i:02} started\n" for i in range(20)))
        self.assertEqual(({"line": True}, 1.0), found[0])

    def test_single_lines_without_a_stamp(self) -> None:
        found = ways("".join(f"pump {i} started\n" for i in range(20)))
        self.assertEqual([({"line": True}, 1.0)], found)

    def test_a_word_or_level_before_the_stamp(self) -> None:
        lines = [f"{('INFO', 'WARN')[i % 2]} [2026-03-05 01:31:{i:02}] a\n" + "  at x\n" * (i % 3) for i in range(20)]
        found = ways("".join(lines))
        self.assertEqual(({"start": r"^[A-Za-z]+\s+\[\d{4}-\d{2}-\d{2}[T ]\d{2}:\d{2}"}, 1.0), found[0])

    def test_blocks_that_begin_with_the_same_word(self) -> None:
        found = ways("".join(f"record {i}\nowner m.okoro\nstate ok\n" for i in range(20)))
        self.assertEqual(({"start": "^record"}, 1.0), found[0])

    def test_stretches_between_empty_lines(self) -> None:
        found = ways("".join(f"{PEOPLE[i % 6]}\n  berth {i}\n  until 10\n\n" for i in range(20)))
        self.assertIn(next(iter(found[0][0])), ("indent", "blank-line"))
        self.assertEqual(1.0, found[0][1])

    def test_the_next_best_says_what_would_be_wrong(self) -> None:
        text = "".join(f"2026-03-05 01:31:{i:02} a\nat line {i}\n" for i in range(20))
        found = boundaries(sampled(text))
        line = next(way for way in found if way.events == {"line": True})
        self.assertEqual(0.5, line.explained)
        self.assertIn("20 lines do not fit; line 2 `at line 0` would be no first line of an event", line.wrong)

    def test_whatever_stands_before_the_stamp_a_line_like_the_others_is_no_continuation(self) -> None:
        rng = random.Random(4)
        odd = ("::1", "2001:db8::7", "192.0.2.7", "quay-1", "[eth0]", "a/b/c/d/e/f", "-", "t.varela", "«x»")
        for opened, closed in (("[", "]"), ("(", ")"), ("", "")):
            with self.subTest(opened=opened):
                lines = [
                    f"{rng.choice(odd)} - {rng.choice(odd)} {opened}2026-03-05 01:31:{i % 60:02}{closed} ok {i}"
                    for i in range(300)
                ]
                if opened:
                    lines[77] = f"quay-1 - one more word {opened}2026-03-05 01:31:17{closed} ok"
                found = boundaries(sampled("\n".join(lines) + "\n"))
                self.assertEqual(({"line": True}, 300), (found[0].events, found[0].count), found)

    def test_a_stamp_in_the_middle_of_a_message_begins_no_event(self) -> None:
        lines = [f"quay-{i} 2026-03-05 01:31:{i % 60:02} lost" for i in range(200)]
        lines[40:40] = ["caused by a door that opened on 2026-03-04 11:00:00"]
        found = boundaries(sampled("\n".join(lines) + "\n"))
        self.assertIn("start", found[0].events)
        self.assertEqual(200, found[0].count, found)

    def test_a_name_that_is_rare_in_a_long_log_begins_events_too(self) -> None:
        lines = [f"quay-1 2026-03-05 {i // 3600:02}:{i // 60 % 60:02}:{i % 60:02} door {i} open" for i in range(9001)]
        for row in (5003, 7777):
            lines[row] = lines[row].replace("quay-1", "quay-2")
        lines = [line + ("\n  at quay.Door.open" if row % 100 == 7 else "") for row, line in enumerate(lines)]
        found = boundaries(sampled("\n".join(lines) + "\n"))
        self.assertEqual(9001, found[0].count, found)

    def test_nothing_comes_of_nothing(self) -> None:
        self.assertEqual([], boundaries(sampled("\n\n")))


class Containers(unittest.TestCase):
    def name(self, text: str) -> str | None:
        found = container_of(sampled(text))
        return found.container.name if found else None

    def test_what_only_resembles_a_container_is_none(self) -> None:
        for text in (
            "{not json}\n" * 9,
            "[2026-03-05] started\n" * 9,
            "<13>pump started\n" * 9,
            "one, two\nthree\nfour, five, six\n" * 5,
            "a=1\n" * 9,
            "plain text, with commas, in a sentence that goes on and on and on and ends\nand another\n" * 5,
            "-\n" * 9,
        ):
            with self.subTest(text=text[:20]):
                self.assertIsNone(self.name(text))

    def test_dialects(self) -> None:
        for text, said in (
            ("h1;h2\n" + "a;1\n" * 9, None),
            ("name,size,state\n" + "a,1,ok\n" * 9, "3 columns between commas, a header, no quotes"),
            ("name,size,state\n" + '"a, b",1,ok\n' * 9, '3 columns between commas, a header, quotes "'),
            ("name;size;state\n" + "'a; b';1;ok\n" * 9, "3 columns between semicolons, a header, quotes '"),
            ("name,size,state\n" + '"a\nb",1,ok\n' * 9, "line ends within quotes"),
            ("user=a, port=1, ok=yes\n" * 9, "3 keys, a comma and a blank between pairs, values without quotes"),
            ("user='a b' port=1 ok=yes\n" * 9, "values partly in single quotes"),
        ):
            with self.subTest(text=text[:20]):
                found = container_of(sampled(text))
                if said is None:
                    self.assertIsNone(found)
                else:
                    assert found is not None
                    self.assertIn(said, found.container.details)

    def test_mixtures(self) -> None:
        ncsa = '192.0.2.1 - - [05/Mar/2026:01:00:00 +0000] "GET / HTTP/1.1" 200 9\n'
        found = dict(mixture(sampled(ncsa * 30 + "a=1 b=2 c=3\n" * 60 + "plain\n" * 10)))
        self.assertEqual(
            {"NCSA access log": 0.3, "key=value": 0.6}, {name: round(share, 2) for name, share in found.items()}
        )
        self.assertEqual([], mixture(sampled(ncsa * 9)))


class Small(unittest.TestCase):
    def test_shares_and_sizes(self) -> None:
        for share, text in (
            (0, "0 %"),
            (1, "100 %"),
            (0.99999, "100 %"),
            (0.5, "50 %"),
            (0.00001, "0.01 %"),
            (0.1234, "12.3 %"),
        ):
            self.assertEqual(text if share != 0.99999 else "100 %", percent(share).replace("1e+02", "100"))
        for count, text in (
            (0, "0 bytes"),
            (1023, "1,023 bytes"),
            (2048, "2.0 KiB"),
            (5 << 20, "5.0 MiB"),
            (3 << 30, "3.0 GiB"),
        ):
            self.assertEqual(text, size(count))

    def test_values_as_yaml(self) -> None:
        for value, text in (
            (True, "true"),
            (7, "7"),
            ("it's", "'it''s'"),
            ("a\tb\n", '"a\\tb\\n"'),
            ({"csv": {"delimiter": "|", "header": False}}, "{csv: {delimiter: '|', header: false}}"),
        ):
            self.assertEqual(text, flow(value))

    def test_names_of_parsers(self) -> None:
        for name, stem in (
            ("/var/log/app.log.1.gz", "app"),
            ("logs/", "logs"),
            ("logs/*.log", "log"),
            ("<stdin>", "stdin"),
            ("my log.txt", "my-log"),
        ):
            self.assertEqual(stem, file_stem(name))

    def test_formats_follow_the_example(self) -> None:
        for text, wanted in (
            ("05/Mar/2026:01:31:00 +0000", "ncsa"),
            ("Mar  5 01:31:00.250", "%b %e %H:%M:%S.%f"),
            ("05/03/2026, 01:31:00,5", "%d/%m/%Y, %H:%M:%S,%f"),
            ("2026/03/05-01:31:00", "%Y/%m/%d-%H:%M:%S"),
            ("Thu Mar 5 01:31:00 2026", "%a %b %e %H:%M:%S %Y"),
            ("Mar 5, 2026, 1:31:00PM", "%b %d, %Y, %I:%M:%S%p"),
        ):
            with self.subTest(text=text):
                self.assertEqual(wanted, format_of(stamps(text)[0].form, text))
        swapped = next(form for form in FINDABLE if form.name == "slashes")
        self.assertEqual("%m/%d/%Y %H:%M:%S", format_of(swapped, "03/05/2026 01:31:00", swapped=True))

    def test_a_look_is_plain_values(self) -> None:
        found = package.look(b"2026-03-05T01:31:00Z pump 3 started\n" * 3)[0]
        self.assertIsInstance(found, Look)
        plain = found.to_dict()
        self.assertEqual(["ISO 8601"], [place["form"] for place in plain["stamps"]])
        self.assertEqual(3, plain["boundaries"][0]["count"])
        self.assertEqual("pump 3 started", plain["shapes"][0]["example"][21:])


FRAGMENTS = [
    b"2026-03-05T01:00:00Z ",
    b"Mar  5 01:00:00 ",
    b"1772674260123 ",
    b"03/04/2026 01:00:00 ",
    b'{"a": 1}',
    b"{",
    b"}",
    b"[",
    b"]",
    b"a=b ",
    b'n="x y" ',
    b"<e>",
    b"</e>",
    b"\n",
    b"\r\n",
    b"\r",
    b"\0",
    b"\xff",
    "\u00fc".encode(),
    "\ue000n\ue001".encode(),
    b"|",
    b";",
    b",",
    b"\t",
    b"m.okoro ",
    b"192.0.2.1 ",
    b"----\n",
    b"key: value\n",
    b"n: 1\n\n",
    b"(",
    b"\\",
    b"$1",
    b"{x}",
    b"# ",
    b"5 <13>",
    b"\x1b[0m",
    b"/srv/x ",
    b"'",
    b'"',
]


class AnyLog(unittest.TestCase):
    @given(st.lists(st.sampled_from(FRAGMENTS), min_size=1, max_size=120))
    @example([b"a=b ", b"a=b ", b"a=b ", b"# "])
    @example([b"#=1 *=2 more=3 _onward_1=4 raw=5 \n"] * 3)
    @example([b'{"#a": 1, "*": 2, "more": {"x": 1}, "_onward_": 4, "row": 5, "^a$": 1}\n'] * 3)
    @examples(18)
    def test_a_look_at_anything_holds_together(self, parts: list[bytes]) -> None:
        data = b"".join(parts)
        try:
            found = package.look(data)[0]
        except package.InputError as error:
            self.assertRegex(str(error), "nothing to look at|is binary|damaged")
            return
        plain = json.loads(json.dumps(found.to_dict(), default=str))
        self.assertEqual(found.events, sum(shape["count"] for shape in plain["shapes"]))
        self.assertEqual(found.shape_count, len(plain["shapes"]))
        self.assertTrue(all(0 <= way.explained <= 1 for way in found.boundaries))
        self.assertTrue(all(0 < place.share <= 1 for place in found.stamps))
        self.assertLessEqual(sum(place.is_time for place in found.stamps), 1)
        parser = package.load(found.suggestion)
        self.assertEqual(found.boundaries[0].events, dict(_rule(parser._definition.events)))
        if not set(b"\r\0\xff") & set(data):
            self.assertEqual(found.events, len(parser.parse(data)))


def _rule(events: Events) -> list[tuple[str, Any]]:
    """The rule of a parser file as it was written."""
    rules = events.rules or {"line": True}
    return [
        (name, value.model_dump(exclude_defaults=True) if isinstance(value, Csv) else value)
        for name, value in rules.items()
    ]


if __name__ == "__main__":
    unittest.main()
