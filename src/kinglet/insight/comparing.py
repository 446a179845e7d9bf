"""Events of two versions of a parser, joined by where they stand: what is read better or worse."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple

import polars as pl

from kinglet.insight.needs import Need

_PLACE = ["file", "offset"]
_NOT_COMPARED = {
    "parser", "version", "id", "line", "raw", "state", "variant", "faults", "time_rule", "time_notes", "time",
}  # fmt: skip
ATTRIBUTE = "~"
"""What stands before the name of a column that is an attribute of the mapped event."""
_EXAMPLES = 3


class Example(NamedTuple):
    """An event that differs, and the value that it had and has."""

    file: str
    line: int
    before: str | None
    now: str | None


class ValueChange(NamedTuple):
    """Events that have a field now only, had it before only, or have another value in it; a place of one.

    lost_whole: of those that lost it how many are complete before and now; whole: the same of all of them.
    """

    name: str
    gained: int
    lost: int
    changed: int
    file: str
    line: int
    lost_whole: int = 0
    whole: int = 0
    examples: tuple[Example, ...] = ()


class Moved(NamedTuple):
    """Events that went from one state, or variant, to another; a place of one."""

    before: str
    now: str
    events: int
    file: str
    line: int


class RuleChange(NamedTuple):
    """Events that a rule finds in one version only; a place of one."""

    rule: str
    gained: int
    lost: int
    file: str
    line: int


@dataclass(frozen=True)
class Comparison:
    """What differs between two versions of a parser.

    counts: events by state, before and now. cut: events that one of them cuts otherwise. states, variants: those that
    moved. fields: those that changed; filled: the same of attributes of mapped events; time: the same of the event's
    time. attributes: by message those that its mapping fills no more, and those that it fills now. rules: before and
    now; found: which events rules find. parsers: names of those that are gone, and of those that are new. microseconds:
    that each version takes for an event, on one processor.
    """

    counts: tuple[dict[str, int], dict[str, int]]
    cut: int
    states: tuple[Moved, ...]
    variants: tuple[Moved, ...]
    fields: tuple[ValueChange, ...]
    attributes: dict[str, tuple[list[str], list[str]]]
    rules: tuple[tuple[Need, Need], ...]
    filled: tuple[ValueChange, ...] = ()
    time: tuple[ValueChange, ...] = ()
    found: tuple[RuleChange, ...] = ()
    parsers: tuple[list[str], list[str]] = ((), ())  # type: ignore[assignment]
    microseconds: tuple[float, float] | None = None

    @property
    def worse(self) -> int:
        """Events that were complete and are not any more, and rules that go blind."""
        events = sum(item.events for item in self.states if item.before == "complete" and item.now != "dropped")
        return events + sum(now.blind and not before.blind for before, now in self.rules)

    @property
    def same(self) -> bool:
        """Whether nothing differs."""
        differences = (self.cut, self.states, self.variants, self.fields, self.attributes, self.filled, self.time)
        others = (self.found, *self.parsers)
        return not any((*differences, *others)) and all(before.blind == now.blind for before, now in self.rules)


NOTHING = Comparison(({"events": 0}, {"events": 0}), 0, (), (), (), {}, ())


def compare_events(before: pl.DataFrame, now: pl.DataFrame) -> Comparison:
    """Joins events of the same logs by where they stand; nothing is said of mappings and rules.

    Columns that begin with `ATTRIBUTE` are attributes.
    """
    both = before.join(now, on=_PLACE, how="inner", suffix=" now", maintain_order="left")
    changes = list(_changes(both, before.columns, now.columns))
    return replace(
        NOTHING,
        counts=(_counts(before), _counts(now)),
        cut=before.height + now.height - 2 * both.height,
        states=tuple(_moved(both, "state")),
        variants=tuple(_moved(both, "variant")),
        time=tuple(one for one in changes if one.name == "time"),
        fields=tuple(one for one in changes if one.name != "time" and one.name[0] != ATTRIBUTE),
        filled=tuple(one._replace(name=one.name[1:]) for one in changes if one.name[0] == ATTRIBUTE),
    )


def total(found: Iterable[Comparison]) -> Comparison:
    """Comparisons of parts of logs as one of all."""
    counts: tuple[Counter[str], Counter[str]] = (Counter(events=0), Counter(events=0))
    moved: tuple[dict[tuple[str, str], Moved], dict[tuple[str, str], Moved]] = ({}, {})
    values: tuple[dict[str, ValueChange], ...] = ({}, {}, {})
    rules: dict[str, RuleChange] = {}
    cut = 0
    for one in found:
        cut += one.cut
        for whole, part in zip(counts, one.counts, strict=True):
            whole.update(part)
        for moves, parts in zip(moved, (one.states, one.variants), strict=True):
            for item in parts:
                first = moves.get((item.before, item.now))
                moves[item.before, item.now] = first._replace(events=first.events + item.events) if first else item
        for changes, of_part in zip(values, (one.fields, one.filled, one.time), strict=True):
            for change in of_part:
                changes[change.name] = _sum(changes[change.name], change) if change.name in changes else change
        for rule in one.found:
            before = rules.get(rule.rule)
            rules[rule.rule] = (
                before._replace(gained=before.gained + rule.gained, lost=before.lost + rule.lost) if before else rule
            )
    states, variants = (tuple(sorted(moves.values(), key=lambda item: -item.events)) for moves in moved)
    fields, filled, time = (tuple(changes.values()) for changes in values)
    in_order = tuple({"events": whole.pop("events"), **dict(sorted(whole.items()))} for whole in counts)
    return replace(
        NOTHING,
        counts=(in_order[0], in_order[1]), cut=cut, states=states, variants=variants, fields=fields, filled=filled,
        time=time, found=tuple(rules.values()),
    )  # fmt: skip


def _sum(one: ValueChange, other: ValueChange) -> ValueChange:
    return one._replace(
        gained=one.gained + other.gained,
        lost=one.lost + other.lost,
        changed=one.changed + other.changed,
        lost_whole=one.lost_whole + other.lost_whole,
        whole=one.whole + other.whole,
        examples=(*one.examples, *other.examples)[:_EXAMPLES],
    )


def _counts(events: pl.DataFrame) -> dict[str, int]:
    found = dict(events["state"].cast(pl.String).value_counts().iter_rows())
    return {"events": events.height, **{str(state): int(count) for state, count in sorted(found.items())}}


def _moved(both: pl.DataFrame, name: str) -> Iterator[Moved]:
    before, now = (pl.col(one).cast(pl.String).fill_null("none") for one in (name, f"{name} now"))
    found = (
        both.filter(before != now)
        .group_by(before.alias("before"), now.alias("now"), maintain_order=True)
        .agg(pl.len().alias("events"), pl.col("file").first(), pl.col("line").first())
        .sort("events", descending=True, maintain_order=True)
    )
    return (Moved(*row) for row in found.iter_rows())


def _changes(both: pl.DataFrame, before: Sequence[str], now: Sequence[str]) -> Iterator[ValueChange]:
    names = [name for name in dict.fromkeys((*before, *now)) if name not in (*_PLACE, *_NOT_COMPARED)]
    whole: pl.Series | None = None
    for name in ("time", *names):
        if name == "time" and not ("time" in before and "time" in now):
            continue
        nothing = pl.Series([None], dtype=pl.String).new_from_index(0, both.height)
        old = _text(both[name]) if name in before else nothing
        new = nothing if name not in now else _text(both[f"{name} now"] if name in before else both[name])
        gained, lost = old.is_null() & new.is_not_null(), old.is_not_null() & new.is_null()
        changed = (old != new).fill_null(False)
        either = gained | lost | changed
        if not either.any():
            continue
        if whole is None:
            whole = (both["state"] == "complete") & (both["state now"] == "complete")
        places = both.select("file", "line").with_columns(old.alias("before"), new.alias("now")).filter(either)
        examples = tuple(Example(*row) for row in places.head(_EXAMPLES).iter_rows())
        yield ValueChange(
            name, int(gained.sum()), int(lost.sum()), int(changed.sum()), examples[0].file, examples[0].line,
            int((lost & whole).sum()), int((either & whole).sum()), examples,
        )  # fmt: skip


def _text(column: pl.Series) -> pl.Series:
    """Values as text, so that those of other types can be compared: 7 is 7, whether a number or not."""
    if isinstance(column.dtype, pl.List):
        return column.cast(pl.List(pl.String)).list.join(" ")
    if isinstance(column.dtype, pl.Datetime):
        return column.dt.to_string("%Y-%m-%d %H:%M:%S%.fZ")
    return column.cast(pl.String)
