"""JSON objects and pairs in texts: what is read, alike by both ways, and what becomes of it in a parser."""

from __future__ import annotations

import csv
import io
import json
import unittest
from typing import Any

import polars as pl
from hypothesis import given
from hypothesis import strategies as st

import kinglet
from kinglet.errors import ParserFileError
from kinglet.insight.diagnosis import reasons
from kinglet.insight.spans import spans
from kinglet.plan.data import Plan
from kinglet.structured import by_form as forms
from kinglet.structured.blocks import Blocks
from kinglet.structured.by_form import KeyColumns, Structure, read
from kinglet.structured.delimited import Delimited
from kinglet.structured.fixed import Fixed
from kinglet.structured.json_objects import MOST_LEVELS, JsonObjects, NoJsonError, read_object
from kinglet.structured.pairs import Pairs
from tests.helpers import InFolder, examples, soon
from tests.helpers import kinglet as command

HEAD = "kinglet: 1\nparser: gate\nversion: 1.0.0\nproduct: {vendor: Brackwater, name: Gatekeeper}\n"
JSON = HEAD + "variants:\n  - {name: all, json: true, types: %s}\n"
AT = "2026-03-05T12:00:00Z"


def found(texts: list[str | None], structure: Structure, *wanted: str) -> KeyColumns:
    return read(pl.Series(texts, dtype=pl.String), structure, wanted)


def one(text: str, structure: Structure, *wanted: str) -> dict[str, Any] | None:
    """What a text holds: wanted keys and all others; None where it lacks the structure."""
    here = found([text], structure, *wanted)
    if not here.good[0]:
        return None
    named = {key[1:]: value for key, value in here.columns.row(0, named=True).items() if value is not None}
    return dict(json.loads(here.more[0] or "{}", strict=False) | named)


def flat(value: dict[str, Any], above: str = "") -> dict[str, Any]:
    """An object as the standard library reads it, its keys with those above them."""
    parts: dict[str, Any] = {}
    for key, inner in value.items():
        if isinstance(inner, dict):
            parts |= flat(inner, f"{above}{key}.")
        elif inner is not None:
            parts[above + key] = inner
    return parts


SCALARS = st.one_of(
    st.none(), st.booleans(), st.integers(), st.floats(allow_nan=False, allow_infinity=False),
    st.text(st.characters(codec="utf-8"), max_size=8), st.sampled_from(['a"b', "c:\\logs", "}{][,:", "x\ny", "é😀"]),
)  # fmt: skip
KEYS = st.sampled_from(["a", "b", "c", "d e", 'k"', "é"])
VALUES = st.recursive(
    SCALARS, lambda inner: st.lists(inner, max_size=3) | st.dictionaries(KEYS, inner, max_size=3), max_leaves=8
)
PIECES = ["a", "b", "=", '"', " ", ";", "\\", "1", " a=1", ' b="q r"', "é"]
OBJECTS = st.dictionaries(KEYS, VALUES, max_size=4)


class ReadingJson(unittest.TestCase):
    @given(st.lists(OBJECTS, min_size=1, max_size=5), st.sampled_from([None, 1]), st.booleans(), st.lists(KEYS))
    @examples(36)
    def test_the_same_as_the_standard_library(
        self, objects: list[dict[str, Any]], indent: int | None, ascii_only: bool, wanted: list[str]
    ) -> None:
        texts: list[str | None] = [json.dumps(item, indent=indent, ensure_ascii=ascii_only) for item in objects]
        here = found(texts, JsonObjects(), *dict.fromkeys(wanted))
        self.assertTrue(here.good.all())
        for i, item in enumerate(objects):
            expected = flat(item)
            got = json.loads(here.more[i] or "{}", strict=False)
            for key, value in ((name[1:], value) for name, value in here.columns.row(i, named=True).items()):
                if value is not None:
                    got[key] = value if isinstance(expected[key], str) else json.loads(value, strict=False)
            self.assertEqual(expected, got, texts[i])

    @given(st.lists(OBJECTS, min_size=1, max_size=6), st.randoms(use_true_random=False))
    @examples(36)
    def test_broken_texts_are_known_and_both_ways_agree(self, objects: list[dict[str, Any]], chance: Any) -> None:
        texts: list[str | None] = []
        for item in objects:
            whole = json.dumps(item)
            for _ in range(chance.randrange(2)):
                at = chance.randrange(len(whole))
                whole = whole[:at] + chance.choice(['"', "{", "}", ",", ":", "1", " ", "]", "n", ""]) + whole[at + 1 :]
            texts.append(whole)
        quick = found(texts, JsonObjects(), "a", "b")
        for i, text in enumerate(texts):
            assert text is not None
            try:
                is_object = isinstance(json.loads(text, strict=False), dict)
            except ValueError:
                is_object = False
            self.assertEqual(is_object, quick.good[i], text)
        many, forms.MOST_FORMS = forms.MOST_FORMS, 0
        few, forms._FEW_FORMS = forms._FEW_FORMS, 0
        try:
            slow = found(texts, JsonObjects(), "a", "b")
        finally:
            forms.MOST_FORMS, forms._FEW_FORMS = many, few
        self.assertTrue(quick.columns.equals(slow.columns), texts)
        for left, right in zip(quick[1:], slow[1:], strict=True):
            self.assertEqual(left.to_list(), right.to_list(), texts)

    def test_by_hand(self) -> None:
        for text, expected in {
            '{"a": 1.50, "b": {"c": true, "d": null}, "e": [1, {"f": "]"}]}': {
                "a": "1.50", "b.c": True, "e": [1, {"f": "]"}],
            },
            "{}": {},
            ' {"a" : "x" } ': {"a": "x"},
            '{"a": "\\u00e9\\n\\"\\\\"}': {"a": 'é\n"\\'},
            '{"a": "\\ud83d\\ude00 \\ud83d"}': {"a": "😀 \ufffd"},
            '{"a": 1, "a": 2}': {"a": "2"},
            '{"a": "tab\there"}': {"a": "tab\there"},
            '{"a": NaN}': None, '{"a": 01}': None, '{"a": "\\x"}': None, '{"a" 1}': None, '{"a": 1,}': None,
            '{"a": 1} x': None, '{"a": 1': None, "[1]": None, "5": None, "": None, "{'a': 1}": None, '{"a": -}': None,
        }.items():  # fmt: skip
            with self.subTest(text=text):
                self.assertEqual(expected, one(text, JsonObjects(), "a"))
        twice = found(['{"a": 1, "a": 2}', '{"a": 1}', None], JsonObjects(), "a")
        self.assertEqual(["repeated-key", None, None], twice.faults.to_list())
        self.assertEqual([True, True, False], twice.good.to_list())

    def test_forms_in_any_number_and_order(self) -> None:
        """Forty sets of keys, more than are looked for, and texts that are alike but for their blanks."""
        texts: list[str | None] = []
        for i in range(4000):
            keys = {f"k{(i * 7 + j) % 150}": j for j in range(4)} if i % 3 else {"a": i, "b": "x"}
            texts.append(json.dumps(keys, separators=(",", ":") if i % 2 else (", ", ": ")))
        here = found(texts, JsonObjects(), "a", "k7")
        self.assertTrue(here.good.all())
        for i, text in enumerate(texts):
            assert text is not None
            whole = json.loads(text)
            self.assertEqual(str(whole["a"]) if "a" in whole else None, here.column("a")[i])
            self.assertEqual({key: value for key, value in whole.items() if key not in ("a", "k7")},
                             json.loads(here.more[i] or "{}"))  # fmt: skip

    def test_hostile_texts_are_soon_done(self) -> None:
        hostile: dict[str, tuple[str | None, bool]] = {
            "depth of objects": ('{"a":' * 10_000 + "1" + "}" * 10_000, False),
            "depth of lists": ('{"a":' + "[" * 10_000 + "]" * 10_000 + "}", False),
            "levels that are read": ('{"a":' * MOST_LEVELS + "1" + "}" * MOST_LEVELS, True),
            "one level more": ('{"a":' * (MOST_LEVELS + 1) + "1" + "}" * (MOST_LEVELS + 1), False),
            "a value of a megabyte": (json.dumps({"a": "x" * 1_000_000}), True),
            "a megabyte of backslashes": ('{"a": "' + "\\" * 1_000_000 + '"}', True),
            "ten thousand keys": (json.dumps({f"k{i}": i for i in range(10_000)}), True),
            "cut off": (json.dumps({"a": "x" * 1_000_000})[:-2], False),
            "not UTF-8 once": ('{"a": "\ufffd\ufffd"}', True),
        }
        with soon(self, 50):
            here = found([text for text, _ in hostile.values()], JsonObjects(), "a", "k9999")
        self.assertEqual([good for _, good in hostile.values()], here.good.to_list())
        self.assertEqual("9999", here.column("k9999")[6])
        self.assertEqual(9_999, len(json.loads(here.more[6])))

    def test_why_a_text_is_none(self) -> None:
        for text, at, message in (
            ('{"a": tru}', 6, "a value expected"),
            ('{"a": 1 "b": 2}', 8, "`,` or `}` expected"),
            ('{"a" 1}', 5, "`:` expected"),
            ("{a: 1}", 1, "a key in double quotes expected"),
            ('{"a": "x', 6, "a quote that is not closed"),
            ('{"a": 1} 2', 9, "nothing more expected"),
            ("[1]", 0, "`{` expected"),
        ):
            with self.subTest(text=text), self.assertRaises(NoJsonError) as caught:
                read_object(text)
            self.assertEqual((at, message), (caught.exception.at, caught.exception.message))
        self.assertEqual((0, "no JSON object"), JsonObjects().unread("{}"))
        for text, said in {
            '{"a": }': "a value expected", '{"a": [1 2]}': "`,` or `]` expected",
            '{"a": "b': "a quote that is not closed",
            r'{"a": "\x"}': "an escape that JSON does not know", r'{"a": "\u12"}': "four digits of base 16 expected",
        }.items():  # fmt: skip
            self.assertIn(said, JsonObjects().unread(text)[1], text)


class ReadingPairs(unittest.TestCase):
    def test_by_hand(self) -> None:
        blank, semicolons = Pairs(), Pairs(";", ":")
        for structure, text, expected in (
            (blank, 'a=1 b="two words" c=', {"a": "1", "b": "two words"}),
            (blank, '  a="say \\"no\\" \\\\"  flag\tb=x=y ', {"a": 'say "no" \\', "flag": True, "b": "x=y"}),
            (blank, 'a=""', {"a": ""}),
            (blank, "a==b", {"a": "=b"}),
            (blank, "a=1\nb=2", {"a": "1", "b": "2"}),
            (blank, 'a="no end', None),
            (blank, '"a" b=1', None),
            (blank, "", None),
            (semicolons, "User name: Jo L ; age:5;x", {"User name": "Jo L", "age": "5", "x": True}),
            (semicolons, 'a: "x;y" ; b:2', {"a": "x;y", "b": "2"}),
            (Pairs(",", "->", "'"), "a->'1,2', b->3", {"a": "1,2", "b": "3"}),
            (Pairs("|", ":="), "a:=1|b:=2 | c:= 3", {"a": "1", "b": "2", "c": "3"}),
        ):
            with self.subTest(text=text):
                self.assertEqual(expected, one(text, structure, "a"))
        self.assertEqual(["repeated-key"], found(["a=1 a=2"], blank, "a").faults.to_list())
        self.assertEqual("true", found(["flag"], blank, "flag").column("flag")[0])

    @given(
        st.lists(st.lists(st.sampled_from(PIECES), max_size=9), min_size=1, max_size=6),
        st.booleans(),
    )
    @examples(72)
    def test_both_ways_agree(self, pieces: list[list[str]], blank: bool) -> None:
        structure = Pairs() if blank else Pairs(";", "=")
        texts: list[str | None] = ["".join(some) for some in pieces]
        here = found(texts, structure, "a", "1")
        for i, text in enumerate(texts):
            assert text is not None
            values = structure.values(text)
            self.assertEqual(values is not None, here.good[i], text)
            each: dict[str, list[Any]] = {}
            for value in values or []:
                each.setdefault(value.path, []).append(value.text if value.kind else True)
            for key in ("a", "1"):
                last = each.get(key, [None]).pop() if each.get(key) else None
                self.assertEqual("true" if last is True else last, here.column(key)[i], text)
            others = {
                key: some[0] if len(some) == 1 else some for key, some in each.items() if some not in ([], [None])
            }
            self.assertEqual(others, json.loads(here.more[i] or "{}"), text)

    def test_where_a_text_stops_being_pairs(self) -> None:
        self.assertEqual((4, "no pairs of keys and values from here on"), Pairs().unread('a=1 "b" c=2'))


class ReadingRows(unittest.TestCase):
    NAMES = ("a", "b", "c")

    def test_by_hand(self) -> None:
        for text, expected, fault in (
            ("1,2,3", {"a": "1", "b": "2", "c": "3"}, None),
            ('"x, ""y""\nz",,', {"a": 'x, "y"\nz'}, None),
            ('"",x"y,""""', {"a": "", "b": 'x"y', "c": '"'}, None),
            ("1,2", {"a": "1", "b": "2"}, "few-columns"),
            ("1,2,3,4,5", {"a": "1", "b": "2", "c": "3", "column_4": "4", "column_5": "5"}, "many-columns"),
            ("", {}, "few-columns"),
            ('"1" ,2,3', None, None),
            ('1,"2,3', None, None),
        ):
            with self.subTest(text=text):
                structure = Delimited(self.NAMES)
                self.assertEqual(expected, one(text, structure, "a"))
                self.assertEqual(fault, found([text], structure).faults[0])
        self.assertEqual({"a": "1", "b": "x;y", "c": "2"}, one("1;'x;y';2", Delimited(self.NAMES, ";", "'"), "b"))
        self.assertIn("behind the quotes", Delimited(self.NAMES).unread('"1"x,2')[1])

    @given(st.lists(st.lists(st.text(alphabet='a,"\n 1', max_size=4), min_size=1, max_size=5), min_size=1, max_size=6))
    @examples(36)
    def test_what_the_standard_library_writes(self, rows: list[list[str]]) -> None:
        lines: list[str | None] = []
        for row in rows:
            out = io.StringIO()
            csv.writer(out, lineterminator="", quoting=csv.QUOTE_ALL if len(row) % 2 else csv.QUOTE_MINIMAL).writerow(
                row
            )
            lines.append(out.getvalue())
        here = found(lines, Delimited(self.NAMES), "a", "b", "c")
        self.assertTrue(here.good.all())
        for i, row in enumerate(rows):
            for place, name in enumerate(self.NAMES[: len(row)]):
                self.assertEqual(row[place], here.column(name)[i] or "", lines[i])

    @given(st.lists(st.lists(st.sampled_from(["-", "", "7", "a b", '"-"', '"a ""b"""', "--"]), min_size=3, max_size=3)))
    @examples(30)
    def test_a_text_that_stands_for_no_value(self, rows: list[list[str]]) -> None:
        texts = pl.Series([",".join(row) for row in rows], dtype=pl.String)
        found = read(texts, Delimited(["a", "b", "c"], nothing="-"), ["a", "b"])
        for i, row in enumerate(rows):
            meant = [
                None if text in ("", "-") else text[1:-1].replace('""', '"') if text[:1] == '"' else text
                for text in row
            ]
            self.assertEqual(meant[:2], [found.column("a")[i], found.column("b")[i]], row)
            others = json.loads(found.more[i]) if found.more[i] is not None else {}
            self.assertEqual({} if meant[2] is None else {"c": meant[2]}, others)


class InParsers(InFolder):
    def events(self, text: str, *raw: str) -> list[dict[str, Any]]:
        return list(kinglet.load(text).parse(list(raw), reference_time=AT).events.iter_rows(named=True))

    def plan(self, text: str) -> Plan:
        return kinglet.load(text)._plan

    def test_keys_with_a_type_are_fields_and_the_others_are_kept(self) -> None:
        text = JSON % "{time: time, src.port: port, 'odd key': num, ok: bool}" + "time: {from: time}\n"
        good, bad, none = self.events(
            text,
            '{"time": "2026-03-03T22:10:41Z", "src": {"port": 80, "ip": "192.0.2.1"}, "odd key": 1.5, "ok": true}',
            '{"time": "2026-03-03T22:10:42Z", "src": {"port": 80000}, "ok": null, "list": [1, "x"]}',
            '{"time": ',
        )
        self.assertEqual(
            ("complete", 80, 1.5, True, '{"src.ip":"192.0.2.1"}'),
            (good["state"], good["src.port"], good["odd key"], good["ok"], good["more"]),
        )
        self.assertEqual(41, good["time"].second)
        self.assertEqual((["bad-value:src.port"], None, '{"list":[1, "x"]}'), (bad["faults"], bad["ok"], bad["more"]))
        self.assertEqual(("unmatched", ["no-match"]), (none["state"], none["faults"]))

    def test_slots_of_structure(self) -> None:
        text = HEAD + (
            "variants:\n"
            "  - name: sold\n    pattern: 'sold {n:int} {tail:json}[[ by {:pairs}]]'\n"
            "    types: {tail.cents: int, user: word}\n"
            "  - {name: other, pattern: 'other {:json}', types: {user: word}}\n"
        )
        sold, bare, broken, other = self.events(
            text,
            'sold 2 {"cents": 640, "to": {"x": "y"}} by user=m.okoro shift="night watch"',
            'sold 3 {"cents": 5}',
            'sold 4 {"cents": 5,}',
            'other {"user": "a", "user": "b"}',
        )
        self.assertEqual((640, "m.okoro"), (sold["tail.cents"], sold["user"]))
        self.assertEqual({"tail.to.x": "y", "shift": "night watch"}, json.loads(sold["more"]))
        self.assertEqual(
            ("complete", 5, None, None), (bare["state"], bare["tail.cents"], bare["more"], bare["tail_text"])
        )
        self.assertEqual(
            ("partial", ["bad-json:tail_text"], '{"cents": 5,}', None),
            (broken["state"], broken["faults"], broken["tail_text"], broken["tail.cents"]),
        )
        self.assertEqual((["repeated-key:json_text"], "b"), (other["faults"], other["user"]))
        said = reasons(self.plan(text), broken["raw"], "sold", broken["faults"])[0]
        self.assertEqual(("no JSON object: a key in double quotes expected here", 19), (said.message, said.start))

    def test_an_envelope_of_structure_and_its_kind(self) -> None:
        text = HEAD + (
            "time: {from: ts, format: epoch}\n"
            "envelope: {pairs: {between: '|', equals: ':'}, types: {ts: time, act: word, user: word, note: text}}\n"
            "kind: act\n"
            "variants:\n"
            "  - name: in\n    kind: in\n    event: {class: Authentication, activity: Logon, set: {user.name: user}}\n"
            "  - {name: noted, kind: note, from: note, pattern: 'gate {gate:int} {what:rest}'}\n"
        )
        came, noted, odd, unknown = self.events(
            text,
            "ts:1772575841 | act:in | user:m.okoro | extra:1",
            "ts:1772575842|act:note|note:gate 4 stuck again",
            "ts:1772575843|act:note|note:door 4",
            "ts:1772575844|act:out",
        )
        self.assertEqual(("in", "m.okoro", '{"extra":"1"}'), (came["variant"], came["user"], came["more"]))
        self.assertEqual(("noted", 4, "stuck again", "gate 4 stuck again"),
                         (noted["variant"], noted["gate"], noted["what"], noted["note"]))  # fmt: skip
        self.assertEqual((["no-variant"], ["unknown-kind"]), (odd["faults"], unknown["faults"]))
        plan = self.plan(text)
        said = reasons(plan, odd["raw"], None, odd["faults"])[0]
        self.assertEqual((odd["raw"].index("door"), True), (said.start, "expects `gate`" in said.message))
        self.assertEqual(
            "no variant has the kind out", reasons(plan, unknown["raw"], None, unknown["faults"])[0].message
        )
        shown = {span.field: noted["raw"][span.start : span.end] for span in spans(plan, noted["raw"], "noted")}
        self.assertEqual(("4", "stuck again", "1772575842"), (shown["gate"], shown["what"], shown["ts"]))

    def test_rows(self) -> None:
        text = HEAD + (
            "time: {from: stamp, format: epoch}\n"
            "variants: [{name: row, delimited: {names: [stamp, user, n]}, types: {n: int}}]\n"
        )
        good, few, many, bad = self.events(
            text, "1772575841,a,7", "1772575842,b", "1772575843,c,8,x", '1772575844,"d"e,9'
        )
        self.assertEqual(("complete", "a", 7), (good["state"], good["user"], good["n"]))
        self.assertEqual((["few-columns"], None), (few["faults"], few["n"]))
        self.assertEqual((["many-columns"], '{"column_4":"x"}'), (many["faults"], many["more"]))
        said = reasons(self.plan(text), bad["raw"], None, bad["faults"])[0]
        self.assertIn("text behind the quotes of a value", said.message)

    def test_other_keys_go_out_as_json_and_the_mapping_may_name_fields_with_dots(self) -> None:
        self.write("gate.yaml", JSON % "{user.name: word, n: int}" + (
            "    event: {class: Authentication, activity: Logon, set: {user.name: UPPER(user.name), count: n}}\n"
        ).replace("    event", "event", 1))  # fmt: skip
        self.write("gate.log", '{"user": {"name": "a.pires", "roles": ["x"]}, "n": 2, "d": {"e": 1.50}}\n')
        row = self.out("fields")
        self.assertEqual({"user.roles": ["x"], "d.e": 1.5}, row["more"])
        self.assertEqual({"name": "a.pires"}, row["user"])
        mapped = self.out("model")
        self.assertEqual(("A.PIRES", 2), (mapped["user"]["name"], mapped["count"]))
        self.assertEqual({"user.roles": ["x"], "d.e": 1.5}, mapped["unmapped"]["more"])
        command("run", "-p", "gate.yaml", "gate.log", "-o", "out.parquet")
        self.assertEqual('{"user.roles":["x"],"d.e":1.50}', pl.read_parquet("out.parquet")["more"].item())

    def out(self, form: str) -> dict[str, Any]:
        done = command("run", "-p", "gate.yaml", "gate.log", "-o", "out.ndjson", "--as", form)
        self.assertEqual(0, done.status, done.err)
        with open("out.ndjson", encoding="utf-8") as lines:
            return dict(json.loads(lines.readline()))

    def test_try_and_explain_show_them(self) -> None:
        self.write("gate.yaml", JSON % "{user: word}")
        self.write("gate.log", '{"user": "a.pires", "n": 1}\n{"user": }\n')
        shown = command("try", "gate.yaml", "gate.log").out
        for said in (
            "complete  1",
            "user  a.pires",
            'more  {"n":1}',
            "all finds no JSON object: a value expected here",
        ):
            self.assertIn(said, shown)
        explained = command("explain", "gate.yaml").out
        self.assertIn("reads     a JSON object", explained)
        self.assertIn("user (word: text), more (text)", explained)

    def test_a_look_names_the_keys_with_their_types(self) -> None:
        lines = [
            json.dumps({"time": f"2026-03-03T22:10:{i:02}Z", "id": f"r-{i}", "from": {"ip": "192.0.2.7", "on": True},
                        "size": i * 1.5, "tags": ["x"], "gone": None, "yes": "a b"})
            for i in range(40)
        ]  # fmt: skip
        suggested = kinglet.look("\n".join([*lines, '{"time": ', ""]))[0].suggestion
        parser = kinglet.load(suggested)
        result = parser.parse("\n".join(lines), reference_time=AT)
        self.assertEqual(40, result.counts["complete"])
        types = {name: str(dtype) for name, dtype in parser.fields.items()}
        self.assertEqual(("Float64", "Boolean", "String", "String"),
                         (types["size"], types["from.on"], types["tags"], types["log_id"]))  # fmt: skip
        self.assertEqual({"log_time"}, {rule.from_ for rule in parser._definition.time})
        stray = kinglet.look("\n".join(["starting up", *lines, "going down", ""]))[0]
        self.assertEqual({"json": True}, stray.boundaries[0].events)
        self.assertIn("json: true", stray.suggestion)
        self.assertEqual(("what is no record", 2, "starting up"),
                         (stray.shapes[-1].text, stray.shapes[-1].count, stray.shapes[-1].example))  # fmt: skip
        pairs = [f'at={1772575841 + i} user="m. okoro" n={i} flag' for i in range(40)]
        suggested = kinglet.look("\n".join(pairs))[0].suggestion
        self.assertIn("pairs: true", suggested)
        self.assertEqual(40, kinglet.load(suggested).parse("\n".join(pairs)).counts["complete"])
        rows = "time;name;n;note\n" + "".join(f'2026-03-03T22:10:{i:02}Z;b{i};{i};"x;y"\n' for i in range(40))
        suggested = kinglet.look(rows)[0].suggestion
        self.assertIn("delimited: {names: [time, name, n, note], delimiter: ';'}", suggested)
        events = kinglet.load(suggested).parse(rows).events
        self.assertEqual(["complete"] * 40, events["state"].to_list())
        self.assertEqual(("x;y", 39), (events["note"][39], events["n"][39]))
        words = "\n".join(f"the gate {i} is open and shut" for i in range(40))
        self.assertNotIn("pairs: true", kinglet.look(words)[0].suggestion)

    def test_what_is_wrong_is_said_with_its_place(self) -> None:
        pattern = HEAD + "variants:\n  - {name: all, pattern: '%s', types: %s}\n"
        for text, said in (
            (JSON % "{more: text}", "`more` is the field of keys that have no name"),
            (JSON % "{a: wrod}", "no such type `wrod`; did you mean `word`?"),
            (JSON % "{a: text, a.b: text}", "`a.b` and `a` cannot both be fields"),
            (pattern % ("x {n:int}", "{m: int}"), "is no key of a slot of structure; in a pattern write {name:type}"),
            (pattern % ("x {t:json}", "{m: int}"), "its name begins with that of a slot: `t.`"),
            (HEAD + "variants: [{name: all}]\n", "says nothing of what it reads"),
            (HEAD + "variants: [{name: all, json: true, pairs: true}]\n", "has both `json` and `pairs`"),
            (HEAD + "variants: [{name: all, types: {a: int}}]\n", "but does not say how it reads"),
            (HEAD + "envelope: {types: {a: int}}\nvariants: [{name: all}]\n", "does not say what it reads; give"),
            (HEAD + "variants: [{name: a, delimited: {names: [x, x]}}]\n", "has the name `x` twice"),
            (HEAD + "envelope: {json: true, types: {note: word}}\nvariants: [{name: x, from: nte, pattern: y}]\n",
             "the envelope has no slot `nte`; did you mean `note`?"),
        ):  # fmt: skip
            with self.subTest(said=said), self.assertRaises(ParserFileError) as caught:
                kinglet.load(text)
            self.assertIn(said, str(caught.exception))


if __name__ == "__main__":
    unittest.main()


class BlanksOfOtherAlphabets(unittest.TestCase):
    """Blanks that are none of the structure are text, whatever other texts a batch has."""

    def test_a_text_means_the_same_alone_and_beside_others(self) -> None:
        for blank in ("\u2028", "\xa0", "\x1c", "\x0b"):
            for plain, odd, structure in (
                ("a=x b=1", f"a={blank}x{blank} b={blank}", Pairs()),
                ("a=x; b=1", f"a={blank}x{blank}; b={blank}", Pairs("; ")),
                ("a: x\nb: 1", f"a: {blank}x{blank}\nb: 1", Blocks()),
                ("ax 1", f"a{blank} 1", Fixed({"a": (1, 3), "b": (4, None)})),
            ):
                with self.subTest(blank=blank, structure=structure.name):
                    beside = found([plain, odd, plain], structure, "a", "b").columns.row(1)
                    alone = found([odd], structure, "a", "b").columns.row(0)
                    self.assertEqual(alone, beside)
                    self.assertIn(blank, str(alone[0]))
