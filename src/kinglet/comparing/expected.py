"""Changes that are meant: a file names them, and everything else fails."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path
from typing import Literal, NamedTuple

from pydantic import Field, model_validator

from kinglet.insight.comparing import Comparison, ValueChange
from kinglet.spec.loading import read_other
from kinglet.spec.section import Section

Change = Literal["gained", "lost", "other"]


class Difference(NamedTuple):
    """One thing that differs. kind: field, attribute, variant, state, time, rule, cut or parser.

    to: what a variant or state becomes. is_lost: whether something is lost by it. place: of an event that shows it.
    """

    kind: str
    name: str
    change: Change
    events: int
    is_lost: bool
    to: str = ""
    place: str = ""

    def __str__(self) -> str:
        what = f"{self.kind} {self.name} → {self.to}" if self.to else f"{self.kind} {self.name}".rstrip()
        word = {"gained": "gained", "lost": "lost", "other": "has another value"}[self.change] if not self.to else ""
        count = f" in {self.events:,} event{'s' * (self.events != 1)}" if self.events else ""
        return f"{what}{' ' + word if word else ''}{count}" + (f"  {self.place}" if self.place else "")


class ExpectedChange(Section):
    """A change that is meant: what it is about, which way, how many events at most, and why."""

    field: str | None = None
    attribute: str | None = None
    variant: str | None = None
    state: str | None = None
    rule: str | None = None
    parser: str | None = None
    time: Literal[True] | None = None
    cut: Literal[True] | None = None
    to: str | None = Field(None, description="what a variant or state becomes")
    change: Change | None = Field(None, description="gained, lost or other; any unless given")
    most: int | None = Field(None, ge=0, description="so many events at most")
    why: str = Field(min_length=1)

    @model_validator(mode="after")
    def _about_one(self) -> ExpectedChange:
        given = list(self.given(_KINDS))
        if len(given) != 1:
            raise ValueError("must name one of " + ", ".join(f"`{kind}`" for kind in _KINDS))
        if self.to is not None and given[0] not in ("variant", "state"):
            raise ValueError("has `to`, which goes with `variant` and `state`")
        return self

    def names(self, found: Difference) -> bool:
        """Whether a difference is this one."""
        ((kind, name),) = self.given(_KINDS).items()
        return (
            kind == found.kind
            and (name is True or name == found.name)
            and self.to in (None, found.to)
            and self.change in (None, found.change)
            and (self.most is None or found.events <= self.most)
        )


_KINDS = ("field", "attribute", "variant", "state", "rule", "parser", "time", "cut")


class ExpectedFile(Section):
    """A file of changes that are meant."""

    kinglet: Literal[1]
    changes: list[ExpectedChange] = Field(min_length=1)


def load_expected(path: Path) -> list[ExpectedChange]:
    """The changes that a file names.

    Raises:
        ParserFileError: the file cannot be used.
    """
    definition, _ = read_other(path, ExpectedFile, "changes")
    return definition.changes


def differences(found: Comparison) -> list[Difference]:
    """All that differs, what is lost first."""
    return sorted(_differences(found), key=lambda one: not one.is_lost)


def _differences(found: Comparison) -> Iterator[Difference]:
    for item in found.states:
        lost = item.before == "complete" and item.now != "dropped"
        change: Change = "lost" if lost else "gained" if item.now == "complete" else "other"
        yield Difference("state", item.before, change, item.events, lost, item.now, f"{item.file}:{item.line}")
    for item in found.variants:
        yield Difference("variant", item.before, "other", item.events, False, item.now, f"{item.file}:{item.line}")
    yield from _of_values("time", found.time)
    yield from _of_values("field", found.fields)
    yield from _of_values("attribute", found.filled)
    if found.cut:
        yield Difference(
            "cut", "", "other", found.cut, found.counts[1].get("complete", 0) < found.counts[0].get("complete", 0)
        )
    for before, now in found.rules:
        if now.blind and not before.blind:
            yield Difference("rule", now.rule.name, "lost", 0, True)
    for rule in found.found:
        place = f"{rule.file}:{rule.line}"
        if rule.lost:
            yield Difference("rule", rule.rule, "lost", rule.lost, True, "", place)
        if rule.gained:
            yield Difference("rule", rule.rule, "gained", rule.gained, False, "", place)
    gone, new = found.parsers
    yield from (Difference("parser", name, "lost", 0, True) for name in gone)
    yield from (Difference("parser", name, "gained", 0, False) for name in new)


def _of_values(kind: str, changes: Iterable[ValueChange]) -> Iterator[Difference]:
    for item in changes:
        name = "" if kind == "time" else item.name
        place = f"{item.file}:{item.line}"
        if item.lost:
            # where the event is not complete any more, that is what is lost
            yield Difference(kind, name, "lost", item.lost, item.lost_whole > 0, "", place)
        if item.gained:
            yield Difference(kind, name, "gained", item.gained, False, "", place)
        if item.changed:
            yield Difference(kind, name, "other", item.changed, False, "", place)


class Verdict(NamedTuple):
    """failing: differences that fail. named: those that were named. unused: named changes that did not come."""

    failing: list[Difference]
    named: list[Difference]
    unused: list[ExpectedChange]


def verdict(found: Comparison, expected: Sequence[ExpectedChange] | None) -> Verdict:
    """What fails: all that nobody named; where nothing is named at all, what is lost."""
    all_found = differences(found)
    if expected is None:
        return Verdict([one for one in all_found if one.is_lost], [], [])
    named = [one for one in all_found if any(change.names(one) for change in expected)]
    unused = [change for change in expected if not any(change.names(one) for one in all_found)]
    return Verdict([one for one in all_found if one not in named], named, unused)
