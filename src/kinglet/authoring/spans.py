"""Which characters of a raw event gave which field; computed only for what is shown."""

from __future__ import annotations

import re
from typing import NamedTuple

from kinglet.clock.reading import is_read
from kinglet.engine.plan import Plan, Reading, TimeRulePlan
from kinglet.patterns.dialect import for_python


class Span(NamedTuple):
    """Characters of a raw event, from start up to end."""

    field: str
    start: int
    end: int


def spans(plan: Plan, raw: str, variant: str | None) -> list[Span]:
    """The spans of all fields of an event, in the order of the text."""
    found: list[Span] = []
    base, text = 0, raw
    if plan.envelope is not None:
        match = first_match(plan.envelope, raw)
        if match is None:
            return []
        found = _of(match, 0)
        body = next((span for span in found if span.field == plan.body), None)
        if variant is not None and body is not None:
            found.remove(body)
            base, text = body.start, raw[body.start : body.end]
    reading = next((item.reading for item in plan.variants if item.name == variant), None)
    if reading is not None and (match := first_match(reading, text)):
        found += _of(match, base)
    return sorted(found, key=lambda span: (span.start, span.end))


def stamp_place(rule: TimeRulePlan, raw: str, found: list[Span]) -> tuple[int, int] | None:
    """The characters of the stamp that a rule reads, given the spans of an event's fields."""
    base, text = 0, raw
    if rule.slot is not None:
        span = next((span for span in found if span.field == rule.slot), None)
        if span is None:
            return None
        if not rule.searches:
            return span.start, span.end
        base, text = span.start, raw[span.start : span.end]
    places = [place for search in rule.searches if (place := search.place(text)) is not None]
    for start, end in places:
        if is_read(text[start:end], rule.reading):
            return base + start, base + end
    return (base + places[0][0], base + places[0][1]) if places else None


def first_match(reading: Reading, text: str) -> re.Match[str] | None:
    """The match of the first of a reading's regexes that matches."""
    return next((match for regex in reading.regexes if (match := for_python(regex).search(text))), None)


def _of(match: re.Match[str], base: int) -> list[Span]:
    return [
        Span(name, base + match.start(name), base + match.end(name))
        for name in match.re.groupindex
        if match.start(name) >= 0
    ]
