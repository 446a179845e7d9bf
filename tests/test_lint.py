"""Lint: every planted fault is found with its code at its line, and what is none gives no finding."""

from __future__ import annotations

import json
import shutil
import subprocess
import unittest
from pathlib import Path
from xml.etree import ElementTree

from kinglet.demo.writing import write_demo
from kinglet.errors import UsageError
from kinglet.generating.events import Maker
from kinglet.insight.needs import load_rules
from kinglet.lint.documents import table
from kinglet.lint.linting import lint
from kinglet.lint.rule import Finding
from kinglet.lint.table import FAMILIES, RULES, chosen
from kinglet.parser import load_text
from tests.helpers import ROOT, InFolder, kinglet
from tests.planted import BASES, LOCK, PLANTED, Planted

DEMO = ROOT / "src" / "kinglet" / "demo"


def found(text: str) -> list[Finding]:
    return lint(load_text(text, "x.yaml"), text=text)


def planted(fault: Planted, with_what: str) -> str:
    before = BASES[fault.base]
    assert before.count(fault.old) >= 1, fault
    return before.replace(fault.old, with_what, 1)


class PlantedFaults(unittest.TestCase):
    def test_there_are_enough_and_of_every_rule_that_needs_one_file_only(self) -> None:
        self.assertGreaterEqual(len(PLANTED), 60)
        codes = {fault.code for fault in PLANTED}
        self.assertEqual({"M02", "U04", "F01", "F02", "F03", "F04", "F05"}, {rule.code for rule in RULES} - codes)

    def test_each_is_found_at_its_line(self) -> None:
        for fault in PLANTED:
            text = planted(fault, fault.bad)
            line = next(i for i, one in enumerate(text.split("\n"), 1) if fault.at in one)
            findings = found(text)
            with self.subTest(code=fault.code, base=fault.base, bad=fault.bad[:60]):
                self.assertIn((fault.code, line), [(one.code, one.place.line) for one in findings])
                self.assertEqual(set(), {one.code for one in findings} - {fault.code, *fault.also})

    def test_what_is_like_it_and_right_gives_no_finding(self) -> None:
        for name, text in BASES.items():
            with self.subTest(base=name):
                self.assertEqual([], found(text))
        for fault in PLANTED:
            with self.subTest(code=fault.code, base=fault.base, good=fault.good[:60]):
                self.assertEqual([], found(planted(fault, fault.good)))

    def test_what_proves_it_is_read_so(self) -> None:
        """The event that a finding shows is read by the variant that it names."""
        general = next(fault for fault in PLANTED if fault.code == "V03")
        text = planted(general, general.bad)
        (finding,) = [one for one in found(text) if one.code == "V03"]
        raw = finding.message.split("which reads `")[1].split("` too")[0]
        event = load_text(text, "x.yaml").parse([raw]).events.row(0, named=True)
        self.assertEqual(("pump-one", "complete"), (event["variant"], event["state"]))

    def test_a_special_variant_in_front_of_a_general_one_is_as_it_should_be(self) -> None:
        special = "  - name: pump-none\n    kind: 30\n    pattern: 'pump {pump:int} runs 0 h'\n"
        mapped = "    event: {activity: Read, set: {entity.name: unit}}\n  - name: pump-read"
        case = "  - raw: '2026-03-03 22:20:41 G4 LG/30 pump 3 runs 0 h'\n    expect: {variant: pump-none}\n"
        self.assertEqual([], found(LOCK.replace("  - name: pump-read", special + mapped, 1) + case))


class Made(unittest.TestCase):
    def test_events_made_are_read_with_the_values_that_were_put_in(self) -> None:
        for path in sorted((DEMO / "parsers").glob("*.yaml")):
            parser = load_text(path.read_text(encoding="utf-8"), str(path))
            maker = Maker(parser)
            made = [one for i in range(len(parser._plan.variants)) for one in maker.several(i, 8)]
            if not made:
                self.assertEqual("winch-audit", parser.name)  # blocks with sections are not made
                continue
            events = parser.parse([one.raw for one in made], reference_time="2026-03-05").events
            for one, event in zip(made, events.iter_rows(named=True), strict=True):
                with self.subTest(parser=parser.name, raw=one.raw):
                    self.assertEqual(parser._plan.variants[one.variant].name, event["variant"])
                    self.assertEqual("complete", event["state"])
                    for name, text in one.values.items():
                        if isinstance(event.get(name), str):
                            self.assertEqual(text, event[name])


class Choosing(InFolder):
    def test_rules_by_code_or_family(self) -> None:
        self.assertEqual({"V", "R"}, {rule.code[0] for rule in chosen("V,r", None)})
        self.assertNotIn("T01", [rule.code for rule in chosen(None, "T01,M")])
        self.assertEqual([], [rule for rule in chosen(None, "T01,M") if rule.code[0] == "M"])
        with self.assertRaisesRegex(UsageError, "no rule has the code `X1`"):
            chosen("X1", None)
        called = kinglet("check", self.write("lock.yaml", LOCK), "--select", "T1")
        self.assertEqual(2, called.status)
        self.assertIn("no rule has the code `T1`", called.err)

    def test_codes_are_unique_and_the_document_is_that_of_the_code(self) -> None:
        codes = [rule.code for rule in RULES]
        self.assertEqual(len(codes), len(set(codes)))
        self.assertEqual({code[0] for code in codes}, set(FAMILIES))
        text = (ROOT / "docs" / "lint.md").read_text(encoding="utf-8")
        self.assertIn(f"<!-- made by tools/build_tables.py -->\n{table()}\n<!-- end -->", text)

    def test_a_comment_silences_one_rule_at_one_place(self) -> None:
        without = LOCK.replace("  zone: Europe/Lisbon\n", "", 1)
        self.assertEqual(["T01"], [one.code for one in found(without)])
        for comment in ("# kinglet: allow T01 of the room", "#kinglet:allow t01 of the room"):
            self.assertEqual([], found(without.replace('%S"\n', f'%S"  {comment}\n', 1)))
            self.assertEqual([], found(without.replace("  format:", f"  {comment}\n  format:", 1)))
        other = found(without.replace("  from: stamp", "  from: stamp  # kinglet: allow T01 of the room", 1))
        self.assertEqual({"T01", "A02"}, {one.code for one in other})

    def test_warnings_fail_where_it_is_strict(self) -> None:
        path = self.write("lock.yaml", LOCK.replace("  zone: Europe/Lisbon\n", "", 1))
        self.assertEqual(
            [0, 1, 0],
            [kinglet("check", path, *more).status for more in ([], ["--strict"], ["--strict", "--ignore", "T"])],
        )
        general = next(fault for fault in PLANTED if fault.code == "V02")
        self.assertEqual(1, kinglet("check", self.write("lock.yaml", planted(general, general.bad))).status)


class Folder(InFolder):
    def codes(self, *arguments: str | Path) -> dict[str, list[str]]:
        told = kinglet("check", *arguments, "--json").json()
        return {one["parser"]: [item["code"] for item in one["findings"]] for one in told["parsers"]}

    def test_claims_names_and_files(self) -> None:
        Path("all").mkdir()
        self.write("all/lock-gate.yaml", LOCK)
        self.assertEqual({"lock-gate": []}, self.codes("all"))
        again = LOCK.replace("parser: lock-gate", "parser: lock-two")
        self.write("all/lock-two.yaml", again)
        self.assertEqual({"lock-gate": [], "lock-two": ["F01"]}, self.codes("all"))
        self.write("all/lock-two.yaml", again.replace("*lock-gate*", "*lock-*"))
        self.assertEqual({"lock-gate": [], "lock-two": ["F01"]}, self.codes("all"))
        other = again.replace("*lock-gate*", "*other*")
        self.write("all/lock-two.yaml", other.replace(": gate-moved", ": gateMoved"))
        self.assertEqual(["F03"], self.codes("all")["lock-two"])
        self.write(
            "all/lock-two.yaml", again.replace("*lock-gate*", "*other*").replace("parser: lock-two", "parser: lock-2")
        )
        self.assertEqual(["F04"], self.codes("all")["lock-2"])

    @unittest.skipUnless(shutil.which("git"), "there is no git here")
    def test_a_version_that_is_not_raised(self) -> None:
        def git(*arguments: str) -> None:
            who = ["-c", "user.name=quay", "-c", "user.email=quay@marram.example", "-c", "commit.gpgsign=false"]
            subprocess.run(["git", *who, *arguments], check=True, capture_output=True)

        path = self.write("lock-gate.yaml", LOCK)
        git("init", "-q", "-b", "main")
        git("add", ".")
        git("commit", "-qm", "first")
        self.assertEqual([], self.codes(path)["lock-gate"])
        changed = LOCK.replace("status: Success", "status: Other")
        self.write("lock-gate.yaml", changed)
        self.assertEqual(["F02"], self.codes(path)["lock-gate"])
        self.write("lock-gate.yaml", LOCK.replace("claims:", "# what is its own\nclaims:"))
        self.assertEqual([], self.codes(path)["lock-gate"])
        self.write("lock-gate.yaml", changed.replace("version: 1.0.0", "version: 1.1.0"))
        self.assertEqual([], self.codes(path)["lock-gate"])
        self.write("lock-gate.yaml", changed)
        git("commit", "-qam", "second")
        self.assertEqual([[], ["F02"]], [self.codes(path, *more)["lock-gate"] for more in ([], ["--since", "HEAD~1"])])
        called = kinglet("check", path, "--since", "nowhere")
        self.assertEqual(2, called.status)
        self.assertIn("`nowhere` is no revision", called.err)

    def test_tables_and_steps_are_held_against_a_sample(self) -> None:
        steps = "steps:\n  - lookup: {field: unit, file: units.csv, key: unit, take: {place: place}}\n"
        self.write("units.csv", "unit,place\nG4,lock\n")
        path = self.write("lock-gate.yaml", LOCK.replace("\ncases:", f"\n{steps}\ncases:", 1))
        self.write("l.log", "2026-03-03 22:10:41 G7 LG/30 pump 3 runs 1.5 h\n")
        self.assertEqual([], self.codes(path)["lock-gate"])
        self.assertEqual(["U04"], self.codes(path, "--sample", "l.log")["lock-gate"])

    def test_attributes_that_rules_read(self) -> None:
        parser = load_text((DEMO / "parsers" / "jump-host.yaml").read_text(encoding="utf-8"), "jump-host.yaml")
        findings = [one for one in lint(parser, detections=load_rules(DEMO / "rules")) if one.code == "M02"]
        self.assertTrue(findings)
        self.assertIn(
            "would feed more rules for Authentication if it filled `status_detail` (1 rule)", findings[0].message
        )

    def test_the_demo_is_clean(self) -> None:
        write_demo(Path("demo"))
        self.assertEqual(0, kinglet("check", "demo/parsers", "--strict").status)
        self.assertEqual([], [one for findings in self.codes("demo/parsers").values() for one in findings])


class Output(InFolder):
    def setUp(self) -> None:
        super().setUp()
        text = LOCK.replace("  zone: Europe/Lisbon\n", "", 1).replace("pump: 3, hours", "pump: 4, hours", 1)
        self.path = self.write("lock-gate.yaml", text)

    def test_sarif(self) -> None:
        called = kinglet("check", "lock-gate.yaml", "--format", "sarif")
        told = json.loads(called.out)
        (run,) = told["runs"]
        self.assertEqual(("2.1.0", 1), (told["version"], called.status))
        rules = run["tool"]["driver"]["rules"]
        self.assertEqual({rule.code for rule in RULES} | {"CASE"}, {rule["id"] for rule in rules})
        self.assertEqual(["T01", "CASE"], [one["ruleId"] for one in run["results"]])
        for one in run["results"]:
            self.assertEqual(one["ruleId"], rules[one["ruleIndex"]]["id"])
            place = one["locations"][0]["physicalLocation"]
            self.assertEqual("lock-gate.yaml", place["artifactLocation"]["uri"])
        self.assertEqual(["warning", "error"], [one["level"] for one in run["results"]])
        self.assertEqual(
            {"startLine": 10, "startColumn": 11}, run["results"][0]["locations"][0]["physicalLocation"]["region"]
        )

    def test_junit(self) -> None:
        self.assertEqual(1, kinglet("check", "lock-gate.yaml", "--junit", "out.xml").status)
        root = ElementTree.parse("out.xml").getroot()
        self.assertEqual(("6", "1"), (root.get("tests"), root.get("failures")))
        failed = root.findall(".//failure")
        self.assertEqual(["pump: 3, not 4"], [one.get("message") for one in failed])
        self.assertEqual("T01", root.findall(".//skipped")[0].get("type"))
        kinglet("check", "lock-gate.yaml", "--junit", "out.xml", "--strict")
        self.assertEqual("2", ElementTree.parse("out.xml").getroot().get("failures"))
        called = kinglet("check", "lock-gate.yaml", "--junit", "none/out.xml")
        self.assertEqual(2, called.status)
        self.assertIn("none/out.xml: cannot be written", called.err)

    def test_text_says_where_and_how_to_mend_it(self) -> None:
        said = kinglet("check", "lock-gate.yaml").out
        self.assertIn("! T01 no zone  lock-gate.yaml:10:11", said)
        self.assertIn("give `zone`", said)
        self.assertLessEqual(max(map(len, said.splitlines())), 100)


if __name__ == "__main__":
    unittest.main()
