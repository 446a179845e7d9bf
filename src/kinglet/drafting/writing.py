"""A draft as the text of a parser file."""

from __future__ import annotations

import textwrap
from collections.abc import Iterator, Mapping
from typing import Any

from kinglet.discover.structured import Structured
from kinglet.discover.yaml_text import quoted, scalar
from kinglet.drafting.recurring import with_parts
from kinglet.drafting.shape import Shape, Variant
from kinglet.names import field_of
from kinglet.spec.section import as_list
from kinglet.timestamps.formats import parse_format

_WIDTH = 116


def text_of(shape: Shape) -> str:
    """The parser file."""
    return "\n".join([*_head(shape), *_variants(shape), *_cases(shape)]) + "\n"


def _head(shape: Shape) -> Iterator[str]:
    yield "kinglet: 1"
    yield f"parser: {scalar(shape.name)}"
    yield "version: 0.1.0"
    yield f"product: {{vendor: {scalar(shape.vendor)}, name: {scalar(shape.product)}}}"
    yield from _notes(shape, "events")
    if shape.events != {"line": True}:
        name, value = next(iter(shape.events.items()))
        yield f"events: {name}" if value is True and len(shape.events) == 1 else f"events: {scalar(shape.events)}"
    yield from _notes(shape, "time")
    if shape.time is not None:
        yield f"time: {scalar(_with_year(shape.time))}"
    if shape.types:
        yield "types:"
        yield from (f"  {name}: {{regex: {quoted(regex)}}}" for name, regex in shape.types.items())
    if shape.parts:
        yield "parts:"
        yield from (f"  {name}: {quoted(text)}" for name, text in shape.parts.items())
    if shape.parameters:
        yield "envelope:"
        yield f"  syslog: {shape.syslog}"
        yield from _mapping({"keys": {slot.name: key for slot, key in shape.parameters}}, "  ")
        yield from _mapping({"types": {slot.name: slot.type for slot, _ in shape.parameters}}, "  ")
    elif shape.syslog is not None:
        yield f"envelope: {{syslog: {shape.syslog}}}"
    elif shape.envelope is not None:
        yield f"envelope: {quoted(shape.envelope.pattern)}"
    elif shape.structure is not None and not _alone(shape):
        yield "envelope:"
        yield from _structure(shape.structure, "  ")
    if shape.kind is not None:
        yield f"kind: {shape.kind}"
    if shape.event is not None:
        yield ""
        yield from _notes(shape, "event")
        yield "event:"
        yield from _mapping(shape.event, "  ")


def _alone(shape: Shape) -> bool:
    """Whether one variant reads the structure, rather than an envelope."""
    return len(shape.variants) == 1 and not shape.variants[0].kinds and shape.variants[0].written is None


def _structure(found: Structured, indent: str) -> Iterator[str]:
    yield f"{indent}{found.name}: {found.form if isinstance(found.form, str) else scalar(found.form)}"
    if found.keys:
        yield f"{indent}keys: {scalar(dict(found.keys))}"
    if found.types:
        yield f"{indent}types:"
    for name, kind in found.types.items():
        yield f"{indent}  {scalar(name)}: {kind}"


def _mapping(mapping: dict[str, Any], indent: str) -> Iterator[str]:
    for key, value in mapping.items():
        if not isinstance(value, dict):
            yield f"{indent}{key}: {scalar(value)}"
            continue
        line = f"{indent}{key}: {scalar(value)}"
        if len(line) <= _WIDTH:
            yield line
        else:
            yield f"{indent}{key}:"
            yield from (f"{indent}  {scalar(name)}: {scalar(item)}" for name, item in value.items())


def comment(text: str, indent: str = "") -> Iterator[str]:
    """A comment in lines of a width that fits."""
    for line in textwrap.wrap(text, _WIDTH - len(indent) - 2) or [""]:
        yield f"{indent}# {line}".rstrip()


def _notes(shape: Shape, section: str) -> Iterator[str]:
    for note in shape.notes.get(section, ()):
        yield from comment(f"Unsure: {note}")


def _variants(shape: Shape) -> Iterator[str]:
    yield ""
    yield from _notes(shape, "messages")
    if shape.aside:
        names = ", ".join(f"'{aside.name}'" for aside in shape.aside)
        when = f"variant = {names}" if len(shape.aside) == 1 else f"variant IN ({names})"
        yield "steps:"
        yield f"  - {{note: lines about the log itself, when: {scalar(when)}, drop: {shape.aside[0].name}}}"
        yield ""
    yield "variants:"
    for aside in shape.aside:
        yield f"  - name: {aside.name}"
        yield f"    pattern: {quoted(aside.pattern)}"
    for variant in shape.variants:
        yield from variant_lines(shape, variant)


def variant_lines(shape: Shape, variant: Variant) -> Iterator[str]:
    """A variant as an item of the list."""
    for note in variant.notes:
        yield from comment(note, "  ")
    yield f"  - name: {variant.name}"
    if shape.kind is not None and variant.kinds:
        kinds = [int(kind) if shape.kind_is_number else kind for kind in variant.kinds]
        yield f"    kind: {scalar(kinds[0] if len(kinds) == 1 else kinds)}"
    if variant.field is not None:
        yield f"    from: {variant.field}"
    if variant.written is not None:
        yield f"    pattern: {quoted(with_parts(variant.pattern, shape.parts))}"
        if keys := variant.written.keys:
            written = {key if field_of(key) == slot.name else slot.name: slot.type for key, slot in keys.items()}
            yield f"    types: {scalar(written)}"
        if renamed := {slot.name: key for key, slot in keys.items() if field_of(slot.name) != field_of(key)}:
            yield f"    keys: {scalar(renamed)}"
    elif shape.structure is not None and _alone(shape):
        yield from _structure(shape.structure, "    ")
    if variant.mapping is not None:
        yield "    event:"
        yield from _mapping(variant.mapping, "      ")
    for why, mapping in variant.suggested:
        yield from comment(why, "    ")
        yield f"    # event: {scalar(mapping)}"


def _cases(shape: Shape) -> Iterator[str]:
    if shape.cases:
        yield ""
        yield "cases:"
    for case in shape.cases:
        yield from case_lines(case)


def case_lines(case: dict[str, Any]) -> Iterator[str]:
    """A case as an item of the list."""
    yield f"  - raw: {quoted(case['raw'])}"
    if "header" in case:
        yield f"    header: {scalar(case['header'])}"
    if "before" in case:
        yield f"    before: {scalar(case['before'])}"
    if "at" in case:
        yield f"    at: {case['at']}"
    yield f"    expect: {scalar(case['expect'])}"
    if case.get("model"):
        yield f"    model: {scalar(case['model'])}"


def _with_year(time: Mapping[str, Any]) -> Mapping[str, Any]:
    """A rule that says where the year comes from, where its stamps have none."""
    formats = [parse_format(text) for text in as_list(time["format"])]
    lacks = any(fmt.has_date and not fmt.has_year for fmt in formats)
    return {**time, "year": "nearest"} if lacks and "year" not in time else time
