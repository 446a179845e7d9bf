"""A parser file to a plan, in passes; each pass adds to the plan or to the list of problems.

What is wrong with a file is found here as far as it takes more than one key to see it.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field

import polars as pl

from kinglet.clock.formats import parse_format
from kinglet.definition.document import Document, Path
from kinglet.definition.schema import Envelope, ParserFile, Variant
from kinglet.engine import time_rules
from kinglet.engine.plan import (
    MORE,
    RESERVED,
    STAMP,
    FieldPlan,
    Plan,
    Reading,
    StructurePlan,
    TimeRulePlan,
    VariantPlan,
)
from kinglet.errors import ParserFileError, Problem, UsageError, did_you_mean
from kinglet.extract.delimited import Delimited
from kinglet.extract.forms import Structure, is_within
from kinglet.extract.json_objects import JsonObjects
from kinglet.extract.pairs import Pairs
from kinglet.model.mapping import MappingPlan, build_mapping, merged
from kinglet.model.schema import load_model
from kinglet.patterns.compiling import to_regexes
from kinglet.patterns.dialect import RegexError, check_regex
from kinglet.patterns.slots import Optional, PatternError, Slot, Token, parse, slots
from kinglet.patterns.types import BASES, STRUCTURES, TYPES, SlotType, own_type
from kinglet.raw.encodings import named
from kinglet.raw.rules import cut_rule

_ISO = "iso8601"
_KEPT = "_text"


@dataclass
class _Build:
    """What the passes hand on."""

    definition: ParserFile
    document: Document
    problems: list[Problem] = field(default_factory=list)
    times: list[TimeRulePlan] = field(default_factory=list)
    shapes: dict[str, str] = field(default_factory=dict)
    types: dict[str, SlotType] = field(default_factory=lambda: dict(TYPES))
    envelope: Reading | None = None
    body: str | None = None
    readings: list[Reading | None] = field(default_factory=list)
    fields: dict[str, pl.DataType] = field(default_factory=dict)
    owners: dict[str, str] = field(default_factory=dict)
    mappings: list[MappingPlan | None] = field(default_factory=list)
    unread: MappingPlan | None = None

    def report(self, path: Path, message: str, hint: str = "", *, offset: int = -1, excerpt: str = "") -> None:
        self.problems.append(self.document.problem(path, message, hint, offset=offset, excerpt=excerpt))


def build(definition: ParserFile, document: Document) -> Plan:
    """Compiles a parser file.

    Raises:
        ParserFileError: with every problem of the file at once.
    """
    work = _Build(definition, document)
    for step in PASSES:
        step(work)
    if work.problems:
        raise ParserFileError(work.problems)
    return _plan(work)


def _times(work: _Build) -> None:
    """The rules for stamps, and the formats of their slots."""
    work.times = time_rules.rules(work.definition, work.document, work.report)
    work.shapes = time_rules.shapes(work.times)


def _own_types(work: _Build) -> None:
    """The slot types that the parser declares."""
    for name, own in work.definition.types.items():
        path: Path = ("types", name)
        if not re.fullmatch("[A-Za-z_][A-Za-z0-9_]*", name):
            work.report(path, f"`{name}` is no name of a type", "use letters, digits and _")
        elif name in TYPES:
            work.report(path, f"there is a type `{name}` already", f"call it `{name}_2`, or another name")
        elif own.base not in BASES:
            work.report((*path, "base"), f"no type to build on: `{own.base}`", did_you_mean(own.base, BASES, ""))
        elif (groups := _checked_regex(work, (*path, "regex"), own.regex)) is not None:
            if groups:
                hint = f"write `(?:` in place of `(?P<{groups[0]}>`"
                work.report((*path, "regex"), "has a named group; the slot names the field", hint)
            elif own.regex[0] == "^" or re.search(r"(?<!\\)(?:\\\\)*\$$", own.regex):
                work.report((*path, "regex"), "is anchored; a slot stands within a pattern", "leave ^ and $ out")
            elif _checked_regex(work, (*path, "regex"), f"(?:{own.regex})") is not None:
                work.types[name] = own_type(name, own.regex, own.base, own.about)


def _cut(work: _Build) -> None:
    events = work.definition.events
    for name, regex in (("start", events.start), ("end", events.end)):
        if regex is not None:
            _checked_regex(work, ("events", name), regex)
    if events.encoding is not None:
        try:
            named(events.encoding)
        except UsageError as error:
            message, _, hint = str(error).partition("; ")
            work.report(("events", "encoding"), message, hint)


def _envelope(work: _Build) -> None:
    """The front part; the variants read its last slot."""
    text = work.definition.envelope
    if text is None:
        return
    if isinstance(text, Envelope):
        form = _structure_of(text)
        assert form is not None
        work.envelope = Reading(
            (), (), structures=(_structure(work, ("envelope",), form, None, "", _types_of(text), {}),)
        )
        _own(work, work.envelope, ("envelope",), "the envelope")
        return
    tokens = _tokens(work, ("envelope",), text, {})
    if tokens is None:
        return
    if any(slot.type in STRUCTURES for slot in slots(tokens)):
        work.report(
            ("envelope",), "has a slot of structure", "let a variant read it, or write `envelope: {json: true}`"
        )
        return
    last = tokens[-1] if tokens else None
    if not isinstance(last, Slot) or last.type not in ("rest", "text") or not last.name:
        work.report(
            ("envelope",),
            "does not end with a slot for the message",
            "end it with `{body:rest}`",
            offset=len(text) - 1,
            excerpt=text,
        )
        return
    work.body = last.name
    work.envelope = _pattern_reading(work, tokens)
    _own(work, work.envelope, ("envelope",), "the envelope")


def _structure_of(item: Envelope | Variant) -> Structure | None:
    """The structure that an envelope or a variant is."""
    if item.json_ is not None:
        return JsonObjects()
    if item.pairs is not None:
        return Pairs() if item.pairs is True else Pairs(item.pairs.between, item.pairs.equals, item.pairs.quote)
    if item.delimited is not None:
        return Delimited(item.delimited.names, item.delimited.delimiter, item.delimited.quote)
    return None


def _types_of(item: Envelope | Variant) -> dict[str, str]:
    """The keys of a structure that become fields, and their types; the columns of a row all do."""
    named = dict.fromkeys(item.delimited.names, "text") if item.delimited is not None else {}
    return named | item.types


def _structure(
    work: _Build,
    path: Path,
    structure: Structure,
    source: str | None,
    prefix: str,
    types: Mapping[str, str],
    shared: Mapping[str, str],
) -> StructurePlan:
    """A structure whose keys become fields by the names and types that are given."""
    keys: list[str] = []
    items: list[FieldPlan] = []
    for name, kind in types.items():
        key = name.removeprefix(prefix)
        if name in RESERVED or name == MORE:
            hint = f"call the field `log_{name}`; it has the key `{name}`" if name in RESERVED else "leave it out"
            work.report((*path, "types", name), f"`{name}` is a column of every event", hint)
        elif name in shared:
            work.report((*path, "types", name), f"`{name}` is a slot of {shared[name]}", "leave it out")
        elif kind not in work.types or kind in ("rest", *STRUCTURES):
            work.report((*path, "types", name), f"no such type `{kind}`", _type_hint(work, kind))
        else:
            bare = key.removeprefix("log_")
            renamed = key != bare and bare in RESERVED and not isinstance(structure, Delimited)
            keys.append(bare if renamed else key)
            items.append(FieldPlan(name, _type(work, name, kind)))
    return StructurePlan(structure, source, prefix, tuple(keys), tuple(items))


def _variants(work: _Build) -> None:
    shared = {item.name: "the envelope" for item in work.envelope.every_field} if work.envelope else {}
    shared.pop(MORE, None)
    names: set[str] = set()
    for i, variant in enumerate(work.definition.variants):
        path: Path = ("variants", i)
        if variant.name in names:
            work.report((*path, "name"), f"a second variant `{variant.name}`", "give each variant a name of its own")
        names.add(variant.name)
        reading = _variant_reading(work, path, variant, shared)
        work.readings.append(reading)
        if reading is not None:
            _own(work, reading, path, f"the variant {variant.name}")


def _variant_reading(work: _Build, path: Path, variant: Variant, shared: dict[str, str]) -> Reading | None:
    if variant.from_ is not None and variant.from_ not in shared and (work.envelope or not work.definition.envelope):
        hint = did_you_mean(variant.from_, shared, "name a slot of the envelope")
        work.report((*path, "from"), f"the envelope has no slot `{variant.from_}`", hint)
    if variant.pattern is not None:
        tokens = _tokens(work, (*path, "pattern"), variant.pattern, shared)
        if tokens is None:
            return None
        return _with_structures(work, path, variant, tokens, shared)
    structure = _structure_of(variant)
    if structure is not None:
        return Reading((), (), structures=(_structure(work, path, structure, None, "", _types_of(variant), shared),))
    if variant.regex is None:
        if not isinstance(work.definition.envelope, Envelope):
            work.report(
                path, "says nothing of what it reads", "give it a `pattern`, `regex`, `json`, `pairs` or `delimited`"
            )
        return Reading((), ())
    groups = _checked_regex(work, (*path, "regex"), variant.regex)
    if groups is None:
        return None
    for name in groups:
        if name in RESERVED or name in shared:
            where = f"(?P<{name}>"
            _refuse_name(work, (*path, "regex"), name, shared, variant.regex.index(where) + 4, variant.regex)
    for name, kind in variant.types.items():
        if name not in groups:
            hint = did_you_mean(name, groups, "the groups are " + ", ".join(groups))
            work.report((*path, "types", name), f"the regex has no group `{name}`", hint)
        elif kind not in work.types:
            work.report((*path, "types", name), f"no such type `{kind}`", _type_hint(work, kind))
    items = tuple(FieldPlan(name, _type(work, name, variant.types.get(name, "text"))) for name in groups)
    return Reading((variant.regex,), items)


def _with_structures(
    work: _Build, path: Path, variant: Variant, tokens: tuple[Token, ...], shared: dict[str, str]
) -> Reading:
    """The reading of a pattern, and of the structure in its slots."""
    reading = _pattern_reading(work, tokens)
    left = dict(variant.types)
    taken = shared | {item.name: "this pattern" for item in reading.fields}
    plans: list[StructurePlan] = []
    some = [slot for slot in slots(tokens) if slot.type in STRUCTURES]
    for slot in some:
        name = slot.name.removesuffix(_KEPT)
        prefix = "" if slot.source.startswith("{:") else f"{name}."
        mine = {name: kind for name, kind in left.items() if name.startswith(prefix)}
        left = {name: kind for name, kind in left.items() if name not in mine}
        structure: Structure = JsonObjects() if slot.type == "json" else Pairs()
        plans.append(_structure(work, path, structure, slot.name, prefix, mine, taken))
    for name in left:
        known = ", ".join(f"`{slot.name.removesuffix(_KEPT)}.`" for slot in some)
        hint = f"its name begins with that of a slot: {known}" if some else "in a pattern write {name:type}"
        work.report((*path, "types", name), "is no key of a slot of structure", hint)
    return reading._replace(structures=tuple(plans))


def _tokens(work: _Build, path: Path, text: str, shared: dict[str, str]) -> tuple[Token, ...] | None:
    """The tokens of a pattern whose slots are all good."""
    try:
        tokens = _named(parse(text))
    except PatternError as error:
        work.report(path, error.message, error.hint, offset=error.offset, excerpt=text)
        return None
    before = len(work.problems)
    seen: dict[str, str] = dict(shared)
    for slot in slots(tokens):
        if slot.type not in work.types:
            at = slot.offset + slot.source.rindex(slot.type)
            work.report(path, f"no such type `{slot.type}`", _type_hint(work, slot.type), offset=at, excerpt=text)
        if slot.type == "rest" and slot is not _last_slot(tokens):
            work.report(
                path,
                f"`{slot.source}` reads to the end, but something follows it",
                "use {name:text} here",
                offset=slot.offset,
                excerpt=text,
            )
        if slot.name in RESERVED or slot.name in seen:
            _refuse_name(work, path, slot.name, seen, slot.offset + 1, text)
        elif slot.name:
            seen[slot.name] = "this pattern"
    return tokens if len(work.problems) == before else None


def _named(tokens: tuple[Token, ...]) -> tuple[Token, ...]:
    """Tokens in which slots of structure are called by what keeps their text where it cannot be read."""

    def named(token: Token) -> Token:
        if isinstance(token, Optional):
            return token._replace(tokens=_named(token.tokens))
        if isinstance(token, Slot) and token.type in STRUCTURES:
            return token._replace(name=f"{token.name or token.type}{_KEPT}")
        return token

    return tuple(named(token) for token in tokens)


def _last_slot(tokens: tuple[Token, ...]) -> Token | None:
    """The slot that a pattern ends with, be it in an optional part."""
    last = tokens[-1] if tokens else None
    return _last_slot(last.tokens) if isinstance(last, Optional) else last


def _refuse_name(work: _Build, path: Path, name: str, seen: dict[str, str], offset: int, text: str) -> None:
    if name in RESERVED:
        work.report(
            path, f"`{name}` is a column of every event", f"call the field `log_{name}`", offset=offset, excerpt=text
        )
    else:
        where = seen[name]
        message = (
            f"the slot `{name}` stands here twice" if where == "this pattern" else f"`{name}` is a slot of {where}"
        )
        work.report(path, message, f"call this one `{name}_2`", offset=offset, excerpt=text)


def _pattern_reading(work: _Build, tokens: tuple[Token, ...]) -> Reading:
    found = slots(tokens)
    shapes = {slot.name: work.shapes.get(slot.name, parse_format(_ISO).shape) for slot in found if slot.type == "time"}
    fixed = [token for token in tokens if isinstance(token, Slot) and token.name]
    return Reading(
        to_regexes(tokens, shapes, work.types),
        tuple(FieldPlan(slot.name, _type(work, slot.name, slot.type)) for slot in found if slot.name),
        fixed[0].name if fixed else None,
        {slot.name: slot.source for slot in found if slot.name},
    )


def _type(work: _Build, name: str, kind: str) -> SlotType:
    """The type of a field; a stamp that a time rule reads stays text beside the time."""
    if name in work.shapes:
        return TYPES["text"]
    return work.types.get(kind, TYPES["text"])


def _type_hint(work: _Build, kind: str) -> str:
    return did_you_mean(kind, work.types, "the types are " + ", ".join(work.types))


def _own(work: _Build, reading: Reading, path: Path, owner: str) -> None:
    """Writes down the fields of a reading; a name has one type in all of a parser."""
    for item in reading.every_field:
        known = work.fields.setdefault(item.name, item.dtype)
        within = next((name for name in work.fields if is_within(name, item.name)), None)
        if within is not None:
            work.report(path, f"`{item.name}` and `{within}` cannot both be fields", "name one of them only")
        work.owners.setdefault(item.name, owner)
        if known != item.dtype:
            work.report(
                path,
                f"`{item.name}` is {_plain(item.dtype)} here and {_plain(known)} in {work.owners[item.name]}",
                "give it one type in all variants, or another name",
            )


def _plain(dtype: pl.DataType) -> str:
    names = {pl.String: "text", pl.Int64: "a whole number", pl.Float64: "a number", pl.Boolean: "true or false"}
    return names.get(type(dtype), "a time")


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
                        f"`{kind}` is {_plain(work.fields[kind])}",
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


def _mappings(work: _Build) -> None:
    model = load_model()
    envelope = {item.name: item.dtype for item in work.envelope.every_field} if work.envelope else {}
    envelope |= time_rules.given(work.times, envelope)
    stamps = tuple(rule.slot for rule in work.times if rule.slot and not rule.searches and not rule.field)

    def told(path: Path, message: str) -> None:
        text, _, hint = message.partition("; ")
        work.report(path, text, hint)

    for i, variant in enumerate(work.definition.variants):
        reading = work.readings[i]
        event = merged(work.definition.event, variant.event)
        where = _mapping_place(work.document, i)
        if reading is None:  # its fields are not known, but classes, captions and attributes can be judged
            if event is not None:
                event = event.model_copy(update={"set": dict.fromkeys(event.set, "''")})
                build_mapping(work.definition, event, {}, model, told, where)
            work.mappings.append(None)
            continue
        fields = envelope | {item.name: item.dtype for item in reading.every_field}
        if variant.from_ is None and variant.forms:
            fields.pop(work.body or "", None)
        fields |= time_rules.given(work.times, fields)
        work.mappings.append(
            build_mapping(work.definition, event, fields, model, told, where, stamps, _original(work, fields))
        )
    work.problems = list(dict.fromkeys(work.problems))
    work.unread = build_mapping(
        work.definition, None, envelope, model, told, lambda key: ("event",), stamps, _original(work, envelope)
    )


def _original(work: _Build, fields: dict[str, pl.DataType]) -> str | None:
    """The column of the text that gave the time, where a rule looks at events with these fields."""
    looks = any(rule.field is None and (rule.slot is None or rule.slot in fields) for rule in work.times)
    return STAMP if looks else None


def _mapping_place(document: Document, variant: int) -> Callable[[str], Path]:
    """Where a key of a mapping stands: with its variant, or with what all variants share."""
    roots: Iterable[Path] = (("variants", variant, "event"), ("event",))

    def place(key: str) -> Path:
        for root in roots:
            for path in ((*root, "set", key), (*root, key)):
                if path in document.starts:
                    return path
        return next((root for root in roots if root in document.starts), ("variants", variant))

    return place


PASSES: tuple[Callable[[_Build], None], ...] = (
    _times,
    _own_types,
    _cut,
    _envelope,
    _variants,
    _kinds,
    _time_fields,
    _mappings,
)


def _checked_regex(work: _Build, path: Path, regex: str) -> tuple[str, ...] | None:
    try:
        return check_regex(regex)
    except RegexError as error:
        work.report(path, error.message, error.hint, offset=max(error.offset, 0), excerpt=regex)
        return None


def _plan(work: _Build) -> Plan:
    definition = work.definition
    variants: list[VariantPlan] = []
    for variant, reading, mapping in zip(definition.variants, work.readings, work.mappings, strict=True):
        assert reading is not None
        kinds = tuple(variant.kind) if variant.kind is not None else None
        variants.append(VariantPlan(variant.name, reading, kinds, mapping, variant.from_))
    routes: dict[str | int, tuple[int, ...]] = {}
    if definition.kind is not None:
        dtype = work.fields[definition.kind]
        values = {_as_kind(value, dtype) for variant in variants for value in variant.kinds or ()}
        for value in values:
            if value is not None:
                routes[value] = tuple(
                    i
                    for i, variant in enumerate(variants)
                    if variant.kinds is None or value in {_as_kind(kind, dtype) for kind in variant.kinds}
                )
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
    )
