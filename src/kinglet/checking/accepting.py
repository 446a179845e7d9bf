"""What cases give now, written into the parser file as what they expect; comments and order stay."""

from __future__ import annotations

import difflib
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import date, datetime
from pathlib import Path
from typing import Any

from kinglet.discover.yaml_text import scalar
from kinglet.drafting.editing import node_at, with_key, with_value, without_key
from kinglet.errors import OutputError, UsageError
from kinglet.insight.cases import CaseDifference, CaseOutcome, check_cases
from kinglet.parser import Parser
from kinglet.spec.document import KeyPath


@dataclass(frozen=True)
class Accepted:
    """A parser file before and after; cases: the numbers of those that are changed."""

    file: str
    before: str
    after: str
    cases: list[int]

    def diff(self) -> Iterator[str]:
        """The lines that change, with those around them."""
        before, after = self.before.splitlines(), self.after.splitlines()
        yield from difflib.unified_diff(before, after, self.file, self.file, "before", "after", n=1, lineterm="")

    def write(self) -> None:
        """Writes the file.

        Raises:
            OutputError: it cannot be written.
        """
        write_text(Path(self.file), self.after)


def write_text(path: Path, text: str) -> None:
    """Writes a parser file.

    Raises:
        OutputError: it cannot be written.
    """
    try:
        path.write_text(text, encoding="utf-8", newline="")
    except OSError as error:
        raise OutputError(f"{path}: cannot be written: {error.strerror}") from None


def text_of(parser: Parser) -> str:
    """The text of a parser's file.

    Raises:
        UsageError: it has none.
    """
    path = Path(parser._document.name)
    if not path.is_file():
        raise UsageError(f"{parser._document.name} is no file that could be changed", "name the path of a parser file")
    with path.open(encoding="utf-8-sig", newline="") as file:
        return file.read()


def accept(parser: Parser) -> Accepted:
    """The file of a parser with what its cases give now; a case that is good stays as it is.

    Raises:
        UsageError: the parser has no file, a value stands there in several lines, or the case is the base's.
    """
    before = text = text_of(parser)
    changed = [outcome for outcome in check_cases(parser) if not outcome.good]
    base = parser._document.base
    if base is not None and any(outcome.number > len(base.written.get("cases") or ()) for outcome in changed):
        message = f"a case of {base.name}, which {parser.name} extends, is no longer good"
        raise UsageError(message, "give a case of your own for the same event; it stands for that of the base")
    for outcome in changed:
        for difference in outcome.differences:
            text = _accepted(text, outcome, difference)
    return Accepted(parser._document.name, before, text, [outcome.number for outcome in changed])


def _accepted(text: str, outcome: CaseOutcome, item: CaseDifference) -> str:
    case: KeyPath = ("cases", outcome.number - 1)
    section = "model" if item.of_model else "expect"
    path: KeyPath = (*case, section, item.name)
    if item.name == "state" and item.name not in outcome.case.expect:
        state, _, faults = str(item.got).partition(" ")
        text = with_key(text, (*case, "expect"), "state", scalar(state))
        return with_key(text, (*case, "expect"), "faults", scalar(faults.strip("()")))
    written = next((name for name in getattr(outcome.case, section) if name in (item.written, item.name)), item.name)
    path = (*case, section, written)
    if item.unknown:
        return without_key(text, path)
    if node_at(text, path) is None:
        return text
    return with_value(text, path, scalar(_plain(item.got)))


def _plain(value: Any) -> Any:
    """A value as a case writes it."""
    if isinstance(value, list) and all(isinstance(one, str) for one in value):
        return " ".join(value)
    return value.isoformat() if isinstance(value, date | datetime) else value
