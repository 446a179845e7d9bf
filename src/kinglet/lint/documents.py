"""The table of rules as the documents have it."""

from __future__ import annotations

from kinglet.lint.table import FAMILIES, RULES


def table() -> str:
    """All rules, by family, as Markdown."""
    lines: list[str] = []
    for letter, about in FAMILIES.items():
        lines += [
            f"### {letter}: {about}",
            "",
            "| code | finding | severity | what it looks for | how to mend it |",
            "|---|---|---|---|---|",
        ]
        lines += [
            f"| {rule.code} | {rule.title} | {rule.severity} | {_cell(rule.looks_for)} | {_cell(rule.mend)} |"
            for rule in RULES
            if rule.code.startswith(letter)
        ]
        lines.append("")
    return "\n".join(lines).rstrip()


def _cell(text: str) -> str:
    return text.replace("|", "\\|")
