"""Steps against plain Python, and the batch engine against itself: variants together and each alone."""

from __future__ import annotations

import base64
import csv
import functools
import html
import ipaddress
import json
import re
import time
import unittest
from datetime import UTC, datetime
from typing import ClassVar
from urllib.parse import quote

import polars as pl
from hypothesis import given
from hypothesis import strategies as st

import kinglet
from kinglet.columns.escapes import FORMS, meaning, unescaped
from kinglet.cutting.cutter import EventBatch
from kinglet.errors import Place
from kinglet.expressions.compiling import sql
from kinglet.patterns.types import TYPES
from kinglet.plan.data import FieldPlan
from kinglet.runtime.handover import Handover
from kinglet.runtime.workers import Then, in_turn
from kinglet.source.logs import Source
from kinglet.steps.escapes import Unescape
from kinglet.steps.fields import Rename
from kinglet.steps.privacy import Mask
from kinglet.steps.tables import Lookup, Table, Translate, Translation
from kinglet.steps.values import Convert, Join, Replace, Split
from kinglet.timestamps.order import Known
from tests.helpers import InFolder, examples

NOW = datetime(2026, 3, 8, tzinfo=UTC)
TEXTS = st.lists(st.one_of(st.none(), st.text("ab,é \n.1", max_size=9)), min_size=1, max_size=8)
MASKS = st.lists(st.booleans(), min_size=8, max_size=8)
HEAD = "kinglet: 1\nparser: doors\nversion: 1.0.0\nproduct: {vendor: Quayline, name: Doors}\n"


def framed(texts: list[str | None], other: list[str | None] | None = None) -> pl.DataFrame:
    """Events as a step sees them."""
    columns = {"x": pl.Series(texts, dtype=pl.String)}
    if other is not None:
        columns["y"] = pl.Series((other * len(texts))[: len(texts)], dtype=pl.String)
    return pl.DataFrame(columns)


class AgainstPython(InFolder):
    @given(TEXTS, st.integers(0, 4), st.one_of(st.none(), MASKS))
    @examples(40)
    def test_mask(self, texts: list[str | None], show: int, some: list[bool] | None) -> None:
        where = pl.Series(some[: len(texts)]) if some is not None and len(texts) <= 8 else None
        found = Mask(("x",), show).act(framed(texts), where, NOW)[0]["x"].to_list()

        def masked(text: str) -> str:
            kept = show if len(text) > show else 0
            return "*" * (len(text) - kept) + text[len(text) - kept :]

        chosen = some if where is not None and some is not None else [True] * len(texts)
        expected = [
            masked(text) if text is not None and yes else text for text, yes in zip(texts, chosen, strict=False)
        ]
        self.assertEqual(expected, found)

    @given(TEXTS, st.sampled_from([",", " ", "ab", "."]), st.integers(1, 4))
    @examples(40)
    def test_split(self, texts: list[str | None], at: str, count: int) -> None:
        into = tuple(f"p{i}" for i in range(count))
        parts = Split("x", at, into, None).act(framed(texts), None, NOW)[0]
        whole = Split("x", at, (), "all").act(framed(texts), None, NOW)[0]["all"].to_list()
        for i, text in enumerate(texts):
            expected = text.split(at, count - 1) if text is not None else []
            self.assertEqual([*expected, *[None] * (count - len(expected))], list(parts.select(into).row(i)), text)
            self.assertEqual(text.split(at) if text is not None else None, whole[i])

    @given(TEXTS, TEXTS, st.sampled_from(["", "-", ", "]))
    @examples(40)
    def test_join(self, one: list[str | None], other: list[str | None], with_: str) -> None:
        frame = framed(one, other)
        found = Join(("x", "y"), with_, "z").act(frame, None, NOW)[0]["z"].to_list()
        for x, y, z in zip(frame["x"], frame["y"], found, strict=True):
            some = [text for text in (x, y) if text is not None]
            self.assertEqual(with_.join(some) if some else None, z)

    @given(TEXTS, st.sampled_from([("a+", "<${0}>", r"<\g<0>>"), ("(a)(b)", "${2}${1}", r"\2\1"), (r"\s", "", ""),
                                   ("(?P<n>[0-9])", "${n}$$", r"\g<n>$")]))  # fmt: skip
    @examples(40)
    def test_replace(self, texts: list[str | None], way: tuple[str, str, str]) -> None:
        regex, with_, python = way
        found = Replace(("x",), regex, with_).act(framed(texts), None, NOW)[0]["x"].to_list()
        self.assertEqual([re.sub(regex, python, text) if text is not None else None for text in texts], found)

    @given(
        st.lists(
            st.one_of(st.none(), st.sampled_from(["1", "-7", "x", "1.5", "", "yes", "[1]", '["a", 2]', "{}"])),
            max_size=9,
        )
    )
    @examples(24)
    def test_convert(self, texts: list[str | None]) -> None:
        frame = framed(texts)
        number, faults = Convert((FieldPlan("x", TYPES["int"]),)).act(frame, None, NOW)
        expected = [int(text) if text is not None and re.fullmatch(r"-?\d+", text) else None for text in texts]
        self.assertEqual(expected, number["x"].to_list())
        bad = [text is not None and value is None for text, value in zip(texts, expected, strict=True)]
        self.assertEqual(bad if any(bad) else [], faults[0][1].to_list() if faults else [])
        lists, faults = Convert((), ("x",)).act(frame, None, NOW)
        meant = {"[1]": ["1"], '["a", 2]': ["a", "2"]}
        self.assertEqual([meant.get(text or "") for text in texts], lists["x"].to_list())
        self.assertEqual([text is not None and text not in meant for text in texts], faults[0][1].to_list())

    @given(
        st.lists(st.tuples(st.integers(0, 2**32 - 1), st.integers(0, 32)), min_size=1, max_size=12),
        st.lists(st.integers(0, 2**32 - 1), min_size=1, max_size=12),
    )
    @examples(24)
    def test_networks(self, nets: list[tuple[int, int]], addresses: list[int]) -> None:
        networks = [ipaddress.ip_network((number, length), strict=False) for number, length in nets]
        near = [int(network.network_address) + 1 for network in networks if network.prefixlen < 32]
        texts: list[str | None] = [str(ipaddress.ip_address(number % 2**32)) for number in (*addresses, *near)]
        path = self.folder / "nets.csv"
        with path.open("w", newline="") as file:
            csv.writer(file).writerows([("net", "name"), *((str(net), f"n{i}") for i, net in enumerate(networks))])
        lookup = Lookup("x", Table(path, Place("p.yaml"), "lookup"), "network", None, (("name", "name"),))
        found = lookup.act(framed(texts), None, NOW)[0]["name"].to_list()
        for text, name in zip(texts, found, strict=True):
            holds = [(net.prefixlen, -i) for i, net in enumerate(networks) if ipaddress.ip_address(text or "") in net]
            self.assertEqual(f"n{-max(holds)[1]}" if holds else None, name, text)

    @given(st.lists(st.text("ab", max_size=4), min_size=1, max_size=8, unique=True), TEXTS)
    @examples(24)
    def test_prefixes_and_translations(self, keys: list[str], texts: list[str | None]) -> None:
        path = self.folder / "t.csv"
        with path.open("w", newline="") as file:
            csv.writer(file, quoting=csv.QUOTE_ALL).writerows([("key", "name"), *((key, f"n{key}") for key in keys)])
        lookup = Lookup("x", Table(path, Place("p.yaml"), "lookup"), "prefix", "key", (("name", "name"),))
        found = lookup.act(framed(texts), None, NOW)[0]["name"].to_list()
        for text, name in zip(texts, found, strict=True):
            begins = [key for key in keys if text is not None and text.startswith(key)]
            self.assertEqual(f"n{max(begins, key=len)}" if begins else None, name, text)
        table = {key: key.upper() for key in keys}
        for to, otherwise in (("x", None), ("y", None), ("y", "other")):
            x, words = sql("x", {"x": pl.String()}), tuple(table.items())
            item = Translation(to, x, (("x", pl.String()),), words, otherwise, to == "x")
            frame = framed(texts).with_columns(state=pl.lit("complete"))
            translated = Translate((item,)).act(frame, None, NOW)[0][to].to_list()
            default = {text: otherwise if otherwise is not None else text if to == "x" else None for text in texts}
            self.assertEqual(
                [table.get(text, default[text]) if text is not None else None for text in texts], translated
            )

    @given(st.text("ab\\\"'é\n%&;<x41u", max_size=9), st.booleans())
    @examples(60)
    def test_what_others_have_escaped(self, text: str, upper: bool) -> None:
        """Texts as the standard library writes them, and the step that reads them back."""
        octets = "".join(
            f"\\x{byte:02x}" if byte > 126 or byte < 32 or byte == 92 else chr(byte) for byte in text.encode()
        )
        written = {
            "json": json.dumps(text, ensure_ascii=upper)[1:-1],
            "html": html.escape(text),
            "percent": quote(text, safe=" "),
            "c": octets,
            "hex": text.encode().hex() if text else '""',
            "base64": base64.b64encode(text.encode(), b"-_" if upper else None).decode().rstrip("=" if upper else ""),
        }
        for form, escaped in written.items():
            frame, faults = Unescape(("x",), form).act(pl.DataFrame({"x": [escaped, None]}), None, NOW)
            self.assertEqual([text, None], frame["x"].to_list(), (form, escaped))
            self.assertFalse(any(bad.any() for _, bad in faults))
            if escaped:  # a slot type reads them as the step does
                event = self.TYPED[form].parse(iter([f"<{escaped}>"])).events.row(0, named=True)
                self.assertEqual((text, "complete"), (event["x"], event["state"]), (form, escaped))

    OBJECTS = st.dictionaries(st.sampled_from(["a", "b:", 'c"', "d"]), st.text('ab":,{}\\', max_size=4), max_size=3)

    @given(OBJECTS, OBJECTS, OBJECTS)
    @examples(60)
    def test_keys_without_names_are_put_together(
        self, outer: dict[str, str], inner: dict[str, str], field: dict[str, str]
    ) -> None:
        """Of an envelope, of what it holds, and of a field that is read again; a key of two is a fault."""
        whole = json.dumps(outer | {"text": json.dumps(inner | {"field": json.dumps(field)})})
        event = self.LAYERS.parse(iter([whole])).events.row(0, named=True)
        faults = ["repeated-key"] * bool(outer.keys() & inner)
        faults += ["repeated-key:field"] * bool(field.keys() & (outer | inner))
        self.assertEqual(outer | inner | field, json.loads(event["more"] or "{}", object_pairs_hook=self.once))
        self.assertEqual(faults, event["faults"])

    def once(self, pairs: list[tuple[str, str]]) -> dict[str, str]:
        """An object, each of whose keys stands in it once."""
        self.assertEqual(len(pairs), len(dict(pairs)))
        return dict(pairs)

    LAYERS: ClassVar = kinglet.load(
        HEAD + "envelope: {json: true, keys: {body: text}, types: {body: text}}\n"
        "variants: [{name: any, json: true, types: {field: text}}]\nsteps:\n  - parse: {field: field, json: true}\n"
    )

    def test_what_is_read_again_takes_nothing_away(self) -> None:
        """What a second reading does not find stays; what is bad in it is none, and a fault."""
        parser = kinglet.load(
            HEAD + "variants: [{name: any, pattern: '{user:word} {n:int} {text:rest}'}]\n"
            "steps:\n  - parse: {field: text, pattern: 'as[[ {user:word}]][[ on {n:int}]]', optional: true}\n"
        )
        events = parser.parse(
            [
                "amadi 4 as",
                "amadi 4 as pires on 5",
                "amadi 4 as pires",
                "amadi 4 as on 99999999999999999999",
                "amadi 4 x",
            ]
        ).events
        self.assertEqual(
            [("amadi", 4), ("pires", 5), ("pires", 4), ("amadi", None), ("amadi", 4)], events["user", "n"].rows()
        )
        self.assertEqual([[], [], [], ["bad-value:n"], []], events["faults"].to_list())

    TYPED: ClassVar = {
        form: kinglet.load(
            HEAD + f"types: {{e: {{regex: '(?s:.+)', unescape: {form}}}}}\n"
            "events: nul\nvariants: [{name: any, pattern: '<{x:e}>'}]\n"
        )
        for form in FORMS
    }

    def test_a_type_with_escapes_is_text(self) -> None:
        text = (
            HEAD + "types: {e: {regex: '[0-9]+', base: int, unescape: c}}\nvariants: [{name: any, pattern: '{x:e}'}]\n"
        )
        with self.assertRaisesRegex(kinglet.ParserFileError, "types.e.unescape: `int` is no text; leave `base` out"):
            kinglet.load(text)
        bad = self.TYPED["percent"].parse(iter(["<a%ff>"])).events.row(0, named=True)
        self.assertEqual((None, ["bad-value:x"]), (bad["x"], bad["faults"]))

    @given(st.lists(st.none() | st.text('"4aAfC3\n ', max_size=6), min_size=1, max_size=6))
    @examples(100)
    def test_a_column_of_digits_is_what_each_text_is(self, texts: list[str | None]) -> None:
        found = unescaped(pl.Series("x", texts, dtype=pl.String), "hex").to_list()
        self.assertEqual([None if text is None else meaning(text, "hex") for text in texts], found)

    def test_escapes_that_are_none(self) -> None:
        for form, text, meant in (
            ("c", r"\q \101 \u00e9 \t", "\\q A é \t"), ("c", r"\xff", None), ("c", r"\777", None),
            ("json", r"\q", None),
            ("json", r"\ud800", None), ("percent", "100% %zz %41", "100% %zz A"), ("percent", "%ff", None),
            ("hex", '"41"', "41"), ("hex", "(null)", "(null)"), ("hex", "414", "414"),
            ("hex", "C3A4", "ä"), ("hex", "C3", None),
            ("base64", "aGk", "hi"), ("base64", "aGk=", "hi"), ("base64", "a", None), ("base64", "/w==", None),
            ("base64", "a-+b", None), ("base64", "aG k", None),
            ("html", "&nothing &nosuch; &amp; &lt;b&#62;", "&nothing &nosuch; & <b>"),
        ):  # fmt: skip
            frame, faults = Unescape(("x",), form).act(pl.DataFrame({"x": [text]}), None, NOW)
            self.assertEqual((meant, meant is None), (frame["x"][0], faults[0][1][0]), (form, text))
            where = pl.Series([False])
            self.assertEqual(text, Unescape(("x",), form).act(pl.DataFrame({"x": [text]}), where, NOW)[0]["x"][0])

    @given(st.lists(st.one_of(st.none(), st.text("ab=1;2 ", max_size=14)), min_size=1, max_size=6), st.booleans())
    @examples(60)
    def test_what_is_found_is_what_python_finds(self, texts: list[str | None], chosen: bool) -> None:
        """One value, and records, against `re`; a condition leaves the others alone."""
        head = HEAD + "variants: [{name: a, pattern: '[[x{t:rest}]]'}]\nsteps:\n"
        head += "  - find: {field: t, pattern: 'a={n:int}', to: ns}\n"
        head += "  - find: {field: t, pattern: '{k:word}={v:word};', to: kv}\n"
        parser = kinglet.load(head)
        lines = ["" if text is None else f"x{text}" for text in texts]
        events = parser.parse(lines).events
        for text, line, event in zip(texts, lines, events.iter_rows(named=True), strict=True):
            held = line[1:].lstrip(" ") if text else ""
            numbers = [int(n) for n in re.findall(r"a=([0-9]+)", held)]
            self.assertEqual(numbers or None, event["ns"], line)
            records = [{"k": k, "v": v} for k, v in re.findall(r"([^\s=]+)=([^\s;]+);", held)]
            self.assertEqual(records or None, event["kv"] and json.loads(event["kv"]), line)

    def test_rename_in_a_ring(self) -> None:
        frame = pl.DataFrame({"a": [1, 2], "b": [3, 4], "c": [5, 6]})
        ring = Rename((("a", "b"), ("b", "c"), ("c", "a")))
        found = ring.act(frame, None, NOW)[0]
        self.assertEqual({"a": [5, 6], "b": [1, 2], "c": [3, 4]}, found.to_dict(as_series=False))
        some = ring.act(frame, pl.Series([True, False]), NOW)[0]
        self.assertEqual({"a": [5, 2], "b": [1, 4], "c": [3, 6]}, some.to_dict(as_series=False))


class VariantsTogether(unittest.TestCase):
    """A parser of many variants gives each event what a parser of its variant alone gives it."""

    VARIANTS = tuple(
        f"  - {{name: v{i}, pattern: '{letter * 4} {{a:int}}[[ {{b:num}}]][[ at {{when:time}}]]'}}"
        for i, letter in enumerate("abcdefghijklmno")
    )
    FILE = HEAD + (
        "time: [{from: stamp, format: '%d/%b %H:%M:%S', zone: Atlantic/Azores}]\n"
        "envelope: '{stamp:time} {body:rest}'\nvariants:\n"
    )

    @classmethod
    @functools.cache
    def parser(cls, variants: str) -> kinglet.Parser:
        return kinglet.load(cls.FILE + variants)

    @given(st.lists(st.tuples(
        st.integers(0, 15),
        st.sampled_from(["1", "22 1.5", "x", "3 4.5 at 2026-03-03T22:10:41Z", "9" * 20]),
        st.sampled_from(["03/Mar 22:10:41", "31/Feb 22:10:41", "25/Oct 00:30:00", "nonsense"]),
    ), max_size=25))  # fmt: skip
    @examples(15)
    def test_each_alone_and_all_at_once(self, events: list[tuple[int, str, str]]) -> None:
        lines = [f"{stamp} {'abcdefghijklmnop'[i] * 4} {text}" for i, text, stamp in events]
        together = self.parser("\n".join(self.VARIANTS)).parse(lines, reference_time="2026-03-08").events
        for number, (line, event) in enumerate(zip(lines, together.iter_rows(named=True), strict=True)):
            variant = self.VARIANTS[min(events[number][0], 14)]
            one = self.parser(variant).parse([line], reference_time="2026-03-08").events.row(0, named=True)
            for name in ("state", "faults", "variant", "a", "b", "when", "time", "time_notes", "stamp", "body"):
                self.assertEqual(one.get(name), event[name], (name, line))

    def test_an_envelope_by_regex(self) -> None:
        file = HEAD + "envelope: {regex: '^<(?P<level>[0-9])> (?P<body>.*)$', types: {level: int}}\n"
        file += "variants: [{name: any, pattern: 'gate {n:int}'}]\n"
        event = kinglet.load(file).parse(["<4> gate 7"]).events.row(0, named=True)
        self.assertEqual((4, 7, "complete"), (event["level"], event["n"], event["state"]))
        with self.assertRaisesRegex(kinglet.ParserFileError, "has no group `body` for the message"):
            kinglet.load(file.replace("P<body>", "P<rest>"))


class Threads(unittest.TestCase):
    def batches(self, count: int) -> list[EventBatch | None]:
        source = Source("x", NOW)
        frames = [pl.DataFrame({"line": [i], "offset": [i], "raw": [str(i)]}) for i in range(count)]
        return [None, *(EventBatch((source,), frame) for frame in frames), None]

    def test_results_come_in_order_and_each_knows_of_the_one_before(self) -> None:
        def parse(batch: EventBatch, turn: Handover | None) -> tuple[str, int]:
            assert turn is not None
            known = turn.times_before
            if batch.frame["raw"][0] != "7":  # which has nothing to add, and hands on what it knows
                turn.times.set_result({**known, len(known): (batch.sources[0], Known())})
            turn.close()
            return batch.frame["raw"][0], len(known)

        for workers in (1, 4):
            found = list(in_turn(self.batches(20), parse, workers, Handover))
            self.assertEqual([(str(i), i - (i > 7)) for i in range(20)], found)

    def test_what_is_done_in_turn_is_done_in_order_and_stops_where_one_fails(self) -> None:
        written: list[int] = []

        def parse(batch: EventBatch, turn: Handover | None) -> int:
            number = int(batch.frame["raw"][0])
            time.sleep(0.002 * (number % 3))
            return number

        def write(number: int) -> None:
            if number == 70:
                raise OSError("no space")
            written.append(number)

        for workers in (1, 4):
            with self.subTest(workers=workers):
                written.clear()
                batches = in_turn(self.batches(7), parse, workers, Handover, Then(lambda number: 10 * number, write))
                self.assertEqual(list(range(7)), list(batches))
                self.assertEqual(list(range(0, 70, 10)), written)
                written.clear()
                with self.assertRaisesRegex(OSError, "no space"):
                    list(in_turn(self.batches(20), parse, workers, Handover, Then(lambda number: 10 * number, write)))
                self.assertEqual(list(range(0, 70, 10)), written)

    def test_what_one_raises_reaches_the_caller(self) -> None:
        def parse(batch: EventBatch, turn: Handover | None) -> str:
            assert turn is not None
            known = turn.times_before
            if batch.frame["raw"][0] == "7":
                raise ValueError("seven")
            turn.times.set_result(known)
            return batch.frame["raw"][0]  # type: ignore[no-any-return]

        for workers in (1, 4):
            with self.assertRaisesRegex(ValueError, "seven"):
                list(in_turn(self.batches(20), parse, workers, Handover))


if __name__ == "__main__":
    unittest.main()
