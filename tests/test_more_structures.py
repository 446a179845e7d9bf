"""XML, labelled blocks, fixed columns, structured data: read alike by all ways, and in parsers."""

from __future__ import annotations

import json
import unittest
from typing import Any
from xml.etree import ElementTree

import polars as pl
from hypothesis import given
from hypothesis import strategies as st

import kinglet
from kinglet.demo.logs import log_text
from kinglet.insight.diagnosis import reasons
from kinglet.insight.spans import spans
from kinglet.structured.blocks import Blocks, key_of
from kinglet.structured.by_form import Structure, read
from kinglet.structured.fixed import Fixed
from kinglet.structured.repeats import selector, taken
from kinglet.structured.structured_data import StructuredData
from kinglet.structured.xml_elements import MOST_LEVELS, XmlElements
from tests.helpers import InFolder, examples, soon

HEAD = "kinglet: 1\nparser: gate\nversion: 1.0.0\nproduct: {vendor: Brackwater, name: Gatekeeper}\n"
RECORD = """<?xml version="1.0"?>
<g:Event xmlns:g="urn:example:gate" id="7">
  <!-- kept by the gate -->
  <g:System><Host>quay-2</Host><Level unit='dB'>4</Level></g:System>
  <Data Name="user">m.okoro &amp; a.pires</Data>
  <Data Name="from">192.0.2.14</Data>
  <Note><![CDATA[<raw> & kept]]></Note><Empty/>
</g:Event>"""
BLOCK = """Winch record 4101
Time:\t\t02/03/2026 06:57:57
Operator:
\tAccount Name:\tj.lindqvist
Before:
\tTension:\t50 kN
\tRemarks:\tslow
\t\tat the start
After:
\tTension:\t47 kN
[Checks]
Done: yes"""


def everything(text: str, structure: Structure) -> dict[str, Any] | None:
    """All that a text holds, as its reader says one by one."""
    values = structure.values(text)
    if values is None:
        return None
    each: dict[str, list[Any]] = {}
    for value in values:
        each.setdefault(value.path, []).append(value.text if value.kind else True)
    return {key: some[0] if len(some) == 1 else some for key, some in each.items() if some != [None]}


def parsed(file: str, *raw: str, reference_time: str | None = None) -> kinglet.Result:
    return kinglet.load(HEAD + file).parse(list(raw), reference_time=reference_time)


class Alike(unittest.TestCase):
    """Whatever texts come together, each gives what it gives by itself."""

    def agree(self, structure: Structure, texts: list[str]) -> None:
        here = read(pl.Series(texts, dtype=pl.String), structure, [])
        for text, more, good in zip(texts, here.more, here.good, strict=True):
            expected = everything(text, structure)
            self.assertEqual(expected is not None, good, text)
            self.assertEqual(expected or {}, json.loads(more or "{}", strict=False), text)

    @given(st.lists(st.lists(st.sampled_from(
        ["a: 1", "a:", "b: x: y", "\tc: 2", "\t\td:  3 ", "free text", "\tmore text", "[part]", "", "http://x",
         "é: ü", "a:b", " :",
         "----", "  ===", "--", "=-="]
    ), max_size=6), min_size=1, max_size=8))  # fmt: skip
    @examples(36)
    def test_blocks(self, lines: list[list[str]]) -> None:
        self.agree(Blocks(), ["\n".join(some) for some in lines])
        self.agree(Blocks(), ["\r\n".join(some) for some in lines])

    @given(st.lists(st.lists(st.sampled_from(
        ['a: "1"', 'b: "x\\"y"', 'c: ""', 'd: "p" "q"', 'e: "',
         '\tf: "two', '\t\tlines"', 'g: "\\\\"', "h: 'x'", "free", 'i: "\\n"']
    ), max_size=6), min_size=1, max_size=8))  # fmt: skip
    @examples(36)
    def test_blocks_with_values_in_quotes(self, lines: list[list[str]]) -> None:
        self.agree(Blocks(quote='"'), ["\n".join(some) for some in lines])

    @given(st.lists(st.dictionaries(st.sampled_from("abc"), st.text('x "\\é=', max_size=6), min_size=1), min_size=1))
    @examples(36)
    def test_blocks_have_what_was_written_in_quotes(self, rows: list[dict[str, str]]) -> None:
        parser = "envelope:\n  block: {equals: '=', quote: '\"'}\n  types: {a: text, b: text, c: text}\n"
        parser += "variants: [{name: record}]\n"
        escapes = str.maketrans({'"': '\\"', "\\": "\\\\"})
        raws = ["\n".join(f'{key} = "{value.translate(escapes)}"' for key, value in row.items()) for row in rows]
        events = parsed(parser, *raws).events
        for row, event in zip(rows, events.iter_rows(named=True), strict=True):
            self.assertEqual([row.get(key) for key in "abc"], [event[key] for key in "abc"])

    def test_a_drawn_line_within_a_value(self) -> None:
        for drawn in (["  ==="], ["\t----", "  ***"], ["==="], ["  ===", "", "  ---"]):
            for end in ("\n", "\r\n"):
                text = end.join(["a: 1", *drawn, "\tmore", "b: ===", "\t2"])
                self.agree(Blocks(), [text])
                here = read(pl.Series([text], dtype=pl.String), Blocks(), ["a", "b"])
                self.assertEqual(["1\nmore", "===\n2"], [here.column("a")[0], here.column("b")[0]])

    @given(st.lists(st.lists(st.sampled_from(
        ["<a>", "</a>", "<b x='1'>", "</b>", "<c/>", "text", "&lt;", "&#65;", "<![CDATA[x<]]>", "<!--y-->", " ", "]]>",
         '<d y="&quot;">', "</d>"]
    ), max_size=8), min_size=1, max_size=8))  # fmt: skip
    @examples(48)
    def test_xml(self, pieces: list[list[str]]) -> None:
        self.agree(XmlElements(), [f"<r>{''.join(some)}</r>" for some in pieces])

    @given(st.lists(st.text("ab c\t\n", max_size=14), min_size=1, max_size=8))
    @examples(48)
    def test_fixed(self, texts: list[str]) -> None:
        self.agree(Fixed({"b": (5, 7), "a": (1, 3), "c": (9, None)}), texts)
        self.agree(Fixed({"b": (2, 4)}), texts)

    @given(st.lists(st.lists(st.sampled_from(
        ["[a", ' x="1"', ' y="q\\"r\\]"', ' x=""', "]", "-", "[b]", " ", ' z="a]b"']
    ), max_size=7), min_size=1, max_size=8))  # fmt: skip
    @examples(72)
    def test_structured_data(self, pieces: list[list[str]]) -> None:
        self.agree(StructuredData(), ["".join(some) for some in pieces])

    @given(st.lists(st.dictionaries(st.sampled_from("abcd"), st.text('a "\\]=é', max_size=5)), min_size=1, max_size=5))
    @examples(36)
    def test_structured_data_has_what_was_written_into_it(self, rows: list[dict[str, str]]) -> None:
        parser = kinglet.load(
            "kinglet: 1\nparser: berths\nversion: 1.0.0\nproduct: {vendor: Quayline, name: Berths}\n"
            "variants: [{name: a, pattern: '{:sdata}', keys: {a: e@32473.a, b: 'e@32473.b[]'}, types: {a: text}}]\n"
        )
        escapes = str.maketrans({sign: f"\\{sign}" for sign in '"\\]'})
        written = ["".join(f' {key}="{value.translate(escapes)}"' for key, value in row.items()) for row in rows]
        events = parser.parse([f"[e@32473{parameters}]" for parameters in written]).events
        for row, event in zip(rows, events.iter_rows(named=True), strict=True):
            others = {f"e@32473.{key}": value for key, value in row.items() if key in "cd"}
            self.assertEqual(row.get("a"), event["a"])
            self.assertEqual([row["b"]] if "b" in row else None, json.loads(event["b"]) if event["b"] else None)
            self.assertEqual(others, json.loads(event["more"] or "{}"))

    @given(st.recursive(st.text("ab&<>'\" é", max_size=5), lambda inner: st.lists(inner, max_size=3), max_leaves=8))
    @examples(36)
    def test_xml_reads_what_the_standard_library_writes(self, tree: Any) -> None:
        def element(value: Any, name: str) -> ElementTree.Element:
            made = ElementTree.Element(name)
            if isinstance(value, str):
                made.text = value
            else:
                made.extend(element(item, f"e{i}") for i, item in enumerate(value))
            return made

        def flat(value: Any, path: str) -> dict[str, str]:
            if isinstance(value, str):
                return {path or "text": value.strip(" ")} if value.strip(" ") else {}
            parts = [flat(item, f"{path}.e{i}".strip(".")) for i, item in enumerate(value)]
            return {key: text for part in parts for key, text in part.items()}

        text = ElementTree.tostring(element(tree, "r"), encoding="unicode")
        self.assertEqual(flat(tree, ""), everything(text, XmlElements()))


class Repeats(unittest.TestCase):
    def test_which_occurrence(self) -> None:
        for wanted, expected in {
            "a": ("a", None), "a[2]": ("a", 2), "a[-1]": ("a", -1), "a[]": ("a", 0), "a[0]": ("a[0]", None),
            "[1]": ("[1]", None),
        }.items():  # fmt: skip
            self.assertEqual(expected, selector(wanted))
        here = taken(("a", "b", "a", "a"), ("a[2]", "a[-1]", "a[4]", "b"))
        self.assertEqual({"a[2]": 2, "a[-1]": 3, "b": 1}, here.chosen)
        self.assertEqual({"a": (0,)}, here.left)
        self.assertFalse(here.repeated)
        self.assertTrue(taken(("a", "a"), ("a",)).repeated)

    def test_in_a_parser(self) -> None:
        file = """variants:
  - name: all
    pairs: true
    keys: {second: 'to[2]', last: 'to[-1]', every: 'to[]'}
    types: {second: int}
"""
        event = parsed(file, "to=1 to=2 cc=9 to=3 cc=8").events.row(0, named=True)
        self.assertEqual((2, "3", '["1","2","3"]'), (event["second"], event["last"], event["every"]))
        self.assertEqual(("complete", {"cc": ["9", "8"]}), (event["state"], json.loads(event["more"])))
        parser = kinglet.load(HEAD + file)
        shown = {(span.field, span.start) for span in spans(parser._plan, "to=1 to=2 cc=9 to=3", "all")}
        self.assertEqual({("every", 3), ("second", 8), ("every", 8), ("every", 18), ("last", 18)}, shown)
        fewer = parsed(file, "to=1").events.row(0, named=True)
        self.assertEqual(
            (None, "1", '["1"]', "complete"), (fewer["second"], fewer["last"], fewer["every"], fewer["state"])
        )
        plain = parsed("variants:\n  - {name: all, pairs: true, types: {to: int}}\n", "to=1 to=2").events.row(
            0, named=True
        )
        self.assertEqual((2, ["repeated-key"], '{"to":"1"}'), (plain["to"], plain["faults"], plain["more"]))


class Spreading(unittest.TestCase):
    def test_keys_that_an_engine_would_take_for_a_choice_of_columns(self) -> None:
        keys = ["*", "^a$", "^.*$", "#row", "#more", "#fault", "=x", ""]
        fields = {f"f{i}": json.dumps(key) for i, key in enumerate(keys[:-1])}
        named = "".join(f"\n      {name}: {key}" for name, key in fields.items())
        for form, line in (
            ("json: true", json.dumps({key: f"v{i}" for i, key in enumerate(keys[:-1])})),
            ("pairs: {between: ','}", ",".join(f"{key}=v{i}" for i, key in enumerate(keys[:-2]))),
        ):
            one = kinglet.load(HEAD + f"variants:\n  - name: a\n    {form}\n    keys:{named}\n")
            bare = kinglet.load(HEAD + f"variants:\n  - name: a\n    {form}\n")
            for count in (1, 3):
                events = one.parse([line] * count).events
                self.assertEqual({f"v{i}" for i in range(6)}, {events[f"f{i}"][count - 1] for i in range(6)})
                spread = bare.parse([line] * count).spread()
                self.assertEqual("v0", spread["more.*"][0])
                self.assertEqual(count, spread.height)

    def test_other_keys_as_columns_with_a_limit(self) -> None:
        result = parsed(
            "variants:\n  - {name: all, json: true, types: {user: word}}\n",
            '{"user": "m.okoro", "berth": 4, "tide": {"high": true}}',
            '{"user": "a.pires", "berth": 5, "raw": "x", "note": null}',
        )
        wide = result.spread()
        self.assertEqual(["4", "5"], wide["berth"].to_list())
        self.assertEqual(["true", None], wide["tide.high"].to_list())
        self.assertEqual([None, "x"], wide["more.raw"].to_list())
        self.assertEqual(0, wide["more"].drop_nulls().len())
        narrow = result.spread(1)
        self.assertEqual(["4", "5"], narrow["berth"].to_list())
        self.assertEqual(['{"tide.high":true}', '{"raw":"x"}'], narrow["more"].to_list())
        plain = parsed("variants:\n  - {name: all, pattern: '{user:word}'}\n", "x")
        self.assertEqual(plain.events.columns, plain.spread().columns)


class Xml(unittest.TestCase):
    def test_elements_attributes_namespaces_and_text_as_it_stands(self) -> None:
        self.assertEqual(
            {"id": "7", "System.Host": "quay-2", "System.Level.unit": "dB", "System.Level": "4",
             "Data.Name": ["user", "from"], "Data": ["m.okoro & a.pires", "192.0.2.14"], "Note": "<raw> & kept"},
            everything(RECORD, XmlElements()),
        )  # fmt: skip
        by_name = everything(RECORD, XmlElements("Name"))
        assert by_name is not None
        self.assertEqual(("m.okoro & a.pires", "192.0.2.14"), (by_name["user"], by_name["from"]))
        mixed = everything("<a>one<b>two</b>three &#x41;</a>", XmlElements())
        self.assertEqual({"text": ["one", "three A"], "b": "two"}, mixed)

    def test_what_is_no_element_and_where(self) -> None:
        for text, said in {
            "": (0, "an element expected"),
            "<a>": (3, "`</a>` is missing"),
            "<a></b>": (3, "`</a>` expected"),
            "<a/><b/>": (4, "nothing more expected"),
            '<!DOCTYPE a [<!ENTITY x "y">]><a>&x;</a>': (0, "a document type is not read"),
            "<a>&x;</a>": (3, "an entity that is not known"),
            "<a>&#0;</a>": (3, "a reference to no character"),
            '<a b="1" c>': (8, "a tag that is not closed"),
            "<a>" * (MOST_LEVELS + 1): (3 * MOST_LEVELS, f"more than {MOST_LEVELS} levels"),
        }.items():
            with self.subTest(text=text[:40]):
                self.assertIsNone(XmlElements().values(text))
                self.assertEqual((said[0], f"no XML element: {said[1]} here"), XmlElements().unread(text))

    def test_hostile_texts_end_soon(self) -> None:
        for text in (
            "<a>" * 10_000, "<a " + 'b="1" ' * 10_000, "<a>" + "<b>1</b>" * 10_000 + "</a>",
            f"<a>{'x' * 1_000_000}</a>", "<!--" + "-" * 100_000, "<a><![CDATA[" + "]" * 100_000,
            f"<a b=\"{'&amp;' * 100_000}\"/>", "<a>" + " " * 500_000,
        ):  # fmt: skip
            with self.subTest(text=text[:20]), soon(self, 10):
                read(pl.Series([text, "<a/>"]), XmlElements(), ["b"])

    def test_in_a_parser(self) -> None:
        file = """
events: {xml: Event}
variants:
  - name: record
    xml: {by: Name}
    keys: {host: System.Host, level: System.Level}
    types: {level: int, user: text, from: ip}
"""
        parser = kinglet.load(HEAD + file)
        event = parser.parse(f"<log>{RECORD[22:]}</log>".encode()).events.row(0, named=True)
        self.assertEqual(
            ("quay-2", 4, "192.0.2.14", "complete"), (event["host"], event["level"], event["from"], event["state"])
        )
        shown = {
            span.field: event["raw"][span.start : span.end] for span in spans(parser._plan, event["raw"], "record")
        }
        self.assertEqual({"host": "quay-2", "level": "4", "user": "m.okoro &amp; a.pires", "from": "192.0.2.14"}, shown)


class LabelledBlocks(unittest.TestCase):
    def test_sections_and_values_over_several_lines(self) -> None:
        self.assertEqual(
            {"text": "Winch record 4101", "time": "02/03/2026 06:57:57", "operator.account_name": "j.lindqvist",
             "before.tension": "50 kN", "before.remarks": "slow\nat the start", "after.tension": "47 kN",
             "checks.done": "yes"},
            everything(BLOCK, Blocks()),
        )  # fmt: skip
        self.assertEqual({"a": "1", "b": "2"}, everything("====\na = 1\n  ----\nb = 2\n====", Blocks("=")))
        self.assertEqual("tension_in_kn", key_of(" Tension (in kN)"))
        self.assertIsNone(everything("no label here\nat 10:20", Blocks()))
        file = (
            "variants: [{name: b, block: true, keys: {start: Start-Date, last: 'Gate[-1]'}, types: {Gate No: int}}]\n"
        )
        event = parsed(file, "Start-Date: 4 May\nGate: 1\nGate: 2\nGate No: 7").events.row(0, named=True)
        self.assertEqual(("4 May", "2", 7), (event["start"], event["last"], event["Gate No"]))
        self.assertEqual("no line with a label, such as `Name: value`", Blocks().unread("free text")[1])

    def test_behind_a_title(self) -> None:
        file = """
events: blank-line
variants:
  - name: record
    pattern: "Winch record {record:int}\\n{:block}"
    types: {operator.account_name: word, before.tension: text, checks.done: bool}
"""
        event = parsed(file, BLOCK, "Winch record 9\nnothing").events
        self.assertEqual([4101, 9], event["record"].to_list())
        self.assertEqual(["j.lindqvist", None], event["operator.account_name"].to_list())
        self.assertEqual([True, None], event["checks.done"].to_list())
        self.assertEqual([[], ["bad-block:block_text"]], event["faults"].to_list())
        self.assertIn("after.tension", event["more"][0])

    def test_hostile_texts_end_soon(self) -> None:
        for text in (
            "a:" * 100_000,
            "\n" * 500_000,
            "a: b\n" * 10_000,
            "\t" * 200_000 + "a: b",
            "x" * 1_000_000 + "\na: 1",
        ):
            with self.subTest(text=text[:20]), soon(self, 10):
                read(pl.Series([text, "a: 1"]), Blocks(), ["a"])


class FixedColumns(unittest.TestCase):
    FILE = "variants:\n  - name: row\n    fixed: {stamp: 1-8, unit: 10-12, note: 14-}\n    types: {unit: int}\n"

    def test_in_a_parser(self) -> None:
        events = parsed(self.FILE, "22:10:41 042 slow start", "22:10:41/042", "22:10", "22:10:41 x42").events
        self.assertEqual([42, 42, None, None], events["unit"].to_list())
        self.assertEqual(["slow start", None, None, None], events["note"].to_list())
        self.assertEqual([[], [], ["few-columns"], ["bad-value:unit"]], events["faults"].to_list())
        self.assertEqual([None, '{"column_9":"/"}', None, None], events["more"].to_list())

    def test_what_is_wrong_is_said(self) -> None:
        for written, said in {
            "{a: 1-4, b: 4-6}": "overlap", "{a: 0-4}": "is no range", "{a: 5-4}": "overlap", "{}": "must not be empty",
        }.items():  # fmt: skip
            with self.assertRaisesRegex(kinglet.ParserFileError, said):
                kinglet.load(HEAD + f"variants:\n  - name: row\n    fixed: {written}\n")


class SyslogHeads(unittest.TestCase):
    FILE = """
time: {from: stamp, format: [rfc3164, iso8601]}
envelope: {syslog: any, keys: {quay: berth@32473.quay, ids: "berth@32473.id[]"}, types: {quay: int}}
variants:
  - {name: opened, pattern: 'gate {gate:int} opened'}
  - {name: other, pattern: '{said:rest}'}
"""

    def test_both_heads(self) -> None:
        result = parsed(
            self.FILE,
            "<165>1 2026-03-03T22:10:41.003Z quay-2.sandwick.example gated 812 ID47 "
            '[berth@32473 quay="4" id="a" id="b\\"c\\]"] gate 4 opened',
            "<34>Mar  3 22:10:41 quay-2 gated[812]: gate 5 opened",
            "<34>1 2026-03-03T22:10:41Z - - - - -",
            "Mar  3 22:10:41 quay-2 no tag here",
            "neither of both",
            reference_time="2026-03-05",
        )
        events = result.events
        self.assertEqual(["opened", "opened", None, "other", None], events["variant"].to_list())
        self.assertEqual([165, 34, 34, None, None], events["priority"].to_list())
        self.assertEqual(["quay-2.sandwick.example", "quay-2", None, "quay-2", None], events["host"].to_list())
        self.assertEqual([4, None, None, None, None], events["quay"].to_list())
        self.assertEqual('["a","b\\"c]"]', events["ids"][0])
        self.assertEqual(["812", "812", None, None, None], events["pid"].to_list())
        self.assertEqual("unmatched", events["state"][4])

    def test_what_may_be_no_host_is_none(self) -> None:
        stamp = "Oct 11 22:14:15 "
        table: dict[str, tuple[int | None, str | None, str | None, str | None, str] | None] = {
            f"<34>{stamp}quay-1 tide[812]: low": (34, "quay-1", "tide", "812", "low"),
            f"<34>{stamp}su: 'su root' failed: x": (34, None, "su", None, "'su root' failed: x"),
            f"<34>{stamp}Low tide": (34, "Low", None, None, "tide"),
            f"{stamp}tide[81]: low": (None, None, "tide", "81", "low"),
            f"{stamp}quay-1 low tide": (None, "quay-1", None, None, "low tide"),
            f"{stamp}fw1 1,2026/03/02,x": (None, "fw1", None, None, "1,2026/03/02,x"),
            f"{stamp}[192.0.2.1] tide: low": (None, "[192.0.2.1]", "tide", None, "low"),
            f"{stamp}2001:db8::1 tide: low": (None, "2001:db8::1", "tide", None, "low"),
            f"{stamp}::1 tide: low": (None, "::1", "tide", None, "low"),
            f"{stamp}fe80:: tide: low": (None, "fe80::", "tide", None, "low"),
            f"{stamp}- tide: low": (None, None, "tide", None, "low"),
            f"{stamp}QUAY tide: low": (None, "QUAY", "tide", None, "low"),
            f"{stamp}Unable to open the gate": None,
            f"{stamp}[notice] low tide": None,
            f"{stamp}[notice] tide: low": None,
            f"{stamp}'gate' is open": None,
            f"{stamp}tide: no host": None,
            "2026-10-11T22:14:15Z FE80::1 tide[1]: low": (None, "FE80::1", "tide", "1", "low"),
            "2026-10-11T22:14:15Z INFO tide[1]: low": None,
            "2026-10-11T22:14:15Z quay-1 low tide": None,
        }
        file = self.FILE.replace("{said:rest}", "{:rest}") + "event: {class: Base Event, set: {message: body}}\n"
        events = parsed(file, *table, reference_time="2026-11-01").events
        for row, wanted in zip(events.to_dicts(), table.values(), strict=True):
            found = tuple(row[name] for name in ("priority", "host", "app", "pid", "body"))
            self.assertEqual(wanted, None if row["state"] == "unmatched" else found, row["raw"])
            self.assertEqual(wanted is None, row["time"] is None)


class Suggestions(InFolder):
    """A look at a log suggests these structures, and what it suggests reads the log."""

    def suggested(self, name: str, text: str) -> tuple[str, kinglet.Result]:
        path = self.write(name, text)
        parser = kinglet.look(path)[0].suggestion
        return parser, kinglet.load(parser).parse(path)

    def test_blocks_and_xml(self) -> None:
        parser, result = self.suggested("winch-audit.log", log_text("winch-audit"))
        for line in ("block: true", "time: time", "operator.name: word", "before.tension: text"):
            self.assertIn(line, parser)
        self.assertEqual((70, 70), (result.counts["events"], result.counts["complete"]))
        data = "<Data Name='user'>m.okoro</Data><Data Name='berth'>4</Data>"
        record = f"<Event><At>2026-03-03T22:10:4{{n}}Z</At>{data}</Event>\n"
        text = "".join(record.replace("{n}", str(i)) for i in range(10))
        parser, result = self.suggested("gate.xml", f"<log>{text}</log>\n")
        for line in ("xml: {by: 'Name'}", "At: time", "user: word", "berth: int"):
            self.assertIn(line, parser)
        self.assertEqual(10, result.counts["complete"])
        parser, result = self.suggested(
            "other.xml", f"<log>{text.replace(' Name=', ' n=').replace('Data', 'D')}</log>\n"
        )
        self.assertEqual(10, result.counts["events"])

    def test_hostile_columns_and_parameters(self) -> None:
        for texts, structure in (
            (["x" * 1_000_000, "", "é" * 10], Fixed({"a": (1, 5), "b": (100_000, None)})),
            (["[a" + ' b="1"' * 10_000 + "]", "[" * 10_000, '[a b="' + "\\\\" * 100_000], StructuredData()),
        ):
            with self.subTest(structure=structure.name), soon(self, 20):
                found = read(pl.Series(texts), structure, ["a", "a.b"])
            self.assertEqual(3, len(found.good))


class ReadingOn(unittest.TestCase):
    def test_a_variant_reads_from_an_earlier_slot_on(self) -> None:
        file = """
envelope: '{stamp:word} {app:word}: {body:rest}'
variants:
  - {name: shouted, onward: app, pattern: 'ALARM: {cause:rest}'}
  - {name: plain, pattern: 'level {level:int}'}
"""
        parser = kinglet.load(HEAD + file)
        events = parser.parse(["x ALARM: fire", "x pump: level 4", "x pump: hm"]).events
        self.assertEqual(["shouted", "plain", None], events["variant"].to_list())
        self.assertEqual(["fire", None, None], events["cause"].to_list())
        self.assertEqual([None, None, "hm"], events["body"].to_list())
        self.assertNotIn("_onward_app", events.columns)
        shown = {span.field: (span.start, span.end) for span in spans(parser._plan, "x ALARM: fire", "shouted")}
        self.assertEqual({"stamp": (0, 1), "app": (2, 7), "cause": (9, 13)}, shown)
        with self.assertRaisesRegex(kinglet.ParserFileError, "cannot read on from `app`"):
            kinglet.load(HEAD + file.replace("{app:word}:", "[[{app:word}]]:"))

    def test_an_envelope_may_be_a_pattern_with_structure(self) -> None:
        file = """
envelope: {pattern: '{app:word} {:pairs}', types: {act: word, berth: int}}
kind: act
variants: [{name: moored, kind: moor}]
"""
        events = parsed(file, "quay act=moor berth=4", "quay act=sail", "quay").events
        self.assertEqual(["moored", None, None], events["variant"].to_list())
        self.assertEqual([4, None, None], events["berth"].to_list())
        self.assertEqual(["complete", "partial", "unmatched"], events["state"].to_list())
        broken = kinglet.load(HEAD + file)
        event = broken.parse(['quay act="moor']).events.row(0, named=True)
        self.assertEqual(["bad-pairs:pairs_text", "unknown-kind"], event["faults"])
        reason = reasons(broken._plan, event["raw"], None, event["faults"])[0]
        self.assertEqual(("no pairs of keys and values from here on", 9), (reason.message, reason.start))


if __name__ == "__main__":
    unittest.main()
