"""What a parser costs: processor time for an event, by stage, variant, step and mapping, and which regex takes it."""

from __future__ import annotations

import statistics
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, NamedTuple, TypeVar

import polars as pl

from kinglet.cutting.small_logs import cut_all
from kinglet.drafting.leftovers import bodies
from kinglet.errors import InputError, KingletError
from kinglet.output.views import ModelView
from kinglet.parser import Parser, load
from kinglet.plan.data import ROW, VariantPlan
from kinglet.regex.backtracking import why_slow
from kinglet.runtime.parsed import Parsed
from kinglet.runtime.pipeline import STAGES, begun
from kinglet.runtime.steps import apply_one
from kinglet.runtime.work import Options, Work
from kinglet.source.logs import Given, open_sources, refuse_once

_EVENTS = 50_000
_OF_CASES = 4_000
_ROUNDS = 2
_MOST_SIBLINGS = 60
_OFTEN = 0.1
R = TypeVar("R")


class Part(NamedTuple):
    """A part of the cost. microseconds: for each of the events that it is about; share: of the whole cost."""

    name: str
    events: int
    microseconds: float
    share: float
    why: str = ""


@dataclass(frozen=True)
class Cost:
    """What a parser costs on a log.

    microseconds: for an event, all in all, to the text of the model's events. stages: cut, those of `STAGES`, map and
    write. variants: reading alone. steps, mappings: each on the events that it is done to. own_cases, median: what an
    event of its cases costs, and of those of the parsers of its folder in the median.
    """

    events: int
    microseconds: float
    stages: list[Part]
    variants: list[Part]
    steps: list[Part]
    mappings: list[Part]
    median: float | None = None
    own_cases: float | None = None


@dataclass
class _Clock:
    """Processor time by what it was spent on."""

    spent: dict[str, float] = field(default_factory=dict)

    def take(self, name: str, do: Callable[..., R], *given: Any) -> R:
        begin = time.process_time()
        result = do(*given)
        self.spent[name] = self.spent.get(name, 0.0) + time.process_time() - begin
        return result


def cost(parser: Parser, log: Given, siblings: Sequence[Parser] = ()) -> Cost:
    """Measures a parser on the beginning of a log, the better of some rounds.

    siblings: parsers of its folder, whose median is said; those beside its file unless given.

    Raises:
        InputError: the log cannot be read, or has no event.
        UsageError: it can be read once only.
    """
    refuse_once([log], "it is measured several times")
    rounds = [_measured(parser, log) for _ in range(_ROUNDS)]
    clock, parsed, count = min(rounds, key=lambda one: sum(one[0].spent.values()))
    if not count:
        raise InputError(f"{log!s}: has no event", "name a log that the parser reads")
    whole = sum(clock.spent.values())

    def part(name: str, events: int, seconds: float, why: str = "") -> Part:
        return Part(name, events, seconds / max(events, 1) * 1e6, seconds / whole if whole else 0.0, why)

    stages = [part(name, count, seconds) for name, seconds in clock.spent.items()]
    variants, steps, mappings = (
        _by_variant(parser, parsed, part),
        _by_step(parser, parsed, part),
        _by_mapping(parser, parsed, part),
    )
    others = [other for other in siblings or _beside(parser) if other.name != parser.name]
    known = [one for other in others if (one := _on_cases(other)) is not None]
    own = _on_cases(parser)
    median = statistics.median([*known, own]) if known and own is not None else None
    return Cost(count, whole / count * 1e6, stages, variants, steps, mappings, median, own)


def _measured(parser: Parser, log: Given) -> tuple[_Clock, list[Parsed], int]:
    """All stages over the beginning of a log, one after the other."""
    plan, clock = parser._plan, _Clock()
    found: list[Parsed] = []
    count = 0
    batches = cut_all(open_sources(log), plan.cut)
    view = ModelView(plan)
    while count < _EVENTS:
        batch = clock.take("cut", next, batches, None)
        if batch is None:
            break
        work: Work = begun(plan, batch, Options())
        for stage in STAGES:
            if work.extracted is None or work.bundles:
                clock.take(stage.__name__, stage, work)
        parsed = clock.take("put together", work.parsed)
        clock.take("map and write", view.lines, parsed.kept())
        found.append(parsed)
        count += parsed.counts["events"]
    return clock, found, count


Making = Callable[..., Part]


def _by_variant(parser: Parser, parsed: Sequence[Parsed], part: Making) -> list[Part]:
    """The regexes of each variant on its own events."""
    found = []
    for number, variant in enumerate(parser._plan.variants):
        raws = [one.frame["raw"] for batch in parsed for one in batch.parts if one.variant == number]
        if not raws or not variant.reading.regexes:
            continue
        texts = bodies(parser._plan, pl.concat(raws)).drop_nulls()
        seconds, why = _of_regexes(variant, texts)
        found.append(part(variant.name, len(texts), seconds, why))
    return sorted(found, key=lambda one: -one.share)


def _of_regexes(variant: VariantPlan, texts: pl.Series) -> tuple[float, str]:
    """The time of a variant's regexes, and what makes it long."""
    why: list[str] = []
    seconds = 0.0
    left = texts
    for place, regex in enumerate(variant.reading.regexes):
        if not len(left):
            break
        if (slow := why_slow(regex)) is not None:
            why.append(f"has {slow}: event by event")
            break
        begin = time.process_time()
        groups = left.str.extract_groups(regex)
        seconds += time.process_time() - begin
        if place == 0 and len(variant.reading.regexes) > 1:
            always = variant.reading.always
            missed = groups.struct.field(always).is_null() if always is not None else ~left.str.contains(regex)
            if missed.sum() > _OFTEN * len(left):
                why.append(f"its quick regex fails on {missed.sum() / len(left):.0%} of its events")
            left = left.filter(missed)
    names = len(variant.reading.fields)
    why.append(f"{names} slot{'s' * (names != 1)}")
    return seconds, ", ".join(why)


def _by_step(parser: Parser, parsed: Sequence[Parsed], part: Making) -> list[Part]:
    """Each step on the events as they are before it."""
    plan = parser._plan
    if not plan.steps:
        return []
    before = parser.with_steps(until=0)
    raws = pl.concat([one.frame["raw"] for batch in parsed for one in batch.parts])
    frames = [
        (one.frame, batch.references(one))
        for batch in before.parse(raws.to_list(), workers=1).batches
        for one in batch.parts
    ]
    found = []
    for step in plan.steps:
        begin = time.process_time()
        try:
            frames = [(apply_one(step, frame, reference), reference) for frame, reference in frames]
        except KingletError:
            break
        found.append(part(step.label, len(raws), time.process_time() - begin))
    return found


def _by_mapping(parser: Parser, parsed: Sequence[Parsed], part: Making) -> list[Part]:
    """What it takes to map the events of each variant, without the text of them."""
    found = []
    for number, variant in enumerate(parser._plan.variants):
        view, seconds, count = ModelView(parser._plan), 0.0, 0
        for batch in parsed:
            own = [one.frame[ROW] for one in batch.parts if one.variant == number]
            if own:
                events = batch.of_rows(pl.concat(own))
                begin = time.process_time()
                view.judge(events)
                seconds += time.process_time() - begin
                count += events.counts["events"]
        if count:
            found.append(part(f"{variant.name} → {variant.mappings[0].class_caption}", count, seconds))
    return sorted(found, key=lambda one: -one.share)


def _on_cases(parser: Parser) -> float | None:
    """Microseconds for an event of its cases, each many times; None where it has none."""
    raws = [case.raw for case in parser._definition.cases]
    if not raws:
        return None
    many = (raws * (_OF_CASES // len(raws) + 1))[:_OF_CASES]
    best = float("inf")
    for _ in range(_ROUNDS):
        begin = time.process_time()
        for batch in parser.parse(many, reference_time="2026-03-05", workers=1).batches:
            ModelView(parser._plan).lines(batch.kept())
        best = min(best, time.process_time() - begin)
    return best / len(many) * 1e6


def _beside(parser: Parser) -> list[Parser]:
    """The parsers that stand beside a parser's file and can be loaded."""
    name = parser._document.name
    if name.startswith("<"):
        return []
    found = []
    for path in sorted(Path(name).parent.glob("*.yaml"))[:_MOST_SIBLINGS]:
        try:
            found.append(load(path, model=parser.model))
        except KingletError:
            continue
    return found
