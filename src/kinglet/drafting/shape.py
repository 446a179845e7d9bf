"""A parser as it is being drafted: what stands in its file, before it is text."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from kinglet.drafting.patterns import Written


@dataclass
class Variant:
    """A variant of a draft: rows are those of its events in the sample, in the order of its slots' values."""

    name: str
    written: Written
    rows: list[int]
    kinds: list[str] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)

    @property
    def pattern(self) -> str:
        """The pattern as the file has it."""
        return self.written.pattern


@dataclass
class Shape:
    """A parser that is being drafted. syslog: the head of syslog that its events have, instead of an envelope."""

    name: str
    vendor: str
    product: str
    events: dict[str, Any]
    time: dict[str, Any] | None = None
    time_notes: list[str] = field(default_factory=list)
    envelope: Written | None = None
    syslog: str | None = None
    kind: str | None = None
    kind_is_number: bool = False
    variants: list[Variant] = field(default_factory=list)
    cases: list[dict[str, Any]] = field(default_factory=list)
