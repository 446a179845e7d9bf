"""Rows whose columns the header of their log names: held against what the standard library reads."""

from __future__ import annotations

import csv
import io
import itertools
import json
import shutil
from pathlib import Path
from unittest import mock

from hypothesis import given
from hypothesis import strategies as st

import kinglet as package
from kinglet.cutting import header_lines
from kinglet.errors import ParserFileError, UsageError
from kinglet.kernels import compiled
from kinglet.parser_set import ParserSet
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
BELOW = """kinglet: 1
parser: below
version: 1.0.0
product: {vendor: Quayline, name: Below}
events: {header: '#Fields:\\s*'}
steps:
  - {note: lines about the log itself, when: variant = 'directive', drop: directive}
variants:
  - {name: directive, pattern: '#{directive}: {text:rest}'}
  - name: row
    delimited: {names: header, delimiter: " ", nothing: "-"}
    types: {user: text, n: int}
    keys: {user: cs-user}
"""
COLUMNS = st.lists(st.sampled_from(["cs-user", "n", "cs(Agent)", "x"]), min_size=1, max_size=4, unique=True)
WORDS = st.sampled_from(["7", "u.okoro", "-", 'say ""so""', "a b", "é", "#", "#Fields"])
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
                faults = [] if {"user", "n"} & set(called) else ["other-columns"]
                alike = {name.casefold().strip(" .,-[]\"'") for name in called}
                if not faults:
                    faults = [f"renamed-column:{key}" for key in ("user", "n") if key not in called and key in alike]
                faults += ["bad-value:n"] if n is not None and not good else []
                wanted.append((log, user, int(n) if n is not None and good else None, values, faults))
        read = [
            (row["file"], row["user"], row["n"], json.loads(row["more"] or "{}"), row["faults"])
            for row in events.iter_rows(named=True)
        ]
        self.assertEqual(wanted, read)

    @given(st.lists(st.tuples(st.one_of(COLUMNS, st.none()), st.integers(0, 3)), max_size=5), st.data())
    @examples(80)
    def test_lines_of_the_log_name_the_columns_below_them(
        self, stretches: list[tuple[list[str] | None, int]], data: st.DataObject
    ) -> None:
        lines: list[str] = []
        wanted: list[tuple[int, str, str | None, int | None]] = []
        columns: list[str] | None = None
        for said, count in stretches:
            if said is None:
                lines.append("#Remark: restarted")
                wanted.append((len(lines), "dropped", None, None))
            else:
                columns = said
                lines.append("#Fields: " + " ".join(said))
            for _ in range(count):
                cells = data.draw(st.lists(WORDS, min_size=len(columns or "ab"), max_size=len(columns or "ab")))
                if cells[0].startswith("#"):
                    cells[0] = "first"
                lines.append(" ".join(f'"{cell}"' if " " in cell else cell for cell in cells))
                found = dict(zip(columns or (), cells, strict=True)) if columns else {}
                user, n = found.get("cs-user", "-"), found.get("n", "-")
                is_read = bool({"cs-user", "n"} & set(columns or ())) and (n == "-" or n.isdigit())
                state = "complete" if is_read else "partial"
                user = user.replace('""', '"') if " " in user else user
                wanted.append((len(lines), state, None if user == "-" else user, int(n) if n.isdigit() else None))
        text = "\n".join(lines).encode()
        parser = package.load(BELOW)
        names = ("line", "state", "user", "n")
        self.assertEqual(wanted, parser.parse(text).events.select(names).rows())
        session, read = package.Session(parser), []
        places = sorted({0, len(text), *data.draw(st.lists(st.integers(0, len(text)), max_size=4))})
        for start, end in itertools.pairwise(places):
            read += session.feed(text[start:end]).events.select(names).rows()
            session = package.Session(parser, state=session.state)
        self.assertEqual(wanted, read + session.finish().events.select(names).rows())
        for name in ("a.log", "b.log"):
            Path(name).write_bytes(text)
        together = parser.parse("a.log", "b.log").events.select(names).rows()
        self.assertEqual(wanted + wanted, together)

    @given(
        st.lists(st.tuples(st.permutations(["stamp", "user", "n"]), st.integers(0, 3)), min_size=1, max_size=5),
        st.data(),
    )
    @examples(60)
    def test_rows_of_logs_put_together_are_read_under_their_own_header(
        self, logs: list[tuple[list[str], int]], data: st.DataObject
    ) -> None:
        rows: list[list[str]] = []
        wanted = []
        for names, count in logs:
            rows.append(names)
            for _ in range(count):
                values = {"stamp": "2026-11-30", "user": data.draw(st.sampled_from(["a", "b,c", 'd"'])), "n": "7"}
                rows.append([values[name] for name in names])
                wanted.append((len(rows), values["user"], 7))
        text = written(rows).encode()
        self.assertEqual(wanted, package.load(PARSER).parse(text).events.select("line", "user", "n").rows())
        session, read = package.Session(package.load(PARSER)), []
        for place in range(0, len(text), 37):
            read += session.feed(text[place : place + 37]).events.select("line", "user", "n").rows()
            session = package.Session(package.load(PARSER), state=session.state)
        self.assertEqual(wanted, read + session.finish().events.select("line", "user", "n").rows())
        # a parser that names the columns itself says where they stand otherwise
        first = ", ".join(logs[0][0])
        fixed = package.load(PARSER.replace("{names: header}", f"{{names: [{first}]}}").replace("n: int", "n: text"))
        events = fixed.parse(text).events
        turned = [names != logs[0][0] for names, count in logs for _ in range(count)]
        self.assertEqual(turned, [faults == ["other-columns"] for faults in events["faults"].to_list()])
        right = [row for row, odd in zip(events.select("line", "user").rows(), turned, strict=True) if not odd]
        self.assertEqual([row[:2] for row, odd in zip(wanted, turned, strict=True) if not odd], right)

    def test_rows_that_are_no_header_are_rows(self) -> None:
        for text, wanted in (
            ("user\nuser\na\n", ["user", "a"]),  # of one column it is a value
            ("user,n\nuser,m\nm,user\n", ["user", "m"]),
            ('user,n\n"user,n"\n', ["user,n"]),
            ("user,n\r\n\x00,user\r\n", ["\x00"]),
        ):
            self.assertEqual(wanted, package.load(PARSER).parse(text.encode()).events["user"].to_list(), text)

    def test_names_of_ones_own_are_no_other_columns(self) -> None:
        fixed = PARSER.replace("{names: header}", "{names: [user_id, user, account]}").replace(
            "n: int", "account: text"
        )
        for header, faults in (
            ("id,name,user", []),
            ("User ID,User,Account", []),
            ("account,user,user id", ["other-columns"]),
        ):
            events = package.load(fixed).parse(f"{header}\n1,x,y\n".encode()).events
            self.assertEqual([faults], events["faults"].to_list(), header)

    def test_a_column_under_another_name_is_no_lack_of_it(self) -> None:
        keys = "  types: {at: text, quay: word, other: word}\n  keys: {quay: Quay Name, other: quay}\n"
        parser = PARSER.replace("  types: {user: text, n: int}\n", keys)
        variant = parser.replace("envelope:", "variants:\n  - name: row").replace("variants: [{name: row}]\n", "")
        for header, faults in (
            ("at,Quay Name", []),
            ("at", []),
            ("at,quay_name", ["renamed-column:quay"]),
            ("AT,QUAY-NAME,quay", ["renamed-column:at", "renamed-column:quay"]),
            ("at,Quay,Quay Name", ["renamed-column:other"]),
            ("At,Quayname", ["other-columns"]),
            ("vessel,miles", ["other-columns"]),
        ):
            for text in (parser, variant.replace("\n  ", "\n    ").replace("    - name", "  - name")):
                row = ",".join("x" for _ in header.split(","))
                events = package.load(text).parse(f"{header}\n{row}\nat,Quay Name\n1,2\n".encode()).events
                self.assertEqual(sorted(faults), sorted(events["faults"][0]), header)
        # of two names that it may have, each is a field
        both = package.load(parser.replace("quay}", "Quay}"))
        for header in ("quay,Quay,Quay Name", "Quay,at", "at,Quay Name"):
            self.assertEqual(
                [[]],
                both.parse(f"{header}\n{'1,2,3'[: header.count(',') * 2 + 1]}\n".encode()).events["faults"].to_list(),
            )

    def test_lines_that_name_columns_over_many_batches(self) -> None:
        lines: list[str] = []
        for i in range(230_000):
            if i % 70_001 == 0:
                lines.append("#Fields: " + ("n cs-user" if len(lines) % 2 else "cs-user n"))
                turned = lines[-1].endswith("n")
            lines.append(f"u{i} {i}" if turned else f"{i} u{i}")
        Path("a.log").write_text("\n".join(lines))
        count = 0
        for batch in package.load(BELOW).parse_batches("a.log", workers=2):
            self.assertEqual(["u" + str(n) for n in batch.events["n"]], batch.events["user"].to_list())
            self.assertEqual({"complete"}, set(batch.events["state"]))
            count += batch.events.height
        self.assertEqual(230_000, count)

    def test_more_headers_than_are_known_are_no_header(self) -> None:
        most = header_lines.MOST_HEADERS
        lines = [text for i in range(most + 2) for text in (f"#Fields: n c{i}", f"{i} x")]
        lines += ["#Fields: n c0", "7 x", "#Fields: " + "n" * (header_lines.LONGEST_HEADER + 1), "8"]
        events = package.load(BELOW).parse("\n".join(lines).encode()).events
        self.assertEqual([*range(most), None, None, 7, None], events["n"].to_list())
        self.assertEqual([[]] * most + [["no-header"]] * 2 + [[], ["no-header"]], events["faults"].to_list())

    def test_what_is_shown_and_added_is_below_its_own_line(self) -> None:
        Path("below.yaml").write_text(BELOW)
        Path("a.log").write_text("#Fields: n cs-user\nseven m.okoro\n#Fields: cs-user x n\nt.varela y 8\n")
        from kinglet.insight.preview import preview

        first, second = preview(package.load("below.yaml").parse("a.log")).events
        self.assertEqual([("n", 0, 5), ("user", 6, 13)], sorted(tuple(span) for span in first.spans))
        self.assertEqual([("n", 11, 12), ("user", 0, 8)], sorted(tuple(span) for span in second.spans))
        kinglet("check", "below.yaml", "--add", "a.log:4")
        self.assertIn("header: cs-user x n", Path("below.yaml").read_text())
        self.assertIn("1 case, 1 good", kinglet("check", "below.yaml").out)
        for reader in (package.load(BELOW), ParserSet([package.load(BELOW)])):
            result = reader.parse("a.log")
            found = [result.header_of("a.log", line) for line in (2, 4, 5)]
            self.assertEqual(["n cs-user", "cs-user x n", None], found)

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
                PARSER.replace("delimited: {names: header}", "delimited: {names: [user, n]}").replace(
                    "{name: row}", "{name: row, from: user, delimited: {names: header}}"
                ),
                "a header names the columns of whole events",
            ),
            (PARSER.replace("events: csv", "events: {csv: true, header: '#'}"), "goes with `line`"),
            (BELOW.replace("#Fields:", "(?=#Fields:)"), "look-around"),
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
