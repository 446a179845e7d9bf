"""Two versions of a parser over the same logs."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import unittest
from pathlib import Path

import polars as pl

import kinglet
from kinglet.comparing.compare import compare
from kinglet.demo.logs import log_bytes
from kinglet.insight.comparing import compare_events
from tests.helpers import PUMP, PUMP_LOG, ROOT, InFolder
from tests.helpers import kinglet as command

DEMO = ROOT / "src" / "kinglet" / "demo"
JUMP = (DEMO / "parsers" / "jump-host.yaml").read_text()


class Versions(InFolder):
    def two(self, *changes: tuple[str, str]) -> tuple[Path, Path, Path]:
        text = JUMP
        for before, now in changes:
            self.assertIn(before, text)
            text = text.replace(before, now)
        log = self.write("jump.log", log_bytes("jump-host"))
        return self.write("old.yaml", JUMP), self.write("new.yaml", text), log

    def test_the_same_parser_changes_nothing(self) -> None:
        called = command("compare", *self.two(), "--at", "2026-03-08", "--rules", DEMO / "rules")
        self.assertEqual(0, called.status)
        self.assertIn("old.yaml → ", called.out)
        self.assertIn("nothing changes", called.out)

    def test_what_is_lost_is_shown_and_fails(self) -> None:
        changes = (
            ("Invalid user {user:word}", "Invalid usr {user:word}"),
            ("auth_protocol: method", "metadata.log_level: method"),
        )
        called = command("compare", *self.two(*changes), "--at", "2026-03-08", "--rules", DEMO / "rules")
        self.assertEqual(1, called.status)
        for said in (
            r"before +312 +312 +0\n",
            r"now +312 +287 +25\n",
            r" 25  complete → partial  .*jump.log:\d+\n",
            r" 25  invalid-user → none  ",
            r"and 3 more in events that are not complete any more\n",
            r"accepted → Authentication: no more auth_protocol; now metadata.log_level\n",
            r"✗ night-jump  goes blind, for want of auth_protocol\n",
        ):
            self.assertRegex(called.out, said)
        told = json.loads(
            command("compare", *self.two(*changes), "--at", "2026-03-08", "--rules", DEMO / "rules", "--json").out
        )
        self.assertEqual(26, told["worse"])
        self.assertEqual(25, next(item["lost"] for item in told["fields"] if item["name"] == "user"))
        self.assertEqual({"events": 312, "complete": 287, "partial": 25}, told["now"])
        self.assertEqual(
            ["night-jump"], [item["rule"] for item in told["rules"] if item["blind"] > item["blind_before"]]
        )

    def test_what_is_gained_is_no_failure(self) -> None:
        old, new, log = self.two(("Invalid user {user:word}", "Invalid usr {user:word}"))
        called = command("compare", new, old, log, "--at", "2026-03-08")
        self.assertEqual(0, called.status)
        self.assertIn("partial → complete", called.out)

    def test_values_are_compared_not_their_types(self) -> None:
        old = kinglet.load(PUMP)
        for change, expected in {
            ("types: {pump: int, ran_s: int}", "types: {pump: word, ran_s: int}"): [],
            ("{old:num} -> {new:num}", "{new:num} -> {old:num}"): ["new", "old"],
        }.items():
            self.assertIn(change[0], PUMP)
            found = compare(old, kinglet.load(PUMP.replace(*change)), [PUMP_LOG], reference_time="2026-03-05")
            self.assertEqual(expected, sorted(item.name for item in found.fields))
            self.assertEqual(0, found.worse)

    def test_logs_that_are_cut_otherwise(self) -> None:
        head = "kinglet: 1\nparser: p\nversion: 1.0.0\nproduct: {vendor: Quayline, name: P}\n"
        variants = "variants: [{name: any, pattern: '{a:rest}'}]\n"
        old, new = kinglet.load(head + variants), kinglet.load(head + "events: indent\n" + variants)
        found = compare(old, new, [b"one\n two\nthree\n"])
        self.assertEqual((1, {"events": 3, "complete": 3}), (found.cut, found.counts[0]))
        self.assertFalse(found.same)

    def test_batches_that_end_elsewhere_compare_as_whole_logs_do(self) -> None:
        head = "kinglet: 1\nparser: p\nversion: 1.0.0\nproduct: {vendor: Quayline, name: P}\n"
        old = kinglet.load(head + "variants: [{name: any, pattern: '{n:int}[[ {word:word}]]'}]\n")
        many = "".join(f"  - {{name: v{i}, pattern: 'never {i} {{x:int}}'}}\n" for i in range(120))
        new = kinglet.load(head + f"variants:\n{many}  - {{name: any, pattern: '{{n:int}} {{word:word}}'}}\n")
        log = "".join(f"{i} odd\n" if i % 7 else f"{i}\n" for i in range(150_000)).encode()
        found = compare(old, new, [log])
        whole = compare_events(*(parser.parse(log).events for parser in (old, new)))
        lost = len(range(0, 150_000, 7))
        self.assertEqual((lost, 0), (found.worse, found.cut))
        for one, other in (
            (found.states, whole.states),
            (found.variants, whole.variants),
            (found.counts, whole.counts),
        ):
            self.assertEqual(one, other)
        self.assertEqual([item[:4] for item in whole.fields], [item[:4] for item in found.fields])

    def test_times_and_attributes_of_the_model(self) -> None:
        called = command(
            "compare", *self.two(("zone: Europe/Lisbon", "zone: Atlantic/Azores")), "--at", "2026-03-08", "--json"
        )
        told = called.json()
        self.assertEqual((0, 312), (called.status, told["time"][0]["changed"]))
        first = told["time"][0]["examples"][0]
        self.assertEqual(("10:12:15", "11:12:15"), tuple(first[when][11:19] for when in ("before", "now")))
        changed = {item["name"]: item["changed"] for item in told["filled"]}
        self.assertEqual(312, changed["time"])
        called = command("compare", *self.two(("severity: Low", "severity: High")), "--at", "2026-03-08", "--json")
        changed = {item["name"]: item["changed"] for item in called.json()["filled"]}
        self.assertEqual({"severity", "severity_id"}, set(changed))

    def test_what_rules_find(self) -> None:
        files = self.two(("activity: Logon\n      status: Success", "activity: Logon\n      status: Failure"))
        told = command("compare", *files, "--at", "2026-03-08", "--rules", DEMO / "rules", "--json").json()
        old, new, log = files
        for item in told["found"]:
            rule = next(one for one in kinglet.load_rules(DEMO / "rules") if one.name == item["rule"])
            hits = []
            for path in (old, new):
                result = kinglet.load(path).parse(log, reference_time="2026-03-08")
                result.write("out.parquet", as_="model")
                hits.append(set(rule.found(pl.read_parquet("out.parquet"))["metadata"].struct.field("uid")))
            self.assertEqual((len(hits[0] - hits[1]), len(hits[1] - hits[0])), (item["lost"], item["gained"]))
        self.assertTrue(told["found"])

    def test_changes_that_are_named(self) -> None:
        files = self.two(("auth_protocol: method", "metadata.log_level: method"), ("name: failed", "name: refused"))
        self.assertEqual(1, command("compare", *files, "--at", "2026-03-08").status)
        named = """kinglet: 1
changes:
  - {attribute: auth_protocol, change: lost, most: 500, why: it is the level now}
  - {attribute: metadata.log_level, why: it is the level now}
  - {variant: failed, to: refused, why: the word of the document}
"""
        expect = self.write("changes.yaml", named)
        called = command("compare", *files, "--at", "2026-03-08", "--expect", expect)
        self.assertEqual(0, called.status, called.out)
        self.assertIn("3 changes as named", called.out)
        for text, said in (
            (named.replace("most: 500", "most: 5"), "attribute auth_protocol lost in "),
            (named[: named.index("  - {variant")], "variant failed → refused in "),
        ):
            self.write("changes.yaml", text)
            called = command("compare", *files, "--at", "2026-03-08", "--expect", expect)
            self.assertEqual(1, called.status)
            self.assertIn(said, called.out)
        self.write("changes.yaml", named + "  - {field: nothing, why: it was planned}\n")
        self.assertIn(
            "named, but not there: it was planned",
            command("compare", *files, "--at", "2026-03-08", "--expect", expect).out,
        )
        for text, said in (
            ("kinglet: 1\nchanges: [{why: x}]\n", "must name one of `field`"),
            ("kinglet: 1\nchanges: [{field: a, to: b, why: x}]\n", "has `to`, which goes with"),
            ("kinglet: 1\nchanges: [{fields: a, why: x}]\n", "no such key; did you mean `field`?"),
        ):
            self.write("changes.yaml", text)
            called = command("compare", *files, "--expect", expect)
            self.assertEqual(2, called.status)
            self.assertIn(said, called.err)

    def test_markdown_for_a_review(self) -> None:
        called = command(
            "compare",
            *self.two(("auth_protocol: method", "metadata.log_level: method")),
            "--at",
            "2026-03-08",
            "--format",
            "markdown",
        )
        self.assertEqual(1, called.status)
        lines = called.out.splitlines()
        self.assertIn("**1 difference that nobody named:**", lines)
        self.assertIn("| before | 312 | 312 |", lines)
        tables = [line for line in lines if line.startswith("|")]
        self.assertTrue(all(line.endswith("|") for line in tables))
        self.assertRegex(called.out, r"\| metadata.log_level \| \d+ \|  \|  \| nothing → `publickey` at `")

    @unittest.skipUnless(shutil.which("git"), "there is no git here")
    def test_folders_and_revisions(self) -> None:
        def git(*arguments: str) -> None:
            who = ["-c", "user.name=quay", "-c", "user.email=quay@marram.example", "-c", "commit.gpgsign=false"]
            subprocess.run(["git", *who, *arguments], check=True, capture_output=True)

        Path("parsers").mkdir()
        for name in ("pump-panel", "jump-host", "resolver"):
            self.write(f"parsers/{name}.yaml", (DEMO / "parsers" / f"{name}.yaml").read_bytes())
        for name, file in (("jump-host", "jump-host.log"), ("pump-panel", "pump-panel.log")):
            self.write(file, log_bytes(name))
        git("init", "-q", "-b", "main")
        git("add", ".")
        git("commit", "-qm", "first")
        logs = ("jump-host.log", "pump-panel.log", "--at", "2026-03-08")
        called = command("compare", "main:parsers", "parsers", *logs)
        self.assertEqual(0, called.status, called.err)
        self.assertIn("nothing changes", called.out)
        self.write("parsers/jump-host.yaml", JUMP.replace("Invalid user {user:word}", "Invalid usr {user:word}"))
        Path("parsers/resolver.yaml").unlink()
        told = command("compare", "main:parsers", "parsers", *logs, "--json").json()
        self.assertEqual({"gone": ["resolver"], "new": []}, told["parsers"])
        self.assertEqual(
            [("jump-host invalid-user", 25)], [(item["before"], item["events"]) for item in told["variants"]]
        )
        called = command("compare", "main:parsers/jump-host.yaml", "parsers/jump-host.yaml", *logs[:1])
        self.assertEqual(1, called.status)
        for name, said in (
            ("mine:parsers", "`mine` is no revision here"),
            ("main:parsers/none.yaml", "main has no file parsers/none.yaml"),
            ("main:jump-host.log", "main:jump-host.log:1:"),
        ):
            called = command("compare", name, "parsers", *logs)
            self.assertEqual(2, called.status)
            self.assertIn(said, called.err)

    def test_wrong_use(self) -> None:
        old, new, _ = self.two()
        self.assertEqual(2, command("compare", old, new).status)
        self.assertIn("none.log", command("compare", old, new, "none.log").err)
        self.assertIn("no such parser", command("compare", old, "none.yaml", "jump.log").err)
        os.mkfifo("pipe")
        for log, name in (("-", "standard input"), ("pipe", "pipe")):
            for call in (
                ["compare", str(old), str(new), log],
                ["check", str(old), "--cost", log],
                ["teach", str(old), log, "--mark", "1:a=b"],
            ):
                with self.subTest(call=call):
                    called = command(*call)
                    self.assertEqual((2, True), (called.status, f"{name} can be read once, and " in called.err))


if __name__ == "__main__":
    unittest.main()
