"""The house in order: the catalogue of faults, tables made from code, the map and the stages that documents tell."""

from __future__ import annotations

import ast
import os
import re
import shutil
import subprocess
import sys
import tomllib
import unittest
from pathlib import Path

import kinglet
from kinglet.faults import FAULTS, table
from kinglet.insight.diagnosis import reasons
from kinglet.patterns.types import STRUCTURES
from kinglet.runtime.pipeline import STAGES
from tests.helpers import ROOT, InFolder, with_pattern

SOURCES = ROOT / "src" / "kinglet"
CODE = re.compile(r"[a-z]+(?:-[a-z]+)+")


class Faults(unittest.TestCase):
    def test_every_fault_that_the_code_names_is_in_the_catalogue(self) -> None:
        families = {code.split("-")[0] for code in FAULTS} - {"repeated", "mixed", "after"}
        named: dict[str, str] = {}
        for path in SOURCES.rglob("*.py"):
            folder = path.relative_to(SOURCES).parts[0]
            if folder in ("cutting", "source", "runtime", "steps", "structured", "plan"):
                for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
                    text = node.value if isinstance(node, ast.Constant) and isinstance(node.value, str) else ""
                    code = text.partition(":")[0]
                    if CODE.fullmatch(code) and code.split("-")[0] in families:
                        named[code] = str(path.relative_to(SOURCES))
        named.pop("no-time-of-day", None)  # a note, and no fault
        self.assertGreater(len(named), 15)
        self.assertEqual({}, {code: where for code, where in named.items() if code not in FAULTS})
        self.assertLessEqual({f"bad-{name}" for name in STRUCTURES}, set(FAULTS))

    def test_every_fault_has_words(self) -> None:
        plan = kinglet.load(with_pattern("{a:rest}")).plan
        for code, fault in FAULTS.items():
            self.assertTrue(fault.words and fault.stage, code)
            if not fault.of:
                (reason,) = reasons(plan, "x 1", None, [code])
                self.assertTrue(reason.message, code)


class Documents(unittest.TestCase):
    def test_tables_are_those_of_the_code(self) -> None:
        text = (ROOT / "docs" / "parser-file.md").read_text(encoding="utf-8")
        self.assertIn(f"<!-- made by tools/build_tables.py -->\n{table()}\n<!-- end -->", text)

    def test_the_map_has_every_package_in_the_order_of_the_layers(self) -> None:
        text = (ROOT / "docs" / "architecture.md").read_text(encoding="utf-8")
        there = {
            path.stem for path in SOURCES.iterdir() if not path.name.startswith("_") and path.suffix in ("", ".py")
        }
        rows = re.search(r"\| package \|.*?\n\n", text, re.DOTALL)
        assert rows is not None
        mapped = [name.removesuffix(".py").rstrip("/") for row in rows[0].strip().splitlines()[2:]
                  for name in re.findall(r"`([a-z_]+(?:\.py|/))`", row.split("|")[1])]  # fmt: skip
        self.assertEqual(there - {"py"}, set(mapped) | {"faults"})
        settings = tomllib.loads((ROOT / "pyproject.toml").read_text(encoding="utf-8"))
        layers = settings["tool"]["importlinter"]["contracts"][0]["layers"]
        order = [name for layer in layers for name in re.findall(r"[a-z_]+", layer)]
        wanted = [name for name in mapped if name in order and name not in ("errors", "demo", "library")]
        self.assertEqual(wanted, sorted(wanted, key=lambda name: _level(layers, name)))

    def test_the_way_of_an_event_is_that_of_the_stages(self) -> None:
        text = (ROOT / "docs" / "architecture.md").read_text(encoding="utf-8")
        told = re.findall(r"^\| (\w+) \| `runtime/stages/(\w+)\.py`", text, re.MULTILINE)
        self.assertEqual([(stage.__name__, stage.__module__.split(".")[-1]) for stage in STAGES], told)
        for name in re.findall(r"`([a-z_]+(?:/[a-z_]+)*\.py)`", text):
            self.assertTrue((SOURCES / name).exists(), name)
        for name in re.findall(r"`(?:src/kinglet/)?((?:[a-z_]+/)+[a-z_]+\.py)`", _contributing()):
            self.assertTrue(any((base / name).exists() for base in (ROOT, SOURCES)), name)

    def test_each_stage_adds_what_it_says(self) -> None:
        for stage in STAGES:
            self.assertEqual(["work"], list(stage.__annotations__)[:1])
            self.assertTrue(stage.__doc__)


def _contributing() -> str:
    return Path(ROOT / "CONTRIBUTING.md").read_text(encoding="utf-8")


def _level(layers: list[str], name: str) -> int:
    return next(i for i, layer in enumerate(layers) if name in re.findall(r"[a-z_]+", layer))


ROWS: dict[str, tuple[str, str, str, str]] = {
    "a slot type": (
        "patterns/types.py",
        "_TABLE = (\n",
        '    SlotType("berth", "a berth of the port", "B-12", "B-[0-9]+"),\n',
        "r = kinglet.load(FILE % '{b:berth} {m:rest}').parse(['B-7 free'])\n"
        "print(r.events['b'][0], r.counts['complete'])",
    ),
    "a function of expressions": (
        "expressions/functions.py",
        "FUNCTIONS: Mapping[str, Function] = {\n",
        '    "TWICE": Function("n", "number", "TWICE(3)", "6", lambda n: combined(n[0].value * 2, NUMBER, n)),\n',
        "r = kinglet.load(FILE % '{b:int}' + 'steps: [{set: {c: TWICE(b)}}]').parse(['7']); print(r.events['c'][0])",
    ),
    "a fault": (
        "faults.py",
        "FAULTS: dict[str, Fault] = {\n",
        '    "no-tide": Fault("cut", "", "the tide was out"),\n',
        "from kinglet.faults import table; from kinglet.insight.diagnosis import reasons\n"
        "plan = kinglet.load(FILE % '{b:int}').plan\n"
        "print('`no-tide`' in table(), reasons(plan, 'x', None, ['no-tide'])[0].message)",
    ),
    "an output format": (
        "output/writers.py",
        "WRITERS: dict[str, type[Writer]] = {\n",
        '    ".lines": type("LinesWriter", (NdjsonWriter,), {"suffix": ".lines"}),\n',
        "kinglet.load(FILE % '{b:int}').parse(['7']).write('x.lines'); print(open('x.lines').read()[:9])",
    ),
    "a command": (
        "cli/main.py",
        "COMMANDS: dict[str, tuple[str, str]] = {\n",
        '    "tide": ("tests_tide", "say when the tide is high"),\n',
        "from kinglet.cli.main import main; import sys; sys.argv = ['kinglet', 'tide']; main()",
    ),
}
"""To add: the one file that it takes, the line behind which its row stands, the row, and a use of it."""
SAID = {
    "a slot type": "B-7 1", "a function of expressions": "14.0", "a fault": "True the tide was out",
    "an output format": '{"line":1', "a command": "high at noon",
}  # fmt: skip


class OneRow(InFolder):
    def test_one_row_in_one_file_adds_one_of_each(self) -> None:
        shutil.copytree(SOURCES, self.folder / "kinglet", ignore=shutil.ignore_patterns("__pycache__"))
        self.write(
            "tests_tide.py", 'import click\n\n@click.command("tide")\ndef command():\n    print("high at noon")\n'
        )
        self.assertEqual(set(ROWS), set(SAID))
        for what, (name, line, row, use) in ROWS.items():
            file = self.folder / "kinglet" / name
            before = file.read_text(encoding="utf-8")
            self.assertEqual(1, before.count(line), what)
            file.write_text(before.replace(line, line + row), encoding="utf-8")
            script = f"import kinglet\nFILE = {with_pattern('%s')!r}\n{use}\n"
            surroundings = {**os.environ, "PYTHONPATH": str(self.folder)}
            command = [sys.executable, "-c", script]
            done = subprocess.run(
                command, env=surroundings, cwd=self.folder, capture_output=True, text=True, check=False
            )
            self.assertEqual(SAID[what], done.stdout.strip(), (what, done.stderr[-600:]))
            file.write_text(before, encoding="utf-8")
