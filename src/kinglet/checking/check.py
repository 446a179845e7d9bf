"""The check of one parser, or of many."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import polars as pl

from kinglet.errors import ParserFileError, Problem, UsageError
from kinglet.insight.cases import CaseOutcome, check_cases
from kinglet.insight.coverage import Coverage, coverage
from kinglet.lint.linting import lint
from kinglet.lint.rule import Finding, LintRule
from kinglet.lint.table import RULES
from kinglet.ocsf.schema import Model
from kinglet.parser import Parser, load
from kinglet.parser_set import parser_files
from kinglet.revisions import changed_files, former_text
from kinglet.spec.document import from_text

if TYPE_CHECKING:
    from kinglet.insight.needs import Rule

_SAMPLE = 20_000
SEVERITIES = ("error", "warning", "note")


@dataclass(frozen=True)
class ParserReport:
    """What the check of a parser found; covered only where it was asked for."""

    parser: Parser
    outcomes: list[CaseOutcome]
    findings: list[Finding]
    covered: list[Coverage]

    strict: bool = False

    def fails(self, finding: Finding) -> bool:
        """Whether a finding makes the check fail: an error, and where it is strict a warning too."""
        return finding.severity == "error" or (self.strict and finding.severity == "warning")

    @property
    def failed(self) -> int:
        """How many cases and findings make the check fail."""
        return sum(not one.good for one in self.outcomes) + sum(map(self.fails, self.findings))


def check(
    parsers: Sequence[Parser],
    *,
    rules: Sequence[LintRule] = RULES,
    detections: Sequence[Rule] = (),
    sample: str | None = None,
    since: str | None = None,
    with_coverage: bool = False,
    strict: bool = False,
) -> list[ParserReport]:
    """Checks parsers, which together are a folder.

    rules: of lint. detections: what their events feed. sample: a log that they read, for rules that ask what happens in
    one. since: the revision with which versions are compared, the last commit unless given. with_coverage: whether it
    is said what mappings leave open. strict: whether warnings fail too.

    Raises:
        InputError: the sample cannot be read.
        UsageError: there is no such revision.
    """
    reports = []
    changed = _Changed(since)
    for parser in parsers:
        parser.read_tables()
        findings = lint(
            parser,
            parsers,
            rules=rules,
            detections=detections,
            samples=_sample(parser, sample),
            former=changed.former(parser),
        )
        outcomes = check_cases(parser)
        reports.append(ParserReport(parser, outcomes, findings, coverage(parser) if with_coverage else [], strict))
    return reports


def load_all(sources: Sequence[str], model: Model | None = None) -> list[Parser]:
    """Loads parser files, and those of folders.

    Raises:
        ParserFileError: with the problems of all files.
    """
    parsers: list[Parser] = []
    problems: list[Problem] = []
    for file in parser_files(*sources):
        try:
            parsers.append(load(file, model=model))
        except ParserFileError as error:
            problems += error.problems
    if problems:
        raise ParserFileError(problems)
    return parsers


def one_parser(parsers: Sequence[Parser], what: str) -> Parser:
    """The parser that something is about which is of one only.

    Raises:
        UsageError: there are more.
    """
    if len(parsers) != 1:
        raise UsageError(f"{what} is about one parser, and here are {len(parsers)}", "name one")
    return parsers[0]


def _sample(parser: Parser, sample: str | None) -> pl.DataFrame | None:
    """What a parser reads of the beginning of a log."""
    if sample is None:
        return None
    events = parser.parse(sample, limit=_SAMPLE).events
    return events.filter(pl.col("state") != "unmatched")


class _Changed:
    """Parser files as they were; git is asked once for each folder."""

    def __init__(self, since: str | None) -> None:
        self.since = since or "HEAD"
        self.folders: dict[Path, set[str] | None] = {}

    def former(self, parser: Parser) -> dict[str, Any] | None:
        """What the file of a parser held in the revision, where that was something else."""
        file = Path(parser._document.name)
        if parser._document.name.startswith("<") or not file.is_file():
            return None
        folder = file.parent
        if self.since == "HEAD":
            if folder not in self.folders:
                self.folders[folder] = changed_files(folder)
            names = self.folders[folder]
            if names is None or file.name not in names:
                return None
        text = former_text(file, self.since)
        if text is None:
            return None
        try:
            return dict(from_text(text, file.name).values)
        except ParserFileError:
            return None
