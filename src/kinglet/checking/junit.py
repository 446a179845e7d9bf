"""A check as JUnit XML, which most CI services show: a suite a parser, a test a case, and one for each finding."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path
from xml.etree import ElementTree

from kinglet.checking.check import ParserReport
from kinglet.errors import OutputError, printable


def junit(reports: Iterable[ParserReport]) -> str:
    """The text of a report; findings that do not fail are tests that were skipped."""
    root = ElementTree.Element("testsuites", name="kinglet check")
    total = failed = 0
    for report in reports:
        notes = sum(not report.fails(one) for one in report.findings)
        count = len(report.outcomes) + max(len(report.findings), 1)
        suite = ElementTree.SubElement(
            root, "testsuite", name=_plain(report.parser.name), tests=str(count), failures=str(report.failed),
            errors="0", skipped=str(notes), file=_plain(report.parser._document.name),
        )  # fmt: skip
        total, failed = total + count, failed + report.failed
        for outcome in report.outcomes:
            test = _test(suite, report, f"case {outcome.number}", outcome.place.line)
            if not outcome.good:
                said = "\n".join(f"{one.name}: {one.got!r}, not {one.expected!r}" for one in outcome.differences)
                failure = ElementTree.SubElement(test, "failure", message=_plain(said.split("\n")[0]), type="case")
                failure.text = _plain(f"{outcome.place}\n{outcome.case.raw}\n{said}")
        if not report.findings:
            _test(suite, report, "lint", 1)
        for finding in report.findings:
            test = _test(
                suite, report, f"{finding.code} {finding.title} at line {finding.place.line}", finding.place.line
            )
            kind = "failure" if report.fails(finding) else "skipped"
            inner = ElementTree.SubElement(test, kind, message=_plain(finding.message), type=finding.code)
            inner.text = _plain(f"{finding.place}\n{finding.message}; {finding.mend}")
    root.set("tests", str(total))
    root.set("failures", str(failed))
    ElementTree.indent(root)
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + ElementTree.tostring(root, encoding="unicode") + "\n"


def write(reports: Iterable[ParserReport], output: Path) -> None:
    """Writes a report.

    Raises:
        OutputError: it cannot be written.
    """
    try:
        output.write_text(junit(reports), encoding="utf-8")
    except OSError as error:
        raise OutputError(f"{output}: cannot be written: {error.strerror}") from None


def _test(suite: ElementTree.Element, report: ParserReport, name: str, line: int) -> ElementTree.Element:
    return ElementTree.SubElement(
        suite, "testcase", classname=_plain(report.parser.name), name=name,
        file=_plain(report.parser._document.name), line=str(line),
    )  # fmt: skip


def _plain(text: str) -> str:
    """Text without what XML cannot hold."""
    return printable(text.replace("\t", "    "))
