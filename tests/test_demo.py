"""The demo, the ready parsers, the examples and the documents that quote them."""

from __future__ import annotations

import ipaddress
import json
import re
import runpy
import unittest
from contextlib import redirect_stdout
from io import StringIO
from pathlib import Path
from unittest import mock

import polars as pl

import kinglet as package
from kinglet.demo import scenario
from kinglet.demo.logs import LOGS, log_bytes, log_text
from kinglet.demo.scenario import STORY
from kinglet.demo.writing import bench, write_demo
from kinglet.spec.ready import ready_parsers
from tests.helpers import ROOT, InFolder, kinglet

DOCUMENTED = [
    ipaddress.ip_network(net) for net in ("192.0.2.0/24", "198.51.100.0/24", "203.0.113.0/24", "2001:db8::/32")
]
FENCE = re.compile(r"```(\w+)(?: (\S+))?\n(.*?)```", re.DOTALL)


class Scenario(unittest.TestCase):
    def test_logs_are_the_same_every_time_and_in_order(self) -> None:
        for name in LOGS:
            self.assertEqual(log_bytes(name), log_bytes(name))
            self.assertNotEqual(log_text(name), log_text(name, seed=1))

    def test_addresses_and_names_are_nobodys(self) -> None:
        for name in LOGS:
            for text in re.findall(r"\b\d+\.\d+\.\d+\.\d+\b", log_text(name)):
                self.assertTrue(any(ipaddress.ip_address(text) in net for net in DOCUMENTED), text)
            for host in re.findall(r"\b[\w-]+\.sandwick\.(\w+)", log_text(name)):
                self.assertEqual("example", host)

    def test_the_story_is_in_the_mapped_events(self) -> None:
        events = []
        for name in LOGS:
            parser = package.load(ROOT / "src" / "kinglet" / "demo" / "parsers" / f"{name}.yaml")
            events += list(parser.parse(log_bytes(name), reference_time="2026-03-07").to_model())
        guessed = [e for e in events if e["class_uid"] == 3002 and e.get("status") == "Failure"
                   and e["src_endpoint"]["ip"] == scenario.STRANGER]  # fmt: skip
        self.assertGreater(len(guessed), 20)
        self.assertEqual({scenario.VICTIM}, {e["user"]["name"] for e in guessed})
        steps = [e["time"] for e in events if e["time"] / 1000 in
                 {m.timestamp() for m in (STORY.taken, STORY.jumped, STORY.tampered)}]  # fmt: skip
        self.assertGreaterEqual(len(set(steps)), 3)


class Demo(InFolder):
    def test_it_does_the_whole_job_and_ends_with_figures_and_commands_that_work(self) -> None:
        called = kinglet("demo", "here")  # takes seconds: once for all that is asked of it
        self.assertEqual(0, called.status, called.err)
        for said in (
            "$ kinglet look here",
            "$ kinglet try here/parsers/pump-panel.yaml",
            "$ kinglet check",
            "$ kinglet run -p",
            "Figures",
        ):
            self.assertIn(said, called.out)
        for name in LOGS:
            mapped = pl.read_parquet(f"here/out/{name}.parquet")
            self.assertEqual(mapped.height, (self.folder / f"here/out/{name}.ndjson").read_text().count("\n"))
            self.assertRegex(called.out, rf"{name} +{mapped.height} ")
        self.assertLessEqual(max(len(line) for line in called.out.splitlines() if "$" not in line), 100)

        # what it names, on what it wrote
        commands = [line.split("$ kinglet ")[1] for line in called.out.splitlines() if line.startswith("   $ kinglet ")]
        self.assertEqual(6, len(commands))
        for command in commands:
            with self.subTest(command=command):
                words = [word.strip('"') for word in re.findall(r'"[^"]*"|\S+', command)]
                self.assertEqual(0, kinglet(*words).status)

    def test_figures_as_json(self) -> None:
        found = json.loads(kinglet("demo", "x", "--json").out)
        self.assertEqual(list(LOGS), [item["log"] for item in found["logs"]])
        for item in found["logs"]:
            self.assertEqual(item["events"], item["complete"], item["log"])

    def test_the_bench_is_there_for_its_faults(self) -> None:
        write_demo(self.folder)
        faulty = bench(self.folder)
        parsed = package.load(faulty.parser).parse(faulty.log).events.filter(pl.col("state") != "complete")
        self.assertEqual([["bad-value:client"], ["unknown-kind"], ["no-variant"]], parsed["faults"].to_list())

    def test_years_do_not_depend_on_the_day_of_the_demo(self) -> None:
        pump = write_demo(self.folder)[0]
        years = package.load(pump.parser).parse(pump.log).events["time"].dt.year().unique().to_list()
        self.assertEqual([STORY.start.year], years)


class ReadyParsers(unittest.TestCase):
    def test_every_one_is_good_and_clean_and_maps_what_it_must(self) -> None:
        for name in ready_parsers():
            with self.subTest(parser=name):
                called = kinglet("check", name, "--json")
                self.assertEqual(0, called.status)
                (told,) = called.json()["parsers"]
                self.assertEqual((name, []), (told["parser"], told["findings"]))

    def test_the_package_log_of_this_machine(self) -> None:
        path = Path("/var/log/dpkg.log")
        if not path.exists() or not path.stat().st_size:
            self.skipTest("this machine has no dpkg.log")
        counts = package.load("dpkg").parse(path).counts
        self.assertEqual(counts["events"], counts["complete"])


class Documents(InFolder):
    def test_examples_run(self) -> None:
        for path in sorted((ROOT / "examples").glob("*.py")):
            with self.subTest(example=path.name), redirect_stdout(StringIO()) as out:
                try:
                    runpy.run_path(str(path), run_name="__main__")
                except SystemExit as leaving:
                    self.assertIn(leaving.code, (None, 0))
                self.assertTrue(out.getvalue())

    def test_parsers_in_the_documents_load_and_their_python_runs(self) -> None:
        write_demo(self.folder / "kinglet-demo")
        self.enterContext(mock.patch.dict("os.environ", MARRAM_KEY="tide"))
        found = 0
        for path in [ROOT / "README.md", *sorted((ROOT / "docs").glob("*.md"))]:
            known: dict[str, object] = {}  # the examples of a document run one after the other
            for language, name, text in FENCE.findall(path.read_text(encoding="utf-8")):
                if name:
                    self.write(name, text)
                with self.subTest(document=path.name, text=text[:40]):
                    if language == "yaml" and text.startswith("kinglet: 1"):
                        parser = package.load(text)
                        wrong = [item.differences for item in package.check_cases(parser) if not item.good]
                        self.assertEqual([], wrong)
                        found += 1
                    elif language == "python":
                        with redirect_stdout(StringIO()):
                            exec(compile(text, path.name, "exec"), known)
                        found += 1
        self.assertGreater(found, 2)

    def test_links_in_the_documents_lead_somewhere(self) -> None:
        for path in [ROOT / "README.md", ROOT / "CONTRIBUTING.md", *sorted((ROOT / "docs").rglob("*.md"))]:
            for target in re.findall(r"\]\(([^)#:]+)\)", path.read_text(encoding="utf-8")):
                with self.subTest(document=path.name, target=target):
                    self.assertTrue((path.parent / target).exists())
