"""Changes the code in random places, one at a time, and says which changes no test notices.

    python tools/mutants.py [COUNT] [SEED] [SECONDS]

Each change is made in a copy of the checkout. The whole suite runs there once to learn which tests run which lines and
how long they take; a changed line is then asked of the tests that run it, the shortest first, until one fails or they
have taken SECONDS (200) together. A change that survives shows a line whose meaning no test pins, or means the same.

Not changed is what only tells the type checker something (`assert`), and statements with `# speed` on their first line:
sizes and ways of which any value gives the same events, only sooner or later.
"""

from __future__ import annotations

import ast
import copy
import importlib
import json
import os
import pkgutil
import queue
import random
import re
import shutil
import subprocess
import sys
import tempfile
import time
import unittest
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import coverage

import kinglet

ROOT = Path(__file__).parent.parent
PACKAGES = ("timestamps", "patterns", "regex", "plan", "runtime", "source", "cutting", "ocsf")
"""The packages that are changed: what a wrong line of them does is a wrong value."""
_COMPARED = {ast.Lt: ast.LtE, ast.LtE: ast.Lt, ast.Gt: ast.GtE, ast.GtE: ast.Gt, ast.Eq: ast.NotEq, ast.NotEq: ast.Eq}
_COMPUTED = {ast.Add: ast.Sub, ast.Sub: ast.Add, ast.Mult: ast.FloorDiv, ast.FloorDiv: ast.Mult, ast.BitAnd: ast.BitOr}


@dataclass(frozen=True)
class Mutant:
    """A file of the checkout with one changed place."""

    path: str
    line: int
    what: str
    text: str


def _meant(node: ast.AST, lines: Sequence[str]) -> Iterator[ast.AST]:
    """The nodes whose meaning tests should pin."""
    if isinstance(node, ast.Assert) or (isinstance(node, ast.stmt) and "# speed" in lines[node.lineno - 1]):
        return
    yield node
    for below in ast.iter_child_nodes(node):
        yield from _meant(below, lines)


def changes(tree: ast.Module, text: str) -> Iterator[tuple[ast.AST, str]]:
    """The places at which a tree can be changed, each with the kind of change."""
    for node in _meant(tree, text.splitlines()):
        if isinstance(node, ast.Compare) and type(node.ops[0]) in _COMPARED:
            yield node, "compare"
        elif isinstance(node, ast.BinOp) and type(node.op) in _COMPUTED and not isinstance(node.left, ast.Constant):
            yield node, "compute"
        elif isinstance(node, ast.BoolOp):
            yield node, "and-or"
        elif isinstance(node, ast.Constant) and type(node.value) is int and node.value < 1000:
            yield node, "number"
        elif isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.Not | ast.Invert):
            yield node, "not"


def change(node: ast.AST, kind: str) -> None:
    """Makes a change in place."""
    if kind == "compare" and isinstance(node, ast.Compare):
        node.ops[0] = _COMPARED[type(node.ops[0])]()
    elif kind == "compute" and isinstance(node, ast.BinOp):
        node.op = _COMPUTED[type(node.op)]()
    elif kind == "and-or" and isinstance(node, ast.BoolOp):
        node.op = ast.Or() if isinstance(node.op, ast.And) else ast.And()
    elif kind == "number" and isinstance(node, ast.Constant) and isinstance(node.value, int):
        node.value = node.value + 1
    elif kind == "not" and isinstance(node, ast.UnaryOp):
        node.op = ast.UAdd()


def mutants(root: Path, rng: random.Random) -> Iterator[Mutant]:
    """Without end, drawn from all files, the larger the likelier."""
    files = [path for package in PACKAGES for path in sorted((root / "src/kinglet" / package).rglob("*.py"))]
    weights = [path.stat().st_size for path in files]
    while True:
        path = rng.choices(files, weights)[0]
        source = path.read_text(encoding="utf-8")
        tree = ast.parse(source)
        places = list(changes(tree, source))
        if not places:
            continue
        node, kind = rng.choice(places)
        before = ast.unparse(copy.deepcopy(node))
        change(node, kind)
        text = ast.unparse(tree)
        try:
            compile(text, str(path), "exec")
        except SyntaxError:
            continue
        yield Mutant(
            str(path.relative_to(root)), getattr(node, "lineno", 0), f"{before}  ->  {ast.unparse(node)}", text
        )


class Runs:
    """Which tests run which lines, and the seconds each takes."""

    def __init__(self, copied: Path) -> None:
        modules = [f"tests.{path.stem}" for path in sorted((copied / "tests").glob("test_*.py"))]
        with ThreadPoolExecutor(os.cpu_count()) as pool:
            recorded = list(pool.map(lambda module: _recorded(copied, module), modules))
        self.seconds = {test: seconds for part in recorded for test, seconds in part.items()}
        self._lines = coverage.CoverageData(str(copied / ".coverage.all"))
        parts = [coverage.CoverageData(str(copied / f".coverage.{module}")) for module in modules]
        for part in parts:
            part.read()
            self._lines.update(part)

    def of(self, copied: Path, mutant: Mutant) -> list[str]:
        """The tests of a line, the shortest first.

        Of one that runs at import they are those of the lines that use the name it defines, or of its file.
        """
        by_line = self._lines.contexts_by_lineno(str(copied / mutant.path))
        tests = {test for test in by_line.get(mutant.line, ()) if test}
        name = _defined_at(copied / mutant.path, mutant.line)
        if name is not None:
            tests = self._users(copied, name)
        tests = tests or {test for found in by_line.values() for test in found if test} or set(self.seconds)
        # tests that speak of the file's subject come first, so that the time does not run out before them
        subject = Path(mutant.path).stem.rstrip("s")
        return sorted(tests & set(self.seconds), key=lambda test: (subject not in test.lower(), self.seconds[test]))

    def _users(self, copied: Path, name: str) -> set[str]:
        """The tests that run a line on which a name stands."""
        word = re.compile(rf"\b{name}\b")
        found: set[str] = set()
        for path in (copied / "src" / "kinglet").rglob("*.py"):
            lines = [i for i, line in enumerate(path.read_text(encoding="utf-8").splitlines(), 1) if word.search(line)]
            by_line = self._lines.contexts_by_lineno(str(path)) if lines else {}
            found |= {test for line in lines for test in by_line.get(line, ()) if test}
        return found


def _defined_at(path: Path, line: int) -> str | None:
    """The name that a statement outside of functions gives a value, where the line is of one."""
    for node in ast.parse(path.read_text(encoding="utf-8")).body:
        if isinstance(node, ast.Assign | ast.AnnAssign) and node.lineno <= line <= (node.end_lineno or 0):
            target = node.targets[0] if isinstance(node, ast.Assign) else node.target
            return target.id if isinstance(target, ast.Name) else None
    return None


class _Recorder(unittest.TextTestResult):
    """Tells the measurement which test runs, and keeps its time."""

    measured: coverage.Coverage
    seconds: dict[str, float]

    def startTest(self, test: unittest.TestCase) -> None:  # noqa: N802
        super().startTest(test)
        self.measured.switch_context(test.id())
        self.seconds[test.id()] = -time.monotonic()

    def stopTest(self, test: unittest.TestCase) -> None:  # noqa: N802
        self.seconds[test.id()] += time.monotonic()
        super().stopTest(test)


def record(module: str) -> None:
    """Runs a file of tests in this process and writes down lines and times."""
    measured = coverage.Coverage(data_file=f".coverage.{module}", source=["kinglet"], config_file=False)
    measured.start()
    # otherwise lines of a module would count as run by the test that happens to need it first
    for found in pkgutil.walk_packages(kinglet.__path__, "kinglet."):
        if not found.name.endswith("__main__"):
            importlib.import_module(found.name)
    _Recorder.measured, _Recorder.seconds = measured, {}
    suite = unittest.defaultTestLoader.loadTestsFromName(module)
    recorder: Any = _Recorder
    result = unittest.TextTestRunner(resultclass=recorder, verbosity=0).run(suite)
    measured.stop()
    measured.save()
    Path(f"{module}.json").write_text(json.dumps(_Recorder.seconds), encoding="utf-8")
    sys.exit(not result.wasSuccessful())


def _recorded(copied: Path, module: str) -> dict[str, float]:
    found = _run(copied, ["tools/mutants.py", "--record", module], 3600)
    if found is None or found.returncode:
        sys.exit(f"{module} fails without any change; mend that first\n{found and found.stderr[-2000:]}")
    seconds: dict[str, float] = json.loads((copied / f"{module}.json").read_text(encoding="utf-8"))
    return seconds


def _run(copied: Path, arguments: list[str], timeout: float) -> subprocess.CompletedProcess[str] | None:
    """Python in a copy; none where it takes too long."""
    surroundings = {**os.environ, "PYTHONPATH": f"{copied / 'src'}:{copied}", "POLARS_MAX_THREADS": "1"}
    command = [sys.executable, *arguments]
    process = subprocess.Popen(
        command, cwd=copied, env=surroundings, stderr=subprocess.PIPE, stdout=subprocess.DEVNULL, text=True,
        start_new_session=True,
    )  # fmt: skip
    try:
        error = process.communicate(timeout=timeout)[1]
    except subprocess.TimeoutExpired:
        os.killpg(process.pid, 9)
        process.communicate()
        return None
    return subprocess.CompletedProcess(command, process.returncode, "", error)


def noticed(copied: Path, mutant: Mutant, tests: list[str]) -> bool:
    """Whether one of the tests fails, or does not end, while the change stands in the copy."""
    target = copied / mutant.path
    before = target.read_text(encoding="utf-8")
    target.write_text(mutant.text, encoding="utf-8")
    try:
        found = _run(copied, ["-m", "unittest", "-f", "-q", *tests], 600)
    finally:
        target.write_text(before, encoding="utf-8")
    return found is None or found.returncode != 0


def main() -> None:
    if sys.argv[1:2] == ["--record"]:
        record(sys.argv[2])
    count, seed, most = (*map(int, sys.argv[1:4]), *(20, 0, 200)[len(sys.argv) - 1 :])
    left_out = shutil.ignore_patterns(".git", ".venv", ".*_cache", ".hypothesis", "kinglet-demo")
    with tempfile.TemporaryDirectory() as folder:
        copies: queue.SimpleQueue[Path] = queue.SimpleQueue()
        first = Path(folder) / "kinglet-0"
        shutil.copytree(ROOT, first, ignore=left_out)
        for number in range(1, os.cpu_count() or 1):
            shutil.copytree(first, Path(folder) / f"kinglet-{number}")
            copies.put(Path(folder) / f"kinglet-{number}")
        runs = Runs(first)
        copies.put(first)

        def tried(mutant: Mutant) -> bool:
            tests: list[str] = []
            total = 0.0
            for test in runs.of(first, mutant):
                total += runs.seconds[test]
                if total > most and tests:
                    break
                tests.append(test)
            copied = copies.get()
            good = noticed(copied, mutant, tests)
            copies.put(copied)
            state = "noticed " if good else f"SURVIVED {len(tests)} tests"
            print(f"{state}  {mutant.path}:{mutant.line}  {mutant.what[:90]}", flush=True)
            return good

        changed = mutants(first, random.Random(seed))
        drawn = [next(changed) for _ in range(count)]
        with ThreadPoolExecutor(os.cpu_count()) as pool:
            good = sum(pool.map(tried, drawn))
    print(f"{good} of {count} were noticed")


if __name__ == "__main__":
    main()
