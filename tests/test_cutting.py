"""Every cutting rule: any chunking gives the same events, and every byte is in one or between two."""

from __future__ import annotations

import json
import re
import unittest
from unittest import mock

from hypothesis import given
from hypothesis import strategies as st

from kinglet.cutting import cutter as cutting
from kinglet.cutting.cutter import cut
from kinglet.cutting.rule import CutRule
from kinglet.source import logs as sources
from kinglet.source.logs import open_sources
from tests.helpers import examples

Event = tuple[int, int, str, list[str]]


def events(data: bytes, rule: CutRule, chunk: int = 0) -> list[Event]:
    """Line, offset, text and faults of every event."""
    found: list[Event] = []
    chunks = mock.patch.object(sources, "CHUNK_BYTES", chunk or sources.CHUNK_BYTES)
    head = mock.patch.object(cutting, "HEAD_BYTES", 64)  # as much is held back until the line ends are told
    with chunks, head:
        for batch in cut(open_sources(data)[0], rule):
            for i, (line, offset, raw) in enumerate(batch.frame.rows()):
                found.append((line, offset, raw, sorted(name for name, mask in batch.faults if mask[i])))
    return found


def texts(data: bytes | str, rule: CutRule) -> list[tuple[str, str]]:
    """Text and faults of every event."""
    raw = data.encode() if isinstance(data, str) else data
    return [(text, " ".join(faults)) for _, _, text, faults in events(raw, rule)]


LINES = ["1 a", "", "ccc ddd", " ", "\tb", "ü" * 40, "2 " + "z" * 90, "END", "\r", "\x00", "<e>", "</e>", "{", "}", '"']
JSONS = [
    '{"a": 1}', '{"b": "}{"}', '{"c": [1, {"d": "\\""}], "e": "\\\\"}', '{\n  "f": {\n    "g": []\n  }\n}', '{"h": ',
    "}", "plain", '{"i": "\n', '"text"', "[", "]", ",", "[1, 2]",
    '{"j": "' + "k" * 90 + '"}', "{", ":", '{"r": [{"s": 1},',
]  # fmt: skip
XMLS = [
    "<e>1</e>", "<e a='>'/>", "<e>", "</e>", "<e><![CDATA[</e>]]></e>", "<!-- <e> -->", "<x:e b=\"</e>\">2</x:e>",
    "<?xml version='1.0'?>", "<all>", "</all>", "text", "<e\n c='1'>3\n</e>", "<!-- ", "<![CDATA[", "<", "<ee>",
    "-->", "<e>" + "y" * 90,
]  # fmt: skip
ROWS = ["a,b", '"c\nd",e', '"f""g",h', 'i",j', '"k', 'l"', '"', '"m,n\n\n"",o",p', "", ",", "q" * 90, '"r" x,y', '""']
FRAMES = [
    "5 <1>ab",
    "9 <13>x\n 7",
    "3 a\nb",
    "4 <1>abc",
    "99 <1>",
    "x",
    "12",
    "\n",
    "10 <2>7 <3>ab",
    "0 ",
    "7 <9>\xfc\xfc",
]


def pieces(parts: list[str], between: list[str], most: int = 9) -> st.SearchStrategy[str]:
    pair = st.tuples(st.sampled_from(parts), st.sampled_from(between))
    return st.lists(pair, min_size=1, max_size=most).map(lambda pairs: "".join(a + b for a, b in pairs))


ENDS = ["\n", "\r\n", "\n\n", "\n"]
GENERATED: dict[str, tuple[list[CutRule], st.SearchStrategy[str], str]] = {
    "lines": (
        [CutRule(), CutRule("start", r"^\d"), CutRule("start", r"^\d.*z$"), CutRule("start", r"^(\d|$)"),
         CutRule("start", r"^\d", lead="^ccc"), CutRule("start", r"^\d", lead="[dD]$", banner="^<"),
         CutRule("end", "END$"), CutRule("indent")],
        pieces(LINES, ENDS), r"[\r\n]*",
    ),
    "any line end": (
        [CutRule(line_ends="any"), CutRule("indent", line_ends="any")], pieces(LINES, [*ENDS, "\r"]), r"[\r\n]*",
    ),
    "blank lines": ([CutRule("blank-line")], pieces(LINES, ENDS), r"[\r\n \t]*"),
    "json": ([CutRule("json")], pieces(JSONS, ["\n", " ", "", "\r\n", ",\n", "\x1e"]), "[\ufeff\\s,\x1e\\[\\]]*"),
    "json array": (
        [CutRule("json")], pieces(JSONS, [",\n", ",\n  ", ",", "\n"]).map(
            lambda text: '[\n  {"z": 0},\n  ' + text + "]"), r"[\s,\[\]]*",
    ),
    "json key": (
        [CutRule("json", "r")], pieces(JSONS, [",\n", ",", "\n"]).map(
            lambda text: '{"n": {"o": [{}]}, "r": [' + text + "]}"), "[\\s\\S]*",
    ),
    "xml": ([CutRule("xml", "e")], pieces(XMLS, ["\n", "", " ", "\n  "]), "[\\s\\S]*"),
    "csv": ([CutRule("csv", header=False), CutRule("csv", header=False, max_lines=3)], pieces(ROWS, ENDS), r"[\r\n]*"),
    "nul": ([CutRule("nul")], pieces(LINES, ["\0", "\0\0", "\n"]), r"[\0\r\n]*"),
    "separator": ([CutRule("separator", "--\n")], pieces(LINES, ["--\n", "-", "--", "\n"]), r"(?:--\n)*(?:--)?[\r\n]*"),
    "length": ([CutRule("length", 7), CutRule("length", 64)], pieces(LINES, ENDS), r"[\r\n]*"),
    "counted": ([CutRule("counted")], pieces(FRAMES, ["", "\n"]), r"[\r\n]*(?:[1-9]\d* )?"),
}  # fmt: skip


class AnyChunking(unittest.TestCase):
    @given(
        st.sampled_from(list(GENERATED)).flatmap(
            lambda name: st.tuples(st.just(name), st.sampled_from(GENERATED[name][0]), GENERATED[name][1])
        ),
        st.sampled_from([8 << 20, 64, 100]),
        st.sampled_from([None, None, 2]),
        st.integers(1, 120),
        st.booleans(),
    )
    @examples(96)
    def test_chunks_change_nothing_and_every_byte_is_somewhere(
        self, made: tuple[str, CutRule, str], max_bytes: int, max_lines: int | None, chunk: int, ended: bool
    ) -> None:  # fmt: skip
        name, rule, text = made
        rule = rule._replace(encoding="utf-8")
        if name != "json key":
            rule = rule._replace(max_bytes=max_bytes, max_lines=rule.max_lines or max_lines)
        self.check(name, rule, (text if ended else text.rstrip("\r\n")).encode(), chunk)

    def check(self, name: str, rule: CutRule, data: bytes, chunk: int) -> None:
        found = events(data, rule)
        self.assertEqual(found, events(data, rule, chunk))
        position = 0
        for line, offset, raw, faults in found:
            between = data[position:offset].decode()
            self.assertRegex(between, rf"\A(?:{GENERATED[name][2]})\Z", faults)
            size = len(raw.encode())
            if "bad-bytes" not in faults:
                self.assertEqual(raw, data[offset : offset + size].decode())
                position = offset + size
            else:
                position = offset + rule.value if rule.kind == "length" else position  # type: ignore[operator]
            ends = rb"\r\n|\r|\n" if rule.line_ends == "any" else rb"\n"
            if rule.line_ends != "auto" or b"\r" not in data:
                self.assertEqual(1 + len(re.findall(ends, data[:offset])), line)
        self.assertRegex(data[min(position, len(data)) :].decode("utf-8", "replace"), rf"\A(?:{GENERATED[name][2]})\Z")


class Rules(unittest.TestCase):
    """What each rule makes of its usual log, and of a broken one: (text, faults)."""

    def check(self, rule: CutRule, data: str, *wanted: str | tuple[str, str]) -> None:
        pairs = [item if isinstance(item, tuple) else (item, "") for item in wanted]
        self.assertEqual(pairs, texts(data, rule))

    def test_lines(self) -> None:
        self.check(CutRule(), "")
        self.check(CutRule(), "\n\n\r\n")
        self.check(CutRule(), "x", "x")
        self.check(CutRule(), "a\r\n\nb\n\n\nccc", "a", "b", "ccc")
        self.check(CutRule(max_bytes=64), "y" * 150, *[("y" * n, "too-long") for n in (64, 64, 22)])

    def test_start(self) -> None:
        rule = CutRule("start", r"^\d")
        self.check(rule, " lost\n1 a\n  b\n\n c\n\n2 q\n", (" lost", "no-start"), "1 a\n  b\n\n c", "2 q")
        many = rule._replace(max_lines=2)
        self.check(many, "1 a\nb\nc\nd\ne\n2 f\ng", *[(x, "too-many-lines") for x in ("1 a\nb", "c\nd", "e")], "2 f\ng")

    def test_end(self) -> None:
        rule = CutRule("end", r"^END")
        self.check(rule, "a\nb\nEND 1\n\nc\nEND 2\nd\n", "a\nb\nEND 1", "c\nEND 2", ("d", "cut-off"))
        long = "too-many-lines"
        pieces = [("a\nb", long), ("END 1", long), ("c\nd", long), ("e", f"cut-off {long}")]
        self.check(rule._replace(max_lines=2), "a\nb\nEND 1\nc\nd\ne\n", *pieces)

    def test_blank_line(self) -> None:
        self.check(CutRule("blank-line"), "\na: 1\nb: 2\n\n \na: 3\n\n\n", "a: 1\nb: 2", "a: 3")

    def test_indent(self) -> None:
        data = "  lost\nE x\n\tat a\n\n  at b\nI y\n"
        self.check(CutRule("indent"), data, ("  lost", "no-start"), "E x\n\tat a\n\n  at b", "I y")

    def test_json_one_after_another(self) -> None:
        rule = CutRule("json")
        pretty = json.dumps({"a": "}{", "b": [{"c": '"\\'}]}, indent=2)
        self.check(rule, f'{{"a": 1}}\n{pretty}\n{{}}{{"d": [1]}}', '{"a": 1}', pretty, "{}", '{"d": [1]}')
        self.check(rule, '\x1e{"a": 1}\n\x1e{"b": 2}\n', '{"a": 1}', '{"b": 2}')
        self.check(rule, '["a", 1]\n["b", 2]\n', '["a", 1]', '["b", 2]')

    def test_json_in_an_array_or_under_a_key(self) -> None:
        self.check(CutRule("json"), '[{"a": [{}]}, {"b": 2}]\n[{"c": 3}]', '{"a": [{}]}', '{"b": 2}', '{"c": 3}')
        data = '{"n": 2, "x": {"y": [{"z": 1}]}, "records": [{"a": 1}, {"b": {"records": []}}], "next": null}\n' * 2
        self.check(CutRule("json", "records"), data, *['{"a": 1}', '{"b": {"records": []}}'] * 2)
        self.check(CutRule("json", "nope"), '{"a": [{}]}\n', ('{"a": [{}]}', "stray-text"))

    def test_broken_json_costs_its_own_event(self) -> None:
        for broken, faults in (
            ('{"a": "x', "cut-off"), ('{"a": {"b": 1}', "cut-off"), ('{"a": "b"c"}', "cut-off"), ("}", "stray-text"),
            ("plain text", "stray-text"), ('{"a": tru}', ""), ('{"a": [}', "cut-off"),
        ):  # fmt: skip
            with self.subTest(broken=broken):
                self.check(
                    CutRule("json"), f'{{"k": 1}}\n{broken}\n{{"k": 2}}\n', '{"k": 1}', (broken, faults), '{"k": 2}'
                )
                self.check(CutRule("json"), f'{{"k": 1}}\n{broken}', '{"k": 1}', (broken, faults))
        array = '[\n  {"k": 1},\n  {"a": {"b": 1},\n  {"k": 2}\n]\n'
        self.check(CutRule("json"), array, '{"k": 1}', ('{"a": {"b": 1}', "cut-off"), '{"k": 2}')

    def test_xml(self) -> None:
        rule = CutRule("xml", "Event")
        one, two = "<Event a='>'>\n <x/><![CDATA[</Event>]]>\n</Event>", '<e:Event b="</Event>"/>'
        data = f"<?xml version='1.0'?>\n<Events>\n<!-- <Event> -->\n{one}{two}\n<EventLog/></Events>\n"
        self.check(rule, data, one, two)
        self.check(rule, "<Event>1</Event>\n<Event>2\n<Event>3</Event> lost\n<Event>4",
                   "<Event>1</Event>", ("<Event>2", "cut-off"), "<Event>3</Event>", ("lost", "stray-text"),
                   ("<Event>4", "cut-off"))  # fmt: skip

    def test_csv(self) -> None:
        data = 'time,who\n1,"a\n""b"""\n2,c 5" pipe\n3,"d, e"\n'
        self.check(CutRule("csv"), data, '1,"a\n""b"""', '2,c 5" pipe', '3,"d, e"')
        self.check(CutRule("csv", header=False), "a,b\n1,2\n", "a,b", "1,2")
        self.check(CutRule("csv", delimiter=";", quote="'"), "h\n'a;\n';2\n", "'a;\n';2")
        self.check(CutRule("csv"), 'h\n1,"open\n2,b\n3,c\n', ('1,"open', "cut-off"), "2,b", "3,c")
        row = '1,"two\nlines"'
        self.check(CutRule("csv", header=False, max_bytes=len(row)), row + "\n2,b\n", row, "2,b")
        few = CutRule("csv", header=False, max_bytes=len(row) - 1)
        self.check(few, row + "\n2,b\n", ('1,"two', "cut-off"), 'lines"', "2,b")

    def test_separators(self) -> None:
        self.check(CutRule("nul", encoding="utf-8"), "a\nb\0\0c", "a\nb", "c")
        self.check(CutRule("separator", "\n--\n"), "a\nb\n--\nc\n", "a\nb", "c\n")

    def test_frames(self) -> None:
        self.check(CutRule("length", 4), "aaaabbb\ncc", "aaaa", "bbb\n", ("cc", "cut-off"))
        self.check(CutRule("counted"), "6 <1>a b7 <13>\nü\n", "<1>a b", "<13>\nü")
        self.check(CutRule("counted"), "6 <1>abc9 <1>d6 <1>efg", "<1>abc", ("9 <1>d", "bad-count"), "<1>efg")
        self.check(CutRule("counted"), "6 <1>abc99 <1>efg", "<1>abc", ("<1>efg", "cut-off"))

    def test_a_line_of_three_megabytes(self) -> None:
        for rule in (CutRule(), CutRule("start", r"^\d"), CutRule("json"), CutRule("csv", header=False)):
            data = b'1 a\n{"x": "' + b"y" * 3_000_000 + b'"}\n2 b\n'
            found = events(data, rule, 100_000)
            self.assertEqual(events(data, rule), found)
            self.assertIn(max(len(text) for _, _, text, _ in found), (3_000_009, 3_000_013))


if __name__ == "__main__":
    unittest.main()
