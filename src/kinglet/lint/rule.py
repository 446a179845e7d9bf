"""What a rule is, what it finds, and what it is given to look at."""

from __future__ import annotations

import dataclasses
import functools
import re
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Literal, NamedTuple

import polars as pl

from kinglet.errors import Place
from kinglet.generating.events import Made, Maker
from kinglet.insight.cases import events_of
from kinglet.spec.document import KeyPath

if TYPE_CHECKING:
    from kinglet.insight.needs import Rule as DetectionRule
    from kinglet.parser import Parser

Severity = Literal["error", "warning", "note"]
_MADE = 6


class Found(NamedTuple):
    """What a rule finds: the path of a key in the parser file, what is wrong there, how to mend it.

    offset: the character of the key's text that it begins at, where one is to blame.
    """

    path: KeyPath
    message: str
    mend: str
    offset: int = -1


@dataclass(frozen=True)
class Finding:
    """A finding of a rule at a place of a parser file."""

    code: str
    title: str
    severity: Severity
    place: Place
    key: str
    message: str
    mend: str


class LintRule(NamedTuple):
    """A rule. looks_for and mend stand in the documents; judge finds."""

    code: str
    title: str
    severity: Severity
    looks_for: str
    mend: str
    judge: Callable[[Subject], Iterator[Found]]


class Taken(NamedTuple):
    """An event that was made for a variant, and the variant that read it, None where none did."""

    made: Made
    variant: int | None
    state: str
    event: dict[str, Any]


class Subject:
    """A parser that is looked at, with all that rules may want to know of it.

    folder: the parsers that stand beside it. samples: events of logs that it parsed. rules: what its events feed.
    former: what its file was when it was last kept under version control.
    """

    def __init__(
        self,
        parser: Parser,
        folder: Sequence[Parser] = (),
        *,
        samples: pl.DataFrame | None = None,
        rules: Sequence[DetectionRule] = (),
        former: dict[str, Any] | None = None,
    ) -> None:
        self.parser, self.folder, self.samples, self.rules, self.former = parser, folder, samples, rules, former
        self.plan, self.definition, self.document = parser._plan, parser._definition, parser._document

    @functools.cached_property
    def cases(self) -> list[dict[str, Any]]:
        """The events of its cases, by column."""
        return list(events_of(self.parser).iter_rows(named=True))

    @functools.cached_property
    def maker(self) -> Maker:
        """Makes events of it, with timestamps such as its cases have."""
        stamps: dict[str, list[str]] = {}
        for rule in self.plan.times:
            for slot in rule.slots:
                texts = [event[slot] for event in self.cases if slot is not None and isinstance(event.get(slot), str)]
                if slot is not None and texts and not rule.searches:
                    stamps[slot] = texts
        return Maker(self.parser, stamps)

    @functools.cached_property
    def made(self) -> list[Taken]:
        """Events made for its variants: with all optional parts, with none, and some by chance."""
        return self.read([made for i in range(len(self.plan.variants)) for made in self.maker.several(i, _MADE)])

    @functools.cached_property
    def timeless(self) -> Parser:
        """The same parser without rules for stamps: which variant reads an event, its time does not tell."""
        return dataclasses.replace(self.parser, _plan=self.plan._replace(times=()))

    def read(self, made: Sequence[Made]) -> list[Taken]:
        """What becomes of events that were made."""
        if not made:
            return []
        events = self.timeless.parse([one.raw for one in made], workers=1).events
        names = {variant.name: i for i, variant in enumerate(self.plan.variants)}
        return [
            Taken(one, names.get(row["variant"] or ""), str(row["state"]), row)
            for one, row in zip(made, events.iter_rows(named=True), strict=True)
        ]

    def values(self, variant: str, name: str) -> list[Any]:
        """The values of a field in the cases of a variant."""
        return [event[name] for event in self.cases if event["variant"] == variant and event.get(name) is not None]


def short(text: str, most: int = 100) -> str:
    """A text in backquotes, on one line."""
    one = text.replace("\n", "⏎").replace("\t", "⇥")
    return f"`{one if len(one) <= most else one[: most - 1] + '…'}`"


def alternatives(regex: str | None, name: str) -> list[str]:
    """The words that a group of a regex can be, where it is nothing but words."""
    match = re.search(rf"\(\?P<{re.escape(name)}>(?:\(\?:)?(\w+(?:\|\w+)+)\)", regex or "")
    return match[1].split("|") if match else []
