"""Raw bytes to events: every byte has its place, wherever the chunks fall."""

from __future__ import annotations

import io
import os
import sys
import unittest
from pathlib import Path
from unittest import mock

from hypothesis import given, settings
from hypothesis import strategies as st

import kinglet
from kinglet.raw import cutting, sources
from kinglet.raw.cutting import CutRule, cut
from kinglet.raw.sources import Given, open_source
from tests.helpers import InFolder, with_pattern

Event = tuple[int, int, str, list[str]]


def events(data: Given, rule: CutRule, chunk: int = 0) -> list[Event]:
    """Line, offset, text and faults of every event."""
    found: list[Event] = []
    with mock.patch.object(sources, "CHUNK_BYTES", chunk or sources.CHUNK_BYTES):
        for batch in cut(open_source(data), rule):
            for i, (line, offset, raw) in enumerate(batch.frame.rows()):
                found.append((line, offset, raw, [name for name, mask in batch.faults if mask[i]]))
    return found


LINE = st.sampled_from([b"1 a", b"", b"ccc ddd", b" ", b"\xc3\xbc" * 40, b"2 " + b"z" * 150, b"3\xff"])
END = st.sampled_from([b"\n", b"\r\n", b"\n\n"])
RULES = [
    CutRule(),
    CutRule(max_bytes=64),
    CutRule(r"^\d"),
    CutRule(r"^\d", max_bytes=64),
    CutRule(r"^\d.*z$", max_bytes=64),
]


class Cutting(unittest.TestCase):
    def test_lines(self) -> None:
        found = events(b"a\r\n\nb\n\n\nccc", CutRule())
        self.assertEqual([(1, 0, "a", []), (3, 4, "b", []), (6, 8, "ccc", [])], found)

    def test_lines_that_continue_an_event(self) -> None:
        data = b"\xef\xbb\xbf\n lost\n1 a\n  b\n\n c\n\n2 q\n3 \xff\n\n"
        self.assertEqual(
            [
                (2, 4, " lost", ["no-start"]),
                (3, 10, "1 a\n  b\n\n c", []),
                (8, 23, "2 q", []),
                (9, 27, "3 \ufffd", ["bad-bytes"]),
            ],
            events(data, CutRule(r"^\d")),
        )

    def test_odd_ends(self) -> None:
        for data, texts in {
            b"": [],
            b"\n\n\r\n": [],
            b"x": ["x"],
            b"x\r": ["x"],
            b"a\rb\n": ["a\rb"],
            b"a\x00b\n" + b"c\n" * 60: ["a\x00b", *["c"] * 60],
        }.items():
            with self.subTest(data=data):
                self.assertEqual(texts, [text for _, _, text, _ in events(data, CutRule())])

    def test_events_that_are_too_long_come_in_pieces_that_lose_nothing(self) -> None:
        data = ("1 " + "ü" * 50 + "\n" + "b" * 200 + "\n2 c\n").encode()
        found = events(data, CutRule(r"^\d", max_bytes=64))
        self.assertEqual("".join(text for _, _, text, _ in found), data.decode().replace("\n2 c\n", "2 c"))
        self.assertEqual([["too-long"]] * (len(found) - 1) + [[]], [faults for *_, faults in found])

    @given(st.lists(st.tuples(LINE, END), min_size=1, max_size=8), st.sampled_from(RULES), st.integers(1, 90))
    @settings(max_examples=80, deadline=None)
    def test_chunks_change_nothing_and_every_byte_is_somewhere(
        self, lines: list[tuple[bytes, bytes]], rule: CutRule, chunk: int
    ) -> None:
        data = b"".join(line + end for line, end in lines)
        found = events(data, rule)
        self.assertEqual(found, events(data, rule, chunk))
        position = 0
        for _, offset, text, faults in found:
            self.assertEqual(b"", data[position:offset].strip(b"\r\n"))
            size = len(text.replace("\ufffd", "\0").encode() if "bad-bytes" in faults else text.encode())
            position = offset + size
        self.assertEqual(b"", data[position:].strip(b"\r\n"))

    def test_large_batches_are_split(self) -> None:
        with mock.patch.object(cutting, "MAX_EVENTS", 10):
            batches = list(cut(open_source(b"a\n" * 35), CutRule()))
        self.assertEqual([10, 10, 10, 5], [len(batch) for batch in batches])
        self.assertEqual(31, batches[3].frame["line"][0])


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
        self.write("x.gz", b"\x1f\x8b\x08rest")
        self.write("x.utf16", "text".encode("utf-16"))
        self.write("x.bin", bytes(range(256)) * 8)
        (self.folder / "sub").mkdir()
        for name, said in {
            "none.log": "no such file; check the path",
            "sub": "is a folder; name the files in it",
            "x.gz": "is compressed \\(gzip\\); unpack it first",
            "x.utf16": "is UTF-16 text; convert it first",
            "x.bin": "is binary, not text \\(byte 0x00 at offset 0\\)",
        }.items():
            with self.subTest(name=name), self.assertRaisesRegex(kinglet.InputError, said):
                kinglet.load(with_pattern("{a:rest}")).parse(name)
        with self.assertRaisesRegex(kinglet.InputError, "item 1 is int, not text"):
            kinglet.load(with_pattern("{a:rest}")).parse(["a", 1])  # type: ignore[list-item]

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
        self.assertEqual(2025, parser.parse(path, at="2026-01-01").events["time"].item().year)
