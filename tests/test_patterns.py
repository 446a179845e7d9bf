"""Patterns, slot types and regexes."""

from __future__ import annotations

import doctest
import re
import unittest
from pathlib import Path
from typing import Any
from unittest import mock

import polars as pl
from hypothesis import given
from hypothesis import strategies as st

import kinglet
from kinglet.insight.spans import spans
from kinglet.patterns import compiling
from kinglet.patterns import grammar as slots
from kinglet.patterns import literal_prefix as openings
from kinglet.patterns.compiling import escape, to_regexes
from kinglet.patterns.grammar import PatternError, parse
from kinglet.patterns.types import FLAG, TYPES, own_type
from kinglet.regex import atoms
from kinglet.regex import first_characters as beginnings
from kinglet.regex.atoms import matching_prefix
from kinglet.regex.dialect import RegexError, check_regex
from kinglet.regex.for_python import for_python
from kinglet.regex.literals import known
from tests.helpers import PUMP, PUMP_LOG, examples, with_pattern


def read(pattern: str, *lines: str) -> list[dict[str, Any] | None]:
    """The fields of each line, None where the pattern does not match."""
    result = kinglet.load(with_pattern(pattern)).parse(list(lines))
    names = list(result.parser.fields)
    return [
        {name: row[name] for name in names} if row["variant"] else None for row in result.events.iter_rows(named=True)
    ]


MATCHES: list[tuple[str, str, dict[str, Any] | None]] = [
    ("pump {n:int} {verb}", "pump 3 started", {"n": 3, "verb": "started"}),
    ("pump {n:int} {verb}", "pump \t 3   started", {"n": 3, "verb": "started"}),
    ("pump {n:int} {verb}", "pump 3 started  ", {"n": 3, "verb": "started"}),
    ("pump {n:int} {verb}", "pump 3", None),
    ("pump {n:int}", "a pump 3", None),
    ("pump {n:int}", "pump 3 x", None),
    ("{n:int}", "-42", {"n": -42}),
    ("{n:int}", "+7", {"n": 7}),
    ("a[[ b]] {c:word}", "a c", {"c": "c"}),
    ("a[[ b]] {c:word}", "a b c", {"c": "c"}),
    ("x[[ {a:int}[[/{b:int}]]]] end", "x end", {"a": None, "b": None}),
    ("x[[ {a:int}[[/{b:int}]]]] end", "x 1 end", {"a": 1, "b": None}),
    ("x[[ {a:int}[[/{b:int}]]]] end", "x 1/2 end", {"a": 1, "b": 2}),
    ("{p:word}[[[{pid:int}]]]: {m:rest}", "sshd[12]: hi  there ", {"p": "sshd", "pid": 12, "m": "hi  there "}),
    ("{p:word}[[[{pid:int}]]]: {m:rest}", "cron: x", {"p": "cron", "pid": None, "m": "x"}),
    ("{a:text}: {b:rest}", "one: two: three", {"a": "one", "b": "two: three"}),
    ("{a:word}:{b:word}", "x:y:z", {"a": "x", "b": "y:z"}),
    ("{a:word}: {b:word}", "x:y: z", {"a": "x:y", "b": "z"}),
    ('"{a:text}" {n:int}', '"he said "no"" 4', {"a": 'he said "no"', "n": 4}),
    ('"{a:text}"', '""', {"a": ""}),
    ("{{{n:int}}}", "{5}", {"n": 5}),
    ('{"[[ "}{n:int}', "[[ 5", {"n": 5}),
    ("a.b*{n:int}", "a.b*5", {"n": 5}),
    ("a.b*{n:int}", "axbb5", None),
    ("{:word} {b:word}", "skip keep", {"b": "keep"}),
    ("{a:text}", "two\nlines", {"a": "two\nlines"}),
    ("{a:word} {b:rest}", "x first\n  second", {"a": "x", "b": "first\n  second"}),
    ("no slots at all", "no slots at all", {}),
    ("no slots at all", "no slots", None),
    ("übung {w:word}", "übung größe", {"w": "größe"}),
    ("{a:word}{b:int}", "ab12", {"a": "ab1", "b": 2}),
    ("x {r:rest}", "x ", {"r": ""}),
]

TYPED: list[tuple[str, str, Any]] = [
    # type, text, and the value that it becomes; a fault where there is none
    ("num", "85.5", 85.5),
    ("num", "-.5e3", -500.0),
    ("num", "1e999", None),
    ("int", "99999999999999999999", None),
    ("hex", "0x1F", 31),
    ("hex", "ff", 255),
    ("duration", "90s", 90.0),
    ("duration", "1h5m", 3900.0),
    ("duration", "250 ms", 0.25),
    ("duration", "1.5 hours", 5400.0),
    ("duration", "2 days, 01:00:00", 176400.0),
    ("duration", "01:30", 90.0),
    ("duration", "00:01:30.5", 90.5),
    ("duration", "-3,5 s", -3.5),
    ("duration", "3 min 20 sec", 200.0),
    ("duration", "12µs", 12e-6),
    ("duration", "PT1M30S", 90.0),
    ("duration", "P1DT0.5H", 88200.0),
    ("duration", "P1W", 604800.0),
    ("duration", "P1M", None),
    ("duration", "P", "no match"),
    ("duration", "5s 3h", None),
    ("duration", "90", "no match"),
    ("size", "185.8 MiB", 194825421),
    ("size", "2 GB", 2_000_000_000),
    ("size", "1kB", 1000),
    ("size", "9223372036854775807 bytes", 9223372036854775807),
    ("size", "9223372036854775808 bytes", None),
    ("size", "16 EiB", None),
    ("size", "1,5 KiB", 1536),
    ("size", "12", "no match"),
    ("size", "12 M", "no match"),
    ("count", "12.5k", 12500),
    ("count", "3M", 3_000_000),
    ("count", "17", 17),
    ("percent", "45.5 %", 45.5),
    ("percent", "7%", 7.0),
    ("percent", "7", "no match"),
    ("network", "192.0.2.0/24", "192.0.2.0/24"),
    ("network", "2001:db8::/32", "2001:db8::/32"),
    ("network", "192.0.2.0/33", None),
    ("network", "2001:db8::/129", None),
    ("network", "192.0.2.0", "no match"),
    ("bool", "Yes", True),
    ("bool", "off", False),
    ("bool", "oui", None),
    ("bool", "?", "no match"),
    ("quoted", '"a \\"b\\" c"', 'a "b" c'),
    ("quoted", "'x'", "x"),
    ("quoted", "bare", "no match"),
    ("ip", "192.0.2.14", "192.0.2.14"),
    ("ip", "999.0.2.14", None),
    ("ip", "192.0.2", None),
    ("ip", "2001:db8::14", "2001:db8::14"),
    ("ip", "::", "::"),
    ("ip", "::ffff:192.0.2.1", "::ffff:192.0.2.1"),
    ("ip", "fe80::1%eth0", "fe80::1%eth0"),
    ("ip", "2001:db8::1::2", None),
    ("ip", "1:2:3:4:5:6:7:8", "1:2:3:4:5:6:7:8"),
    ("ip", "1:2:3:4:5:6:7:8:9", None),
    ("ip", "1:2:3:4:5:6:7::", "1:2:3:4:5:6:7::"),
    ("ipv4", "198.51.100.390", None),
    ("ipv6", "2001:db8:0:0:0:0:2:1", "2001:db8:0:0:0:0:2:1"),
    ("ipv6", "192.0.2.1", None),
    ("port", "65535", 65535),
    ("port", "65536", None),
    ("mac", "00:00:5e:00:53:0a", "00:00:5e:00:53:0a"),
    ("mac", "0000.5e00.530a", "0000.5e00.530a"),
    ("mac", "00:00:5e", "no match"),
    ("host", "quay-2.sandwick.example", "quay-2.sandwick.example"),
    ("host", "_tide.quay.example.", "_tide.quay.example."),
    ("host", "2001:db8::14", "2001:db8::14"),
    ("host", "quay..example", None),
    ("host", "-quay.example", None),
    ("host", f"{'q' * 64}.example", None),
    ("host", "quay-2:8443", None),
    ("url", "https://tide.marram.example/now?x=1", "https://tide.marram.example/now?x=1"),
    ("url", "tide.marram.example", None),
    ("email", "quay@marram.example", "quay@marram.example"),
    ("email", "quay", "no match"),
    ("email", "quay@marram..example", None),
    ("uuid", "0f1c2d3e-0000-4000-8000-00000000002a", "0f1c2d3e-0000-4000-8000-00000000002a"),
    ("path", "/srv/manifests/7.json", "/srv/manifests/7.json"),
    ("time", "2026-03-03T22:10:41Z", "2026-03-03 22:10:41+00:00"),
    ("time", "2026-02-30T22:10:41Z", None),
]


class Patterns(unittest.TestCase):
    def test_what_patterns_match_and_what_they_give(self) -> None:
        for pattern, line, fields in MATCHES:
            with self.subTest(pattern=pattern, line=line):
                self.assertEqual([fields], read(pattern, line))

    def test_values_of_each_type_are_converted_and_validated(self) -> None:
        for kind, text, value in TYPED:
            with self.subTest(kind=kind, text=text):
                result = kinglet.load(with_pattern(f"x {{v:{kind}}} y")).parse([f"x {text} y"])
                event = result.events.row(0, named=True)
                if value == "no match":
                    self.assertEqual(("unmatched", ["no-match"]), (event["state"], event["faults"]))
                elif value is None:
                    self.assertEqual(("partial", ["bad-value:v"]), (event["state"], event["faults"]))
                else:
                    self.assertEqual("complete", event["state"])
                    self.assertEqual(str(value), str(event["v"]))

    def test_the_example_of_every_type_is_good(self) -> None:
        for kind in TYPES.values():
            with self.subTest(kind=kind.name):
                slot = "[[{v:flag}]]" if kind.name == FLAG else f"{{v:{kind.name}}}"
                result = kinglet.load(with_pattern(f"x {slot}")).parse([f"x {kind.example}"])
                self.assertEqual(1, result.counts["complete"])

    def test_the_documents_show_the_regex_of_every_type(self) -> None:
        page = (Path(__file__).parent.parent / "docs" / "parser-file.md").read_text(encoding="utf-8")
        section = page.split("### The regex of each type\n")[1].split("\n#")[0]
        shown = dict(re.findall(r"^\| `(\w+)` \| `` ?(.+?) ?`` \|", section, re.MULTILINE))
        for kind in TYPES.values():
            written = shown.get(kind.name, "").replace("\\|", "|")
            open_ = f"[^{kind.stops}]+" if kind.stops else ".*?"
            self.assertEqual(kind.shape or {"time": "", "flag": ""}.get(kind.name, open_), written, kind.name)

    def test_a_long_reading_is_tried_where_the_short_one_fails(self) -> None:
        lines = ['"plain" 1', '"with "quotes" inside" 2', '"" 3']
        found = read('"{a:text}" {n:int}', *lines)
        self.assertEqual(["plain", 'with "quotes" inside', ""], [item and item["a"] for item in found])

    def test_the_long_reading_of_what_keeps_nothing(self) -> None:
        self.assertEqual([{}, {}, None], read('"{:text}" {:int}', '"he said "no"" 4', '"k" 3', '"k" x'))

    def test_errors_point_at_the_character(self) -> None:
        for pattern, offset in {
            "a {b": 2,
            "a } b": 2,
            "{a:int:b}": 0,
            "{}": 0,
            "a [[b": 2,
            "a [[[[b]]]]": 2,
            "a[[]]": 1,
            "{1a:int}": 0,
        }.items():
            with self.subTest(pattern=pattern), self.assertRaises(PatternError) as caught:
                parse(pattern)
            self.assertEqual(offset, caught.exception.offset)

    def test_docstrings_tell_the_truth(self) -> None:
        for module in (slots, atoms, beginnings, openings):
            found = doctest.testmod(module)
            self.assertEqual((0, True), (found.failed, found.attempted > 0))

    @given(st.text(alphabet=st.characters(codec="utf-8", exclude_characters="\r\n \t{}[]"), min_size=1))
    @examples(40)
    def test_any_literal_text_matches_itself_in_both_engines(self, text: str) -> None:
        (regex,) = to_regexes(parse(text), {})
        self.assertIsNotNone(re.search(regex, text))
        self.assertTrue(pl.Series([text]).str.contains(regex).item())
        self.assertIsNone(re.search(f"^{escape(text)}$", text + "x"))

    @given(st.lists(st.sampled_from(["ab", "x:y", "7", "-", "a.b", ""]), min_size=3, max_size=3))
    @examples(40)
    def test_the_shown_spans_are_the_extracted_values(self, parts: list[str]) -> None:
        parser = kinglet.load(with_pattern("{a:text}: [[{b:word} ]]({c:text})"))
        raw = f"{parts[0]}: {parts[1]} ({parts[2]})"
        event = parser.parse([raw]).events.row(0, named=True)
        shown = {span.field: raw[span.start : span.end] for span in spans(parser._plan, raw, event["variant"])}
        self.assertEqual({key: event[key] for key in "abc" if event[key] is not None}, shown)


OPTIONS = (
    "{a:word}", "{b:int}", " to ", "[[ from {c:ip}]]", "[[ x]]", "[[ at {d:text}[[ in {e:num}s]]]]", " - ", "[[ ]]",
    "[[{f} ]]", " {g:text}", "[[ by {h:quoted}]]", " end",
)  # fmt: skip
SAID = ("k", "7", "to", "from", "192.0.2.1", "x", "at", "in", "2.5s", "-", "by", '"m n"', "end")


class Gaps(unittest.TestCase):
    """Optional parts that begin with blanks, read without a choice."""

    def test_the_blanks_of_an_optional_part_stand_before_it(self) -> None:
        quick = to_regexes(parse("by {u}[[ from {n:int}]] at {p}"), {})[0]
        self.assertIn(r"[ \t]+(?:from[ \t]+(?P<n>[+-]?[0-9]+)[ \t]+)?at", quick)
        quick = to_regexes(parse("by {u}[[ from {n:int}]]"), {})[0]
        self.assertTrue(quick.endswith(r"(?:[ \t]+(?:from[ \t]+(?P<n>[+-]?[0-9]+)[ \t]*)?)?$"), quick)
        unsure = "by {u}[[ from {n:int}]] {p}"
        with mock.patch.object(compiling, "without_choices", lambda tokens, begins: tokens):
            as_written = to_regexes(parse(unsure), {})
        self.assertEqual(as_written, to_regexes(parse(unsure), {}), "what follows could begin like the optional part")

    @given(
        st.lists(st.sampled_from(OPTIONS), min_size=1, max_size=5, unique=True),
        st.lists(st.tuples(st.sampled_from(SAID), st.sampled_from(["", " ", "  ", "\t"])), max_size=9),
    )
    @examples(360)
    def test_a_pattern_means_what_is_written(self, pieces: list[str], words: list[tuple[str, str]]) -> None:
        tokens = parse("".join(pieces))
        text = "".join(word + blank for word, blank in words)
        with mock.patch.object(compiling, "without_choices", lambda tokens, begins: tokens):
            as_written = to_regexes(tokens, {})
        found = [
            next((match.groupdict() for match in (re.search(regex, text) for regex in regexes) if match), None)
            for regexes in (as_written, to_regexes(tokens, {}))
        ]
        self.assertEqual(found[0], found[1], (pieces, text))


class Openings(unittest.TestCase):
    def test_what_begins_so_and_goes_on_so_is_the_match_of_the_pattern(self) -> None:
        for text in ("{a:word} pump", "pump started", " {n:int}", "[[pump ]]{n:int}"):
            self.assertIsNone(openings.literal_prefix_of(parse(text), {}), text)
        for pattern, begins in {
            "tank{n:int}": "tank",
            "a  b: {x:text}, {y:rest}": "a b:",
            "a {b:word}[[ c]]": "a",
        }.items():
            found = openings.literal_prefix_of(parse(pattern), {})
            assert found is not None
            self.assertEqual(begins, found.text)
            for tail in ("7", " k, l, m", " k", "k", "  k  c ", ", ", ""):
                text = begins + tail
                quick = re.search(to_regexes(parse(pattern), {})[0], text)
                behind = re.search(found.regex, tail)
                self.assertEqual(quick and quick.groupdict(), behind and behind.groupdict(), (pattern, text))


class OwnTypes(unittest.TestCase):
    TYPES_OF = "types:\n  tank: {regex: 'T[0-9]+', about: a tank}\n  grade: {regex: '[0-9]{1,3}', base: int}\n"

    def parse(self, pattern: str, *lines: str) -> list[Any]:
        events = kinglet.load(with_pattern(pattern) + self.TYPES_OF).parse(list(lines)).events
        return [(row["state"], *(row[name] for name in ("a", "b"))) for row in events.iter_rows(named=True)]

    def test_they_read_their_regex_and_become_what_their_base_does(self) -> None:
        self.assertEqual(
            [("complete", "T12", 100), ("unmatched", None, None), ("complete", "T1", None)],
            self.parse("{a:tank}[[={b:grade}%]]", "T12=100%", "X1=7%", "T1"),
        )

    def test_what_it_is_comes_from_the_file_or_from_its_regex(self) -> None:
        self.assertEqual("a tank", own_type("tank", "T[0-9]+", "text", "a tank").about)
        self.assertEqual("of the type tank: `T[0-9]+`", own_type("tank", "T[0-9]+", "text", "").about)

    def test_a_group_of_a_regex_may_have_one(self) -> None:
        text = with_pattern("x").replace("pattern: 'x'", r"regex: '^(?P<a>\S+)=(?P<b>\S+)$'") + self.TYPES_OF
        text = text.replace("variants:", "variants:").replace("$'\n", "$'\n    types: {a: tank, b: grade}\n", 1)
        events = kinglet.load(text).parse(["T1=5", "U1=5", "T1=5000"]).events
        self.assertEqual([[], ["bad-value:a"], ["bad-value:b"]], events["faults"].to_list())

    def test_what_is_wrong_with_one_is_said_with_its_place(self) -> None:
        for own, said in {
            "ip: {regex: x}": "there is a type `ip` already",
            "a-b: {regex: x}": "`a-b` is no name of a type",
            "a: {regex: x, base: itn}": "no type to build on: `itn`; did you mean `int`?",
            "a: {regex: '(?P<n>x)'}": "has a named group; the slot names the field; write `\\(\\?:`",
            "a: {regex: '^x'}": "is anchored",
            r"a: {regex: 'x\\$'}": "is anchored",
            "a: {regex: '(x'}": "does not compile",
            "a: {regex: x, bse: int}": "unknown key `bse`|bse",
        }.items():
            with self.subTest(own=own), self.assertRaisesRegex(kinglet.ParserFileError, said):
                kinglet.load(with_pattern("{m:rest}") + f"types:\n  {own}\n")
        kinglet.load(with_pattern("{m:cost}") + r"types: {cost: {regex: '[0-9]+\$'}}")
        with self.assertRaisesRegex(kinglet.ParserFileError, "no such type `tnk`; did you mean `tank`?"):
            kinglet.load(with_pattern("{m:tnk}") + self.TYPES_OF)


LETTERS = st.sampled_from(["a", "b", "A", "1", "_", " ", "-", "é", "\n", "ab", "b1"])
PIECES = st.recursive(
    st.sampled_from(
        ["a", "b", "1", "-", " ", ".", "[ab]", "[^a]", "[a-c1]", r"\d", r"\w", r"\s", r"\S", r"\b", r"\B", "^", "$"]
    ),
    lambda inner: st.one_of(
        st.lists(inner, min_size=1, max_size=3).map("".join),
        st.lists(inner, min_size=2, max_size=3).map(lambda some: f"(?:{'|'.join(some)})"),
        st.tuples(inner, st.sampled_from(["?", "*", "+", "??", "*?", "+?", "{2}", "{1,2}", "{2,}", "{1,2}?"])).map(
            lambda pair: f"(?:{pair[0]}){pair[1]}"
        ),
        inner.map(lambda piece: f"(?i:{piece})"),
        inner.map(lambda piece: f"(?s:{piece})"),
        inner.map(lambda piece: f"(?m:{piece})"),
    ),
    max_leaves=8,
)  # fmt: skip


class Dialect(unittest.TestCase):
    def test_sets_within_classes_are_refused_where_they_stand(self) -> None:
        for regex, offset in (
            ("[[:upper:]]+", 1), ("[a-z&&[^b]]", 4), ("a[a-z~~b]", 5), (r"\[[a-c--b]", 6), ("[^[a]", 2), ("[][]", 2),
        ):  # fmt: skip
            with self.subTest(regex), self.assertRaises(RegexError) as raised:
                check_regex(regex)
            self.assertEqual(offset, raised.exception.offset)
            self.assertIn("within a class", raised.exception.message)
        for regex, texts in (
            (r"[a\[b]", "a[b"), ("[]a]", "]a"), ("[^]a]", "b["), (r"\[[a]", ""), (r"[a\]b]", "a]b"), ("[a&b]", "a&b"),
            ("[a-]", "a-"), (r"[\-\-a]", "-a"), ("[~a]", "~a"),
        ):  # fmt: skip
            check_regex(regex)
            for text in texts:
                found = pl.Series([text]).str.contains(f"^(?:{regex})$")[0]
                self.assertEqual((True, True), (found, re.fullmatch(regex, text) is not None), (regex, text))

    @given(
        st.lists(PIECES, min_size=1, max_size=3), st.sampled_from(["", "(?i)", "(?s)"]), st.lists(LETTERS, max_size=8)
    )
    @examples(144)
    def test_both_engines_give_the_same_groups(self, pieces: list[str], flags: str, letters: list[str]) -> None:
        regex = flags + "".join(f"(?P<g{i}>{piece})" for i, piece in enumerate(pieces))
        if known(regex).vague:
            return
        text = "".join(letters)
        found = for_python(regex).search(text)
        groups = pl.Series([text]).str.extract_groups(regex).item()
        self.assertEqual(found.groupdict() if found else dict.fromkeys(groups), groups, (regex, text))
        if found:
            facts = known(regex)
            for literal in facts.literals:
                self.assertIn(literal, found[0], regex)
            self.assertLessEqual(facts.least, len(found[0]))
            self.assertTrue(facts.most is None or len(found[0]) <= facts.most)

    def test_where_a_dollar_is_the_end_of_a_line(self) -> None:
        texts = ("a", "a\n", "a\nb", "ab\n", "b\na", "")
        for regex in (
            "(?P<x>a)$", "(?m)(?P<x>a)$", "(?P<x>(?m:a$)|b$)", "(?m:(?P<x>a$))$", "(?m:^(?-m:b$)|(?P<x>a$))",
            "(?:(?m:b)$|(?P<x>a$))", "(?im:(?P<x>A$))", "(?i-m:(?P<x>A$))", r"\((?m:a)|(?P<x>a$)", "(?m)(?:b)$(?P<x>)",
        ):  # fmt: skip
            for text in texts:
                found = for_python(regex).search(text)
                groups = pl.Series([text]).str.extract_groups(regex).item()
                self.assertEqual(found["x"] if found else None, groups["x"], (regex, text))

    def test_what_every_match_contains(self) -> None:
        for regex, literals, least, most in [
            (r"^pump (?P<n>\d+) started$", ("pump ", " started"), 14, None),
            (r"(?i)ab-1", ("-1",), 4, 4),
            (r"a(?i:b)c", ("a", "c"), 3, 3),
            (r"(?:ab)+c", ("ab", "c"), 3, None),
            (r"(?:ab){3}c", ("abababc",), 7, 7),
            (r"x?a{2,3}b*", ("a",), 2, None),
            (r"ab|cd", (), 2, 2),
            (r"[a][bc]\.$", ("a", "."), 3, 3),
            (r"a{20}b", ("a", "b"), 21, 21),
        ]:
            self.assertEqual((literals, least, most), known(regex)[:3], regex)
            self.assertFalse(known(regex).vague)

    def test_a_group_that_may_be_nothing_is_not_repeated(self) -> None:
        for regex in (r"(?:(?P<a>x?))*y", r"(?:(?P<a>x*)|b)+y", r"(?:(?:(?P<a>\b))?){2}y"):
            with self.assertRaisesRegex(RegexError, "repeats a group that may be nothing"):
                check_regex(regex)
        self.assertEqual(("a",), check_regex(r"(?:(?P<a>x+),?)*y"))
        self.assertTrue(known("(?:a*)*").vague)


class Regexes(unittest.TestCase):
    def test_only_named_groups_become_fields(self) -> None:
        text = PUMP.replace("(?:", "(")
        self.assertEqual(set(kinglet.load(PUMP).fields), set(kinglet.load(text).fields))
        events = kinglet.load(text).parse(PUMP_LOG, reference_time="2026-03-05").events
        self.assertEqual([None, None, 12], events["ran_s"].to_list()[:3])

    def test_a_match_that_leaves_all_groups_out_is_a_match(self) -> None:
        text = with_pattern("x").replace("pattern: 'x'", "regex: '^a(?P<b>b)?$'")
        result = kinglet.load(text).parse(["a", "ab", "c"])
        self.assertEqual(["complete", "complete", "unmatched"], result.events["state"].to_list())

    def test_what_is_outside_the_dialect_is_refused_with_advice(self) -> None:
        for regex, offset in {"(?=a)b": 0, r"(?P<a>x)\1": 8, "a(b": 1, "[z-a]": 1, "a**": 2, r"\Z": 0}.items():
            with self.subTest(regex=regex), self.assertRaises(RegexError) as caught:
                check_regex(regex)
            self.assertEqual(offset, caught.exception.offset)
            self.assertTrue(caught.exception.hint)
        with self.assertRaisesRegex(RegexError, "size limit"):
            check_regex("(?:a{1000}){1000}")

    def test_how_far_a_regex_gets(self) -> None:
        for regex, text, end, expected in [
            (r"^pump (?P<n>\d+) (started|stopped)$", "pump 12 halted", 8, "(started|stopped)"),
            (r"^pump (?P<n>\d+) (started|stopped)$", "valve", -1, "pump "),
            (r"(?i)^PUMP (?P<n>\d+)$", "pump x", 5, r"(?P<n>\d+)"),
            (r"^[a\]]+(?:x{2,3})?z$", "a]xxy", 4, "z"),
            (r"^a|b$", "c", -1, "^a|b$"),
            (r"^ab$", "ab", 2, ""),
        ]:
            with self.subTest(regex=regex):
                self.assertEqual((end, expected), matching_prefix(regex, text))
