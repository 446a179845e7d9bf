"""Calls: copies and pickles, arguments that mean nothing, lazy events, and what reaches a terminal."""

from __future__ import annotations

import copy
import io
import json
import os
import pickle
import subprocess
import sys
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

import kinglet as kinglet_module
from kinglet.cutting import cutter as cutting
from tests.helpers import PATIENCE, PUMP, PUMP_LOG, ROOT, InFolder, examples, kinglet, kinglet_process, with_pattern


def events_of(parser: kinglet_module.Parser, log: str) -> list[dict[str, Any]]:
    """What a parser makes of a log; a function that other processes can call."""
    return parser.parse(log, reference_time="2026-03-05").events.drop("id").to_dicts()


class Copies(InFolder):
    def test_copies_and_pickles_parse_alike(self) -> None:
        parsers = [
            kinglet_module.load(PUMP),
            *map(kinglet_module.load, sorted((ROOT / "src/kinglet/demo/parsers").glob("*.yaml"))[:4]),
        ]
        for parser in parsers:
            expected = events_of(parser, PUMP_LOG)
            for other in (copy.copy(parser), copy.deepcopy(parser), pickle.loads(pickle.dumps(parser))):
                self.assertEqual(expected, events_of(other, PUMP_LOG))
        some = kinglet_module.load_set(str(ROOT / "src/kinglet/demo/parsers"))
        again = pickle.loads(pickle.dumps(some))
        self.assertEqual(
            some.parse(PUMP_LOG, reference_time="2026-03-05").counts,
            again.parse(PUMP_LOG, reference_time="2026-03-05").counts,
        )

    def test_threads_and_processes(self) -> None:
        parser = kinglet_module.load(PUMP)
        expected = events_of(parser, PUMP_LOG)
        with ThreadPoolExecutor(8) as pool:
            self.assertEqual([expected] * 16, list(pool.map(events_of, [parser] * 16, [PUMP_LOG] * 16)))
        # processes of a process of its own, since those of the tests may have none
        self.write("parser.pickle", pickle.dumps(parser))
        self.write("pool.py", POOL)
        surroundings = {**os.environ, "PYTHONPATH": str(ROOT / "src")}
        command = [sys.executable, "pool.py"]
        found = subprocess.run(command, env=surroundings, capture_output=True, check=False, timeout=PATIENCE)
        said = found.stdout.decode().strip()
        self.assertRegex(said, "(?s)^this process was forked.*spawn.*7 7.7 7$", found.stderr[-400:])


POOL = f"""
import multiprocessing, os, pickle, sys, kinglet
LOG = {PUMP_LOG!r}

def events(parser):
    return parser.parse(LOG, reference_time="2026-03-05").counts["events"]

if __name__ == "__main__":
    parser = pickle.loads(open("parser.pickle", "rb").read())
    child = os.fork()  # it lacks the threads that the engine has by now
    if child == 0:
        try:
            print(events(parser), flush=True)
        except kinglet.UsageError as error:
            print(error, flush=True)
        os._exit(0)
    os.waitpid(child, 0)
    with multiprocessing.get_context("spawn").Pool(2) as pool:
        print(*pool.map(events, [parser] * 2))
    with multiprocessing.get_context("forkserver").Pool(2) as pool:
        print(*pool.map(events, [parser] * 2))
""".encode()


class Arguments(InFolder):
    def test_what_means_nothing_is_an_error_of_ours(self) -> None:
        parser = kinglet_module.load(PUMP)
        calls: list[dict[str, Any]] = [
            {"source": None}, {"source": 5}, {"source": [Path("a"), Path("b")]}, {"source": io.StringIO("a\n")},
            {"source": "x\n", "reference_time": 5}, {"source": "x\n", "reference_time": "soon"},
            {"source": "x\n", "zone": 5}, {"source": "x\n", "zone": "Mars/North"},
            {"source": "x\n", "limit": -1}, {"source": "x\n", "limit": "3"},
            {"source": "x\n", "encoding": "utf-9"}, {"source": b"\x1f\x8b\x08", "max_unpacked_bytes": 0},
        ]  # fmt: skip
        for call in calls:
            with self.subTest(call=call), self.assertRaises(kinglet_module.KingletError):
                parser.parse(call.pop("source"), **call)
        for workers in (0, -1, 10**6, 1.5):
            with self.subTest(workers=workers), self.assertRaisesRegex(kinglet_module.UsageError, "workers"):
                list(parser.parse_batches("x\n", workers=workers))  # type: ignore[arg-type]

    def test_errors_go_between_processes_whole(self) -> None:
        with self.assertRaises(kinglet_module.ParserFileError) as caught:
            kinglet_module.load("kinglet: 1\nparser: quay\n")
        again = pickle.loads(pickle.dumps(caught.exception))
        self.assertEqual((caught.exception.problems, str(caught.exception)), (again.problems, str(again)))
        with self.assertRaises(kinglet_module.UsageError) as usage:
            kinglet_module.load(PUMP).parse("x\n", limit=-1)
        told = pickle.loads(pickle.dumps(usage.exception))
        self.assertEqual(("give a whole number from 0 on", str(usage.exception)), (told.hint, str(told)))

    def test_most_counts_the_same_events_everywhere(self) -> None:
        text = with_pattern("{n:int}") + "    event: {class: Base Event}\nsteps: [{when: n % 3 = 1, drop: third}]\n"
        parser = kinglet_module.load(text)
        log = "".join(f"{i}\n" for i in range(20))
        for most in (0, 1, 2, 7, 19, 20, 50):
            result = parser.parse(log, limit=most)
            kept = result.events.filter(result.events["state"] != "dropped")["n"].to_list()
            self.assertEqual(kept, [event["unmapped"]["n"] for event in result.to_model()], most)
            self.assertEqual(min(most, 20), result.counts["events"])

    def test_a_generator_is_asked_as_events_are_needed(self) -> None:
        asked = 0

        def forever() -> Iterator[str]:
            nonlocal asked
            while True:
                asked += 1
                yield f"{asked}"

        batches = kinglet_module.load(with_pattern("{n:int}")).parse_batches(forever(), workers=1)
        self.assertEqual(1, next(batches).events["n"][0])
        self.assertLessEqual(asked, 2 * cutting.LAZY_EVENTS)


_CODES = (0, 7, 8, 10, 13, 27, 127, 0x85, 0x9B, 0xAD, 0x200B, 0x202E, 0x2066, 0xFEFF)
ODD = st.lists(
    st.sampled_from([*map(chr, _CODES), "a", "\x1b[2J", "\x1b]0;x\x07", "[bold]", "é", " "]), max_size=12
).map("".join)


class Terminals(InFolder):
    @given(ODD, ODD)
    @examples(15)
    def test_nothing_raw_reaches_one(self, one: str, other: str) -> None:
        self.write("p.yaml", with_pattern("{a:word} {b:rest}"))
        name = f"x{one.replace('/', '').replace(chr(0), '')[:40]}.log"
        try:
            Path(name).write_text(f"k {one}\n{other} z\nk 1\n", encoding="utf-8")
        except OSError:
            return
        for command in (["try", "p.yaml", name], ["look", name], ["try", "p.yaml", name, "--trace", "1"]):
            called = kinglet(*command)
            shown = (called.out + called.err).replace("\n", "")
            self.assertTrue(shown.isprintable(), [sign for sign in shown if not sign.isprintable()][:5])
        told = kinglet("try", "p.yaml", name, "--json")
        self.assertTrue(told.out.replace("\n", "").isprintable() and json.loads(told.out) is not None)
        Path(name).unlink()

    def test_any_surroundings(self) -> None:
        """No HOME, TERM or LANG, a locale that is not UTF-8, and python without assertions and docstrings."""
        self.write("p.yaml", PUMP)
        self.write("a.log", PUMP_LOG + "ö\n")
        expected = kinglet_process("run", "-p", "p.yaml", "a.log", "-o", "-", "--at", "2026-03-05").stdout
        self.assertGreater(len(expected), 500)
        changes: tuple[dict[str, str], ...] = (
            {},
            {"LANG": "C", "LC_ALL": "C"},
            {"PYTHONOPTIMIZE": "2"},
            {"PYTHONUTF8": "0", "LC_ALL": "POSIX"},
        )
        command = [sys.executable, "-m", "kinglet", "run", "-p", "p.yaml", "a.log", "-o", "-", "--at", "2026-03-05"]
        for change in changes:
            kept = {key: os.environ[key] for key in ("PATH", "PYTHONPATH") if key in os.environ} | change
            found = subprocess.run(command, env=kept, capture_output=True, check=False, timeout=PATIENCE)
            self.assertEqual((0, expected), (found.returncode, found.stdout), (change, found.stderr[-300:]))
