"""Two versions of a parser over the same logs."""

from __future__ import annotations

import json
import unittest
from pathlib import Path

import kinglet
from kinglet.demo.logs import log_bytes
from kinglet.insight.comparing import compare
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
            r"user +25 +\S*jump.log:\d+",
            r"accepted → Authentication: no more auth_protocol; now metadata.log_level\n",
            r"✗ night-jump  goes blind, for want of auth_protocol\n",
        ):
            self.assertRegex(called.out, said)
        told = json.loads(
            command("compare", *self.two(*changes), "--at", "2026-03-08", "--rules", DEMO / "rules", "--json").out
        )
        self.assertEqual(26, told["worse"])
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

    def test_wrong_use(self) -> None:
        old, new, _ = self.two()
        self.assertEqual(2, command("compare", old, new).status)
        self.assertIn("none.log", command("compare", old, new, "none.log").err)
        self.assertIn("no such parser", command("compare", old, "none.yaml", "jump.log").err)


if __name__ == "__main__":
    unittest.main()
