"""Rows whose columns the header of their log names: held against what the standard library reads."""

from __future__ import annotations

import csv
import io
import json
import shutil
from pathlib import Path
from unittest import mock

from hypothesis import given
from hypothesis import strategies as st

import kinglet as package
from kinglet.errors import ParserFileError, UsageError
from kinglet.kernels import compiled
from tests.helpers import InFolder, examples, kinglet

PARSER = """kinglet: 1
parser: rows
version: 1.0.0
product: {vendor: Quayline, name: Rows}
events: csv
envelope:
  delimited: {names: header}
  types: {user: text, n: int}
variants: [{name: row}]
"""
NAMES = st.one_of(
    st.sampled_from(
        ["user", "n", "more", "raw", "state", "a.b", "a", "x[1]", 'q"', "}", '","user":"x', "", " n ", "é"]
    ),
    st.text(st.characters(exclude_categories=["Cs", "Cc"], exclude_characters="\ufeff\u2028\u2029\x85"), max_size=4),
)
CELLS = st.one_of(
    st.sampled_from(["", "7", "x", '"', ",", "a b", "\\", "multi\nline", 'é,"', "null"]),
    st.text(st.characters(exclude_categories=["Cs", "Cc"], exclude_characters="\ufeff"), max_size=5),
)


def written(rows: list[list[str]]) -> str:
    out = io.StringIO()
    csv.writer(out, quoting=csv.QUOTE_ALL, lineterminator="\n").writerows(rows)
    return out.getvalue()


class Headers(InFolder):
    @given(st.data())
    @examples(60)
    def test_columns_are_called_what_the_header_says(self, data: st.DataObject) -> None:
        logs = {}
        shutil.rmtree("logs", ignore_errors=True)
        Path("logs").mkdir()
        for i in range(data.draw(st.integers(1, 3))):
            names = data.draw(st.lists(NAMES, min_size=1, max_size=5, unique_by=str.strip))
            width = len(names)
            rows = data.draw(st.lists(st.lists(CELLS, min_size=width, max_size=width), max_size=4))
            logs[f"logs/{i}.csv"] = (names, rows)
            Path(f"logs/{i}.csv").write_text(written([names, *rows]), encoding="utf-8")
        events = package.load(PARSER).parse("logs").events
        wanted = []
        for log, (names, rows) in logs.items():
            called = [name.strip() or f"column_{place + 1}" for place, name in enumerate(names)]
            for row in rows:
                values = dict(zip(called, row, strict=True))
                user, n = values.pop("user", None), values.pop("n", None)
                good = n is not None and n.isascii() and n.isdigit()
                faults = ["bad-value:n"] if n is not None and not good else []
                wanted.append((log, user, int(n) if n is not None and good else None, values, faults))
        read = [
            (row["file"], row["user"], row["n"], json.loads(row["more"] or "{}"), row["faults"])
            for row in events.iter_rows(named=True)
        ]
        self.assertEqual(wanted, read)

    def test_many_rows_are_read_alike_by_machine_code(self) -> None:
        names = ["t", "user", 'a"},{"b', "n"]
        rows = [[f"2026-11-29T17:22:{i % 60:02}Z", f'u,"{i}"', "x\\y" if i % 3 else "", str(i)] for i in range(7000)]
        text = written([names, *rows])
        for setting in ("off", "always"):
            with self.subTest(setting=setting), mock.patch.dict("os.environ", {compiled.SETTING: setting}):
                compiled.forget()
                events = package.load(PARSER).parse(text.encode()).events
                self.assertEqual([row[1] for row in rows], events["user"].to_list())
                self.assertEqual(list(range(7000)), events["n"].to_list())
                self.assertEqual({"t": rows[5][0], 'a"},{"b': rows[5][2]}, json.loads(events["more"][5]))
        compiled.forget()

    def test_the_header_is_known_in_every_batch_and_to_every_worker(self) -> None:
        text = "n,user\n" + "".join(f"{i},u{i}\n" for i in range(250_000))
        Path("logs").mkdir()
        Path("logs/a.csv").write_text(text)
        Path("logs/b.csv").write_text("user,n\n" + "".join(f"u{i},{i}\n" for i in range(250_000)))
        parser = package.load(PARSER)
        count = 0
        for batch in parser.parse_batches("logs", workers=2):
            self.assertEqual(["u" + str(n) for n in batch.events["n"]], batch.events["user"].to_list())
            count += batch.events.height
        self.assertEqual(500_000, count)

    def test_without_a_header_a_row_says_so(self) -> None:
        events = package.load(PARSER).parse(["1,x"]).events
        self.assertEqual(("partial", ["no-header"], '{"column_1":"1","column_2":"x"}'),
                         events.select("state", "faults", "more").row(0))  # fmt: skip
        self.assertEqual(0, package.load(PARSER).parse(b"n,user\n").counts["events"])

    def test_where_there_can_be_none_it_is_refused(self) -> None:
        for wrong, said in (
            (PARSER.replace("events: csv\n", ""), "there is no header"),
            (PARSER.replace("events: csv", "events: {csv: {header: false}}"), "there is no header"),
            (
                PARSER.replace("envelope:\n  delimited: {names: header}\n  types: {user: text, n: int}\n", "").replace(
                    "{name: row}", "{name: row, delimited: {names: header}}"
                ),
                "only the rows of a log have its header",
            ),
        ):
            with self.assertRaisesRegex(ParserFileError, said):
                package.load(wrong)

    def test_cases_have_it_and_get_it(self) -> None:
        Path("rows.yaml").write_text(
            PARSER + "cases:\n  - raw: 'x,1'\n    header: user,n\n    expect: {user: x, n: 1}\n"
        )
        Path("a.csv").write_text("n,user,other\n7,m.okoro,low\n")
        kinglet("check", "rows.yaml", "--add", "a.csv:2")
        text = Path("rows.yaml").read_text()
        self.assertIn("header: 'n,user,other'", text)
        self.assertIn("rows 1.0.0  2 cases, 2 good", kinglet("check", "rows.yaml").out)
        with self.assertRaisesRegex(UsageError, "columns that a header names are not taught"):
            package.load("rows.yaml").teach("a.csv", [package.Mark(2, "other", "low")])

    def test_what_is_shown_marks_the_values(self) -> None:
        Path("rows.yaml").write_text(PARSER)
        Path("a.csv").write_text("n,user\nseven,m.okoro\n")
        shown = kinglet("try", "rows.yaml", "a.csv").out
        self.assertIn("`seven` is not", shown)
        from kinglet.insight.preview import preview

        (event,) = preview(package.load("rows.yaml").parse("a.csv")).events
        self.assertEqual([("n", 0, 5), ("user", 6, 13)], [tuple(span) for span in event.spans])
