"""Findings as SARIF 2.1.0 (OASIS Static Analysis Results Interchange Format)."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any
from urllib.parse import quote

from kinglet.errors import Place
from kinglet.lint.rule import Finding, LintRule, Severity

_SCHEMA = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"
CASE = "CASE"
"""The rule id of a case that fails."""


def sarif(findings: Iterable[Finding], rules: Sequence[LintRule], version: str) -> dict[str, Any]:
    """A log of one run, with the rules that were asked."""
    described = [_rule(rule.code, rule.title, rule.severity, rule.looks_for, rule.mend) for rule in rules]
    described.append(
        _rule(CASE, "case fails", "error", "a case whose event is not what it expects", "mend the parser or the case")
    )
    places = {rule["id"]: i for i, rule in enumerate(described)}
    return {
        "$schema": _SCHEMA,
        "version": "2.1.0",
        "runs": [
            {
                "tool": {"driver": {"name": "kinglet", "version": version, "rules": described}},
                "columnKind": "unicodeCodePoints",
                "results": [_result(one, places) for one in findings],
            }
        ],
    }


def _rule(code: str, title: str, severity: Severity, looks_for: str, mend: str) -> dict[str, Any]:
    return {
        "id": code,
        "name": "".join(word.capitalize() for word in title.replace(",", "").split()),
        "shortDescription": {"text": title},
        "fullDescription": {"text": f"{looks_for[0].upper()}{looks_for[1:]}."},
        "help": {"text": f"{mend[0].upper()}{mend[1:]}."},
        "defaultConfiguration": {"level": severity},
    }


def _result(one: Finding, places: dict[str, int]) -> dict[str, Any]:
    return {
        "ruleId": one.code,
        **({"ruleIndex": places[one.code]} if one.code in places else {}),
        "level": one.severity,
        "message": {"text": f"{one.message}; {one.mend}" if one.mend else one.message},
        "locations": [{"physicalLocation": _location(one.place)}],
    }


def _location(place: Place) -> dict[str, Any]:
    return {
        "artifactLocation": {"uri": quote(place.file.replace("\\", "/"), safe="/:<>")},
        "region": {"startLine": max(place.line, 1), "startColumn": max(place.column, 1)},
    }
