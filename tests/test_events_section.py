"""The `events` section as users meet it: through a parser file, the API and the command line."""

from __future__ import annotations

import gzip
import json
import os
import stat
import threading
import unittest
from pathlib import Path

import polars as pl

import kinglet as package
from kinglet.columns.text_spans import as_text, bytes_as_text, character_start, found, where
from kinglet.cutting.cutter import Cutter
from kinglet.cutting.from_spec import cut_rule
from kinglet.cutting.rule import CutRule
from kinglet.demo.writing import write_demo
from kinglet.source.compression import packing_of
from kinglet.source.encodings import HEAD_BYTES, from_high_bytes, from_start, named
from kinglet.source.logs import open_sources
from kinglet.spec.schema import Events, bytes_of
from tests.helpers import InFolder, kinglet, kinglet_process

HEAD = """
kinglet: 1
parser: any
version: 1.0.0
product: {vendor: Marram Ferries, name: Test bench}
variants:
  - name: all
    pattern: '{body:rest}'
events: """

# What stands behind `events:`, a log, and the events that come out of it.
SECTIONS: list[tuple[str, str, list[str]]] = [
    ("line", "a\nb\n", ["a", "b"]),
    ("{line: true}", "a\nb\n", ["a", "b"]),
    ("{max_lines: 1}", "a\nb\n", ["a", "b"]),
    ("{start: '^[0-9]'}", "1 a\n b\n2 c\n", ["1 a\n b", "2 c"]),
    ("{end: 'done$'}", "a\nb done\nc done\n", ["a\nb done", "c done"]),
    ("blank-line", "a\nb\n\nc\n", ["a\nb", "c"]),
    ("{blank-line: true, max_lines: 9}", "a\nb\n\nc\n", ["a\nb", "c"]),
    ("indent", "a\n b\nc\n", ["a\n b", "c"]),
    ("json", '{"a": 1}{"b": 2}', ['{"a": 1}', '{"b": 2}']),
    ("{json: items}", '{"items": [{"a": 1}, {"b": 2}]}', ['{"a": 1}', '{"b": 2}']),
    ("{xml: Ship}", "<All><Ship>a</Ship><Ship/></All>", ["<Ship>a</Ship>", "<Ship/>"]),
    ("csv", 'h,i\na,"b\nc"\n', ['a,"b\nc"']),
    ("{csv: {header: false}}", "a,b\n", ["a,b"]),
    ("{csv: {delimiter: '|', quote: \"'\"}}", "h|i\n'a\n'|b\n", ["'a\n'|b"]),
    ("nul", "a\nb\0c\0", ["a\nb", "c"]),
    ('{separator: "\\n==\\n"}', "a\nb\n==\nc", ["a\nb", "c"]),
    ("{length: 3}", "aaabbb", ["aaa", "bbb"]),
    ("counted", "5 <1>ab5 <1>cd", ["<1>ab", "<1>cd"]),
    ("{line: true, line_ends: any}", "a\rb\nc", ["a", "b", "c"]),
    ("{line: true, encoding: utf-8, idle: 500 ms}", "a\n", ["a"]),
]

# What stands behind `events:`, and what the error says.
WRONG: list[tuple[str, str]] = [
    ("lines", "is not a rule by itself: `lines`"),
    ("{start: a, end: b}", "has more than one rule: `start`, `end`"),
    ("{start: '('}", "does not compile"),
    ("{end: '(?=x)'}", "look-around"),
    ("{starts: a}", "no such key; did you mean `start`?"),
    ("{line: false}", "events.line: is False; must be True"),
    ("{json: 7}", "events.json"),
    ("{xml: '<a>'}", "'<a>' is not in the right form; write it like `Event`"),
    ("{csv: {delimiter: ',,'}}", "events.csv"),
    ("{csv: {quotes: x}}", "no such key; did you mean `quote`?"),
    ("{length: 0}", "must be at least 1"),
    ("{length: 99, max_bytes: 64}", "has a `length` that is more than `max_bytes` allows"),
    ("{separator: ''}", "events.separator"),
    ("{line: true, max_lines: 0}", "must be at least 1"),
    ("{line: true, idle: 0}", "events.idle"),
    ("{line: true, idle: 5 h}", "events.idle"),
    ("{line: true, line_ends: cr}", "events.line_ends: is 'cr'; must be"),
    ("{line: true, encoding: utf-99}", "no such encoding `utf-99`"),
]


class Section(unittest.TestCase):
    def test_every_rule_by_its_key(self) -> None:
        for section, log, wanted in SECTIONS:
            with self.subTest(section=section):
                result = package.load(HEAD + section + "\n").parse(log.encode(), encoding="utf-8")
                self.assertEqual(wanted, result.events["raw"].to_list())
                self.assertEqual(["complete"] * len(wanted), result.events["state"].to_list())

    def test_each_fault_is_named_with_its_remedy(self) -> None:
        for section, said in WRONG:
            with self.subTest(section=section):
                with self.assertRaises(package.ParserFileError) as caught:
                    package.load(HEAD + section + "\n")
                self.assertIn(said, str(caught.exception))
                self.assertTrue(all(problem.place.line >= 9 for problem in caught.exception.problems))

    def test_a_section_becomes_a_rule(self) -> None:
        self.assertEqual("line", cut_rule(Events.model_validate({})).kind)
        rule = cut_rule(Events.model_validate({"csv": {"delimiter": ";", "header": False}, "max_lines": 5}))
        self.assertEqual(
            ("csv", None, ";", False, 5), (rule.kind, rule.value, rule.delimiter, rule.header, rule.max_lines)
        )
        self.assertEqual(0.25, cut_rule(Events.model_validate({"line": True, "idle": "250 ms"})).idle)
        self.assertEqual((64 * 1024, 7), (bytes_of("64 KiB"), bytes_of(7)))

    def test_broken_events_are_partial_and_say_why(self) -> None:
        for section, log, fault in (
            ("json", '{"a": 1}\n{"b": \n{"c": 3}\n', "cut-off"),
            ("json", '{"a": 1}\nlost\n{"c": 3}\n', "stray-text"),
            ("{xml: e}", "<e>1</e>\n<e>2\n<e>3</e>\n", "cut-off"),
            ("csv", 'h\n1,"a\n2,b\n', "cut-off"),
            ("counted", "5 <1>ab7 <1>c5 <1>de", "bad-count"),
            ("{start: '^[0-9]'}", "lost\n1 a\n", "no-start"),
            ("{start: '^[0-9]', max_lines: 2}", "1 a\nb\nc\n", "too-many-lines"),
            ("{line: true, max_bytes: 64}", "x" * 100 + "\n", "too-long"),
        ):
            with self.subTest(section=section, fault=fault):
                result = package.load(HEAD + section + "\n").parse(log.encode())
                faulty = result.events.filter(pl.col("faults").list.contains(fault))
                self.assertGreaterEqual(faulty.height, 1)
                self.assertEqual({"partial"}, set(faulty["state"]))
                self.assertEqual(result.counts["events"], result.counts["complete"] + result.counts["partial"])

    def test_the_words_for_every_fault_are_shown(self) -> None:
        for section, log, said in (
            ("json", b'{"a": 1}\n{"b": ', "its end is missing"),
            ("json", b'{"a": 1}\nlost\n{"c": 3}\n', "stands between records and belongs to none"),
            ("counted", b"5 <1>ab7 <1>c5 <1>de", "the count of bytes before it is missing or wrong"),
            ("{start: '^[0-9]', max_lines: 2}", b"1 a\nb\nc\n", "of more lines than `events.max_lines`"),
            (
                "line",
                "Stra\u00dfe, \u00fc\n".encode() * 9 + b"\xff\n",
                "has bytes that the encoding of the log does not know",
            ),
        ):
            with self.subTest(section=section):
                result = package.load(HEAD + section + "\n").parse(log)
                self.assertIn(said, result._repr_html_())


class CommandLine(InFolder):
    def setUp(self) -> None:
        super().setUp()
        self.write("any.yaml", HEAD + "line\n")

    def test_one_parser_over_many_kinds_of_files(self) -> None:
        (self.folder / "logs").mkdir()
        self.write("logs/a.log", "caf\u00e9\n")
        self.write("logs/b.log.gz", gzip.compress("caf\u00e9\n".encode("utf-16")))
        self.write("logs/c.txt", "caf\u00e9 d\u00e9j\u00e0 vu\n".encode("cp1252"))
        called = kinglet("run", "-p", "any.yaml", "logs", "-o", "out.ndjson")
        self.assertEqual(0, called.status, called.err)
        rows = [json.loads(line) for line in Path("out.ndjson").read_text().splitlines()]
        self.assertEqual(["caf\u00e9", "caf\u00e9", "caf\u00e9 d\u00e9j\u00e0 vu"], [row["raw"] for row in rows])
        self.assertEqual(["logs/a.log", "logs/b.log.gz", "logs/c.txt"], [row["file"] for row in rows])
        self.assertEqual(3, len({row["id"] for row in rows}))
        tried = json.loads(kinglet("try", "any.yaml", "logs", "--json").out)
        self.assertEqual(3, tried["files"][0]["counts"]["events"])

    def test_trying_says_how_a_log_was_read(self) -> None:
        self.write("a.gz", gzip.compress("a\nb\n".encode("utf-16")))
        self.assertIn("a.gz: 2 events, gzip, utf-16-le\n", kinglet("try", "any.yaml", "a.gz").out)
        self.write("b.log", "a\n")
        self.assertIn("b.log: 1 event\n", kinglet("try", "any.yaml", "b.log").out)

    def test_the_help_keeps_its_lines(self) -> None:
        shown = kinglet("--help").out
        self.assertIn("\n  A log that nobody has a parser for:   kinglet look LOG\n", shown)
        self.assertNotIn("\\b", shown)

    def test_encoding_and_limit_can_be_said(self) -> None:
        self.write("k.log", "\u041f\u0440\u0438\u0432\u0435\u0442\n".encode("koi8-r"))
        out = kinglet("try", "any.yaml", "k.log", "--encoding", "koi8-r", "--json").out
        self.assertEqual("\u041f\u0440\u0438\u0432\u0435\u0442", json.loads(out)["files"][0]["events"][0]["raw"])
        self.write("big.gz", gzip.compress(b"a\n" * 50_000))
        self.assertEqual(0, kinglet("try", "any.yaml", "big.gz").status)
        for limit, said in (("10KB", "more than the 10,000 bytes allowed"), ("1 XB", "is not a size such as")):
            called = kinglet("try", "any.yaml", "big.gz", "--max-unpacked-bytes", limit)
            self.assertEqual(2, called.status)
            self.assertIn(said, called.err)
        called = kinglet("look", "k.log", "--encoding", "koi-8")
        self.assertEqual((2, ""), (called.status, called.out))
        self.assertIn("no such encoding `koi-8`; did you mean `koi8-r`?", called.err)

    def test_standard_input_is_looked_at_and_parsed(self) -> None:
        log = b"2026-03-05T01:31:00Z pump 3 started\n" * 5
        done = kinglet_process("look", "-", given=log)
        self.assertEqual(0, done.returncode, done.stderr)
        self.assertIn(b"<stdin>  looked at all of it", done.stdout)
        self.assertIn(b"kinglet try stdin.yaml LOG", done.stdout)
        done = kinglet_process("run", "-p", "any.yaml", "-", "-o", "-", given=gzip.compress(log))
        self.assertEqual(5, done.stdout.count(b"\n"))

    def test_a_named_pipe_is_read_to_its_end(self) -> None:
        os.mkfifo("pipe")
        self.assertTrue(stat.S_ISFIFO(Path("pipe").stat().st_mode))
        writer = threading.Thread(target=lambda: Path("pipe").write_bytes(b"a\nb\n"))
        writer.start()
        result = package.load("any.yaml").parse("pipe")
        writer.join()
        self.assertEqual(["a", "b"], result.events["raw"].to_list())

    def test_looking_says_what_is_wrong_with_the_call(self) -> None:
        self.write("empty.log", "")
        (self.folder / "bare").mkdir()
        for arguments, said in {
            ("look",): "Missing argument",
            ("look", "none.log"): "none.log: no such file; check the path",
            ("look", "bare"): "bare: is a folder with no files in it; check the path",
            ("look", "*.zip"): "*.zip: no file matches; check the path",
            ("look", "empty.log"): "empty.log: is empty; there is nothing to look at",
            ("look", "empty.log", "--shape", "3"): "No such option",
            ("look", "empty.log", "--shapes", "-1"): "Invalid value",
            ("look", "empty.log", "--max-unpacked-bytes", "much"): "is not a size such as",
        }.items():
            with self.subTest(arguments=arguments):
                called = kinglet(*arguments)
                self.assertEqual((2, ""), (called.status, called.out))
                self.assertIn(said, called.err)
                self.assertEqual(1, called.err.count("\n"))

    def test_how_much_is_shown_can_be_said(self) -> None:
        log = next(item.log for item in write_demo(self.folder / "demo") if item.name == "jump-host")
        few, many = kinglet("look", log, "--shapes", "2").out, kinglet("look", log, "--shapes", "40").out
        self.assertIn("--shapes N for more than 2", few)
        self.assertIn("7 more, the rarest of them:", few)
        self.assertNotIn("more, the rarest", many)
        self.assertEqual(9, many.count("line ") - many.partition("shapes")[0].count("line "))
        self.assertNotIn("columns  of", kinglet("look", log, "--shapes", "0").out)


class Telling(unittest.TestCase):
    """How an encoding is told, byte by byte."""

    def test_marks_and_zeros(self) -> None:
        for head, name, bom in (
            (b"\xef\xbb\xbfa", "utf-8", 3),
            (b"\xff\xfea\0", "utf-16-le", 2),
            (b"\xfe\xff\0a", "utf-16-be", 2),
            (b"\xff\xfe\0\0a\0\0\0", "utf-32-le", 4),
            (b"\0\0\xfe\xff\0\0\0a", "utf-32-be", 4),
            ("ab cd\nef".encode("utf-16-le"), "utf-16-le", 0),
            ("ab cd\nef".encode("utf-16-be"), "utf-16-be", 0),
        ):
            with self.subTest(name=name):
                found_ = from_start(head)
                assert found_ is not None
                self.assertEqual((name, bom), (found_.name, found_.bom))

    def test_no_encoding_is_told_where_nothing_tells(self) -> None:
        for head in (b"", b"a", b"plain text", b"a\0b\n", b"\0" * 64, b"one\0two\0three\0\n"):
            with self.subTest(head=head):
                self.assertIsNone(from_start(head))

    def test_high_bytes(self) -> None:
        for window, name, said in (
            ("\u00fcber".encode(), "utf-8", "1 multi-byte character and no invalid byte"),
            ("\u65e5\u672c".encode(), "utf-8", "2 multi-byte characters"),
            (b"\xfcber Stra\xdfe", "cp1252", "none of 80-9F, so Latin-1 reads the same"),
            (b"\x93quoted\x94 \x96 \x80 5", "cp1252", "4 bytes above 7F that are not UTF-8"),
            (b"\xe0 la carte, \xe9", "cp1252", "2 bytes above 7F"),
            (b"\xff\xfe\xfd\xfc", "utf-8", "but 4 invalid bytes among them"),
            ("\u00fc\u00fc".encode() + b"\xff", "utf-8", "2 multi-byte characters, but 1 invalid byte"),
            (b"\xb0C", "cp1252", "1 byte"),
        ):
            with self.subTest(window=window):
                told = from_high_bytes(window)
                self.assertEqual(name, told.name)
                self.assertIn(said, told.evidence)

    def test_a_character_cut_by_the_end_of_the_stretch_is_no_fault(self) -> None:
        window = ("\u00fc" * HEAD_BYTES).encode()
        for size in range(HEAD_BYTES, HEAD_BYTES + 3):
            self.assertIn("no invalid byte", from_high_bytes(window[:size]).evidence)

    def test_names(self) -> None:
        for name, found_, width in (
            ("UTF-8", "utf-8", 0),
            ("ascii", "utf-8", 0),
            ("latin-1", "iso8859-1", 1),
            ("Windows-1252", "cp1252", 1),
            ("utf-16-le", "utf-16-le", 2),
            ("utf_16", "utf-16-be", 2),
            ("cp037", "cp037", 1),
            ("shift_jis", "shift_jis", -1),
        ):
            with self.subTest(name=name):
                told = named(name)
                self.assertEqual((found_, width), (told.name, told.width))
        self.assertEqual(("utf-16-le", 2), named("utf-16", b"\xff\xfea\0")[::2])
        self.assertEqual("utf-16-le", named("utf-16", "plain text".encode("utf-16-le")).name)
        for name in ("utf8x", "", "hex", "rot13"):
            with self.subTest(name=name), self.assertRaisesRegex(package.UsageError, "no such encoding"):
                named(name)

    def test_packings(self) -> None:
        for head, name in (
            (b"\x1f\x8b\x08\0", "gzip"),
            (b"BZh9", "bzip2"),
            (b"\x28\xb5\x2f\xfd", "zstd"),
            (b"plain", None),
        ):
            packing = packing_of(head)
            self.assertEqual(name, packing.name if packing else None)


class Live(unittest.TestCase):
    """A cutter fed by hand, as a log that is still being written feeds it."""

    def feed(self, rule: CutRule, *parts: bytes | None) -> list[list[tuple[str, str]]]:
        """The events that each part gives; None stands for a pause longer than the idle time."""
        source = open_sources(b"")[0]
        self.assertEqual([], list(source.chunks()))
        cutter = Cutter(source, rule._replace(line_ends="lf"))
        found_: list[list[tuple[str, str]]] = []
        for part in parts:
            batches = cutter.flush() if part is None else cutter.feed(part)
            found_.append(
                [
                    (raw, " ".join(name for name, mask in batch.faults if mask[i]))
                    for batch in batches
                    for i, raw in enumerate(batch.frame["raw"])
                ]
            )
        return found_

    def test_whole_events_come_at_once_and_open_ones_are_held(self) -> None:
        for rule, first, second in (
            (CutRule(), b"a\nb", b"c\n"),
            (CutRule("start", "^[0-9]"), b"1 a\n x\n2 b\n", b" y\n3 c\n"),
            (CutRule("end", "z$"), b"a z\nb\n", b"c z\n"),
            (CutRule("blank-line"), b"a\n\nb\n", b"c\n\n"),
            (CutRule("indent"), b"a\n b\nc\n", b" d\ne\n"),
            (CutRule("json"), b'{"a": 1}\n{"b":', b" 2}\n"),
            (CutRule("xml", "e"), b"<e>1</e><e>", b"2</e>"),
            (CutRule("csv", header=False), b'a,"b"\nc,"d', b'\ne"\n'),
            (CutRule("nul"), b"a\0b", b"c\0"),
            (CutRule("separator", "--"), b"a--b", b"c--dddddd"),
            (CutRule("length", 4), b"aaaabb", b"bb"),
            (CutRule("counted"), b"5 <1>ab5 <1", b">cd5 <1>ef"),
        ):
            with self.subTest(rule=rule.kind):
                early, late = self.feed(rule, first, second)
                self.assertEqual(1, len(early), early)
                self.assertEqual(1, len(late), late)
                self.assertEqual(["", ""], [early[0][1], late[0][1]])

    def test_after_the_idle_time_what_there_is_goes_out_with_its_fault(self) -> None:
        for rule, part, wanted in (
            (CutRule(), b"half", [("half", "")]),
            (CutRule("start", "^[0-9]"), b"1 a\n x\n", [("1 a\n x", "")]),
            (CutRule("end", "z$"), b"a\nb\n", [("a\nb", "cut-off")]),
            (CutRule("json"), b'{"a": ', [('{"a":', "cut-off")]),
            (CutRule("xml", "e"), b"<e>1", [("<e>1", "cut-off")]),
            (CutRule("csv", header=False), b'"a\n', [('"a', "cut-off")]),
            (CutRule("length", 9), b"aaaa", [("aaaa", "cut-off")]),
            (CutRule("counted"), b"9 <1>a", [("<1>a", "cut-off")]),
        ):
            with self.subTest(rule=rule.kind):
                self.assertEqual([[], wanted], self.feed(rule, part, None))

    def test_what_follows_the_idle_time_is_cut_afresh(self) -> None:
        found_ = self.feed(CutRule("json"), b'{"a": ', None, b'1}\n{"b": 2}\n')
        self.assertEqual([("1}", "after-pause"), ('{"b": 2}', "")], found_[2])
        found_ = self.feed(CutRule("csv"), b"h,i\n1,2\n3", None, b"\n5,6\n")
        self.assertEqual([[("1,2", "")], [("3", "")], [("5,6", "")]], found_)
        found_ = self.feed(
            CutRule("json"), b'[\n {"a": 1},\n', None, b' {"b": 2},\n {"c":', None, b"3},\n", b' {"d": 4}\n]\n'
        )
        self.assertEqual([[('{"a": 1}', "")], [], [('{"b": 2}', "")]], found_[:3])
        self.assertEqual([("3}", "after-pause")], found_[4])
        self.assertEqual([('{"d": 4}', "")], found_[5])
        found_ = self.feed(CutRule("json", "r"), b'{"r": [{"a": 1},\n{"b"', None, b': 2},\n{"c": 3}\n], "n": 1}\n')
        self.assertEqual(
            ['{"a": 1}', '{"b"', '{"c": 3}'], [text for part in found_ for text, _ in part if text[0] == "{"]
        )


class Spans(unittest.TestCase):
    """Text over a buffer, where characters are of several bytes."""

    def test_text_is_laid_over_the_buffer(self) -> None:
        data = "a\u00fc\nb".encode()
        text, bad = as_text(data, pl.Series([0, 4]), pl.Series([3, 5]))
        self.assertEqual((["a\u00fc", "b"], None), (text.to_list(), bad))
        empty, bad = as_text(data, pl.Series([], dtype=pl.Int64), pl.Series([], dtype=pl.Int64))
        self.assertEqual((0, None), (len(empty), bad))

    def test_spans_that_split_characters_are_marked(self) -> None:
        data = "a\u00fcb".encode()
        text, bad = bytes_as_text(data, pl.Series([0, 2]), pl.Series([2, 4]), "utf-8")
        assert bad is not None
        self.assertEqual((["a\ufffd", "\ufffdb"], [True, True]), (text.to_list(), bad.to_list()))

    def test_large_and_small_buffers_are_searched_alike(self) -> None:
        for size in (10, 300_000):
            data = (b"x" * 9 + b"\n") * (size // 10)
            positions = found(data, 10)
            self.assertEqual((size // 10, 9), (len(positions), positions[0]))
            mask = pl.Series([False, True] * (size // 2))
            self.assertEqual((size // 2, 1), (len(where(mask)), where(mask)[0]))

    def test_where_characters_start(self) -> None:
        data = "a\u00fc\u20ac".encode()
        self.assertEqual([0, 1, 1, 3, 3, 3], [character_start(data, i) for i in range(6)])

    def test_sources_of_a_call_keep_what_the_call_says(self) -> None:
        found_ = open_sources(b"a", "a\nb", ["c"], encoding="cp1252", max_unpacked_bytes=9)
        self.assertEqual(["<bytes>", "<text>", "<events>"], [source.name for source in found_])
        self.assertEqual({("cp1252", 9)}, {(source.given_encoding, source.max_unpacked_bytes) for source in found_})


if __name__ == "__main__":
    unittest.main()
