"""Lint of one parser or of a folder of them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import polars as pl

from kinglet.lint.allowing import allowed, of_comments, without_allowed
from kinglet.lint.rule import Finding, LintRule, Subject
from kinglet.lint.table import RULES
from kinglet.parser import Parser, load

if TYPE_CHECKING:
    from kinglet.insight.needs import Rule


def lint(
    parser: Parser,
    folder: Sequence[Parser] = (),
    *,
    rules: Sequence[LintRule] = RULES,
    detections: Sequence[Rule] = (),
    samples: pl.DataFrame | None = None,
    former: Mapping[str, Any] | None = None,
    text: str | None = None,
) -> list[Finding]:
    """What rules find in a parser, in the order of its file.

    folder: the parsers that stand beside it. detections: what its events feed. samples: events that it parsed. former:
    what the file was when it was last committed. text: that of the file, where it is not saved yet.
    """
    former = dict(former) if former is not None else None
    subject = Subject(parser, folder, samples=samples, rules=detections, former=former)
    return finished(parser, findings_of(subject, rules), rules, text)


def findings_of(subject: Subject, rules: Sequence[LintRule]) -> list[Finding]:
    """All that rules find, with what comments allow."""
    document = subject.document
    found: list[Finding] = []
    for rule in rules:
        for one in rule.judge(subject):
            place = document.inside(one.path, one.offset) if one.offset >= 0 else document.place(one.path)
            key = document.problem(one.path, "").key
            found.append(Finding(rule.code, rule.title, rule.severity, place, key, one.message, one.mend))
    return found


def finished(parser: Parser, found: list[Finding], rules: Sequence[LintRule], text: str | None = None) -> list[Finding]:
    """Findings without those that follow from others, and those that comments allow; with what is wrong with these."""
    found = _without_consequences(_without_those_of_base(parser, found, rules))
    comments = allowed(text if text is not None else _text_of(parser), parser._document.name)
    found = without_allowed(found, comments)
    table = {rule.code: rule for rule in rules}
    # a rule that was not asked cannot tell whether its comments are needed
    asked = [one for one in comments if one.code in table or one.code not in {rule.code for rule in RULES}]
    for code, place, message, mend in of_comments(asked, [rule.code for rule in RULES]):
        if code in table:
            found.append(Finding(code, table[code].title, table[code].severity, place, "", message, mend))
    return sorted(found, key=lambda one: (one.place.line, one.place.column, one.code))


def _without_those_of_base(parser: Parser, found: list[Finding], rules: Sequence[LintRule]) -> list[Finding]:
    """Findings in the file of a base only where they are none of the base by itself, or allowed there."""
    base = parser._document.base
    if base is None or all(one.place.file == parser._document.name for one in found):
        return found
    alone = load(base.file, model=parser.model)
    # messages show events that are made, which differ
    known = {(one.code, one.place) for one in findings_of(Subject(alone), rules)}
    return [one for one in found if (one.code, one.place) not in known]


_CAUSES = {"C01": ("V01", "V02", "V04"), "R04": ("R05",)}
"""Codes of findings that say nothing new where another, at the same key, says why."""


def _without_consequences(found: list[Finding]) -> list[Finding]:
    """Findings but for those that follow from others: a variant that is never reached has no case either."""
    said = {(one.code, one.key) for one in found}
    return [one for one in found if not any((code, one.key) in said for code in _CAUSES.get(one.code, ()))]


def _text_of(parser: Parser) -> str:
    name = parser._document.name
    if name.startswith("<"):
        return ""
    try:
        return Path(name).read_text("utf-8-sig")
    except (OSError, UnicodeDecodeError):
        return ""
