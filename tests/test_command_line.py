"""The commands as a person meets them: their output, their exit status, their errors."""

from __future__ import annotations

import json
import subprocess
import sys
import unittest
from pathlib import Path

import polars as pl

from kinglet.cli.main import COMMANDS
from kinglet.parser import load
from tests.helpers import PUMP, PUMP_LOG, ROOT, InFolder, kinglet, kinglet_process


class WithPump(InFolder):
    def setUp(self) -> None:
        super().setUp()
        self.write("pump.yaml", PUMP)
        self.write("pump.log", PUMP_LOG)


class Help(unittest.TestCase):
    def test_every_command_is_listed_and_has_help(self) -> None:
        called = kinglet("--help")
        self.assertEqual(0, called.status)
        for name, (_, about) in COMMANDS.items():
            self.assertIn(about, called.out)
            self.assertIn("Usage: kinglet", kinglet(name, "--help").out)

    def test_help_loads_no_column_engine(self) -> None:
        script = "import sys\nfrom kinglet.cli.main import main\ntry:\n    main()\nexcept SystemExit:\n    pass\n"
        script += "print([m for m in ('polars', 'pandas', 'numpy', 'pyarrow', 'pydantic') if m in sys.modules])"
        found = subprocess.run([sys.executable, "-c", script, "--help"], capture_output=True, text=True, check=True)
        self.assertEqual("[]", found.stdout.splitlines()[-1])

    def test_the_version_is_that_of_the_package(self) -> None:
        import kinglet as package

        self.assertEqual(f"kinglet {package.__version__}\n", kinglet("--version").out)


class Try(WithPump):
    def test_it_shows_counts_events_values_and_faults(self) -> None:
        called = kinglet("try", "pump.yaml", "pump.log", "--at", "2026-03-05")
        self.assertEqual((0, ""), (called.status, called.err))
        for said in (
            "pump-panel 1.2.0  pump.log: 7 events",
            "complete  3  42.86 %",
            "  1 │ 03/Mar 22:10:41 P04 PMP/4102 setpoint T2 40.0 -> 85.5",
            "setpoint-changed  2 events",
            "  time    2026-03-03 23:10:41Z",
            "no variant has the kind 9999",
            "setpoint-changed reads up to column 42, then expects `{old:num}` and finds `hot`",
        ):
            self.assertIn(said, called.out)
        self.assertLessEqual(max(map(len, called.out.splitlines())), 100)

    def test_the_caret_stands_under_the_fault(self) -> None:
        lines = kinglet("try", "pump.yaml", "pump.log", "--at", "2026-03-05").out.splitlines()
        i = next(
            i for i, line in enumerate(lines) if line.endswith("setpoint T2 hot") and lines[i + 1].strip() == "^^^"
        )
        self.assertEqual("hot", lines[i][lines[i + 1].index("^") :])

    def test_json_has_the_same_and_the_places(self) -> None:
        found = json.loads(kinglet("try", "pump.yaml", "pump.log", "--at", "2026-03-05", "--json").out)["files"][0]
        self.assertEqual(7, found["counts"]["events"])
        event = found["events"][0]
        places = {item["field"]: event["raw"][item["start"] : item["end"]] for item in event["fields"]}
        self.assertEqual("m.okoro", places["user"])
        self.assertEqual({"bad-time:stamp", "bad-value:client", "no-variant", "unknown-kind"},
                         {fault["fault"] for fault in found["faults"]})  # fmt: skip

    def test_only_a_state_and_only_so_many(self) -> None:
        called = kinglet("try", "pump.yaml", "pump.log", "--only", "unmatched")
        self.assertIn("no event is unmatched", called.out)
        called = kinglet("try", "pump.yaml", "pump.log", "--most", "2")
        self.assertIn("2 events, where reading stopped (--most)", called.out)

    def test_standard_input_and_a_log_without_a_final_newline(self) -> None:
        found = kinglet_process("try", "pump.yaml", "-", "--at", "2026-03-05", given=PUMP_LOG.strip().encode())
        self.assertEqual(0, found.returncode)
        self.assertIn("-: 7 events", found.stdout.decode())

    def test_control_characters_and_long_events_stay_within_their_lines(self) -> None:
        self.write("odd.log", "03/Mar 22:10:41 P04 PMP/9999 \x1b[31mred\x07 " + "x" * 5000 + "\n")
        called = kinglet("try", "pump.yaml", "odd.log")
        self.assertNotIn("\x1b", called.out)
        self.assertIn("␛[31mred␇", called.out)
        self.assertIn("more lines", called.out)
        self.assertLessEqual(max(map(len, called.out.splitlines())), 100)


class Check(WithPump):
    CASE = "cases:\n  - {raw: '03/Mar 22:10:42 P04 PMP/4001 pump 3 started', at: 2026-03-05, expect: {pump: %s}}\n"

    def test_good_cases_exit_0_and_bad_ones_1(self) -> None:
        self.write("good.yaml", PUMP + self.CASE % 3)
        self.write("bad.yaml", PUMP + self.CASE % 4)
        good, bad = kinglet("check", "good.yaml"), kinglet("check", "good.yaml", "bad.yaml")
        self.assertEqual((0, "pump-panel 1.2.0  1 case, 1 good"), (good.status, good.out.splitlines()[0]))
        self.assertEqual(1, bad.status)
        self.assertIn("1 case, 0 good, 1 not", bad.out)
        self.assertIn("✗ case 1  bad.yaml:", bad.out)
        self.assertIn("pump  expected  4\n          got       3", bad.out)

    def test_of_long_values_the_place_is_shown_where_they_part(self) -> None:
        head = "kinglet: 1\nparser: long\nversion: 1.0.0\nproduct: {vendor: Quayline, name: Long}\n"
        said, expected = "a\\r\\nb" * 40, "a\\nb" * 40
        case = f'  - {{raw: "{said}END{said}", expect: {{said: "{expected}end"}}}}\n'
        self.write("long.yaml", f"{head}variants: [{{name: a, pattern: '{{said:rest}}'}}]\ncases:\n{case}")
        lines = kinglet("check", "long.yaml").out.splitlines()
        at = next(i for i, line in enumerate(lines) if " expected " in line)
        column = lines[at + 2].index("^")
        self.assertEqual("eE", lines[at][column] + lines[at + 1][column])
        self.assertIn("a⏎b", lines[at])
        self.assertIn("a␍⏎b", lines[at - 1])
        self.assertLessEqual(max(map(len, lines[at - 1 : at + 3])), 100)

    def test_required_attributes_that_nothing_fills_fail_too(self) -> None:
        self.write("bad.yaml", PUMP.replace("        entity.name: tank\n", ""))
        called = kinglet("check", "bad.yaml")
        self.assertEqual(1, called.status)
        self.assertIn("Entity Management requires entity, which nothing fills", " ".join(called.out.split()))

    def test_json(self) -> None:
        self.write("bad.yaml", PUMP + self.CASE % 4)
        called = kinglet("check", "bad.yaml", "--json")
        found = json.loads(called.out)
        self.assertEqual((1, 1), (called.status, found["failed"]))
        self.assertEqual("C01", found["parsers"][0]["findings"][0]["code"])
        self.assertEqual([{"name": "pump", "expected": 4, "got": 3}], found["parsers"][0]["failed"][0]["differences"])


class Explain(WithPump):
    def test_it_shows_what_each_pattern_becomes(self) -> None:
        shown = kinglet("explain", "pump.yaml").out
        for said in (
            "pump-panel 1.2.0  2 variants",
            r"events    start: ^\d{2}/\w{3}",
            "time      stamp: %d/%b %H:%M:%S, zone Atlantic/Azores",
            "`code` tells the variant, which reads `body`",
            "setpoint-changed  kind 4102",
            "pump-state  kinds 4001, 4002",
            "contains  `setpoint`  `->`  `by`",
            "old (num: number), new (num: number)",
            "Entity Management: Update",
        ):
            self.assertIn(said, shown)
        self.assertLessEqual(max(map(len, shown.splitlines())), 100)
        one = kinglet("explain", "pump.yaml", "--variant", "pump-state").out
        self.assertTrue(one.strip().startswith("pump-state"))
        self.assertNotIn("setpoint", one)

    def test_it_says_what_is_read_as_one(self) -> None:
        head, _, rest = Path("pump.yaml").read_text().partition("variants:\n")
        more = "".join(
            f"  - {{name: {v}, kind: {i}, pattern: 'lamp {v} by {{who:word}}'}}\n" for i, v in enumerate("abcde")
        )
        Path("lamps.yaml").write_text(f"{head}variants:\n{more}{rest}")
        shown = kinglet("explain", "lamps.yaml").out
        self.assertIn("linear time, together with b, c, d and 1 more, which open with other text", shown)
        self.assertEqual(5, shown.count(", which open with other text"))

    def test_the_regexes_are_whole_and_those_that_run(self) -> None:
        found = kinglet("explain", "pump.yaml", "--json").json()
        plan = load("pump.yaml")._plan
        assert plan.envelope is not None
        self.assertEqual([list(plan.envelope.regexes), *(list(item.reading.regexes) for item in plan.variants)],
                         [item["regexes"] for item in (found["envelope"], *found["variants"])])  # fmt: skip
        shown = "".join(line[12:] for line in kinglet("explain", "pump.yaml").out.splitlines())
        for regex in plan.envelope.regexes:
            self.assertIn(regex, shown)
        self.assertEqual((14, None), (found["variants"][1]["least"], found["variants"][1]["most"]))

    def test_a_variant_that_is_not_there(self) -> None:
        called = kinglet("explain", "pump.yaml", "--variant", "pump-stat")
        self.assertEqual((2, "kinglet: no variant `pump-stat`; did you mean `pump-state`?\n"), called[::2])


class Run(WithPump):
    def test_it_writes_every_format_and_says_what_it_did(self) -> None:
        for suffix in ("ndjson", "csv", "parquet", "arrow"):
            called = kinglet("run", "-p", "pump.yaml", "pump.log", "-o", f"out.{suffix}", "--at", "2026-03-05")
            self.assertEqual((0, ""), (called.status, called.out))
            self.assertIn(f"7 events to out.{suffix} in ", called.err)
            self.assertIn("3 complete, 4 partial", called.err)
        self.assertEqual(7, pl.read_parquet("out.parquet").height)

    def test_json_reports_and_standard_output_carries_events(self) -> None:
        found = json.loads(kinglet("run", "-p", "pump.yaml", "pump.log", "-o", "x.csv", "--json").out)
        self.assertEqual((7, "fields"), (found["counts"]["events"], found["as"]))
        piped = kinglet_process("run", "-p", "pump.yaml", "pump.log", "-o", "-", "--as", "model")
        self.assertEqual(7, len([json.loads(line) for line in piped.stdout.splitlines()]))
        self.assertNotIn(b"\x1b", piped.stderr)

    def test_several_files_become_one_output(self) -> None:
        self.write("empty.log", "")
        self.write("more.log", PUMP_LOG)
        again = ("pump.log", "empty.log", "more.log", "./pump.log")  # a file that is given twice is read once
        kinglet("run", "-p", "pump.yaml", *again, "-o", "x.parquet", "--workers", "1")
        self.assertEqual(14, pl.read_parquet("x.parquet").height)

    def test_a_reader_that_goes_away_is_no_error(self) -> None:
        self.write("long.log", PUMP_LOG * 5000)
        command = f"{sys.executable} -m kinglet run -p pump.yaml long.log -o - | head -n 1"
        found = subprocess.run(["bash", "-c", f"set -o pipefail; {command}"], capture_output=True, check=False)
        self.assertNotIn(b"Traceback", found.stderr)
        self.assertEqual(1, len(found.stdout.splitlines()))


class Model(unittest.TestCase):
    def test_a_class_all_classes_and_search(self) -> None:
        card = kinglet("model", "Tunnel Activity").out
        for said in ("Tunnel Activity  class 4014 in Network Activity", "activities: Unknown, Open, Close", "required"):
            self.assertIn(said, card)
        self.assertLess(len(card), len(kinglet("model", "Tunnel Activity", "--all").out))
        self.assertIn("  3002  Authentication", kinglet("model").out)
        self.assertIn("tunnel_interface (network_interface object)", kinglet("model", "--search", "tunnel").out)
        self.assertEqual(3002, json.loads(kinglet("model", "3002", "--json").out)["uid"])
        self.assertEqual("class", json.loads(kinglet("model", "--search", "tunnel", "--json").out)[0]["kind"])
        self.assertIn({"uid": 0, "class": "Base Event", "category": "Uncategorized"},
                      json.loads(kinglet("model", "--json").out))  # fmt: skip

    def test_the_file_schema_is_the_one_that_ships(self) -> None:
        shipped = ROOT / "src" / "kinglet" / "spec" / "parser-file.schema.json"
        self.assertEqual(shipped.read_text(), kinglet("model", "--file-schema").out)


class Errors(WithPump):
    def test_one_clear_line_and_status_2(self) -> None:
        self.write("empty.log", "\n\n")
        self.write("bin.log", bytes(range(256)))
        self.write("bad.yaml", PUMP.replace("{tank:word}", "{tank:wrod}"))
        for arguments, said in {
            ("try", "pump.yaml", "none.log"): "kinglet: none.log: no such file; check the path",
            ("try", "pump.yaml", "empty.log"): "kinglet: empty.log: is empty; there is nothing to parse",
            ("try", "pump.yaml", "no*.log"): "kinglet: no*.log: no file matches",
            ("try", "pump.yaml", "bin.log"): "kinglet: bin.log: is binary",
            ("try", "bad.yaml", "pump.log"): "bad.yaml:18:30: variants[0].pattern: no such type `wrod`",
            ("try", "none.yaml", "pump.log"): "none.yaml: no such parser file",
            ("try", "pump.yaml"): "kinglet: Missing argument 'FILE...' (see `kinglet try --help`)",
            ("try", "pump.yaml", "pump.log", "--zone", "Mars/North"): "no such zone `Mars/North`",
            ("try", "pump.yaml", "pump.log", "--at", "soon"): "kinglet: reference time (--at): 'soon' is not a date",
            ("try", "pump.yaml", "pump.log", "--shw", "3"): "No such option",
            ("tri",): "kinglet: no such command `tri`; did you mean `try`?",
            ("run", "pump.log", "-o", "x.csv"): "Missing option '-p'",
            ("run", "-p", "pump.yaml", "empty.log", "-o", "x.csv"): "empty.log: is empty",
            ("run", "-p", "pump.yaml", "pump.log", "none.log", "-o", "x.csv"): "none.log: no such file",
            ("run", "-p", "pump.yaml", "pump.log", "-o", "no/x.csv"): "there is no folder no",
            ("run", "-p", "pump.yaml", "pump.log", "-o", "x.doc"): "the suffix tells no format",
            ("run", "-p", "pump.yaml", "pump.log", "-o", "-", "--json"): "both write to standard output",
            ("model", "Authentcation"): "did you mean `Authentication`?",
            ("model", "--search", "zzzz"): "nothing in the model is called `zzzz`",
            ("model", "x", "--file-schema"): "exclude each other",
            ("demo", "pump.log"): "pump.log: the demo cannot be written there",
        }.items():
            with self.subTest(arguments=arguments):
                called = kinglet(*arguments)
                self.assertEqual((2, ""), (called.status, called.out))
                self.assertIn(said, called.err)
                self.assertNotIn("Traceback", called.err)
                self.assertEqual(1, len([line for line in called.err.splitlines() if not line.startswith("    ")]))
        self.assertEqual({"pump.yaml", "pump.log", "empty.log", "bin.log", "bad.yaml"},
                         {path.name for path in self.folder.iterdir()})  # fmt: skip
