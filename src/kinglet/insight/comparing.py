"""Two versions of a parser over the same logs: what is read better or worse, and which rules that blinds."""

from __future__ import annotations

import dataclasses
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, NamedTuple

import polars as pl

from kinglet.insight.needs import Need, Rule, needs
from kinglet.source.logs import Given

if TYPE_CHECKING:
    from kinglet.calls import ReferenceTime
    from kinglet.parser import Parser


_PLACE = ["file", "offset"]
_NOT_COMPARED = {"parser", "version", "id", "line", "raw", "state", "variant", "faults", "time_rule", "time_notes"}


class ValueChange(NamedTuple):
    """Events that have a field now only, had it before only, or have another value in it; a place of one."""

    name: str
    gained: int
    lost: int
    changed: int
    file: str
    line: int


class Moved(NamedTuple):
    """Events that went from one state, or variant, to another; a place of one."""

    before: str
    now: str
    events: int
    file: str
    line: int


@dataclass(frozen=True)
class Comparison:
    """What differs between two versions of a parser.

    counts: events by state, before and now. cut: events that one of them cuts otherwise. states, variants: those that
    moved. fields: those that changed. attributes: by message those that its mapping fills no more, and those that it
    fills now. rules: before and now.
    """

    counts: tuple[dict[str, int], dict[str, int]]
    cut: int
    states: tuple[Moved, ...]
    variants: tuple[Moved, ...]
    fields: tuple[ValueChange, ...]
    attributes: dict[str, tuple[list[str], list[str]]]
    rules: tuple[tuple[Need, Need], ...]

    @property
    def worse(self) -> int:
        """Events that were complete and are not any more, and rules that go blind."""
        events = sum(item.events for item in self.states if item.before == "complete" and item.now != "dropped")
        return events + sum(now.blind and not before.blind for before, now in self.rules)

    @property
    def same(self) -> bool:
        """Whether nothing differs."""
        differences = (self.cut, self.states, self.variants, self.fields, self.attributes)
        return not any(differences) and all(before.blind == now.blind for before, now in self.rules)


def compare(
    old: Parser,
    new: Parser,
    sources: Sequence[Given],
    *,
    reference_time: ReferenceTime = None,
    rules: Sequence[Rule] = (),
) -> Comparison:
    """Parses logs with an older and a newer parser, and joins their events by where they stand.

    reference_time: near which timestamps without a year lie. rules: of which is said whether they go blind.

    Raises:
        InputError: a log cannot be read.
    """
    found = compare_events(*(_events(parser, sources, reference_time) for parser in (old, new)))
    fed = tuple(zip(needs(rules, [old]), needs(rules, [new]), strict=True))
    return dataclasses.replace(found, attributes=dict(_attributes(old, new)), rules=fed)


def compare_events(before: pl.DataFrame, now: pl.DataFrame) -> Comparison:
    """Joins events of the same logs by where they stand; nothing is said of mappings and rules."""
    both = before.join(now, on=_PLACE, how="inner", suffix=" now", maintain_order="left")
    return Comparison(
        (_counts(before), _counts(now)),
        before.height + now.height - 2 * both.height,
        tuple(_moved(both, "state")),
        tuple(_moved(both, "variant")),
        tuple(_changes(both, before.columns, now.columns)),
        {},
        (),
    )


def _events(parser: Parser, sources: Sequence[Given], reference_time: ReferenceTime) -> pl.DataFrame:
    frames = [parser.parse(source, reference_time=reference_time).events for source in sources]
    return pl.concat(frames) if frames else pl.DataFrame(schema=parser._plan.schema)


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
    for name in names:
        nothing = pl.Series([None], dtype=pl.String).new_from_index(0, both.height)
        old = _text(both[name]) if name in before else nothing
        new = nothing if name not in now else _text(both[f"{name} now"] if name in before else both[name])
        gained, lost = old.is_null() & new.is_not_null(), old.is_not_null() & new.is_null()
        changed = (old != new).fill_null(False)
        either = gained | lost | changed
        if either.any():
            file, line = both.filter(either).select("file", "line").row(0)
            yield ValueChange(name, int(gained.sum()), int(lost.sum()), int(changed.sum()), file, line)


def _text(column: pl.Series) -> pl.Series:
    """Values as text, so that those of other types can be compared: 7 is 7, whether a number or not."""
    if isinstance(column.dtype, pl.List):
        return column.cast(pl.List(pl.String)).list.join(" ")
    return column.cast(pl.String)


def _attributes(old: Parser, new: Parser) -> Iterator[tuple[str, tuple[list[str], list[str]]]]:
    before, now = _filled(old), _filled(new)
    for message in dict.fromkeys((*before, *now)):
        gone = [path for path in before.get(message, ()) if path not in now.get(message, ())]
        added = [path for path in now.get(message, ()) if path not in before.get(message, ())]
        if gone or added:
            yield message, (gone, added)


def _filled(parser: Parser) -> Mapping[str, list[str]]:
    return {
        f"{variant.name} → {mapping.class_caption}": list(mapping.fills)
        for variant in parser._plan.variants
        for mapping in variant.mappings
    }
