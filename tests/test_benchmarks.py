"""The benchmarks compare like with like: all three programs make the same output."""

from __future__ import annotations

import json
import random
import runpy
import subprocess
import sys
import unittest

import polars as pl

from tests.helpers import ROOT, InFolder, kinglet

BENCHMARKS = ROOT / "benchmarks"


class Baselines(InFolder):
    def setUp(self) -> None:
        super().setUp()
        lines = [
            f"192.0.2.{i % 200 + 1} - {'-' if i % 3 else 'm.okoro'} [01/Mar/2026:00:{i // 60:02}:{i % 60:02} +0000] "
            f'"GET /timetable/port-elder/{i}?day=2 HTTP/1.1" 200 {i * 7} "https://www.marram.example/" "Quay/{i % 9}"\n'
            for i in range(300)
        ]
        self.log = self.write("access.log", "".join(lines))

    def run_all(self, suffix: str) -> list[str]:
        outputs = [f"{name}{suffix}" for name in ("python", "polars", "kinglet")]
        for name, output in zip(("python", "polars"), outputs, strict=False):
            command = [sys.executable, str(BENCHMARKS / f"baseline_{name}.py"), str(self.log), output]
            subprocess.run(command, check=True, capture_output=True)
        parser = BENCHMARKS / "web-access.yaml"
        self.assertEqual(0, kinglet("run", "-p", parser, self.log, "-o", outputs[2], "--as", "model").status)
        return outputs

    def test_the_same_json(self) -> None:
        found = []
        for output in self.run_all(".ndjson"):
            found.append([json.loads(line) for line in (self.folder / output).read_text().splitlines()])
        self.assertEqual(300, len(found[2]))
        self.assertEqual(found[0], found[2])
        self.assertEqual(found[1], found[2])

    def test_the_same_columns(self) -> None:
        frames = [pl.read_parquet(output) for output in self.run_all(".parquet")]
        for name in ("time", "raw_data", "http_response", "src_endpoint", "type_uid", "class_name"):
            self.assertEqual(frames[0][name].to_list(), frames[2][name].to_list())
            self.assertEqual(frames[1][name].to_list(), frames[2][name].to_list())

    def test_cutting_gives_the_same_events_every_way(self) -> None:
        for way in ("kinglet-line", "splitlines", "kinglet-start", "loop"):
            command = [sys.executable, str(BENCHMARKS / "cutting.py"), way, str(self.log)]
            done = subprocess.run(command, capture_output=True, text=True, check=True)
            self.assertEqual("300", done.stdout.split()[0], way)

    def test_every_way_reads_every_stamp(self) -> None:
        for form in ("milliseconds", "the same, Azores"):
            for way in ("kinglet", "strptime", "pandas", "polars"):
                done = subprocess.run(
                    [sys.executable, str(BENCHMARKS / "stamps.py"), way, form, "500"],
                    capture_output=True, text=True, check=True,
                )  # fmt: skip
                self.assertEqual("500", done.stdout.split()[0], f"{form} {way}")

    def test_structures_become_the_same_columns_both_ways(self) -> None:
        script = runpy.run_path(str(BENCHMARKS / "structures.py"))
        for name, log in script["LOGS"].items():
            chance = random.Random(1)
            path = self.write("some.log", "".join(f"{log.write(number, chance)}\n" for number in range(300)))
            ours, theirs = script["by_kinglet"](path, log), script["by_loop"](path, log)
            self.assertEqual(300, ours.height)
            named = [column for column in ours.columns if column != "more"]
            self.assertTrue(ours.select(named).equals(theirs.select(named)), name)
            left, right = ([json.loads(text or "{}") for text in frame["more"]] for frame in (ours, theirs))
            self.assertEqual(left, right, name)


if __name__ == "__main__":
    unittest.main()
