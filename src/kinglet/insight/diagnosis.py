"""Why an event is not complete: the place in it, and what was expected there."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import TYPE_CHECKING, NamedTuple

from kinglet.faults import FAULTS
from kinglet.insight.spans import Span, in_raw, inside_of, spans, stamp_place, text_read
from kinglet.patterns.types import STRUCTURES
from kinglet.plan.data import KindPlan, Plan, Reading, VariantPlan
from kinglet.plan.steps import StepPlan
from kinglet.regex.atoms import matching_prefix

if TYPE_CHECKING:
    from kinglet.calls import ReferenceTime
    from kinglet.parser import Parser


class Diagnosis(NamedTuple):
    """A fault of one event; start and end are the characters of raw at fault."""

    fault: str
    message: str
    start: int
    end: int


def diagnose(
    parser: Parser, raw: str, *, reference_time: ReferenceTime = None, zone: str | None = None
) -> list[Diagnosis]:
    """Why a raw event is not complete: a reason for each fault, with the place in its text; nothing where it is.

    reference_time, zone: as for `Parser.parse`.
    """
    (event,) = (
        parser.parse([raw], reference_time=reference_time, zone=zone).events.select("variant", "faults").to_dicts()
    )
    return reasons(parser._plan, raw, event["variant"], event["faults"])


def reasons(plan: Plan, raw: str, variant: str | None, faults: Sequence[str]) -> list[Diagnosis]:
    """One diagnosis for each fault of an event."""
    text, places = text_read(raw)
    found = _reasons(plan, text, variant, faults)
    if places is None:
        return found
    return [Diagnosis(one.fault, one.message, *in_raw(places, one.start, one.end)) for one in found]


def _reasons(plan: Plan, raw: str, variant: str | None, faults: Sequence[str]) -> list[Diagnosis]:
    where = {span.field: span for span in spans(plan, raw, variant)}
    found: list[Diagnosis] = []
    for fault in faults:
        kind, _, name = fault.partition(":")
        span = where.get(name)
        start, end = (span.start, span.end) if span else (0, len(raw.split("\n", 1)[0]))
        text = raw[start:end]
        if "/" in kind:
            found.append(_of_other(plan, fault, where, raw))
        elif kind == "bad-value" and span is None and (step := _giver(plan, name)) is not None:
            found.append(Diagnosis(fault, f"{step.label} met a value that is none of its type", start, end))
        elif kind == "bad-value":
            found.append(Diagnosis(fault, f"`{_short(text)}` is not {_about(plan, name)}", start, end))
        elif kind in ("bad-time", "implausible-time", "no-date"):
            found.append(_of_stamp(plan, raw, list(where.values()), fault, kind, name))
        elif kind == "unknown-kind" and (held := [item.slot for item in plan.kinds if item.slot in where]):
            texts = {slot: raw[where[slot].start : where[slot].end] for slot in held}
            said = ", ".join(text if len(plan.kinds) == 1 else f"{slot} {text}" for slot, text in texts.items())
            span = where[held[-1]]
            found.append(Diagnosis(fault, f"no variant has the kind {said}", span.start, span.end))
        elif kind.removeprefix("bad-") in STRUCTURES:
            at, message = _unread(plan, name, raw[start:end], variant)
            found.append(Diagnosis(fault, message, start + at, end))
        elif kind in ("dropped", "not-read"):
            found.append(Diagnosis(fault, *_of_step(plan, kind, name, text, start, end)))
        elif kind in ("no-variant", "no-match"):
            found.append(_stopped(plan, raw, fault))
        else:
            found.append(Diagnosis(fault, FAULTS[kind].words if kind in FAULTS else "", start, end))
    return found


def _giver(plan: Plan, name: str) -> StepPlan | None:
    """The last step that gives a field its values."""
    return next((step for step in reversed(plan.steps) if name in step.action.gives), None)


def _of_stamp(plan: Plan, raw: str, spans: list[Span], fault: str, kind: str, label: str) -> Diagnosis:
    from kinglet.timestamps.why_unread import why, zone_wrong
    from kinglet.timestamps.zones import find_zone

    rule = next(rule for rule in plan.times if rule.label == label)
    start, end = stamp_place(rule, raw, spans) or (0, len(raw.split("\n", 1)[0]))
    text = raw[start:end]
    if kind == "bad-time":
        zone = next((raw[span.start : span.end] for span in spans if span.field == rule.zone_slot), None)
        if zone is not None and find_zone(zone, rule.reading.zones) is None:
            return Diagnosis(fault, f"`{_short(text)}` {zone_wrong(zone, rule.reading)}", start, end)
        return Diagnosis(fault, f"`{_short(text)}` {why(text, rule.reading)}", start, end)
    if kind == "no-date":
        return Diagnosis(fault, f"`{_short(text)}` has no date, and no event before it has one", start, end)
    earliest, latest = plan.limits
    until = f"{latest:%Y-%m-%d}" if isinstance(latest, datetime) else f"{latest.days} days after the log's reference"
    message = f"`{_short(text)}` lies outside what the parser believes: {earliest:%Y-%m-%d} to {until}"
    return Diagnosis(fault, message, start, end)


def _of_step(plan: Plan, kind: str, name: str, text: str, start: int, end: int) -> tuple[str, int, int]:
    """What a step says of an event that it dropped, or of a field in which it could read nothing."""
    for step in plan.steps:
        if kind == "dropped" and step.action.about.reason == name:
            return f"dropped by {step.label}", start, end
        reading = step.action.about.reading
        if kind == "not-read" and reading is not None and step.action.about.field == name:
            if reading.structures and not reading.regexes:
                at, message = reading.structures[0].structure.unread(text)
                return f"{step.label} finds {message}", start + at, end
            reach, expected = _reach(reading, text)
            at = max(reach, 0)
            finds = f"finds `{_short(text[at:])}`" if text[at:].strip() else "the text ends"
            return f"{step.label} expects {_expected(expected, reading)} here and {finds}", start + at, end
    return f"a step says {kind}", start, end


def _of_other(plan: Plan, fault: str, where: Mapping[str, Span], raw: str) -> Diagnosis:
    """What is wrong with a field for the parser that it was handed to."""
    field, _, inner = fault.partition("/")
    about = [step.action.about for step in plan.steps]
    other = next((item.plan for item in about if item.field == field and item.plan is not None), None)
    span = where.get(field)
    if other is None or span is None:
        return Diagnosis(fault, f"the parser that reads `{field}` says {inner}", 0, len(raw.split("\n", 1)[0]))
    found = reasons(other, raw[span.start : span.end], None, [inner])[0]
    message = f"the parser {other.parser} says: {found.message}"
    return Diagnosis(fault, message, span.start + found.start, span.start + found.end)


def _about(plan: Plan, name: str) -> str:
    for step in plan.steps:
        for item in step.action.about.types:
            if item.name == name:
                return f"{item.type.about}, which {step.label} makes of it"
    readings = [*([plan.envelope] if plan.envelope else []), *(variant.reading for variant in plan.variants)]
    readings += [found for step in plan.steps if (found := step.action.about.reading) is not None]
    return next(
        (field.type.about for reading in readings for field in reading.every_field if field.name == name), "valid"
    )


def _stopped(plan: Plan, raw: str, fault: str) -> Diagnosis:
    """How far the nearest variant got, or the envelope where even that did not match."""
    base, text = 0, raw
    readings: list[tuple[str, Reading]]
    if plan.envelope is not None:
        inside = inside_of(plan.envelope, raw, 0)
        if inside is None:
            readings = [("the envelope", plan.envelope)]
        else:
            held = {span.field: span for span in inside}
            candidates = _candidates(plan, raw, held)
            source = next((variant.source for variant in candidates if variant.source), plan.body)
            if source in held:
                base, text = held[source].start, raw[held[source].start : held[source].end]
            readings = [
                (variant.name, variant.reading) for variant in candidates if (variant.source or plan.body) == source
            ]
    else:
        readings = [(variant.name, variant.reading) for variant in plan.variants]
    best = max(
        ((*_reach(reading, text), name, reading) for name, reading in readings), key=lambda item: item[0], default=None
    )
    if best is None:
        return Diagnosis(fault, "no variant comes into question", base, len(raw))
    end, expected, name, reading = best
    if not reading.regexes and reading.structures:
        at, message = reading.structures[0].structure.unread(text)
        return Diagnosis(fault, f"{name} finds {message}", base + at, base + max(len(text), at + 1))
    at = base + max(end, 0)
    rest = raw[at:].split("\n", 1)[0]
    finds = f"finds `{_short(rest)}`" if rest.strip() else "the line ends"
    how_far = "does not match from the start" if end <= 0 else f"reads up to column {at + 1}"
    message = f"{name} {how_far}, then expects {_expected(expected, reading)} and {finds}"
    return Diagnosis(fault, message, at, at + max(len(rest), 1))


def _candidates(plan: Plan, raw: str, held: Mapping[str, Span]) -> list[VariantPlan]:
    routes = [_route(kind, held.get(kind.slot), raw) for kind in plan.kinds]
    return [plan.variants[i] for i in (plan.candidates(routes) if routes else plan.without_kind)]


def _route(kind: KindPlan, span: Span | None, raw: str) -> tuple[int, ...]:
    value = raw[span.start : span.end] if span is not None else None
    for wanted, indices in kind.routes.items():
        number = value is not None and isinstance(wanted, int) and value.lstrip("+-").isdigit() and int(value) == wanted
        if str(wanted) == value or number:
            return indices
    return kind.otherwise


def _unread(plan: Plan, source: str, text: str, variant: str | None) -> tuple[int, str]:
    """Why the text of a slot does not have its structure."""
    readings = [item.reading for item in plan.variants if item.name == variant]
    readings += [plan.envelope] if plan.envelope is not None else []
    readings += [found for step in plan.steps if (found := step.action.about.reading) is not None]
    structures = [item.structure for reading in readings for item in reading.structures if item.source == source]
    return structures[0].unread(text)


def _reach(reading: Reading, text: str) -> tuple[int, str]:
    return matching_prefix(reading.regexes[-1], text) if reading.regexes else (-1, "")


def _expected(piece: str, reading: Reading) -> str:
    """A piece of a regex as the parser file writes it."""
    if not piece or piece.startswith(("$", r"[ \t]*$")):
        return "the end"
    if piece == r"[ \t]+":
        return "a blank"
    name = re.match(r"\(\?P<(\w+)>", piece)
    if name:
        source = reading.sources.get(name[1])
        return f"`{source}`" if source else f"`{piece}`"
    if re.fullmatch(r"(?:\\[^A-Za-z0-9]|[^\\()\[\]{}*+?.|^$])+", piece):
        return f"`{_unescaped(piece)}`"
    return f"`{piece}`"


def _unescaped(piece: str) -> str:
    return re.sub(r"\\(.)", r"\1", piece)


def _short(text: str, most: int = 30) -> str:
    return text if len(text) <= most else text[: most - 1] + "…"
