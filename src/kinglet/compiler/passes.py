"""A parser file to a plan, in passes; each pass adds to the plan or to the list of problems.

What is wrong with a file is found here as far as it takes more than one key to see it.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence

import polars as pl

from kinglet.compiler.mappings import mappings
from kinglet.compiler.work import Build
from kinglet.cutting.from_spec import cut_rule
from kinglet.errors import InvalidError, ParserFileError, UsageError, did_you_mean
from kinglet.ocsf.schema import Model
from kinglet.patterns.types import BASES, TYPES, own_type
from kinglet.plan import time_rules
from kinglet.plan.data import (
    BODY,
    MORE,
    ONWARD,
    KindPlan,
    Plan,
    Reading,
    VariantPlan,
    said_type,
)
from kinglet.plan.readings import message_slot, read_form, read_part, read_pattern
from kinglet.runtime.extraction.same_but_prefix import alike
from kinglet.runtime.forks import begin
from kinglet.source.encodings import named
from kinglet.spec import loading
from kinglet.spec.document import Document, KeyPath
from kinglet.spec.forms import ReadingForm
from kinglet.spec.ready import ready_parsers
from kinglet.spec.schema import Envelope, ParserFile, Variant
from kinglet.structured.by_form import is_within
from kinglet.structures import STRUCTURES


def build(
    definition: ParserFile,
    document: Document,
    above: tuple[str, ...] = (),
    model: Model | None = None,
    like: Plan | None = None,
    maps: bool = True,
) -> Plan:
    """Compiles a parser file. above: the parsers that hand a field to this one. model: if not the one that ships.

    like: a plan of the same variants, whose events shall have the same fields before all steps. maps: whether events
    will be mapped onto the model; to compile the mappings takes most of the time.

    Raises:
        ParserFileError: with every problem of the file at once.
    """
    begin()
    definition = _with_message(definition)
    work = Build(document=document, definition=definition, above=above, model=model, like=like, maps=maps)
    for step in PASSES:
        step(work)
    if work.problems:
        raise ParserFileError(work.problems)
    return _plan(work)


def _with_message(definition: ParserFile) -> ParserFile:
    """A definition whose variants read the key `body` of an envelope of structure, where it has one."""
    given = definition.envelope
    if not isinstance(given, Envelope) or not set(given.forms) & set(STRUCTURES) or BODY not in given.written:
        return definition
    variants = [
        variant.model_copy(update={"from_": BODY})
        if variant.from_ is None and variant.onward is None and variant.forms
        else variant
        for variant in definition.variants
    ]
    return definition.model_copy(update={"variants": variants})


def _times(work: Build) -> None:
    """The rules for stamps, and the formats of their slots."""
    work.times = time_rules.rules(work.definition, work.document, work.report)
    work.shapes = time_rules.shapes(work.times)
    work.bare = time_rules.bare(work.definition.clock)


def _own_types(work: Build) -> None:
    """The slot types that the parser declares."""
    for name, own in work.definition.types.items():
        path: KeyPath = ("types", name)
        if not re.fullmatch("[A-Za-z_][A-Za-z0-9_]*", name):
            work.report(path, f"`{name}` is no name of a type", "use letters, digits and _")
        elif name in TYPES:
            work.report(path, f"there is a type `{name}` already", f"call it `{name}_2`, or another name")
        elif own.base not in BASES:
            work.report((*path, "base"), f"no type to build on: `{own.base}`", did_you_mean(own.base, BASES, ""))
        elif own.unescape is not None and TYPES[own.base].value != "text":
            work.report((*path, "unescape"), f"`{own.base}` is no text", "leave `base` out, or take `quoted`")
        elif (groups := work.checked_regex((*path, "regex"), own.regex)) is not None:
            if groups:
                hint = f"write `(?:` in place of `(?P<{groups[0]}>`"
                work.report((*path, "regex"), "has a named group; the slot names the field", hint)
            elif own.regex[0] == "^" or re.search(r"(?<!\\)(?:\\\\)*\$$", own.regex):
                work.report((*path, "regex"), "is anchored; a slot stands within a pattern", "leave ^ and $ out")
            elif work.checked_regex((*path, "regex"), f"(?:{own.regex})") is not None:
                work.types[name] = own_type(name, own.regex, own.base, own.about, own.unescape or "")


def _parts(work: Build) -> None:
    """The named pieces of pattern; each may refer to those that stand before it."""
    work.part_names = tuple(work.definition.parts)
    for name, text in work.definition.parts.items():
        path: KeyPath = ("parts", name)
        if not re.fullmatch("[A-Za-z_][A-Za-z0-9_-]*", name):
            work.report(path, f"`{name}` is no name of a part", "use letters, digits, _ and -")
        work.parts[name] = read_part(work, path, text)


def _cut(work: Build) -> None:
    events = work.definition.events
    for name in ("start", "end", "lead", "banner", "header"):
        if (regex := getattr(events, name)) is not None:
            work.checked_regex(("events", name), regex)
    if events.encoding is not None:
        try:
            named(events.encoding)
        except UsageError as error:
            work.report(("events", "encoding"), error.message, error.hint)


def _envelope(work: Build) -> None:
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
        _check_header(work, path, given)
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


def _check_header(work: Build, path: KeyPath, form: ReadingForm) -> None:
    """A header names the columns of whole events, and of none but where the log has one."""
    events = work.definition.events
    csv = events.csv is True or (events.csv is not None and events.csv.header)
    if form.has_header and not csv and events.header is None:
        hint = "write `events: csv`, give the `header` of `events`, or the names of the columns"
        work.report((*path, "delimited", "names"), "there is no header: events are not rows under one", hint)


def _variants(work: Build) -> None:
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


def _variant_reading(work: Build, path: KeyPath, variant: Variant, shared: dict[str, str]) -> Reading | None:
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
    _check_header(work, path, variant)
    if variant.has_header and (work.definition.envelope is not None or variant.from_ is not None):
        hint = "make it the `envelope`, or give the names of the columns"
        work.report((*path, "delimited"), "a header names the columns of whole events", hint)
    return read_form(work, path, variant, shared)


def _own(work: Build, reading: Reading, path: KeyPath, owner: str) -> None:
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


def _kinds(work: Build) -> None:
    """The slots whose values choose the variants, and the values by which each is chosen."""
    kinds = work.definition.kind or []
    slots_known = [item.name for item in work.envelope.every_field] if work.envelope else []
    for kind in kinds:
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
        path: KeyPath = ("variants", i, "kind")
        if not kinds:
            hint = "add `kind: SLOT` beside `envelope`"
            work.report(path, "the parser does not say which slot holds the kind", hint)
            continue
        if not isinstance(variant.kind, dict) and len(kinds) > 1:
            first = f"{kinds[0]}: {variant.kind[0]}"
            work.report(path, "does not say of which of the kind slots this is a value", f"write `{{{first}}}`")
        for slot, values in _values_of(variant, kinds).items():
            if slot not in kinds:
                hint = did_you_mean(slot, kinds, "name one of those under `kind`")
                work.report((*path, slot), f"`{slot}` is none of the kind slots", hint)
            elif work.envelope is not None and slot in slots_known:
                for value in values:
                    if _as_kind(value, work.fields[slot]) is None:
                        holds = f"`{slot}` is {said_type(work.fields[slot])}"
                        work.report(path, f"{value!r} can never be a value of `{slot}`", holds)


def _values_of(variant: Variant, kinds: Sequence[str]) -> dict[str, list[str | int]]:
    """The values that mean a variant, by the slots that have them."""
    if isinstance(variant.kind, dict):
        return variant.kind
    return {kinds[0]: variant.kind} if variant.kind is not None and len(kinds) == 1 else {}


def _as_kind(value: str | int, dtype: pl.DataType) -> str | int | None:
    """A value of kind as its column has it; null where the column cannot have it."""
    if dtype == pl.Int64:
        return value if isinstance(value, int) else None
    return str(value) if dtype == pl.String else None


def _time_fields(work: Build) -> None:
    where = time_rules.paths(work.definition, work.document)
    known = all(reading is not None for reading in work.readings)
    time_rules.check_fields(work.times, work.fields, where, work.report, known=known)


def _steps(work: Build) -> None:
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


def _other(work: Build, name: str) -> Plan:
    """The plan of another parser: the file of its name beside this one, or a ready parser.

    Raises:
        ValueError: there is none, or it cannot be used.
    """
    above = (*work.above, work.definition.parser)
    if name in above:
        raise InvalidError(f"`{name}` would read its own fields again", "hand it to another parser")
    ready = ready_parsers()
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


PASSES: tuple[Callable[[Build], None], ...] = (
    _times,
    _own_types,
    _parts,
    _cut,
    _envelope,
    _variants,
    _kinds,
    _time_fields,
    _steps,
    mappings,
)


def _plan(work: Build) -> Plan:
    definition = work.definition
    variants: list[VariantPlan] = []
    found = zip(definition.variants, work.readings, work.mappings, work.keeps_body, work.class_numbers, strict=True)
    for variant, reading, built, keeps_body, class_number in found:
        assert reading is not None
        kinds = {slot: tuple(values) for slot, values in _values_of(variant, definition.kind or ()).items()}
        source = f"{ONWARD}{variant.onward}" if variant.onward is not None else variant.from_
        variants.append(VariantPlan(variant.name, reading, kinds, built, source, keeps_body, class_number))
    return Plan(
        parser=definition.parser,
        version=definition.version,
        cut=cut_rule(definition.events),
        envelope=work.envelope,
        body=work.body,
        kinds=tuple(_kind_plan(slot, variants, work.fields[slot]) for slot in definition.kind or ()),
        variants=tuple(variants),
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


def _kind_plan(slot: str, variants: Sequence[VariantPlan], dtype: pl.DataType) -> KindPlan:
    """The variants for each value of a slot; those that do not name the slot come into question for all of them."""
    named = [{_as_kind(value, dtype) for value in variant.kinds.get(slot, ())} for variant in variants]
    free = [slot not in variant.kinds for variant in variants]
    routes = {
        value: tuple(i for i, values in enumerate(named) if free[i] or value in values)
        for values in named
        for value in values
        if value is not None
    }
    ordered = dict(sorted(routes.items(), key=lambda item: str(item[0])))
    return KindPlan(slot, ordered, tuple(i for i, is_free in enumerate(free) if is_free))
