"""The house in order: the catalogue of faults, tables made from code, the map and the stages that documents tell."""

from __future__ import annotations

import ast
import json
import os
import re
import shutil
import subprocess
import sys
import tomllib
import unittest
from pathlib import Path
from typing import NamedTuple

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
        plan = kinglet.load(with_pattern("{a:rest}"))._plan
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
        self.assertEqual(there - {"py"}, set(mapped))
        settings = tomllib.loads((ROOT / "pyproject.toml").read_text(encoding="utf-8"))
        layers = settings["tool"]["importlinter"]["contracts"][0]["layers"]
        order = [name for layer in layers for name in re.findall(r"[a-z_]+", layer)]
        wanted = [
            name
            for name in mapped
            if name in order and name not in ("errors", "faults", "structures", "demo", "library")
        ]
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


class Addition(NamedTuple):
    """A row behind a line of one file, a file of its own where it needs one, a use of both, and what that prints."""

    where: str
    behind: str
    row: str
    use: str
    said: str
    file: tuple[str, str] = ("", "")


PARSE = "r = kinglet.load(FILE % {pattern!r} + {more!r}).parse({log!r})\nprint({shown})"


def parse(pattern: str, log: object, shown: str, more: str = "") -> str:
    return PARSE.format(pattern=pattern, log=log, shown=shown, more=more)


ADDITIONS: dict[str, Addition] = {
    "a slot type": Addition(
        "patterns/types.py",
        "_TABLE = (\n",
        '    SlotType("berth", "a berth of the port", "B-12", "B-[0-9]+"),\n',
        parse("{b:berth} {m:rest}", ["B-7 free"], "r.events['b'][0], r.counts['complete']"),
        "B-7 1",
    ),
    "a time directive": Addition(
        "timestamps/directives.py",
        "DIRECTIVES: dict[str, Directive] = {  # speed: widths only; what a stamp may be its regex says\n",
        '    "%Q": Directive("", means="%d|%m|%Y", about="a date with bars"),\n',
        parse(
            "{t:time} {m:rest}",
            ["20|11|2026 08:00 ebb"],
            "r.events['time'][0]",
            "time: {from: t, format: '%Q %H:%M', zone: UTC}",
        ),
        "2026-11-20 08:00:00+00:00",
    ),
    "a named time format": Addition(
        "timestamps/formats.py",
        "_NAMED_TEXTS = {\n",
        '    "tide": "%d|%m|%Y %H:%M",\n',
        parse(
            "{t:time} {m:rest}",
            ["20|11|2026 08:00 ebb"],
            "r.events['time'][0]",
            "time: {from: t, format: tide, zone: UTC}",
        ),
        "2026-11-20 08:00:00+00:00",
    ),
    "a note on a time": Addition(
        "timestamps/notes.py",
        "NOTES = (\n",
        '    Note("at-low-tide", "the tide is out"),\n',
        "from kinglet.timestamps import notes\nprint(notes.named(notes.BIT['at-low-tide']))",
        "['at-low-tide']",
    ),
    "a rule of lint": Addition(
        "lint/rules/times.py",
        "RULES = (\n",
        '    LintRule("T99", "old", "note", "", "", lambda one: iter([Found((), "is older than the port", "")])),\n',
        "from kinglet.lint.linting import lint\n"
        "parser = kinglet.load(FILE % '{t:time} {m:rest}' + 'time: {from: t, zone: UTC}')\n"
        "print(next(one.message for one in lint(parser) if one.code == 'T99'))",
        "is older than the port",
    ),
    "a function of expressions": Addition(
        "expressions/functions.py",
        "FUNCTIONS: Mapping[str, Function] = {\n",
        '    "TWICE": Function("n", "number", "TWICE(3)", "6", lambda n: combined(n[0].value * 2, NUMBER, n)),\n',
        parse("{b:int}", ["7"], "r.events['c'][0]", "steps: [{set: {c: TWICE(b)}}]"),
        "14.0",
    ),
    "a structure": Addition(
        "structures.py",
        "STRUCTURES: Mapping[str, StructureRow] = {\n",
        '    "tides": StructureRow("list of tides", "tides:Tides", InSlot("tides", "Elder:3.2;Quay:1.0")),\n',
        parse(
            "tides {t:tides}",
            ["tides Elder:3.2;Quay:1.0", "tides ebb"],
            "r.events['t.Quay'][0], r.events['faults'][1].to_list()",
            "    types: {t.Quay: num}\n    needs: t.Quay",
        ),
        "1.0 ['bad-tides:t_text']",
        (
            "structured/tides.py",
            "from kinglet.structured.pairs import Pairs\n\n\nclass Tides(Pairs):\n    name = 'tides'\n\n"
            "    def __init__(self):\n        super().__init__(';', ':')\n",
        ),
    ),
    "a cutting rule": Addition(
        "spec/schema.py",
        'Without a rule every line is an event."""\n\n',
        '    page: Annotated[Flag, Cut("pages:by_page", plain=True)] = Field(None)\n',
        parse("{m:rest}", b"a\nb\x0cc", "r.events['raw'].to_list()", "events: page"),
        r"['a\nb', 'c']",
        (
            "cutting/boundaries/pages.py",
            "from kinglet.cutting.boundaries.separated import Separated\n\n\n"
            "def by_page(rule):\n    return Separated(b'\\f')\n",
        ),
    ),
    "a container form that `look` tells": Addition(
        "discover/containers.py",
        "FORMS: tuple[Callable[[Sample], Records | None], ...] = (\n",
        '    lambda sample: Records(Container("tides", 1.0, "lines", "")) if sample.text[:5] == b"TIDES" else None,\n',
        "print(kinglet.look(b'TIDES 1\\nTIDES 2\\n')[0].container.name)",
        "tides",
    ),
    "a form of stamp that `look` finds": Addition(
        "timestamps/known_forms.py",
        "FINDABLE = (\n",
        '    Findable("bars", r"[0-9]{2}\\|[0-9]{2}\\|[0-9]{4} [0-9]{2}:[0-9]{2}", "%d|%m|%Y %H:%M"),\n',
        "print(kinglet.look(b'20|11|2026 08:00 ebb\\n20|11|2026 09:00 ebb\\n')[0].stamps[0].form)",
        "bars",
    ),
    "a packing": Addition(
        "source/compression.py",
        "PACKINGS = (\n",
        '    Packing("zlib", b"\\x78\\x9c", zlib.decompressobj),\n',
        "import zlib; r = kinglet.load(FILE % '{m:rest}').parse(zlib.compress(b'ebb')); print(r.events['m'][0])",
        "ebb",
    ),
    "a step": Addition(
        "spec/steps.py",
        '    """One operation on fields, with a note, a condition, and a switch."""\n\n',
        '    shout: Annotated[str | None, MadeBy("shouting:shout")] = None\n',
        parse("{m:rest}", ["ebb"], "r.events['m'][0]", "steps: [{shout: m}]"),
        "EBB",
        (
            "steps/shouting.py",
            "from kinglet.steps.fields import set_fields\n\n\n"
            "def shout(here, form):\n    return set_fields(here, {form: f'UPPER({form})'})\n",
        ),
    ),
    "a fault": Addition(
        "faults.py",
        "FAULTS: dict[str, Fault] = {\n",
        '    "no-tide": Fault("cut", "", "the tide was out"),\n',
        "from kinglet.faults import table; from kinglet.insight.diagnosis import reasons\n"
        "plan = kinglet.load(FILE % '{b:int}')._plan\n"
        "print('`no-tide`' in table(), reasons(plan, 'x', None, ['no-tide'])[0].message)",
        "True the tide was out",
    ),
    "an output format": Addition(
        "output/writers.py",
        "WRITERS: dict[str, type[Writer]] = {\n",
        '    ".lines": type("LinesWriter", (NdjsonWriter,), {"suffix": ".lines"}),\n',
        "kinglet.load(FILE % '{b:int}').parse(['7']).write('x.lines'); print(open('x.lines').read()[:9])",
        '{"line":1',
    ),
    "a command": Addition(
        "cli/main.py",
        "COMMANDS: dict[str, tuple[str, str]] = {\n",
        '    "tide": ("kinglet.cli.tide", "say when the tide is high"),\n',
        "from kinglet.cli.main import main; import sys; sys.argv = ['kinglet', 'tide']; main()",
        "high at noon",
        ("cli/tide.py", 'import click\n\n@click.command("tide")\ndef command():\n    print("high at noon")\n'),
    ),
    "a ready parser": Addition(
        "library/dpkg.yaml",
        "",
        "",
        parse("{m:rest}", ["ebb"], "'tide' in kinglet.spec.ready.ready_parsers()"),
        "True",
        ("library/tide.yaml", with_pattern("{m:rest}")),
    ),
}
"""Each row of the table of CONTRIBUTING that code can show."""
ELSEWHERE = {"a key of the parser file", "a newer time zone database", "a demo log", "a version of the model"}
"""The rows whose additions are made by a script, or are a subject of their own."""


class OneRow(InFolder):
    def test_every_row_of_the_table_is_shown(self) -> None:
        table = re.search(r"\| to add \|.*?\n\n", _contributing(), re.DOTALL)
        assert table is not None
        rows = {row.split("|")[1].strip() for row in table[0].strip().splitlines()[2:]}
        self.assertEqual(rows, {*ADDITIONS} | ELSEWHERE)

    def test_one_row_and_at_most_one_file_add_one_of_each(self) -> None:
        root = self.folder / "kinglet"
        shutil.copytree(SOURCES, root, ignore=shutil.ignore_patterns("__pycache__"))
        surroundings = {**os.environ, "PYTHONPATH": str(self.folder)}
        script = f"import contextlib, io, json, kinglet, traceback\nFILE = {with_pattern('%s')!r}\nsaid = {{}}\n"
        for what, added in ADDITIONS.items():
            file = root / added.where
            before = file.read_text(encoding="utf-8")
            self.assertEqual(1, before.count(added.behind) if added.behind else 1, what)
            if added.behind:
                file.write_text(before.replace(added.behind, added.behind + added.row), encoding="utf-8")
            if added.file[0]:
                (root / added.file[0]).write_text(added.file[1], encoding="utf-8")
            script += (
                "with contextlib.redirect_stdout(io.StringIO()) as out:\n"
                f"    try:\n        exec({added.use!r})\n    except SystemExit:\n        pass\n"
                f"    except BaseException:\n        traceback.print_exc(file=out)\nsaid[{what!r}] = out.getvalue()\n"
            )
        command = [sys.executable, "-c", script + "print(json.dumps(said))"]
        done = subprocess.run(command, env=surroundings, cwd=self.folder, capture_output=True, text=True, check=False)
        self.assertTrue(done.stdout, done.stderr)
        said = json.loads(done.stdout)
        for what, added in ADDITIONS.items():
            with self.subTest(what=what):
                self.assertEqual(added.said, said[what].strip())
