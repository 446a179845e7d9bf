"""A parser as it is being drafted: what stands in its file, before it is text."""

from __future__ import annotations

import dataclasses
from dataclasses import dataclass
from typing import Any, NamedTuple

from kinglet.discover.structured import Structured
from kinglet.drafting.patterns import Slot, Written


@dataclass
class Variant:
    """A variant of a draft: rows are those of its events in the sample, in the order of its slots' values.

    written: its pattern, of the field `field` where that is given; none where its kind tells it, or its structure.
    fields: what it has of the structure.
    """

    name: str
    written: Written | None
    rows: list[int]
    kinds: list[str] = dataclasses.field(default_factory=list)
    notes: list[str] = dataclasses.field(default_factory=list)
    field: str | None = None
    fields: list[Slot] = dataclasses.field(default_factory=list)
    mapping: dict[str, Any] | None = None
    suggested: list[tuple[str, dict[str, Any]]] = dataclasses.field(default_factory=list)

    @property
    def pattern(self) -> str:
        """The pattern as the file has it."""
        return self.written.pattern if self.written is not None else ""

    @property
    def slots(self) -> list[Slot]:
        """The slots of its pattern."""
        return self.written.slots if self.written is not None else []

    @property
    def everything(self) -> list[Slot]:
        """The slots of its pattern, and its fields of structure."""
        return [*self.slots, *self.fields]

    @property
    def words(self) -> str:
        """What is said of it in words: its fixed text, or its kinds."""
        return self.written.words if self.written is not None else " ".join(self.kinds)


class Aside(NamedTuple):
    """A variant for lines about the log itself, which are dropped: its name, its pattern, and such a line."""

    name: str
    pattern: str
    line: str


@dataclass
class Shape:
    """A parser that is being drafted.

    notes: what is unsure, by the section of the file that it is about: `events`, `time`, `event` or `messages`. syslog:
    the head of syslog that its events have, instead of an envelope; parameters: the fields of its structured data, and
    their keys. event: the mapping that all variants share. aside:
    lines that are dropped.
    """

    name: str
    vendor: str
    product: str
    events: dict[str, Any]
    structure: Structured | None = None
    time: dict[str, Any] | None = None
    notes: dict[str, list[str]] = dataclasses.field(default_factory=dict)
    envelope: Written | None = None
    syslog: str | None = None
    parameters: list[tuple[Slot, str]] = dataclasses.field(default_factory=list)
    types: dict[str, str] = dataclasses.field(default_factory=dict)
    parts: dict[str, str] = dataclasses.field(default_factory=dict)
    kind: str | None = None
    kind_is_number: bool = False
    variants: list[Variant] = dataclasses.field(default_factory=list)
    aside: list[Aside] = dataclasses.field(default_factory=list)
    event: dict[str, Any] | None = None
    cases: list[dict[str, Any]] = dataclasses.field(default_factory=list)
