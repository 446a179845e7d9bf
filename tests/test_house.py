"""The house in order: the catalogue of faults, tables made from code, the map and the stages that documents tell."""

from __future__ import annotations

import ast
import re
import tomllib
import unittest
from pathlib import Path

import kinglet
from kinglet.errors import UsageError
from kinglet.faults import FAULTS, table
from kinglet.insight.diagnosis import reasons
from kinglet.patterns.types import STRUCTURES
from kinglet.runtime.pipeline import STAGES
from tests.helpers import ROOT, with_pattern

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
        self.assertRaises(UsageError, kinglet.load(with_pattern("{a:rest}")).parse)


def _contributing() -> str:
    return Path(ROOT / "CONTRIBUTING.md").read_text(encoding="utf-8")


def _level(layers: list[str], name: str) -> int:
    return next(i for i, layer in enumerate(layers) if name in re.findall(r"[a-z_]+", layer))
