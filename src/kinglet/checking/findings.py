"""All that a check found, as findings: those of lint, and cases that fail."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from kinglet.checking.check import ParserReport
from kinglet.lint.rule import Finding
from kinglet.lint.sarif import CASE


def all_findings(reports: Iterable[ParserReport]) -> Iterator[Finding]:
    """The findings of reports, those of each parser in the order of its file."""
    for report in reports:
        found = [*report.findings, *_of_cases(report)]
        yield from sorted(found, key=lambda one: (one.place.line, one.place.column, one.code))


def _of_cases(report: ParserReport) -> Iterator[Finding]:
    for outcome in report.outcomes:
        if not outcome.good:
            first = outcome.differences[0]
            message = f"case {outcome.number}: {first.name} is {first.got!r}, not {first.expected!r}"
            key = f"cases[{outcome.number - 1}]"
            yield Finding(CASE, "case fails", "error", outcome.place, key, message, "mend the parser or the case")
