"""From events to states, faults and fields; the public API."""

from __future__ import annotations

import os
import unittest
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime
from unittest import mock

import pandas as pd
import polars as pl

import kinglet
from kinglet.cutting import cutter as cutting
from kinglet.cutting import small_logs as joining
from kinglet.source import logs as sources
from tests.helpers import PUMP, PUMP_LOG, InFolder, with_pattern

EXPECTED = [
    # line, state, faults, variant
    (1, "complete", [], "setpoint-changed"),
    (2, "complete", [], "pump-state"),
    (3, "complete", [], "pump-state"),
    (4, "partial", ["bad-value:client"], "setpoint-changed"),
    (5, "partial", ["no-variant"], None),
    (6, "partial", ["unknown-kind"], None),
    (8, "partial", ["bad-time:stamp"], "pump-state"),
]


class States(unittest.TestCase):
    def setUp(self) -> None:
        self.parser = kinglet.load(PUMP)
        self.result = self.parser.parse(PUMP_LOG, reference_time="2026-03-05")

    def test_every_event_has_a_state_and_every_fault_a_reason(self) -> None:
        found = self.result.events.select("line", "state", "faults", "variant").rows()
        self.assertEqual(EXPECTED, found)

    def test_counts_add_up(self) -> None:
        self.assertEqual({"events": 7, "complete": 3, "partial": 4, "unmatched": 0, "dropped": 0}, self.result.counts)
        self.assertEqual(
            {"bad-time:stamp": 1, "bad-value:client": 1, "no-variant": 1, "unknown-kind": 1}, self.result.faults
        )

    def test_columns_and_their_order_are_those_of_the_contract(self) -> None:
        columns = self.result.events.columns
        self.assertEqual(["line", "raw", "state", "faults", "variant", "time"], columns[:6])
        self.assertEqual(list(self.parser.fields), columns[6:-7])
        self.assertEqual(["time_rule", "time_notes"], columns[-7:-5])
        self.assertEqual(["file", "offset", "parser", "version", "id"], columns[-5:])
        self.assertEqual(self.parser._plan.schema, dict(self.result.events.schema))

    def test_values_have_their_types(self) -> None:
        event = self.result.events.row(0, named=True)
        self.assertEqual((4102, 40.0, 85.5, "T2"), (event["code"], event["old"], event["new"], event["tank"]))
        self.assertEqual("2026-03-03T23:10:41+00:00", event["time"].isoformat())

    def test_the_message_is_kept_only_where_no_variant_read_it(self) -> None:
        bodies = self.result.events["body"].to_list()
        self.assertEqual([None, None, None, None, "setpoint T2 hot", "hm\n  more of it", None], bodies)

    def test_an_empty_log_gives_no_events(self) -> None:
        empty = self.parser.parse(b"")
        self.assertEqual(0, len(empty))
        self.assertEqual(self.parser._plan.schema, dict(empty.events.schema))
        self.assertEqual([], list(empty.to_model()))

    def test_reading_stops_where_told(self) -> None:
        result = self.parser.parse(PUMP_LOG, reference_time="2026-03-05", limit=2)
        self.assertEqual((2, 2, 2), (len(result), result.counts["complete"], len(list(result.to_model()))))

    def test_pandas_and_text_forms(self) -> None:
        frame = self.result.to_pandas()
        self.assertIsInstance(frame, pd.DataFrame)
        self.assertEqual(7, len(frame))
        self.assertEqual("<Result of pump-panel: 7 events, 3 complete, 4 partial>", repr(self.result))
        self.assertEqual("<Parser pump-panel 1.2.0: 2 variants, 12 fields>", repr(self.parser))

    def test_wrong_calls(self) -> None:
        with self.assertRaisesRegex(kinglet.UsageError, "'soon' is not a date"):
            self.parser.parse(PUMP_LOG, reference_time="soon")
        with self.assertRaisesRegex(kinglet.UsageError, "at least one source"):
            list(self.parser.parse_batches())
        with self.assertRaises(AttributeError):
            kinglet.no_such_name  # noqa: B018
        self.assertTrue(set(kinglet.__all__) <= set(dir(kinglet)))


class Variants(unittest.TestCase):
    def test_the_first_variant_that_matches_wins(self) -> None:
        text = (
            with_pattern("a {x:int}")
            + "  - {name: second, pattern: 'a {y:word}'}\n  - {name: third, pattern: '{z:rest}'}\n"
        )
        events = kinglet.load(text).parse(["a 1", "a b", "c", "a 2"]).events
        self.assertEqual(["any", "second", "third", "any"], events["variant"].to_list())
        self.assertEqual([1, None, None, 2], events["x"].to_list())

    def test_kinds_choose_and_variants_without_kind_come_into_question_for_all(self) -> None:
        text = (
            with_pattern("x {n:int}").replace("pattern: 'x", "kind: A\n    pattern: 'x")
            + "  - {name: rest, pattern: '{all:rest}'}\n"
            + "envelope: '{k:word} {body:rest}'\nkind: k\n"
        )
        events = kinglet.load(text).parse(["A x 1", "A y", "B x 1", "nothing"]).events
        self.assertEqual(["any", "rest", "rest", None], events["variant"].to_list())
        self.assertEqual(["complete", "complete", "complete", "unmatched"], events["state"].to_list())
        self.assertEqual(["no-match"], events["faults"].to_list()[3])

    def test_kinds_that_are_numbers_match_whatever_their_zeros(self) -> None:
        events = (
            kinglet.load(PUMP)
            .parse(["03/Mar 22:10:42 P04 PMP/04001 pump 3 started"], reference_time="2026-03-05")
            .events
        )
        self.assertEqual(["pump-state"], events["variant"].to_list())

    def test_two_hundred_variants(self) -> None:
        variants = "".join(f"  - {{name: v{i}, kind: {i}, pattern: 'message {i} {{f{i}:int}}'}}\n" for i in range(200))
        head = with_pattern("").split("variants:")[0]
        parser = kinglet.load(f"{head}envelope: '{{k:int}} {{body:rest}}'\nkind: k\nvariants:\n{variants}")
        events = parser.parse([f"{i % 200} message {i % 200} {i}" for i in range(1000)]).events
        self.assertEqual([f"v{i % 200}" for i in range(1000)], events["variant"].to_list())
        self.assertEqual(999, events["f199"][999])


class Batches(InFolder):
    def test_batches_chunks_and_workers_change_nothing(self) -> None:
        path = self.write("pump.log", PUMP_LOG * 12)
        parser = kinglet.load(PUMP)
        whole = parser.parse(path, reference_time="2026-03-05")
        with (
            mock.patch.object(sources, "CHUNK_BYTES", 333),
            mock.patch.object(cutting, "MAX_EVENTS", 7),
            mock.patch.multiple(joining, SHARED_EVENTS=0, SMALL_BYTES=0),
        ):
            for workers in (1, 3):
                parts = list(parser.parse_batches(path, reference_time="2026-03-05", workers=workers))
                self.assertGreater(len(parts), 10)
                self.assertTrue(pl.concat([part.events for part in parts]).equals(whole.events))
                self.assertEqual(whole.counts["events"], sum(part.counts["events"] for part in parts))
                mapped = [event for part in parts for event in part.to_model()]
                self.assertEqual(list(whole.to_model()), mapped)

    def test_several_sources_keep_their_order_and_their_names(self) -> None:
        self.write("a.log", "one 1\n")
        self.write("b.log", "two 2\n")
        parser = kinglet.load(with_pattern("{w:word} {n:int}"))
        parts = list(parser.parse_batches("b.log", "a.log"))
        self.assertEqual(["b.log", "a.log"], pl.concat([part.events for part in parts])["file"].to_list())
        with mock.patch.multiple(joining, SHARED_EVENTS=0, SMALL_BYTES=0):
            apart = list(parser.parse_batches("b.log", "a.log"))
        self.assertEqual(2, len(apart))
        self.assertTrue(pl.concat(part.events for part in apart).equals(parts[0].events))

    def test_missing_years_come_from_each_log_of_a_folder_by_itself(self) -> None:
        parser = kinglet.load(with_pattern("{s:time} {m:rest}") + "time: {from: s, format: '%d/%b %H:%M'}\n")
        for year in (2019, 2024):
            at = datetime(year, 3, 5, tzinfo=UTC).timestamp()
            os.utime(self.write(f"{year}.log", "04/Mar 10:00 x\n29/Feb 10:00 y\n"), (at, at))
        result = parser.parse(self.folder)
        self.assertEqual([2019, 2016, 2024, 2024], result.events["time"].dt.year().to_list())
        self.assertEqual(["x", "y"] * 2, [event["unmapped"]["m"] for event in result.to_model()])

    def test_one_parser_serves_many_threads(self) -> None:
        parser = kinglet.load(PUMP)
        with ThreadPoolExecutor(4) as pool:
            results = list(pool.map(lambda _: parser.parse(PUMP_LOG, reference_time="2026-03-05").events, range(12)))
        self.assertTrue(all(result.equals(results[0]) for result in results))

    def test_an_error_in_a_later_source_reaches_the_caller(self) -> None:
        self.write("a.log", "one 1\n")
        parser = kinglet.load(with_pattern("{w:word} {n:int}"))
        with self.assertRaisesRegex(kinglet.InputError, "gone.log: no such file"):
            list(parser.parse_batches("a.log", "gone.log"))

    def test_long_and_broken_events(self) -> None:
        parser = kinglet.load(with_pattern("{w:word} {r:rest}") + "events: {max_bytes: 1 KiB}\n")
        result = parser.parse(b"a " + b"x" * 3_000_000 + b"\nb \xff\xfe\nc d")
        self.assertEqual({"too-long", "bad-bytes", "no-match"}, set(result.faults))
        self.assertEqual("complete", result.events["state"][-1])
        self.assertEqual(3_000_000 + 2, sum(len(raw) for raw in result.events["raw"][:-2]))
