"""The calls that users make: what is exported, what results give, columns, sessions, and the documents' examples."""

from __future__ import annotations

import importlib
import inspect
import json
import random
import re
import sys
import typing
import unittest
from collections.abc import Iterator
from typing import Any
from unittest import mock

import pandas as pd
import polars as pl
import pyarrow as pa
from hypothesis import given
from hypothesis import strategies as st

import kinglet
from kinglet.demo.logs import LOGS, log_text
from tests.helpers import ROOT, InFolder, examples, with_pattern
from tests.helpers import kinglet as command

PARSERS = ROOT / "src" / "kinglet" / "demo" / "parsers"
AT = "2026-03-08"
INTERNAL = {"TraceStage.step", "CaseOutcome.case"}
"""Attributes for those who build on Kinglet; their types are no promise."""


def lines(name: str) -> list[str]:
    return log_text(name).splitlines()


class Documents(unittest.TestCase):
    def test_every_name_is_in_the_document(self) -> None:
        text = (ROOT / "docs" / "python.md").read_text(encoding="utf-8")
        self.assertEqual([], [name for name in kinglet.__all__ if not re.search(rf"\b{name}\b", text)])

    def test_every_type_of_a_public_signature_is_exported(self) -> None:
        for module in ("output.views", "runtime.pipeline", "notebook.html", "source.logs"):
            importlib.import_module(f"kinglet.{module}")
        public = {getattr(kinglet, name) for name in kinglet.__all__ if isinstance(getattr(kinglet, name), type)}
        missing = {
            f"{name}.{member}: {kind.__name__}"
            for name in kinglet.__all__
            for member, hint in _hints(name)
            for kind in _kinds(hint)
            if kind not in public and f"{name}.{member}" not in INTERNAL
        }
        self.assertEqual(set(), missing)


def _hints(name: str) -> Iterator[tuple[str, Any]]:
    """The types of a function, or of the fields and methods of a class."""
    item = getattr(kinglet, name)
    known: dict[str, Any] = {"pa": pa, "pd": pd}
    for module in [module for key, module in sys.modules.items() if key.startswith("kinglet")]:
        known = {**vars(module), **known}
    if not inspect.isclass(item):
        members = {"": item} if callable(item) and getattr(item, "__module__", "").startswith("kinglet") else {}
    else:
        members = {"": item}
        for key, value in list(vars(item).items()):
            value = value.fget if isinstance(value, property) else getattr(value, "func", value)
            if not key.startswith("_") and inspect.isfunction(value):
                members[key] = value
    for key, member in members.items():
        for place, hint in typing.get_type_hints(member, {**known, **vars(sys.modules[member.__module__])}).items():
            if not place.startswith("_"):
                yield key or place, hint


def _kinds(hint: Any) -> Iterator[type]:
    if isinstance(hint, type) and hint.__module__.startswith("kinglet"):
        yield hint
    for inner in typing.get_args(hint):
        for one in inner if isinstance(inner, list) else [inner]:
            yield from _kinds(one)


class Results(InFolder):
    def setUp(self) -> None:
        super().setUp()
        self.parser = kinglet.load(PARSERS / "pump-panel.yaml")
        self.set = kinglet.load_set(PARSERS)

    def test_one_parser_and_several_give_the_same(self) -> None:
        some = lines("pump-panel")
        one, several = (reader.parse(some, reference_time=AT) for reader in (self.parser, self.set))
        self.assertEqual(one.counts, several.counts)
        self.assertEqual(one.by_parser, several.by_parser)
        self.assertEqual(one.faults, several.faults)
        both = [frame.drop("id") for frame in (one.events, several.events)]
        for name in ("line", "raw", "state", "variant", "time", "file", "tank"):
            self.assertEqual(both[0][name].to_list(), both[1][name].to_list(), name)
        self.assertEqual(list(one.to_model()), list(several.to_model()))
        self.assertIn("<b>pump-panel 1.2.0</b>", one._repr_html_())
        self.assertIn("8 parsers", several._repr_html_())
        self.assertIn("pump-panel", several._repr_html_())
        self.assertEqual(self.parser, one.parser)
        with self.assertRaisesRegex(kinglet.UsageError, "of 8 parsers"):
            _ = several.parser

    def test_limits_hold_for_events_counts_and_model(self) -> None:
        some = [line for pair in zip(lines("pump-panel"), lines("jump-host"), strict=False) for line in pair]
        for reader, log in ((self.parser, lines("pump-panel")), (self.set, some)):
            whole = reader.parse(log, reference_time=AT).events
            for limit in (0, 7, 100_000):
                result = reader.parse(log, reference_time=AT, limit=limit)
                self.assertEqual(min(limit, len(log)), len(result))
                self.assertEqual(whole.head(limit)["raw"].to_list(), result.events["raw"].to_list())
                self.assertEqual(len(result) - result.counts["dropped"], len(list(result.to_model())))
        batches = list(self.set.parse_batches(some, reference_time=AT))
        self.assertEqual(len(some), sum(map(len, batches)))

    def test_written_files_have_what_the_frame_has(self) -> None:
        result = self.parser.parse(lines("pump-panel"), reference_time=AT)
        result.write("a.parquet")
        self.assertTrue(pl.read_parquet("a.parquet")["tank"].equals(result.events["tank"]))
        result.write("a.ndjson", as_="model")
        with open("a.ndjson", encoding="utf-8") as file:
            self.assertEqual(list(result.to_model()), [json.loads(line) for line in file])
        self.assertTrue(pl.DataFrame(result.to_arrow()).equals(result.events))
        for call, said in (
            (lambda: result.write("a.xls"), "the suffix tells no format"),
            (lambda: result.write("a.csv", as_="rows"), "no form `rows` of events"),
            (lambda: self.parser.parse(), "at least one source"),
            (lambda: self.parser.parse("a\nb", workers=0), "no number of threads"),
            (lambda: self.set.parse("a\nb", limit=True - 2), "no number of events"),
            (lambda: self.set.parse("a\nb", reference_time="someday"), "reference time"),
        ):
            with self.subTest(said=said), self.assertRaisesRegex(kinglet.KingletError, said):
                call()
        log = self.folder / "log.ndjson"
        log.write_text("pump\n")
        with self.assertRaisesRegex(kinglet.OutputError, "is one of the logs"):
            self.parser.parse(log).write(log)

    def test_what_an_extra_brings_is_named(self) -> None:
        result = self.parser.parse(lines("pump-panel")[:2], reference_time=AT)
        missing = ModuleNotFoundError("No module named 'pandas'", name="pandas")
        with (
            mock.patch.object(pl.DataFrame, "to_pandas", side_effect=missing),
            self.assertRaisesRegex(kinglet.UsageError, r"needs the package pandas; .*\[pandas\]"),
        ):
            result.to_pandas()
        absent = dict.fromkeys(["matplotlib", "matplotlib.colors", "matplotlib.figure", "matplotlib.patches"])
        with mock.patch.dict(sys.modules, absent):
            called = command("check", PARSERS / "pump-panel.yaml", "--matrix", "m.png")
        self.assertEqual(2, called.status)
        self.assertRegex(
            called.err, r"^kinglet: this needs the package matplotlib\S*; `pip install 'kinglet-logs\[plots\]'`"
        )


class Columns(unittest.TestCase):
    def test_columns_of_any_kind_give_what_lists_give(self) -> None:
        for name in ("pump-panel", "jump-host"):
            parser, some = kinglet.load(PARSERS / f"{name}.yaml"), lines(name)
            whole = parser.parse(some, reference_time=AT).events.drop("id", "file")
            for column in (
                pl.Series(some), pl.Series(some, dtype=pl.Categorical), pa.array(some),
                pa.array(some, pa.large_string()), pa.chunked_array([some[:9], some[9:]]),
                pd.Series(some, dtype="string[pyarrow]"),
            ):  # fmt: skip
                found = parser.parse_column(column, reference_time=AT).events.drop("id", "file")
                self.assertTrue(whole.equals(found), type(column))

    def test_batches_of_a_column_are_bounded_and_change_nothing(self) -> None:
        parser = kinglet.load(with_pattern("{a:rest}"))
        column = pl.Series(["x" * (i % 50) for i in range(240)])
        whole = parser.parse_column(column).events
        for most, size in ((7, 1 << 20), (100_000, 60), (100_000, 1)):
            with (
                mock.patch("kinglet.cutting.cutter.MAX_EVENTS", most),
                mock.patch("kinglet.cutting.cutter.MAX_BYTES", size),
            ):
                result = parser.parse_column(column)
            self.assertTrue(whole.equals(result.events))
            self.assertTrue(all(batch.counts["events"] <= most for batch in result.batches))
            self.assertGreater(len(result.batches), 20)

    def test_nulls_are_events_and_what_is_no_text_is_refused(self) -> None:
        parser = kinglet.load(with_pattern("a {n:int}"))
        result = parser.parse_column(pl.Series(["a 1", None, "a 2"]))
        self.assertEqual(["complete", "unmatched", "complete"], result.events["state"].to_list())
        self.assertEqual([1, 2, 3], result.events["line"].to_list())
        self.assertEqual(0, len(parser.parse_column(pl.Series([], dtype=pl.String))))
        self.assertEqual(2, len(parser.parse_column(pl.Series([None, None]))))
        for wrong in (5, ["a"], pl.Series([1]), pa.array([1.5]), pl.DataFrame({"a": ["b"]}), None):
            with self.subTest(wrong=wrong), self.assertRaisesRegex(kinglet.UsageError, "column"):
                parser.parse_column(wrong)


BLOCKS = with_pattern("{a:rest}") + "events: %s\n"
RULES = [
    "line", "{start: '^\\d'}", "{start: '^\\d', lead: '^#'}", "{end: ';$'}", "indent", "blank-line", "json", "{xml: e}",
    "{csv: {header: true}}", "nul", "{separator: '--'}", "{length: 7}", "{counted: true}",
]  # fmt: skip
PARTS = st.sampled_from(
    ["1 a", "#b", " c", "", ";", '{"a": 1}', '{"b": ', "}", "<e>1</e>", "<e x='", "a,b", '"c', "\0", "--", "5 <1>ab",
     "é", "x" * 70, "\\"]
)  # fmt: skip


class Sessions(unittest.TestCase):
    @given(st.sampled_from(RULES), st.lists(PARTS, max_size=14), st.lists(st.integers(1, 90), min_size=1, max_size=6),
           st.sampled_from(["utf-8", "utf-16-le", "cp1252"]))  # fmt: skip
    @examples(24)
    def test_any_pieces_and_any_stops_give_the_events_of_the_whole(
        self, rule: str, parts: list[str], sizes: list[int], encoding: str
    ) -> None:  # fmt: skip
        by_bytes = "length" in rule or "counted" in rule
        parser = kinglet.load(BLOCKS % rule)
        data = "\n".join(parts).encode("utf-8" if by_bytes else encoding)
        options: dict[str, Any] = {"encoding": "utf-8" if by_bytes else encoding, "reference_time": AT}
        whole = parser.parse(data, **options).events
        session = kinglet.Session(parser, name="<bytes>", **options)
        frames: list[pl.DataFrame] = []
        position, turn = 0, 0
        while position < len(data):
            size = sizes[turn % len(sizes)]
            frames.append(session.feed(data[position : position + size]).events)
            session = kinglet.Session(parser, state=session.state)
            position, turn = position + size, turn + 1
        frames.append(session.finish().events)
        columns = ["line", "offset", "raw", "state", "faults", "id"]
        self.assertEqual(whole.select(columns).rows(), pl.concat(frames).select(columns).rows())

    def test_every_demo_log_in_random_pieces(self) -> None:
        rng = random.Random(5)
        for name in LOGS:
            parser, data = kinglet.load(PARSERS / f"{name}.yaml"), log_text(name).encode()
            options: dict[str, Any] = {"reference_time": AT, "encoding": "utf-8"}
            whole = parser.parse(data, **options).events
            session = kinglet.Session(parser, name="<bytes>", **options)
            frames, position, largest = [], 0, 0
            while position < len(data):
                size = rng.randint(1, 9000)
                frames.append(session.feed(data[position : position + size]).events)
                position += size
                largest = max(largest, len(session.state))
                session = kinglet.Session(parser, state=session.state)
            found = pl.concat([*frames, session.finish().events])
            self.assertTrue(whole.equals(found), name)
            self.assertLess(largest, 6000, name)

    def test_another_parser_between_two_batches(self) -> None:
        one, other = (kinglet.load(with_pattern(text)) for text in ("a {x:int}", "{y:word} {z:int}"))
        session = kinglet.Session(one)
        self.assertEqual([1], session.feed(b"a 1\na ").events["x"].to_list())
        session.parser = other
        self.assertEqual(["a", "b"], session.feed(b"2\nb 3\n").events["y"].to_list())
        session.parser = kinglet.load(BLOCKS % "blank-line")
        self.assertEqual(["c\nd"], session.feed(b"c\nd\n\n\ne\n").events["raw"].to_list())
        self.assertEqual(["e"], session.finish().events["raw"].to_list())

    def test_an_event_under_way_comes_with_flush(self) -> None:
        session = kinglet.Session(kinglet.load(BLOCKS % "{start: '^1'}"))
        self.assertEqual([], session.feed(b"1 a\n b\n").events["raw"].to_list())
        self.assertEqual(["1 a\n b"], session.flush().events["raw"].to_list())
        self.assertEqual(["1 c"], session.feed(b"1 c\n1 d\n").events["raw"].to_list())

    def test_a_first_line_without_its_end_comes_with_flush_too(self) -> None:
        session = kinglet.Session(kinglet.load(with_pattern("{a:rest}")))
        self.assertEqual([], session.feed(b"half a").events["raw"].to_list())
        self.assertEqual(["half a"], session.flush().events["raw"].to_list())
        rest = session.feed(b" line\nb\n").events
        self.assertEqual([" line", "b"], rest["raw"].to_list())
        self.assertEqual([["after-pause"], None], [faults or None for faults in rest["faults"].to_list()])

    @given(st.data())
    @examples(24)
    def test_a_state_that_was_damaged_is_refused(self, data: st.DataObject) -> None:
        parser = kinglet.load(BLOCKS % data.draw(st.sampled_from(RULES)))
        session = kinglet.Session(parser, encoding=data.draw(st.sampled_from(["utf-8", "utf-16-le"])))
        session.feed(b'1 a\n b\n{"a": [1,\n')
        state = session.state
        place = data.draw(st.integers(0, len(state) - 1))
        byte = data.draw(st.integers(0, 255).filter(lambda byte: byte != state[place]))
        for damaged in (state[:place], state[:place] + bytes([byte]) + state[place + 1 :]):
            try:
                again = kinglet.Session(parser, state=damaged)
            except kinglet.UsageError as error:
                self.assertRegex(str(error), "no state of a session|of form")
            else:  # written otherwise, and the same
                self.assertEqual(state, again.state)

    def test_what_is_no_state_is_refused(self) -> None:
        parser = kinglet.load(with_pattern("{a:rest}"))
        good = json.loads(kinglet.Session(parser).state)
        for wrong, said in (
            (b"", "no state of a session"), (b"[]", "no state"), (b"{}", "no state"), (b"\xff", "no state"),
            (json.dumps({"kinglet_session": 99, "more": 1}).encode(), "of form 99"),
            (json.dumps({**good, "known": 7}).encode(), "no state"),
            (json.dumps({**good, "boundary": "{}", "rule": good["rule"], "line": 0}).encode(), "no state"),
        ):  # fmt: skip
            with self.subTest(wrong=wrong), self.assertRaisesRegex(kinglet.UsageError, said):
                kinglet.Session(parser, state=wrong)
        with self.assertRaisesRegex(kinglet.UsageError, "no such encoding"):
            kinglet.Session(parser, encoding="utf-9")


class Authors(unittest.TestCase):
    def test_reasons_for_a_raw_event(self) -> None:
        parser = kinglet.load(PARSERS / "pump-panel.yaml")
        raw = "03/Mar 22:10:42 P04 PMP/4001 pump x started"
        (reason,) = kinglet.diagnose(parser, raw, reference_time="2026-03-05")
        self.assertEqual("no-variant", reason.fault)
        self.assertLessEqual(reason.start, raw.index(" x ") + 1)
        self.assertEqual([], kinglet.diagnose(parser, lines("pump-panel")[0], reference_time="2026-03-05"))

    def test_an_event_before_and_after_each_step(self) -> None:
        parser = kinglet.load(PARSERS / "slipway-vpn.yaml")
        traced = kinglet.trace(parser, "\n".join(lines("slipway-vpn")), 3, reference_time=AT)
        self.assertEqual(lines("slipway-vpn")[2], traced.raw)
        self.assertEqual(len(parser._plan.steps), len(traced.stages))
        with self.assertRaisesRegex(kinglet.UsageError, "no event has line 99,999|no event has line 99999"):
            kinglet.trace(parser, "\n".join(lines("slipway-vpn")), 99999)
