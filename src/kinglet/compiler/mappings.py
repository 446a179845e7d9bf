"""The pass that makes the mappings of variants, each with what it shares with others."""

from __future__ import annotations

import functools
from collections.abc import Callable

import polars as pl

from kinglet.compiler.work import Build
from kinglet.ocsf import sharing
from kinglet.ocsf.class_by_event import ByClass, by_class
from kinglet.ocsf.identity import CLASS
from kinglet.ocsf.loading import load_model
from kinglet.ocsf.mapping import Columns, build_mapping
from kinglet.ocsf.schema import Model
from kinglet.plan import time_rules
from kinglet.plan.data import STAMP
from kinglet.plan.steps import Fields
from kinglet.plan.zone_offset import zone_offset
from kinglet.spec.document import Document, KeyPath
from kinglet.spec.schema import EventMapping


def mappings(work: Build) -> None:
    """The mapping of each variant, and of events that no variant reads."""
    model = work.model or load_model()
    envelope = {item.name: item.dtype for item in work.envelope.every_field} if work.envelope else {}
    envelope |= time_rules.given(work.times, envelope)
    stamps = tuple(rule.slot for rule in work.times if rule.slot and not rule.searches and not rule.field)
    used = {name for step in work.steps for name in (*step.action.uses, *(need for need, _ in step.needs))}

    wholes, fields_of = _shared(work, model, envelope, used)
    if not work.maps:
        work.mappings, work.class_numbers = [()] * len(wholes), [None] * len(wholes)
        return
    after = [_after(work, fields) if fields is not None else None for fields in fields_of]
    every = {**work.all_fields, **work.fields}
    wholes = [
        sharing.narrowed(item, fields, every) if item is not None and fields is not None else item
        for item, fields in zip(wholes, after, strict=True)
    ]
    split = [
        _by_class(work, item, fields, every, model, i)
        for i, (item, fields) in enumerate(zip(wholes, after, strict=True))
    ]
    left_out = sharing.left_out([(item.wholes, known) for item, known in zip(split, after, strict=True)], every, model)
    for i, (item, fields, known, keys) in enumerate(zip(split, fields_of, after, left_out, strict=True)):
        reading = work.readings[i]
        where = _mapping_place(work.document, i)
        events = [sharing.without(one.event, no) for one, no in zip(item.wholes, keys, strict=True)]
        if (
            reading is None or fields is None or known is None
        ):  # its fields are not known, but classes and attributes can be judged
            for event in events:
                event = event.model_copy(update={"set": dict.fromkeys(event.set, "NULL"), "translate": {}})
                build_mapping(work.definition, event, Columns({}), model, work.report, where)
            work.mappings.append(())
            work.class_numbers.append(None)
            continue
        original = _original(work, fields)
        offset = zone_offset(work.times, original is not None)
        slots = {
            item.name: item.type.name
            for item in (*(work.envelope.every_field if work.envelope else ()), *reading.every_field)
        }
        columns = Columns(known, slots if not work.steps else {}, stamps, original, work.json, offset)
        built = [
            build_mapping(work.definition, event, columns, model, work.report, where) for event in events or (None,)
        ]
        plans = [
            plan._replace(left_out={**item.left_out, **no})
            for plan, no in zip(built, keys or [{}], strict=True)
            if plan is not None
        ]
        number = None
        if len(plans) > 1 and item.number is not None:
            number = item.number
            if item.is_other is not None:
                plans[0] = plans[0]._replace(counted=(*plans[0].counted, (f"no-class:{CLASS}", item.is_other)))
        work.mappings.append(tuple(plans))
        work.class_numbers.append(number)
    work.problems = list(dict.fromkeys(work.problems))
    original = _original(work, envelope)
    offset = zone_offset(work.times, original is not None)
    columns = Columns(_after(work, envelope), {}, stamps, original, work.json, offset)
    work.unread = build_mapping(work.definition, None, columns, model, work.report, lambda key: ("event",))


def _after(work: Build, fields: dict[str, pl.DataType]) -> dict[str, pl.DataType]:
    """The fields of some events after all steps."""
    if not work.steps:
        return fields
    from kinglet.steps.building import after_steps

    return after_steps(work.steps, fields)


def _shared(
    work: Build, model: Model, envelope: Fields, used: set[str]
) -> tuple[list[sharing.Whole | None], list[Fields | None]]:
    """The mappings of variants with what they share, and the fields of each; none where these are not known."""
    templates = _templates(work, model)
    wholes: list[sharing.Whole | None] = []
    fields_of: list[Fields | None] = []
    for i, (variant, reading) in enumerate(zip(work.definition.variants, work.readings, strict=True)):
        report = functools.partial(_no_template, work, i)
        wholes.append(sharing.whole(work.definition.event, variant.event, templates, report))
        if reading is None:
            work.keeps_body.append(False)
            fields_of.append(None)
            continue
        fields = envelope | {item.name: item.dtype for item in reading.every_field}
        last = wholes[-1]
        read = used | sharing.reads(last.event, fields) if last is not None else used
        work.keeps_body.append(work.body in read if work.like is None else work.like.variants[i].keeps_body)
        if not work.keeps_body[-1] and variant.from_ is None and variant.forms:
            fields.pop(work.body or "", None)
        fields_of.append(fields | time_rules.given(work.times, fields))
    return wholes, fields_of


def _by_class(
    work: Build, item: sharing.Whole | None, fields: Fields | None, every: Fields, model: Model, variant: int
) -> ByClass:
    """A variant's mapping for each class that its events may have."""
    if item is None:
        return ByClass([])
    return by_class(
        item, fields, every, model, functools.partial(work.report, _mapping_place(work.document, variant)(CLASS))
    )


def _templates(work: Build, model: Model) -> dict[str, EventMapping]:
    """Those of the parser, and of the model's file."""
    for name, item in work.definition.templates.items():
        if name in model.templates:
            work.report(("templates", name), f"the model's file has a template `{name}` too", "give it another name")
        if item.template is not None:
            work.report(("templates", name, "template"), "a template stands over no other", "write it out")
    return {**model.templates, **work.definition.templates}


def _no_template(work: Build, variant: int, is_own: bool, message: str, hint: str) -> None:
    work.report(("variants", variant, "event", "template") if is_own else ("event", "template"), message, hint)


def _original(work: Build, fields: dict[str, pl.DataType]) -> str | None:
    """The column of the text that gave the time, where a rule looks at events with these fields."""
    looks = any(rule.field is None and (rule.slot is None or rule.slot in fields) for rule in work.times)
    return STAMP if looks else None


def _mapping_place(document: Document, variant: int) -> Callable[[str], KeyPath]:
    """Where a key of a mapping stands: with its variant, or with what all variants share."""
    roots: list[KeyPath] = [("variants", variant, "event"), ("event",)]
    roots += [("templates", name) for name in document.values.get("templates") or ()]

    def place(key: str) -> KeyPath:
        for root in roots:
            for path in ((*root, "set", key), (*root, "translate", key), (*root, key)):
                if path in document.starts:
                    return path
        return next((root for root in roots if root in document.starts), ("variants", variant))

    return place
