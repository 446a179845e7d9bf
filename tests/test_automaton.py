"""Regexes by machine code, beside the column engine."""

from __future__ import annotations

import os
import random
import threading
import unittest
from unittest import mock

import polars as pl

from kinglet.kernels import compiled, compiling
from kinglet.regex.automaton import MOST_STATES, Alternative, Automaton, UnsuitableError
from kinglet.regex.literals import known
from kinglet.runtime.extraction import regex_at_once

compiling.compile_all()

CLASSES = [
    r"\d",
    r"\w",
    r"\s",
    r"\S",
    r"\D",
    ".",
    "(?s:.)",
    "[ab]",
    "[^a]",
    "[^ab ]",
    "[a-c1]",
    "[^\\n]",
    r"[\w.]",
    "(?i:a)",
    "(?i:[ks])",
    "(?i:[^ks1])",
    "é",
    "[^é’]",
    "[à-ÿ]",
    "[a-\u2019]",
    r"[^\s’]",
    r"[^\W]",
    r"[\d\U0001f600]",
]
LITERALS = ["a", "b", "1", " ", "-", r"\.", "ab", "B"]
LETTERS = "aaabbB1 -.\ncéé"
OTHERS = "ß×’\u2028\u3000ſ\u212a\U0001f600٣\xa0\x85水\U00010345\u07ff\u0800\uffff\U0010ffff"


class Writer:
    """Writes regexes at random, with groups of several names."""

    def __init__(self, chance: random.Random) -> None:
        self.chance = chance
        self.names = 0

    def regex(self) -> str:
        self.names = 0
        return f"^{self.sequence(3)}$"

    def sequence(self, depth: int) -> str:
        return "".join(self.item(depth) for _ in range(self.chance.randint(0 if depth < 3 else 1, 4)))

    def item(self, depth: int) -> str:
        kind = self.chance.randrange(10)
        if depth == 0 or kind < 4:
            return self.chance.choice(CLASSES + LITERALS) + self.chance.choice(
                ["", "", "*", "+", "?", "*?", "+?", "??", "{0,2}", "{2}"]
            )
        if kind < 7:
            self.names += 1
            name = f"g{self.names}"
            return f"(?P<{name}>{self.sequence(depth - 1)})" + self.chance.choice(["", "", "", "?"])
        inner = self.sequence(depth - 1)
        if kind < 9:
            return f"(?:{inner}|{self.sequence(depth - 1)})" + self.chance.choice(["", "?", "??"])
        return f"(?:{self.chance.choice(LITERALS)}{inner})" + self.chance.choice(["*", "+", "*?", "{1,3}"])


class Both(unittest.TestCase):
    def setUp(self) -> None:
        self.assertIsNotNone(compiled.kernel("matcher", 10**6))
        enough = mock.patch.object(regex_at_once, "_ENOUGH", 0)
        enough.start()
        self.addCleanup(enough.stop)

    def held(self, regex: str, groups: list[str], texts: list[str | None]) -> int:
        """How many texts machine code has read; each as the engine reads it."""
        column = pl.Series(texts, dtype=pl.String)
        found = regex_at_once.find(column, [Alternative(regex, tuple(groups))])
        if found is None:
            return 0
        odd = set(found.odd.to_list())
        automaton = regex_at_once._known((Alternative(regex, tuple(groups)),)).automaton(0)
        is_full = automaton is None or automaton.is_full
        matched = column.str.contains(regex).fill_null(False).to_list()
        frame = column.str.extract_groups(regex).struct.unnest() if groups else pl.DataFrame()
        for row, text in enumerate(texts):
            if row in odd:
                self.assertTrue(is_full or text == "")
                continue
            self.assertEqual(matched[row], found.matched[row], (regex, text))
            if matched[row]:
                engine = [frame[name][row] for name in groups]
                self.assertEqual(engine, [column[row] for column in found.groups], (regex, text))
        return len(texts) - len(odd)

    def test_random_regexes_find_what_the_engine_finds(self) -> None:
        chance = random.Random(11)
        writer = Writer(chance)
        read = 0
        for _ in range(round(1500 * float(os.environ.get("KINGLET_EXAMPLES", "0.5")))):
            regex = writer.regex()
            if known(regex).keeps_vague:  # refused where parsers are loaded
                continue
            groups = [f"g{number}" for number in range(1, writer.names + 1)]
            letters = LETTERS + OTHERS * chance.randint(0, 1)
            texts = ["".join(chance.choices(letters, k=chance.randint(0, 9))) for _ in range(40)]
            read += self.held(regex, groups, [*texts, None, ""])
        self.assertGreater(read, 10_000)

    def test_groups_of_long_and_short_texts(self) -> None:
        texts = ["k=v", "key=" + "long " * 20 + ";x", "k=", "=", "k" * 40 + "=" + "v" * 12, "k=v;é"]
        self.assertEqual(
            6, self.held(r"^(?P<key>\w+)=(?P<value>[^;]*?)(?:;(?P<tail>.*))?$", ["value", "key", "tail"], [*texts])
        )

    def test_every_character_is_what_the_engine_says_it_is(self) -> None:
        points = [*range(0x2600), *range(0x2E00, 0x3100), *range(0xA000, 0xE000, 7), *range(0xFE00, 0x10600, 3)]
        points += [*range(0x1D7C0, 0x1F700, 5), 0xD7FF, 0xE000, 0x3FFFF, 0x40000, 0x10FFFF]
        texts: list[str | None] = [chr(point) for point in points if not 0xD800 <= point < 0xE000]
        for regex in (
            r"^\w$", r"^\W$", r"^\d$", r"^\s$", r"^\S$", r"^[^\d’]$", "^[é-\u3000]$", "^[^\U00010000-\U0010fffe]$",
            "^(?i:k)$", "^(?i:[^s-t])$", "^.$", r"^[^\W\d]$",
        ):  # fmt: skip
            with self.subTest(regex):
                self.assertEqual(len(texts), self.held(regex, [], texts))
                around = f"^(?P<before>.*?)(?P<it>{regex[1:-1]})(?P<behind>.*)$"
                some = [f"{text}-{text}" for text in texts[200:2000:7]]
                self.assertEqual(len(some), self.held(around, ["before", "it", "behind"], [*some]))

    def test_a_flag_is_there_or_not(self) -> None:
        self.assertEqual(2, self.held(r"^(?:(?P<odd>)x )?(?P<n>\d+)$", ["odd", "n"], ["x 1", "1"]))

    def test_what_has_no_tables_is_left_to_the_engine(self) -> None:
        for regex in ("a$", "^a|b$", r"^\bx$", "(?m)^a$", "(?i)^\u212a$", "", r"^(?:ab){9000}$"):
            with self.subTest(regex):
                regexes = [Alternative(regex, ())]
                found = regex_at_once.find(pl.Series(["a"]), regexes)  # which shows it at the first text
                self.assertTrue(found is None or found.odd.to_list() == [0])
                self.assertIsNone(regex_at_once.find(pl.Series(["a"]), regexes))

    def test_tables_that_are_full_leave_the_rest_to_the_engine(self) -> None:
        regex = "^(?:a|b)*?(?P<x>a)(?:a|b){14}$"
        chance = random.Random(3)
        texts = ["".join(chance.choices("ab", k=chance.randint(10, 60))) for _ in range(600)]
        column = pl.Series(texts)
        found = regex_at_once.find(column, [Alternative(regex, ("x",))])
        assert found is not None
        self.assertGreater(len(found.odd), 0)
        engine = column.str.extract_groups(regex).struct.unnest()["x"]
        odd = set(found.odd.to_list())
        for row in range(len(texts)):
            if row not in odd:
                self.assertEqual(engine[row], found.groups[0][row], texts[row])

    def test_states_are_numbered_up_to_their_most(self) -> None:
        automaton = Automaton([Alternative("^(?:a|b)*a(?:a|b){14}$", ())])
        chance = random.Random(3)
        waiting = [2]
        while not automaton.is_full:
            state = waiting.pop(chance.randrange(len(waiting)))
            for byte in b"ab":
                automaton.learn(state, byte)
                waiting.append(int(automaton.tables.moves[state, byte] & 0xFFFFFFFF) // 128 or 2)
        self.assertEqual(MOST_STATES, len(automaton._states))

    def test_threads_may_share_tables(self) -> None:
        regex = r"^(?P<a>\w+?)(?:-(?P<b>\d+))?(?P<c>[ .].*)?$"
        chance = random.Random(5)
        texts = ["".join(chance.choices("ab1- .", k=chance.randint(1, 12))) for _ in range(2000)]
        expected = pl.Series(texts).str.extract_groups(regex).struct.unnest().to_dict(as_series=False)
        results: list[dict[str, list[str | None]]] = []

        def work() -> None:
            found = regex_at_once.find(pl.Series(texts), [Alternative(regex, ("a", "b", "c"))])
            assert found is not None
            results.append({name: column.to_list() for name, column in zip("abc", found.groups, strict=True)})

        threads = [threading.Thread(target=work) for _ in range(6)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual([expected] * 6, results)

    def test_an_unsuitable_regex_says_so(self) -> None:
        with self.assertRaises(UnsuitableError):
            Automaton([Alternative("a$", ())])

    def test_a_match_that_may_end_before_its_text_is_left_to_the_engine(self) -> None:
        found = regex_at_once.find(pl.Series(["a", "b", "ab"]), [Alternative("^(?:a|b$)", ())])
        assert found is not None
        self.assertEqual([0, 1, 2], found.odd.to_list())

    def test_of_several_regexes_the_first_that_matches_counts(self) -> None:
        chance = random.Random(23)
        writer = Writer(chance)
        read = 0
        for _ in range(round(300 * float(os.environ.get("KINGLET_EXAMPLES", "0.5")))):
            regexes = []
            for _ in range(chance.randint(2, 5)):
                regex = "^" + chance.choice(["", "", "a", "b ", "a1"]) + writer.regex()[1:]
                regexes.append(Alternative(regex, tuple(f"g{number}" for number in range(1, writer.names + 1))))
            if any(known(regex).keeps_vague for regex, _ in regexes):
                continue
            letters = LETTERS + OTHERS * chance.randint(0, 1)
            texts = ["".join(chance.choices(letters, k=chance.randint(1, 9))) for _ in range(60)]
            column = pl.Series(texts)
            found = regex_at_once.find(column, regexes)
            if found is None:
                continue
            matches = [column.str.contains(regex).to_list() for regex, _ in regexes]
            groups = [column.str.extract_groups(regex).struct.unnest() if names else None for regex, names in regexes]
            for row, number in enumerate(found.regexes.tolist()):
                if number == -2:
                    continue
                first = next((i for i, matched in enumerate(matches) if matched[row]), -1)
                self.assertEqual(first, number, (regexes, texts[row]))
                frame = groups[number]
                if number >= 0 and frame is not None:
                    engine = [frame[name][row] for name in regexes[number].groups]
                    self.assertEqual(engine, [found.groups[i][row] for i in range(len(engine))], (regexes, texts[row]))
                read += 1
        self.assertGreater(read, 3000)

    def test_the_end_may_stand_within(self) -> None:
        self.assertEqual(4, self.held("^(?P<x>a$|b)(?P<y>c?)$", ["x", "y"], ["a", "ac", "b", "bc", ""]))
