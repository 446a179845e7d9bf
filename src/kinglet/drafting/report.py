"""What a draft is: the parser file, what it rests on, and what its maker has to decide."""

from __future__ import annotations

from dataclasses import asdict, dataclass, field
from typing import TYPE_CHECKING, Any

from kinglet.discover.report import Ready

if TYPE_CHECKING:
    from kinglet.parser import Parser


@dataclass(frozen=True)
class Doubt:
    """Something that the log does not say; lines are numbers of some lines that show it. mend: what to do about it."""

    about: str
    what: str
    mend: str = ""
    lines: list[int] = field(default_factory=list)

    @property
    def text(self) -> str:
        """What is in doubt, with the lines that show it."""
        known = [f"{line:,}" for line in self.lines if line]
        return self.what + (f" ({'line' if len(known) == 1 else 'lines'} {', '.join(known)})" if known else "")


@dataclass(frozen=True)
class DraftedMessage:
    """A message of the log: the variant that reads it, how many events of the log it has, and one of them."""

    variant: str
    pattern: str
    count: int
    share: float
    example: str
    line: int
    fields: list[str] = field(default_factory=list)
    classes: list[str] = field(default_factory=list)


@dataclass(frozen=True)
class Draft:
    """A first parser of a log.

    stem: what the parser is called. text: the parser file; cut, time, envelope, kind: what it says of these. events:
    how many were looked at; complete: how many of them the parser reads wholly, partial: only their front part. left:
    events of messages beyond the most that were wanted. others: drafts for the other devices of the log.
    """

    name: str
    stem: str
    text: str
    cut: str
    time: str
    envelope: str
    kind: str
    events: int
    complete: int
    partial: int
    unmatched: int
    messages: list[DraftedMessage]
    doubts: list[Doubt]
    ready: list[Ready]
    cases: int
    left: int = 0
    others: list[Draft] = field(default_factory=list)

    @property
    def share(self) -> float:
        """The share of events that are complete."""
        return self.complete / self.events if self.events else 0.0

    @property
    def parser(self) -> Parser:
        """The parser, loaded."""
        from kinglet.parser import load

        return load(self.text)

    def _repr_html_(self) -> str:
        from kinglet.notebook.html import draft_html

        return draft_html(self)

    def to_dict(self) -> dict[str, Any]:
        """Plain values, as `--json` prints them."""
        return asdict(self)
