"""A draft as the text of a parser file."""

from __future__ import annotations

import textwrap
from collections.abc import Iterator

from kinglet.drafting.shape import Shape, Variant
from kinglet.drafting.yaml_text import quoted, scalar

_WIDTH = 116


def text_of(shape: Shape) -> str:
    """The parser file."""
    return "\n".join([*_head(shape), *_variants(shape), *_cases(shape)]) + "\n"


def _head(shape: Shape) -> Iterator[str]:
    yield "kinglet: 1"
    yield f"parser: {shape.name}"
    yield "version: 0.1.0"
    yield f"product: {{vendor: {scalar(shape.vendor)}, name: {scalar(shape.product)}}}"
    if shape.events != {"line": True}:
        name, value = next(iter(shape.events.items()))
        yield f"events: {name}" if value is True else f"events: {scalar(shape.events)}"
    for note in shape.time_notes:
        yield from comment(note)
    if shape.time is not None:
        yield f"time: {scalar(shape.time)}"
    if shape.syslog is not None:
        yield f"envelope: {{syslog: {shape.syslog}}}"
    elif shape.envelope is not None:
        yield f"envelope: {quoted(shape.envelope.pattern)}"
    if shape.kind is not None:
        yield f"kind: {shape.kind}"


def comment(text: str, indent: str = "") -> Iterator[str]:
    """A comment in lines of a width that fits."""
    for line in textwrap.wrap(text, _WIDTH - len(indent) - 2) or [""]:
        yield f"{indent}# {line}".rstrip()


def _variants(shape: Shape) -> Iterator[str]:
    yield ""
    yield "variants:"
    for variant in shape.variants:
        yield from _variant(shape, variant)


def _variant(shape: Shape, variant: Variant) -> Iterator[str]:
    for note in variant.notes:
        yield from comment(note, "  ")
    yield f"  - name: {variant.name}"
    if shape.kind is not None and variant.kinds:
        kinds = [int(kind) if shape.kind_is_number else kind for kind in variant.kinds]
        yield f"    kind: {scalar(kinds[0] if len(kinds) == 1 else kinds)}"
    yield f"    pattern: {quoted(variant.pattern)}"


def _cases(shape: Shape) -> Iterator[str]:
    if shape.cases:
        yield ""
        yield "cases:"
    for case in shape.cases:
        yield f"  - raw: {quoted(case['raw'])}"
        if "at" in case:
            yield f"    at: {case['at']}"
        yield f"    expect: {scalar(case['expect'])}"
