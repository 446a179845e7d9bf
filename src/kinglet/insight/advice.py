"""What a parser leaves open that may go wrong: advice, where a check has no reason to fail."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING, NamedTuple

import polars as pl

from kinglet.errors import Place
from kinglet.insight.cases import parsed_case
from kinglet.plan.data import TimeRulePlan
from kinglet.plan.time_rules import paths
from kinglet.regex.backtracking import BUDGET, why_slow
from kinglet.timestamps.ambiguity import decide, first_of
from kinglet.timestamps.formats import Format
from kinglet.timestamps.reference_time import as_moment
from kinglet.timestamps.zones import means_several

if TYPE_CHECKING:
    from kinglet.parser import Parser


class Advice(NamedTuple):
    """Something to think about; key is the part of the parser file that it is about."""

    place: Place
    key: str
    message: str
    hint: str


class _Rule(NamedTuple):
    """A time rule, the stamps that the cases have for it, and the zones that they name."""

    plan: TimeRulePlan
    stamps: pl.Series
    zones: list[str]


Finding = tuple[str, str, str]
"""The key of the rule, what is to be thought about, how to mend it."""


def advice(parser: Parser) -> list[Advice]:
    """Advice on the time rules and steps of a parser, in the order of the file."""
    found: list[Advice] = []
    where = paths(parser._definition, parser._document)
    for rule, path in zip(_rules(parser), where, strict=True):
        for judge in JUDGES:
            for key, message, hint in judge(rule, parser):
                place = parser._document.place((*path, key))
                found.append(Advice(place, ".".join(map(str, (*path, key))), message, hint))
    for i, variant in enumerate(parser._plan.variants):
        why = next((why for regex in variant.reading.regexes if (why := why_slow(regex))), None)
        if why is not None:
            place = parser._document.place(("variants", i, "regex"))
            message = f"has {why}: it runs event by event, many times slower than others, with {BUDGET:g} s for each"
            hint = "match the text around it and leave it out of the groups, if you can"
            found.append(Advice(place, f"variants[{i}].regex", message, hint))
    for number, message, hint in _shown_in_raw(parser):
        steps: tuple[str | int, ...] = ("steps", number - 1)
        found.append(Advice(parser._document.place(steps), f"steps[{number - 1}]", message, hint))
    return found


def _shown_in_raw(parser: Parser) -> Iterator[tuple[int, str, str]]:
    """Steps that hide values which the raw text still shows."""
    drops = any(step.operation == "raw" and step.when is None for step in parser._plan.steps)
    for step in parser._plan.steps:
        if (hidden := step.action.about.hidden) is not None and not drops:
            names = ", ".join(f"`{name}`" for name in step.action.gives)
            verb, stay = ("are", "stay") if len(step.action.gives) > 1 else ("is", "stays")
            yield step.number, f"{names} {verb} {hidden}, but {stay} in the raw text", "add the step `raw: drop`"


def _rules(parser: Parser) -> Iterator[_Rule]:
    texts: dict[str, list[str]] = {rule.label: [] for rule in parser._plan.times}
    zones: dict[str, list[str]] = {rule.label: [] for rule in parser._plan.times}
    for case in parser._definition.cases:
        event = parsed_case(parser, case).events().row(0, named=True)
        for rule in parser._plan.times:
            text = event.get(rule.slot) if rule.slot is not None else event["raw"]
            if isinstance(text, str) and rule.searches:
                place = rule.searches[0].place(text)
                text = text[slice(*place)] if place is not None else None
            if isinstance(text, str):
                texts[rule.label].append(text)
                named = pl.Series([text]).str.extract(r"([A-Za-z]{2,5})(?: [0-9]{4})?$").item()
                zones[rule.label] += [named] if named and any("%Z" in fmt.text for fmt in rule.reading.formats) else []
            if rule.zone_slot is not None and isinstance(event.get(rule.zone_slot), str):
                zones[rule.label].append(event[rule.zone_slot])
    for rule in parser._plan.times:
        yield _Rule(rule, pl.Series(texts[rule.label], dtype=pl.String), zones[rule.label])


def _no_zone(rule: _Rule, parser: Parser) -> Iterator[Finding]:
    reading = rule.plan.reading
    bare = [fmt for fmt in reading.formats if not fmt.has_zone and fmt.text != "iso8601"]
    if bare and reading.zone is None and rule.plan.zone_slot is None:
        yield (
            "format",
            "its stamps carry no zone and no zone is given: read as UTC",
            "give `zone`, or `clock: {zone: …}`",
        )


def _order(rule: _Rule, parser: Parser) -> Iterator[Finding]:
    orders = {first: fmt for fmt in rule.plan.reading.formats if (first := first_of(fmt)) is not None}
    if len(orders) > 1:
        first, second = (fmt.text for fmt in orders.values())
        yield (
            "format",
            f"{first!r} and {second!r} both read a date such as 03/04: the first always wins",
            "keep the one that the log has",
        )
        return
    for first, fmt in orders.items():
        if not _shown(rule, fmt, first, parser):
            yield (
                "format",
                f"{fmt.text!r} has the {first} first, and no case shows it",
                "add a case with a day above 12, or ask who made the log",
            )


def _shown(rule: _Rule, fmt: Format, first: str, parser: Parser) -> bool:
    """Whether a case bears out the order: a day above 12, or an instant that was expected."""
    readable = rule.stamps.filter(rule.stamps.str.contains(fmt.forms[0].regex))
    if not len(readable):
        return False
    lines = pl.Series(range(1, len(readable) + 1))
    found = decide(readable, lines, fmt, rule.plan.reading, as_moment("9999-01-01"))
    return found.sure and found.first == first


def _several(rule: _Rule, parser: Parser) -> Iterator[Finding]:
    table = dict(rule.plan.reading.zones)
    for name in dict.fromkeys(rule.zones):
        if several := means_several(name, table):
            meanings = ", ".join(f"{minutes / 60:+g} h" for minutes in several)
            yield "format", f"the zone `{name}` of a case may mean {meanings}", "say which under `clock.zones`"


def _unit(rule: _Rule, parser: Parser) -> Iterator[Finding]:
    if any(fmt.text == "epoch_any" for fmt in rule.plan.reading.formats):
        yield "format", "`epoch_any` takes the unit from the size of the number", "name it: epoch, epoch_ms, epoch_us"


JUDGES: tuple[Callable[[_Rule, Parser], Iterator[Finding]], ...] = (
    _no_zone,
    _order,
    _several,
    _unit,
)
