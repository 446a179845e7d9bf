"""Parts, words, flags, the text beside a value, and the message: what patterns share, and what of it events keep."""

from __future__ import annotations

import re
import unittest

from hypothesis import given
from hypothesis import strategies as st

import kinglet
from kinglet.patterns.grammar import parse
from tests.helpers import InFolder, examples
from tests.helpers import kinglet as command

HEAD = "kinglet: 1\nparser: gates\nversion: 1.0.0\nproduct: {vendor: Quayline, name: Gates}\n"
PIECES = (
    "gate ", "{a:int}", " ", "[[ {b:word}]]", "{c:in|out}", ": ", "{d:text}", "[", "[[x[[ y]]]]", "  {e:ip} ", "-",
)  # fmt: skip
ODD = st.text("ab|{}: ", min_size=1, max_size=4).map(str.strip).filter(bool)
WORDS = st.lists(ODD, min_size=2, max_size=4, unique=True)
PATTERNS = {"gate {n:int}": r"gate \d+", "gate {w:word}": r"gate \w+", "{r:rest}": ".*"}
KINDS = st.lists(st.tuples(st.sampled_from([None, 1, 2]), st.sampled_from([*PATTERNS])), min_size=1, max_size=14)
LINES = st.lists(st.tuples(st.integers(1, 3), st.sampled_from(["gate 7", "gate x", "z"])))


def written(pieces: list[str]) -> str:
    """A pattern of pieces, in which no slot stands twice."""
    found = ""
    for i, piece in enumerate(pieces):
        found += re.sub(r"\{(\w):", lambda match, i=i: f"{{{match[1]}{i}:", piece)  # type: ignore[misc]
    return found


def with_parts(pattern: str, parts: str = "") -> str:
    return HEAD + parts + "variants: [{name: any, pattern: '" + pattern + "'}]\n"


class Parts(InFolder):
    @given(st.lists(st.sampled_from(PIECES), min_size=2, max_size=8), st.data())
    @examples(60)
    def test_a_pattern_with_parts_is_what_it_would_be_without_them(
        self, pieces: list[str], data: st.DataObject
    ) -> None:
        first = data.draw(st.integers(0, len(pieces) - 1))
        last = data.draw(st.integers(first, len(pieces)))
        inner = data.draw(st.integers(first, last))
        texts = [written(["."] * at + pieces[at:end])[at:] for at, end in ((first, inner), (inner, last), (last, None))]
        before = written(pieces[:first])
        parts = f"parts:\n  a: '{texts[0]}'\n  b: '{{@a}}{texts[1]}'\n"
        apart = with_parts(f"{before}{{@b}}{texts[2]}", parts)
        try:
            whole = kinglet.load(with_parts(before + "".join(texts)))
            split = kinglet.load(apart)
        except kinglet.ParserFileError:  # a piece that makes no pattern by itself, such as `[` before `[[`
            return
        if "[[[" not in before + "".join(texts):  # three brackets in a row are read from the left
            one, other = (parser._plan.variants[0].reading for parser in (whole, split))
            self.assertEqual((one.regexes, one.fields), (other.regexes, other.fields))

    def test_what_is_wrong_is_said_with_its_place(self) -> None:
        for parts, pattern, said in (
            ("parts: {a: '{x:int'}\n", "{@a} b", "parts.a: `{` is not closed"),
            ("parts: {a: '{x:wrod}'}\n", "{@a} b", "parts.a: no such type `wrod`; did you mean `word`?"),
            ("parts: {gate: '{x:int}'}\n", "{@gte}", "variants[0].pattern: no such part `gte`; did you mean `gate`?"),
            ("", "{@a}", "no such part `a`; `parts` names none"),
            ("parts: {a: '{@a}'}\n", "{@a}", "the part `a` is not known yet here; a part refers to parts above it"),
            ("parts: {a: '{@b}', b: x}\n", "{@a}", "the part `b` is not known yet here"),
            ("parts: {a b: x}\n", "y", "parts.a b: `a b` is no name of a part"),
            ("parts: {a: '{x:int}'}\n", "{@a} {@a}", "the slot `x` stands here twice"),
            ("parts: {a: '{x:rest}'}\n", "{@a} b", "`{x:rest}` reads to the end, but something follows it"),
            ("parts: {a: '" + "{:int}" * 300 + "'}\n", "{@a}{@a}", "more than 500 slots"),
        ):
            with self.subTest(pattern=pattern, parts=parts[:40]):
                with self.assertRaises(kinglet.ParserFileError) as caught:
                    kinglet.load(with_parts(pattern, parts))
                self.assertIn(said, str(caught.exception))
                self.assertEqual(1, len(caught.exception.problems), str(caught.exception))

    def test_explain_shows_them_and_what_becomes_of_them(self) -> None:
        self.write("p.yaml", with_parts("gate {@n}", "parts: {n: '{n:int}'}\n"))
        shown = command("explain", "p.yaml")
        self.assertEqual(0, shown.status, shown.err)
        self.assertIn("{n:int}", shown.out)
        self.assertEqual({"n": "{n:int}"}, command("explain", "p.yaml", "--json").json()["parts"])


class Words(unittest.TestCase):
    @given(WORDS, st.text("ab|{}: ", max_size=5))
    @examples(80)
    def test_the_text_is_one_of_them(self, words: list[str], text: str) -> None:
        slot = "{w:" + "|".join(f'"{word}"' for word in words) + "}"
        event = kinglet.load(with_parts(f"<{slot}>")).parse([f"<{text}>"]).events.row(0, named=True)
        known = {re.sub(" +", " ", word) for word in words}
        self.assertEqual(re.sub(" +", " ", text) in known, event["state"] == "complete", (slot, text))
        if event["state"] == "complete":
            self.assertEqual(text, event["w"])

    def test_of_words_of_which_one_begins_another_the_longer_counts(self) -> None:
        parser = kinglet.load(with_parts("{w:a|ab|abc}{r:rest}"))
        self.assertEqual(["abc", "ab", "a"], parser.parse(["abcd", "abd", "a"]).events["w"].to_list())

    def test_what_is_no_word(self) -> None:
        for slot, said in {
            "{d:in|}": "has a word that is none", "{d:in|in|int}": "`int` is a type, and here a word",
            "{d:a|b+text}": "is text already", "{d:word+text}": "is text already", "{:int+text}": "give it a name",
        }.items():  # fmt: skip
            with self.subTest(slot=slot), self.assertRaisesRegex(kinglet.ParserFileError, re.escape(said)):
                kinglet.load(with_parts(f"x {slot}"))
        self.assertEqual("int", kinglet.load(with_parts('x {d:"int"|b}')).parse(["x int"]).events["d"][0])
        self.assertEqual(('"in"', "b"), parse('{d: "in" | b }')[0].words)  # type: ignore[union-attr]


class Flags(unittest.TestCase):
    @given(st.lists(st.tuples(st.booleans(), st.booleans(), st.booleans()), min_size=1, max_size=6))
    @examples(40)
    def test_true_where_its_part_is_there_and_false_where_it_is_not(self, rows: list[tuple[bool, ...]]) -> None:
        text = HEAD + (
            "variants:\n  - {name: gate, pattern: 'gate {n:int}[[ {late:flag}late[[{very:flag}, very]]]]'}\n"
            "  - {name: other, pattern: 'other {m:rest}'}\n"
        )
        lines = [
            ("gate 1" + " late" * late + ", very" * (late and very)) if gate else "other x" for gate, late, very in rows
        ]
        events = kinglet.load(text).parse(lines).events
        expected = [(late if gate else None, (late and very) if gate else None) for gate, late, very in rows]
        self.assertEqual(expected, events.select("late", "very").rows())

    def test_a_group_of_a_regex_may_be_one(self) -> None:
        text = HEAD + "variants: [{name: a, regex: '^x(?P<more> more)?$', types: {more: flag}}]\n"
        self.assertEqual([True, False], kinglet.load(text).parse(["x more", "x"]).events["more"].to_list())

    def test_where_none_can_stand(self) -> None:
        for text, said in (
            (with_parts("x {f:flag}"), "`{f:flag}` stands in no optional part"),
            (with_parts("x[[{:flag} y]]"), "a flag without a name"),
            (HEAD + "variants: [{name: a, json: true, types: {f: flag}}]\n", "no such type `flag`"),
        ):
            with self.assertRaisesRegex(kinglet.ParserFileError, re.escape(said)):
                kinglet.load(text)
        part = with_parts("x[[ {@late}]]", "parts: {late: '{late:flag}late'}\n")
        self.assertEqual([True, False], kinglet.load(part).parse(["x late", "x"]).events["late"].to_list())


class Message(unittest.TestCase):
    FILE = HEAD + (
        "time: {from: stamp}\nenvelope: '{stamp:time} {body:text}[[ (shift {shift:int})]]'\n"
        "variants:\n  - {name: gate, pattern: 'gate {n:int}{m:rest}'}\n  - {name: own, pattern: 'own {x:word}'}\n"
    )

    @given(st.lists(st.tuples(st.sampled_from(["gate 7 up", "gate 8", "own x", "?", "gate 7 (shift x)"]),
                              st.sampled_from(["", " (shift 2)"])), min_size=1, max_size=8))  # fmt: skip
    @examples(40)
    def test_an_envelope_may_go_on_behind_it(self, rows: list[tuple[str, str]]) -> None:
        lines = [f"2026-11-20T08:00:00Z {text}{tail}" for text, tail in rows]
        for more in ("", "steps: [{set: {copy: body}}]\n"):
            events = kinglet.load(self.FILE + more).parse(lines).events
            self.assertEqual([2 if tail else None for _, tail in rows], events["shift"].to_list())
            kept = [text if more or text == "?" else None for text, _ in rows]
            self.assertEqual(kept, events["body"].to_list())
            if more:
                self.assertEqual([text for text, _ in rows], events["copy"].to_list())

    def test_a_variant_that_reads_another_slot_leaves_it_a_field(self) -> None:
        text = HEAD + "envelope: '{a:word} {body:rest}'\nvariants: [{name: x, from: a, pattern: 'k={n:int}'}]\n"
        event = kinglet.load(text).parse(["k=7 left alone"]).events.row(0, named=True)
        self.assertEqual(("complete", 7, "left alone"), (event["state"], event["n"], event["body"]))

    def test_it_is_kept_for_the_variants_whose_mapping_names_it(self) -> None:
        mapping = "{class: Base Event, set: {message: body}}"
        line = "2026-11-20T08:00:00Z gate 7 up"
        shared = kinglet.load(self.FILE + f"event: {mapping}\n").parse([line, "2026-11-20T08:00:00Z own x"])
        self.assertEqual(["gate 7 up", "own x"], [event["message"] for event in shared.to_model()])
        one = kinglet.load(self.FILE.replace("{m:rest}'", "{m:rest}', event: " + mapping)).parse(
            [line, line[:21] + "own x"]
        )
        self.assertEqual(["gate 7 up", None], one.events["body"].to_list())
        self.assertNotIn("body", next(one.to_model())["unmapped"])
        quoted = mapping.replace("body", "{text: body}")
        found = kinglet.load(self.FILE + f"event: {quoted}\n").parse([line])
        self.assertEqual(("body", None), (next(found.to_model())["message"], found.events["body"][0]))


class Heads(unittest.TestCase):
    FILE = HEAD + (
        "time: {from: stamp, format: [iso8601, rfc3164]}\n"
        "envelope: {syslog: any, app: [gated, gated.2], types: {pid: int}}\n"
        "variants: [{name: a, pattern: 'gate {n:int}'}]\n"
    )

    def test_only_the_messages_of_some_applications(self) -> None:
        for line, app in {
            "Mar  3 22:10:41 q gated[77]: gate 1": "gated",
            "Mar  3 22:10:41 q gated.2[77]: gate 1": "gated.2",
            "<34>1 2026-03-03T22:10:41Z q gated 77 - - gate 1": "gated",
            "<34>1 2026-03-03T22:10:41Z q - 77 - - gate 1": None,
            "<34>1 2026-03-03T22:10:41Z q gated3 77 - - gate 1": None,
            "Mar  3 22:10:41 q gatedx2[77]: gate 1": None,
            "Mar  3 22:10:41 q gate 1": None,
        }.items():
            event = kinglet.load(self.FILE).parse([line], reference_time="2026-03-05").events.row(0, named=True)
            found = (event["state"], event["app"], event["pid"])
            self.assertEqual(("complete", app, 77) if app else ("unmatched", None, None), found, line)

    def test_the_process_has_a_number(self) -> None:
        event = kinglet.load(self.FILE).parse(["Mar  3 22:10:41 q gated[x]: gate 1"]).events.row(0, named=True)
        self.assertEqual((["bad-value:pid"], "gated", 1), (event["faults"], event["app"], event["n"]))
        for wrong, said in (
            ("{pattern: '{a:word} {body:rest}', app: gated}", "has `app`, which goes with `syslog`"),
            ("{syslog: any, types: {pid: itn}}", "no such type `itn`; did you mean `int`?"),
        ):
            with self.assertRaisesRegex(kinglet.ParserFileError, re.escape(said)):
                kinglet.load(re.sub("envelope: .*", "envelope: " + wrong, self.FILE))


class Order(unittest.TestCase):
    @given(KINDS, LINES)
    @examples(60)
    def test_variants_are_tried_in_the_order_of_the_file(
        self, variants: list[tuple[int | None, str]], events: list[tuple[int, str]]
    ) -> None:
        text = HEAD + "envelope: '{code:int} {body:rest}'\nkind: code\nvariants:\n"
        for i, (kind, pattern) in enumerate(variants):
            text += f"  - {{name: v{i}, pattern: '{pattern}'" + (f", kind: {kind}" if kind else "") + "}\n"
        expected = [
            next((f"v{i}" for i, (kind, pattern) in enumerate(variants)
                  if kind in (None, code) and re.fullmatch(PATTERNS[pattern], line)), None)
            for code, line in events
        ]  # fmt: skip
        parsed = kinglet.load(text).parse([f"{code} {line}" for code, line in events]).events
        self.assertEqual(expected, parsed["variant"].to_list())


if __name__ == "__main__":
    unittest.main()
