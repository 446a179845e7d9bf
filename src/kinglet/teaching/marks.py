"""Marks: what a person shows of a log."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

import polars as pl

from kinglet.errors import UsageError
from kinglet.plan.data import name_problem

_MARK = re.compile(r"(?P<line>[0-9]+):(?P<field>[^=]+)=(?P<text>.+)", re.DOTALL)
_NOT = re.compile(r"(?P<line>[0-9]+):(?P<field>[^=]+)")


@dataclass(frozen=True)
class Mark:
    """An example: the text that a field has in the event of a line. Without a text it is to have none there.

    line: the number of a line of the event, from 1.
    """

    line: int
    field: str
    text: str | None

    def __str__(self) -> str:
        return f"{self.line}:{self.field}" + (f"={self.text}" if self.text is not None else "")


def read_mark(text: str) -> Mark:
    """The mark that `LINE:FIELD=TEXT` says.

    Raises:
        UsageError: it is none.
    """
    match = _MARK.fullmatch(text)
    if match is None:
        raise UsageError(f"`{text}` is no mark", "write it as LINE:FIELD=TEXT, such as 3:user=m.okoro")
    return Mark(int(match["line"]), match["field"].strip(), match["text"])


def read_not(text: str) -> Mark:
    """The mark that `LINE:FIELD` says of an event in which nothing is to be taken.

    Raises:
        UsageError: it is none.
    """
    match = _NOT.fullmatch(text)
    if match is None:
        raise UsageError(f"`{text}` does not say where nothing is to be taken", "write it as LINE:FIELD")
    return Mark(int(match["line"]), match["field"].strip(), None)


def field_of_marks(marks: Sequence[Mark]) -> str:
    """The one field that marks are of.

    Raises:
        UsageError: there is no mark with a text, they are of several fields, or no field can have the name.
    """
    if not any(mark.text for mark in marks):
        raise UsageError("teach needs a mark", "show the text of a field in a line: --mark 3:user=m.okoro")
    fields = list(dict.fromkeys(mark.field for mark in marks))
    if len(fields) > 1:
        raise UsageError(f"the marks are of {', '.join(fields)}", "teach one field at a time")
    problem = name_problem(fields[0])
    if problem is not None:
        raise UsageError(*problem)
    if not re.fullmatch(r"[A-Za-z_][A-Za-z0-9_.]*", fields[0]):
        raise UsageError(f"`{fields[0]}` is no name of a field", "use letters, digits and _, and a letter first")
    return fields[0]


def rows_of(marks: Sequence[Mark], events: pl.DataFrame) -> dict[Mark, int]:
    """The event of each mark, by its number among those parsed.

    Raises:
        UsageError: the log has no such line, its event has no such text, or two marks contradict each other.
    """
    lines, raw = events["line"], events["raw"]
    found: dict[Mark, int] = {}
    by_row: dict[int, Mark] = {}
    for mark in marks:
        row = int(lines.search_sorted(mark.line, side="right")) - 1
        if mark.line < 1 or row < 0 or (row == events.height - 1 and mark.line > _last(events)):
            raise UsageError(f"{mark}: the log has no line {mark.line:,}", f"its last is {_last(events):,}")
        if mark.text is not None and mark.text not in str(raw[row]):
            first = str(raw[row]).split("\n", 1)[0][:80]
            raise UsageError(f"{mark}: `{mark.text}` does not stand in that event", f"the line is `{first}`")
        other = by_row.setdefault(row, mark)
        if other.text != mark.text:
            raise UsageError(f"{other} and {mark} contradict each other: they are one event", "leave one out")
        found[mark] = row
    return found


def _last(events: pl.DataFrame) -> int:
    return int(events["line"][-1]) + str(events["raw"][-1]).count("\n")
