"""What a parser will do: the regexes that its patterns become, and what can be said of them beforehand."""

from __future__ import annotations

from collections.abc import Mapping
from types import MappingProxyType
from typing import TYPE_CHECKING, Any, NamedTuple

import polars as pl
from pydantic import BaseModel

from kinglet.ocsf.identity import CLASS
from kinglet.ocsf.loading import load_model
from kinglet.ocsf.sharing import whole
from kinglet.patterns.types import SlotType
from kinglet.plan.data import DTYPES, Plan, Reading, TimeRulePlan
from kinglet.regex.backtracking import BUDGET, why_slow
from kinglet.regex.literals import Known, known
from kinglet.runtime.extraction.candidate_variants import FEW
from kinglet.spec.schema import Variant
from kinglet.spec.section import FixedText

if TYPE_CHECKING:
    from kinglet.parser import Parser
    from kinglet.spec.steps import Step

_ENGINE = "linear time"


class FieldNote(NamedTuple):
    """A field: the slot type it is read by, and what its values are."""

    name: str
    type: str
    value: str


class Explanation(NamedTuple):
    """What one pattern or regex does.

    form: `pattern`, `regex`, `json`, `pairs`, `delimited` or `nothing`; written: as the parser file has it. regexes:
    tried in order. literals: text that stands in every match. least, most: characters of a match, None without an end.
    engine: what runs it. as_one_with: variants that are the same behind the text they open with.
    """

    name: str
    form: str
    written: str
    regexes: tuple[str, ...]
    literals: tuple[str, ...]
    least: int
    most: int | None
    engine: str
    fields: tuple[FieldNote, ...]
    kinds: Mapping[str, tuple[str | int, ...]] = MappingProxyType({})
    mapped: str = ""
    as_one_with: tuple[str, ...] = ()


class StepNote(NamedTuple):
    """A step: its number, what it does, to what, for which events, and what for."""

    number: int
    operation: str
    about: str
    when: str | None
    note: str
    off: bool


class Overview(NamedTuple):
    """A whole parser: how it cuts, where it looks for the time, then its envelope, its variants and its steps."""

    parser: str
    version: str
    about: str
    events: str
    times: tuple[str, ...]
    kinds: tuple[str, ...]
    body: str | None
    envelope: Explanation | None
    variants: tuple[Explanation, ...]
    steps: tuple[StepNote, ...] = ()
    parts: Mapping[str, str] = MappingProxyType({})
    """The named pieces of pattern."""


def explain(parser: Parser) -> Overview:
    """What a parser will do, pattern by pattern."""
    definition, plan = parser._definition, parser._plan
    envelope = None
    if plan.envelope is not None and definition.envelope is not None:
        given = definition.envelope
        form = "pattern" if isinstance(given, str) else given.forms[0]
        written = given if isinstance(given, str) else given.pattern or given.regex or ""
        envelope = _explained("envelope", form, written, plan.envelope)
    variants = tuple(
        _of_variant(parser, variant, compiled.reading)._replace(as_one_with=_alike(plan, i), kinds=compiled.kinds)
        for i, (variant, compiled) in enumerate(zip(definition.variants, plan.variants, strict=True))
    )
    rules = {**definition.events.rules, **definition.events.given(("lead", "banner", "header"))}
    events = ", ".join(name if value is True else f"{name}: {value}" for name, value in rules.items()) or "line"
    times = tuple(_of_rule(rule) for rule in plan.times)
    kinds = tuple(kind.slot for kind in plan.kinds)
    return Overview(
        plan.parser, plan.version, definition.about, events, times, kinds, plan.body, envelope, variants,
        tuple(_of_step(number, step) for number, step in enumerate(definition.steps, 1)), definition.parts,
    )  # fmt: skip


def _alike(plan: Plan, place: int) -> tuple[str, ...]:
    """The other variants that the same regex reads behind the text that each opens with."""
    if not plan.has_routes and len(plan.variants) <= FEW:  # tried one after the other
        return ()
    return tuple(
        variant.name for i, variant in enumerate(plan.variants) if i != place and plan.alike[i] == plan.alike[place]
    )


def _of_step(number: int, step: Step) -> StepNote:
    return StepNote(number, step.operation, _as_written(step.form), step.when, step.note, step.off)


def _as_written(value: Any) -> str:
    """What a step is given, as the parser file could have it on a line."""
    if isinstance(value, FixedText):
        return f"{{text: {value.text}}}"
    if isinstance(value, BaseModel):
        given = value.model_dump(by_alias=True, exclude_unset=True)
        spans = {info.alias or name for name, info in type(value).model_fields.items() if info.annotation is float}
        return ", ".join(
            f"{name}: {f'{item:g} s' if name in spans else _as_written(item)}" for name, item in given.items()
        )
    if isinstance(value, dict):
        return ", ".join(f"{name}: {_as_written(item)}" for name, item in value.items())
    if isinstance(value, list):
        return ", ".join(map(_as_written, value))
    if isinstance(value, str) and value != value.strip():
        return f"`{value}`"
    return str(value).lower() if isinstance(value, bool) else str(value)


def _of_variant(parser: Parser, variant: Variant, reading: Reading) -> Explanation:
    form = variant.forms[0] if variant.forms else "nothing"
    found = _explained(variant.name, form, variant.pattern or variant.regex or "", reading)
    templates = {**(parser.model or load_model()).templates, **parser._definition.templates}
    found_event = whole(parser._definition.event, variant.event, templates, lambda is_own, message, hint: None)
    event = found_event.event if found_event is not None else None
    if event is None:
        return found
    table = event.translate.get(CLASS)
    if table is not None:
        default = [str(event.class_)] if event.class_ is not None else []
        classes = ", ".join(dict.fromkeys([*map(str, table.to.values()), *default]))
        return found._replace(mapped=f"by {table.from_}: {classes}")
    return found._replace(mapped=": ".join(str(word) for word in (event.class_, event.activity) if word is not None))


def _explained(name: str, form: str, written: str, reading: Reading) -> Explanation:
    slow = next((why for regex in reading.regexes if (why := why_slow(regex))), None)
    facts = [known(regex) for regex in reading.regexes if not slow] or [Known((), 0, None)]
    engine = f"event by event, for it has {slow}; at most {reading.budget or BUDGET:g} s each" if slow else _ENGINE
    ends = [fact.most for fact in facts]
    return Explanation(
        name, form, written, reading.regexes,
        facts[-1].literals,
        min(fact.least for fact in facts),
        None if None in ends else max(end for end in ends if end is not None),
        engine,
        tuple(FieldNote(item.name, item.type.name, plain(item.type)) for item in reading.every_field),
    )  # fmt: skip


def plain(kind: SlotType) -> str:
    """What the values of a type are, in a word or two."""
    names: dict[type[pl.DataType], str] = {
        pl.String: "text", pl.Int64: "whole number", pl.Float64: "number", pl.Boolean: "true or false",
    }  # fmt: skip
    return names.get(type(DTYPES[kind.value]), "instant")


def _of_rule(rule: TimeRulePlan) -> str:
    formats = " or ".join(fmt.text for fmt in rule.reading.formats)
    zone = f", zone {rule.reading.zone}" if rule.reading.zone else ""
    zone = f", zone in `{rule.zone_slot}`" if rule.zone_slot else zone
    return f"{rule.label}: {formats}{zone}"


def json_values(found: Overview) -> dict[str, Any]:
    """An overview as JSON can hold it."""

    def one(item: Explanation) -> dict[str, Any]:
        return item._asdict() | {"fields": [note._asdict() for note in item.fields]}

    return found._asdict() | {
        "envelope": one(found.envelope) if found.envelope else None,
        "variants": [one(item) for item in found.variants],
        "steps": [step._asdict() for step in found.steps],
    }
