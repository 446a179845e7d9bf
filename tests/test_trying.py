"""`try`: what is left, values of a field, events that are found, rounds after each save, and the page."""

from __future__ import annotations

import json
import os
import random
import re
import shlex
import shutil
import signal
import subprocess
import sys
import time
import unittest
from dataclasses import astuple
from pathlib import Path
from typing import Any

import kinglet as package
from kinglet.demo.writing import write_demo
from kinglet.drafting.leftovers import leftovers
from kinglet.insight.finding import spread
from kinglet.insight.pieces import in_words, pieces
from kinglet.insight.rounds import Rounds
from kinglet.insight.similar_keys import similar_keys
from kinglet.insight.values import values_of
from tests.helpers import PATIENCE, ROOT, InFolder, kinglet

GATES = """kinglet: 1
parser: gates
version: 1.0.0
product: {vendor: Brackwater, name: Sluice}
time: {from: stamp, format: iso8601}
envelope: '{stamp:time} {code:int} {body:rest}'
kind: code
variants:
  - {name: opened, kind: 1, pattern: 'gate {gate:int} opened by {user:word}'}
  - {name: level, kind: 2, pattern: 'tank {tank:word} at {level:int} cm'}
"""
PEOPLE = ("m.okoro", "t.varela", "a.pires")


def lines_of(count: int = 60) -> list[str]:
    """Lines of a sluice: every third is of a kind that no variant has, every tenth has a level that is none."""
    out = []
    for i in range(count):
        body = (
            f"1 gate {i} opened by {PEOPLE[i % 3]}",
            f"2 tank T{i % 4} at {'high' if i % 10 == 1 else i} cm",
            f"3 pump {i} broken after {i * 7} s",
        )[i % 3]
        out.append(f"2026-03-02T10:{i // 60:02}:{i % 60:02}Z {body}")
    return out


class Tried(InFolder):
    def setUp(self) -> None:
        super().setUp()
        self.lines = lines_of()
        self.write("gates.yaml", GATES)
        self.write("gates.log", "\n".join(self.lines) + "\n")
        self.parser = package.load("gates.yaml")


class Left(Tried):
    def test_the_commonest_comes_first_with_a_variant_that_reads_it(self) -> None:
        found = leftovers(self.parser.parse("gates.log"), "partial")
        bad = [line for line in self.lines if "high" in line]
        self.assertEqual([20, len(bad)], [group.count for group in found])
        self.assertEqual("tank {tank} at high cm", found[1].shape)
        self.assertEqual(("pump {pump:int} broken after {after:int} s", 3), (found[0].shape, found[0].line))
        assert found[0].reason is not None
        self.assertEqual("no variant has the kind 3", found[0].reason.message)
        self.write("more.yaml", GATES + found[0].variant + "\n")
        more = package.load("more.yaml").parse("gates.log")
        self.assertEqual(60 - len(bad), more.counts["complete"])
        self.assertEqual([len(bad)], [group.count for group in leftovers(more, "partial")])

    def test_every_event_is_in_one_group(self) -> None:
        odd = [f"{line} x{i} {'y' * (i % 5)} z" for i, line in enumerate(self.lines)]
        result = self.parser.parse("\n".join([*odd, "no head at all", "\n".join(self.lines)]) + "\n")
        for state in ("partial", "unmatched"):
            for most in (10_000, 3):
                groups = leftovers(result, state, most)
                self.assertEqual(result.counts[state], sum(group.count for group in groups))
                self.assertLessEqual(len(groups), most)

    def test_the_command_shows_it(self) -> None:
        called = kinglet("try", "gates.yaml", "gates.log", "--only", "partial", "--show", "0")
        self.assertEqual(0, called.status, called.err)
        self.assertIn("left  2 groups of partial events, the commonest first", called.out)
        self.assertIn("pattern: 'pump {pump:int} broken after {after:int} s'", called.out)
        self.assertLessEqual(max(map(len, called.out.splitlines())), 100)
        (file,) = json.loads(kinglet("try", "gates.yaml", "gates.log", "--only", "partial", "--json").out)["files"]
        self.assertEqual(20, file["left"][0]["count"])


class Values(Tried):
    def test_counts_types_and_what_is_unlike(self) -> None:
        events = self.parser.parse("gates.log").events
        found = values_of(events, "user")
        self.assertEqual(("text", 20, 60, 1), (found.type, found.count, found.of, found.distinct))
        lines = [*self.lines, *(f"2026-03-02T11:00:{i:02}Z 1 gate {i} opened by {PEOPLE[i % 3]}" for i in range(60))]
        lines += [
            "2026-03-02T12:00:00Z 1 gate 1 opened by 203.0.113.9",
            f"2026-03-02T12:00:00Z 1 gate 1 opened by {'x' * 90}",
        ]
        found = values_of(self.parser.parse("\n".join(lines) + "\n").events, "user")
        self.assertEqual(
            [("203.0.113.9", [121]), ("x" * 90, [122])], [(one.value, one.lines) for one in found.values[:2]]
        )
        self.assertEqual("90 characters", found.values[1].unlike)
        self.assertEqual(82, sum(one.count for one in found.values))
        self.assertEqual("int", values_of(events, "gate").type)
        with self.assertRaisesRegex(package.UsageError, "no event has a field `usr`"):
            values_of(events, "usr")

    def test_the_command_shows_the_events_behind_a_value(self) -> None:
        called = kinglet("try", "gates.yaml", "gates.log", "--field", "user", "--find", "m.okoro", "--show", "1")
        self.assertIn("user  text, in 20 of 20 events, 1 different", called.out)
        self.assertIn("20  m.okoro  line 1, 4, 7, …", called.out)
        self.assertIn("raw events  1 of 20 with m.okoro", called.out)


class CalledOtherwise(InFolder):
    def test_keys_that_are_there_under_nearly_the_same_name(self) -> None:
        chance = random.Random(11)
        ways = (str.upper, str.title, lambda key: key.replace("_", "-"), lambda key: key, lambda key: f"x{key}")
        for form, write in (
            ("json", json.dumps),
            ("pairs", lambda keys: " ".join(f"{key}={value}" for key, value in keys.items())),
            ("block", lambda keys: "\n".join(f"{key}: {value}" for key, value in keys.items())),
        ):
            for _ in range(12):
                called = {key: chance.choice(ways)(key) for key in ("user", "src_ip", "door", "act_ion")}
                wanted = [
                    (None, key, key, name, 3, 3)
                    for key, name in called.items()
                    if name != key and not name.startswith("x")
                ]
                if form == "block":  # whose labels are small letters with one sign anyway
                    wanted = []
                parser = package.load(
                    GATES[: GATES.index("time:")]
                    + f"envelope: {{{form}: true, types: {{user: word, src_ip: word, door: int, act_ion: word}}}}\n"
                    + "variants: [{name: any}]\n"
                )
                raw = [write({called[key]: i for key in called}) for i in range(3)]
                result = parser.parse(raw)
                found = [astuple(key) for key in similar_keys(parser._plan, result.events)]
                self.assertEqual(wanted, found, raw)

    def test_the_command_says_so(self) -> None:
        self.write(
            "rows.yaml",
            GATES[: GATES.index("time:")]
            + (
                "variants:\n  - {name: door, json: true, needs: [door], types: {door: int, user.name: word}}\n"
                "  - {name: any, json: true, types: {user.name: word, at: text}}\n"
            ),
        )
        self.write("rows.log", '{"door":1,"User":{"Name":"m.okoro"}}\n{"door":2}\n{"user":{"name":"m.okoro"},"AT":1}\n')
        done = kinglet("try", "rows.yaml", "rows.log")
        self.assertIn("  user.name  door: not `user.name` but `User.Name` is there, in 1 of 2 events\n", done.out)
        self.assertIn("  at         any: not `at` but `AT` is there, in all events\n", done.out)
        (log,) = json.loads(kinglet("try", "rows.yaml", "rows.log", "--json").out)["files"]
        self.assertEqual(["door", "any"], [key["variant"] for key in log["similar_keys"]])
        self.write("good.log", '{"door":1,"user":{"name":"m.okoro"}}\n')
        self.assertNotIn("called otherwise", kinglet("try", "rows.yaml", "good.log").out)


class Found(Tried):
    def test_text_and_regexes(self) -> None:
        for find, count in (("opened", 20), ("/gate [0-9]{2} /", 16), ("[", 0), ("/T[01] /", 10)):
            (file,) = json.loads(
                kinglet("try", "gates.yaml", "gates.log", "--find", find, "--show", "99", "--json").out
            )["files"]
            expected = [
                line for line in self.lines if (re.search(find[1:-1], line) if find[0] == "/" else find in line)
            ]
            self.assertEqual(expected, [event["raw"] for event in file["events"]], find)
            self.assertEqual(count, len(expected), find)
        called = kinglet("try", "gates.yaml", "gates.log", "--find", "/(/")
        self.assertEqual((2, True), (called.status, "`/(/` is no regex: unclosed group" in called.err))

    def test_a_sample_is_from_all_over_and_the_same_again(self) -> None:
        events = self.parser.parse("\n".join(lines_of(3000)) + "\n").events
        some = [spread(events, 50, seed)["line"].to_list() for seed in (1, 1, 2)]
        self.assertEqual((some[0], 50), (some[1], len(set(some[0]))))
        self.assertNotEqual(some[0], some[2])
        self.assertEqual(sorted(some[0]), some[0])
        self.assertTrue(min(some[0]) < 600 and max(some[0]) > 2400)


class AgainAndAgain(Tried):
    def test_what_a_round_changed(self) -> None:
        rounds = Rounds()
        first = rounds.took(self.parser.parse("gates.log").events)
        self.assertEqual((1, [], []), (first.number, first.last, first.start))
        self.write("gates.yaml", GATES.replace("{user:word}", "{who:word}").replace("{level:int}", "{level:word}"))
        second = rounds.took(package.load("gates.yaml").parse("gates.log").events)
        bad = sum("high" in line for line in self.lines)
        self.assertEqual(f"{bad} more complete", second.last[0])
        self.assertIn("`user` gone in 20 (line 1)", second.last)
        self.write("gates.yaml", GATES.replace("opened by", "opened BY"))
        third = rounds.took(package.load("gates.yaml").parse("gates.log").events)
        self.assertEqual(f"{20 + bad} no longer complete: line 1", third.last[0])
        self.assertEqual("20 no longer complete: line 1", third.start[0])
        self.assertEqual(third.start, rounds.all_in_all())
        grown = rounds.took(self.parser.parse("\n".join([*self.lines, self.lines[0]]) + "\n").events)
        self.assertIn("1 event", " ".join(rounds.all_in_all()) + " ".join(grown.last))

    def test_the_command_follows_the_files(self) -> None:
        command = [sys.executable, "-m", "kinglet", "try", "--watch", "gates.yaml", "gates.log", "--show", "0"]
        with Path("out").open("wb") as out:
            process = subprocess.Popen(
                command, stdout=out, stderr=subprocess.STDOUT, env={**os.environ, "PYTHONUNBUFFERED": "1"},
                preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),  # what runs behind a shell ignores it
            )  # fmt: skip
        try:
            self.until("round 1")
            self.write("gates.yaml", GATES.replace("{user:word}", "{who:word}"))
            self.until("round 2")
            self.write("gates.yaml", GATES + "bad: [")
            self.until("what is shown is the last that could be read")
            self.write("gates.yaml", GATES)
            with Path("gates.log").open("a", encoding="utf-8") as log:
                log.write("2026-03-02T12:00:00Z 1 gate 1 opened by a.pires\n")
            self.until("1 event more")
        finally:
            process.send_signal(signal.SIGINT)
            process.wait(PATIENCE)
        said = Path("out").read_text(encoding="utf-8")
        self.assertEqual(0, process.returncode, said[-500:])
        self.assertIn("since the last save: `user` gone in 20 (line 1)", said)
        self.assertRegex(said, r"gates.yaml:\d+:\d+: is not YAML")
        self.assertIn("of 61 events complete", said.splitlines()[-1])

    def until(self, text: str) -> None:
        for _ in range(1200):
            if text in Path("out").read_text(encoding="utf-8"):
                return
            time.sleep(0.05)
        self.fail(f"{text} did not come:\n{Path('out').read_text(encoding='utf-8')[-600:]}")


class Pages(Tried):
    def page(self, text: str, parser: str = "gates.yaml") -> str:
        self.write("page.log", text)
        called = kinglet("try", parser, "page.log", "-o", "page.html")
        self.assertEqual(0, called.status, called.err)
        return Path("page.html").read_text(encoding="utf-8")

    def test_it_has_everything_and_asks_nothing_of_a_network(self) -> None:
        page = self.page("\n".join(self.lines) + "\n")
        for said in ("What is left", "no variant has the kind 3", "Times", "Values", "gates 1.0.0", "user: m.okoro"):
            self.assertIn(said, page)
        self.assertEqual(60, page.count('<tr class="e"'))
        self.assertEqual([], re.findall(r"(?:src|href)=\"(?!data:)[^\"]*", page))

    HOSTILE = (
        "<script>document.title='run'</script>",
        '"><img src=x onerror="document.title=\'run\'">',
        "</table><h1>x",
        "\x1b[2J\u202e",
    )

    def test_a_hostile_log_is_text(self) -> None:
        lines = [f"2026-03-02T10:00:00Z 1 gate 1 opened by {text.replace(' ', '_')}" for text in self.HOSTILE]
        lines += [f"2026-03-02T10:00:00Z 9 {text}" for text in self.HOSTILE] + list(self.HOSTILE)
        page = self.page("\n".join(lines) + "\n")
        self.assertEqual(1, page.count("<script>"))
        self.assertNotRegex(page, r"<img src=x|<h1>x|\x1b|\u202e")

    def test_wrong_use(self) -> None:
        for arguments, said in (
            (("gates.log", "-o", "page.txt"), "is no name of a page; end it with .html"),
            (("gates.log", "-o", "no/page.html"), "there is no folder no"),
            (("gates.log", "gates.log", "-o", "page.html"), "a page is of one log"),
            (("gates.log", "-o", "page.html", "--json"), "-o writes a page"),
            (("--watch", "gates.log", "--json"), "--watch shows files again and again"),
        ):
            called = kinglet("try", "gates.yaml", *arguments)
            self.assertEqual((2, 1), (called.status, len(called.err.strip().splitlines())), called.err)
            self.assertIn(said, called.err)

    @unittest.skipUnless(shutil.which("chromium"), "there is no Chromium")
    def test_a_browser_runs_the_filters_and_nothing_else(self) -> None:
        lines = [*self.lines, *(f"2026-03-02T10:00:00Z 9 {text}" for text in self.HOSTILE)]
        self.page("\n".join(lines) + "\n")
        options = ["--headless", "--no-sandbox", "--disable-gpu", "--disable-background-networking", "--no-first-run"]
        options += ["--disable-component-update", "--disable-sync", f"--user-data-dir={self.folder / 'browser'}"]
        shown: Any = subprocess.run(
            ["chromium", *options, "--dump-dom", Path("page.html").resolve().as_uri()],
            capture_output=True, check=True, timeout=PATIENCE,
        ).stdout.decode()  # fmt: skip
        self.assertIn(f'<span id="shown" style="font-weight:normal">{len(lines)} of {len(lines)}</span>', shown)
        self.assertIn("<title>gates 1.0.0", shown)


class PieceByPiece(Tried):
    def test_each_piece_says_what_it_took(self) -> None:
        line = self.lines[0]
        envelope, variant = pieces(self.parser, line)
        self.assertEqual((True, True, "opened"), (envelope.matches, variant.matches, variant.name))
        for found, whole in ((envelope, line), (variant, line[23:])):
            taken = [piece for piece in found.pieces if piece.taken is not None]
            self.assertEqual(whole, "".join(piece.taken or "" for piece in taken))
            self.assertTrue(all(line[piece.start : piece.end] == piece.taken for piece in taken))
        words = {piece.text: piece.words for piece in variant.pieces}
        self.assertEqual("`gate`: a whole number", words["{gate:int}"])
        self.assertEqual("this text", words["gate"])

    def test_where_it_gave_up(self) -> None:
        envelope, variant = pieces(self.parser, "2026-03-02T10:00:00Z 1 gate x opened", "opened")
        self.assertEqual((True, False, 29), (envelope.matches, variant.matches, variant.column))
        self.assertEqual(["{gate:int}"], [piece.text for piece in variant.pieces if piece.taken is None][:1])
        self.assertEqual([False], [one.matches for one in pieces(self.parser, "nothing")])
        called = kinglet("explain", "gates.yaml", "--line", "2026-03-02T10:00:00Z 1 gate x opened")
        self.assertIn("opened  gives up at column 29", called.out)
        self.assertLessEqual(max(map(len, called.out.splitlines())), 100)
        plain = json.loads(kinglet("explain", "gates.yaml", "--line", self.lines[0], "--json").out)
        self.assertEqual([True, True], [one["matches"] for one in plain])
        called = kinglet("explain", "gates.yaml", "--line", "x", "--variant", "nope")
        self.assertEqual((2, True), (called.status, "no variant `nope`" in called.err))

    def test_values_of_structure_show_what_each_becomes(self) -> None:
        head = "kinglet: 1\nparser: door\nversion: 1.0.0\nproduct: {vendor: Quayline, name: Door}\n"
        text = head + (
            "envelope: {json: true, types: {n: int, said: text}}\n"
            "variants: [{name: opened, from: said, pattern: 'opened by {user:word}'}, {name: other}]\n"
        )
        Path("door.yaml").write_text(text)
        line = '{"n":7,"said":"opened by m.okoro","deep":{"a":[1]}}'
        envelope, opened = json.loads(kinglet("explain", "door.yaml", "--line", line, "--json").out)
        told = [
            (one["text"], one["words"], one["taken"], line[one["start"] : one["end"]]) for one in envelope["pieces"]
        ]
        wanted = [
            ("n", "`n`: a whole number", "7", "7"),
            ("said", "`said`: any text", "opened by m.okoro", "opened by m.okoro"),
            ("deep.a", "kept in `more`", "[1]", "[1]"),
        ]
        self.assertEqual((True, wanted), (envelope["matches"], told))
        user = next(one for one in opened["pieces"] if one["text"] == "{user:word}")
        self.assertEqual(("m.okoro", "m.okoro"), (user["taken"], line[user["start"] : user["end"]]))
        called = kinglet("explain", "door.yaml", "--line", '{"n":7,')
        self.assertIn("gives up at column 8", called.out)
        self.assertIn("a key in double quotes", " ".join(called.out.split()))

    def test_regexes_in_words(self) -> None:
        reading = self.parser._plan.variants[0].reading
        for regex, words in (
            (r"\d+", "a digit, once or more"),
            (r"[^;]*?", "anything but ;, any number of times, as few as can be"),
            (r"(?:in|out)", "one of `in` or `out`"),
            (r"(?: x)?", "if it is there: this text"),
            (r"\w{2,4}", "a letter, digit or _, 2 to 4 times"),
            (r"(?P<a>\S+)", "`a`: anything but blanks, once or more"),
            (r"(?s:.*)", "anything, of other lines too"),
        ):
            self.assertEqual(words, in_words(regex, reading), regex)


class WalkThrough(InFolder):
    def test_every_command_of_it_does_what_it_says(self) -> None:
        write_demo(self.folder / "kinglet-demo")
        text = (ROOT / "docs" / "walk-through.md").read_text(encoding="utf-8")
        commands = [shlex.split(line)[1:] for line in re.findall(r"```sh\n(kinglet [^\n]*)\n```", text)]
        self.assertEqual({"look", "draft", "teach", "try", "check"}, {command[0] for command in commands})
        for command in commands:
            if "--watch" not in command:
                called = kinglet(*command)
                self.assertEqual(0, called.status, (command, called.err))
        self.assertEqual(
            14, package.load("kiosk.yaml").parse("kinglet-demo/logs/kiosk-app.log").events["problem"].count()
        )
        self.assertTrue(Path("kiosk.html").exists())
