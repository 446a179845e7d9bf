"""A parser that is being taught: its file, the events it reads, and whether a change does what it should."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

import polars as pl

from kinglet.calls import ReferenceTime
from kinglet.drafting.editing import inserted, is_listed
from kinglet.errors import KingletError, UsageError
from kinglet.names import RESERVED, field_of
from kinglet.parser import Parser, load_text
from kinglet.teaching.unnamed import Unnamed, unnamed


@dataclass(frozen=True)
class Change:
    """A changed parser file. how: what was done, in words. handled: the marked events of the sample that it is for."""

    text: str
    how: str
    handled: frozenset[int]


class Trial:
    """The parser, and a sample of events on which changes are tried.

    raw: the events of the sample. wanted: what the field is to be in some of them, by their numbers in it.
    kind, variant: the type of slot, and the name of a variant that is added, where they are said.
    """

    def __init__(
        self,
        text: str,
        name: str,
        field: str,
        raw: pl.Series,
        wanted: Mapping[int, str | None],
        *,
        reference: ReferenceTime = None,
        zone: str | None = None,
        kind: str | None = None,
        variant: str | None = None,
    ) -> None:
        self.text = text
        self.name = name
        self.field = field
        self.raw = raw
        self.wanted = wanted
        self.reference = reference
        self.zone = zone
        self.kind = kind
        self.variant = variant
        self.parser = load_text(text, name)
        self.events = self.parsed(self.parser)

    @cached_property
    def unnamed(self) -> list[Unnamed]:
        """The slots that the parser reads and does not keep."""
        return unnamed(self.parser, self.raw, self.reference)

    def parsed(self, parser: Parser) -> pl.DataFrame:
        """The sample as a parser reads it."""
        return parser.parse_column(self.raw, reference_time=self.reference, zone=self.zone).events

    def good(self, change: Change) -> bool:
        """Whether a change does what the marks say, and leaves everything else as it is."""
        try:
            events = self.parsed(load_text(change.text, self.name))
        except KingletError:
            return False
        name = field_of(self.field)
        if name not in events.columns:
            return False
        column = events[name]
        asked = {row: text for row, text in self.wanted.items() if row in change.handled or text is None}
        return all(same(column[row], text) for row, text in asked.items()) and self._keeps(events)

    def _keeps(self, events: pl.DataFrame) -> bool:
        own = {*RESERVED, field_of(self.field), "more", self.parser._plan.body}
        for name in self.events.columns:
            if name in own:
                continue
            if name not in events.columns or not self.events[name].eq_missing(events[name]).all():
                return False
        read = self.events["state"].cast(pl.String) == "complete"
        return bool((events["state"].cast(pl.String) == "complete").filter(read).all())

    def left(self) -> set[int]:
        """The marked events in which the field is not yet what the mark says."""
        name = field_of(self.field)
        if name not in self.events.columns:
            return {row for row, text in self.wanted.items() if text is not None}
        return {row for row, text in self.wanted.items() if not same(self.events[name][row], text)}

    def values(self) -> dict[int, str]:
        """What the field is already, by the events of the sample that have it."""
        name = field_of(self.field)
        if name not in self.events.columns:
            return {}
        left = self.left()
        texts = self.events[name].cast(pl.String)
        return {row: text for row, text in enumerate(texts) if text is not None and row not in left}

    def with_steps(self, lines: Sequence[str]) -> str:
        """The file with more steps.

        Raises:
            UsageError: its steps are not written as a list of lines.
        """
        if not is_listed(self.text, "steps"):
            raise UsageError(f"{self.name}: its steps are not a list with an item a line", "write each behind a dash")
        return inserted(self.text, "steps", lines, before="cases")


def same(value: object, text: str | None) -> bool:
    """Whether a value is what a text says: numbers as numbers, the rest as it is written."""
    if value is None or text is None:
        return value is None and text is None
    if isinstance(value, bool):
        return text.lower() in (("true", "yes", "on", "1") if value else ("false", "no", "off", "0"))
    if isinstance(value, int | float):
        try:
            return float(text) == value
        except ValueError:
            return False
    return str(value) == text
