"""What strangers and accidents may try: parser files, logs, and a machine that fails. docs/security.md lists it."""

from __future__ import annotations

import contextlib
import csv
import json
import os
import re
import resource
import shlex
import signal
import subprocess
import sys
import time
import unittest
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any, cast

import kinglet as kinglet_module
from tests.helpers import PATIENCE, PUMP, PUMP_LOG, ROOT, InFolder, kinglet, soon, with_pattern

HEAD = "kinglet: 1\nparser: b\nversion: 1.0.0\nproduct: {vendor: M, name: B}\n"
ANY = "variants: [{name: a, pattern: '{m:rest}'}]\n"
LETTERS = "abcdefghij"


def doubled() -> str:
    """A list of lists of lists, by aliases: a billion values in a few lines."""
    lines = ["a: &a [x, x, x, x, x, x, x, x, x]"]
    lines += [f"{LETTERS[i]}: &{LETTERS[i]} [{', '.join([f'*{LETTERS[i - 1]}'] * 9)}]" for i in range(1, 9)]
    return "\n".join(lines) + "\n"


NESTED = f"variants: [{{name: a, pattern: '{'[[x ' * 500}y{']]' * 500}'}}]\n"
SLOTS = "variants: [{name: a, pattern: '" + " ".join(f"{{s{i}}}" for i in range(999)) + "'}]\n"
REFUSED: dict[str, str] = {
    "aliases": HEAD + ANY + doubled(),
    "a merge key": HEAD + ANY + "claims: {<<: {path: x}}\n",
    "a tag": HEAD + ANY + "about: !!python/object/apply:os.system ['echo hi']\n",
    "a tag of text": HEAD + ANY + "about: !!python/name:os.system\n",
    "depth": HEAD + ANY + "about: " + "[" * 3000 + "]" * 3000 + "\n",
    "a number of 100,000 digits": HEAD.replace("1.0.0", "1" * 100_000) + ANY,
    "a number of 65 bits": HEAD + ANY + "events: {max_lines: 18446744073709551616}\n",
    "no number": HEAD + ANY + "events: {idle: .nan}\n",
    "infinity": HEAD + ANY + "events: {idle: 1e999}\n",
    "a size of 0": HEAD + ANY + "events: {max_bytes: 0}\n",
    "a size of a planet": HEAD + ANY + "events: {max_bytes: 9223372036854775807}\n",
    "a negative size": HEAD + ANY + "events: {max_bytes: -5}\n",
    "no lines": HEAD + ANY + "events: {max_lines: 0}\n",
    "a length of 0": HEAD + ANY + "events: {length: 0}\n",
    "a span of an age": HEAD + ANY + "clock: {latest: 99999999999 days}\n",
    "a year of an age": HEAD + ANY + "time: {find: start, format: rfc3164, year: 99999999999}\n",
    "a zone that is a path": HEAD + ANY + "clock: {zone: ../../../etc/passwd}\n",
    "a zone that is an absolute path": HEAD + ANY + "clock: {zone: /etc/localtime}\n",
    "a zone with a zero byte": HEAD + ANY + 'clock: {zone: "a\\0b"}\n',
    "optional parts by thousands": HEAD + "variants: [{name: a, pattern: '" + "[[ a{:int}]]" * 3000 + "'}]\n",
    "optional parts within each other": HEAD + NESTED,
    "slots by thousands": HEAD + SLOTS,
    "a regex that is huge when compiled": HEAD + "variants: [{name: a, regex: '^(?P<x>(a{1000}){1000})$'}]\n",
    "parts that double": HEAD + "parts:\n  p0: xxxxxxxxxxxx\n" + "".join(
        f"  p{i}: '{{@p{i - 1}}}{{@p{i - 1}}}'\n" for i in range(1, 60)
    ) + "variants: [{name: a, pattern: '{m:word}{@p59}'}]\n",
    "many of a part": HEAD + "parts: {p: '" + "x" * 9000
    + "'}\nvariants: [{name: a, pattern: '" + "{@p}" * 400 + "'}]\n",
    "words by ten thousands": HEAD + "variants: [{name: a, pattern: 'x {w:" + "|".join(
        f"w{i}" for i in range(16_000)) + "}'}]\n",
    "text of a megabyte": HEAD + "variants: [{name: a, pattern: '" + "é" * 1_000_000 + "{m:word}'}]\n",
    "SQL that allocates": HEAD + ANY + "steps: [{set: {m: \"REPEAT(m, 1000000000)\"}}]\n",
    "SQL that reads": HEAD + ANY + "steps: [{set: {m: \"read_csv('/etc/passwd')\"}}]\n",
    "SQL that reads a table": HEAD + ANY + "steps: [{set: {m: \"(SELECT m FROM self)\"}}]\n",
    "SQL without end": HEAD + ANY + "steps: [{set: {m: \"" + "UPPER(" * 3000 + "m" + ")" * 3000 + "\"}}]\n",
    "a table by absolute path": HEAD + ANY + "steps: [{lookup: {field: m, file: /etc/passwd, take: {a: b}}}]\n",
    "a table above": HEAD + ANY + "steps: [{lookup: {field: m, file: ../t.csv, take: {a: b}}}]\n",
}  # fmt: skip


class ParserFiles(InFolder):
    def test_refused_with_a_place_and_soon(self) -> None:
        for name, text in REFUSED.items():
            with self.subTest(name=name), soon(self, 50), self.assertRaises(kinglet_module.ParserFileError):
                kinglet_module.load(text)

    def test_rule_and_model_files_are_read_the_same_way(self) -> None:
        rules, model = ["--rules", "."], ["--model", "m.yaml"]
        for name, arguments in (
            ("aliases", rules), ("a tag", model), ("depth", model),
        ):  # fmt: skip
            bad = REFUSED[name].removeprefix(HEAD)
            self.write("r.yaml", "kinglet: 1\nrule: x\nclass: Authentication\nreads: user.name\nwhen: time > 1\n" + bad)
            self.write("m.yaml", "kinglet: 1\nmodel: x\nuid: 950\nversion: 1.0.0\n" + bad)
            self.write("p.yaml", PUMP)
            called = kinglet("check", "p.yaml", *arguments)
            self.assertEqual((2, False), (called.status, "Traceback" in called.err), (name, arguments))

    def test_files_that_are_none_or_too_large(self) -> None:
        self.write("large.yaml", HEAD + ANY + "# " + "x" * 9_000_000 + "\n")
        os.mkfifo("pipe.yaml")
        for path, said in {
            "large.yaml": "is larger than",
            "/dev/zero": "but a device",
            "pipe.yaml": "but a device",
        }.items():
            with self.subTest(path=path), self.assertRaisesRegex(kinglet_module.ParserFileError, said):
                kinglet_module.load(path)

    def test_tables_that_lead_elsewhere(self) -> None:
        (self.folder / "in").mkdir()
        self.write("secret.csv", "m,b\nx,1\n")
        Path("in/link.csv").symlink_to(self.folder / "secret.csv")
        Path("in/proc.csv").symlink_to("/proc/self/environ")
        Path("in/zero.csv").symlink_to("/dev/zero")
        os.mkfifo("in/pipe.csv")
        for name in ("link", "proc", "zero", "pipe"):
            step = f"steps: [{{lookup: {{field: m, file: {name}.csv, take: {{b: b}}}}}}]\n"
            parser = kinglet_module.load(self.write("in/p.yaml", HEAD + ANY + step))
            with self.subTest(name=name), self.assertRaises(kinglet_module.ParserFileError):
                parser.parse("x\n")

    def test_nothing_is_run_or_read_when_a_file_is_loaded(self) -> None:
        seen: list[str] = []
        self.write("p.yaml", PUMP)
        sys.addaudithook(lambda event, details: seen.append(f"{event} {details[:1]}") if event in (
            "os.system", "subprocess.Popen", "exec", "socket.connect") else None)  # fmt: skip
        kinglet_module.load("p.yaml")
        self.assertEqual([], [event for event in seen if not event.startswith("exec")])


class Growth(unittest.TestCase):
    """What would double and double again comes to an end."""

    def test_steps(self) -> None:
        for step in (
            "set: {m: m || m}",
            "join: {fields: [m, m, m, m, m, m, m, m], to: m}",
            "replace: {fields: m, regex: x, with: xxxxxxxxxxxxxxxx}",
        ):
            parser = kinglet_module.load(HEAD + ANY + "steps:\n" + f"  - {step}\n" * 30)
            (event,) = parser.parse("x" * 1000 + "\n").events.to_dicts()
            self.assertEqual(["too-long:m"], event["faults"][:1], step)


HOSTILE: dict[str, tuple[str, bytes]] = {
    "a value of 30 MB": (HEAD + ANY + "events: {max_bytes: 64 MiB}\n", b"x" * 30_000_000),
    "new keys by thousands": (
        HEAD + "variants: [{name: a, json: true}]\n",
        b"\n".join(json.dumps({f"k{i}_{j}": j for j in range(1000)}).encode() for i in range(40)),
    ),
    "kinds by ten thousands": (
        HEAD + "envelope: '{k:word} {body:rest}'\nkind: k\nvariants: [{name: a, kind: x, pattern: '{m:rest}'}]\n",
        b"\n".join(b"k%d b" % i for i in range(40_000)),
    ),
    "brackets": (HEAD + "events: json\nvariants: [{name: a, json: true}]\n", b"[" * 3_000_000),
    "elements": (HEAD + "events: {xml: e}\nvariants: [{name: a, xml: true}]\n", b"<e>" * 200_000),
    "comments": (HEAD + "events: {xml: e}\nvariants: [{name: a, xml: true}]\n", b"<e>" + b"<!-- " * 300_000),
    "instructions": (HEAD + "events: {xml: e}\nvariants: [{name: a, xml: true}]\n", b"<e/>" + b"<? " * 300_000),
    "attributes": (HEAD + "events: {xml: e}\nvariants: [{name: a, xml: true}]\n", b"<e " + b"a='" * 200_000),
    "quotes": (HEAD + "variants: [{name: a, pattern: '{q:quoted} {r:rest}'}]\n", b'"' + b'\\"' * 1_000_000),
    "pairs": (HEAD + "variants: [{name: a, pairs: {open_values: true}}]\n", b"a=" + b"b c " * 80_000),
    "other pairs": (HEAD + "variants: [{name: a, pairs: {between: '~~~'}}]\n", b"a=" + b"b~~c " * 80_000),
    "rows": (HEAD + "events: csv\nvariants: [{name: a, delimited: {names: [a, b]}}]\n", b'a,b\n"' + b'x,"' * 300_000),
    "halves of stamps": (HEAD + ANY + "time: {find: anywhere}\n", b"2026-03-" * 200_000),
    "a slow search": (HEAD + ANY + "time: {after: '(a|b|ab)*c', format: epoch}\n", b"ab" * 200_000),
    "a regex that goes back": (HEAD + "variants: [{name: a, regex: '^(?P<x>(?=a)(a+)+)$'}]\n", b"a" * 3000 + b"!"),
}


class Logs(InFolder):
    def test_none_takes_forever(self) -> None:
        """No outcome is asked for but that every byte is somewhere, in time that grows with the log."""
        for name, (text, log) in HOSTILE.items():
            with self.subTest(name=name):
                with soon(self, 50):
                    result = kinglet_module.load(text).parse(log)
                self.assertGreater(result.counts["events"], 0)

    def test_bombs_within_packed_logs(self) -> None:
        import gzip

        parser = kinglet_module.load(with_pattern("{a:rest}"))
        part = gzip.compress(b"\0" * 4_000_000)
        for packed in (gzip.compress(b"x" * 3_000_000), part * 30):
            with self.assertRaisesRegex(kinglet_module.InputError, "unpacks to more than the 1,000,000 bytes allowed"):
                parser.parse(packed, max_unpacked_bytes=1_000_000)
        nested = gzip.compress(gzip.compress(b"x" * 10_000_000))
        with contextlib.suppress(kinglet_module.InputError):  # a pack within a pack is not unpacked
            self.assertLess(sum(map(len, parser.parse(nested).events["raw"])), 100_000)

    def test_markup_of_pages_and_terminals(self) -> None:
        line = '<script>alert(1)</script> [bold]&amp;"\x1b[2J'
        parser = kinglet_module.load(HEAD + "variants: [{name: a, pattern: '{m:word} {r:rest}'}]\n")
        page = parser.parse(line + "\n")._repr_html_()
        self.assertNotIn("<script>", page)
        self.assertNotIn("\x1b", page)
        self.write("p.yaml", HEAD + "variants: [{name: a, pattern: '{m:word} {r:rest}'}]\n")
        self.write("a.log", line + "\n")
        shown = kinglet("try", "p.yaml", "a.log").out
        self.assertIn("[bold]", shown)
        self.assertNotIn("\x1b", shown)

    def test_cells_are_written_as_they_stand(self) -> None:
        """A spreadsheet may run what begins with =; the file says what the log said."""
        self.write("p.yaml", with_pattern("{m:rest}"))
        self.write("a.log", '=cmd|"/c x"!A1\n')
        self.assertEqual(0, kinglet("run", "-p", "p.yaml", "a.log", "-o", "o.csv").status)
        with Path("o.csv").open(newline="", encoding="utf-8") as file:
            self.assertEqual('=cmd|"/c x"!A1', next(iter(csv.DictReader(file)))["m"])


class Accidents(InFolder):
    """A run that is killed, a full disk, few files, two runs at once."""

    def setUp(self) -> None:
        super().setUp()
        self.write("p.yaml", PUMP)
        self.write("a.log", PUMP_LOG * 20_000)

    def start(self, *arguments: str, before: str = "") -> subprocess.Popen[bytes]:
        command = [sys.executable, "-m", "kinglet", "run", "-p", "p.yaml", "a.log", *arguments]
        if before:
            command = ["/bin/sh", "-c", f"{before}; exec {shlex.join(command)}"]
        surroundings = {**os.environ, "PYTHONPATH": str(ROOT / "src")}
        return subprocess.Popen(command, stderr=subprocess.PIPE, stdout=subprocess.DEVNULL, env=surroundings)

    def killed(self, number: int, output: str) -> int:
        process = self.start("-o", output, "--workers", "3")
        for _ in range(6000):
            if any(self.folder.glob(".*.part")) or process.poll() is not None:
                break
            time.sleep(0.01)
        process.send_signal(number)
        process.communicate(timeout=PATIENCE)
        return process.returncode

    def test_kill_leaves_nothing_for_long(self) -> None:
        for output in ("o.ndjson", "o.parquet"):
            if self.killed(signal.SIGKILL, output) == 0:
                continue  # it was done before
            again = self.start("-o", output)
            again.communicate(timeout=PATIENCE)
            self.assertEqual(0, again.returncode)
            self.assertEqual([], list(self.folder.glob(".*.part")))
            self.assertTrue(Path(output).exists())
            Path(output).unlink()

    def test_told_to_end(self) -> None:
        for number in (signal.SIGTERM, signal.SIGINT):
            status = self.killed(number, "o.ndjson")
            self.assertIn(status, (0, 130, 143))
            self.assertEqual([], list(self.folder.glob(".*.part")))
            self.assertEqual(status == 0, Path("o.ndjson").exists())

    def test_a_full_disk_and_a_folder_that_is_gone(self) -> None:
        for output in ("o.ndjson", "o.parquet", "o.csv"):
            process = self.start("-o", output, before="ulimit -f 200; trap '' XFSZ")
            error = process.communicate(timeout=PATIENCE)[1].decode()
            self.assertEqual(2, process.returncode, error)
            self.assertRegex(error, rf"{re.escape(output)}: cannot be written")
            self.assertNotIn("Traceback", error)
            self.assertEqual([], [*self.folder.glob(".*.part"), *self.folder.glob("o.*")])
        self.assertRegex(kinglet("run", "-p", "p.yaml", "a.log", "-o", "gone/o.csv").err, "there is no folder gone")

    def test_two_runs_with_one_output(self) -> None:
        runs = [self.start("-o", "o.ndjson") for _ in range(3)]
        for run in runs:
            run.communicate(timeout=PATIENCE)
            self.assertEqual(0, run.returncode)
        self.assertEqual(140_000, Path("o.ndjson").read_bytes().count(b"\n"))
        self.assertEqual([], list(self.folder.glob(".*.part")))

    def test_no_run_takes_the_file_of_another_for_a_leftover(self) -> None:
        from kinglet.output.writers import NdjsonWriter

        def write() -> None:
            for _ in range(100):
                with NdjsonWriter("o.ndjson", cast(Any, None)) as writer:
                    writer.write([b"{}\n"])

        with ThreadPoolExecutor(4) as pool:
            for done in [pool.submit(write) for _ in range(4)]:
                done.result()
        self.assertEqual(b"{}\n", Path("o.ndjson").read_bytes())
        self.assertEqual([], list(self.folder.glob(".*.part")))

    def test_many_inputs_and_few_files(self) -> None:
        (self.folder / "logs").mkdir()
        for i in range(1000):
            self.write(f"logs/{i}.log", PUMP_LOG)
        command = [sys.executable, "-m", "kinglet", "run", "-p", "p.yaml", "logs", "-o", "o.ndjson", "--json"]

        def few_files() -> None:
            resource.setrlimit(resource.RLIMIT_NOFILE, (64, 64))

        found = subprocess.run(command, capture_output=True, check=False, timeout=PATIENCE, preexec_fn=few_files)
        self.assertEqual(0, found.returncode, found.stderr[-300:])
        self.assertEqual(7000, json.loads(found.stdout)["counts"]["events"])

    def test_little_memory(self) -> None:
        limit = 3 * 2**30
        self.write("a.log", PUMP_LOG * 60_000)
        process = self.start("-o", "o.ndjson", "--workers", "2", before=f"ulimit -v {limit // 1024}")
        error = process.communicate(timeout=PATIENCE)[1].decode()
        self.assertEqual(0, process.returncode, error[-300:])

    def test_a_log_that_shrinks_while_it_is_read(self) -> None:
        from kinglet.source import logs as sources

        parser = kinglet_module.load("p.yaml")
        before, sources.CHUNK_BYTES = sources.CHUNK_BYTES, 100_000
        try:
            batches = parser.parse_batches("a.log", workers=1)
            first: Any = next(batches)
            os.truncate("a.log", 150_000)
            rest = sum(len(batch) for batch in batches)
        finally:
            sources.CHUNK_BYTES = before
        self.assertGreater(len(first), 0)
        self.assertLess(len(first) + rest, 140_000)


class Document(unittest.TestCase):
    def test_every_promise_names_a_test_that_there_is(self) -> None:
        text = (ROOT / "docs/security.md").read_text(encoding="utf-8")
        named = re.findall(r"`(tests/test_\w+\.py)` `(\w+)\.(test_\w+)`", text)
        self.assertGreater(len(named), 20)
        for file, suite, test in named:
            code = (ROOT / file).read_text(encoding="utf-8")
            self.assertRegex(code, rf"class {suite}\(", (file, suite))
            self.assertIn(f"def {test}(", code, (file, test))
