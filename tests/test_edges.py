"""Values at the very edge of what they may be, each against an independent answer; ranges hide such faults."""

from __future__ import annotations

import gzip
import re
import unittest
import zoneinfo
from datetime import UTC, datetime, timedelta
from email.utils import parsedate_tz
from typing import Any

import polars as pl
from hypothesis import given
from hypothesis import strategies as st

import kinglet
from kinglet.ocsf.loading import load_model
from kinglet.ocsf.validation import complaints
from kinglet.regex.atoms import atoms
from kinglet.source.compression import LIMIT_BYTES, LIMIT_RATIO
from kinglet.timestamps import notes
from kinglet.timestamps.epoch import FIRST, LAST, from_epoch
from kinglet.timestamps.formats import parse_format
from kinglet.timestamps.reference_time import as_span
from tests.helpers import ROOT, InFolder, with_pattern
from tests.helpers import kinglet as command
from tests.test_model import complaints as standard_complaints

HEAD = """kinglet: 1
parser: edge
version: 1.0.0
product: {vendor: Quayline, name: Edge}
"""


def parser(time: str, pattern: str = "{stamp:time} {what:rest}", more: str = "") -> kinglet.Parser:
    return kinglet.load(f"{HEAD}time: {{from: stamp, {time}}}\n{more}variants: [{{name: any, pattern: '{pattern}'}}]\n")


def event(of: kinglet.Parser, line: str, **arguments: Any) -> dict[str, Any]:
    found: dict[str, Any] = of.parse([line], **arguments).events.row(0, named=True)
    return found


class Times(InFolder):
    def test_abbreviations_of_zones_are_what_mail_takes_them_for(self) -> None:
        reader = parser("format: rfc5322", "{stamp:time}")
        for name in ("UT", "GMT", "EST", "EDT", "CST", "CDT", "MST", "MDT", "PST", "PDT"):
            known = parsedate_tz(f"Mon, 20 Jul 2026 08:00:00 {name}")
            assert known is not None
            expected = datetime(2026, 7, 20, 8, tzinfo=UTC) - timedelta(seconds=known[9] or 0)
            self.assertEqual(expected, event(reader, f"Mon, 20 Jul 2026 08:00:00 {name}")["time"], name)

    def test_the_first_and_the_last_microsecond_of_the_calendar(self) -> None:
        counts = pl.Series([str(FIRST - 1), str(FIRST), str(LAST), str(LAST + 1)])
        found = from_epoch(counts, parse_format("epoch_us")).time
        self.assertEqual([False, True, True, False], found.is_not_null().to_list())
        self.assertEqual(datetime.min.replace(tzinfo=UTC), found[1])
        self.assertEqual(datetime.max.replace(tzinfo=UTC), found[2])

    def test_a_zone_that_changes_at_new_year(self) -> None:
        reader = parser('format: "%Y-%m-%d %H:%M:%S", zone: Africa/Sao_Tome')
        zone = zoneinfo.ZoneInfo("Africa/Sao_Tome")
        for text in ("2018-12-31 23:59:00", "2019-01-01 00:10:00", "2019-01-01 01:30:00", "2019-01-01 03:00:00"):
            clock = datetime.fromisoformat(text)
            readings = [clock.replace(tzinfo=zone, fold=fold).astimezone(UTC) for fold in (0, 1)]
            self.assertIn(event(reader, f"{text} x")["time"], readings)

    def test_a_second_60_is_the_one_after_it(self) -> None:
        reader = parser("format: iso8601")
        for second, time, noted in (("59", (23, 59, 59), []), ("60", (0, 0, 0), ["leap-second"])):
            found = event(reader, f"2016-12-31T23:59:{second}Z x")
            self.assertEqual((time, noted), ((found["time"].hour, found["time"].minute, found["time"].second),
                                             found["time_notes"] or []))  # fmt: skip
        self.assertIsNone(event(reader, "2016-12-31T23:59:61Z x")["time"])

    def test_notes_of_slots_are_those_of_the_event_with_the_name_of_the_slot(self) -> None:
        pattern, more = "{stamp:time} {end:time}", "clock: {zone: Europe/Lisbon}\n"
        rules = ('{from: stamp, format: "%d/%b %H:%M:%S"}', '{from: end, format: "%d/%b %H:%M:%S", to: ended}')
        both = kinglet.load(
            f"{HEAD}time: [{', '.join(rules)}]\n{more}variants: [{{name: any, pattern: '{pattern}'}}]\n"
        )
        found = event(both, "20/Nov 08:00:00 25/Oct 01:30:00", reference_time="2026-11-20")["time_notes"]
        self.assertLessEqual({"year-nearest", "ended:year-nearest"}, set(found))
        bare = parser('format: "%d/%b %H:%M:%S"', pattern, more)
        found = event(bare, "20/Nov 08:00:00 2026-03-29T01:30:00", reference_time="2026-11-20")["time_notes"]
        self.assertIn("end:hour-skipped", found)
        self.assertEqual([note.name for note in notes.NOTES], notes.named(sum(notes.BIT.values())))

    def test_whether_a_parser_needs_the_order_of_its_log(self) -> None:
        for time, more, needs in (
            ("format: iso8601", "", False),
            ('format: "%Y-%m-%d %H:%M:%S"', "", False),
            ('format: "%Y-%m-%d %H:%M:%S", zone: Europe/Lisbon', "", True),
            ('format: "%Y-%m-%d %H:%M:%S %z"', "", False),
            ('format: "%H:%M:%S", date: previous', "", True),
            ("format: iso8601", "clock: {missing: previous}\n", True),
            ("format: iso8601", "clock: {missing: file}\n", False),
        ):
            self.assertIs(needs, parser(time, more=more).needs_order, (time, more))

    def test_clocks_that_stand_still_do_not_run_backward(self) -> None:
        reader = parser('format: "%H:%M:%S", date: [file, previous]')
        path = self.write("door-2026-11-20.log", "08:00:00 a\n" * 9 + "07:59:59 late\n" + "23:00:00 b\n01:00:00 c\n")
        found = reader.parse(path).events["time"].dt.date().to_list()
        self.assertEqual([datetime(2026, 11, 20).date()] * 11 + [datetime(2026, 11, 21).date()], found)

    def test_a_count_shows_no_offset_and_a_stamp_shows_its_own(self) -> None:
        mapped = "event: {class: Base Event, set: {message: what}}\n"
        zoned = parser("format: [epoch, iso8601], zone: Indian/Maldives", more=mapped)
        lines = ["1795161600 a", "2026-11-20T08:00:00 b", "2026-11-20T08:00:00-03:30 c", "2026-11-20T08:00:00Z d"]
        offsets = [item.get("timezone_offset") for item in zoned.parse(lines).to_model()]
        self.assertEqual([None, 300, -210, 0], offsets)

    def test_offsets_of_many_stamps_are_those_of_the_standard_library(self) -> None:
        offsets = [
            f"{sign}{hours:02}:{minutes:02}" for sign in "+-" for hours in (0, 1, 13) for minutes in (0, 1, 30, 59)
        ]
        lines = [f"2026-07-20T08:00:{i % 60:02}{offsets[i % len(offsets)]}" for i in range(6000)]
        for form in ("{:}", "{}"):  # with a colon in the offset and without
            texts = lines if form == "{:}" else [line[:-3] + line[-2:] for line in lines]
            found = parser('format: "%Y-%m-%dT%H:%M:%S%z"', "{stamp:time}").parse(iter(texts)).events["time"]
            self.assertEqual([datetime.fromisoformat(line).astimezone(UTC) for line in lines], found.to_list())
        for wrong in ("+24:00", "+01:60", "+99:99"):
            texts = [*lines, f"2026-07-20T08:00:00{wrong}"]
            found = parser('format: "%Y-%m-%dT%H:%M:%S%z"', "{stamp:time}").parse(iter(texts)).events["time"]
            self.assertEqual([len(lines)], found.is_null().arg_true().to_list(), wrong)

    def test_a_count_that_is_searched_ends_where_its_digits_end(self) -> None:
        reader = kinglet.load(
            f"{HEAD}time: {{find: start, format: epoch}}\nvariants: [{{name: any, pattern: '{{t:rest}}'}}]\n"
        )
        for text in ("1795161600 x", "1795161600 08:00:00 x", "1795161600 2026 x", "1795161600 PM"):
            found = event(reader, text)
            self.assertEqual((datetime(2026, 11, 20, 8, tzinfo=UTC), []), (found["time"], found["faults"]), text)

    def test_lengths_of_time(self) -> None:
        for unit, seconds in (("s", 1), ("seconds", 1), ("min", 60), ("minutes", 60), ("h", 3600), ("hour", 3600),
                              ("d", 86400), ("days", 86400)):  # fmt: skip
            self.assertEqual(timedelta(seconds=3 * seconds), as_span(f"3 {unit}"))
            self.assertEqual(timedelta(seconds=1.5 * seconds), as_span(f"1.5{unit}"))
        self.assertIsNone(as_span("3 weeks"))

    def test_the_29th_of_february(self) -> None:
        wide = "clock: {earliest: 1800-01-01, latest: 2200-01-01}\n"
        reader = parser('format: "%Y-%m-%d %H:%M:%S"', more=wide)
        for year in (1900, 1996, 2000, 2026, 2100):
            leap = year % 4 == 0 and (year % 100 != 0 or year % 400 == 0)
            self.assertEqual(leap, event(reader, f"{year}-02-29 00:00:00 x")["time"] is not None, year)


class Patterns(InFolder):
    PIECES = (
        r"\d",
        "[a]",
        "[^]a]",
        r"[\]x]",
        "(?:a|b)",
        "(?P<n>x)+",
        "a",
        "b{2,3}?",
        ".",
        "^",
        "$",
        " ",
        r"\(",
        "[(]",
        "(a(b)[)])*",
    )

    @given(st.lists(st.sampled_from(PIECES), max_size=8))
    def test_a_regex_is_the_sequence_of_its_pieces(self, pieces: list[str]) -> None:
        self.assertEqual(pieces, atoms("".join(pieces)))

    def test_text_beside_a_number_is_as_short_as_it_can_be(self) -> None:
        for pattern, line, expected in (
            ("{a:text}{n:int},{r:rest}", "x12,z", {"a": "x", "n": 12, "r": "z"}),
            ("{a:text}[[{n:int}]],{r:rest}", "x12,z", {"a": "x", "n": 12, "r": "z"}),
        ):
            found = event(kinglet.load(with_pattern(pattern)), line)
            self.assertEqual(expected, {name: found[name] for name in expected})

    def test_what_is_wrong_in_a_regex_is_pointed_at(self) -> None:
        for regex, at in (("*ab", 0), ("a**", 2), ("ab(", 2), ("[z-a]", 1), ("ab\\p", 2), ("a{3,1}", 2)):
            for key in ("variants:\n  - name: any\n    regex", "time:\n  after", "events:\n  start"):
                rest = "" if "variants" in key else "variants: [{name: any, pattern: '{a:rest}'}]\n"
                path = self.write("p.yaml", f"{HEAD}{key}: '{regex}'\n{rest}")
                with self.assertRaises(kinglet.ParserFileError) as raised:
                    kinglet.load(path)
                place = re.search(r":(\d+):(\d+): ", str(raised.exception))
                assert place is not None
                line = path.read_text().splitlines()[int(place[1]) - 1]
                start = line.index("'") + 1
                self.assertEqual(at, int(place[2]) - 1 - start, (regex, str(raised.exception)))

    def test_how_long_a_text_may_be_that_a_step_makes(self) -> None:
        steps = "steps: [{set: {b: 'a || a || a || a || a'}}]\n"
        reader = kinglet.load(f"{HEAD}{steps}variants: [{{name: any, regex: '^x+ (?P<a>y+)$'}}]\n")
        for before, length in (
            (1, 13_107),
            (1, 13_108),
            (20_000, 13_108),
            (4_999, 20_000),
            (4_998, 20_000),
            (20_000, 120_000),
        ):
            found = event(reader, "x" * before + " " + "y" * length)
            fits = 5 * length <= max(65_536, 4 * (before + 1 + length))
            self.assertEqual([] if fits else ["too-long:b"], found["faults"])
            self.assertEqual(5 * length if fits else None, found["b"] and len(found["b"]))

    def test_a_refused_name_is_pointed_at(self) -> None:
        regex = "^x (?P<when>[a-z]+) (?P<not_mapped>[0-9]+)$"
        path = self.write("p.yaml", f"{HEAD}variants:\n  - name: any\n    regex: '{regex}'\n")
        with self.assertRaises(kinglet.ParserFileError) as raised:
            kinglet.load(path)
        place = re.search(r":(\d+):(\d+): ", str(raised.exception))
        assert place is not None
        line = (path.read_text().splitlines())[int(place[1]) - 1]
        self.assertTrue(line[int(place[2]) - 1 :].startswith("not_mapped>"), str(raised.exception))


class Cuts(InFolder):
    def pieces(self, events: str, data: bytes) -> list[str]:
        """The raw events that are given out before a log ends."""
        reader = kinglet.load(f"{HEAD}events: {events}\nvariants: [{{name: any, pattern: '{{t:rest}}'}}]\n")
        result = kinglet.Session(reader, name="x").feed(data)
        return result.events["raw"].to_list() if len(result) else []

    def test_what_is_sure_is_given_out_at_once(self) -> None:
        for events, data, expected in (
            ("line", b"a\nb\nc", ["a", "b"]),
            ("{start: '^S'}", b"S a\nb\nS c\nS d\nS", ["S a\nb", "S c"]),
            ("{end: 'E$'}", b"a\nb E\nc E\nd", ["a\nb E", "c E"]),
            ("indent", b"a\n b\nc\nd\n", ["a\n b", "c"]),
            ("blank-line", b"a\nb\n\nc\n\nd", ["a\nb", "c"]),
        ):
            self.assertEqual(expected, self.pieces(events, data)[: len(expected)], events)

    def test_the_first_item_of_an_array_under_a_key(self) -> None:
        variants = "variants: [{name: any, json: true, types: {a: int}}]"
        reader = kinglet.load(f"{HEAD}events: {{json: items}}\n{variants}\n")
        for text in (
            '{"items":[{"a":1},{"a":2}]}',
            '{"n": 4, "items" : [ {"a":1}\n,{"a":2}]}',
            '{"items":[\n{"a":1},\n\n{"a":2}\n]}',
        ):
            self.assertEqual([1, 2], reader.parse(text.encode()).events["a"].to_list(), text)

    def test_marks_at_the_start_are_no_part_of_the_first_event(self) -> None:
        reader = kinglet.load(with_pattern("{a:rest}"))
        for name, mark in (("utf-8", b"\xef\xbb\xbf"), ("utf-16-le", b"\xff\xfe"), ("utf-16-be", b"\xfe\xff"),
                           ("utf-32-le", b"\xff\xfe\0\0"), ("utf-32-be", b"\0\0\xfe\xff")):  # fmt: skip
            found = reader.parse(mark + "kø1\nkø2\n".encode(name)).events
            self.assertEqual(["kø1", "kø2"], found["raw"].to_list(), name)
            self.assertEqual([len(mark), len(mark) + len("kø1\n".encode(name))], found["offset"].to_list(), name)

    def test_the_evidence_of_an_encoding_is_counted(self) -> None:
        path = self.write("a.log", "2026-11-20 gate\n".encode("utf-16-le") * 40)
        self.assertIn("100 % of each second byte of two is zero", command("look", path, "--json").out)


class Limits(unittest.TestCase):
    def test_limits_that_mean_nothing(self) -> None:
        small = kinglet.load(with_pattern("{a:rest}"))
        for limit in (0, -1, "1", 1.5):
            with self.assertRaises(kinglet.UsageError):
                small.parse(b"gate\n", max_unpacked_bytes=limit)  # type: ignore[arg-type]
        self.assertEqual(1, len(small.parse(b"gate\n", max_unpacked_bytes=1)))

    def test_a_value_in_quotes_may_have_as_many_lines_as_are_said(self) -> None:
        reader = kinglet.load(
            f"{HEAD}events: {{csv: {{header: false}}, max_lines: 4}}\n"
            "variants: [{name: any, delimited: {names: [a, b]}}]\n"
        )
        for lines, whole in ((1, True), (3, True), (4, True), (5, False)):
            text = 'x,"' + "\n".join(["line"] * lines) + '"\ny,z\n'
            first = reader.parse(text.encode()).events["raw"].to_list()[0]
            self.assertEqual(whole, first == text.removesuffix("\ny,z\n"), lines)

    def test_the_documents_say_what_a_packed_log_may_unpack_to(self) -> None:
        said = (ROOT / "docs" / "parser-file.md").read_text(encoding="utf-8")
        self.assertIn(f"{LIMIT_BYTES // 2**30} GiB, or {LIMIT_RATIO} times its packed size", said)
        small = kinglet.load(with_pattern("{a:rest}"))
        packed = gzip.compress(b"gate\n" * 1000)
        self.assertEqual(1000, len(small.parse(packed, max_unpacked_bytes=5000)))
        with self.assertRaises(kinglet.InputError):
            small.parse(packed, max_unpacked_bytes=4999)


class Model(InFolder):
    def test_required_words_that_a_mapping_does_not_give_are_unknown(self) -> None:
        model = load_model()
        for value in model.data["classes"].values():
            item = model.find_class(value["caption"])
            text = f"{HEAD}variants: [{{name: any, pattern: '{{a:word}}', event: {{class: '{item.caption}'}}}}]\n"
            found = next(kinglet.load(text).parse(["x"], reference_time="2026-03-02").to_model())
            for name, attribute in item.attributes.items():
                if attribute.requirement == "required" and 0 in attribute.enum and not attribute.profiles:
                    expected = [0] if attribute.is_list else 0
                    self.assertEqual(expected, found.get(name), (item.caption, name))

    def test_events_that_several_parsers_drop_are_added_up(self) -> None:
        def dropping(name: str, word: str) -> kinglet.Parser:
            steps = "steps: [{drop: noise}]\n"
            return kinglet.load(
                f"{HEAD}{steps}variants: [{{name: any, pattern: '{word} {{a:rest}}'}}]\n".replace(
                    "parser: edge", f"parser: {name}"
                )
            )

        both = kinglet.ParserSet([dropping("one", "gate"), dropping("two", "crane")])
        log = self.write("a.log", "gate 1\ncrane 2\ngate 3\n")
        for name, word in (("one", "gate"), ("two", "crane")):
            text = f"{HEAD}steps: [{{drop: noise}}]\nvariants: [{{name: any, pattern: '{word} {{a:rest}}'}}]\n"
            self.write(f"{name}.yaml", text.replace("parser: edge", f"parser: {name}"))
        self.assertEqual(3, both.parse(log).counts["dropped"])
        summary = command("run", "-p", self.folder, log, "-o", self.folder / "o.ndjson", "--json").json()
        self.assertEqual({"noise": 3}, summary["dropped"])

    def test_a_type_that_is_none_is_pointed_at(self) -> None:
        head = "model: m\nkinglet: 1\nversion: 1.0.0\nuid: 950\n"
        for text, at in (
            ("attributes:\n  user: {a: string_t, b: strng_t}\n", "strng_t"),
            ("objects:\n  gate:\n    caption: Gate\n    attributes:\n      b: strng_t\n", "strng_t"),
        ):
            path = self.write("m.yaml", head + text)
            with self.assertRaises(kinglet.ParserFileError) as raised:
                kinglet.load_model(path)
            place = re.search(r":(\d+):(\d+): ", str(raised.exception))
            assert place is not None
            line = path.read_text().splitlines()[int(place[1]) - 1]
            self.assertTrue(line[int(place[2]) - 1 :].startswith(at), str(raised.exception))

    def test_a_list_without_items_is_left_out(self) -> None:
        text = (
            f"{HEAD}variants: [{{name: any, pattern: '{{a:text}};{{b:text}}', event: {{class: Base Event, "
            "set: {metadata.labels: list}}}]\nsteps:\n  - find: {field: a, pattern: '{word:word}', to: list}\n"
        )
        first, second = kinglet.load(text).parse(["x y;1", ";1"], reference_time="2026-03-02").to_model()
        self.assertEqual(["x", "y"], first["metadata"]["labels"])
        self.assertNotIn("labels", second["metadata"])

    def test_one_of_those_of_which_there_may_be_one(self) -> None:
        model = load_model()
        found = (model.find_class(value["caption"]) for value in model.data["classes"].values())
        item = next(item for item in found if "just_one" in item.constraints)
        names = item.constraints["just_one"]
        self.assertGreater(len(names), 1)
        for count in (0, 1, 2):
            given = {"class_uid": item.uid, **dict.fromkeys(names[:count], "x")}
            self.assertEqual(count != 1, any("just one" in str(one) for one in complaints(given, model)), count)

    def test_what_kinglet_fills_itself_is_refused(self) -> None:
        text = "attributes: {object: {faults: string_t, a: string_t}}\n"
        path = self.write("m.yaml", f"model: wide\nkinglet: 1\nversion: 1.0.0\nuid: 950\n{text}")
        model = kinglet.load_model(path)
        for value, said in (
            ("unmapped.faults: a", "`unmapped.faults` is what Kinglet itself fills"),
            ("unmapped.a: {text: x}", "the field `a` goes to `unmapped.a` by itself"),
            ("enrichments: a", "`enrichments` is an object"),
        ):
            mapping = f"{{class: Base Event, set: {{{value}}}}}"
            with self.assertRaisesRegex(kinglet.ParserFileError, re.escape(said)):
                kinglet.load(f"{HEAD}variants: [{{name: any, pattern: '{{a:word}}', event: {mapping}}}]\n", model=model)

    def test_a_class_that_requires_nothing_has_no_invalid_events(self) -> None:
        path = self.write("m.yaml", "model: bare\nkinglet: 1\nversion: 1.0.0\nuid: 950\nbase: bare\n")
        text = with_pattern("{a:word}")
        log = self.write("a.log", "x\ny\n")
        parsed = command("run", "-p", self.write("p.yaml", text), log, "-o", self.folder / "o.ndjson", "--as", "model",
                         "--model", path, "--json").json()  # fmt: skip
        self.assertEqual((0, {}), (parsed["invalid"], parsed["not_mapped"]))
        event = next(kinglet.load(text).parse(["x"], reference_time="2026-03-02").to_model())
        self.assertEqual([], standard_complaints(event))


if __name__ == "__main__":
    unittest.main()
