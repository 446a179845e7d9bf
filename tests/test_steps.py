"""Steps: what each does to events, what is wrong with one, and how a person sees what they do."""

from __future__ import annotations

import hashlib
import hmac
import json
from typing import Any
from unittest import mock

import polars as pl
from hypothesis import given
from hypothesis import strategies as st

import kinglet
from kinglet.insight.diagnosis import reasons
from tests.helpers import InFolder, examples
from tests.helpers import kinglet as command

HEAD = "kinglet: 1\nparser: doors\nversion: 1.0.0\nproduct: {vendor: Quayline, name: Doors}\n"
FILE = HEAD + "variants:\n  - {name: used, pattern: '{unit:word} {code:int}[[ {user:word}]]'}\nsteps:\n"
LINES = ["P04 7 m.okoro", "P12 8", "Q1 9 a.pires", "no"]


def rows(steps: str, *raw: str) -> list[dict[str, Any]]:
    return kinglet.load(FILE + steps).parse(list(raw or LINES)).events.to_dicts()


class Operations(InFolder):
    def test_fields(self) -> None:
        wanted: dict[str, dict[str, Any]] = {
            "set: {code: 'code + 1', twice: 'code * 2.0'}": {"code": 8, "twice": 14.0, "user": "m.okoro"},
            "set: {user: 'NULL', good: true, half: 0.5, n: 3}": {"user": None, "good": True, "half": 0.5, "n": 3},
            "rename: {unit: user, user: unit}": {"unit": "m.okoro", "user": "P04"},
            "rename: {unit: panel}": {"panel": "P04", "code": 7},
            "copy: {code: also}": {"code": 7, "also": 7},
            "keep: code": {"code": 7},
            "remove: [code, user]": {"unit": "P04"},
            "join: {fields: [unit, code, user], with: ':', to: all}": {"all": "P04:7:m.okoro"},
            "split: {field: user, at: ., into: [a, b, c]}": {"a": "m", "b": "okoro", "c": None},
            "split: {field: user, at: ., into: [first]}": {"first": "m.okoro"},
            "replace: {fields: user, regex: '(.)\\.(.)', with: '${2}$$${1}'}": {"user": "o$mkoro"},
            "convert: {code: word}": {"code": "7"},
            "translate: {unit: {to: {P04: four}}, n: {from: code + 1, to: {8: eight}}}": {"unit": "four", "n": "eight"},
            "roll: {fields: [unit, user], to: who}": {"who": '{"unit":"P04","user":"m.okoro"}', "code": 7},
            "mask: {fields: [user, unit], show: 5}": {"user": "**okoro", "unit": "***"},
        }  # fmt: skip
        for step, expected in wanted.items():
            with self.subTest(step=step):
                event = rows(f"  - {step}\n")[0]
                self.assertEqual(expected, {name: event[name] for name in expected})
                gone = {"unit", "code", "user"} - set(expected) if step.startswith(("keep", "remove")) else set()
                self.assertFalse(gone & set(event))

    def test_a_condition_chooses_events_and_null_is_no_yes(self) -> None:
        events = rows("  - {when: user <> 'a.pires', set: {unit: {text: X}}}\n")
        self.assertEqual(["X", "P12", "Q1", None], [event["unit"] for event in events])
        events = rows("  - {when: state = 'unmatched', set: {unit: \"raw || '!'\"}}\n")
        self.assertEqual(["P04", "P12", "Q1", "no!"], [event["unit"] for event in events])
        events = rows("  - {when: code > 7, rename: {user: who}}\n")
        self.assertEqual(
            [("m.okoro", None), (None, None), (None, "a.pires")], [(e["user"], e["who"]) for e in events[:3]]
        )
        events = rows("  - {off: true, drop: all}\n  - {when: code = 7, remove: user}\n")
        self.assertEqual([None, None, "a.pires"], [event["user"] for event in events[:3]])

    def test_dropped_events_are_counted_and_in_no_output(self) -> None:
        steps = "  - {when: code = 8, drop: tide}\n  - {when: line = 4, drop: noise}\n  - set: {unit: {text: X}}\n"
        path = self.write("doors.yaml", FILE + steps)
        log = self.write("doors.log", "\n".join(LINES))
        result = kinglet.load(path).parse(log)
        self.assertEqual({"events": 4, "complete": 2, "partial": 0, "unmatched": 0, "dropped": 2}, result.counts)
        self.assertEqual(["dropped:tide"], result.events["faults"][1].to_list())
        self.assertEqual(["X", "P12", "X", None], result.events["unit"].to_list())
        self.assertEqual(2, len(list(result.to_model())))
        for suffix in ("ndjson", "csv", "parquet", "arrow"):
            for form in ("fields", "model"):
                called = command("run", "-p", path, log, "-o", f"out.{suffix}", "--as", form)
                self.assertIn("2 of 4 events", called.err)
                self.assertIn("2 dropped (noise 1, tide 1)", called.err)
        self.assertEqual(2, len((self.folder / "out.ndjson").read_text().splitlines()))
        self.assertEqual(2, pl.read_parquet("out.parquet").height)
        self.assertEqual(
            {"tide": 1, "noise": 1}, command("run", "-p", path, log, "-o", "o.csv", "--json").json()["dropped"]
        )
        self.assertIn("dropped by step 1, drop", command("try", path, log).out)

    def test_faults_of_steps(self) -> None:
        events = rows(
            "  - {convert: {unit: port}}\n  - parse: {field: user, pattern: '{a:word}.{b:int}', optional: true}\n",
            *LINES,
            "22 1 x.5",
        )
        self.assertEqual([["bad-value:unit"]] * 3 + [["no-match"], []], [event["faults"] for event in events])
        self.assertEqual(["partial"] * 3 + ["unmatched", "complete"], [event["state"] for event in events])
        self.assertEqual((22, "x", 5), (events[4]["unit"], events[4]["a"], events[4]["b"]))
        parser = kinglet.load(
            FILE + "  - parse: {field: user, pattern: '{a:word}.{b:int}'}\n  - convert: {code: bool}\n"
        )
        event = parser.parse([LINES[0]]).events.row(0, named=True)
        self.assertEqual(["not-read:user", "bad-value:code"], event["faults"])
        told = reasons(parser._plan, LINES[0], "used", event["faults"])
        self.assertEqual(
            ("step 1, parse expects `{b:int}` here and finds `okoro`", 8), (told[0].message, told[0].start)
        )
        self.assertIn("which step 2, convert makes of it", told[1].message)

    def test_raw_text_goes_only_where_all_was_understood(self) -> None:
        path = self.write("doors.yaml", FILE + "  - {when: code > 7, raw: drop}\n  - raw: {shorten: 3}\n")
        log = self.write("doors.log", "\n".join(LINES))
        events = kinglet.load(path).parse(log).events
        self.assertEqual(["P04", None, None, "no"], events["raw"].to_list())
        self.assertIn("P04 7 m.okoro", command("try", path, log).out)
        mapped = list(kinglet.load(path).parse(log).to_model())
        self.assertEqual(["P04", None, None, "no"], [event.get("raw_data") for event in mapped])
        self.assertEqual(4, len({event["metadata"]["uid"] for event in mapped}))

    def test_personal_data(self) -> None:
        steps = "  - hash: {fields: user, key: MARRAM_KEY}\n"
        with mock.patch.dict("os.environ", MARRAM_KEY="tide"):
            users = [event["user"] for event in rows(steps, "P1 1 m.okoro", "P1 2", "P2 3 m.okoro")]
        self.assertEqual(users[0], hmac.new(b"tide", b"m.okoro", hashlib.sha256).hexdigest()[:32])
        self.assertEqual([users[0], None, users[0]], users)
        path = self.write("doors.yaml", FILE + steps + "cases:\n  - {raw: P1 1 m.okoro}\n")
        log = self.write("doors.log", "\n".join(LINES))
        with mock.patch.dict("os.environ", clear=True):
            called = command("try", path, log)
        self.assertEqual(2, called.status)
        self.assertIn("doors.yaml:8:5: steps[0].hash: needs a key in the environment variable MARRAM_KEY", called.err)
        with mock.patch.dict("os.environ", MARRAM_KEY="tide"):
            self.assertIn("`user` is hashed, but stays in the raw text", command("check", path).out)

    def test_points(self) -> None:
        steps = "  - measure: {values: {n.code: code}, labels: [unit, user]}\n  - measure: {values: {twice: code}}\n"
        path = self.write("doors.yaml", FILE + steps)
        log = self.write("doors.log", "\n".join(LINES))
        points = kinglet.load(path).parse(log).events["points"].to_list()
        self.assertEqual([{"name": "unit", "value": "P12"}], points[1][0]["labels"])
        self.assertEqual(("twice", 8.0, []), tuple(points[1][1].values()))
        self.assertIsNone(points[3])
        for suffix in ("ndjson", "csv", "parquet", "arrow"):
            self.assertEqual(0, command("run", "-p", path, log, "-o", f"out.{suffix}").status)
        first = json.loads((self.folder / "out.ndjson").read_text().splitlines()[0])
        self.assertEqual(["n.code", "twice"], [point["name"] for point in first["points"]])
        self.assertEqual("n.code", json.loads(pl.read_csv("out.csv")["points"][0])[0]["name"])

    def test_a_rolled_field_is_an_object_in_json(self) -> None:
        path = self.write("doors.yaml", FILE + "  - roll: {fields: [code, user], to: detail}\n")
        log = self.write("doors.log", "\n".join(LINES))
        command("run", "-p", path, log, "-o", "out.ndjson")
        lines = [json.loads(line) for line in (self.folder / "out.ndjson").read_text().splitlines()]
        self.assertEqual([{"code": 7, "user": "m.okoro"}, {"code": 8}], [line["detail"] for line in lines[:2]])
        self.assertNotIn("detail", lines[3])

    @given(st.lists(st.sampled_from([*LINES, "P1 1 a.b", "x 5 m.okoro"]), max_size=30), st.integers(1, 7))
    @examples(20)
    def test_how_events_come_together_changes_nothing(self, raw: list[str], size: int) -> None:
        parser = kinglet.load(
            FILE
            + """
  - {when: unit LIKE 'P%', set: {place: "unit || '!'"}}
  - translate: {who: {from: user, to: {m.okoro: engineer}}}
  - parse: {field: user, pattern: '{first:word}.{last:word}', optional: true}
  - {when: code = 8, drop: tide}
  - measure: {values: {code: code}, labels: [who]}
  - roll: {fields: [first, last], to: name}
"""
        )
        columns = ["place", "who", "name", "points", "state", "faults", "code"]
        whole = parser.parse(raw).events.select(columns)
        parts = [parser.parse(raw[i : i + size]).events.select(columns) for i in range(0, len(raw), size)]
        self.assertEqual(whole.to_dicts(), [row for part in parts for row in part.to_dicts()])


class Refilled(InFolder):
    def test_a_fault_in_what_a_step_found_names_the_step(self) -> None:
        parser = kinglet.load(HEAD + "variants: [{name: a, pattern: '{t:rest}'}]\n"
                              "steps: [{find: {field: t, pattern: 'n={n:int}', to: ns}}]\n")  # fmt: skip
        text = "n=7 n=99999999999999999999"
        event = parser.parse([text]).events.row(0, named=True)
        self.assertEqual(([7], ["bad-value:ns"]), (event["ns"], event["faults"]))
        (reason,) = reasons(parser._plan, text, "a", event["faults"])
        self.assertEqual("step 1, find met a value that is none of its type", reason.message)

    def test_parse_may_fill_a_field_that_another_variant_fills(self) -> None:
        file = HEAD + (
            "variants:\n  - {name: used, pattern: 'used {unit:word} {code:int}'}\n"
            "  - {name: told, pattern: 'told {text:rest}'}\n"
            "steps:\n  - parse: {field: text, pattern: '{unit:word}: {code:int}'}\n"
        )
        events = kinglet.load(file).parse(["used P04 7", "told P05: 8", "told what"]).events
        self.assertEqual([("P04", 7), ("P05", 8), (None, None)], events.select("unit", "code").rows())
        self.assertEqual([[], [], ["not-read:text"]], events["faults"].to_list())


class Tables(InFolder):
    LOOKUP = "  - lookup: {field: unit, file: %s, take: {name: title}%s}\n"

    def said(self, steps: str) -> str:
        path = self.write("doors.yaml", FILE + steps)
        with self.assertRaises(kinglet.ParserFileError) as caught:
            kinglet.load(path).parse(LINES)
        return str(caught.exception)

    def test_by_value_network_and_prefix(self) -> None:
        self.write("t.csv", "\ufeffk,name\nP04,four\nP,pee\nP04,again\n192.0.2.0/24,net\n192.0.2.7,one\n,\n")
        for by, unit, expected in (
            ("value", "P04", "four"), ("value", "P05", None), ("prefix", "P05", "pee"), ("prefix", "P049", "four"),
            ("prefix", "Q", None),
        ):  # fmt: skip
            path = self.write("doors.yaml", FILE + self.LOOKUP % ("t.csv", f", by: {by}"))
            self.assertEqual(expected, kinglet.load(path).parse([f"{unit} 1"]).events["title"][0], (by, unit))
        self.write("n.csv", "name,net\nnet,192.0.2.0/24\none,192.0.2.7\nsix,2001:db8::/32\nall,0.0.0.0/0\n")
        path = self.write("doors.yaml", FILE + self.LOOKUP % ("n.csv", ", by: network, key: net"))
        found = kinglet.load(path).parse(
            [f"{ip} 1" for ip in ("192.0.2.7", "192.0.2.8", "2001:db8::1", "203.0.113.1", "x", "::1")]
        )
        self.assertEqual(["one", "net", "six", "all", None, None], found.events["title"].to_list())
        self.write("v.csv", "a,b\nm.okoro,engineer\n")
        path = self.write("doors.yaml", FILE + "  - translate: {user: {file: v.csv, otherwise: other}}\n")
        self.assertEqual(["engineer", None, "other", None], kinglet.load(path).parse(LINES).events["user"].to_list())

    def test_a_table_that_has_changed_is_read_again_by_the_next_parser(self) -> None:
        path = self.write("doors.yaml", FILE + self.LOOKUP % ("t.csv", ""))
        for title in ("four", "vier"):
            self.write("t.csv", f"k,name\nP04,{title}\n")
            self.assertEqual(title, kinglet.load(path).parse(LINES).events["title"][0])

    def test_tables_that_cannot_be_read(self) -> None:
        self.write("bad.csv", b"k,name\nP04,\xff\n")
        self.write("uneven.csv", "k,name\nP04\n")
        self.write("twice.csv", "k,k\n")
        self.write("empty.csv", "")
        self.write("nets.csv", "k,name\nnone,x\n")
        for steps, said in {
            self.LOOKUP % ("gone.csv", ""): "gone.csv: no such file; the file stands beside the parser file",
            self.LOOKUP % ("bad.csv", ""): "is no CSV in UTF-8",
            self.LOOKUP % ("uneven.csv", ""): "uneven.csv:2: has 1 columns, the header 2",
            self.LOOKUP % ("twice.csv", ""): "names a column twice",
            self.LOOKUP % ("empty.csv", ""): "has no header",
            self.LOOKUP % ("nets.csv", ", by: network"): "row 1: `none` is no network",
            self.LOOKUP % ("nets.csv", ", key: nam"): "has no column `nam`; did you mean `name`?",
            self.LOOKUP % ("../x.csv", ""): "leads out of the folder",
            self.LOOKUP % ("/etc/passwd", ""): "leads out of the folder",
        }.items():
            with self.subTest(said=said):
                self.assertIn("doors.yaml:8:", self.said(steps))
                self.assertIn(said, self.said(steps))
        path = self.write("doors.yaml", FILE + self.LOOKUP % ("gone.csv", ""))
        self.assertEqual(2, command("check", path).status)
        kinglet.load(path)  # loading reads no other file


class Wrong(InFolder):
    def test_a_field_of_another_type_is_not_given_anew(self) -> None:
        inner = "kinglet: 1\nparser: inner\nversion: 1.0.0\nproduct: {vendor: Quayline, name: Inner}\n"
        self.write("inner.yaml", inner + "variants: [{name: read, pattern: 'code {unit:int}'}]\n")
        for parse in ("parser: inner", "pattern: 'code {unit:int}'"):
            outer = self.write("outer.yaml", f"{FILE}  - parse: {{field: user, {parse}}}\n")
            said = "`unit` is text, and this gives a whole number; give it another name"
            with self.assertRaisesRegex(kinglet.ParserFileError, said):
                kinglet.load(outer)

    def test_what_is_wrong_is_said_with_its_place(self) -> None:
        for steps, said in {
            "  - {note: x}\n": "steps[0]: does nothing",
            "  - {drop: a, remove: b}\n": "does `remove` and `drop`; make them steps of their own",
            "  - remove: usr\n": "there is no field `usr` before this step; did you mean `user`?",
            "  - {when: usr = 1, drop: x}\n": "`usr` is no field before this step; did you mean `user`?",
            "  - {when: code, drop: x}\n": "`code` is no condition",
            "  - {when: code =, drop: x}\n": "is not a SQL expression",
            "  - set: {raw: {text: x}}\n": "`raw` is a column of every event",
            "  - set: {unit: \"'it''s x'\"}\n": "is fixed text in the quotes of an expression; write {text: \"it's",
            "  - set: {code.x: 1}\n": "`code.x` and `code` cannot both be fields",
            "  - {when: code = 1, set: {code: {text: x}}}\n": "would be text in some events only",
            "  - {rename: {user: unit}}\n": "",
            "  - {rename: {code: unit}}\n": "`unit` is text, and this gives a whole number",
            "  - {copy: {unit: a, user: a}}\n": "gives one name to two fields",
            "  - {convert: {code: itn}}\n": "no such type `itn`; did you mean `int`",
            "  - {convert: {code: list}}\n": "a list is made of JSON text",
            "  - replace: {fields: code, regex: x}\n": "`code` is a whole number; this reads text",
            "  - replace: {fields: user, regex: '('}\n": "does not compile",
            "  - replace: {fields: user, regex: x, with: $1}\n": "has a `$` that names no group",
            "  - replace: {fields: user, regex: x, with: '${1}'}\n": "names the group `1`, which the regex lacks",
            "  - split: {field: user, at: x}\n": "needs either `into`",
            "  - translate: {user: {otherwise: x}}\n": "needs either `to` or `file`",
            "  - translate: {usr: {to: {a: b}}}\n": "there is no field `usr` before this step",
            "  - replace: {field: user, regex: x}\n": "no such key; did you mean `fields`?",
            "  - find: {field: user, pattern: 'a={n:int', to: x}\n": "find.pattern: `{` is not closed",
            "  - find: {field: user, pattern: 'a={:int}', to: x}\n": "has no slot that is kept",
            "  - find: {field: user, pattern: 'a={n:text}', to: x}\n": "`{n:text}` has no end here",
            "  - find: {field: user, pattern: 'a={n:json}', to: x}\n": "cannot be looked for",
            "  - find: {field: user, pattern: 'a={n:int}', to: code}\n": "whole number, and this gives a list",
            "  - find: {field: code, pattern: 'a={n:int}', to: x}\n": "`code` is a whole number; this reads text",
            "  - unescape: {fields: code, as: c}\n": "`code` is a whole number; this reads text",
            "  - unescape: {fields: user, as: cc}\n": "must be 'c', 'json', 'percent', 'html', 'hex' or 'base64'",
            "  - measure: {values: {a: user}}\n": "`user` is text; measure numbers",
            "  - parse: {field: user}\n": "needs a way to read",
            "  - parse: {field: user, pattern: '{code:word}'}\n": "`code` is a whole number, and this gives text",
            "  - parse: {field: user, parser: nobody}\n": "there is no parser `nobody` beside this file",
            "  - parse: {field: user, parser: ../x}\n": "there is no parser `../x` beside this file",
            "  - parse: {field: user, parser: doors}\n": "would read its own fields again",
            "  - hash: {fields: user, key: 'a b'}\n": "is not in the right form",
            "  - {remove: user}\n  - remove: user\n": "steps[1].remove: there is no field `user` before this step",
        }.items():  # fmt: skip
            with self.subTest(steps=steps):
                if not said:
                    kinglet.load(FILE + steps)
                    continue
                with self.assertRaises(kinglet.ParserFileError) as caught:
                    kinglet.load(FILE + steps)
                self.assertIn(said, str(caught.exception))

    def test_parsers_that_hand_to_each_other(self) -> None:
        self.write("a.yaml", FILE.replace("doors", "a") + "  - parse: {field: user, parser: b}\n")
        self.write(
            "b.yaml",
            HEAD.replace("doors", "b")
            + "variants: [{name: x, pattern: '{w:word}'}]\nsteps:\n  - parse: {field: w, parser: a}\n",
        )
        with self.assertRaisesRegex(
            kinglet.ParserFileError, "the parser `b` cannot be used: .*would read its own fields"
        ):
            kinglet.load("a.yaml")

    def test_why_another_parser_does_not_read_a_field(self) -> None:
        gate = "variants: [{name: x, pattern: 'gate {n:int} open'}]\n"
        self.write("gate.yaml", HEAD.replace("doors", "gate") + gate)
        variants = "variants: [{name: m, pattern: '{app:word} {text:rest}'}]\n"
        path = self.write("m.yaml", HEAD + variants + "steps: [{parse: {field: text, parser: gate}}]\n")
        parser = kinglet.load(path)
        event = parser.parse(["a gate 4 shut"]).events.row(0, named=True)
        reason = reasons(parser._plan, event["raw"], "m", event["faults"])[0]
        self.assertEqual(("text/no-match", 9), (reason.fault, reason.start))
        self.assertIn(
            "the parser gate says: x reads up to column 8, then expects `open` and finds `shut`", reason.message
        )
        log = self.write("m.log", "a gate 4 shut\nb gate 5 open\n")
        self.assertIn("text/no-match", command("try", path, log).out)

    def test_a_mapping_sees_the_fields_after_the_steps(self) -> None:
        file = (
            HEAD
            + """
event: {class: Base Event, severity: Low, set: {message: officer}}
variants: [{name: used, pattern: '{unit:word} {user:word}'}]
steps: [{rename: {user: officer}}]
"""
        )
        mapped = next(kinglet.load(file).parse(["P1 m.okoro"]).to_model())
        self.assertEqual("m.okoro", mapped["message"])
        self.assertEqual({"unit": "P1", "time_from": "reference"}, mapped["unmapped"])
        with self.assertRaisesRegex(kinglet.ParserFileError, "`user` is no field of this variant"):
            kinglet.load(file.replace("message: officer", "message: user"))


class Traces(InFolder):
    STEPS = """
  - {note: short names, set: {unit: "replace(unit, 'P0', 'P')"}}
  - {when: code > 8, remove: user}
  - {when: code = 8, drop: tide}
  - convert: {code: word}
"""

    def setUp(self) -> None:
        super().setUp()
        self.parser = self.write("doors.yaml", FILE + self.STEPS)
        self.log = self.write("doors.log", "\n".join(LINES))

    def test_an_event_before_and_after_every_step(self) -> None:
        said = command("try", self.parser, self.log, "--trace", "1")
        self.assertEqual(0, said.status)
        for text in (
            "step 1  set  short names",
            "P04 → P4",
            "step 2  remove",
            "not done: `code > 8` is not true of it",
            "7 (whole number) → 7 (text)",
        ):
            self.assertIn(text, said.out)
        self.assertIn("dropped: nothing goes out", command("try", self.parser, self.log, "--trace", "2").out)
        found = command("try", self.parser, self.log, "--trace", "3", "--json").json()["files"][0]["trace"]
        self.assertEqual([{"field": "user", "before": "a.pires", "after": None}], found["steps"][1]["changes"])
        self.assertEqual([True, True, False, True], [step["done"] for step in found["steps"]])
        sizes = [found["bytes"], *(step["bytes"] for step in found["steps"])]
        self.assertLess(sizes[2], sizes[1])
        kinglet.load(self.parser).parse(self.log)
        command("run", "-p", self.parser, self.log, "-o", "out.ndjson")
        self.assertEqual(len((self.folder / "out.ndjson").read_bytes().splitlines()[1]) + 1, sizes[-1])

    def test_without_a_step_and_until_one(self) -> None:
        found = command("try", self.parser, self.log, "--without", "1", "--json").json()["files"][0]["without"]
        self.assertEqual([{"field": "unit", "events": 1, "line": 1, "with": "P4", "without": "P04"}], found["fields"])
        self.assertEqual(found["bytes_with"] + 1, found["bytes_without"])
        other = self.write("other.log", "P1 1 x\n")
        self.assertIn("nothing differs", command("try", self.parser, other, "--without", "2").out)
        self.assertEqual(
            3, command("try", self.parser, self.log, "--until", "2", "--json").json()["files"][0]["counts"]["complete"]
        )
        self.assertIn("P04", command("try", self.parser, self.log, "--until", "0").out)

    def test_explain_lists_them(self) -> None:
        said = command("explain", self.parser)
        for text in (
            "steps  after the fields",
            "1         set  unit: replace(unit",
            "# short names",
            "when code = 8",
            "drop  tide",
        ):
            self.assertIn(text, said.out)
        steps = command("explain", self.parser, "--json").json()["steps"]
        self.assertEqual(["set", "remove", "drop", "convert"], [step["operation"] for step in steps])
        off = self.write("off.yaml", FILE + "  - {off: true, replace: {fields: unit, regex: ' x'}}\n")
        self.assertIn("replace  fields: unit, regex: ` x`  (off)", command("explain", off).out)
        self.assertNotIn("steps", command("explain", self.parser, "--variant", "used").out)

    def test_an_event_of_several_logs(self) -> None:
        (self.folder / "logs").mkdir()
        self.write("logs/a.log", "P1 1 x.y\nP2 2 x.y\n")
        self.write("logs/b.log", "P3 3\nP4 4\nP05 5 z\n")
        steps = FILE + "  - set: {unit: \"replace(unit, 'P0', 'P')\"}\n  - convert: {unit: word}\n"
        steps += "  - parse: {field: user, pattern: '{a:word}.{b:word}', optional: true}\n"
        path = self.write("all.yaml", steps)
        found = command("try", path, "logs", "--trace", "3", "--json").json()["files"][0]["trace"]
        self.assertEqual(("P05 5 z", "P5"), (found["raw"], found["steps"][0]["changes"][0]["after"]))
        found = command("try", path, "logs", "--trace", "2", "--json").json()["files"][0]["trace"]
        self.assertEqual("P2 2 x.y", found["raw"])
        self.assertEqual({"a": "x", "b": "y"}, {item["field"]: item["after"] for item in found["steps"][2]["changes"]})

    def test_what_cannot_be_asked(self) -> None:
        for arguments, said in {
            ("--trace", "9"): "no event has line 9; those read have lines 1 to 4",
            ("--without", "9"): "doors has no step 9; it has steps 1 to 4",
            ("--trace", "1", "--until", "2"): "give one of them",
            ("-", "--without", "1"): "standard input is gone then; give it a file",
        }.items():
            called = command("try", self.parser, self.log, *arguments)
            self.assertEqual(2, called.status)
            self.assertIn(said, called.err)
        shorter = self.write("s.yaml", FILE + "  - copy: {unit: a}\n  - remove: a\n")
        self.assertIn("there is no field `a` before this step", command("try", shorter, self.log, "--without", "1").err)
