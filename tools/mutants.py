"""Changes the code in random places, one at a time, and says which changes no test notices.

    python tools/mutants.py [COUNT] [SEED]

Each change is made in a copy of the checkout, where the tests of its package run. One that survives shows a line whose
meaning no test pins, or a change that means the same.
"""

from __future__ import annotations

import ast
import copy
import random
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

ROOT = Path(__file__).parent.parent
_RAW = ["raw", "raw_whole", "cutting", "events_section"]
_PATTERNS = ["patterns", "hostile", "parser_file", "structures", "values"]
_EVENTS = [
    "engine", "routing", "patterns", "structures", "several", "steps", "step_properties", "time_rules", "expressions",
    "values", "robustness",
]  # fmt: skip
TESTS = {
    "timestamps": ["time_table", "clock", "time_whole", "time_rules", "time_logs", "values"],
    "patterns": _PATTERNS,
    "regex": _PATTERNS,
    "plan": _EVENTS,
    "runtime": _EVENTS,
    "source": _RAW,
    "cutting": _RAW,
    "ocsf": ["model", "model_valid", "mapping", "mapping_properties", "extensions"],
}
"""The packages, and the files of tests that are asked about them, the quickest to fail first."""
_COMPARED = {ast.Lt: ast.LtE, ast.LtE: ast.Lt, ast.Gt: ast.GtE, ast.GtE: ast.Gt, ast.Eq: ast.NotEq, ast.NotEq: ast.Eq}
_COMPUTED = {ast.Add: ast.Sub, ast.Sub: ast.Add, ast.Mult: ast.FloorDiv, ast.FloorDiv: ast.Mult, ast.BitAnd: ast.BitOr}


def changes(tree: ast.Module) -> Iterator[tuple[ast.AST, str]]:
    """The places at which a tree can be changed, each with the kind of change."""
    for node in ast.walk(tree):
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


def mutants(root: Path, rng: random.Random) -> Iterator[tuple[str, Path, int, str, str]]:
    """Without end: package, file, line, the code as it was and as it is, and the changed text."""
    files = [(package, path) for package in TESTS for path in sorted((root / "src/kinglet" / package).rglob("*.py"))]
    weights = [path.stat().st_size for _, path in files]
    while True:
        package, path = rng.choices(files, weights)[0]
        tree = ast.parse(path.read_text(encoding="utf-8"))
        places = list(changes(tree))
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
        yield package, path, getattr(node, "lineno", 0), f"{before}  ->  {ast.unparse(node)}", text


def noticed(copied: Path, package: str) -> bool:
    """Whether a test of the package fails."""
    for name in TESTS[package]:
        command = [sys.executable, "-m", "unittest", "-f", "-q", f"tests.test_{name}"]
        surroundings = {"PYTHONPATH": str(copied / "src"), "PATH": "/usr/bin:/bin", "HOME": str(copied)}
        try:
            found = subprocess.run(command, cwd=copied, env=surroundings, capture_output=True, check=False, timeout=240)
        except subprocess.TimeoutExpired:
            return True
        if found.returncode:
            return True
    return False


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 20
    rng = random.Random(int(sys.argv[2]) if len(sys.argv) > 2 else None)
    left_out = shutil.ignore_patterns(".git", ".venv", ".*_cache", ".hypothesis", "kinglet-demo", "data")
    survived = 0
    with tempfile.TemporaryDirectory() as folder:
        copied = Path(folder) / "kinglet"
        shutil.copytree(ROOT, copied, ignore=left_out)
        shutil.copytree(ROOT / "src/kinglet/ocsf/data", copied / "src/kinglet/ocsf/data", dirs_exist_ok=True)
        for package in TESTS:
            if noticed(copied, package):
                sys.exit(f"the tests of {package} fail without any change; mend that first")
        changed = mutants(copied, rng)
        for number, (package, target, line, what, text) in zip(range(1, count + 1), changed, strict=False):
            before = target.read_text(encoding="utf-8")
            target.write_text(text, encoding="utf-8")
            good = noticed(copied, package)
            target.write_text(before, encoding="utf-8")
            survived += not good
            place = f"{target.relative_to(copied)}:{line}"
            print(f"{number:>3}  {'noticed ' if good else 'SURVIVED'}  {place}  {what[:90]}", flush=True)
    print(f"{count - survived} of {count} were noticed")


if __name__ == "__main__":
    main()
