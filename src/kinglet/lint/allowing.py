"""Comments in a parser file that silence a rule at one place: `# kinglet: allow V03 the panel sends both`."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from kinglet.errors import Place
from kinglet.lint.rule import Finding

_COMMENT = re.compile(r"#\s*kinglet:\s*allow\b[ \t]*(?P<code>[A-Za-z]\d+)?[ \t]*(?P<reason>[^#\n]*)")


@dataclass
class Allowed:
    """A comment: its code, the reason that it gives, the lines that it holds for, and whether it was needed."""

    code: str
    reason: str
    place: Place
    lines: tuple[int, ...]
    used: bool = False


def allowed(text: str, name: str) -> list[Allowed]:
    """The comments of a file. One behind a value holds for its line; one on a line of its own for the next line too."""
    lines = text.split("\n")
    found = []
    for number, line in enumerate(lines, 1):
        for match in _COMMENT.finditer(line):
            own = not line[: match.start()].strip()
            below = next(
                (i for i in range(number, len(lines)) if lines[i].strip() and lines[i].strip()[0] != "#"), None
            )
            held = (number, below + 1) if own and below is not None else (number,)
            found.append(
                Allowed(
                    (match["code"] or "").upper(), match["reason"].strip(), Place(name, number, match.start() + 1), held
                )
            )
    return found


def without_allowed(findings: Sequence[Finding], comments: Sequence[Allowed]) -> list[Finding]:
    """Findings but for those that a comment silences; the comments that do are marked."""
    kept = []
    for finding in findings:
        silent = [
            one
            for one in comments
            if (one.code, one.place.file) == (finding.code, finding.place.file)
            and finding.place.line in one.lines
            and one.reason
        ]
        for one in silent:
            one.used = True
        if not silent:
            kept.append(finding)
    return kept


def of_comments(comments: Sequence[Allowed], codes: Sequence[str]) -> Iterator[tuple[str, Place, str, str]]:
    """What is wrong with the comments themselves: code, place, what is wrong, how to mend it."""
    for one in comments:
        if one.code not in codes:
            what = f"there is no rule `{one.code}`" if one.code else "names no rule"
            yield "A01", one.place, what, "write `# kinglet: allow CODE reason`; docs/lint.md lists the codes"
        elif not one.reason:
            yield "A01", one.place, f"gives no reason for allowing {one.code}", "say in a few words why it is meant so"
        elif not one.used:
            yield "A02", one.place, f"{one.code} finds nothing here", "leave the comment out"
