"""Cases that are missing, or that show nothing."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

from kinglet.insight.values import look_of
from kinglet.lint.rule import Found, LintRule, Subject, alternatives


def no_case(subject: Subject) -> Iterator[Found]:
    shown = {event["variant"] for event in subject.cases}
    for i, variant in enumerate(subject.definition.variants):
        if variant.name not in shown:
            yield Found(
                ("variants", i),
                "no case shows it: a change that breaks it goes unnoticed",
                "add one: `kinglet check PARSER --add LOG:LINE`, or `--cover LOG` for all that have none",
            )


def nothing_new(subject: Subject) -> Iterator[Found]:
    seen: dict[Any, int] = {}
    for number, (case, event) in enumerate(zip(subject.definition.cases, subject.cases, strict=True), 1):
        shows = (_shows(subject, event), tuple(sorted(case.model)), case.before is not None)
        first = seen.setdefault(shows, number)
        if first != number and case.note is None:
            yield Found(
                ("cases", number - 1),
                f"shows nothing that case {first} does not: the same variant, optional parts, words, forms of values",
                "leave one of the two out, or say with `note` what it is for",
            )


def _shows(subject: Subject, event: dict[str, Any]) -> tuple[Any, ...]:
    """What an event shows of its parser."""
    words = {
        item.name
        for number, variant in enumerate(subject.plan.variants)
        if variant.name == event["variant"]
        for item in variant.reading.fields
        if "|" in item.type.name or alternatives(subject.definition.variants[number].regex, item.name)
    } | {kind.slot for kind in subject.plan.kinds}
    values = tuple(
        (name, str(event[name]) if name in words else look_of(str(event[name])))
        for name in subject.plan.fields
        if event.get(name) is not None
    )
    form = re.sub(r"\d+", "9", re.sub(r"[^\W\d_]+", "a", event["raw"])) if event["variant"] is None else ""
    day = event["time"].strftime("%m") if event.get("time") is not None else ""
    return event["variant"], event["state"], tuple(event["faults"]), event["time_rule"], values, form, day


def expects_nothing(subject: Subject) -> Iterator[Found]:
    for number, case in enumerate(subject.definition.cases):
        if not case.expect and not case.model:
            yield Found(
                ("cases", number),
                "expects nothing but that it is complete: a value that goes wrong is not noticed",
                "say what it must give: `expect: {variant: …}`, or let `kinglet check --accept` write it",
            )


RULES = (
    LintRule(
        "C01", "variant without a case", "warning",
        "a variant that no case is read by",
        "add a case: `kinglet check PARSER --add LOG:LINE`",
        no_case,
    ),
    LintRule(
        "C02", "case that shows nothing new", "note",
        "a case without a note that has the same variant, optional parts, words, faults and forms of values as an "
        "earlier one",
        "leave it out, or say with `note` what it is for",
        nothing_new,
    ),
    LintRule(
        "C03", "case that expects nothing", "warning",
        "a case with neither `expect` nor `model`",
        "say what it must give",
        expects_nothing,
    ),
)  # fmt: skip
