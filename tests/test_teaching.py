"""Fields taught by marks: values against parsers and generators that know them; files that stay as they are."""

from __future__ import annotations

import copy
import json
import random
import re
import tempfile
import unittest
from pathlib import Path
from typing import Any

import polars as pl
from hypothesis import given
from hypothesis import strategies as st
from ruamel.yaml import YAML

import kinglet as package
from kinglet import Mark
from kinglet.demo.writing import write_demo
from kinglet.drafting.editing import inserted, node_at, replaced, with_key
from kinglet.patterns.grammar import parse, slots
from kinglet.spec.document import from_text
from kinglet.spec.patterns import patterns_of
from kinglet.teaching.fronts import front_of
from kinglet.teaching.patterns import named
from kinglet.teaching.places import found_in
from tests.helpers import InFolder, examples, kinglet

SHOWN = ("context", "marked", "count", "of")
PEOPLE = ("m.okoro", "t.varela", "j.lindqvist", "a.pires", "s.amadi", "h.fontaine")
GATES = """kinglet: 1
parser: gates            # of the sluice
version: 1.0.0
product: {vendor: Brackwater, name: Sluice}

time: {from: stamp, format: iso8601}
envelope: '{stamp:time} {body:rest}'

variants:
  # what people do
  - name: opened
    pattern: 'gate {gate:int} opened by {:word}[[ from {:ip}]]'
  - {name: any, pattern: '{message:rest}'}   # the rest
"""


def gate_lines(count: int = 60) -> tuple[list[str], list[str | None]]:
    """Lines of a sluice, and who did it."""
    rng = random.Random(3)
    lines: list[str] = []
    who: list[str | None] = []
    for i in range(count):
        user = rng.choice(PEOPLE)
        text, by = [
            (f"gate {i} opened by {user} from 192.0.2.{i}", user),
            (f"gate {i} opened by {user}", user),
            (f"gate {i} shut by {user} after {i * 3 + 100} s", user),
            (f"alarm {i}: level of tank {i % 5} at {i} cm", None),
            (f'order {i} {{"user": "{user}", "crane": {i + 500}}}', user),
        ][i % 5]
        lines.append(f"2026-03-02T10:{i // 60:02}:{i % 60:02}Z {text}")
        who.append(by)
    return lines, who


class Editing(unittest.TestCase):
    def test_one_value_changes_and_the_rest_stays(self) -> None:
        changed = replaced(GATES, ("variants", 0, "pattern"), "it's {x:int}")
        self.assertEqual("it's {x:int}", from_text(changed, "x").values["variants"][0]["pattern"])
        old, new = GATES.splitlines(), changed.splitlines()
        self.assertEqual([11], [i for i, (one, other) in enumerate(zip(old, new, strict=True)) if one != other])
        with self.assertRaisesRegex(package.UsageError, r"variants\[0\].pattern is a block of lines"):
            replaced("variants:\n  - pattern: |\n      a\n", ("variants", 0, "pattern"), "b")

    def test_keys_are_added_in_the_style_of_the_file(self) -> None:
        for text in (
            "a: {b: {x: 1}}\nc: 2\n",
            "a:\n  b:\n    x: 1   # one\n\n# the end\nc: 2\n",
            "a:\n  b: {x: 1}  # so\nc: 2\n",
        ):
            changed = with_key(text, ("a", "b"), "y", "int")
            self.assertEqual({"a": {"b": {"x": 1, "y": "int"}}, "c": 2}, from_text(changed, "x").values, changed)
            made = with_key(text, ("a", "types"), "y", "int")
            self.assertEqual({"y": "int"}, from_text(made, "x").values["a"]["types"], made)
            for comment in re.findall("#.*", text):
                self.assertIn(comment, changed)

    def test_items_are_added_to_a_list_or_begin_one(self) -> None:
        changed = inserted("a: 1\n# all\ncases:\n  - y: 2\n", "steps", ["  - x: 1"], before="cases")
        self.assertEqual("a: 1\n\nsteps:\n  - x: 1\n\n# all\ncases:\n  - y: 2\n", changed)
        self.assertEqual("steps:\n- a: 1\n- b: 2\n", inserted("steps:\n- a: 1\n", "steps", ["  - b: 2"]))

    @given(
        st.dictionaries(st.sampled_from("abcd"), st.sampled_from(["x y", "#", "it's", "{", "é"]), min_size=1),
        st.booleans(),
    )
    @examples(40)
    def test_any_mapping_gets_a_key(self, values: dict[str, str], flow: bool) -> None:
        import io

        out = io.StringIO()
        yaml = YAML()
        yaml.default_flow_style = flow
        yaml.dump({"m": values, "z": 1}, out)
        changed = with_key(out.getvalue(), ("m",), "new", "'v'")
        self.assertEqual({"m": {**values, "new": "v"}, "z": 1}, from_text(changed, "x").values)
        self.assertIsNone(node_at(changed, ("m", "none", 3)))


class Places(unittest.TestCase):
    def test_a_value_is_found_in_every_text_of_its_message_and_of_those_alike(self) -> None:
        lines, who = gate_lines()
        texts = [line[21:] for line in lines]
        found = found_in(texts, {0: who[0]})
        assert found is not None
        expected = {i: by for i, by in enumerate(who) if by is not None and i % 5 != 4}
        self.assertEqual(expected, found.values)
        self.assertIsNone(found_in(texts, {0: "not there"}))

    def test_parts_of_names_and_of_fixed_text(self) -> None:
        texts = [f"ticket T{i:05} for gate-{i % 7}/left sold" for i in range(40)]
        for mark, wanted in (("00003", [f"{i:05}" for i in range(40)]), ("left", ["left"] * 40)):
            found = found_in(texts, {3: mark})
            assert found is not None
            self.assertEqual(wanted, [found.values.get(i) for i in range(40)], mark)

    def test_text_of_the_log_is_never_taken_for_the_name(self) -> None:
        self.assertEqual("{{taught_value: {x:word}", named("{{taught_value: {taught_value:word}", "x"))
        self.assertEqual(r"taught_value=(?P<x>\d+)", named(r"taught_value=(?P<taught_value>\d+)", "x"))

    def test_the_front_of_texts(self) -> None:
        texts = [
            f"#{i} {PEOPLE[i % 6].partition('.')[2]}[{i * 7}] {('opened', 'shut it', 'left')[i % 3]} {i}"
            for i in range(60)
        ]
        front = front_of(texts, {5: "fontaine"})
        assert front is not None
        self.assertEqual({i: PEOPLE[i % 6].partition(".")[2] for i in range(60)}, front.values)
        self.assertEqual(("#{:int} ", "["), (front.pattern, front.behind))
        self.assertIsNone(front_of(texts, {5: "fontaine", 6: None}))


class Lessons(InFolder):
    def setUp(self) -> None:
        super().setUp()
        self.lines, self.who = gate_lines()
        self.write("gates.yaml", GATES)
        self.write("gates.log", "\n".join(self.lines) + "\n")

    def values(self, lesson: package.Lesson, name: str) -> list[Any]:
        return lesson.parser.parse("gates.log").events[name].to_list()

    def test_a_slot_gets_a_name_and_nothing_else_changes(self) -> None:
        lesson = package.load("gates.yaml").teach("gates.log", [Mark(1, "user", self.who[0])])
        changed = [line for line in lesson.diff.splitlines()[3:] if line[0] in "+-"]
        pattern = "    pattern: 'gate {gate:int} opened by %s[[ from {:ip}]]'"
        self.assertEqual(["-" + pattern % "{:word}", "+" + pattern % "{user:word}"], changed[:2])
        self.assertEqual([by if i % 5 < 2 else None for i, by in enumerate(self.who)], self.values(lesson, "user"))
        self.assertEqual(
            ("opened", True, 24, 24),
            (lesson.matches[0].context, *(getattr(lesson.matches[0], name) for name in ("marked", "count", "of"))),
        )
        self.assertEqual(1, lesson.cases)
        self.assertTrue(all(outcome.good for outcome in package.check_cases(lesson.parser)))
        self.assertEqual(GATES, Path("gates.yaml").read_text(encoding="utf-8"))
        self.assertIn("opened by", lesson._repr_html_())

    def test_marks_in_other_variants_and_the_opposite(self) -> None:
        marks = [Mark(1, "user", self.who[0]), Mark(3, "user", self.who[2]), Mark(5, "user", self.who[4])]
        lesson = package.teach("gates.yaml", "gates.log", marks)
        self.assertEqual(self.who, self.values(lesson, "user"))
        self.assertEqual(3, len(lesson.how))
        marks = [Mark(3, "by", self.who[2]), Mark(1, "by", None)]
        taken = [
            [self.values(package.teach("new.yaml", "gates.log", some), "by")[i] for i in (0, 2)]
            for some in (marks[:1], marks)
        ]
        self.assertEqual([[self.who[0], self.who[2]], [None, self.who[2]]], taken)
        with self.assertRaisesRegex(package.UsageError, "3:by=.*: no way was found .* with 8:by"):
            package.teach("gates.yaml", "gates.log", [marks[0], Mark(8, "by", None)])

    def test_a_parser_is_begun(self) -> None:
        lesson = package.teach("new.yaml", "gates.log", [Mark(4, "level", "3")])
        self.assertEqual([i if i % 5 == 3 else None for i in range(60)], self.values(lesson, "level"))
        self.assertEqual(("", False), (lesson.before, Path("new.yaml").exists()))
        times = lesson.parser.parse("gates.log").events["time"]
        self.assertEqual(60, times.n_unique())

    def test_a_parser_that_is_begun_has_the_zone_that_was_said(self) -> None:
        self.write("local.log", "\n".join(f"2026-07-01 10:00:{i:02} gate {i} shut" for i in range(30)) + "\n")
        lesson = package.teach("new.yaml", "local.log", [Mark(4, "gate", "3")], zone="Europe/Lisbon")
        first = lesson.parser.parse("local.log").events["time"][0]
        self.assertEqual("2026-07-01T09:00:00+00:00", first.isoformat())

    def test_events_that_no_variant_reads_get_one(self) -> None:
        self.write("gates.yaml", GATES.replace("  - {name: any, pattern: '{message:rest}'}   # the rest\n", ""))
        lesson = package.teach("gates.yaml", "gates.log", [Mark(3, "seconds", "106")], variant="shut")
        self.assertEqual([i * 3 + 100 if i % 5 == 2 else None for i in range(60)], self.values(lesson, "seconds"))
        lesson.save()
        lesson = package.teach("gates.yaml", "gates.log", [Mark(5, "crane", "504")])
        self.assertEqual([i + 500 if i % 5 == 4 else None for i in range(60)], self.values(lesson, "crane"))
        self.assertIn("    pattern: 'order {:int} {:json}'\n    types: {crane: int}\n", lesson.text)
        counts = dict(lesson.parser.parse("gates.log").events["variant"].value_counts().iter_rows())
        self.assertEqual({"opened": 24, "shut": 12, "order": 12, None: 12}, counts)

    def test_what_is_taught_already_is_left_alone(self) -> None:
        package.teach("gates.yaml", "gates.log", [Mark(1, "user", self.who[0])]).save()
        again = package.teach("gates.yaml", "gates.log", [Mark(2, "user", self.who[1])], cases=False)
        self.assertEqual(("", ["the parser reads it so already"]), (again.diff, again.how))

    def test_doubts_come_first(self) -> None:
        lines = [*self.lines, "2026-03-02T11:00:00Z gate 7 shut by 203.0.113.9:22 after 3 s"]
        self.write("gates.log", "\n".join(lines) + "\n")
        lesson = package.teach("gates.yaml", "gates.log", [Mark(3, "user", self.who[2])])
        said = [(doubt.what, doubt.lines) for doubt in lesson.doubts]
        self.assertTrue(any("unlike the others: `203.0.113.9" in what and lines == [61] for what, lines in said), said)


class Demo(unittest.TestCase):
    """Each field of the demo's parsers, left out and taught again."""

    def taught(self, name: str, fields: int) -> None:
        with tempfile.TemporaryDirectory() as folder:
            logs = {item.name: item.log for item in write_demo(Path(folder))}
            values = YAML(typ="safe").load(Path(folder, "parsers", f"{name}.yaml").read_text(encoding="utf-8"))
            for key in ("event", "steps", "cases", "templates", "claims"):
                values.pop(key, None)
            for variant in values["variants"]:
                variant.pop("event", None)
            truth = package.load(values).parse(logs[name]).events
            rng = random.Random(7)
            uses = _uses(values)
            for field in rng.sample(sorted(uses), min(fields, len(uses))):
                path = Path(folder, "taught.yaml")
                YAML().dump(_without(values, field, uses[field]), path)
                wanted = truth[field].cast(pl.String).to_list()
                rows = [i for i, text in enumerate(wanted) if text is not None and text in truth["raw"][i]]
                marks = [rng.choice(rows)]
                for _ in range(3):
                    lesson = package.teach(
                        str(path), logs[name], [Mark(truth["line"][i], field, wanted[i]) for i in marks]
                    )
                    got = lesson.parser.parse(logs[name]).events[field].cast(pl.String).to_list()
                    wrong = [i for i, (a, b) in enumerate(zip(got, wanted, strict=True)) if a != b]
                    if not wrong:
                        break
                    marks.append(rng.choice([i for i in wrong if i in rows]))
                self.assertEqual([], wrong, f"{name}: {field} after {len(marks)} marks")

    def test_lines(self) -> None:
        self.taught("pump-panel", 4)

    def test_syslog(self) -> None:
        self.taught("jump-host", 4)

    def test_json_behind_words_and_traces(self) -> None:
        self.taught("kiosk-app", 5)

    def test_structure(self) -> None:
        for name in ("manifest-store", "slipway-vpn", "winch-audit"):
            self.taught(name, 2)


def _uses(values: Any) -> dict[str, list[tuple[str, Any]]]:
    """Where each field of a parser is named, but for those that others rest on."""
    found: dict[str, list[tuple[str, Any]]] = {}
    for path, text in patterns_of(values):
        for slot in slots(parse(text)):
            if slot.name and slot.name not in ("stamp", "body", values.get("kind")):
                found.setdefault(slot.name, []).append(("slot", path))
    sections = [values["envelope"]] if isinstance(values.get("envelope"), dict) else []
    for section in [*sections, *values["variants"]]:
        for key in [] if "regex" in section else section.get("types", {}):
            if key not in (
                values.get("kind"),
                values["time"].get("from") if isinstance(values["time"], dict) else None,
            ):
                found.setdefault(key, []).append(("key", None))
    return {name: uses for name, uses in found.items() if "keys" not in str(values["variants"]) or uses[0][0] == "slot"}


def _without(values: Any, field: str, uses: list[tuple[str, Any]]) -> Any:
    """A parser in which a field is read and not kept."""
    cut = copy.deepcopy(values)
    for path in {path for use, path in uses if use == "slot"}:
        owner = cut
        for part in path[:-1]:
            owner = owner[part]
        owner[path[-1]] = re.sub(rf"\{{{field}:([^}}]*)\}}", r"{:\1}", owner[path[-1]])
    sections = [cut["envelope"]] if isinstance(cut.get("envelope"), dict) else []
    for section in [*sections, *cut["variants"]]:
        if section.get("types", {}).pop(field, None) and not section["types"]:
            del section["types"]
    return cut


class CommandLine(InFolder):
    def setUp(self) -> None:
        super().setUp()
        self.lines, self.who = gate_lines()
        self.write("gates.yaml", GATES)
        self.write("gates.log", "\n".join(self.lines) + "\n")

    def test_it_writes_the_file_and_shows_what_it_did(self) -> None:
        called = kinglet("teach", "gates.yaml", "gates.log", "--mark", f"1:user={self.who[0]}", "--dry-run")
        self.assertEqual((0, GATES), (called.status, Path("gates.yaml").read_text(encoding="utf-8")), called.err)
        self.assertIn("nothing was written", called.out)
        called = kinglet("teach", "gates.yaml", "gates.log", "--mark", f"1:user={self.who[0]}")
        self.assertEqual("user  in 24 of 60 events, 40 %", called.out.splitlines()[0])
        self.assertLessEqual(max(map(len, called.out.splitlines())), 100)
        self.assertIn("$ kinglet try gates.yaml gates.log", called.out)
        text = Path("gates.yaml").read_text(encoding="utf-8")
        for kept in ("# of the sluice", "# what people do", "# the rest"):
            self.assertIn(kept, text)
        self.assertEqual(0, kinglet("check", "gates.yaml").status)

    def test_json_says_all_of_it(self) -> None:
        called = kinglet("teach", "gates.yaml", "gates.log", "--mark", f"1:user={self.who[0]}", "--no-case", "--json")
        lesson = json.loads(called.out)
        self.assertEqual(("user", 24, 60, 0), tuple(lesson[key] for key in ("field", "taught", "events", "cases")))
        self.assertIn("{user:word}", lesson["diff"])

    def test_the_type_is_as_it_is_said(self) -> None:
        called = kinglet("teach", "gates.yaml", "gates.log", "--mark", "4:level=3", "--type", "word")
        self.assertEqual(0, called.status, called.err)
        self.assertIn("{level:word}", Path("gates.yaml").read_text(encoding="utf-8"))

    def test_wrong_use(self) -> None:
        mark = f"1:user={self.who[0]}"
        for arguments, said in (
            ((), "teach needs a mark"),
            (("--mark", "user"), "is no mark; write it as LINE:FIELD=TEXT"),
            (("--mark", "99:user=x"), "the log has no line 99; its last is 60"),
            (("--mark", "1:user=nobody"), "does not stand in that event; the line is"),
            (("--mark", mark, "--mark", "2:who=x"), "teach one field at a time"),
            (("--mark", mark, "--not", "1:user"), "contradict each other: they are one event"),
            (("--mark", mark, "--type", "nope"), "there is no slot type `nope`"),
            (("--mark", "1:raw=gate"), "is a column of every event"),
            (("--mark", "2:gate_no=1"), "the parser reads this as `gate` already"),
            (("--not", "1"), "write it as LINE:FIELD"),
        ):
            called = kinglet("teach", "gates.yaml", "gates.log", *arguments)
            self.assertEqual(2, called.status, arguments)
            self.assertIn(said, called.err)
            self.assertEqual(1, len(called.err.strip().splitlines()))
        self.assertIn("ships with Kinglet", kinglet("teach", "dpkg", "gates.log", "--mark", mark).err)
        self.assertEqual(GATES, Path("gates.yaml").read_text(encoding="utf-8"))
