"""Values as they were written: quotes and backslashes, pairs of any signs, items of lists, labels, steps in place."""

from __future__ import annotations

import json
import random
import re
import unittest
from pathlib import Path
from typing import Any

import polars as pl
from hypothesis import given
from hypothesis import strategies as st

import kinglet
from kinglet.generating.values import HOSTILE, USUAL
from kinglet.patterns.types import BASES, TYPES
from kinglet.structured.by_form import read
from kinglet.structured.json_objects import item_of
from kinglet.structured.pairs import Pairs
from tests.helpers import ROOT, examples

HEAD = "kinglet: 1\nparser: bench\nversion: 1.0.0\nproduct: {vendor: Marram Ferries, name: Bench}\n"


def parsed(file: str, *lines: str) -> pl.DataFrame:
    return kinglet.load(HEAD + file).parse(list(lines)).events


class OfTypes(unittest.TestCase):
    """The values of a type wherever its text stands."""

    def test_a_key_has_the_values_that_a_slot_reads(self) -> None:
        rng = random.Random(5)
        odd = ["2k", "2G", "5%", "5 %", "abc", "1.2.3", "x", "-", "0x", "1,5", "''", 'a"b"', "1d", "01:30", "::", "a@"]
        odd += ["1_0", "http:", "00:00:5e:00:53", "192.0.2.0/33", "2001:db8::/129", "１２", " 5", "5 ", ""]
        usual = (str(make(rng)) for make in USUAL.values())
        pool = sorted({*odd, *usual, *(text for texts in HOSTILE.values() for text in texts)})
        for name in BASES:
            if TYPES[name].stops is not None and name != "url":
                continue  # words, paths and texts may be anything
            slot = parsed(
                f"events: nul\nvariants: [{{name: a, pattern: '<{{x:{name}}}>'}}]\n", *(f"<{text}>" for text in pool)
            )
            for keys in ("json: true", "regex: '^(?s:.(?P<x>.*).)$'"):
                lines = [json.dumps({"x": text}) if keys == "json: true" else f"<{text}>" for text in pool]
                group = parsed(f"events: nul\nvariants: [{{name: a, {keys}, types: {{x: {name}}}}}]\n", *lines)
                for text, one, other in zip(pool, slot["x"], group["x"], strict=True):
                    if (name, text) not in {("host", "fe80::1%eth0"), ("port", "+5"), ("port", "+7")}:
                        self.assertEqual(one, other, (name, text, keys))

    def test_a_type_of_ones_own_is_both_its_regex_and_its_base(self) -> None:
        own = "types: {near: {regex: '192[.]0[.]2[.][0-9]+', base: ip}}\n"
        own += "variants: [{name: a, json: true, types: {x: near}}]\n"
        events = parsed(own, *(f'{{"x": "{text}"}}' for text in ("192.0.2.7", "192.0.2.999", "198.51.100.7", "y")))
        self.assertEqual(["192.0.2.7", None, None, None], events["x"].to_list())
        other = (
            "types: {load: {regex: '[0-9]+[KMG]', base: size}}\nvariants: [{name: a, json: true, types: {x: load}}]\n"
        )
        self.assertEqual([2000, None], parsed(other, '{"x": "2K"}', '{"x": "2 kB"}')["x"].to_list())

    def test_an_address_ends_where_a_port_begins(self) -> None:
        pattern = "variants: [{name: a, pattern: 'from {a:ip}[[:{p:port}]][[ and {b:ip}: {text:rest}]]'}]\n"
        events = parsed(
            pattern, "from 192.0.2.7:8443", "from 192.0.2.7", "from 2001:db8::7", "from 192.0.2.7:1 and ::1: x"
        )
        self.assertEqual(
            [
                ("192.0.2.7", 8443, None),
                ("192.0.2.7", None, None),
                ("2001:db8::7", None, None),
                ("192.0.2.7", 1, "::1"),
            ],
            events["a", "p", "b"].rows(),
        )
        self.assertEqual({"complete"}, set(events["state"]))


class Quoted(unittest.TestCase):
    @given(st.text("ab\\\"' tn", max_size=10), st.sampled_from("\"'"))
    @examples(48)
    def test_there_and_back(self, text: str, quote: str) -> None:
        """What escapes the quote and backslashes, and nothing else, is undone."""
        written = quote + re.sub(rf"([{quote}\\])", r"\\\1", text) + quote
        events = parsed("variants: [{name: a, pattern: '{q:quoted}'}]\n", written)
        self.assertEqual([text], events["q"].to_list())

    def test_other_backslashes_stay(self) -> None:
        lines = [r'"C:\temp\new"', r"'it\'s \"x\"'", r'"a\\b\"c"', r'"\d+"']
        events = parsed("variants: [{name: a, pattern: '{q:quoted}'}]\n", *lines)
        self.assertEqual([r"C:\temp\new", r"it's \"x\"", r"a\b" + '"c', r"\d+"], events["q"].to_list())


SIGNS = st.sampled_from([" ", "\t", ";", ", ", ",", " | ", "||", "&", "  ", "~~~", ":-"])
WORDS = st.text("ab1.\\/'-_", min_size=1, max_size=5)


class WrittenPairs(unittest.TestCase):
    @given(SIGNS, st.sampled_from(["=", ":", "->", ": "]), st.lists(st.lists(
        st.tuples(st.sampled_from(["k1", "k2", "k3", "k4"]), st.sampled_from(["bare", "quoted"]),
                  st.text("ab1 ,;\\\"|&~", max_size=6)),
        min_size=1, max_size=4, unique_by=lambda item: item[0]), min_size=1, max_size=5))  # fmt: skip
    @examples(72)
    def test_there_and_back(self, between: str, equals: str, rows: list[list[tuple[str, str, str]]]) -> None:
        texts: list[str] = []
        meant: list[dict[str, str | None]] = []
        for row in rows:
            pieces, values = [], dict[str, str | None]()
            for key, how, value in row:
                if how == "bare":  # text without quotes ends where the separator begins, blanks around it are none
                    value = value.strip().replace('"', "")
                    for sign in {between, between.strip() or between, *(" \t" if not between.strip() else "")}:
                        value = value.replace(sign, "")
                    core = between.strip()
                    # a sign of the separator at an end would be read as a part of it
                    value = value.strip(f"{core} \t") if core else value.replace(" ", "")
                    if between in (" ", "\t", "  "):
                        value = re.sub(r"\s", "", value)
                    pieces.append(f"{key}{equals}{value}")
                    values[key] = value or None
                else:
                    pieces.append(f'{key}{equals}"' + re.sub(r'(["\\])', r"\\\1", value) + '"')
                    values[key] = value
            texts.append(between.join(pieces))
            meant.append(values)
        pairs = Pairs(between, equals)
        wanted = ["k1", "k2", "k3"]
        found = read(pl.Series(texts), pairs, wanted)
        self.assertTrue(found.good.all(), texts)
        for i, values in enumerate(meant):
            self.assertEqual([values.get(key) for key in wanted], [found.column(key)[i] for key in wanted], texts[i])
            more = json.loads(found.more[i]) if found.more[i] else {}
            self.assertEqual(values.get("k4"), more.get("k4"), texts[i])

    @given(st.lists(st.lists(st.tuples(WORDS, WORDS), min_size=1, max_size=3), min_size=1, max_size=3))
    @examples(36)
    def test_values_with_blanks(self, rows: list[list[tuple[str, str]]]) -> None:
        """Up to the next key; and with escapes, any sign."""
        rows = [[(a.replace("\\", ""), b.replace("\\", "")) for a, b in row] for row in rows]
        meant = [{f"k{i}": " ".join(words).strip() for i, words in enumerate(row)} for row in rows]
        texts = [" ".join(f"{key}={value}" for key, value in row.items()) for row in meant]
        found = read(pl.Series(texts), Pairs(open_values=True), ["k0", "k1", "k2"])
        for i, row in enumerate(meant):
            self.assertEqual([row.get(f"k{n}") or None for n in range(3)], [found.column(f"k{n}")[i] for n in range(3)])

    @given(st.lists(st.text("ab=\\ \n\t|n", min_size=1, max_size=6), min_size=1, max_size=3))
    @examples(48)
    def test_escapes(self, values: list[str]) -> None:
        def escaped(text: str) -> str:
            for sign, written in (("\\", "\\\\"), ("=", "\\="), (" ", "\\ "), ("|", "\\|")):
                text = text.replace(sign, written)
            return text.replace("\n", "\\n").replace("\t", "\\t")

        text = "|".join(f"k{i}={escaped(value)}" for i, value in enumerate(values))
        keys = [f"k{i}" for i in range(len(values))]
        found = read(pl.Series([text, text]), Pairs("|", escapes=True), keys)
        self.assertEqual([values, values], [[found.column(key)[i] for key in keys] for i in (0, 1)])

    def test_as_a_parser_says_it(self) -> None:
        file = 'variants: [{name: a, pairs: {between: "\\t"}, types: {act: word, text: text}, needs: [act]}]\n'
        events = parsed(file, "act=moor\ttext=at the quay", "just some words", 'text="x"', r"act=C:\\x" + "\ttext=y")
        self.assertEqual(["moor", None, None, r"C:\\x"], events["act"].to_list())
        self.assertEqual(["at the quay", None, None, "y"], events["text"].to_list())
        self.assertEqual(["complete", "unmatched", "unmatched", "complete"], events["state"].to_list())
        file = "variants: [{name: a, pairs: {open_values: true, escapes: true}, types: {msg: text, end: word}}]\n"
        events = parsed(file, r"msg=a\=b is far end=now", "msg=x end=y")
        self.assertEqual([("a=b is far", "now"), ("x", "y")], events.select("msg", "end").rows())
        with self.assertRaisesRegex(kinglet.ParserFileError, "double quotes it is what is meant"):
            kinglet.load(HEAD + "variants: [{name: a, pairs: {between: '\\t'}}]\n")
        with self.assertRaisesRegex(
            kinglet.ParserFileError, r"needs\[0\]: `acr` is no field of this structure; did you"
        ):
            kinglet.load(HEAD + "variants: [{name: a, pairs: true, types: {act: word}, needs: acr}]\n")


ITEMS = st.recursive(
    st.one_of(st.none(), st.booleans(), st.integers(-9, 9), st.text('a"\\é{[', max_size=3)),
    lambda inner: st.one_of(
        st.lists(inner, max_size=3), st.dictionaries(st.sampled_from(["a", "b"]), inner, max_size=2)
    ),
    max_leaves=8,
)


class ItemsOfLists(unittest.TestCase):
    @given(st.lists(ITEMS, max_size=4), st.lists(st.one_of(st.integers(-3, 3), st.sampled_from("ab")), max_size=3))
    @examples(72)
    def test_against_the_standard_library(self, items: list[Any], path: list[int | str]) -> None:
        path = [step for step in [1, *path] if step != 0]
        here: Any = items
        for step in path:
            if isinstance(step, int):
                places = range(-len(here), 0) if isinstance(here, list) else ()
                there = isinstance(here, list) and (step in places or 1 <= step <= len(here))
                here = here[step - (step > 0)] if there else None
            else:
                here = here.get(step) if isinstance(here, dict) else None
        written = "".join(f"[{step}]" if isinstance(step, int) else f".{step}" for step in path)
        found = item_of(json.dumps(items, ensure_ascii=False), written)
        if isinstance(here, dict) and path[-1] in ("a", "b"):  # what lies within an object has keys of its own
            self.assertIsNone(found)
        elif isinstance(here, str) or here is None:
            self.assertEqual(here, found)
        else:
            assert found is not None
            self.assertEqual(here, json.loads(found))

    def test_as_a_parser_says_it(self) -> None:
        file = (
            "variants: [{name: a, json: true, keys: {h: 'files[1].sha256', last: 'files[-1].n', all: 'files[].n', "
            "tag: 'tags[2]'}, types: {last: int, h: text}}]\n"
        )
        lines = ['{"files": [{"sha256": "ab", "n": 1}, {"n": 2}], "tags": ["x", "y"]}', '{"files": [], "tags": "z"}']
        events = parsed(file, *lines)
        self.assertEqual(
            [("ab", 2, "[1,2]", "y"), (None, None, "[]", None)], events.select("h", "last", "all", "tag").rows()
        )
        self.assertEqual([json.loads(line) for line in lines], [json.loads(more) for more in events["more"]])


class Blocks(unittest.TestCase):
    def test_labels_that_are_listed(self) -> None:
        file = "events: blank-line\nvariants: [{name: a, block: {labels: [Operator, Remark, Tension 2]}, types: %s}]\n"
        types = "{operator: word, remark: text, tension_2: num}"
        text = "Operator: m.okoro\nRemark: slack\n  seen: twice\n  at 10: the winch\nTension 2: 4.5\n\nOperator: b\n"
        events = kinglet.load(HEAD + file % types).parse(text).events
        self.assertEqual([("m.okoro", "slack\nseen: twice\nat 10: the winch", 4.5), ("b", None, None)],
                         events.select("operator", "remark", "tension_2").rows())  # fmt: skip

    def test_other_signs_need_no_blank(self) -> None:
        file = 'events: blank-line\nvariants: [{name: a, block: {equals: "="}, types: {unit: word, load: num}}]\n'
        events = kinglet.load(HEAD + file).parse("unit=C-2\nload= 4.5\n\nunit = C-3\nload=7\n").events
        self.assertEqual([("C-2", 4.5), ("C-3", 7.0)], events.select("unit", "load").rows())


class InPlace(unittest.TestCase):
    VARIANTS = "variants: [{name: a, pattern: '> {t:rest}'}]\nsteps: [{parse: {field: t, pattern: 'n={n:%s}'}}]\n"
    PARSERS = (
        kinglet.load(HEAD + VARIANTS % "int"),
        kinglet.load(HEAD + "types: {few: {regex: '[0-9a-z]+', base: int}}\n" + VARIANTS % "few"),
    )

    @given(st.lists(st.sampled_from(["n=1", "n=x", "m", ""]), min_size=1, max_size=8))
    @examples(40)
    def test_a_bad_value_is_that_of_its_event(self, texts: list[str]) -> None:
        """The step parse over many events gives each what it gives it alone."""
        lines = [f"> {text}" for text in texts]
        for parser in self.PARSERS:
            together = parser.parse(lines).events.select("state", "faults", "n").rows()
            alone = [row for line in lines for row in parser.parse([line]).events.select("state", "faults", "n").rows()]
            self.assertEqual(alone, together)

    def test_no_column_is_changed_for_all_who_hold_it(self) -> None:
        """The engine's own call that does so stands in one place, which works on a copy."""
        found = [
            path.name for path in Path(ROOT / "src").rglob("*.py") if ".scatter(" in path.read_text(encoding="utf-8")
        ]
        self.assertEqual(["put.py"], found)
