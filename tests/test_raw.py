"""Where raw logs come from, how they are packed and encoded, and how they arrive."""

from __future__ import annotations

import bz2
import gzip
import io
import lzma
import os
import sys
import threading
import unittest
from collections.abc import Callable
from pathlib import Path
from unittest import mock

import zstandard
from hypothesis import given
from hypothesis import strategies as st

import kinglet
from kinglet.cutting import small_logs as joining
from kinglet.cutting.cutter import EventBatch, cut
from kinglet.cutting.rule import CutRule
from kinglet.cutting.small_logs import cut_all
from kinglet.source import compression as unpacking
from kinglet.source import logs as sources
from kinglet.source.logs import open_sources
from tests.helpers import InFolder, examples, with_pattern
from tests.test_cutting import events, texts


class Sources(InFolder):
    def test_the_same_events_from_every_kind_of_source(self) -> None:
        parser = kinglet.load(with_pattern("{a:word} {b:int}"))
        path = self.write("x.log", "p 1\nq 2\n")
        for source in (path, str(path), b"p 1\nq 2\n", "p 1\nq 2\n", ["p 1", "q 2"], (x for x in ("p 1", "q 2"))):
            with self.subTest(kind=type(source)):
                result = parser.parse(source)
                self.assertEqual([("p", 1), ("q", 2)], result.events.select("a", "b").rows())
                self.assertEqual([1, 2], result.events["line"].to_list())

    def test_standard_input(self) -> None:
        with mock.patch.object(sys, "stdin", mock.Mock(buffer=io.BytesIO(b"p 1\n"))):
            result = kinglet.load(with_pattern("{a:word} {b:int}")).parse("-")
        self.assertEqual(["<stdin>"], result.events["file"].to_list())

    def test_what_cannot_be_read_is_said_with_the_way_out(self) -> None:
        self.write("x.gz", gzip.compress(b"a" * 100)[:8])
        self.write("x.bin", bytes(range(256)) * 8)
        self.write("x.zip", b"PK\x03\x04rest")
        (self.folder / "sub").mkdir()
        for name, said in {
            "none.log": "no such file; check the path",
            "none*.log": "no file matches; check the path",
            "sub": "is a folder with no files in it",
            "x.gz": "the gzip data ends before anything of it can be unpacked; fetch it again",
            "x.bin": "is binary, not text \\(byte 0x04 at offset 4\\)",
            "x.zip": "is a ZIP archive; unpack it first: unzip x.zip",
        }.items():
            with self.subTest(name=name), self.assertRaisesRegex(kinglet.InputError, said):
                kinglet.load(with_pattern("{a:rest}")).parse(name)
        self.assertEqual(1, len(kinglet.load(with_pattern("{a:rest}")).parse("x.zip", encoding="latin-1")))
        with self.assertRaisesRegex(kinglet.InputError, "item 1 is int, not text"):
            kinglet.load(with_pattern("{a:rest}")).parse(["a", 1])  # type: ignore[list-item]
        with self.assertRaisesRegex(
            kinglet.InputError, "a=b.*…: is no name of a file; give a text of one line"
        ) as caught:
            kinglet.load(with_pattern("{a:rest}")).parse("a=b " * 100_000)
        self.assertLess(len(str(caught.exception)), 200)

    def test_a_file_that_may_not_be_read(self) -> None:
        self.write("x.log", "a\n")
        with (
            mock.patch.object(Path, "open", side_effect=PermissionError(13, "Permission denied")),
            self.assertRaisesRegex(kinglet.InputError, "x.log: may not be read; ask for read permission"),
        ):
            kinglet.load(with_pattern("{a:rest}")).parse("x.log")

    def test_an_event_has_the_same_name_in_every_run_and_another_at_every_place(self) -> None:
        path = self.write("x.log", "a\nb\na\n")
        parser = kinglet.load(with_pattern("{a:rest}"))
        first, second = parser.parse(path).events["id"], parser.parse(path).events["id"]
        self.assertEqual(first.to_list(), second.to_list())
        self.assertEqual(3, first.n_unique())
        with path.open("a") as log:
            log.write("c\n")
        self.assertEqual(first.to_list(), parser.parse(path).events["id"].to_list()[:3])
        other = self.write("y.log", "a\nb\na\n")
        self.assertFalse(set(first) & set(parser.parse(other).events["id"]))

    def test_the_year_comes_from_when_the_file_was_written(self) -> None:
        path = self.write("x.log", "04/Mar 10:00 x\n")
        os.utime(path, (1_583_400_000, 1_583_400_000))  # 5 March 2020
        parser = kinglet.load(with_pattern("{s:time} {m:rest}") + "time: {from: s, format: '%d/%b %H:%M'}\n")
        self.assertEqual(2020, parser.parse(path).events["time"].item().year)
        self.assertEqual(2025, parser.parse(path, reference_time="2026-01-01").events["time"].item().year)

    def test_folders_and_globs(self) -> None:
        for name in ("b/2.log", "b/1.log", "a.log", ".hidden/x.log", "b/.y.log"):
            (self.folder / name).parent.mkdir(exist_ok=True)
            self.write(name, f"{name}\n")
        (self.folder / "b" / "round").symlink_to(self.folder, target_is_directory=True)
        reader = kinglet.load(with_pattern("{a:rest}"))
        names = ["a.log", "b/1.log", "b/2.log"]
        for source, wanted in ((self.folder, names), ("b/*.log", names[1:]), ("**/*.log", names)):
            with self.subTest(source=source):
                events_ = reader.parse(source).events
                self.assertEqual(wanted, events_["a"].to_list())
                self.assertEqual([(1, 0)] * len(wanted), events_.select("line", "offset").rows())


PACK: dict[str, Callable[[bytes], bytes]] = {
    "gzip": gzip.compress,
    "bzip2": bz2.compress,
    "xz": lzma.compress,
    "zstd": zstandard.compress,
}


class Packed(InFolder):
    TEXT = b"".join(b"line %d of a log\n" % i for i in range(5000))

    def test_by_content_in_one_member_or_several_whatever_the_chunks(self) -> None:
        wanted = events(self.TEXT, CutRule())
        for name, pack in PACK.items():
            for data in (pack(self.TEXT), pack(self.TEXT[:777]) + pack(self.TEXT[777:])):
                with self.subTest(packing=name):
                    self.assertEqual(wanted, events(data, CutRule()))
                    self.assertEqual(wanted, events(data, CutRule(), 500))
                    source = open_sources(data)[0]
                    list(cut(source, CutRule()))
                    self.assertEqual((name, False), (source.packing, source.cut_off))

    def test_what_ends_too_early_gives_what_there_is_and_says_so(self) -> None:
        for name, pack in PACK.items():
            with self.subTest(packing=name):
                found = events((pack(self.TEXT) + pack(self.TEXT))[:-30], CutRule())
                self.assertEqual("line 0 of a log", found[0][2])
                self.assertEqual([["cut-off"]], [faults for *_, faults in found if faults])
                self.assertEqual(["cut-off"], found[-1][3])

    def test_a_bomb_is_stopped_by_the_limit(self) -> None:
        self.write("bomb.gz", gzip.compress(b"\n" * 30_000_000))
        parser = kinglet.load(with_pattern("{a:rest}"))
        with (
            mock.patch.object(unpacking, "LIMIT_BYTES", 1_000_000),
            self.assertRaisesRegex(
                kinglet.InputError, "bomb.gz: unpacks to .* more than 200 times .*--max-unpacked-bytes"
            ),
        ):
            parser.parse("bomb.gz")
        with self.assertRaisesRegex(kinglet.InputError, "more than the 5,000 bytes allowed"):
            parser.parse("bomb.gz", max_unpacked_bytes=5000)
        self.assertEqual(0, len(parser.parse("bomb.gz")))

    def test_trailing_zeros_and_packed_text_in_another_encoding(self) -> None:
        self.assertEqual([("a", "")], texts_of(gzip.compress(b"a\n") + b"\0" * 512))
        self.assertEqual([("ä", ""), ("b", "")], texts_of(gzip.compress("ä\nb\n".encode("utf-16"))))


def texts_of(data: bytes) -> list[tuple[str, str]]:
    return [(text, " ".join(faults)) for _, _, text, faults in events(data, CutRule())]


class Encodings(unittest.TestCase):
    LOG = "03:00 Café zu\r\n03:01 Müller 25°\n\n03:02 ça suffit – déjà\n"
    LINES = ((1, "03:00 Café zu"), (2, "03:01 Müller 25°"), (4, "03:02 ça suffit – déjà"))

    def test_told_by_content_with_offsets_of_the_log_itself(self) -> None:
        for encoding, told, evidence in (
            ("utf-8", "utf-8", "7 multi-byte characters and no invalid byte"),
            ("utf-8-sig", "utf-8", "byte order mark EF BB BF"),
            ("utf-16", "utf-16-le", "byte order mark FF FE"),
            ("utf-16-le", "utf-16-le", r"\d+ % of each second byte of two is zero; no byte order mark"),
            ("utf-16-be", "utf-16-be", r"\d+ % of each first byte of two is zero"),
            ("utf-32", "utf-32-le", "byte order mark FF FE 00 00"),
            ("cp1252", "cp1252", "7 bytes above 7F that are not UTF-8 and read as Western letters and signs"),
        ):
            for chunk in (0, 1, 7):
                with self.subTest(encoding=encoding, chunk=chunk):
                    data = self.LOG.encode(encoding)
                    with mock.patch.object(sources, "CHUNK_BYTES", chunk or sources.CHUNK_BYTES):
                        source = open_sources(data)[0]
                        frame = next(cut(source, CutRule())).frame
                    assert source.encoding is not None
                    self.assertEqual(told, source.encoding.name)
                    self.assertRegex(source.encoding.evidence, evidence)
                    self.assertEqual(list(self.LINES), frame.select("line", "raw").rows())
                    for offset, raw in frame.select("offset", "raw").rows():
                        text = raw.encode(told)
                        self.assertEqual(text, data[offset : offset + len(text)])

    def test_the_call_overrides_the_parser_which_overrides_the_content(self) -> None:
        data = "03:00 Привет\n".encode("koi8-r")
        parser = kinglet.load(with_pattern("{t:word} {m:rest}") + "events: {encoding: koi8-r}\n")
        self.assertEqual(["Привет"], parser.parse(data).events["m"].to_list())
        self.assertEqual(["рТЙЧЕФ"], parser.parse(data, encoding="cp1251").events["m"].to_list())
        with self.assertRaisesRegex(kinglet.UsageError, "no such encoding `utf8x`; did you mean"):
            parser.parse(data, encoding="utf8x")
        with self.assertRaisesRegex(kinglet.ParserFileError, "events.encoding: no such encoding `koi8`"):
            kinglet.load(with_pattern("{m:rest}") + "events: {encoding: koi8}\n")
        shifted = "events: {encoding: shift_jis}\n"
        data = "03:00 日本\n03:01 語\n".encode("shift_jis")
        self.assertEqual(
            ["日本", "語"], kinglet.load(with_pattern("{t:word} {m:rest}") + shifted).parse(data).events["m"].to_list()
        )

    def test_invalid_bytes_are_replaced_and_marked_and_zeros_kept(self) -> None:
        for data, wanted in {
            "ü\n".encode() * 9 + b"a\xff\n": ("a\ufffd", "bad-bytes"),
            b"x\x81y \xe9t\xe9\n".replace(b" ", b" caf\xe9 na\xefve d\xe9j\xe0 "): (
                "x\ufffdy café naïve déjà été",
                "bad-bytes",
            ),
            b"a\0b\n": ("a\0b", ""),
            "ab\n".encode("utf-16") + b"\x00\xd8c\x00\n\x00": ("\ufffdc", "bad-bytes"),
            "ab\n".encode("utf-16") + b"c\x00d": ("c\ufffd", "bad-bytes"),
        }.items():
            with self.subTest(data=data):
                self.assertEqual(wanted, texts_of(data)[-1])
                self.assertEqual(events(data, CutRule()), events(data, CutRule(), 1))

    def test_the_encoding_may_show_late(self) -> None:
        ascii_ = b"plain text\n" * 20_000
        for late in ("Müller\n".encode("cp1252") * 3, "Müller\n".encode() * 3, "Müller é\n".encode("cp1252") * 20_000):
            with self.subTest(late=late[:9]):
                self.assertIn("Müller", texts_of(ascii_ + late)[-1][0])
                self.assertEqual(events(ascii_ + late, CutRule()), events(ascii_ + late, CutRule(), 70_001))

    def test_line_ends(self) -> None:
        for data, rule, wanted in (
            (b"a\rb\rc", CutRule(), ["a", "b", "c"]),
            (b"a\nb\r\nc\rd\n", CutRule(), ["a", "b", "c\rd"]),
            (b"a\nb\r\nc\rd\n", CutRule(line_ends="any"), ["a", "b", "c", "d"]),
            (b"a\rb\r", CutRule(line_ends="lf"), ["a\rb"]),
        ):
            self.assertEqual(wanted, [text for text, _ in texts(data, rule)])

    def test_records_counted_in_bytes_are_decoded_one_by_one(self) -> None:
        data = "Müller 1Jürgen 2".encode("cp1252")
        self.assertEqual([("Müller 1", ""), ("Jürgen 2", "")], texts(data, CutRule("length", 8)))
        self.assertEqual([("\u00c1\u00e2", "")], texts(b"\x65\x42", CutRule("length", 2, encoding="cp037")))
        self.assertEqual(["bad-bytes", "bad-bytes"], [why for _, why in texts("aüb".encode(), CutRule("length", 2))])


class Offsets(unittest.TestCase):
    @given(st.lists(st.text("aé€\U0001f6a2 ", min_size=1, max_size=6), min_size=1, max_size=6),
           st.sampled_from(["utf-8", "utf-16-le", "utf-16-be", "utf-32-le", "cp1252"]))  # fmt: skip
    @examples(40)
    def test_they_count_bytes_of_the_log_in_its_own_encoding(self, lines: list[str], encoding: str) -> None:
        lines = [f"x{line}".encode(encoding, "ignore").decode(encoding) for line in lines]
        log = "".join(f"{line}\n" for line in lines).encode(encoding)
        events = kinglet.load(with_pattern("{a:rest}")).parse(log, encoding=encoding).events
        starts = [len("".join(f"{line}\n" for line in lines[:i]).encode(encoding)) for i in range(len(lines))]
        self.assertEqual((lines, starts), (events["raw"].to_list(), events["offset"].to_list()))


class Pipes(InFolder):
    def parse(self, yaml: str, *writes: bytes) -> list[tuple[list[str], list[str]]]:
        """The texts and faults of each batch, from a pipe in which a piece comes only when a batch has been read."""
        reader, writer = os.pipe()
        read = threading.Semaphore(1)
        in_time = []

        def write() -> None:
            for data in writes:
                in_time.append(read.acquire(timeout=60))
                os.write(writer, data)
            os.close(writer)

        parser = kinglet.load(with_pattern("{a:rest}") + yaml)
        thread = threading.Thread(target=write)
        found = []
        with mock.patch.object(sys, "stdin", mock.Mock(buffer=os.fdopen(reader, "rb"))):
            thread.start()
            for batch in parser.parse_batches("-"):
                faults = [" ".join(faults) for faults in batch.events["faults"]]
                found.append((batch.events["raw"].to_list(), faults))
                read.release()
        thread.join()
        self.assertTrue(all(in_time))
        return found

    def test_events_come_as_soon_as_they_are_whole(self) -> None:
        found = self.parse("", b"a\nb", b"c\n")
        self.assertEqual([["a"], ["bc"]], [raw for raw, _ in found])

    def test_an_event_whose_end_does_not_come_is_given_out_after_the_idle_time(self) -> None:
        rule = r"events: {start: '^\d', idle: 200 ms}"
        found = self.parse(rule, b"1 a\n  more\n", b"  late\n2 b\n")
        self.assertEqual([["1 a\n  more"], ["  late", "2 b"]], [raw for raw, _ in found])
        self.assertEqual([""], found[0][1])
        self.assertIn("no-start", found[1][1][0])
        found = self.parse("events: {line: true, idle: 200 ms}", b"half", b" line\nb\n")
        self.assertEqual([["half"], [" line", "b"]], [raw for raw, _ in found])
        self.assertEqual([[""], ["after-pause", ""]], [faults for _, faults in found])


class ManySmallLogs(InFolder):
    def test_together_or_apart_they_give_the_same_events(self) -> None:
        parts = [b"1 a\n  b\n", b"", b"  lost\n2 c", b"\n\n", b"3 \xff\n", "4 ü".encode("utf-16"), b"END\n"]
        for i, data in enumerate(parts):
            self.write(f"{i}.log", data)
        self.write("8.log.gz", gzip.compress(b"6 d\nEND"))
        for rule in (CutRule(), CutRule("start", r"^\d"), CutRule("end", "^END"), CutRule("indent"),
                     CutRule("blank-line"), CutRule("start", r"^\d", max_bytes=64, max_lines=1), CutRule("json"),
                     CutRule("csv")):  # fmt: skip
            with self.subTest(rule=rule):
                self.same(rule)
        self.write("7.log", b"5\rx\r")  # in which CR ends lines is by itself
        for rule in (CutRule(), CutRule("start", r"^\d"), CutRule("end", "^END"), CutRule("indent")):
            with self.subTest(rule=rule, lone=True):
                self.same(rule, batches=3)

    def test_json_together_or_apart(self) -> None:
        good = [b'{"r": [{"a": {"r": [{}]}}, {"b": 1}]}', b'{"n": 1,\n "r": [\n  {"c": 2}\n ]}\n', b"",
                b'[{"d": 1},\n {"e": 2}]']  # fmt: skip
        bad = [b'{"r": [{"f": 1}, {"g": ', b'{"q": [{"h": 1}]}', b"}{", b'{"r": [{"i": "j}]}\n', b'{"k": 1},',
               b'{"l": 1}\nlost\n']  # fmt: skip
        for parts in (good, good + bad, [bad[0], *good], bad):
            for i in range(12):
                self.write(f"{i:02}.json", parts[i] if i < len(parts) else good[i % 4])
            for rule in (CutRule("json"), CutRule("json", "r")):
                with self.subTest(rule=rule, parts=parts):
                    self.same(rule)

    def same(self, rule: CutRule, batches: int = 1) -> None:
        together = list(cut_all(open_sources(self.folder), rule))
        with mock.patch.multiple(joining, SHARED_EVENTS=0, SMALL_BYTES=0):
            apart = list(cut_all(open_sources(self.folder), rule))
        self.assertEqual(batches, len(together))
        self.assertEqual(self.rows(apart), self.rows(together))

    def rows(self, batches: list[EventBatch | None]) -> list[tuple[object, ...]]:
        found: list[tuple[object, ...]] = []
        for batch in batches:
            assert batch is not None
            numbers = batch.frame["#source"] if "#source" in batch.frame.columns else [0] * len(batch)
            for i, (row, number) in enumerate(
                zip(batch.frame.select("line", "offset", "raw").rows(), numbers, strict=True)
            ):
                source = batch.sources[number]
                faults = {name for name, mask in batch.faults if mask[i]}
                found.append((*row, source.name, source.fingerprint, source.encoding and source.encoding.name, faults))
        return found
