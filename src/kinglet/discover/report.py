"""What a look at a log finds: plain values, each with its evidence, ready to be shown or written as JSON."""

from __future__ import annotations

from dataclasses import asdict, dataclass, field
from datetime import datetime
from typing import Any


@dataclass(frozen=True)
class Anomaly:
    """Something to know of before trusting the rest; lines are numbers of some lines that show it."""

    what: str
    count: int
    lines: list[int] = field(default_factory=list)


@dataclass(frozen=True)
class Basics:
    """Size and form of the log itself. lines is counted, or where the sample is not all of it estimated."""

    size: int | None
    lines: int
    lines_estimated: bool
    packing: str | None
    encoding: str
    encoding_evidence: str
    line_ends: dict[str, int]
    longest_line: int
    longest_line_number: int
    empty_lines: int
    anomalies: list[Anomaly]


@dataclass(frozen=True)
class Container:
    """The form that the log as a whole has. share is of lines, or of bytes, as basis says."""

    name: str
    share: float
    basis: str
    details: str
    columns: list[str] = field(default_factory=list)


@dataclass(frozen=True)
class Boundary:
    """A way to cut the log into events. explained is the share of lines that it makes sense of."""

    events: dict[str, Any]
    count: int
    explained: float
    multi_line: float
    evidence: str
    wrong: str = ""


@dataclass(frozen=True)
class StampPlace:
    """A place in the events at which a stamp stands."""

    place: str
    form: str
    format: str
    example: str
    share: float
    zone: str
    first: datetime | None
    last: datetime | None
    rising: float | None
    ambiguity: str = ""
    decided: bool = True
    """Whether what `ambiguity` tells is settled by the log."""
    apart: str = ""
    reason: str = ""
    is_time: bool = False
    unreadable: int = 0


@dataclass(frozen=True)
class ShapeColumn:
    """A varying part of a shape: its type and its values."""

    name: str
    type: str
    distinct: int
    examples: list[str]
    about: str


@dataclass(frozen=True)
class Pair:
    """Two columns that belong together: each value of one has one value of the other, but for some."""

    one: str
    many: str
    relation: str
    exceptions: int
    of: int
    examples: list[str]


@dataclass(frozen=True)
class Shape:
    """Lines of the same form."""

    text: str
    count: int
    share: float
    example: str
    line: int
    columns: list[ShapeColumn] = field(default_factory=list)


@dataclass(frozen=True)
class Ready:
    """A parser that exists already and reads the log: its share of complete events, and the text that it claims."""

    parser: str
    complete: float
    claims: str | None = None


@dataclass(frozen=True)
class Look:
    """All that a look found."""

    name: str
    files: int
    looked_at: str
    whole: bool
    basics: Basics
    container: Container | None
    boundaries: list[Boundary]
    events: int
    stamps: list[StampPlace]
    shapes: list[Shape]
    shape_count: int
    pairs: list[Pair]
    suggestion: str
    command: str
    ready: list[Ready]

    def to_dict(self) -> dict[str, Any]:
        """Plain values, as `--json` prints them."""
        return asdict(self)
