"""What must hold of any mapped event, and of the parts that put it together, whatever the log says."""

from __future__ import annotations

import json
import unittest
from typing import Any

import polars as pl
from hypothesis import given
from hypothesis import strategies as st

import kinglet
from kinglet.columns.json_text import Constant, json_lines, nested
from kinglet.columns.paths import Items, tree
from kinglet.ocsf.loading import load_model
from kinglet.ocsf.validation import complaints
from kinglet.runtime.groups import Group
from kinglet.structured.by_form import read
from kinglet.structured.json_objects import JsonObjects
from tests.helpers import examples
from tests.test_model import complaints as standard_complaints

MODEL = load_model()
PARSER = kinglet.load(
    {
        "kinglet": 1,
        "parser": "gate",
        "version": "1.0.0",
        "product": {"vendor": "Quayline", "name": "Gate"},
        "variants": [
            {
                "name": "any",
                "delimited": {"names": ["act", "result", "user", "ip", "port", "count", "group"], "delimiter": ";"},
                "event": {
                    "class": "Authentication",
                    "translate": {
                        "activity": {"from": "act", "to": {"in": "Logon", "out": "Logoff"}},
                        "status": {"from": "result", "to": {"ok": "Success", "no": "Failure"}},
                    },
                    "set": {
                        "service.name": {"text": "gate"},
                        "user.name": "COALESCE(user, 'nobody')",
                        "src_endpoint.name": {"text": "gate"},
                        "src_endpoint.ip": "ip",
                        "src_endpoint.port": "port",
                        "session.count": "count",
                        "user.groups[1].name": "COALESCE(group, 'none')",
                        "user.groups[2].name": {"text": "all"},
                    },
                    "observables": True,
                },
            }
        ],
    }
)
WORDS = st.one_of(
    st.sampled_from(["in", "out", "ok", "no", "192.0.2.7", "2001:db8::7", "443", "70000", "-1", "7.5", ""]),
    st.text(st.characters(blacklist_categories=("Cs", "Cc"), blacklist_characters=';"\u2028\u2029\x85'), max_size=9),
)


def at(event: dict[str, Any], path: str) -> Any:
    value: Any = event
    for part in path.split("."):
        value = value.get(part, {}) if isinstance(value, dict) else {}
    return value


class Mapped(unittest.TestCase):
    @examples(24)
    @given(st.lists(WORDS, min_size=7, max_size=7))
    def test_any_event_is_valid_and_loses_nothing(self, words: list[str]) -> None:
        result = PARSER.parse([";".join(words)], reference_time="2026-03-02")
        event = next(result.to_model())
        self.assertEqual([], standard_complaints(event))
        self.assertEqual([], complaints(event, MODEL))
        row = result.events.row(0, named=True)
        for path, field in {"src_endpoint.ip": "ip", "src_endpoint.port": "port", "session.count": "count"}.items():
            if row[field] is not None:
                kept = (at(event, path), at(event, f"unmapped.not_mapped.{path}"))
                self.assertEqual(1, sum(value != {} for value in kept), (path, row[field]))
                self.assertEqual(kept[1] != {}, f"bad-value:{path}" in at(event, "unmapped.faults"))
        if row["result"] not in (None, "ok", "no"):
            self.assertEqual((99, row["result"]), (event["status_id"], event["status"]))
        self.assertEqual(event["type_uid"], event["class_uid"] * 100 + event["activity_id"])

    @examples(16)
    @given(st.lists(st.lists(WORDS, min_size=7, max_size=7), min_size=1, max_size=5))
    def test_an_event_does_not_depend_on_those_beside_it(self, lines: list[list[str]]) -> None:
        together = list(PARSER.parse([";".join(words) for words in lines], reference_time="2026-03-02").to_model())
        for words, event in zip(lines, together, strict=True):
            alone = next(PARSER.parse([";".join(words)], reference_time="2026-03-02").to_model())
            for one in (alone, event):
                one["metadata"].pop("uid")
            self.assertEqual(alone, event)


class Layouts(unittest.TestCase):
    VALUES = st.one_of(st.none(), st.text(max_size=4), st.sampled_from(['"', "\\", "\n"]))

    @given(st.lists(st.tuples(VALUES, VALUES, VALUES), min_size=1, max_size=5), st.booleans())
    def test_lists_of_objects_are_json_without_nulls(self, rows: list[tuple[Any, ...]], constant: bool) -> None:
        names = ["r[1].a", "r[2].a", "r[2].b"]
        frame = pl.DataFrame(rows, schema=dict.fromkeys(names, pl.String), orient="row")
        layout: dict[str, Any] = {name: name for name in names}
        if constant:
            layout["r[3].a"] = Constant("x")
        for row, line in zip(rows, json_lines(frame, layout), strict=True):
            items = [{"a": row[0]}, {"a": row[1], "b": row[2]}, *([{"a": "x"}] if constant else [])]
            bare = [{key: value for key, value in item.items() if value is not None} for item in items]
            expected = [item for item in bare if item]
            self.assertEqual({"r": expected} if expected else {}, json.loads(line))
        table = nested(frame, names)["r"].to_list()
        self.assertEqual(
            [[row[0]] * (row[0] is not None) + [row[1]] * (row[1] is not None or row[2] is not None) for row in rows],
            [[item["a"] for item in row] for row in table],
        )

    def test_trees(self) -> None:
        made = tree([("a[2].b[1].c", 1), ("a[2].d", 2), ("e.f", 3)])
        self.assertIsInstance(made["a"], Items)
        self.assertEqual({"a": {2: {"b": {1: {"c": 1}}, "d": 2}}, "e": {"f": 3}}, made)


class Batches(unittest.TestCase):
    def test_groups_of_pieces_are_gathered_like_one(self) -> None:
        pieces = [pl.DataFrame({"raw": [f"a{i}", f"b{i}"]}) for i in range(5)]
        frame = pl.concat(pieces, rechunk=False)
        group = Group(pl.Series("row", range(10), dtype=pl.UInt32), frame, pl.DataFrame(height=10), [])
        order = pl.Series([9, 0, 4], dtype=pl.UInt32)
        self.assertEqual(["b4", "a0", "a2"], group.gather(order).columns["raw"].to_list())
        self.assertEqual(3, group.gather(order).texts.height)

    def test_many_forms_at_once_are_read_like_one_after_the_other(self) -> None:
        texts = [json.dumps({"n": i, **{f"k{(i % 30) + j}": j for j in range(3)}}) for i in range(900)]
        wanted = ["n", "k7"]
        many = read(pl.Series(texts), JsonObjects(), wanted)
        for first in range(0, 900, 90):
            some = read(pl.Series(texts[first : first + 90]), JsonObjects(), wanted)
            self.assertTrue(many.columns.slice(first, 90).equals(some.columns))
            self.assertEqual(some.more.to_list(), many.more.slice(first, 90).to_list())


if __name__ == "__main__":
    unittest.main()
