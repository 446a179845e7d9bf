"""Regexes and texts made to hurt: everything ends, and says so where it had too little time."""

from __future__ import annotations

import importlib.util
import sys
import unittest
from types import ModuleType

import kinglet
from kinglet.insight.diagnosis import reasons
from kinglet.insight.explaining import explain
from kinglet.insight.spans import spans
from kinglet.regex.backtracking import BUDGET, search, why_slow
from kinglet.regex.dialect import RegexError, check_regex
from tests.helpers import LINES, ROOT, InFolder, soon
from tests.helpers import kinglet as command


def _corpus() -> ModuleType:
    spec = importlib.util.spec_from_file_location("hostile", ROOT / "benchmarks" / "hostile.py")
    assert spec is not None and spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    sys.modules["hostile"] = module
    spec.loader.exec_module(module)
    return module


HOSTILE = _corpus()
SLOW = LINES.replace("    pattern: '%s'\n", "    regex: '%s'\n")


class Corpus(unittest.TestCase):
    def test_every_event_ends_within_its_budget_and_so_does_what_is_shown_of_it(self) -> None:
        run = 0
        for item in HOSTILE.CORPUS:
            with self.subTest(regex=item.regex):
                try:
                    parser = HOSTILE.parser_of(item)
                except kinglet.ParserFileError as error:
                    self.assertIn("; ", str(error))  # it says what to do
                    continue
                run += 1
                text = HOSTILE.texts_of(item, 1)[0][0]
                with soon(self, 20, beside=BUDGET + 5):
                    event = parser.parse([text]).events.row(0, named=True)
                self.assertIn(event["state"], ("complete", "partial", "unmatched"))
                if event["state"] == "partial":
                    self.assertEqual(["too-slow"], event["faults"])
                with soon(self, 20, beside=4 * BUDGET + 5):
                    spans(parser._plan, text, event["variant"])
                    reasons(parser._plan, text, event["variant"], event["faults"])
        self.assertGreaterEqual(run, 60)

    def test_long_texts_and_patterns_with_many_open_slots(self) -> None:
        for text in ("a " * 50_000, ", " * 50_000, "x" * 300_000):
            parser = kinglet.load(LINES % "{a:text} {b:text},{c:text}:{d:text};{e:text} {f:int}")
            with self.subTest(text=text[:4]), soon(self, 20):
                event = parser.parse([text]).events.row(0, named=True)
                reasons(parser._plan, text, None, event["faults"])


class SlowRegexes(InFolder):
    def test_what_makes_one(self) -> None:
        for regex, why in {
            "(?=a)": "look-around", "(?<!a)b": "look-around", r"(a)\1": "a back-reference",
            "(?P<a>x)(?P=a)": "a back-reference", "(?>a+)": "an atomic group", "(a)?(?(1)b|c)": "a condition",
            "a++": "a possessive repeat", "a{2}+": "a possessive repeat",
            r"\(?=": None, "[(?=]": None, r"\++": None, r"\\1": None, "a+?": None, "[a+]+": None,
            "(?:a)(?i:b)(?P<c>d)": None,
        }.items():  # fmt: skip
            self.assertEqual(why, why_slow(regex), regex)
        with self.assertRaisesRegex(RegexError, "possessive"):
            check_regex("a++")
        with self.assertRaises(RegexError):
            check_regex("(?=a)b")
        self.assertEqual(("n",), check_regex("(?=a)(?P<n>a)", slow=True))

    def test_they_read_what_others_cannot(self) -> None:
        parser = kinglet.load(SLOW % r"^(?P<user>\w+)(?<!root) by (?P<other>(?!\1)\w+)$")
        events = parser.parse(["quay by elder", "root by elder", "quay by quay", "elder by b"]).events
        self.assertEqual(["quay", None, None, "elder"], events["user"].to_list())
        self.assertEqual(["complete", "unmatched", "unmatched", "complete"], events["state"].to_list())
        shown = spans(parser._plan, "quay by elder", "any")
        self.assertEqual([("user", 0, 4), ("other", 8, 13)], [tuple(span) for span in shown])

    def test_one_event_that_takes_too_long_stops_no_other(self) -> None:
        parser = kinglet.load(SLOW % "(?<!b)(?P<v>(a|aa)+)$")
        result = parser.parse(["aaa", "a" * 5000 + "!", "aa"])
        self.assertEqual([[], ["too-slow"], []], result.events["faults"].to_list())
        self.assertEqual(["aaa", None, "aa"], result.events["v"].to_list())
        self.assertEqual({"events": 3, "complete": 2, "partial": 1, "unmatched": 0, "dropped": 0}, result.counts)

    def test_the_budget_can_be_kept_by_a_search_alone(self) -> None:
        with self.assertRaises(TimeoutError):
            search("(?<!b)(a|aa)+$", "a" * 5000 + "!", 0.02)
        self.assertIsNone(search("b", "a"))

    def test_commands_say_so(self) -> None:
        path = self.write("slow.yaml", SLOW % "(?<!b)(?P<v>(a|aa)+)$")
        log = self.write("a.log", "a" * 5000 + "!\n")
        self.assertIn("event by event, for it has look-around; at most 0.1 s each", command("explain", path).out)
        self.assertIn("a log can make it slow, since it has look-around", " ".join(command("check", path).out.split()))
        self.assertIn("took longer over it than it may", command("try", path, log).out)
        self.assertIn("event by event", explain(kinglet.load(path)).variants[0].engine)


if __name__ == "__main__":
    unittest.main()
