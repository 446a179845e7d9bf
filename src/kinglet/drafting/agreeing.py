"""One type for a field in all variants: what is called the same and is not of one type gets names of its own."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterable

from kinglet.drafting.patterns import LETTER, Slot
from kinglet.drafting.shape import Shape
from kinglet.names import RESERVED
from kinglet.patterns.types import TYPES

_SAID = {"text": "text", "int": "number", "float": "number", "bool": "flag", "time": "time"}


def agree(shape: Shape) -> None:
    """Names the slots of a draft so that each field has one type."""
    envelope = shape.envelope.slots if shape.envelope is not None else []
    groups = [envelope, *(variant.slots for variant in shape.variants)]
    _numbers(slot for slots in groups for slot in slots)
    usual = _usual(groups)
    own: dict[str, str] = {}
    for slot in (slot for slots in groups for slot in slots):
        slot.own = ""
        if slot.type.startswith("/"):
            moments = sum(name != "letter" for name in own.values())
            called = "letter" if slot.type == LETTER else f"moment{moments + 1 if moments else ''}"
            slot.own = own.setdefault(slot.type[1:], called)
    shape.types = {name: regex for regex, name in own.items()}
    known: dict[str, str] = {}
    outer: set[str] = {*RESERVED}
    for slots in groups:
        taken = {*outer}
        for slot in slots:
            if not slot.wanted:
                continue
            kind = _value(slot)
            base = slot.wanted if usual[slot.wanted] == kind else f"{slot.wanted}_{_SAID[kind]}"
            slot.name, number = base, 1
            while slot.name in taken or known.setdefault(slot.name, kind) != kind:
                number += 1
                slot.name = f"{base}_{number}"
            taken.add(slot.name)
        if slots is envelope:
            outer = taken


def _numbers(slots: Iterable[Slot]) -> None:
    """Whole numbers are numbers where others of that name have fractions."""
    by_name: dict[str, list[Slot]] = defaultdict(list)
    for slot in slots:
        by_name[slot.wanted].append(slot)
    for group in by_name.values():
        if "float" in {_value(slot) for slot in group}:
            for slot in group:
                slot.type = "num" if slot.type == "int" and not slot.words else slot.type


def _usual(groups: Iterable[Iterable[Slot]]) -> dict[str, str]:
    """The kind of value that most slots of a name have."""
    counts: dict[str, Counter[str]] = defaultdict(Counter)
    for slots in groups:
        for slot in slots:
            counts[slot.wanted][_value(slot)] += 1
    return {name: count.most_common(1)[0][0] for name, count in counts.items()}


def _value(slot: Slot) -> str:
    return TYPES[slot.type].value if not slot.words and slot.type in TYPES else "text"
