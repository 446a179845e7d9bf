"""Parsers as a test suite of `unittest`.

A file `tests/test_parsers.py` with these two lines has a test for each case, and one for what lint finds:

    from kinglet import testing
    load_tests = testing.load_tests("parsers")
"""

from __future__ import annotations

import os
import unittest
from collections.abc import Callable
from typing import Any

Loading = Callable[[unittest.TestLoader, unittest.TestSuite, str | None], unittest.TestSuite]


def load_tests(*sources: str | os.PathLike[str], strict: bool = False) -> Loading:
    """What `unittest` asks a module for: the tests of parser files, or folders of them.

    strict: whether warnings of lint fail too. Relative paths lie in the folder in which the tests are run. A file that
    cannot be loaded is a test that fails.
    """

    def load(loader: unittest.TestLoader, tests: unittest.TestSuite, pattern: str | None) -> unittest.TestSuite:
        found = unittest.TestSuite(tests)
        found.addTests(_tests(sources, strict))
        return found

    return load


class _Test(unittest.TestCase):
    """A test that is known before it runs: it fails with a text, or is good."""

    def __init__(self, name: str, said: str = "") -> None:
        super().__init__("run_check")
        self.name, self.said = name, said

    def run_check(self) -> None:
        if self.said:
            self.fail(self.said)

    def id(self) -> str:
        return self.name

    def __str__(self) -> str:
        return self.name


def _tests(sources: tuple[str | os.PathLike[str], ...], strict: bool) -> list[unittest.TestCase]:
    from kinglet.checking.check import Asked, check
    from kinglet.errors import KingletError
    from kinglet.parser import load
    from kinglet.parser_set import parser_files

    found: list[unittest.TestCase] = []
    parsers = []
    try:
        files = parser_files(*sources)
    except KingletError as error:
        return [_Test(f"{', '.join(map(str, sources))}", str(error))]
    for file in files:
        try:
            parsers.append(load(file))
        except KingletError as error:
            found.append(_Test(f"{file}", str(error)))
    for report in check(parsers, Asked(strict=strict)):
        name = report.parser.name
        for outcome in report.outcomes:
            found.append(_Test(f"{name} case {outcome.number} ({outcome.place})", _said(outcome)))
        failing = [one for one in report.findings if report.fails(one)]
        said = "\n".join(f"{one.place}: {one.code} {one.message}; {one.mend}" for one in failing)
        found.append(_Test(f"{name} lint ({report.parser._document.name})", said))
    return found


def _said(outcome: Any) -> str:
    lines = [f"{one.name}: {one.got!r}, not {one.expected!r}" for one in outcome.differences]
    return "\n".join([outcome.case.raw, *lines]) if lines else ""
