"""Files and texts that events go out as."""

from __future__ import annotations

import csv
import json
import unittest
from typing import Any
from unittest import mock

import polars as pl
import pyarrow.parquet
from hypothesis import given
from hypothesis import strategies as st

import kinglet
from kinglet.columns.json_text import Constant, Layout, iso_text, json_lines, nested
from kinglet.output.feeding import Feed
from kinglet.output.views import view
from kinglet.output.writers import WRITERS, NdjsonWriter, writer_for
from tests.helpers import PUMP, PUMP_LOG, InFolder, examples

TEXT = st.none() | st.text(st.characters(codec="utf-8"), max_size=12)
ROW = st.fixed_dictionaries(
    {
        "a": TEXT,
        "b": TEXT,
        "n": st.none() | st.integers(-(2**62), 2**62),
        "f": st.none() | st.floats(allow_nan=False, allow_infinity=False, width=32),
        "t": st.none() | st.booleans(),
    }
)
SCHEMA = {"a": pl.String(), "b": pl.String(), "n": pl.Int64(), "f": pl.Float64(), "t": pl.Boolean()}
LAYOUTS: list[Layout] = [
    {"a": "a", "b": "b", "n": "n", "f": "f", "t": "t"},
    {"k": Constant(1), "x.a": "a", "x.b": "b", "n": "n"},
    {"x.y.a": "a", "x.y.b": "b", "x.n": "n", "z.t": "t"},
    {"x.k": Constant(["v", {"w": None}]), "x.a": "a", "y.f": "f"},
    {"n": "n", "x.k": Constant(1), "x.a": "a", "b": "b"},
]


def plainly(row: dict[str, Any], layout: Layout) -> dict[str, Any]:
    """The object of a row, made one value at a time."""
    made: dict[str, Any] = {}
    for path, value in layout.items():
        content = value.value if isinstance(value, Constant) else row[value]
        if content is None:
            continue
        *above, name = path.split(".")
        node = made
        for part in above:
            node = node.setdefault(part, {})
        node[name] = content
    return made


class JsonText(unittest.TestCase):
    @given(st.lists(ROW, min_size=1, max_size=6), st.sampled_from(LAYOUTS))
    @examples(36)
    def test_it_is_what_the_standard_encoder_would_say(self, rows: list[dict[str, Any]], layout: Layout) -> None:
        frame = pl.DataFrame(rows, schema=SCHEMA)
        lines = json_lines(frame, layout)
        self.assertEqual([plainly(row, layout) for row in rows], [json.loads(line) for line in lines])

    @given(st.lists(ROW, min_size=2, max_size=6), st.sampled_from(LAYOUTS))
    @examples(24)
    def test_the_bytes_do_not_depend_on_the_batch(self, rows: list[dict[str, Any]], layout: Layout) -> None:
        frame = pl.DataFrame(rows, schema=SCHEMA)
        alone = [json_lines(frame.slice(i, 1), layout).item() for i in range(frame.height)]
        self.assertEqual(alone, json_lines(frame, layout).to_list())

    def test_what_json_cannot_hold_is_left_out(self) -> None:
        frame = pl.DataFrame({"f": [float("nan"), float("inf"), 1.5], "l": [[], ["a"], None]})
        self.assertEqual(["{}", '{"l":["a"]}', '{"f":1.5}'], json_lines(frame, {"f": "f", "l": "l"}).to_list())
        self.assertEqual(['{"k":{"c":1}}\n'] * 3, json_lines(frame, {"k.c": Constant(1)}, "\n").to_list())

    def test_instants_have_a_fraction_only_where_they_need_one(self) -> None:
        column = pl.Series([0, 1_500_000, None]).cast(pl.Datetime("us")).dt.replace_time_zone("UTC")
        self.assertEqual(["1970-01-01T00:00:00Z", "1970-01-01T00:00:01.500000Z", None], iso_text(column).to_list())

    def test_dotted_columns_become_structs(self) -> None:
        frame = nested(pl.DataFrame({"a.b": [1], "a.c.d": [2], "e": [3]}), ["a.b", "a.c.d", "e"])
        self.assertEqual([{"a": {"b": 1, "c": {"d": 2}}, "e": 3}], frame.to_dicts())


class Files(InFolder):
    def setUp(self) -> None:
        super().setUp()
        self.parser = kinglet.load(PUMP)
        self.result = self.parser.parse(PUMP_LOG, reference_time="2026-03-05")

    def save(self, name: str, form: str) -> None:
        with writer_for(name, view(self.parser._plan, form)) as writer:
            for batch in self.result.batches:
                writer.write(writer.prepare(batch))
                writer.write(writer.prepare(batch))

    def test_every_format_holds_every_event_in_both_forms(self) -> None:
        for form in ("fields", "model"):
            for suffix in WRITERS:
                with self.subTest(form=form, suffix=suffix):
                    self.save(f"x{suffix}", form)
                    self.assertEqual(14, self.height(f"x{suffix}"))
                    self.assertEqual([f"x{suffix}"], [path.name for path in self.folder.iterdir()])
                    (self.folder / f"x{suffix}").unlink()

    @staticmethod
    def height(name: str) -> int:
        if name.endswith(".csv"):
            with open(name, newline="") as stream:
                return len(list(csv.DictReader(stream)))
        if name.endswith(".ndjson"):
            with open(name) as stream:
                return len([json.loads(line) for line in stream])
        return pl.read_parquet(name).height if name.endswith(".parquet") else pl.read_ipc(name).height

    def test_parquet_keeps_types_and_nesting(self) -> None:
        self.save("x.parquet", "model")
        schema = pyarrow.parquet.read_schema("x.parquet")
        self.assertEqual("struct", str(schema.field("metadata").type)[:6])
        rows = pl.read_parquet("x.parquet")
        self.assertEqual("T2", rows["entity"].struct.field("name")[0])
        self.assertEqual(["pump-panel"] * 14, rows["metadata"].struct.field("transformation_info_list").list.first()
                         .struct.field("name").to_list())  # fmt: skip

    def test_ndjson_is_what_to_model_gives(self) -> None:
        self.save("x.ndjson", "model")
        lines = [json.loads(line) for line in (self.folder / "x.ndjson").read_text().splitlines()]
        self.assertEqual(list(self.result.to_model()), lines[:7])

    def test_csv_holds_line_breaks_and_lists(self) -> None:
        self.save("x.csv", "fields")
        with open("x.csv", newline="") as stream:
            rows = list(csv.DictReader(stream))
        self.assertIn("\n  more of it", rows[5]["raw"])
        self.assertEqual(("bad-value:client", "2026-03-03T23:10:44Z"), (rows[3]["faults"], rows[3]["time"]))

    def test_nothing_half_written_is_left_behind(self) -> None:
        self.write("x.parquet", "what stood there before")
        for suffix in WRITERS:
            with (
                self.subTest(suffix=suffix),
                self.assertRaises(KeyboardInterrupt),
                writer_for(f"x{suffix}", view(self.parser._plan, "fields")) as writer,
            ):
                writer.write(writer.prepare(self.result.batches[0]))
                raise KeyboardInterrupt
        self.assertEqual(["x.parquet"], [path.name for path in self.folder.iterdir()])
        self.assertEqual("what stood there before", (self.folder / "x.parquet").read_text())

    def test_places_that_cannot_be_written(self) -> None:
        form = view(self.parser._plan, "fields")
        (self.folder / "sub.csv").mkdir()
        for name, said in {
            "x.txt": "the suffix tells no format; use .ndjson .csv .parquet .arrow",
            "sub.csv": "is a folder; name a file in it",
            "no/x.csv": "there is no folder no; make it first: mkdir -p no",
        }.items():
            with self.subTest(name=name), self.assertRaisesRegex(kinglet.OutputError, said), writer_for(name, form):
                self.fail("it was opened")
        with (
            mock.patch("pathlib.Path.open", side_effect=PermissionError(13, "Permission denied")),
            self.assertRaisesRegex(kinglet.OutputError, "x.csv: may not be written"),
            writer_for("x.csv", form),
        ):
            self.fail("it was opened")

    def test_told_to_end_right_after_the_file_is_there(self) -> None:
        def told(*_: object) -> bool:
            raise SystemExit(143)

        with (
            mock.patch("kinglet.output.writers._hold", told),
            self.assertRaises(SystemExit),
            writer_for("x.ndjson", view(self.parser._plan, "fields")),
        ):
            self.fail("it was opened")
        self.assertEqual([], list(self.folder.glob(".*.part")))

    def test_a_disk_that_is_full(self) -> None:
        full = mock.Mock(write=mock.Mock(side_effect=OSError(28, "No space left")))
        with (
            self.assertRaisesRegex(kinglet.OutputError, "x.ndjson: cannot be written: No space left"),
            writer_for("x.ndjson", view(self.parser._plan, "fields")) as writer,
            mock.patch.object(writer, "stream", full),
        ):
            assert isinstance(writer, NdjsonWriter)
            writer.write(writer.prepare(self.result.batches[0]))
        self.assertEqual([], list(self.folder.iterdir()))


class Feeding(unittest.TestCase):
    def test_what_the_writer_raises_reaches_the_one_who_feeds_it(self) -> None:
        frame = pl.DataFrame({"a": [1]})

        def broken(frames: pl.LazyFrame) -> None:
            raise RuntimeError("no")

        feed = Feed(broken, frame.schema)
        with self.assertRaisesRegex(RuntimeError, "no"):
            for _ in range(10):
                feed.put(frame)
        with self.assertRaisesRegex(RuntimeError, "no"):
            feed.finish()

    def test_frames_arrive_in_order(self) -> None:
        got: list[pl.DataFrame] = []
        feed = Feed(lambda frames: got.append(frames.collect()), pl.Schema({"a": pl.Int64()}))
        for i in range(9):
            feed.put(pl.DataFrame({"a": [i]}))
        feed.finish()
        self.assertEqual(list(range(9)), got[0]["a"].to_list())
