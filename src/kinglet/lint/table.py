"""All rules of lint, in the order in which they are documented."""

from __future__ import annotations

from collections.abc import Iterator

from kinglet.errors import UsageError, did_you_mean
from kinglet.lint.rule import Found, LintRule, Subject
from kinglet.lint.rules import cases, folder, mapping, regexes, speed, times, unused, variants


def _none(subject: Subject) -> Iterator[Found]:
    """Judged where the comments are read."""
    return iter(())


_OF_COMMENTS = (
    LintRule(
        "A01", "comment that allows nothing", "warning",
        "a `# kinglet: allow` without a code, without a reason, or with a code that no rule has",
        "write `# kinglet: allow CODE reason`",
        _none,
    ),
    LintRule(
        "A02", "comment no longer needed", "note",
        "a `# kinglet: allow` at a place where its rule finds nothing",
        "leave it out",
        _none,
    ),
)  # fmt: skip

RULES: tuple[LintRule, ...] = (
    *variants.RULES,
    *regexes.RULES,
    *speed.RULES,
    *times.RULES,
    *mapping.RULES,
    *cases.RULES,
    *unused.RULES,
    *folder.RULES,
    *_OF_COMMENTS,
)
FAMILIES = {
    "V": "variants", "R": "regexes and patterns", "S": "speed", "T": "times", "M": "mapping", "C": "cases",
    "U": "what is not used", "F": "the folder", "A": "comments that allow",
}  # fmt: skip


def chosen(select: str | None, ignore: str | None) -> tuple[LintRule, ...]:
    """The rules of a choice: codes or their beginnings, with commas between; all unless some are selected.

    Raises:
        UsageError: no rule has such a code.
    """
    wanted, unwanted = (_codes(given) for given in (select, ignore))
    return tuple(
        rule
        for rule in RULES
        if (select is None or rule.code.startswith(wanted)) and not (unwanted and rule.code.startswith(unwanted))
    )


def _codes(given: str | None) -> tuple[str, ...]:
    codes = tuple(code.strip().upper() for code in (given or "").split(",") if code.strip())
    for code in codes:
        if not any(rule.code.startswith(code) for rule in RULES):
            hint = did_you_mean(code, [rule.code for rule in RULES], "they begin with " + ", ".join(
                f"{letter} ({what})" for letter, what in FAMILIES.items()
            ))  # fmt: skip
            raise UsageError(f"no rule has the code `{code}`", hint)
    return codes
