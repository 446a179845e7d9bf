"""Cases that are written into parser files: accepted, added from logs, proposed; and parsers as a suite of unittest."""

from __future__ import annotations

import unittest
from pathlib import Path

import kinglet as package
from kinglet import testing
from kinglet.checking.covering import cover
from kinglet.demo.writing import write_demo
from kinglet.drafting.editing import without_key
from tests.helpers import LINES, InFolder, kinglet
from tests.planted import LOCK

GATES = """kinglet: 1
parser: gates
version: 1.0.0
product: {vendor: Brackwater, name: Gates}
variants:
  - name: moved   # the usual
    pattern: 'gate {gate:int} {verb:raised|lowered} by {user:word}[[ from {client:ip}]]'
  - name: stuck
    pattern: 'gate {gate:int} stuck[[ at {height:num} m]]'

# what must stay
cases:
  # the first one
  - raw: 'gate 3 raised by m.okoro from 192.0.2.14'   # at dusk
    expect: {variant: moved, gate: 4, colour: red, user: m.okoro, client: 192.0.2.15}
  - raw: 'gate 3 stuck'
    expect:
      variant: moved
      gate: 3   # of five
      size: 7
  - raw: 'gate 3 raised by m.okoro from 192.0.2.999'
    expect: {gate: 3}
"""


class Accepting(InFolder):
    def test_what_is_given_now_is_written_and_the_rest_stays(self) -> None:
        path = self.write("gates.yaml", GATES)
        self.assertEqual(1, kinglet("check", path).status)
        called = kinglet("check", path, "--accept")
        self.assertEqual(0, called.status, called.out)
        after = path.read_text()
        self.assertIn("expect: {variant: moved, gate: 3, user: m.okoro, client: '192.0.2.14'}", after)
        self.assertIn("      variant: stuck\n      gate: 3   # of five\n  - raw", after)
        self.assertIn("expect: {gate: 3, state: partial, faults: 'bad-value:client'}", after)
        for kept in ("# the usual", "# what must stay", "# the first one", "# at dusk", "# of five"):
            self.assertIn(kept, after)
        for line in ("-      variant: moved", "+      variant: stuck", "-      size: 7"):
            self.assertIn(line, called.out.splitlines())
        self.assertIn("cases 1, 2, 3 written anew", called.out)
        self.assertEqual(0, kinglet("check", path, "--accept").status)
        self.assertEqual(after, path.read_text())

    def test_the_model_too(self) -> None:
        text = LOCK.replace(
            "expect: {variant: level-set, client: null}", "expect: {}\n    model: {activity_id: 2, status: Failure}"
        )
        path = self.write("lock.yaml", text)
        kinglet("check", path, "--accept")
        self.assertIn("model: {activity_id: 3, status: Success}", path.read_text())

    def test_a_value_over_several_lines_is_refused(self) -> None:
        path = self.write("gates.yaml", GATES.replace("gate: 3   # of five", "gate: |\n        4"))
        called = kinglet("check", path, "--accept")
        self.assertEqual(2, called.status)
        self.assertIn("cases[1].expect.gate is a block of lines", called.err)

    def test_keys_are_taken_out_of_both_forms(self) -> None:
        for text, left in (
            ("a: {b: 1, c: 2}\n", "a: {c: 2}\n"), ("a: {c: 2, b: 1}\n", "a: {c: 2}\n"), ("a: {b: 1}\n", "a: {}\n"),
            ("a:\n  b: 1\n  c: 2\n", "a:\n  c: 2\n"), ("a:\n  c: 2\n  b: 1", "a:\n  c: 2"),
        ):  # fmt: skip
            self.assertEqual(left, without_key(text, ("a", "b")))


class Adding(InFolder):
    def setUp(self) -> None:
        super().setUp()
        write_demo(Path("demo"))
        self.log = "demo/logs/jump-host.log"
        text = Path("demo/parsers/jump-host.yaml").read_text(encoding="utf-8")
        self.path = self.write("jump-host.yaml", text.split("\ncases:")[0] + "\n")

    def test_an_event_of_a_log_becomes_a_case_that_is_good(self) -> None:
        called = kinglet(
            "check", self.path, "--add", f"{self.log}:1", "--add", f"{self.log}:9", "--add", f"{self.log}:1"
        )
        self.assertEqual(0, called.status, called.out)
        self.assertIn(f"{self.log}:1 is a case already", called.out)
        parser = package.load(self.path)
        lines = Path(self.log).read_text().splitlines()
        self.assertEqual([lines[0], lines[8]], [case.raw for case in parser._definition.cases])
        self.assertEqual("accepted", parser._definition.cases[0].expect["variant"])
        self.assertTrue(all(outcome.good for outcome in package.check_cases(parser)))

    def test_with_stand_ins_nobody_is_named(self) -> None:
        lines = Path(self.log).read_text().splitlines()
        places = [f"{self.log}:{number}" for number in (1, 12, 13)]
        called = kinglet("check", self.path, *[part for place in places for part in ("--add", place)], "--mask")
        self.assertEqual(0, called.status, called.err)
        raws = [case.raw for case in package.load(self.path)._definition.cases]
        users = {line.split(" for ")[1].split(" ")[0] for line in (lines[0], lines[11])}
        for raw in raws:
            self.assertNotIn("jump-1.sandwick.example", raw)
            self.assertEqual([], [user for user in users if user in raw])
        same = {line.split(" from ")[1].split(" ")[0] for line in lines[:12:11]}
        self.assertEqual(len(same), len({raw.split(" from ")[1].split(" ")[0] for raw in raws[:2]}))

    def test_an_event_of_several_lines_by_any_of_them(self) -> None:
        path, log = "demo/parsers/kiosk-app.yaml", "demo/logs/kiosk-app.log"
        parser = package.load(path)
        event = next(one for one in parser.parse(log).events.iter_rows(named=True) if "\n" in one["raw"])
        before = len(parser._definition.cases)
        kinglet("check", path, "--add", f"{log}:{event['line'] + 1}")
        cases = package.load(path)._definition.cases
        self.assertEqual((before + 1, event["raw"]), (len(cases), cases[-1].raw))

    def test_what_cannot_be_added_is_said(self) -> None:
        for arguments, said in (
            ([self.path, "--add", "x"], "`x` is no event of a log"),
            ([self.path, "--add", f"{self.log}:99999"], "has no line 99999"),
            ([self.path, "--add", "none.log:1"], "none.log: no such file"),
            (["demo/parsers", "--add", f"{self.log}:1"], "--add is about one parser, and here are 8"),
            (["demo/parsers", "--cover", self.log], "--cover is about one parser"),
            (["dpkg", "--add", f"{self.log}:1", "--model", "none.yaml"], "no such model file"),
        ):
            with self.subTest(said=said):
                called = kinglet("check", *arguments)
                self.assertEqual(2, called.status)
                self.assertIn(said, called.err)

    def test_the_fewest_events_that_show_all(self) -> None:
        parser = package.load(self.path)
        proposed = cover(parser, self.log)
        variants = {variant.name for variant in parser._plan.variants}
        whole = parser.parse(self.log).events
        at = whole.filter(whole["line"].is_in([one.line for one in proposed.events]))
        self.assertEqual(variants, set(at["variant"]))
        for variant, field in (("accepted", "key"), ("session", "user_id")):
            some = at.filter(at["variant"] == variant)[field]
            self.assertTrue(0 < some.null_count() < len(some), variant)
        self.assertLessEqual(len(proposed.events), len(variants) + 2)
        shown = kinglet("check", self.path, "--cover", self.log)
        self.assertEqual(0, shown.status)
        call = shown.out.splitlines()[-1].split()
        self.assertEqual(0, kinglet(*call[1:]).status)
        again = kinglet("check", self.path, "--cover", self.log, "--json").json()
        self.assertEqual(([], again["shown"]), (again["events"], again["already"]))

    def test_fields_may_be_called_as_what_is_counted(self) -> None:
        text = LINES.replace("%s", "{rule:word}[[ {faults:word}]][[ {raw_text:word}]]")
        self.write("x.log", "a\nb c\nd e f\n")
        proposed = cover(package.load(text), "x.log")
        self.assertEqual([1, 3], [one.line for one in proposed.events])
        self.assertIn("any: without log_faults", proposed.events[0].shows)

    def test_what_a_step_remembers_is_added_with_what_stands_before(self) -> None:
        parser = LINES.replace("%s", "{id:int} {what:word}[[ from {client:ip}]]").replace("variants:", (
            "steps: [{remember: {by: id, keep: client}}]\nvariants:"))  # fmt: skip
        path = self.write("lines.yaml", parser)
        self.write("x.log", "1 open from 192.0.2.7\n2 open from 192.0.2.8\n1 write\n1 read\n3 read\n")
        self.assertEqual(0, kinglet("check", path, "--add", "x.log:4", "--add", "x.log:5").status)
        cases = package.load(path)._definition.cases
        self.assertEqual([["1 open from 192.0.2.7"], None], [case.before for case in cases])
        self.assertEqual(["192.0.2.7", None], [case.expect.get("client") for case in cases])


class Suite(InFolder):
    def run_suite(self, **options: bool) -> unittest.TestResult:
        load = testing.load_tests("parsers", **options)
        result = unittest.TestResult()
        load(unittest.TestLoader(), unittest.TestSuite(), None).run(result)
        return result

    def test_a_folder_is_a_suite(self) -> None:
        Path("parsers").mkdir()
        self.write(
            "parsers/lock-gate.yaml",
            LOCK.replace("  zone: Europe/Lisbon\n", "").replace("gate: 3, verb", "gate: 4, verb"),
        )
        self.write("parsers/gates.yaml", GATES)
        self.write("parsers/none.yaml", "kinglet: 1\n")
        result = self.run_suite()
        failed = {test.id().partition(" (")[0]: said for test, said in result.failures}
        self.assertEqual(
            {"parsers/none.yaml", "gates case 1", "gates case 2", "gates case 3", "lock-gate case 3"}, set(failed)
        )
        self.assertIn("gate: 3, not 4", failed["lock-gate case 3"])
        self.assertEqual(3 + 1 + 5 + 1 + 1, result.testsRun)
        strict = {test.id().partition(" (")[0] for test, _ in self.run_suite(strict=True).failures}
        self.assertIn("lock-gate lint", strict - set(failed))


if __name__ == "__main__":
    unittest.main()
