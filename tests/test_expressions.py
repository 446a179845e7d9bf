"""SQL expressions: against SQLite, over odd values, and what may not stand in them."""

from __future__ import annotations

import json
import re
import sqlite3
import unittest
from datetime import UTC, datetime
from pathlib import Path
from unittest import mock

import polars as pl
from hypothesis import given
from hypothesis import strategies as st

import kinglet as kinglet_module
from kinglet.cutting import cutter as cutting
from kinglet.expressions import evaluating
from kinglet.expressions.compiling import sql
from kinglet.expressions.functions import FUNCTIONS
from kinglet.expressions.reading import WORDS
from kinglet.expressions.terms import ExpressionError
from kinglet.names import RESERVED
from kinglet.output.views import FieldsView, ModelView, View
from tests.helpers import ROOT, InFolder, examples, kinglet

ROWS = st.lists(
    st.tuples(
        st.one_of(st.none(), st.integers(-50, 50)),
        st.one_of(st.none(), st.integers(-3, 3)),
        st.one_of(st.none(), st.text("abA% _0'", max_size=6)),
        st.one_of(st.none(), st.text("ab0", max_size=3)),
    ),
    min_size=1,
    max_size=6,
)
NUMBERS = st.recursive(
    st.sampled_from(["n", "m", "7", "0", "NULL"]),
    lambda inner: st.one_of(
        st.tuples(inner, st.sampled_from(["+", "-", "*", "%"]), inner).map(lambda it: f"({it[0]} {it[1]} {it[2]})"),
        inner.map(lambda one: f"ABS({one})"),
        inner.map(lambda one: f"(- {one})"),
        st.tuples(inner, inner).map(lambda it: f"COALESCE({it[0]}, {it[1]})"),
        st.tuples(inner, inner).map(lambda it: f"NULLIF({it[0]}, {it[1]})"),
        st.tuples(inner, inner, inner).map(lambda it: f"CASE WHEN {it[0]} < {it[1]} THEN {it[2]} ELSE m END"),
        st.tuples(inner, inner).map(lambda it: f"CASE {it[0]} WHEN 1 THEN {it[1]} WHEN 2 THEN 5 END"),
    ),
    max_leaves=6,
)
TEXTS = st.recursive(
    st.sampled_from(["t", "u", "'a'", "'b''%'", "''"]),
    lambda inner: st.one_of(
        st.tuples(inner, inner).map(lambda it: f"({it[0]} || {it[1]})"),
        inner.map(lambda one: f"UPPER({one})"),
        inner.map(lambda one: f"TRIM({one})"),
        inner.map(lambda one: f"LTRIM({one}, 'a')"),
        inner.map(lambda one: f"REPLACE({one}, 'a', 'bb')"),
        st.tuples(inner, st.integers(1, 4), st.integers(0, 3)).map(lambda it: f"SUBSTR({it[0]}, {it[1]}, {it[2]})"),
        st.tuples(inner, inner).map(lambda it: f"COALESCE({it[0]}, {it[1]})"),
    ),
    max_leaves=5,
)
CONDITIONS = st.recursive(
    st.one_of(
        st.tuples(NUMBERS, st.sampled_from(["=", "<>", "<", ">="]), NUMBERS).map(" ".join),
        st.tuples(TEXTS, st.sampled_from(["=", "<", ">"]), TEXTS).map(" ".join),
        TEXTS.map(lambda one: f"{one} LIKE 'a%'"),
        TEXTS.map(lambda one: f"{one} LIKE '_!%%' ESCAPE '!'"),
        NUMBERS.map(lambda one: f"{one} IN (1, 2, 3)"),
        NUMBERS.map(lambda one: f"{one} NOT IN (m, 2)"),
        TEXTS.map(lambda one: f"{one} NOT LIKE '%b'"),
        TEXTS.map(lambda one: f"{one} NOT LIKE '!_%' ESCAPE '!'"),
        NUMBERS.map(lambda one: f"{one} BETWEEN -2 AND 4"),
        NUMBERS.map(lambda one: f"{one} NOT BETWEEN -2 AND m"),
        TEXTS.map(lambda one: f"{one} IS NOT NULL"),
    ),
    lambda inner: st.one_of(
        st.tuples(inner, st.sampled_from(["AND", "OR"]), inner).map(lambda it: f"({it[0]} {it[1]} {it[2]})"),
        inner.map(lambda one: f"NOT ({one})"),
    ),
    max_leaves=4,
)
FIELDS = {"n": pl.Int64(), "m": pl.Int64(), "t": pl.String(), "u": pl.String()}
HEAD = "kinglet: 1\nparser: bench\nversion: 1.0.0\nproduct: {vendor: Marram Ferries, name: Bench}\n"


class AgainstSqlite(unittest.TestCase):
    def setUp(self) -> None:
        self.database = sqlite3.connect(":memory:")
        self.addCleanup(self.database.close)
        self.database.execute("PRAGMA case_sensitive_like = 1")
        self.database.execute("CREATE TABLE e (n INTEGER, m INTEGER, t TEXT, u TEXT)")

    def agree(self, text: str, rows: list[tuple[int | None, int | None, str | None, str | None]]) -> None:
        self.database.execute("DELETE FROM e")
        self.database.executemany("INSERT INTO e VALUES (?, ?, ?, ?)", rows)
        expected = [row[0] for row in self.database.execute(f"SELECT {text} FROM e ORDER BY rowid")]
        frame = pl.DataFrame(rows, schema=FIELDS, orient="row")
        made = sql(text, FIELDS)
        found, wrong = evaluating.column(frame, made.value, made.dtype)
        self.assertIsNone(wrong)
        got = [int(value) if isinstance(value, bool) else value for value in found.to_list()]
        self.assertEqual(expected, got, text)
        if made.failed is not None:  # where it fails there is no value, though SQLite too may have said NULL
            failed = evaluating.column(frame, made.failed, pl.Boolean())[0].to_list()
            self.assertFalse([value for value, bad in zip(expected, failed, strict=True) if bad and value is not None])

    @given(NUMBERS, ROWS)
    @examples(36)
    def test_numbers(self, text: str, rows: list[tuple[int | None, int | None, str | None, str | None]]) -> None:
        self.agree(text, rows)

    @given(TEXTS, ROWS)
    @examples(36)
    def test_texts(self, text: str, rows: list[tuple[int | None, int | None, str | None, str | None]]) -> None:
        self.agree(text, rows)

    @given(CONDITIONS, ROWS)
    @examples(36)
    def test_conditions(self, text: str, rows: list[tuple[int | None, int | None, str | None, str | None]]) -> None:
        self.agree(text, rows)

    def test_every_way_to_deny(self) -> None:
        rows: list[tuple[int | None, int | None, str | None, str | None]]
        rows = [(n, m, t, "b") for n in (None, 1, 5) for m in (None, 2) for t in (None, "", "a", "ab", "_b")]
        for told in (
            "t LIKE 'a%'",
            "t LIKE '!_%' ESCAPE '!'",
            "n IN (1, m)",
            "n BETWEEN 0 AND m",
            "t IS NULL",
            "n = m",
        ):
            name, _, rest = told.partition(" ")
            denied = f"{name} IS NOT NULL" if rest == "IS NULL" else f"{name} NOT {rest}"
            for text in (told, f"NOT {told}", f"NOT ({told})", *([] if " = " in told else [denied, f"NOT {denied}"])):
                with self.subTest(text):
                    self.agree(text, rows)


class Failing(unittest.TestCase):
    @given(st.lists(st.one_of(st.none(), st.integers(-(2**63), 2**63 - 1)), min_size=2, max_size=2))
    @examples(48)
    def test_no_sum_is_wrong(self, values: list[int | None]) -> None:
        frame = pl.DataFrame([values], schema={"n": pl.Int64(), "m": pl.Int64()}, orient="row")
        for sign in "+-*":
            made = sql(f"n {sign} m", FIELDS)
            found = evaluating.column(frame, made.value, made.dtype)[0][0]
            assert made.failed is not None
            failed = evaluating.column(frame, made.failed, pl.Boolean())[0][0]
            if None in values:
                self.assertEqual((None, False), (found, failed))
                continue
            one, two = (value for value in values if value is not None)
            true = {"+": one + two, "-": one - two, "*": one * two}[sign]
            fits = -(2**63) <= true < 2**63
            self.assertEqual((true if fits else None, not fits), (found, failed))

    def test_where_it_fails(self) -> None:
        """A piece counts only in the events in which it is looked at."""
        frame = pl.DataFrame({"t": ["7", "high", None], "u": ["x", "y", "z"]}, schema_overrides=FIELDS)
        for text, values, failed in (
            ("CAST(t AS INT)", [7, None, None], [False, True, False]),
            ("TRY_CAST(t AS INT)", [7, None, None], None),
            ("CASE WHEN t = 'high' THEN 1 ELSE CAST(t AS INT) END", [7, 1, None], [False, False, False]),
            ("CASE WHEN CAST(t AS INT) = 7 THEN 1 ELSE 2 END", [1, 2, 2], [False, True, False]),
            ("COALESCE(CAST(t AS INT), 9)", [7, 9, 9], [False, True, False]),
            ("COALESCE(u, CAST(CAST(t AS INT) AS VARCHAR))", ["x", "y", "z"], [False, False, False]),
            ("t <> 'high' AND CAST(t AS INT) > 3", [True, False, None], [False, False, False]),
            ("t = 'high' OR CAST(t AS INT) > 3", [True, True, None], [False, False, False]),
            ("CAST(t AS INT) / 0", [None, None, None], [True, True, False]),
        ):
            made = sql(text, FIELDS)
            self.assertEqual(values, evaluating.column(frame, made.value, made.dtype)[0].to_list(), text)
            found = None if made.failed is None else evaluating.column(frame, made.failed, pl.Boolean())[0].to_list()
            self.assertEqual(failed, found, text)

    def test_what_the_engine_cannot_compute_costs_its_events_only(self) -> None:
        frame = pl.DataFrame({"n": ["1", "x", "3", "y"]})
        strict = pl.col("n").cast(pl.Int64)
        found, wrong = evaluating.column(frame, strict, pl.Int64())
        assert wrong is not None
        self.assertEqual(([1, None, 3, None], [False, True, False, True]), (found.to_list(), wrong.to_list()))
        table, masks = evaluating.columns(frame, [("a", strict, pl.Int64()), ("b", pl.col("n"), pl.String())])
        self.assertEqual([(1, "1"), (None, "x"), (3, "3"), (None, "y")], table.rows())
        self.assertEqual(["a"], list(masks))


class Refused(unittest.TestCase):
    def test_only_single_events_and_known_functions(self) -> None:
        for text, message in {
            "SUM(n)": "`SUM` looks beyond its own event",
            "COUNT(*)": "`COUNT` looks beyond",
            "ROW_NUMBER() OVER ()": "sees one event at a time",
            "LAG(n)": "`LAG` looks beyond",
            "n + (SELECT 1)": "reads no table",
            "REPEAT(t, 1000000000)": "there is no function `REPEAT`; did you mean `REPLACE`?",
            "LPAD(t, 1000000000, 'x')": "there is no function `LPAD`",
            "read_csv('x')": "there is no function `read_csv`",
            "LOWR(t)": "did you mean `LOWER`",
            "SUBSTR(t)": "write SUBSTR(text, start, length)",
            "REPLACE(t, u, 'x')": "wants a fixed text as value 2",
            "REPLACE(t, '', 'x')": "nothing to look for",
            "REPLACE(REPLACE(t, 'a', 'aaaaaaaaaa'), 'a', 'aaaaaaaaaa')": "100 times as long",
            " || ".join(["t"] * 70): "joins too many texts",
            "n + t": "`t` is text, and `+` wants numbers; join texts with ||",
            "n = t": "mixes `n`, a whole number, and `t`, text",
            "n b": "is a comma or an operator missing?",
            "n; m": "it is not one expression",
            "": "it is not one expression",
            "99999999999999999999": "is too large",
            "(" * 400 + "n" + ")" * 400: "nested too deeply",
            "n + " * 6000 + "n": "more than 20,000 characters",
            "REGEXP_LIKE(t, '(')": "the regex `(`",
            "REGEXP_LIKE(t, u)": "wants a fixed text",
            "CAST(t AS DATE)": "is no type to cast to",
            "EXTRACT(hours FROM n)": "a time has no part `HOURS`; did you mean `HOUR`?",
            "t LIKE u": "LIKE takes one",
        }.items():
            with self.subTest(text=text[:40]), self.assertRaises(ExpressionError) as caught:
                sql(text, FIELDS)
            self.assertIn(message, str(caught.exception))

    def test_a_word_too_many_is_not_passed_over(self) -> None:
        for text in (
            "n BETWEEN SYMMETRIC 4 AND -2", "CAST(t AS INT FORMAT 'x')", "CAST(t AS INT DEFAULT 1 ON CONVERSION ERROR)",
            "n IN (SELECT 1)", "t LIKE ANY ('a', 'b')", "t SIMILAR TO 'a'", "n IS DISTINCT FROM m",
            "t COLLATE nocase = u", "t NOT LIKE ALL ('a')", "n IN UNNEST(m)",
            "t ILIKE ANY ('a')", "CASE n WHEN 1 THEN 2 END OVER ()",
        ):  # fmt: skip
            with self.subTest(text), self.assertRaises(ExpressionError):
                sql(text, FIELDS)

    @given(st.text("nmtu()+-*/%|'\"<>=, .0123456789;[]{}:?@$~AND_casewhenTHENinlikeSELECT", max_size=40))
    @examples(72)
    def test_any_text_is_an_expression_or_an_error(self, text: str) -> None:
        try:
            made = sql(text, FIELDS)
        except ExpressionError as error:
            self.assertTrue(str(error))
            return
        frame = pl.DataFrame([(1, 2, "a", "b")], schema=FIELDS, orient="row")
        found, wrong = evaluating.column(frame, made.value, made.dtype)
        self.assertEqual((1, None), (len(found), wrong), text)

    def test_documents(self) -> None:
        """The table of functions in the documents is that of the code, and every example holds."""
        text = (ROOT / "docs/expressions.md").read_text(encoding="utf-8")
        rows = re.findall(r"^\| `([A-Z_]+)\((.*?)\)` \| `(.*?)` \| `(.*?)` \|$", text, re.MULTILINE)
        made = {name: (it.shown, it.example, it.gives) for name, it in FUNCTIONS.items()}
        self.assertEqual(made, {name: (shown, example, gives) for name, shown, example, gives in rows})
        time = pl.Series([datetime(2026, 3, 3, 23, 10, 41, tzinfo=UTC)], dtype=pl.Datetime("us", "UTC"))
        frame = pl.DataFrame({"tags": [["a", "b"]], "time": time})
        for name, function in FUNCTIONS.items():
            expression = sql(function.example, frame.schema)
            value = evaluating.column(frame, expression.value, expression.dtype)[0][0]
            said = {True: "true", False: "false"}[value] if isinstance(value, bool) else str(value)
            self.assertEqual(function.gives, "NULL" if value is None else said, name)


WORDS_OF_ALL = sorted(
    {
        *RESERVED, *(word.lower() for word in WORDS), *WORDS, "row", "#row", "#source", "#stamp", "#time_from", "more",
        "time_from", "not_mapped", "_onward_x", "value", "v", "json", "bad", "rank", "place", "number", "*", "^a$",
        "user", "order", "select", "left", "raw_data", "o", "", "class_uid", "metadata", "unmapped", "a b", 'q"q',
    }
)  # fmt: skip
HOSTILE = st.one_of(
    st.sampled_from(['1},"user":{"name":"admin"', '"', "\\", "null", "{}", "-", "", "7", "\u202e", "a\tb"]),
    st.text(max_size=8).map(lambda text: text.replace("\n", " ").replace("\r", " ")),
)
STEPS = st.sampled_from(
    [
        "{mask: {fields: F}}",
        "{rename: {F: o}}",
        "{rename: {F: more}}",
        "{copy: {F: o}}",
        "{roll: {fields: [F], to: o}}",
        "{roll: {fields: [F], to: F}}",
        "{when: 1 = 1, roll: {fields: [F], to: o}}",
        "{replace: {fields: F, regex: a, with: o}}",
        "{set: {o: F}}",
        "{convert: {F: int}}",
        "{split: {field: F, at: ',', into: [o, p]}}",
        "{translate: {F: {to: {a: b}}}}",
        "{remove: F}",
        "{parse: {field: F, json: true, optional: true}}",
        "{roll: {fields: [more], to: o}}",
        "{set: {more: {text: '{'}}}",
        "{mask: {fields: more}}",
        "{parse: {field: o, pairs: true, optional: true}}",
        "{remember: {by: F, keep: [more, o]}}",
        "{remember: {by: [o, F], keep: more, until: raw LIKE '%7%', events: 2}}",
        "{when: raw LIKE '%a%', remember: {by: more, keep: F}}",
    ]
)


class Names(InFolder):
    """Whatever fields are called and whatever steps do: valid lines, no foreign exception, the same in any batch."""

    def test_names_that_a_field_may_have(self) -> None:
        for name in ("^a", "a$", "a*", "a#", "$", "^", ".", "a.b", "a b", "1", "SELECT", "é"):
            text = HEAD + json.dumps({"variants": [{"name": "a", "json": True, "types": {name: "int"}}]})[1:-1]
            (event,) = kinglet_module.load(text).parse([json.dumps({name: "7", "b": 1})]).events.to_dicts()
            self.assertEqual((7, "complete"), (event[name], event["state"]), name)
        for name in ("*", "^a$", "#row", "", "_onward_x"):
            text = HEAD + json.dumps({"variants": [{"name": "a", "json": True, "types": {name: "int"}}]})[1:-1]
            with self.subTest(name=name), self.assertRaises(kinglet_module.ParserFileError):
                kinglet_module.load(text)

    @given(
        st.sampled_from(WORDS_OF_ALL),
        st.sampled_from(["json", "pattern", "regex"]),
        st.lists(STEPS, max_size=3),
        st.lists(HOSTILE, min_size=1, max_size=6),
        st.booleans(),
    )
    @examples(36)
    def test_any_names_and_steps(
        self, name: str, form: str, steps: list[str], texts: list[str], by_class: bool
    ) -> None:
        field = json.dumps(name, ensure_ascii=False)
        if form == "json":
            variant = f"{{name: a, json: true, types: {{{field}: text}}}}"
            lines = [json.dumps({name: text, "b": 1, "c": {"d": text}}) for text in texts]
        elif form == "pattern":
            variant = json.dumps({"name": "a", "pattern": f"x{{{name}:text}}[[ z={{more:rest}}]]"})
            lines = [f"x{text} z={text}" for text in texts]
        else:
            variant = json.dumps({"name": "a", "regex": f"^x(?P<{name}>.*)$"})
            lines = [f"x{text}" for text in texts]
        table = json.dumps({"from": json.dumps(name, ensure_ascii=False), "to": {"7": "Authentication", "-": 6002}})
        translated = f"event: {{translate: {{class: {table}}}, set: {{user.name: raw, message: raw}}}}\n"
        text = HEAD + f"variants: [{variant}]\n" + (translated if by_class else "event: {class: Base Event}\n")
        if steps:
            text += "steps:\n" + "".join("  - " + step.replace("F", field) + "\n" for step in steps)
        try:
            parser = kinglet_module.load(text)
        except kinglet_module.KingletError as error:
            self.assertTrue(str(error))
            return
        outputs = []
        for events in (100_000, 1):
            with mock.patch.object(cutting, "MAX_EVENTS", events):
                result = parser.parse(lines, reference_time="2026-03-05")
            forms: tuple[View, ...] = (FieldsView(parser._plan), ModelView(parser._plan))
            outputs.append([line for view in forms for batch in result.batches for line in view.lines(batch).to_list()])
        self.assertEqual(*outputs)
        for line in outputs[0]:
            self.assertIsInstance(json.loads(line), dict)

    def test_a_log_line_adds_no_keys(self) -> None:
        text = HEAD + "variants: [{name: a, pattern: '{n:int}[[ {more:rest}]]'}]\nevent: {class: Base Event}\n"
        line = '1 1},"user":{"name":"admin"'
        mapped = next(kinglet_module.load(text).parse(line + "\n2\n").to_model())
        self.assertEqual({"n", "more", "time_from"}, set(mapped["unmapped"]))
        self.assertNotIn("user", mapped)
        self.write("a.yaml", text)
        self.write("a.log", line + "\n")
        self.assertEqual(0, kinglet("run", "-p", "a.yaml", "a.log", "-o", "a.ndjson").status)
        event = json.loads(Path("a.ndjson").read_text(encoding="utf-8"))
        self.assertEqual(('1},"user":{"name":"admin"', None), (event["more"], event.get("user")))

    def test_what_is_json_is_known_at_each_step(self) -> None:
        text = HEAD + "variants: [{name: a, json: true, types: {u: text, n: int}}]\nsteps:\n%s"
        rolled: dict[str, object] = {"o": {"u": "m.okoro", "n": 7}, "good": "o"}
        cases: dict[str, dict[str, object]] = {
            "  - roll: {fields: [u, n], to: o}\n  - set: {good: {text: o}}\n": rolled,
            "  - rename: {more: others}\n": {"others": {"k.z": 1}},
            "  - mask: {fields: more}\n": {"more": "*" * len('{"k.z":1}')},
            "  - {when: n = 7, roll: {fields: [u], to: u}}\n": {"u": '{"u":"m.okoro"}'},
            "  - roll: {fields: [more, n], to: o}\n": {"o": {"more": {"k.z": 1}, "n": 7}},
        }
        for steps, expected in cases.items():
            self.write("a.yaml", text % steps)
            self.write("a.log", '{"u": "m.okoro", "n": 7, "k": {"z": 1}}\n')
            self.assertEqual(0, kinglet("run", "-p", "a.yaml", "a.log", "-o", "a.ndjson").status)
            event = json.loads(Path("a.ndjson").read_text(encoding="utf-8"))
            self.assertEqual(expected, {name: event[name] for name in expected}, steps)


class Everywhere(InFolder):
    """One odd value costs its own event: in mappings, steps, conditions and rules."""

    def test_casts(self) -> None:
        text = HEAD + (
            "variants: [{name: a, pattern: '{level:word} {n:int}'}]\n"
            "event: {class: Base Event, set: {severity_id: CAST(level AS INT), count: n}}\n"
            "steps:\n  - {when: n > 1, set: {twice: CAST(level AS INT) * 2}}\n"
            "  - {when: CAST(level AS INT) = 3, set: {n: 9}}\n"
        )
        result = kinglet_module.load(text).parse("3 1\n3 2\nhigh 1\nhigh 2\n")
        expected = [
            ("complete", [], None, 9),
            ("complete", [], 6, 9),
            ("partial", ["bad-value:level"], None, 1),
            ("partial", ["bad-value:twice", "bad-value:level"], None, 2),
        ]
        self.assertEqual(expected, result.events.select("state", "faults", "twice", "n").rows())
        mapped = list(result.to_model())
        self.assertEqual([3, 3, 0, 0], [event.get("severity_id") for event in mapped])
        self.assertEqual({"severity_id": "high"}, mapped[2]["unmapped"]["not_mapped"])
        self.assertIn("bad-value:severity_id", mapped[2]["unmapped"]["faults"])

    def test_texts_do_not_grow_for_ever(self) -> None:
        steps = "".join("  - set: {w: w || w}\n" for _ in range(40))
        text = HEAD + "variants: [{name: a, pattern: '{w:word}'}]\nsteps:\n" + steps
        (event,) = kinglet_module.load(text).parse("okoro\n").events.to_dicts()
        self.assertEqual((None, True), (event["w"], "too-long:w" in event["faults"]))
