"""A parser file to a plan, in passes; each pass adds to the plan or to the list of problems.

What is wrong with a file is found here as far as it takes more than one key to see it.
"""

from __future__ import annotations

import functools
import re
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import polars as pl

from kinglet.cutting.from_spec import cut_rule
from kinglet.errors import InvalidError, ParserFileError, UsageError, did_you_mean
from kinglet.ocsf import sharing
from kinglet.ocsf.loading import load_model
from kinglet.ocsf.mapping import Columns, MappingPlan, build_mapping
from kinglet.ocsf.schema import Model
from kinglet.patterns.types import BASES, TYPES, own_type
from kinglet.plan import time_rules
from kinglet.plan.data import (
    BODY,
    MORE,
    ONWARD,
    STAMP,
    Plan,
    Reading,
    TimeRulePlan,
    VariantPlan,
    said_type,
)
from kinglet.plan.readings import Context, message_slot, read_form, read_part, read_pattern
from kinglet.plan.steps import Fields
from kinglet.plan.zone_offset import zone_offset
from kinglet.runtime.extraction.same_but_prefix import alike
from kinglet.runtime.forks import begin
from kinglet.source.encodings import named
from kinglet.spec import loading
from kinglet.spec.document import Document, KeyPath
from kinglet.spec.schema import EventMapping, ParserFile, Variant
from kinglet.structured.by_form import is_within

if TYPE_CHECKING:
    from kinglet.plan.steps import StepPlan


@dataclass(kw_only=True)
class _Build(Context):
    """What the passes hand on."""

    definition: ParserFile
    above: tuple[str, ...] = ()
    steps: tuple[StepPlan, ...] = ()
    all_fields: dict[str, pl.DataType] = field(default_factory=dict)
    json: frozenset[str] = frozenset()
    times: list[TimeRulePlan] = field(default_factory=list)
    envelope: Reading | None = None
    body: str | None = None
    readings: list[Reading | None] = field(default_factory=list)
    fields: dict[str, pl.DataType] = field(default_factory=dict)
    owners: dict[str, str] = field(default_factory=dict)
    holds: dict[str, str] = field(default_factory=dict)
    mappings: list[MappingPlan | None] = field(default_factory=list)
    keeps_body: list[bool] = field(default_factory=list)
    unread: MappingPlan | None = None
    model: Model | None = None


def build(definition: ParserFile, document: Document, above: tuple[str, ...] = (), model: Model | None = None) -> Plan:
    """Compiles a parser file. above: the parsers that hand a field to this one. model: if not the one that ships.

    Raises:
        ParserFileError: with every problem of the file at once.
    """
    begin()
    work = _Build(document=document, definition=definition, above=above, model=model)
    for step in PASSES:
        step(work)
    if work.problems:
        raise ParserFileError(work.problems)
    return _plan(work)


def _times(work: _Build) -> None:
    """The rules for stamps, and the formats of their slots."""
    work.times = time_rules.rules(work.definition, work.document, work.report)
    work.shapes = time_rules.shapes(work.times)
    work.bare = time_rules.bare(work.definition.clock)


def _own_types(work: _Build) -> None:
    """The slot types that the parser declares."""
    for name, own in work.definition.types.items():
        path: KeyPath = ("types", name)
        if not re.fullmatch("[A-Za-z_][A-Za-z0-9_]*", name):
            work.report(path, f"`{name}` is no name of a type", "use letters, digits and _")
        elif name in TYPES:
            work.report(path, f"there is a type `{name}` already", f"call it `{name}_2`, or another name")
        elif own.base not in BASES:
            work.report((*path, "base"), f"no type to build on: `{own.base}`", did_you_mean(own.base, BASES, ""))
        elif (groups := work.checked_regex((*path, "regex"), own.regex)) is not None:
            if groups:
                hint = f"write `(?:` in place of `(?P<{groups[0]}>`"
                work.report((*path, "regex"), "has a named group; the slot names the field", hint)
            elif own.regex[0] == "^" or re.search(r"(?<!\\)(?:\\\\)*\$$", own.regex):
                work.report((*path, "regex"), "is anchored; a slot stands within a pattern", "leave ^ and $ out")
            elif work.checked_regex((*path, "regex"), f"(?:{own.regex})") is not None:
                work.types[name] = own_type(name, own.regex, own.base, own.about)


def _parts(work: _Build) -> None:
    """The named pieces of pattern; each may refer to those that stand before it."""
    work.part_names = tuple(work.definition.parts)
    for name, text in work.definition.parts.items():
        path: KeyPath = ("parts", name)
        if not re.fullmatch("[A-Za-z_][A-Za-z0-9_-]*", name):
            work.report(path, f"`{name}` is no name of a part", "use letters, digits, _ and -")
        work.parts[name] = read_part(work, path, text)


def _cut(work: _Build) -> None:
    events = work.definition.events
    for name, regex in (("start", events.start), ("end", events.end), ("lead", events.lead), ("banner", events.banner)):
        if regex is not None:
            work.checked_regex(("events", name), regex)
    if events.encoding is not None:
        try:
            named(events.encoding)
        except UsageError as error:
            work.report(("events", "encoding"), error.message, error.hint)


def _envelope(work: _Build) -> None:
    """The front part; the variants read its last slot."""
    given = work.definition.envelope
    if given is None:
        return
    path: KeyPath = ("envelope",)
    text = given if isinstance(given, str) else given.pattern
    onward = {variant.onward for variant in work.definition.variants if variant.onward is not None}
    if isinstance(given, str):
        work.envelope = read_pattern(work, path, given, {}, onward)
    else:
        work.envelope = read_form(work, path, given, {}, onward)
        work.body = BODY if given.syslog is not None or given.regex is not None else None
        if given.regex is not None and work.envelope and BODY not in (item.name for item in work.envelope.fields):
            work.report((*path, "regex"), f"has no group `{BODY}` for the message", f"end it with `(?P<{BODY}>.*)$`")
    if text is not None and work.envelope is not None:
        work.body = message_slot(work, text)
        if work.body is None and not work.envelope.structures:
            where = path if isinstance(given, str) else (*path, "pattern")
            hint = "end it with `{body:rest}`, or call a slot `{body:text}`"
            work.report(where, "has no slot for the message", hint, offset=max(len(text) - 1, 0), excerpt=text)
            work.envelope = None
    if work.envelope is not None:
        _own(work, work.envelope, path, "the envelope")


def _variants(work: _Build) -> None:
    shared = {item.name: "the envelope" for item in work.envelope.every_field} if work.envelope else {}
    shared.pop(MORE, None)
    names: set[str] = set()
    for i, variant in enumerate(work.definition.variants):
        path: KeyPath = ("variants", i)
        if variant.name in names:
            work.report((*path, "name"), f"a second variant `{variant.name}`", "give each variant a name of its own")
        names.add(variant.name)
        reading = _variant_reading(work, path, variant, shared)
        work.readings.append(reading)
        if reading is not None:
            _own(work, reading, path, f"the variant {variant.name}")


def _variant_reading(work: _Build, path: KeyPath, variant: Variant, shared: dict[str, str]) -> Reading | None:
    for key, name in (("from", variant.from_), ("onward", variant.onward)):
        if name is not None and name not in shared and (work.envelope or not work.definition.envelope):
            hint = did_you_mean(name, shared, "name a slot of the envelope")
            work.report((*path, key), f"the envelope has no slot `{name}`", hint)
    if variant.onward in shared and work.envelope is not None and variant.onward not in work.envelope.onward:
        hint = "name a slot of the envelope's pattern that stands in no optional part"
        work.report((*path, "onward"), f"cannot read on from `{variant.onward}`", hint)
    structured = work.envelope is None or work.envelope.structures
    if not variant.forms and not (structured and work.definition.envelope is not None):
        work.report(path, "says nothing of what it reads", "give it a `pattern`, `regex`, `json`, `pairs` or the like")
    return read_form(work, path, variant, shared)


def _own(work: _Build, reading: Reading, path: KeyPath, owner: str) -> None:
    """Writes down the fields of a reading; a name has one type in all of a parser."""
    named = {item.name for item in (*reading.fields, *(item for plan in reading.structures for item in plan.fields))}
    for item in reading.every_field:
        holds = "a slot" if item.name in named else "keys that have no name"
        if item.name == MORE and work.holds.setdefault(MORE, holds) != holds:
            work.report(path, f"`{MORE}` is {holds} here and {work.holds[MORE]} in {work.owners[MORE]}",
                        f"call the slot `log_{MORE}`")  # fmt: skip
        known = work.fields.setdefault(item.name, item.dtype)
        within = next((name for name in work.fields if is_within(name, item.name)), None)
        if within is not None:
            work.report(path, f"`{item.name}` and `{within}` cannot both be fields", "name one of them only")
        work.owners.setdefault(item.name, owner)
        if known != item.dtype:
            work.report(
                path,
                f"`{item.name}` is {said_type(item.dtype)} here and {said_type(known)} in {work.owners[item.name]}",
                "give it one type in all variants, or another name",
            )


def _kinds(work: _Build) -> None:
    kind = work.definition.kind
    slots_known = [item.name for item in work.envelope.every_field] if work.envelope else []
    if kind is not None:
        if work.definition.envelope is None:
            work.report(("kind",), "there is no envelope whose slot it could be", "add `envelope:`")
        elif work.envelope is not None and kind not in slots_known:
            work.report(
                ("kind",),
                f"the envelope has no slot `{kind}`",
                did_you_mean(kind, slots_known, "its slots are " + ", ".join(slots_known)),
            )
    for i, variant in enumerate(work.definition.variants):
        if variant.kind is None:
            continue
        if kind is None:
            work.report(
                ("variants", i, "kind"),
                "the parser does not say which slot holds the kind",
                "add `kind: SLOT` beside `envelope`",
            )
        elif work.envelope is not None and kind in slots_known:
            for value in variant.kind:
                if _as_kind(value, work.fields[kind]) is None:
                    work.report(
                        ("variants", i, "kind"),
                        f"{value!r} can never be a value of `{kind}`",
                        f"`{kind}` is {said_type(work.fields[kind])}",
                    )


def _as_kind(value: str | int, dtype: pl.DataType) -> str | int | None:
    """A value of kind as its column has it; null where the column cannot have it."""
    if dtype == pl.Int64:
        return value if isinstance(value, int) else None
    return str(value) if dtype == pl.String else None


def _time_fields(work: _Build) -> None:
    where = time_rules.paths(work.definition, work.document)
    known = all(reading is not None for reading in work.readings)
    time_rules.check_fields(work.times, work.fields, where, work.report, known=known)


def _steps(work: _Build) -> None:
    """What is done to fields after they are read."""
    work.all_fields = dict(work.fields)
    structured = [reading for reading in (work.envelope, *work.readings) if reading is not None and reading.structures]
    work.json = frozenset({MORE} if structured else ())
    if not work.definition.steps:
        return
    from kinglet.steps.building import after_steps, build_steps

    work.steps, work.all_fields, work.json = build_steps(
        work, work.definition.steps, work.fields, work.json, lambda name: _other(work, name)
    )
    work.fields = after_steps(work.steps, work.fields)


def _other(work: _Build, name: str) -> Plan:
    """The plan of another parser: the file of its name beside this one, or a ready parser.

    Raises:
        ValueError: there is none, or it cannot be used.
    """
    above = (*work.above, work.definition.parser)
    if name in above:
        raise InvalidError(f"`{name}` would read its own fields again", "hand it to another parser")
    ready = loading.ready_parsers()
    folder = work.document.folder
    path = folder / f"{name}.yaml"
    if not re.fullmatch(r"[A-Za-z0-9][A-Za-z0-9_.-]*", name) or not (path.is_file() or name in ready):
        beside = [file.stem for file in folder.glob("*.yaml")]
        hint = did_you_mean(name, [*beside, *ready], f"put {name}.yaml beside this file")
        raise InvalidError(f"there is no parser `{name}` beside this file", hint)
    try:
        return build(*loading.read(path if path.is_file() else ready[name]), above, work.model)
    except ParserFileError as error:
        first = str(error).splitlines()[0]
        raise ValueError(f"the parser `{name}` cannot be used: {first.replace('; ', ', ')}") from None


def _after(work: _Build, fields: dict[str, pl.DataType]) -> dict[str, pl.DataType]:
    """The fields of some events after all steps."""
    if not work.steps:
        return fields
    from kinglet.steps.building import after_steps

    return after_steps(work.steps, fields)


def _mappings(work: _Build) -> None:
    model = work.model or load_model()
    envelope = {item.name: item.dtype for item in work.envelope.every_field} if work.envelope else {}
    envelope |= time_rules.given(work.times, envelope)
    stamps = tuple(rule.slot for rule in work.times if rule.slot and not rule.searches and not rule.field)
    used = {name for step in work.steps for name in (*step.action.uses, *(need for need, _ in step.needs))}

    wholes, fields_of = _shared(work, model, envelope, used)
    left_out = sharing.left_out(
        [(item, _after(work, known)) if item and known is not None else None
         for item, known in zip(wholes, fields_of, strict=True)],
        {**work.all_fields, **work.fields}, model,
    )  # fmt: skip
    for i, (item, fields, keys) in enumerate(zip(wholes, fields_of, left_out, strict=True)):
        reading = work.readings[i]
        event = sharing.without(item.event, keys) if item is not None else None
        where = _mapping_place(work.document, i)
        if reading is None or fields is None:  # its fields are not known, but classes and attributes can be judged
            if event is not None:
                event = event.model_copy(update={"set": dict.fromkeys(event.set, "NULL"), "translate": {}})
                build_mapping(work.definition, event, Columns({}), model, work.report, where)
            work.mappings.append(None)
            continue
        original = _original(work, fields)
        offset = zone_offset(work.times, original is not None)
        slots = {
            item.name: item.type.name
            for item in (*(work.envelope.every_field if work.envelope else ()), *reading.every_field)
        }
        columns = Columns(_after(work, fields), slots if not work.steps else {}, stamps, original, work.json, offset)
        mapping = build_mapping(work.definition, event, columns, model, work.report, where)
        work.mappings.append(mapping._replace(left_out=keys) if mapping is not None else None)
    work.problems = list(dict.fromkeys(work.problems))
    original = _original(work, envelope)
    offset = zone_offset(work.times, original is not None)
    columns = Columns(_after(work, envelope), {}, stamps, original, work.json, offset)
    work.unread = build_mapping(work.definition, None, columns, model, work.report, lambda key: ("event",))


def _shared(
    work: _Build, model: Model, envelope: Fields, used: set[str]
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
        work.keeps_body.append(work.body in (used | sharing.reads(last.event, fields) if last is not None else used))
        if not work.keeps_body[-1] and variant.from_ is None and variant.forms:
            fields.pop(work.body or "", None)
        fields_of.append(fields | time_rules.given(work.times, fields))
    return wholes, fields_of


def _templates(work: _Build, model: Model) -> dict[str, EventMapping]:
    """Those of the parser, and of the model's file."""
    for name, item in work.definition.templates.items():
        if name in model.templates:
            work.report(("templates", name), f"the model's file has a template `{name}` too", "give it another name")
        if item.template is not None:
            work.report(("templates", name, "template"), "a template stands over no other", "write it out")
    return {**model.templates, **work.definition.templates}


def _no_template(work: _Build, variant: int, is_own: bool, message: str, hint: str) -> None:
    work.report(("variants", variant, "event", "template") if is_own else ("event", "template"), message, hint)


def _original(work: _Build, fields: dict[str, pl.DataType]) -> str | None:
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


PASSES: tuple[Callable[[_Build], None], ...] = (
    _times,
    _own_types,
    _parts,
    _cut,
    _envelope,
    _variants,
    _kinds,
    _time_fields,
    _steps,
    _mappings,
)


def _plan(work: _Build) -> Plan:
    definition = work.definition
    variants: list[VariantPlan] = []
    found = zip(definition.variants, work.readings, work.mappings, work.keeps_body, strict=True)
    for variant, reading, mapping, keeps_body in found:
        assert reading is not None
        kinds = tuple(variant.kind) if variant.kind is not None else None
        source = f"{ONWARD}{variant.onward}" if variant.onward is not None else variant.from_
        variants.append(VariantPlan(variant.name, reading, kinds, mapping, source, keeps_body))
    routes: dict[str | int, tuple[int, ...]] = {}
    if definition.kind is not None:
        dtype = work.fields[definition.kind]
        values = {_as_kind(value, dtype) for variant in variants for value in variant.kinds or ()}
        for value in values:
            if value is not None:
                candidates = [
                    i
                    for i, variant in enumerate(variants)
                    if variant.kinds is None or value in {_as_kind(kind, dtype) for kind in variant.kinds}
                ]
                routes[value] = tuple(candidates)
    return Plan(
        parser=definition.parser,
        version=definition.version,
        cut=cut_rule(definition.events),
        envelope=work.envelope,
        body=work.body,
        kind=definition.kind,
        variants=tuple(variants),
        routes=dict(sorted(routes.items(), key=lambda item: str(item[0]))),
        otherwise=tuple(i for i, variant in enumerate(variants) if variant.kinds is None),
        times=tuple(work.times),
        limits=time_rules.limits(definition.clock),
        missing=definition.clock.missing,
        fields=work.fields,
        unread=work.unread,
        steps=work.steps,
        all_fields=work.all_fields,
        json=work.json,
        bare=work.bare,
        alike=alike(variants),
    )
