"""What came of teaching: the new parser file, what the field is in the whole sample, and what to look at first."""

from __future__ import annotations

import dataclasses
import difflib
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from kinglet.drafting.report import Doubt
from kinglet.errors import OutputError

if TYPE_CHECKING:
    from kinglet.parser import Parser


@dataclass(frozen=True)
class Matched:
    """What the field is in the events of one variant.

    context: the variant; "" for events that none reads. marked: whether a mark stands in it. count: events that have
    the field, of so many. values: the commonest with their counts. lines: of some events that have it.
    """

    context: str
    marked: bool
    count: int
    of: int
    values: list[tuple[str, int]]
    lines: list[int]


@dataclass(frozen=True)
class Lesson:
    """A parser that was taught a field.

    name: its file. how: what was done to it, in words. text: the file, before and as it is now. events: of the sample;
    taught: those that have the field. doubts: what to look at, the most doubtful first.
    """

    name: str
    field: str
    how: list[str]
    before: str
    text: str
    events: int
    taught: int
    matches: list[Matched]
    doubts: list[Doubt] = dataclasses.field(default_factory=list)
    cases: int = 0

    @property
    def parser(self) -> Parser:
        """The parser that was taught."""
        from kinglet.parser import load_text

        return load_text(self.text, self.name)

    @property
    def diff(self) -> str:
        """What changes in the file, as a unified diff."""
        old, new = self.before.splitlines(keepends=True), self.text.splitlines(keepends=True)
        return "".join(difflib.unified_diff(old, new, self.name, self.name, n=2))

    def save(self) -> None:
        """Writes the file.

        Raises:
            OutputError: it cannot be written.
        """
        try:
            Path(self.name).write_text(self.text, encoding="utf-8", newline="\n")
        except OSError as error:
            raise OutputError(
                f"{self.name}: cannot be written: {error.strerror}", "look at it with --dry-run"
            ) from None

    def _repr_html_(self) -> str:
        from kinglet.notebook.html import lesson_html

        return lesson_html(self)

    def to_dict(self) -> dict[str, Any]:
        """Plain values, as `--json` prints them."""
        return {**asdict(self), "diff": self.diff}
