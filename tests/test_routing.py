"""Parsers of many variants: the same result as if each were tried in its order."""

from __future__ import annotations

import os
import random
import re
import signal
import threading
import unittest
from collections import Counter
from typing import Any, ClassVar
from unittest import mock

import polars as pl
from hypothesis import given
from hypothesis import strategies as st

import kinglet
from kinglet.compiler import passes as build
from kinglet.parser import Parser
from kinglet.regex.literals import pieces
from kinglet.runtime.extraction import regex_at_once as at_once
from kinglet.runtime.extraction import variants as by_variant
from kinglet.runtime.extraction.candidate_variants import candidates_by_text, piece_of, slices
from kinglet.runtime.extraction.regex_groups import extract
from kinglet.runtime.extraction.regex_requests import RegexRequest, Requests, run_requests, side_by_side
from kinglet.runtime.extraction.regex_workers import PLACES, on_workers
from tests.helpers import PATIENCE, examples

HEAD = "kinglet: 1\nparser: quay\nversion: 1.0.0\nproduct: {vendor: Brackwater, name: Quay}\n"
AT = "2026-03-05T12:00:00Z"
WORDS = ("crane", "berth", "winch", "gate", "lamp", "tide", "rope", "ferry", "buoy", "quay")


def variants(count: int, chance: random.Random, *, kinds: bool) -> str:
    """Patterns of which many begin alike, some read all that others do, some have no text of their own."""
    lines = []
    for number in range(count):
        kind = f"kind: {chance.choice('abcdefghijkl')}, " if kinds and chance.random() < 0.9 else ""
        words = " ".join(chance.sample(WORDS, chance.randrange(1, 3)))
        pattern = chance.choice([
            f"{words} {{n{number % 7}:int}}[[ at {{end:time}}]]",
            f"{words}[[ {{w:word}}]] {words}",
            f"{{x{number % 5}:word}} {words} {{r:rest}}",
            f"{words} {{p:pairs}}",
        ])  # fmt: skip
        way = f"pattern: '{pattern}'" if number % 9 else f"regex: '(?i)^{words} (?P<z>[a-z]+)$'"
        lines.append(f"  - {{name: v{number}, {kind}{way}}}")
    if not kinds:
        lines.insert(count // 2, "  - {name: open, pattern: '{a:int} {b:rest}'}")
    return "variants:\n" + "\n".join(lines) + "\n"


def raw(count: int, chance: random.Random, *, kinds: bool) -> list[str]:
    found = []
    for number in range(count):
        words = chance.choice([" ", "  ", "\t"]).join(chance.choices(WORDS, k=chance.randrange(1, 4)))
        tail = chance.choice([f" {number}", f" {number} at 2026-03-03T22:10:41Z", " a=1 b", "", f" {words}", " ABC"])
        kind = f"{chance.choice('abcdefghijklm')} " if kinds else ""
        stamp = "2026-03-03T22:10:41Z" if chance.random() < 0.9 else "soon"
        found.append(f"{stamp} {kind}{words}{tail}" if chance.random() < 0.97 else "nothing at all")
    return found


def events(parser: Parser, lines: list[str]) -> list[dict[str, Any]]:
    return parser.parse(lines, reference_time=AT).events.to_dicts()


class ManyVariants(unittest.TestCase):
    def test_one_message_of_many_kinds_is_read_by_the_variant_of_its_kind(self) -> None:
        kinds = "abcdefghijkl"
        lines = [f"  - {{name: v{i}, kind: {kind}, pattern: 'gate {{n{i}:int}}'}}" for i, kind in enumerate(kinds)]
        text = "\n".join([*lines, "  - {name: rest, kind: [c, m], pattern: '{r:rest}'}"])
        parser = kinglet.load(f"{HEAD}envelope: '{{kind:word}} {{body:rest}}'\nkind: kind\nvariants:\n{text}\n")
        several = "".join(kind * 3 for kind in kinds)
        # all say it, or those of a few neighbours only
        for order, say in ((kinds, kinds), (kinds[::-1], kinds), (several, kinds), ("m" + kinds, kinds),
                           (kinds, "ab"), ("a" + kinds, "ab"), (kinds, "kl"), (kinds + "b", "abc")):  # fmt: skip
            with mock.patch.object(at_once, "_ENOUGH", 1):
                said = [f"{kind} {'gate' if kind in say else 'low'} {number}" for number, kind in enumerate(order)]
                found = parser.parse(said).events
            for number, kind in enumerate(order):
                own = f"v{kinds.index(kind)}" if kind in say else "rest" if kind in "cm" else None
                self.assertEqual(own, found["variant"][number], (order, say))
                if own is not None and own != "rest":
                    self.assertEqual(number, found[f"n{kinds.index(kind)}"][number])

    def test_as_if_each_were_tried_in_its_order(self) -> None:
        for seed in range(4):
            chance = random.Random(seed)
            kinds = seed % 2 == 0
            front = "envelope: '{stamp:time}" + (" {kind:word}" if kinds else "") + " {body:rest}'\n"
            rules = "time: [{from: stamp}, {from: end}, {from: end, to: ended}]\n" + ("kind: kind\n" if kinds else "")
            parser = kinglet.load(HEAD + front + rules + variants(40, chance, kinds=kinds))
            lines = raw(500, chance, kinds=kinds)
            routed = events(parser, lines)
            with mock.patch.object(by_variant, "FEW", 10**9):
                plain = events(parser, lines)
            self.assertEqual(plain, routed, seed)
            self.assertGreater(len({event["variant"] for event in routed}), 8)
            self.assertIn("unmatched", {event["state"] for event in routed})

    def test_events_that_no_variant_reads_keep_their_order(self) -> None:
        some = "".join(f"  - {{name: v{word}, pattern: '{word} {{n:int}}'}}\n" for word in WORDS)
        parser = kinglet.load(HEAD + "variants:\n" + some)
        lines = [f"{word} {end}" for word in (*reversed(WORDS), *WORDS) for end in "xy"]
        self.assertEqual(lines, parser.parse(lines).events["raw"].to_list())

    def test_variants_alike_are_read_as_if_each_were_read_alone(self) -> None:
        for seed in range(4):
            chance = random.Random(seed)
            kinds = seed % 2 == 0
            lines, some = [], []
            tails = ("{n:int}[[ by {who:word}]]", "{n:int}[[ by {who:word}]]", "{n:int} of {size:num}", "{what:pairs}")
            for number in range(30):
                begin = " ".join(chance.sample(WORDS, chance.randrange(1, 3)))
                kind = f"kind: {number % 11}, " if kinds and number % 5 else ""
                lines.append(f"  - {{name: v{number}, {kind}pattern: '{begin} {chance.choice(tails)}'}}\n")
                for _ in range(12):
                    said = begin.replace(" ", chance.choice([" ", " ", "  ", "\t"]))
                    end = chance.choice(["7", "7 by w", "7  by  w ", "x", "7 of 2.5", "7 of .", " 7", "a=1", ""])
                    code = f"{chance.choice([number % 11, 99])} " if kinds else ""
                    some.append(f"2026-03-03T22:10:41Z {code}{said}{chance.choice([' ', '  '])}{end}")
            front = (
                "envelope: '{stamp:time} " + ("{code:int} " if kinds else "") + "{body:rest}'\ntime: {from: stamp}\n"
            )
            text = HEAD + front + ("kind: code\n" if kinds else "") + "variants:\n" + "".join(lines)
            parser = kinglet.load(text)
            with mock.patch.object(build, "alike", lambda variants: tuple(range(len(variants)))):
                alone = kinglet.load(text)
            self.assertLess(len(set(parser._plan.alike)), 30)
            chance.shuffle(some)
            found = events(parser, some)
            self.assertEqual(events(alone, some), found, seed)
            states = {event["state"] for event in found}
            self.assertEqual({"complete", "partial"}, states)

    def test_what_a_variant_cannot_do_without(self) -> None:
        for regex, expected in {
            r"^pump[ \t]+started[ \t]+by (?P<n>\d+)$": ("pump started by ",),
            r"^a[ \t]*b": ("a", "b"),
            "^two  blanks": ("two blanks",),
            r"^x\s+y": ("x", "y"),
        }.items():
            self.assertEqual(expected, pieces(regex), regex)
        parser = kinglet.load(
            HEAD + "variants:\n  - {name: a, pattern: 'crane {n:int} up'}\n  - {name: b, json: true}\n"
        )
        self.assertEqual(["crane ", None], [piece_of(variant.reading) for variant in parser._plan.variants])

    def test_events_by_the_variants_in_question(self) -> None:
        names = ("crane up", "crane down", "tide", "-")
        listed = (f"  - {{name: v{i}, pattern: '{{a:text}}{name}{{b:text}}'}}\n" for i, name in enumerate(names))
        plan = kinglet.load(HEAD + "variants:\n" + "".join(listed))._plan
        asked = candidates_by_text(plan, pl.Series(["the crane  up with the tide", "crane down", "no"]), range(4))
        assert asked is not None
        self.assertEqual([[0, 2, 3], [1, 3], [3]], [list(places) for places in asked])
        self.assertIsNone(candidates_by_text(plan, pl.Series(["no"]), [3]))

    def test_readers_side_by_side_ask_at_once_and_keep_their_order(self) -> None:
        reading = kinglet.load(HEAD + "variants: [{name: a, pattern: 'a {n:int}'}]\n")._plan.variants[0].reading
        asked: list[list[str]] = []

        def reader(*texts: str) -> Requests[list[str | None]]:
            found = []
            for text in texts:
                (answer,) = yield [RegexRequest(pl.Series([text]), reading)]
                found += answer.texts["n"].to_list()
            return found

        readers = side_by_side([reader("a 1", "b", "a 2"), reader(), reader("a 3")])
        texts = next(readers)
        with self.assertRaises(StopIteration) as done:
            while True:
                asked.append([ask.text.item() for ask in texts])
                texts = readers.send([extract(*ask) for ask in texts])
        self.assertEqual([["a 1", "a 3"], ["b"], ["a 2"]], asked)
        self.assertEqual([["1", None, "2"], [], ["3"]], done.exception.value)
        many = run_requests(side_by_side([reader(f"a {i}") for i in range(20)]))
        self.assertEqual([[str(i)] for i in range(20)], many)

    def test_a_regex_goes_to_the_same_thread_each_time(self) -> None:
        def thread(number: int) -> str:
            return threading.current_thread().name

        regexes = [(i, f"shelf test {i}") for i in range(100)]
        first, again = on_workers(thread, regexes), on_workers(thread, reversed(regexes))
        self.assertEqual(first, again)
        self.assertGreaterEqual(PLACES, max(Counter(first.values()).values()))
        with self.assertRaises(ZeroDivisionError):
            on_workers(lambda number: 1 // (number - 3), regexes)

    @unittest.skipUnless(hasattr(os, "fork"), "only where processes can fork")
    def test_a_forked_process_has_threads_of_its_own(self) -> None:
        on_workers(str, [(1, "before the fork")])
        process = os.fork()
        if not process:
            os._exit(on_workers(str, [(1, "before the fork")]) != {1: "1"})
        self.assertEqual(0, os.waitpid(process, 0)[1])

    @unittest.skipUnless(hasattr(os, "fork"), "only where processes can fork")
    def test_a_process_forked_after_a_parser_was_used_says_that_it_cannot(self) -> None:
        parser = kinglet.load(HEAD + "variants: [{name: any, pattern: '{a:rest}'}]\n")
        self.assertEqual(1, len(parser.parse("gate\n")))
        for deep in (False, True):
            process = os.fork()
            if not process:
                signal.alarm(PATIENCE)  # without a word it would wait for ever
                if deep and os.fork():
                    os._exit(os.waitstatus_to_exitcode(os.wait()[1]))
                try:
                    parser.parse("gate\n")
                except kinglet.UsageError as error:
                    os._exit("forked" not in str(error))
                os._exit(2)
            self.assertEqual(0, os.waitstatus_to_exitcode(os.waitpid(process, 0)[1]))

    def test_equal_numbers_stand_together_in_their_order(self) -> None:
        order, each = slices(pl.Series([2, None, 1, 2, 1], dtype=pl.UInt32))
        self.assertEqual([2, 4, 0, 3, 1], order.to_list())
        self.assertEqual([(1, 0, 2), (2, 2, 2)], list(each))


class SeveralKinds(unittest.TestCase):
    """Variants chosen by two slots, held against a loop over the variants."""

    VARIANT = st.tuples(
        st.lists(st.integers(0, 3), unique=True, max_size=2),
        st.lists(st.sampled_from("xyz"), unique=True, max_size=2),
        st.sampled_from(["{n:int}", "{n:int} t", "{w:word}", "go {w:word}"]),
    )
    MATCHES: ClassVar = {"{n:int}": "[0-9]+", "{n:int} t": "[0-9]+ t", "{w:word}": "[^ ]+", "go {w:word}": "go [^ ]+"}

    @examples(25)
    @given(
        st.lists(VARIANT, min_size=1, max_size=12),
        st.lists(
            st.tuples(st.integers(0, 4), st.sampled_from("vxyz"), st.sampled_from(["7", "7 t", "a", "go a", "b c"])),
            min_size=1,
            max_size=20,
        ),
    )
    def test_as_a_loop_chooses(
        self, variants: list[tuple[list[int], list[str], str]], events: list[tuple[int, str, str]]
    ) -> None:
        written = []
        for i, (numbers, words, pattern) in enumerate(variants):
            kind = {name: values for name, values in (("a", numbers), ("b", words)) if values}
            written.append({"name": f"v{i}", "pattern": pattern, **({"kind": kind} if kind else {})})
        parser = kinglet.load({
            "kinglet": 1, "parser": "two", "version": "1.0.0", "product": {"vendor": "V", "name": "N"},
            "envelope": "{a:int} {b:word} {body:rest}", "kind": ["a", "b"], "variants": written,
        })  # fmt: skip
        found = parser.parse([f"{a} {b} {text}" for a, b, text in events]).events
        kinds = any(numbers or words for numbers, words, _ in variants)
        for (a, b, text), variant, faults in zip(events, found["variant"], found["faults"].to_list(), strict=True):
            asked = [i for i, (numbers, words, _) in enumerate(variants)
                     if (not numbers or a in numbers) and (not words or b in words)]  # fmt: skip
            expected = next((f"v{i}" for i in asked if re.fullmatch(self.MATCHES[variants[i][2]], text)), None)
            self.assertEqual(expected, variant, (a, b, text))
            if expected is None:
                unknown = kinds and asked == [i for i, item in enumerate(variants) if not item[0] and not item[1]]
                self.assertEqual(["unknown-kind" if unknown else "no-variant"], faults)

    def test_what_is_wrong_with_kinds_is_said_once(self) -> None:
        text = HEAD + "envelope: '{a:int} {b:word} {body:rest}'\nkind: [a, b]\n"
        text += "variants: [{name: one, kind: {a: 5, b: [x, y]}, pattern: '{n:int}'}]\n"
        self.assertEqual("one", kinglet.load(text).parse(["5 y 7"]).events["variant"].item())
        for old, new, said in (
            ("{a: 5, b: [x, y]}", "5", "does not say of which of the kind slots this is a value; write `{a: 5}`"),
            ("{a: 5,", "{c: 5,", "`c` is none of the kind slots"),
            ("{a: 5,", "{a: x,", "'x' can never be a value of `a`; `a` is a whole number"),
            ("{a: 5,", "{a: 1.5,", "kind.a: is the number 1.5"),
            ("kind: [a, b]\n", "kind: [a, d]\n", "the envelope has no slot `d`"),
        ):
            with self.assertRaises(kinglet.ParserFileError) as raised:
                kinglet.load(text.replace(old, new))
            self.assertEqual(1, str(raised.exception).count(said), str(raised.exception))


if __name__ == "__main__":
    unittest.main()
