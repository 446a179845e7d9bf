"""Logs that are damaged, mixed, packed wrongly or named strangely: nothing is lost, and what is wrong is marked."""

from __future__ import annotations

import bz2
import gzip
import itertools
import json
import lzma
import os
import re
import struct
import unittest
from collections.abc import Callable
from pathlib import Path
from typing import Any
from unittest import mock

import zstandard
from hypothesis import example, given
from hypothesis import strategies as st

import kinglet as kinglet_module
from kinglet.calls import run_batches
from kinglet.columns.text_spans import found as found_in
from kinglet.cutting import cutter as cutting
from kinglet.cutting import small_logs as joining
from kinglet.cutting.boundaries.base import Boundary, Buffer
from kinglet.cutting.boundaries.elements import Elements
from kinglet.cutting.boundaries.framed import Counted, FixedLength, Prefixed
from kinglet.cutting.cutter import Cutter, cut
from kinglet.cutting.rule import CutRule
from kinglet.source import encodings
from kinglet.source.logs import CHUNK_BYTES, Source, open_sources
from tests.helpers import InFolder, examples, kinglet, with_pattern

LINES = "kinglet: 1\nparser: lines\nversion: 1.0.0\nproduct: {vendor: Marram Ferries, name: Bench}\n"


def events(data: bytes, rule: CutRule, chunk: int = CHUNK_BYTES) -> list[tuple[str, tuple[str, ...]]]:
    with mock.patch("kinglet.source.logs.CHUNK_BYTES", chunk), mock.patch.object(cutting, "HEAD_BYTES", 64):
        found = []
        for batch in cut(open_sources(data)[0], rule):
            masks = [(name, mask.to_list()) for name, mask in batch.faults]
            for i, text in enumerate(batch.frame["raw"]):
                found.append((text, tuple(sorted(name for name, mask in masks if mask[i]))))
    return found


class Packed(InFolder):
    PACK: dict[str, Callable[[bytes], bytes]] = {  # noqa: RUF012
        "gzip": gzip.compress,
        "bzip2": bz2.compress,
        "xz": lzma.compress,
        "zstd": zstandard.ZstdCompressor(write_checksum=True).compress,
    }
    TEXT = b"".join(b"%05d %s moored at quay %d\n" % (i, os.urandom(9).hex().encode(), i % 7) for i in range(9000))

    @given(st.sampled_from(list(PACK)), st.sampled_from(["cut", "broken", "garbage", "zeros"]), st.floats(0, 1))
    @examples(24)
    def test_what_was_unpacked_is_kept_and_marked(self, name: str, how: str, part: float) -> None:
        packed = self.PACK[name](self.TEXT)
        place = min(int(part * len(packed)), len(packed) - 2)
        given_ = {
            "cut": packed[:place],
            "broken": packed[:place] + bytes([packed[place] ^ 0x55]) + packed[place + 1 :],
            "garbage": packed + b"no part of it",
            "zeros": packed + b"\0" * 600,
        }[how]
        parser = kinglet_module.load(with_pattern("{a:rest}"))
        source = open_sources(given_)[0]
        try:
            found = [event for parsed in run_batches(parser, [source]) for event in parsed.events().to_dicts()]
        except kinglet_module.InputError as error:
            self.assertRegex(str(error), "damaged from its start|ends before anything|is binary, not text")
            return
        if not given_.startswith(packed[: 6 if name == "xz" else 4]):
            return  # no longer told as packed: text of some kind, read as such
        raw = [event["raw"] for event in found]
        whole = self.TEXT.decode().splitlines()
        good = list(itertools.takewhile(lambda pair: pair[0] == pair[1], zip(raw, whole, strict=False)))
        if len(good) < len(whole):
            self.assertTrue({"cut-off", "damaged"} & set(found[-1]["faults"]), (name, how))
        elif how == "garbage":
            self.assertIn("damaged", found[-1]["faults"])
        self.assertGreaterEqual(len(good), len(raw) - (how == "broken") * len(raw) - 1)

    def test_run_names_what_is_damaged_or_skipped(self) -> None:
        self.write("a.log", "x 1\n")
        self.write("b.log.gz", gzip.compress(self.TEXT)[:-300])
        self.write("c.log.gz", gzip.compress(self.TEXT) + b"garbage")
        self.write("d.bin", bytes(range(256)) * 40)
        self.write("p.yaml", with_pattern("{a:rest}"))
        logs = ("a.log", "b.log.gz", "c.log.gz", "d.bin")
        self.assertEqual(2, kinglet("run", "-p", "p.yaml", *logs, "-o", "o.ndjson").status)
        called = kinglet("run", "-p", "p.yaml", *logs, "-o", "o.ndjson", "--skip-unreadable", "--json")
        told = called.json()
        self.assertEqual((0, ["d.bin"], ["c.log.gz"]), (called.status, list(told["skipped"]), list(told["damaged"])))
        self.assertGreater(told["counts"]["events"], 17_000)
        plain = kinglet("run", "-p", "p.yaml", *logs, "-o", "o.ndjson", "--skip-unreadable").err
        self.assertIn("skipped  d.bin: is binary", plain)
        self.assertIn("damaged  c.log.gz: the gzip data ends, and what follows is none of it", plain)


class Outputs(InFolder):
    def test_no_log_is_overwritten_or_read_again(self) -> None:
        self.write("p.yaml", with_pattern("{a:rest}"))
        (self.folder / "logs").mkdir()
        for name in ("logs/a.ndjson", "b.ndjson"):
            self.write(name, "x\n")
        (self.folder / "link.ndjson").symlink_to("b.ndjson")
        for log, out in (
            ("b.ndjson", "b.ndjson"),
            ("b.ndjson", "./b.ndjson"),
            ("b.ndjson", "link.ndjson"),
            ("logs", "logs/a.ndjson"),
            ("logs", "logs/new.ndjson"),
            ("*.ndjson", "b.ndjson"),
        ):
            called = kinglet("run", "-p", "p.yaml", log, "-o", out)
            self.assertEqual(2, called.status, (log, out))
            self.assertRegex(called.err, "one of the logs|lies in the folder")
        self.assertEqual("x\n", Path("b.ndjson").read_text())

    def test_names_of_any_kind(self) -> None:
        self.write("p.yaml", with_pattern("{a:rest}"))
        for name in (b"a\nb.log", b"\xff\xfe.log", b"\x1b[2Jx.log", "\u202egol.log".encode()):
            Path(os.fsdecode(name)).write_bytes(b"x 1\n")
            called = kinglet("run", "-p", "p.yaml", os.fsdecode(name), "-o", "o.ndjson")
            self.assertEqual(0, called.status, called.err)
            file = json.loads(Path("o.ndjson").read_text())["file"]
            self.assertTrue(file.isprintable(), name)
            result = kinglet_module.load("p.yaml").parse(os.fsdecode(name))
            self.assertEqual([file], result.events["file"].to_list())
            missing = kinglet("run", "-p", "p.yaml", os.fsdecode(name) + ".gone", "-o", "o.ndjson").err
            self.assertTrue(missing.rstrip("\n").isprintable(), missing)
            Path(os.fsdecode(name)).unlink()


class Records(unittest.TestCase):
    """Generated logs and what they hold, whatever the chunks."""

    @given(
        st.lists(st.one_of(
            st.tuples(st.just("records"), st.lists(st.one_of(st.dictionaries(st.sampled_from("ab"), st.integers()),
                      st.integers(), st.text("xy{[", max_size=3)), max_size=4)),
            st.tuples(st.just("other"), st.dictionaries(st.sampled_from("ab"), st.integers(), min_size=1)),
        ), min_size=1, max_size=5),
        st.integers(3, 90),
    )  # fmt: skip
    @examples(36)
    def test_objects_under_a_key(self, logged: list[tuple[str, list[object]]], chunk: int) -> None:
        """Objects without the key, and items that are no objects, are events with a fault; nothing is dropped."""
        lines, good, others = [], [], []
        for kind, value in logged:
            whole = {"at": 1, "Records": value} if kind == "records" else value
            lines.append(json.dumps(whole))
            if kind == "records":
                good += [json.dumps(item) for item in value if isinstance(item, dict)]
                others += [json.dumps(item) for item in value if not isinstance(item, dict)]
            else:
                others.append(json.dumps(whole))
        found = events("\n".join(lines).encode(), CutRule("json", "Records"), chunk)
        if not any('"Records"' in line for line in lines):
            self.assertEqual("".join(lines).replace(" ", ""), "".join(text for text, _ in found).replace(" ", ""))
            return
        self.assertEqual(good, [text for text, faults in found if not faults])
        strays = re.sub(r"[\s,]", "", "".join(text for text, faults in found if faults))
        self.assertEqual(re.sub(r"[\s,]", "", "".join(others)), strays)

    @given(
        st.lists(st.text("ab-\n", max_size=6), min_size=1, max_size=5), st.booleans(), st.booleans(), st.integers(1, 40)
    )
    @examples(36)
    def test_separators_at_the_edges_and_with_either_line_end(
        self, texts: list[str], leads: bool, crlf: bool, chunk: int
    ) -> None:
        texts = [text.replace("-", "").strip("\n") for text in texts]
        whole = "\n--\n".join(texts)
        whole = ("--\n" if leads else "") + whole + "\n--"
        data = whole.replace("\n", "\r\n" if crlf else "\n").encode()
        found = [text.replace("\r\n", "\n") for text, _ in events(data, CutRule("separator", "\n--\n"), chunk)]
        self.assertEqual([text for text in texts if text], found)

    @given(
        st.sampled_from(["line", "2 bytes", "4 bytes", "2 bytes little-endian", "4 bytes little-endian"]),
        st.lists(st.text("ab\n é", max_size=300), min_size=1, max_size=6), st.integers(1, 50),
    )  # fmt: skip
    @example("2 bytes", ["aaaaaa", "a"], 1)
    @example("2 bytes", ["a", ""], 3)
    @example("2 bytes little-endian", ["é" * 120, "b" * 200], 7)
    @example("4 bytes", ["b" * 254, "b" * 0xFE], 7)
    @examples(36)
    def test_lengths_before_records(self, form: str, texts: list[str], chunk: int) -> None:
        def head(size: int) -> bytes:
            if form == "line":
                return b"%d\n" % size
            return struct.pack(("<" if "little" in form else ">") + ("H" if form[0] == "2" else "I"), size)

        data = b"".join(head(len(text.encode())) + text.encode() for text in texts)
        self.assertEqual([(text, ()) for text in texts if text], events(data, CutRule("counted", form), chunk))

    def test_broken_records_where_a_buffer_ends(self) -> None:
        for rule, text in (
            (CutRule("json"), '[\n  {"z": 0},\n  {"a": 1},\n{"a": 1},\n{"a": 1},\n{"i": "\n,\n  {"a": 1},\n]'),
            (CutRule("xml", "e"), f"<e>1</e><e>{'y' * 90}\n  <e>1</e>\n"),
        ):
            whole = events(text.encode(), rule)
            self.assertEqual(1, sum("cut-off" in faults for _, faults in whole))
            for chunk in (1, 2, 3, 7, 30):
                self.assertEqual(whole, events(text.encode(), rule, chunk), chunk)

    def test_a_length_that_is_none_costs_what_follows_and_says_so(self) -> None:
        self.assertEqual([("ab", ()), ("x\ncd", ("bad-count",))], events(b"2\nabx\ncd", CutRule("counted", "line")))
        self.assertEqual([("ab", ()), ("c", ("cut-off",))], events(b"2\nab4\nc", CutRule("counted", "line")))

    def test_what_is_lost_stays_lost_over_pieces_and_chunks(self) -> None:
        data = b"\x00\x02ab" + b"\xff\xff" + b"\x00\x02cd" * 20_000  # more than is read to tell the encoding
        for chunk, most in itertools.product((997, len(data)), (1021, 1022, 1024)):
            first, *lost = events(data, CutRule("counted", "2 bytes", max_bytes=most), chunk)
            self.assertEqual(("ab", ()), first)
            self.assertEqual(data[4:].decode("utf-8", "replace"), "".join(text for text, _ in lost))
            self.assertEqual([True] * len(lost), ["bad-count" in faults or "too-long" in faults for _, faults in lost])
            self.assertGreater(len(lost), 2)

    @given(st.integers(1, 3), st.booleans(), st.integers(1, 60))
    @examples(24)
    def test_elements_within_elements_of_their_name(self, depth: int, pretty: bool, chunk: int) -> None:
        def element(level: int, indent: str) -> str:
            if level == 0:
                return f"{indent}<e n='0'/>"
            inner = element(level - 1, indent + "  ")
            return f"{indent}<e>\n{inner}\n{indent}</e>" if pretty else f"<e>{inner.strip()}</e>"

        record = element(depth, "")
        found = events(f"{record}\n{record}\n<e>\n  <x/>\n{record}\n</e>\n".encode(), CutRule("xml", "e"), chunk)
        expected: list[tuple[str, tuple[str, ...]]] = [(record, ()), (record, ())]
        expected += [("<e>\n  <x/>", ("cut-off",)), (record, ()), ("</e>", ("cut-off",))]
        self.assertEqual(expected, found)

    def test_unclosed_markup_is_read_once(self) -> None:
        class Counting(bytes):
            seen = 0

            def find(self, *arguments: object) -> int:
                Counting.seen += 1
                return super().find(*arguments)  # type: ignore[arg-type]

        for opening in (b"<!--", b"<![CDATA[", b"<?"):
            Counting.seen = 0
            data = Counting(b"<e>1</e>" + opening * 3000)
            cutter = Elements("e", 10**7)
            cutter.find(Buffer(data, found_in(data, 10), False, True))
            self.assertLess(Counting.seen, 20, opening)

    def test_the_encoding_of_records_with_their_length_before_them(self) -> None:
        texts = ["stört für " * 12_000, "Ebbe für heute", "grün"]
        data = b"".join(len(text.encode("cp1252")).to_bytes(4, "big") + text.encode("cp1252") for text in texts)
        # the first is longer than what is looked at to tell the encoding
        self.assertGreater(len(texts[0]), encodings.HEAD_BYTES)
        found = events(data, CutRule("counted", "4 bytes"))
        self.assertTrue([(text, ()) for text in texts] == found, [faults for _, faults in found])

    def test_lines_that_lead_and_banners(self) -> None:
        rule = CutRule("start", r"^\d", lead="^#", banner="^=")
        data = b"=== pump panel\n== 3\n# note\n# more\n1 a\n  b\n2 c\n# of three\n3 d\n#e"
        expected = ["=== pump panel", "== 3", "# note\n# more\n1 a\n  b", "2 c", "# of three\n3 d\n#e"]
        for chunk in (*range(1, 12), 4096):
            found = events(data, rule, chunk)
            self.assertEqual(expected, [text for text, _ in found], chunk)
        self.assertEqual([], [faults for _, faults in found[2:] if faults])

    def test_marks_within_a_log_and_two_encodings(self) -> None:
        data = b"\xef\xbb\xbf1 a\n\xef\xbb\xbf2 b\n x\n"
        self.assertEqual([("1 a", ()), ("2 b\n x", ())], events(data, CutRule("start", r"^\d")))
        data = "stört\n".encode("cp1252") * 900 + "stört ‚x‘\n".encode() + b"plain\n"
        found = events(data, CutRule())
        self.assertEqual([("mixed-encoding",)], [faults for _, faults in found if faults])


class Pauses(unittest.TestCase):
    """What has come after a pause goes on where it was."""

    def pieces(self, boundary: Boundary, *parts: bytes) -> list[bytes]:
        found: list[bytes] = []
        for i, part in enumerate(parts):
            given_ = boundary.find(Buffer(part, found_in(part, 10), False, True))
            found += [part[start:end] for start, end in given_.spans.select("start", "end").iter_rows()]
            if i < len(parts) - 1:
                boundary.restart()
        return found

    def test_each_rule(self) -> None:
        self.assertEqual([b"abcd", b"ef", b"gh", b"ijkl"], self.pieces(FixedLength(4), b"abcdef", b"ghijkl"))
        self.assertEqual(
            [b"abcd", b"ef", b"g", b"h", b"ijkl"], self.pieces(FixedLength(4), b"abcdef", b"g", b"hijkl")[:5]
        )
        self.assertEqual([b"<1>ab", b"<1", b">cd", b"<1>e"], self.pieces(Counted(999), b"5 <1>ab5 <1", b">cd4 <1>e"))
        self.assertEqual([b"ab", b"c", b"d", b"e"], self.pieces(Prefixed(2, "big", 999), b"\0\2ab\0\2c", b"d\0\1e"))
        self.assertEqual([b"<e>a", b"b</e>", b"<e/>"], self.pieces(Elements("e", 999), b"<e>a", b"b</e><e/>"))


class Batches(InFolder):
    def test_they_are_bounded_in_bytes(self) -> None:
        big = "x" * 400_000
        with mock.patch.object(cutting, "MAX_BYTES", 2**20), mock.patch.object(joining, "SHARED_BYTES", 2**20):
            for i in range(12):
                self.write(f"{i}.log", f"{big}\n{big}\n")
            sizes = [batch.text_bytes for batch in joining.cut_all(open_sources(self.folder), CutRule()) if batch]
            self.assertLess(max(sizes), 3 * 2**20)
            sizes = [
                batch.text_bytes
                for batch in cut(Source("x", open_sources(b"")[0].reference, events=[big] * 30), CutRule())
            ]
            self.assertLess(max(sizes), 2 * 2**20)

    def test_a_small_log_is_opened_once_and_let_go(self) -> None:
        for name, text in {"a.log": "a\n", "b.json": '{"a":1}\n', "c.json": '{"a":', "d.json": '{"b":2}\n'}.items():
            self.write(name, text)
        self.write("e.log.gz", gzip.compress(b"e\nf\n"))
        opened: list[str] = []
        real = Path.open

        def counted(path: Path, *arguments: Any, **more: Any) -> Any:
            if path.parent == self.folder:
                opened.append(path.name)
            return real(path, *arguments, **more)

        for rule, names in ((CutRule(), ["a.log"]), (CutRule(), ["e.log.gz"]), (CutRule(), ["a.log", "e.log.gz"]),
                            (CutRule("json"), ["b.json", "c.json", "d.json"])):  # fmt: skip
            opened.clear()
            with mock.patch.object(Path, "open", counted):
                sources = open_sources(*(self.folder / name for name in names))
                texts = [text for batch in joining.cut_all(sources, rule) if batch for text in batch.frame["raw"]]
            self.assertEqual(sorted(names), sorted(opened))
            self.assertGreaterEqual(len(texts), len(names))
            self.assertEqual([None] * len(names), [source.held for source in sources])

    def test_the_bytes_of_small_logs_are_counted_once(self) -> None:
        for i in range(9):
            self.write(f"{i}.log", "ab\n" * (i + 1))
        for most in (4, 100):
            with mock.patch.object(cutting, "MAX_EVENTS", most):
                batches = [batch for batch in joining.cut_all(open_sources(self.folder), CutRule()) if batch]
            self.assertAlmostEqual(3 * 45, sum(batch.bytes_read for batch in batches), delta=len(batches))

    @given(
        st.lists(st.sampled_from(['{"a":1}\n{"b":2}\n', '{"a":', '[{"a":1}]', "", "junk\n", '{"c":3}}\n']), max_size=9)
    )
    @examples(32)
    def test_small_logs_together_are_as_each_alone(self, texts: list[str]) -> None:
        def read(sources: list[Source]) -> list[tuple[str, str, tuple[str, ...]]]:
            found = []
            for batch in joining.cut_all(sources, CutRule("json")):
                assert batch is not None
                of = batch.frame["#source"].to_list() if "#source" in batch.frame.columns else [0] * len(batch)
                for i, text in enumerate(batch.frame["raw"]):
                    faults = tuple(sorted(name for name, mask in batch.faults if mask[i]))
                    found.append((batch.sources[of[i]].name, text, faults))
            return found

        paths = [self.write(f"{i}.json", text) for i, text in enumerate(texts)]
        together = read(open_sources(*paths))
        alone = [event for path in paths for event in read(open_sources(path))]
        self.assertEqual(alone, together)


class Cutters(unittest.TestCase):
    def test_damage_of_the_source_reaches_its_last_event(self) -> None:
        source = open_sources(b"a\nb\n")[0]
        source.damage = "ends"
        cutter = Cutter(source, CutRule())
        (batch,) = cutter.feed(b"a\nb\n", final=True)
        self.assertEqual([("damaged", [False, True])], [(name, mask.to_list()) for name, mask in batch.faults])
