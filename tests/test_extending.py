"""Parsers that extend others: what comes of them, what is said of them, and what a lock file keeps."""

from __future__ import annotations

import json
import os
import sys
import unittest
from pathlib import Path
from unittest import mock

import kinglet as package
from kinglet.errors import ParserFileError
from kinglet.insight.merged import merged_text
from kinglet.spec.ready import on_shelf, ready_parsers
from tests.helpers import ROOT, InFolder, kinglet

BASE = r"""kinglet: 1
parser: tide-gate
version: 1.4.0
product: {vendor: Brackwater, name: TideGate}
time:
  - {from: stamp, format: "%Y-%m-%d %H:%M:%S", zone: UTC}
  - {from: due, format: "%H:%M", date: event, to: due_at, zone: UTC}
types:
  gate: {regex: 'G\d+'}
  berth: {regex: '[A-Z]\d'}
parts: {by: ' by {user:word}'}
envelope: '{stamp:time} {body:rest}'
event:
  class: Entity Management
  severity: Informational
  set: {entity.name: name, actor.user.name: user}
steps:
  - {name: room, set: {room: {text: pit}}}
  - lookup: {field: name, file: gates.csv, take: {quay: quay}}
variants:
  # raised and lowered
  - name: moved
    pattern: '{name:gate} {verb:raised|lowered}{@by}'
    event: {activity: Update, set: {comment: verb}}
  - name: checked
    pattern: '{name:gate} checked{@by}'
    event: {activity: Read}
  - name: due
    pattern: '{name:gate} due {due:time}'
    event: {activity: Other, set: {activity_name: {text: due}}}
cases:
  - raw: '2026-03-03 22:10:41 G4 raised by m.okoro'
    expect: {variant: moved, time: '2026-03-03T22:10:41Z', name: G4, verb: raised, user: m.okoro, quay: north}
    model: {activity_id: 3, comment: raised}
  - raw: '2026-03-03 22:10:42 G5 lowered by m.okoro'
    expect: {variant: moved, verb: lowered, quay: south}
  - raw: '2026-03-03 22:10:43 G4 checked by m.okoro'
    expect: {variant: checked}
  - raw: '2026-03-03 22:10:44 G4 due 23:00'
    expect: {variant: due, due_at: '2026-03-03T23:00:00Z'}
"""
OWN = """kinglet: 1
parser: our-gate
version: 1.0.0
extends: tide-gate@1
"""


class WithBase(InFolder, unittest.TestCase):
    def setUp(self) -> None:
        super().setUp()
        Path("base").mkdir()
        Path("base/gates.csv").write_text("name,quay\nG4,north\nG5,south\n")
        Path("base/tide-gate.yaml").write_text(BASE)
        self.enterContext(mock.patch.dict(os.environ, {"KINGLET_PARSERS": "base"}))

    def own(self, text: str) -> package.Parser:
        Path("our-gate.yaml").write_text(OWN + text)
        return package.load("our-gate.yaml")


class Extending(WithBase):
    def read(self, parser: package.Parser, *lines: str) -> list[dict[str, object]]:
        return list(parser.parse([f"2026-03-03 22:10:41 {line}" for line in lines]).events.iter_rows(named=True))

    def names(self, parser: package.Parser) -> list[str]:
        return [variant["name"] for variant in parser._document.values["variants"]]

    def test_one_that_adds_nothing_reads_as_the_base_does(self) -> None:
        logs = {"nginx-access": "nginx/access.log", "nginx-error": "nginx/error.log", "haproxy": "haproxy/haproxy.log"}
        for name, log in logs.items():
            base = package.load(name)
            text = f"kinglet: 1\nparser: {name}\nversion: {base.version}\nextends: {name}@1\n"
            frames = [
                parser.parse(ROOT / "tests" / "real" / log, reference_time="2026-11-30").events
                for parser in (base, package.load(text))
            ]
            self.assertTrue(frames[0].equals(frames[1]), name)

    def test_a_tail_and_constants_of_a_site(self) -> None:
        parser = self.own(
            "event: {set: {metadata.tenant_uid: {text: quay}}}\n"
            "variants:\n  - {name: checked, tail: '[[ took {took:int} ms]]', event: {set: {duration: took}}}\n"
            "cases:\n  - raw: '2026-03-03 22:10:44 G4 checked by m.okoro took 25 ms'\n"
            "    expect: {variant: checked, took: 25}\n    model: {metadata.tenant_uid: quay}\n"
        )
        events = self.read(parser, "G4 checked by m.okoro took 25 ms", "G4 checked by m.okoro")
        self.assertEqual([(25, "m.okoro", "north"), (None, "m.okoro", "north")],
                         [(one["took"], one["user"], one["quay"]) for one in events])  # fmt: skip
        called = kinglet("check", "our-gate.yaml")
        self.assertEqual(0, called.status, called.out)
        self.assertIn("5 cases, 5 good", called.out)
        said = "extends tide-gate 1.4.0; changes checked; its own event; 4 cases of tide-gate hold too"
        self.assertIn(said, called.out)
        told = kinglet("check", "our-gate.yaml", "--json").json()["parsers"][0]["extends"]
        self.assertEqual((["checked"], [], 4), (told["changed"], told["off"], told["cases"]))

    def test_a_tail_stands_before_the_end_of_a_regex(self) -> None:
        Path("base/tide-gate.yaml").write_text(
            BASE.replace("pattern: '{name:gate} checked{@by}'", r"regex: '^(?P<name>\w+) checked by (?P<user>\S+)$'")
        )
        parser = self.own("variants: [{name: checked, tail: '(?: took (?P<took>\\d+))?', types: {took: int}}]\n")
        self.assertEqual([7, None], [
            one["took"] for one in self.read(parser, "G4 checked by a took 7", "G4 checked by b")
        ])  # fmt: skip

    def test_variants_are_added_changed_switched_off_and_moved(self) -> None:
        added = "  - {name: NAME, pattern: '{name:gate} PATTERN'}\n"
        for text, order in (
            ("", ["moved", "checked", "due"]),
            (added, ["NAME", "moved", "checked", "due"]),
            (added + added.replace("NAME", "two"), ["NAME", "two", "moved", "checked", "due"]),
            (added.replace("NAME,", "NAME, after: checked,"), ["moved", "checked", "NAME", "due"]),
            (added.replace("NAME,", "NAME, before: due,"), ["moved", "checked", "NAME", "due"]),
            ("  - {name: due, off: true}\ntime: [{to: due_at, off: true}]\n", ["moved", "checked"]),
            ("  - {name: due, before: moved}\n", ["due", "moved", "checked"]),
            ("  - {name: moved, after: due}\n", ["checked", "due", "moved"]),
            (added + added.replace("NAME,", "two, after: NAME,"), ["NAME", "two", "moved", "checked", "due"]),
            (
                "  - {name: moved, pattern: '{name:gate} moves',\n"
                "     event: {set: {comment: null, actor.user.name: null}}}\n",
                ["moved", "checked", "due"],
            ),
        ):
            parser = self.own(f"variants:\n{text}" if text else "")
            self.assertEqual(order, self.names(parser))
        events = self.read(parser, "G4 moves", "G4 raised by m.okoro", "G4 checked by m.okoro")
        self.assertEqual(["moved", None, "checked"], [one["variant"] for one in events])
        parser = self.own("variants: [{name: any, pattern: '{name:gate} {verb:raised|lowered} by {rest:rest}'}]\n")
        self.assertEqual("any", self.read(parser, "G4 raised by m.okoro")[0]["variant"])

    def test_sections_are_put_together_by_name(self) -> None:
        parser = self.own(
            "types: {gate: {regex: 'X\\d'}, berth: null, hull: {regex: 'H\\d'}}\n"
            "parts: {by: ' through {user:word}'}\n"
            "product: {version: '9'}\n"
            "clock: {zone: Atlantic/Azores}\n"
            "time: {from: stamp, format: '%Y-%m-%d %H:%M:%S'}\n"
            "steps: [{name: room, set: {room: {text: loft}}}, {set: {floor: '2'}}]\n"
            "variants: [{name: docked, pattern: '{hull:hull} docked'},\n"
            "  {name: due, event: {set: {status_detail: {text: due}}}}]\n"
        )
        values = parser._document.values
        self.assertEqual(["gate", "hull"], list(values["types"]))
        self.assertEqual({"vendor": "Brackwater", "name": "TideGate", "version": "9"}, values["product"])
        self.assertEqual([None, "due_at"], sorted((rule.get("to") for rule in values["time"]), key=str))
        event = self.read(parser, "X4 raised through m.okoro", "H1 docked", "X4 due 23:00")
        self.assertEqual(["moved", "docked", "due"], [one["variant"] for one in event])
        self.assertEqual(("loft", 2), (event[0]["room"], event[0]["floor"]))
        self.assertEqual("2026-03-03T23:10:41+00:00", event[0]["time"].isoformat())  # type: ignore[attr-defined]
        record = next(parser.parse(["2026-03-03 22:10:41 X4 due 23:00"]).to_model())
        self.assertEqual(("due", "due"), (record["activity_name"], record["status_detail"]))

    def test_cases_of_the_base_hold_too(self) -> None:
        parser = self.own("variants: [{name: checked, off: true}]\n")
        called = kinglet("check", "our-gate.yaml")
        self.assertEqual(1, called.status)
        self.assertIn("base/tide-gate.yaml:37", called.out)
        self.assertIn("without checked", called.out)
        refused = kinglet("check", "our-gate.yaml", "--accept")
        self.assertEqual(2, refused.status)
        self.assertIn("a case of tide-gate, which our-gate extends, is no longer good", refused.err)
        raw = "2026-03-03 22:10:43 G4 checked by m.okoro"
        parser = self.own(
            f"variants: [{{name: checked, off: true}}]\ncases:\n  - raw: '{raw}'\n    expect: {{state: unmatched}}\n"
        )
        self.assertEqual(4, len(parser._document.values["cases"]))
        called = kinglet("check", "our-gate.yaml")
        self.assertIn("3 cases of tide-gate hold too, 1 replaced", called.out)
        # a zone of one's own makes other times of the base's stamps: these are not asked
        self.own("time: {from: stamp, format: '%Y-%m-%d %H:%M:%S', zone: Asia/Tokyo}\n")
        self.assertEqual(0, kinglet("check", "our-gate.yaml").status)

    def test_sections_can_be_left_out(self) -> None:
        parser = self.own("without: [steps, cases]\nsteps: [{set: {floor: '2'}}]\n")
        event = self.read(parser, "G4 checked by m.okoro")[0]
        self.assertEqual((2, False, []), (event["floor"], "quay" in event, parser._document.values.get("cases", [])))
        self.assertIn("without `steps`, `cases`; no cases of tide-gate", kinglet("check", "our-gate.yaml").out)

    def test_cases_can_be_accepted_and_added(self) -> None:
        text = "cases:\n  - raw: '2026-03-03 22:10:44 G5 checked by t.varela'  # kept\n    expect: {user: nobody}\n"
        self.own(text)
        Path("gate.log").write_text("2026-03-03 22:11:00 G5 raised by t.varela\n")
        self.assertEqual(0, kinglet("check", "our-gate.yaml", "--accept", "--add", "gate.log:1").status)
        written = Path("our-gate.yaml").read_text()
        self.assertIn("expect: {user: t.varela}", written)
        self.assertIn("# kept", written)
        self.assertIn("G5 raised by t.varela", written)
        self.assertNotIn("variants", written)
        self.assertEqual(6, len(package.load("our-gate.yaml")._document.values["cases"]))

    def test_a_problem_is_said_where_it_stands(self) -> None:
        for text, place, said in (
            ("event: {set: {comment: nobody_}}\n", "our-gate.yaml:5:24", "`nobody_` is no field"),
            ("variants: [{name: due, off: 3}]\n", "our-gate.yaml:5:29", "is not `true`"),
            ("variants: [{name: dew, off: true}]\n", "our-gate.yaml:5:29", "did you mean `due`"),
            ("variants: [{name: due, before: dew}]\n", "our-gate.yaml:5:32", "no variant `dew` to stand before"),
            ("variants: [{name: due, off: true, after: moved}]\n", "our-gate.yaml:5:29", "goes with no place"),
            ("variants: [{name: due, before: moved, after: moved}]\n", "our-gate.yaml:5:46", "goes with no `before`"),
            ("variants: [{name: new, tail: x}]\n", "our-gate.yaml:5:30", "write it into the pattern"),
            ("variants: [{name: due, tail: 3}]\n", "our-gate.yaml:5:30", "write it as text"),
            ("variants: [{name: due}, {name: due}]\n", "our-gate.yaml:5:32", "a second variant `due`"),
            ("variants: [{name: a, before: b, pattern: x}, {name: b, pattern: y}]\n", "our-gate.yaml:5:30", "`b`"),
            ("variants: {moved: 3}\n", "our-gate.yaml:5:11", "must be a list"),
            ("without: [stepps]\n", "our-gate.yaml:5:11", "did you mean `steps`"),
            ("varaints: []\n", "our-gate.yaml:5:1", "did you mean `variants`"),
            ("parts: {by: null}\n", "base/tide-gate.yaml:26", "{@by}"),
            ("types: 3\n", "our-gate.yaml:5:8", "must be a mapping"),
        ):  # fmt: skip
            with self.subTest(text), self.assertRaises(ParserFileError) as raised:
                self.own(text)
            self.assertIn(place, str(raised.exception))
            self.assertIn(said, str(raised.exception))

    def test_what_cannot_be_extended(self) -> None:
        for extends, said in (
            ("tide-gate", "write it like `openssh@1`"),
            ("[tide-gate@1]", "write it like `openssh@1`"),
            ("tide-gate@2", "has version 1.4.0, and not 2"),
            ("tide-gate@1.3", "has version 1.4.0, and not 1.3"),
            ("tide-gte@1", "did you mean `tide-gate`?"),
            ("our-gate@1", "`our-gate` extends this parser itself"),
            ("../base/tide-gate@1", "write it like `openssh@1`"),
        ):
            Path("our-gate.yaml").write_text(OWN.replace("tide-gate@1", extends))
            with self.subTest(extends), self.assertRaises(ParserFileError) as raised:
                package.load("our-gate.yaml")
            self.assertIn(said, str(raised.exception))
            self.assertTrue(str(raised.exception).startswith("our-gate.yaml:4:10: extends: "), raised.exception)
        Path("our-gate.yaml").write_text(OWN.replace("tide-gate@1", "other@1"))
        Path("other.yaml").write_text(OWN.replace("our-gate", "other").replace("tide-gate@1", "our-gate@1"))
        with self.assertRaisesRegex(ParserFileError, "`our-gate` extends this parser itself"):
            package.load("our-gate.yaml")
        for i in range(12):
            Path(f"g{i}.yaml").write_text(OWN.replace("tide-gate@1", f"g{i + 1}@1").replace("our-gate", f"g{i}"))
        with self.assertRaisesRegex(ParserFileError, "parsers one upon another"):
            package.load("g0.yaml")

    def test_one_upon_another_and_under_the_same_name(self) -> None:
        self.own("variants: [{name: due, off: true}]\ntime: [{to: due_at, off: true}]\n")
        Path("top.yaml").write_text(OWN.replace("our-gate", "top").replace("tide-gate@1", "our-gate@1"))
        top = package.load("top.yaml")
        self.assertEqual(["moved", "checked"], self.names(top))
        called = kinglet("check", "top.yaml")
        self.assertIn("extends our-gate 1.0.0", called.out)
        self.assertIn("extends tide-gate 1.4.0; without due", called.out)
        Path("tide-gate.yaml").write_text(OWN.replace("our-gate", "tide-gate"))
        same = package.load("tide-gate.yaml")
        self.assertEqual(("1.0.0", 3), (same.version, len(self.names(same))))

    def test_the_merged_file_is_a_parser_that_reads_alike(self) -> None:
        off = "time: [{to: due_at, off: true}]\n"
        parser = self.own("variants: [{name: due, off: true}, {name: checked, tail: ' now'}]\n" + off)
        for one in (parser, *map(package.load, ready_parsers())):
            again = package.load(merged_text(one))
            self.assertEqual(one._document.values, again._document.values, one.name)
        shown = kinglet("explain", "our-gate.yaml", "--merged").out
        self.assertIn("- name: moved    # base/tide-gate.yaml:22", shown)
        self.assertIn("- name: checked    # our-gate.yaml:5", shown)
        self.assertEqual(parser._document.values, kinglet("explain", "our-gate.yaml", "--merged", "--json").json())

    def test_lint_says_what_is_new(self) -> None:
        loose = BASE.replace("zone: UTC}\n  - {from: due", "} # kinglet: allow T01 local\n  - {from: due")
        Path("base/tide-gate.yaml").write_text(loose)
        alone = kinglet("check", "tide-gate", "--json").json()["parsers"][0]["findings"]
        self.own("")
        here = kinglet("check", "our-gate.yaml", "--json").json()["parsers"][0]["findings"]
        self.assertEqual([], [one for one in here if "tide-gate" in str(one.get("file", one.get("place")))])
        self.assertNotIn("T01", [one["code"] for one in (*alone, *here)])
        self.own("variants: [{name: any, pattern: '{name:gate} {rest:rest}'}]\n")
        found = kinglet("check", "our-gate.yaml").out
        self.assertRegex(found, r"never reached.*base/tide-gate.yaml|base/tide-gate.yaml")

    def test_teaching_needs_a_whole_file(self) -> None:
        self.own("")
        Path("gate.log").write_text("2026-03-03 22:11:00 G5 raised by t.varela\n")
        called = kinglet("teach", "our-gate.yaml", "gate.log", "--mark", "1:who=t.varela")
        self.assertEqual(2, called.status)
        self.assertIn("a parser that extends another cannot be taught", called.err)


class Lock(WithBase):
    def test_an_upgrade_is_seen(self) -> None:
        self.own("")
        self.assertEqual(0, kinglet("library", "su", "--lock", "library.lock").status)
        kept = json.loads(Path("library.lock").read_text())["parsers"]
        self.assertEqual({"su", "tide-gate"}, set(kept))
        self.assertEqual(BASE, "\n".join(kept["tide-gate"]["lines"]))
        self.assertEqual(0, kinglet("library", "--changed", "library.lock").status)
        self.assertNotIn("F05", kinglet("check", "our-gate.yaml").out)
        upgrade = BASE.replace("1.4.0", "1.5.0").replace(
            "class: Entity Management\n", "class: Entity Management\n  status: Success\n"
        )
        Path("base/tide-gate.yaml").write_text(upgrade)
        changed = kinglet("library", "--changed", "library.lock")
        self.assertEqual(1, changed.status)
        self.assertIn("tide-gate 1.4.0 is now 1.5.0", changed.out)
        checked = kinglet("check", "our-gate.yaml", "--strict")
        self.assertEqual(1, checked.status)
        self.assertRegex(
            checked.out, r"F05 base has changed +our-gate.yaml:4:10\n +tide-gate 1.4.0, which library.lock keeps"
        )
        Path("gate.log").write_text("2026-03-03 22:11:00 G5 due 23:00\n")
        Path("gates.csv").write_text("name,quay\nG5,south\n")
        compared = kinglet("compare", "library.lock", "library", "gate.log", "--json").json()
        self.assertEqual({"status_id": 1, "status": 1}, {one["name"]: one["gained"] for one in compared["filled"]})
        self.assertEqual({"gone": [], "new": []}, compared["parsers"])
        written = kinglet("library", "--lock", "library.lock", "--json").json()
        self.assertEqual([{"name": "tide-gate", "before": "1.4.0", "now": "1.5.0"}], written["changed"])
        self.assertEqual(0, kinglet("library", "--changed", "library.lock").status)
        Path("base/tide-gate.yaml").write_text(upgrade + "# more\n")
        self.assertIn("another file of the same version", kinglet("library", "--changed", "library.lock").out)
        self.assertIn("and is still called so", kinglet("check", "our-gate.yaml").out)
        os.environ["KINGLET_PARSERS"] = ""
        self.assertIn("tide-gate 1.5.0 is no longer there", kinglet("library", "--changed", "library.lock").out)

    def test_the_way_a_file_is_saved_is_no_change(self) -> None:
        self.own("")
        self.assertEqual(0, kinglet("library", "--lock", "library.lock").status)
        for text in ("\ufeff" + BASE, BASE.replace("\n", "\r\n"), "\ufeff" + BASE.replace("\n", "\r\n")):
            Path("base/tide-gate.yaml").write_bytes(text.encode())
            self.assertNotIn("F05", kinglet("check", "our-gate.yaml").out)
            self.assertEqual(0, kinglet("library", "--changed", "library.lock").status)

    def test_what_is_no_lock_is_said(self) -> None:
        Path("empty").mkdir()
        for text, said in (
            ("", "is no lock file"),
            ("[]", "is no lock file"),
            ('{"parsers": {"su": 3}}', "is no lock file"),
            ('{"parsers": {"su": {"version": "1", "sha256": "0", "lines": ["a"]}}}', "the lines of `su` are not those"),
        ):
            Path("x.lock").write_text(text)
            for called in (
                kinglet("library", "--changed", "x.lock"),
                kinglet("compare", "x.lock", "library", "x.lock"),
            ):
                self.assertEqual(2, called.status)
                self.assertIn(said, called.err)
        for arguments, said in (
            (["--changed", "none.lock"], "none.lock: cannot be read"),
            (["--lock", "empty/library.lock"], "there is nothing to lock"),
            (["suu", "--lock", "empty/library.lock"], "did you mean `su`?"),
            (["su", "--lock", "none/library.lock"], "none/library.lock: cannot be written"),
            (["su", "sudo"], "one parser is shown or copied at a time"),
        ):
            called = kinglet("library", *arguments)
            self.assertEqual(2, called.status)
            self.assertIn(said, called.err)
        self.assertEqual(0, kinglet("library", "library", "--lock", "empty/library.lock").status)
        self.assertEqual(set(ready_parsers()), set(json.loads(Path("empty/library.lock").read_text())["parsers"]))


class Packages(WithBase):
    def test_a_package_brings_parsers_and_none_of_its_code_runs(self) -> None:
        folder = Path("site/tide_parsers/rules")
        folder.mkdir(parents=True)
        Path("site/tide_parsers/__init__.py").write_text("raise SystemExit('run')\n")
        (folder / "tide-clock.yaml").write_text(BASE.replace("tide-gate", "tide-clock"))
        (folder / "sudo.yaml").write_text(BASE.replace("tide-gate", "sudo"))
        info = Path("site/tide_parsers-1.0.dist-info")
        info.mkdir()
        (info / "METADATA").write_text("Metadata-Version: 2.1\nName: tide-parsers\nVersion: 1.0\n")
        points = "[kinglet.parsers]\nrules = tide_parsers.rules\nnone = no_such_package.rules\nodd = ..\n"
        (info / "entry_points.txt").write_text(points)
        with mock.patch.object(sys, "path", [str(Path("site").absolute()), *sys.path]):
            found = on_shelf()
            self.assertEqual("tide-parsers", found["tide-clock"].origin)
            self.assertEqual(("tide-parsers", 1), (found["sudo"].origin, len(found["sudo"].over)))
            self.assertEqual("base", found["tide-gate"].origin)
            self.assertEqual("tide-clock", package.load("tide-clock").name)
            told = {one["name"]: one for one in kinglet("library", "--json").json()["parsers"]}
            self.assertEqual("tide-parsers", told["tide-clock"]["origin"])
            self.assertIn("tide-clock.yaml", kinglet("library", "tide-clock").out)
        self.assertNotIn("tide_parsers", sys.modules)
        self.assertNotIn("tide-clock", ready_parsers())


if __name__ == "__main__":
    unittest.main()
