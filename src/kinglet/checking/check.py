"""The check of one parser, or of many."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

import polars as pl

from kinglet.errors import ParserFileError, Problem, UsageError
from kinglet.insight.cases import CaseOutcome, check_cases
from kinglet.insight.coverage import Coverage, coverage
from kinglet.lint.linting import findings_of, finished
from kinglet.lint.rule import Finding, LintRule, Subject
from kinglet.lint.table import RULES
from kinglet.ocsf.loading import load_model
from kinglet.ocsf.schema import Model
from kinglet.parser import Parser, load
from kinglet.parser_set import parser_files
from kinglet.processes import spread
from kinglet.revisions import changed_files, former_text
from kinglet.spec.document import from_text

if TYPE_CHECKING:
    from kinglet.insight.needs import Rule

_SAMPLE = 20_000
_MANY = 16  # speed
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


class Asked(NamedTuple):
    """What a check is asked.

    rules: of lint. detections: what events feed. sample: a log that the parsers read, for rules that ask what happens
    in one. since: the revision with which versions are compared, the last commit unless given. with_coverage: whether
    it is said what mappings leave open. strict: whether warnings fail too.
    """

    rules: Sequence[LintRule] = RULES
    detections: Sequence[Rule] = ()
    sample: str | None = None
    since: str | None = None
    with_coverage: bool = False
    strict: bool = False


_ALL = Asked()


def check(parsers: Sequence[Parser], asked: Asked = _ALL) -> list[ParserReport]:
    """Checks parsers, which together are a folder.

    Raises:
        InputError: the sample cannot be read.
        UsageError: there is no such revision.
    """
    return _reports(parsers, (_checked(parser, _each(asked), asked.sample) for parser in parsers), asked)


def check_files(names: Sequence[str], asked: Asked = _ALL, extensions: Sequence[str] = ()) -> list[ParserReport]:
    """Checks parser files, ready parsers and folders; many of them in several processes.

    extensions: files that extend the model.

    Raises:
        ParserFileError: with the problems of all files.
        InputError: the sample cannot be read.
        UsageError: there is no such revision.
    """
    model = load_model(*extensions) if extensions else None
    files = [str(file) for file in parser_files(*names)]
    if len(files) < _MANY:
        return check(load_all(files, model), asked)
    given = (frozenset(rule.code for rule in _each(asked)), asked.sample, tuple(extensions))
    found = spread(_checked_file, files, _begin, given)  # which begin while the files are loaded here too
    try:
        return _reports(load_all(files, model), found, asked)
    finally:
        found.close()  # type: ignore[attr-defined]


def _each(asked: Asked) -> list[LintRule]:
    """The rules that are about one parser by itself."""
    return [rule for rule in asked.rules if rule not in _apart(asked)]


def _apart(asked: Asked) -> list[LintRule]:
    """Those that look at its folder, its history, or detections."""
    return [rule for rule in asked.rules if rule.code[0] == "F" or rule.code == "M02"]


def _reports(parsers: Sequence[Parser], found: Iterable[Checked], asked: Asked) -> list[ParserReport]:
    changed = _Changed(asked.since)
    subjects = [Subject(one, parsers, rules=asked.detections, former=changed.former(one)) for one in parsers]
    apart = [findings_of(subject, _apart(asked)) for subject in subjects]
    return [
        ParserReport(
            parser,
            outcomes,
            finished(parser, [*findings, *others], asked.rules),
            coverage(parser) if asked.with_coverage else [],
            asked.strict,
        )
        for parser, others, (findings, outcomes) in zip(parsers, apart, found, strict=True)
    ]


Checked = tuple[list[Finding], list[CaseOutcome]]


def _checked(parser: Parser, rules: Sequence[LintRule], sample: str | None) -> Checked:
    """What rules that are about one parser find, and what came of its cases."""
    parser.read_tables()
    subject = Subject(parser, samples=_sample(parser, sample))
    return findings_of(subject, rules), check_cases(parser)


class _Given(NamedTuple):
    """What a process knows that checks some of the parsers."""

    rules: list[LintRule]
    sample: str | None
    model: Model | None


_given: dict[str, _Given] = {}


def _begin(codes: frozenset[str], sample: str | None, models: tuple[str, ...]) -> None:
    rules = [rule for rule in RULES if rule.code in codes]
    _given["now"] = _Given(rules, sample, load_model(*models) if models else None)


def _checked_file(name: str) -> Checked:
    given = _given["now"]
    return _checked(load(name, model=given.model), given.rules, given.sample)


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
