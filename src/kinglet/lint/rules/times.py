"""Timestamps that may be read as another moment than the one that is meant."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import NamedTuple

import polars as pl

from kinglet.lint.rule import Found, LintRule, Subject
from kinglet.patterns.grammar import Slot
from kinglet.plan.data import TimeRulePlan
from kinglet.plan.time_rules import paths
from kinglet.timestamps.ambiguity import decide, first_of
from kinglet.timestamps.formats import Format
from kinglet.timestamps.reference_time import as_moment
from kinglet.timestamps.zones import means_several


class _Rule(NamedTuple):
    """A time rule, where it stands, the stamps that the cases have for it, and the zones that they name."""

    plan: TimeRulePlan
    path: tuple[str | int, ...]
    stamps: pl.Series
    zones: list[str]


def _rules(subject: Subject) -> Iterator[_Rule]:
    where = paths(subject.definition, subject.document)
    for rule, path in zip(subject.plan.times, where, strict=True):
        texts: list[str] = []
        zones: list[str] = []
        for event in subject.cases:
            text = event.get(rule.slot) if rule.slot is not None else event["raw"]
            if isinstance(text, str) and rule.searches:
                place = rule.searches[0].place(text)
                text = text[slice(*place)] if place is not None else None
            if isinstance(text, str):
                texts.append(text)
                named = pl.Series([text]).str.extract(r"([A-Za-z]{2,5})(?: [0-9]{4})?$").item()
                zones += [named] if named and any("%Z" in fmt.text for fmt in rule.reading.formats) else []
            if rule.zone_slot is not None and isinstance(event.get(rule.zone_slot), str):
                zones.append(event[rule.zone_slot])
        yield _Rule(rule, path, pl.Series(texts, dtype=pl.String), zones)


def _each(judge: Callable[[_Rule, Subject], Iterator[tuple[str, str, str]]]) -> Callable[[Subject], Iterator[Found]]:
    """A judge of time rules as one of parsers."""

    def found(subject: Subject) -> Iterator[Found]:
        for rule in _rules(subject):
            for key, message, mend in judge(rule, subject):
                yield Found((*rule.path, key), message, mend)

    found.__doc__ = judge.__doc__
    return found


def no_zone(rule: _Rule, subject: Subject) -> Iterator[tuple[str, str, str]]:
    reading = rule.plan.reading
    bare = [fmt for fmt in reading.formats if not fmt.has_zone and fmt.text != "iso8601"]
    if bare and reading.zone is None and rule.plan.zone_slot is None:
        message = "its stamps carry no zone and no zone is given: read as UTC"
        yield "format", message, "give `zone`, or `clock: {zone: …}`; `UTC`, where that is meant"


def iso_without_zone(rule: _Rule, subject: Subject) -> Iterator[tuple[str, str, str]]:
    reading = rule.plan.reading
    if not any(fmt.text == "iso8601" for fmt in reading.formats) or reading.zone is not None or rule.plan.zone_slot:
        return
    bare = rule.stamps.filter(~rule.stamps.str.contains(r"(?i)(?:z|[+-]\d{2}(?::?\d{2})?)\s*$"))
    bare = bare.filter(bare.str.contains(r"^\d{4}-?\d{2}-?\d{2}[Tt ]\d{2}"))
    if len(bare):
        message = f"the stamp `{bare[0]}` of a case carries no zone and no zone is given: read as UTC"
        yield "format", message, "give `zone`, or `clock: {zone: …}`; `UTC`, where that is meant"


def order(rule: _Rule, subject: Subject) -> Iterator[tuple[str, str, str]]:
    orders = {first: fmt for fmt in rule.plan.reading.formats if (first := first_of(fmt)) is not None}
    if len(orders) > 1:
        first, second = (fmt.text for fmt in orders.values())
        message = f"{first!r} and {second!r} both read a date such as 03/04: the first always wins"
        yield "format", message, "keep the one that the log has"
        return
    for first, fmt in orders.items():
        if not _shown(rule, fmt, first):
            message = f"{fmt.text!r} has the {first} first, and no case shows it"
            yield "format", message, "add a case with a day above 12, or ask who made the log"


def _shown(rule: _Rule, fmt: Format, first: str) -> bool:
    """Whether a case bears out the order: a day above 12, or an instant that was expected."""
    readable = rule.stamps.filter(rule.stamps.str.contains(fmt.forms[0].regex))
    if not len(readable):
        return False
    lines = pl.Series(range(1, len(readable) + 1))
    found = decide(readable, lines, fmt, rule.plan.reading, as_moment("9999-01-01"))
    return found.sure and found.first == first


def several(rule: _Rule, subject: Subject) -> Iterator[tuple[str, str, str]]:
    table = dict(rule.plan.reading.zones)
    for name in dict.fromkeys(rule.zones):
        if meant := means_several(name, table):
            meanings = ", ".join(f"{minutes / 60:+g} h" for minutes in meant)
            yield "format", f"the zone `{name}` of a case may mean {meanings}", "say which under `clock.zones`"


def unit(rule: _Rule, subject: Subject) -> Iterator[tuple[str, str, str]]:
    if any(fmt.text == "epoch_any" for fmt in rule.plan.reading.formats):
        yield "format", "`epoch_any` takes the unit from the size of the number", "name it: epoch, epoch_ms, epoch_us"


def no_year(rule: _Rule, subject: Subject) -> Iterator[tuple[str, str, str]]:
    number = rule.path[-1] if isinstance(rule.path[-1], int) else 0
    written = subject.definition.time[number]
    if written.year is None and not written.date and rule.plan.date_slot is None:
        bare = [fmt for fmt in rule.plan.reading.formats if fmt.has_date and not fmt.has_year]
        if bare:
            message = f"{bare[0].text!r} has no year, and the rule does not say where it comes from"
            yield "format", message, "add `year: nearest`, or `year: file` where the name of the log has it"


def never_runs(subject: Subject) -> Iterator[Found]:
    """A rule for the event's time behind one whose stamp is always there."""
    where = paths(subject.definition, subject.document)
    first: TimeRulePlan | None = None
    used = {event["time_rule"] for event in subject.cases}
    for rule, path in zip(subject.plan.times, where, strict=True):
        if rule.field is not None:
            continue
        if first is not None and _is_sure(subject, first) and rule.label not in used:
            yield Found(
                path,
                f"never gives a time while `{first.label}` does, whose stamp is in every event; no case uses it",
                "leave it out, make it the first, or add a case that needs it",
            )
        first = first or rule
    for rule, path in zip(subject.plan.times, where, strict=True):
        texts = [fmt.text for fmt in rule.reading.formats]
        again = next((text for i, text in enumerate(texts) if text in texts[:i]), None)
        if again is not None:
            yield Found((*path, "format"), f"has the format {again!r} twice", "leave one of them out")


def _is_sure(subject: Subject, rule: TimeRulePlan) -> bool:
    """Whether every event that is read has the stamp of a rule."""
    envelope = subject.plan.envelope
    if rule.slot is None or rule.searches or envelope is None or not envelope.regexes:
        return False
    form = subject.definition.envelope
    text = form if isinstance(form, str) else form.pattern if form is not None else None
    if text is None:
        return False
    from kinglet.patterns.grammar import parse

    return any(isinstance(token, Slot) and token.name == rule.slot for token in parse(text))


RULES = (
    LintRule(
        "T01", "no zone", "warning",
        "stamps that carry no zone, of a rule that gives none: they are read as UTC",
        "give `zone`, or `clock: {zone: …}`; `UTC`, where that is meant",
        _each(no_zone),
    ),
    LintRule(
        "T02", "ISO 8601 without a zone", "warning",
        "a stamp of a case in ISO 8601 that carries no zone, of a rule that gives none",
        "give `zone`, or `clock: {zone: …}`; `UTC`, where that is meant",
        _each(iso_without_zone),
    ),
    LintRule(
        "T03", "ambiguous zone", "warning",
        "an abbreviation in a case, such as CST, that stands for several zones",
        "say which under `clock.zones`",
        _each(several),
    ),
    LintRule(
        "T04", "order of day and month not decided", "warning",
        "a format with the day or the month first that no case bears out, or two formats that read the same dates",
        "add a case with a day above 12; keep one of the formats",
        _each(order),
    ),
    LintRule(
        "T05", "time rule never runs", "warning",
        "a rule behind another whose stamp every event has, that no case uses; a format that stands twice",
        "leave it out, or add a case that needs it",
        never_runs,
    ),
    LintRule(
        "T06", "no year", "warning",
        "a format with a date but no year, of a rule without `year`",
        "add `year: nearest`, or `year: file`",
        _each(no_year),
    ),
    LintRule(
        "T07", "unit told by size", "warning",
        "`epoch_any`, which takes the unit of a count from its size",
        "name the unit: `epoch`, `epoch_ms`, `epoch_us`",
        _each(unit),
    ),
)  # fmt: skip
