"""Which characters of a raw event gave which field; computed only for what is shown."""

from __future__ import annotations

import re
from typing import NamedTuple

from kinglet.plan.data import ONWARD, Plan, Reading, TimeRulePlan
from kinglet.regex.backtracking import search
from kinglet.timestamps.reading import is_read


class Span(NamedTuple):
    """Characters of a raw event, from start up to end."""

    field: str
    start: int
    end: int


def spans(plan: Plan, raw: str, variant: str | None) -> list[Span]:
    """The spans of all fields of an event, in the order of the text."""
    text, places = text_read(raw)
    found = _spans(plan, text, variant)
    return found if places is None else [Span(one.field, *in_raw(places, one.start, one.end)) for one in found]


def text_read(raw: str) -> tuple[str, list[int] | None]:
    """An event as regexes read it, and where each of its characters and its end stand; None where it is the same."""
    if "\r\n" not in raw and not raw.endswith("\n"):
        return raw, None
    places = [at for at in range(len(raw) + 1) if raw[at : at + 2] != "\r\n"]
    text = "".join(raw[at] for at in places[:-1]).rstrip("\n")
    return text, places[: len(text) + 1]


def in_raw(places: list[int], start: int, end: int) -> tuple[int, int]:
    """Where characters of that text stand in the event itself; they may lie behind its end, where something lacks."""
    last = len(places) - 1
    start, end = min(start, last), min(end, last)
    return places[start], places[end - 1] + 1 if end > start else places[start]


def _spans(plan: Plan, raw: str, variant: str | None) -> list[Span]:
    found: list[Span] = []
    base, text = 0, raw
    chosen = next((item for item in plan.variants if item.name == variant), None)
    if plan.envelope is not None:
        inside = inside_of(plan.envelope, raw, 0)
        if inside is None:
            return []
        found = inside
        body = next((span for span in found if span.field == plan.body), None)
        if chosen is not None and chosen.source is not None:
            source = next((span for span in found if span.field == chosen.source), None)
            if source is None:
                return sorted(found, key=lambda span: (span.start, span.end))
            base, text = source.start, raw[source.start : source.end]
            if chosen.consumes_body and body is not None:
                found.remove(body)
        elif variant is not None and body is not None:
            found.remove(body)
            base, text = body.start, raw[body.start : body.end]
    if chosen is not None:
        found += inside_of(chosen.reading, text, base) or []
    found = [span for span in found if not span.field.startswith(ONWARD)]
    return sorted(found, key=lambda span: (span.start, span.end))


def inside_of(reading: Reading, text: str, base: int) -> list[Span] | None:
    """The spans of a reading's fields in a text that begins at base; None where it does not match."""
    match = first_match(reading, text)
    if match is None and reading.regexes:
        return None
    found = _of(match, base) if match is not None else []
    for plan in reading.structures:
        start, part = base, text
        if plan.source is not None:
            held = next((span for span in found if span.field == plan.source), None)
            if held is None:
                continue
            start, part = held.start, text[held.start - base : held.end - base]
        values = plan.structure.values(part)
        if values is None:
            if plan.source is None:
                return None
            continue
        if plan.source is not None:
            found = [span for span in found if span.field != plan.source]
        from kinglet.structured.repeats import taken

        here = taken(tuple(value.path for value in values), plan.keys)
        for key, item in zip(plan.keys, plan.fields, strict=True):
            for place in here.lists.get(key, [here.chosen[key]] if key in here.chosen else []):
                left, right = within_quotes(part, values[place].start, values[place].end)
                if right > left:
                    found.append(Span(item.name, start + left, start + right))
    return found


def within_quotes(text: str, start: int, end: int) -> tuple[int, int]:
    """The characters of a value without the blanks and quotes around it."""
    written = text[start:end]
    start += len(written) - len(written.lstrip())
    end = start + len(written.strip())
    if end - start >= 2 and text[start] == text[end - 1] and text[start] in "\"'":
        return start + 1, end - 1
    return start, end


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
    """The match of the first of a reading's regexes that matches; None too where that takes too long to show."""
    try:
        return next((match for regex in reading.regexes if (match := search(regex, text))), None)
    except TimeoutError:
        return None


def _of(match: re.Match[str], base: int) -> list[Span]:
    return [
        Span(name, base + match.start(name), base + match.end(name))
        for name in match.re.groupindex
        if match.start(name) >= 0
    ]
