"""Machine code beside the column engine: the same bytes, and nothing where it cannot be."""

from __future__ import annotations

import json
import os
import random
import subprocess
import sys
import unittest
from collections.abc import Sequence
from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from unittest import mock

import polars as pl
from hypothesis import given
from hypothesis import strategies as st

import kinglet as kinglet_module
from kinglet.columns import text_spans
from kinglet.columns.json_rows import Piece, json_bytes
from kinglet.columns.json_text import Constant, Layout
from kinglet.cutting.cutter import cut
from kinglet.cutting.rule import CutRule
from kinglet.kernels import compiled, compiling
from kinglet.output.views import lines_of
from kinglet.plan import zone_offset
from kinglet.source.logs import Source
from kinglet.spec.ready import ready_parsers
from kinglet.structured import by_form, in_one_pass
from kinglet.structured.blocks import Blocks
from kinglet.structured.delimited import Delimited
from kinglet.structured.json_objects import JsonObjects
from kinglet.structured.pairs import Pairs
from kinglet.structured.xml_elements import XmlElements
from tests.helpers import ROOT, InFolder, examples, kinglet
from tests.records import REAL
from tests.test_library import OWNERS

compiling.compile_all()

ODD = ['"', "\\", "\n", "\x7f", "\x00", "\u2028", "é", "{", "[", ",", "x" * 11, "x" * 12, "x" * 13, "y" * 40, '"' * 33]
TEXT = st.none() | st.lists(st.sampled_from(ODD) | st.text(max_size=3), max_size=4).map("".join)
NUMBER = st.none() | st.sampled_from([0, 9, 10, -1, 2**63 - 1, -(2**63)]) | st.integers(-(2**62), 2**62)
ODD_PIECES = ["", '"', "\\", "\x00", "é", "\u2028", "  ", "\t", "=", ":", "{", "}", "]", ",", "\x7f", "x" * 40]
SCHEMA: dict[str, Any] = {
    "a": pl.String(),
    "b": pl.String(),
    "n": pl.Int64(),
    "u": pl.UInt8(),
    "f": pl.Float64(),
    "t": pl.Boolean(),
    "l": pl.List(pl.String()),
    "at": pl.Datetime("us", "UTC"),
    "ms": pl.Datetime("ms"),
    "raw": pl.String(),
    "none": pl.Null(),
    "e": pl.Enum(["one", 'tw"o']),
}
MOMENT = st.none() | st.integers(-62_135_596_800_000_000, 253_402_300_799_999_999) | st.sampled_from([0, 10**6, -1])
ROW = st.fixed_dictionaries(
    {
        "a": TEXT,
        "b": TEXT,
        "n": NUMBER,
        "u": st.none() | st.integers(0, 255),
        "f": st.none() | st.floats(width=32),
        "t": st.none() | st.booleans(),
        "l": st.none() | st.lists(TEXT, max_size=2),
        "at": MOMENT,
        "ms": MOMENT.map(lambda value: value and value // 1000),
        "raw": st.none() | st.sampled_from(["{}", '{"k":1}', "7", '"x"']),
        "none": st.none(),
        "e": st.none() | st.sampled_from(["one", 'tw"o']),
    }
)
PATHS = [*SCHEMA, "o.{}", "o.p.{}", "o.q.r.{}", "items[1].{}", "items[2].{}", "o.l3[1].x.{}", 'k"ey.{}']


@st.composite
def layouts(draw: st.DrawFn) -> Layout:
    """Columns and constants at paths of which none goes through another."""
    made: dict[str, Any] = {}
    for number, path in enumerate(draw(st.lists(st.sampled_from(PATHS), max_size=9))):
        value = draw(st.sampled_from([*SCHEMA, *SCHEMA, Constant(1), Constant(["v", {"w": 'x"'}])]))
        made[path.format(f"k{number}") if "{" in path else f"{path}{number}"] = value
    return made


def frame_of(rows: list[dict[str, Any]]) -> pl.DataFrame:
    columns = []
    for name, dtype in SCHEMA.items():
        values = [row[name] for row in rows]
        if isinstance(dtype, pl.Datetime):
            columns.append(pl.Series(name, values, pl.Int64).cast(pl.Datetime(dtype.time_unit)).cast(dtype))
        else:
            columns.append(pl.Series(name, values, dtype=dtype))
    return pl.DataFrame(columns)


class JsonRows(unittest.TestCase):
    run_it = staticmethod(compiled.kernel("json_rows", 10**6) or (lambda given: 0))

    def both(self, pieces: list[Piece]) -> tuple[str, str]:
        mine = b"".join(bytes(some) for some in json_bytes(pieces, self.run_it)).decode()
        return "".join(lines_of(pieces, "\n").to_list()), mine

    @examples(150)
    @given(st.lists(ROW, min_size=1, max_size=6), layouts())
    def test_the_bytes_are_those_of_the_column_engine(self, rows: list[dict[str, Any]], layout: Layout) -> None:
        frame = frame_of(rows)
        places = pl.Series(range(frame.height), dtype=pl.UInt32)
        engine, mine = self.both([Piece(places, frame, layout, ["raw"])])
        self.assertEqual(engine, mine)

    @examples(60)
    @given(st.lists(st.tuples(st.integers(0, 2), ROW), min_size=1, max_size=8), st.randoms(), layouts(), layouts())
    def test_pieces_come_in_the_order_of_their_places(
        self, rows: list[tuple[int, dict[str, Any]]], chance: Any, one: Layout, other: Layout
    ) -> None:
        places = list(range(len(rows)))
        chance.shuffle(places)
        pieces = []
        for number, layout in enumerate((one, other, {"k": Constant(1)})):
            mine = [(place, row) for place, (piece, row) in zip(places, rows, strict=True) if piece == number]
            if mine:
                order = pl.Series([place for place, _ in mine], dtype=pl.UInt32)
                pieces.append(Piece(order, frame_of([row for _, row in mine]), layout, ["raw"]))
        engine, mine_text = self.both(pieces)
        self.assertEqual(engine, mine_text)

    def test_columns_of_slices_and_chunks_are_read_where_they_lie(self) -> None:
        text = pl.Series("a", [None, "x" * 30, 'q"', None, "é" * 20] * 9)
        frame = pl.concat([pl.DataFrame([text.slice(3, 20)]), pl.DataFrame([text.slice(1, 11)])], rechunk=False)
        engine, mine = self.both([Piece(pl.Series(range(31)), frame, {"a": "a"}, [])])
        self.assertEqual(engine, mine)

    def test_many_rows_come_some_at_a_time(self) -> None:
        frame = pl.DataFrame({"a": ["x" * (7 * number % 2000) + '"' for number in range(5000)], "n": range(5000)})
        piece = Piece(pl.Series(range(5000)), frame, {"a": "a", "n": "n"}, [])
        self.assertLess(2, len([len(some) for some in json_bytes([piece], self.run_it)]))
        engine, mine = self.both([piece])
        self.assertTrue(engine == mine)

    def test_rows_larger_than_the_memory_at_hand_fit_in_the_end(self) -> None:
        for filling in ("x", '"', "\x01", "é"):
            frame = pl.DataFrame({"a": ["small", filling * 3_000_000, "small"], "n": [1, 2, 3]})
            engine, mine = self.both([Piece(pl.Series(range(3)), frame, {"a": "a", "o.n": "n"}, [])])
            self.assertTrue(engine == mine, filling)

    def test_years_that_have_no_four_digits_are_left_to_the_column_engine(self) -> None:
        far = pl.Series("at", [-(10**17), 4 * 10**17, 0]).cast(pl.Datetime("us"))
        engine, mine = self.both([Piece(pl.Series(range(3)), pl.DataFrame([far]), {"at": "at"}, [])])
        self.assertEqual(engine, mine)

    def test_nothing_makes_nothing(self) -> None:
        self.assertEqual([], list(json_bytes([], self.run_it)))


JSON_PIECES = [
    "{", "}", "[", "]", ",", ":", '"a"', '"b"', '"c d"', '"a.b"', '"l[1]"', '""', '"', "1", "-0.5e+3", "01", "1.", "-",
    "true", "null", "nul", "NaN", " ", "\t", "\n", '"q\\"', '"\\u00e9\\n"', '"\\ud800"', '"\\x"', '"é\x7f"',
    '"a text of over twelve bytes"', "x",
]  # fmt: skip
JSON = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats(allow_nan=False) | st.text(max_size=15),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.sampled_from(["a", "b", "c d", "l", "é"]), inner),
    max_leaves=8,
)
OBJECT = st.dictionaries(st.sampled_from(["a", "b", "l", "x.y", "n", "long key of a log"]), JSON, max_size=5)
PAIR_PIECES = [
    "a",
    "b",
    "key",
    "=",
    "=",
    " ",
    " ",
    ";",
    '"',
    "\\",
    "é",
    "\xa0",
    "\x7f",
    "\t",
    "value",
    "1",
    "a=1",
    "true",
    '""',
]
ROW_PIECES = ["-", "N/A", ",", ",", ";", '"', '""', "a", "é", "\n", "\\", "\x01", " ", "a text of over twelve bytes"]

XML_PIECES = [
    "<a>", "</a>", "<a/>", "<b c='1'>", "</b>", '<D Name="k">', "</D>", "<p:d q:x = 'y&quot;'/>", "text", " ", "\n",
    "&amp;", "&#65;", "&no;", "<![CDATA[x]]>", "<!-- c -->", "<e xmlns='u'>", "</e>", "é", "<é/>", ">", "<",
    "<D Name='q\"'/>", "<f/>",
]  # fmt: skip
XML_ATTRIBUTES = ["", ' Name="k"', " Name='l.m' x=\"1\"", ' y = "a&lt;b"', ' xmlns="u"', " "]
XML_VALUES = ["", "t", " a &amp; b ", 'q"\\', "é\x7f", "longer than a view holds", "<c>1</c>", "<c/>"]


@st.composite
def xml_texts(draw: st.DrawFn) -> str:
    """Elements with some in them, some of them no longer whole."""
    inside = ""
    for _ in range(draw(st.integers(0, 4))):
        name = draw(st.sampled_from(["a", "b", "D", "p:d"]))
        attributes = draw(st.sampled_from(XML_ATTRIBUTES))
        value = draw(
            st.sampled_from(["", "t", " a &amp; b ", 'q"\\', "é\x7f", "longer than a view holds", "<c>1</c>", "<c/>"])
        )
        inside += f"<{name}{attributes}>{value}</{name}>" + draw(st.sampled_from(["", " ", "\n"]))
    text = f"<E>{inside}</E>"
    if draw(st.integers(0, 3)) == 0:
        place = draw(st.integers(0, len(text)))
        text = text[:place] + draw(st.sampled_from([*XML_PIECES, ""])) + text[place + draw(st.integers(0, 3)) :]
    return draw(st.sampled_from(["", " ", "\ufeff"])) + text + draw(st.sampled_from(["", "\n", "x"]))


BLOCK_PIECES = [
    "a",
    "b:",
    " ",
    "\t",
    "\n",
    "\r",
    "\r\n",
    ": ",
    "=",
    "[a]",
    "[",
    "é",
    "A b",
    '"',
    "\\",
    "\x01",
    "-> ",
    "x" * 40,
]
BLOCK_LINES = st.tuples(
    st.sampled_from(["", " ", "  ", "\t", "   "]),
    st.sampled_from(
        ["a:", "A b :", "b:", "b", "[a]", "a = ", "é:", "10:41", "_a__B-c_:", "c" * 65, "-:", "x->", "---"]
    ),
    st.sampled_from(["", " 1", "\tx y", " é \r", ' "q" \\', " a: b", " " * 3, " 192.0.2.1:80 " + "z" * 30]),
    st.sampled_from(["\n", "\r\n", "\n\n", "\n \n"]),
)


@st.composite
def block_texts(draw: st.DrawFn) -> str:
    """Labelled lines in sections, lines that continue them, and lines that are neither."""
    text = "".join("".join(line) for line in draw(st.lists(BLOCK_LINES, min_size=1, max_size=7)))
    return text if draw(st.booleans()) else text.rstrip()


@st.composite
def json_texts(draw: st.DrawFn) -> str:
    """JSON objects, some of them no longer whole."""
    if draw(st.integers(0, 3)) == 0:
        return "".join(draw(st.lists(st.sampled_from(JSON_PIECES), max_size=12)))
    separators = draw(st.sampled_from([(",", ":"), (", ", ": "), (" , ", " :\t")]))
    text = json.dumps(draw(OBJECT), ensure_ascii=draw(st.booleans()), separators=separators)
    if draw(st.integers(0, 3)) == 0 and text:
        place = draw(st.integers(0, len(text) - 1))
        text = text[:place] + draw(st.sampled_from([*JSON_PIECES, ""])) + text[place + draw(st.integers(0, 2)) :]
    return draw(st.sampled_from(["", " ", "\r\n"])) + text + draw(st.sampled_from(["", " ", "}"]))


def texts_of(pieces: list[str]) -> st.SearchStrategy[str]:
    return st.lists(st.sampled_from(pieces), max_size=14).map("".join)


class Structures(unittest.TestCase):
    """What the loops read of structured texts, beside what the column engine reads."""

    def setUp(self) -> None:
        for name in ("json_objects", "pairs", "delimited", "blocks", "xml_elements"):
            self.assertIsNotNone(compiled.kernel(name, 10**6))

    def held(self, texts: list[str | None], structure: Any, wanted: list[str], prefix: str = "") -> int:
        """How many texts the loop itself has read; all must come out as without it."""
        column = pl.Series(texts, dtype=pl.String)
        mine = by_form.read(column, structure, wanted, prefix)
        with mock.patch.object(in_one_pass, "kernel", return_value=None):
            engine = by_form.read(column, structure, wanted, prefix)
        self.assertEqual(engine.good.to_list(), mine.good.to_list())
        good = engine.good
        self.assertEqual(engine.columns.filter(good).to_dicts(), mine.columns.filter(good).to_dicts())
        self.assertEqual(engine.more.filter(good).to_list(), mine.more.filter(good).to_list())
        self.assertEqual(engine.faults.filter(good).to_list(), mine.faults.filter(good).to_list())
        found = in_one_pass.read(column, structure.loop, [] if "label[2]" in wanted else wanted, prefix)
        return int(found.read.sum()) if found is not None else 0

    @examples(300)
    @given(
        st.lists(st.none() | json_texts(), min_size=1, max_size=4),
        st.sampled_from([[], ["a"], ["a", "b.a", "l"], ["l", "l[1]", "b[].a"], ["l[1]", "x.y"], ["c", "n", "b.b.b"]]),
        st.sampled_from(["", "pre.", 'q"']),
    )
    def test_json(self, texts: list[str | None], wanted: list[str], prefix: str) -> None:
        self.held(texts, JsonObjects(), wanted, prefix)

    @examples(200)
    @given(
        st.lists(st.none() | texts_of(PAIR_PIECES), min_size=1, max_size=4),
        st.sampled_from([[], ["a"], ["key", "b", "a"], ["a", "label[2]"]]),
        st.sampled_from([Pairs(), Pairs(";"), Pairs(" ", ":"), Pairs(quote="'"), Pairs(", "), Pairs(open_values=True)]),
    )
    def test_pairs(self, texts: list[str | None], wanted: list[str], structure: Pairs) -> None:
        self.held(texts, structure, wanted, "p.")

    @examples(200)
    @given(
        st.lists(st.none() | texts_of(ROW_PIECES), min_size=1, max_size=4),
        st.sampled_from([[], ["b"], ["c", "a"], ["other"]]),
        st.sampled_from(
            [
                Delimited(["a", "b", "c"]),
                Delimited(["a", "b"], ";"),
                Delimited(["a", "a"]),
                Delimited(['q"']),
                Delimited(["a", "b", "c"], nothing="-"),
                Delimited(["a", "b"], nothing="N/A"),
            ]
        ),
    )
    def test_rows(self, texts: list[str | None], wanted: list[str], structure: Delimited) -> None:
        self.held(texts, structure, wanted, "p.")

    @examples(400)
    @given(
        st.lists(st.none() | block_texts() | texts_of(BLOCK_PIECES), min_size=1, max_size=4),
        st.sampled_from([[], ["a"], ["b.a", "text", "a_b"], ["a.text", "b.b.a"], ["a", "a[2]"]]),
        st.sampled_from([Blocks(), Blocks("="), Blocks("->"), Blocks(labels=["a", "a b"])]),
    )
    def test_blocks(self, texts: list[str | None], wanted: list[str], structure: Blocks) -> None:
        self.held(texts, structure, wanted, "p.")

    @examples(300)
    @given(
        st.lists(st.none() | xml_texts() | texts_of(XML_PIECES), min_size=1, max_size=4),
        st.sampled_from([[], ["a"], ["b.c", "k", "D"], ["l.m.x", "d", "a.y"]]),
        st.sampled_from([XmlElements(), XmlElements("Name")]),
    )
    def test_xml(self, texts: list[str | None], wanted: list[str], structure: XmlElements) -> None:
        self.held(texts, structure, wanted, 'p"')

    def test_what_is_plain_is_read_by_the_loop(self) -> None:
        for texts, structure in (
            (['{"a":1,"b":{"c":"é"},"l":[1,{"x":[true]}]}', " { } ", '{"a":"\\u00e9\\""}'], JsonObjects()),
            (['a=1 b="x y" flag c=', "key=a=b"], Pairs()),
            (["a = 1 ; b= x y"], Pairs(";")),
            (['1,"x, y",', ",,", '"a ""b""",1,2'], Delimited(["a", "b", "c"])),
            (["N/A,N/,N/AA", '"N/A",,N/A', "N/A,1,N/A"], Delimited(["a", "b", "c"], nothing="N/A")),
            (
                [
                    'A b :\t1\nText\n B-c:\r\n  x  \r\n\n  "y" \n C: é \n[d]\n\ta: 10:41 b\n',
                    "a: 1\n b: 2\n  more\n\n b2: 3",
                    "a: 1\n  ===\n\t---\n more\n----\nb: 2",
                ],
                Blocks(),
            ),
            (["a = 1\n b=\n c=x:y"], Blocks("=")),
            (["<E x=\"1\"><a>&lt;b&gt;</a><p:c d='2'/><e></e></E>", " <E>\n<b>1</b>\n</E>\n"], XmlElements()),
        ):
            with self.subTest(structure.name):
                self.assertEqual(len(texts), self.held([*texts], structure, ["a"]))

    def test_what_is_odd_is_not(self) -> None:
        deep = '{"a":' * 70 + "1" + "}" * 70
        many = json.dumps({f"k{number}": number for number in range(200)})
        for texts, structure in (
            (
                ['{"a":1,"a":2}', '{"a":{"b":1},"a.b":2}', deep, many, '{"a\\\\n":1}', '{"a":"\x01"}', None, "", "[1]"],
                JsonObjects(),
            ),
            (["a=1 a=2", "a=x\\y", 'a=x"y', "", "=1", 'a="x"y'], Pairs()),
            (
                ["a: 1\na: 2", "a: 1\nt\nu", "é: 1", "a: 1\r \n", "text", ":", ": a: b", "a" * 65 + ": 1", "[a", " \n"],
                Blocks(),
            ),
            (
                ["<E>t</E>", "<E><a>&#65;</a></E>", "<E><b>1</b><b>2</b></E>", "<E><a></E>"],
                XmlElements(),
            ),
            (['1,"b""c",2', '"a""b",x""y,2', "1,2", "1,2,3,4", '"a"b,1,2'], Delimited(["a", "b", "c"])),
        ):
            with self.subTest(structure.name):
                self.assertEqual(0, self.held([*texts], structure, ["a"]))

    def test_other_keys_longer_than_their_text_find_room(self) -> None:
        text = "{" + '"above":{' * 20 + ",".join(f'"k{number}":1' for number in range(90)) + "}" * 21
        self.assertEqual(40, self.held([text] * 40, JsonObjects(), ["a"], "prefix." * 40))

    def test_a_hash_that_another_key_has_finds_the_right_one(self) -> None:
        with mock.patch.object(in_one_pass, "hash_of", return_value=5):  # no key is found by it: all stay among others
            found = in_one_pass.read(pl.Series(['{"a":1,"b":2}']), JsonObjects().loop, ["a", "b"], "")
        assert found is not None
        self.assertEqual(['{"a":1,"b":2}'], found.more.to_list())


class Positions(unittest.TestCase):
    @examples(200)
    @given(st.lists(st.sampled_from([b"\n", b"x", b"\n\n", b"y" * 31, b"\x80" * 5]), max_size=60).map(b"".join))
    def test_a_byte_is_found_where_it_stands(self, data: bytes) -> None:
        self.assertIsNotNone(compiled.kernel("positions", 10**6))
        self.assertEqual([i for i, byte in enumerate(data) if byte == 10], text_spans.found(data, 10).to_list())

    def test_room_is_made_where_there_are_many(self) -> None:
        self.assertEqual(list(range(100_000)), text_spans.found(b"\n" * 100_000, 10).to_list())


class Cuts(unittest.TestCase):
    """What cuts a log, with machine code from the first event on and without any."""

    def held(self, data: bytes, rule: CutRule) -> None:
        cuts = []
        for setting in ("off", "always"):
            compiled.forget()
            with mock.patch.dict(os.environ, {compiled.SETTING: setting}):
                batches = list(cut(Source("a.log", datetime.now(UTC), data=data), rule))
            cuts.append(
                [(batch.frame.to_dicts(), [(fault, list(mask)) for fault, mask in batch.faults]) for batch in batches]
            )
        compiled.forget()
        self.assertEqual(cuts[0], cuts[1])

    @examples(150)
    @given(
        texts_of(["<E>", "</E>", "<p:E a='>'/>", "<Ed/>", "<E", "<!-- <E> -->", "<![CDATA[", "]]>", "<", "x\n", "é"]),
        st.sampled_from(["E", "p:E", "é"]),
    )
    def test_elements(self, text: str, name: str) -> None:
        self.held(text.encode(), CutRule("xml", name))

    @examples(150)
    @given(
        st.lists(
            st.sampled_from([b"\n", b" ", b"\t", b"x", b"\r\n", b" \n", b"\n\n", b"\xff", b"\x0b\n"]), max_size=20
        ),
        st.sampled_from([3, 1000]),
    )
    def test_blank_lines(self, pieces: list[bytes], most: int) -> None:
        self.assertIsNotNone(compiled.kernel("blank_lines", 10**6))
        self.held(b"".join(pieces), CutRule("blank-line", max_bytes=most))


STAMP_PIECES = ["2026", "-", "11", "29", "T", "t", "07", ":", "08", "+", "05", "30", "Z", "z", "CET", " ", "é", "1"]


class Offsets(unittest.TestCase):
    @examples(400)
    @given(st.lists(st.none() | texts_of(STAMP_PIECES), min_size=1, max_size=6))
    def test_stamps_carry_the_same_both_ways(self, stamps: list[str | None]) -> None:
        column = pl.Series("s", stamps, dtype=pl.String)
        self.assertIsNotNone(compiled.kernel("offsets", 10**6))
        mine = zone_offset._told(column).struct.unnest()
        with mock.patch.object(zone_offset, "kernel", return_value=None):
            engine = zone_offset._told(column).struct.unnest()
        self.assertEqual(engine["carried"].to_list(), mine["carried"].to_list())
        # of one that carries an offset nothing else is asked
        silent = [told.filter(told["carried"].is_null())["silent"] for told in (engine, mine)]
        self.assertEqual(silent[0].fill_null(False).to_list(), silent[1].to_list())


class Guarded(unittest.TestCase):
    @unittest.skipUnless(hasattr(os, "fork"), "pages are guarded as POSIX has it")
    def test_no_byte_behind_a_text_or_a_view_is_read(self) -> None:
        command = [sys.executable, "-m", "tests.guarded"]
        done = subprocess.run(command, cwd=ROOT, capture_output=True, text=True, check=False)
        self.assertEqual(("whole\n", 0), (done.stdout, done.returncode), done.stderr[-800:])


class Loading(InFolder):
    def setUp(self) -> None:
        super().setUp()
        compiled.forget()
        self.addCleanup(compiled.forget)

    def test_few_events_need_none(self) -> None:
        without = mock.patch.dict(os.environ)
        without.start()
        self.addCleanup(without.stop)
        os.environ.pop(compiled.SETTING, None)
        self.assertIsNone(compiled.kernel("json_rows", compiled.ENOUGH - 1))
        self.assertIsNotNone(compiled.kernel("json_rows", 1))
        self.assertIsNotNone(compiled.kernel("json_rows", 0))

    def test_it_can_be_switched_off(self) -> None:
        with mock.patch.dict(os.environ, {compiled.SETTING: "off"}):
            self.assertIsNone(compiled.kernel("json_rows", 10**9))

    def test_without_the_libraries_there_is_none_and_nothing_is_started(self) -> None:
        kept_elsewhere = mock.patch.object(compiled, "homes", return_value=[Path("kept")])
        with kept_elsewhere, mock.patch("importlib.util.find_spec", return_value=None):
            self.assertIsNone(compiled.kernel("json_rows", 10**9))

    def test_damaged_code_is_not_run(self) -> None:
        code = compiling.machine_code("positions")
        with mock.patch.object(compiled, "homes", return_value=[Path("kept")]):
            self.assertIsNone(compiled.kept("positions"))
            self.assertIsNone(compiled.kept_library("positions"))
            place = compiling.keep("positions", code)
            self.assertEqual(code, compiled.kept("positions"))
            place.write_bytes(place.read_bytes()[:-1] + b"?")
            self.assertIsNone(compiled.kept("positions"))
            library = compiling.link("positions", code)
            assert library is not None
            self.assertEqual(library, compiled.kept_library("positions"))
            whole = library.read_bytes()
            for damaged in (whole[:100] + b"?" + whole[101:], whole[:-1], b""):
                library.write_bytes(damaged)
                self.assertIsNone(compiled.kept_library("positions"))

    def test_a_library_an_object_file_and_neither(self) -> None:
        """Each way to load the machine code, and what stands in the way of it."""
        code = compiling.machine_code("positions")
        with mock.patch.object(compiled, "homes", return_value=[Path("kept")]):
            with mock.patch("shutil.which", return_value=None):
                self.assertIsNone(compiling.link("positions", code))
            with mock.patch("shutil.which", return_value="false"):
                self.assertIsNone(compiling.link("positions", code))
            compiling.keep("positions", code)
            self.assertIsNotNone(compiled.kernel("positions", 10**6))
            compiled.forget()
            compiling.link("positions", code)
            with mock.patch("importlib.util.find_spec", return_value=None):  # it needs no compiler
                self.assertIsNotNone(compiled.kernel("positions", 10**6))
            compiled.forget()
            with mock.patch("ctypes.CDLL", side_effect=OSError("may not be run")):
                self.assertIsNotNone(compiled.kernel("positions", 10**6))
                compiled.forget()
                with mock.patch("importlib.util.find_spec", return_value=None):
                    self.assertIsNone(compiled.kernel("positions", 10**6))
            with mock.patch.object(compiled, "library_name", return_value=None):
                self.assertIsNone(compiled.kept_library("positions"))
                self.assertIsNone(compiling.link("positions", code))

    def test_it_is_compiled_by_another_process_while_this_one_goes_on(self) -> None:
        with (
            mock.patch.object(compiled, "homes", return_value=[Path("kept")]),
            mock.patch.object(compiled, "_compiler", None),
            mock.patch("subprocess.Popen") as process,
        ):
            self.assertIsNone(compiled.kernel("json_rows", compiled.ENOUGH))
            process.assert_not_called()
            for _ in range(3):
                self.assertIsNone(compiled.kernel("json_rows", compiled.ENOUGH_TO_COMPILE))
            process.assert_called_once()

    def test_where_nothing_can_be_written_there_is_an_error(self) -> None:
        Path("taken").write_text("")
        with mock.patch.object(compiled, "homes", return_value=[Path("taken")]), self.assertRaises(OSError):
            compiling.keep("json_rows", b"x")

    def test_the_command_compiles_what_is_not_kept(self) -> None:
        command = [sys.executable, "-m", "kinglet.kernels.compiling"]
        self.assertEqual(0, subprocess.run(command, cwd=ROOT, check=False).returncode)


class WholeLogs(InFolder):
    """What is written with machine code from the first event on, beside what is written without any."""

    def setUp(self) -> None:
        super().setUp()
        self.addCleanup(compiled.forget)

    def assert_same(self, logs: Sequence[tuple[kinglet_module.Parser, Any]]) -> None:
        """All logs without machine code, then with it: to find it anew takes longer than to parse a sample."""
        written: dict[str, list[bytes]] = {}
        for setting in ("off", "always"):
            compiled.forget()
            with mock.patch.dict(os.environ, {compiled.SETTING: setting}):
                for parser, log in logs:
                    result = parser.parse(log, reference_time="2026-11-30")
                    for form in ("fields", "model"):
                        result.write(Path("out.ndjson"), as_=form)
                        written.setdefault(setting, []).append(Path("out.ndjson").read_bytes())
        for (parser, _), off, always in zip(
            [log for log in logs for _ in ("fields", "model")], written["off"], written["always"], strict=True
        ):
            self.assertTrue(off.strip(), parser.name)
            self.assertEqual(off.splitlines(), always.splitlines(), parser.name)

    def test_the_ready_parsers_write_the_same_of_their_cases_and_of_what_programs_wrote(self) -> None:
        logs: list[tuple[kinglet_module.Parser, Any]] = []
        for name in ready_parsers():
            parser = kinglet_module.load(name)
            logs.append((parser, [case.raw for case in parser._definition.cases]))
            logs += [(parser, REAL / sample) for sample, owners in OWNERS.items() if name == owners or name in owners]
        self.assert_same(logs)

    def test_damaged_and_foreign_text_is_written_the_same(self) -> None:
        chance = random.Random(8)
        logs: list[tuple[kinglet_module.Parser, Any]] = []
        for name in ("openssh", "pairs", "json-lines", "postgresql-csv", "nginx-access", "journal-json"):
            parser = kinglet_module.load(name)
            raws = [case.raw for case in parser._definition.cases] * 8
            for number, raw in enumerate(raws):
                for _ in range(chance.randrange(3)):
                    place = chance.randrange(len(raw))
                    raw = raw[:place] + chance.choice(ODD_PIECES) + raw[place + chance.randrange(2) :]
                raws[number] = raw
            logs.append((parser, raws))
        self.assert_same(logs)

    def test_a_run_of_many_events_writes_the_same(self) -> None:
        line = '192.0.2.{} - - [01/Mar/2026:00:00:{:02} +0000] "GET /quay?\\"{} HTTP/1.1" 200 {} "-" "Quay/{}"\n'
        Path("a.log").write_text("".join(line.format(i % 250, i % 60, i, i * 7, i % 9) for i in range(30_000)))
        for form in ("fields", "model"):
            outputs = []
            for setting in ("off", ""):
                compiled.forget()
                with mock.patch.dict(os.environ, {compiled.SETTING: setting}):
                    kinglet("run", "-p", "nginx-access", "a.log", "-o", "out.ndjson", "--as", form)
                outputs.append(Path("out.ndjson").read_bytes())
            self.assertTrue(outputs[0] == outputs[1], form)
            self.assertEqual(30_000, outputs[0].count(b"\n"))
