"""Mapped events against the model: attributes, types, enumerations, requirements and constraints.

Source: Open Cybersecurity Schema Framework; the same that its JSON Schema of a class demands.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Set
from typing import Any, NamedTuple

from kinglet.ocsf.schema import Attribute, Entity, Model

_KINDS: dict[str, tuple[type, ...]] = {
    "string_t": (str,),
    "integer_t": (int,),
    "long_t": (int,),
    "float_t": (int, float),
    "boolean_t": (bool,),
    "json_t": (str, int, float, bool, dict, list),
}


class Complaint(NamedTuple):
    """What is wrong with an event: where, and what."""

    path: str
    message: str

    def __str__(self) -> str:
        return f"{self.path} {self.message}"


def complaints(event: Mapping[str, Any], model: Model) -> list[Complaint]:
    """What the model finds wrong with an event, in the order of its attributes.

    Raises:
        ModelError: the model has no class of its `class_uid`.
    """
    item = model.find_class(event.get("class_uid", 0))
    metadata = event.get("metadata")
    declared = set(metadata.get("profiles", ())) if isinstance(metadata, dict) else set()
    return list(_entity(model, item, event, "", declared))


def _entity(
    model: Model, entity: Entity, given: Mapping[str, Any], prefix: str, declared: Set[str]
) -> Iterator[Complaint]:
    for name, value in given.items():
        attribute = entity.attributes.get(name)
        if attribute is None:
            if entity.attributes:  # an object without attributes holds anything
                yield Complaint(f"{prefix}{name}", f"is no attribute of {entity.caption}")
        elif attribute.profiles and not declared & set(attribute.profiles):
            profiles = " or ".join(f"`{profile}`" for profile in attribute.profiles)
            yield Complaint(f"{prefix}{name}", f"needs the profile {profiles} under metadata.profiles")
        else:
            yield from _attribute(model, attribute, value, f"{prefix}{name}", declared)
    for name, attribute in entity.attributes.items():
        applies = not attribute.profiles or declared & set(attribute.profiles)
        if attribute.requirement == "required" and name not in given and applies:
            yield Complaint(f"{prefix}{name}", f"is missing, which {entity.caption} requires")
    for kind, names in entity.constraints.items():
        there = given.keys() & set(names)
        if not there or (kind == "just_one" and len(there) > 1):
            words = "just one" if kind == "just_one" else "at least one"
            yield Complaint(prefix.rstrip(".") or entity.caption, f"must have {words} of {', '.join(names)}")


def _attribute(model: Model, attribute: Attribute, value: Any, path: str, declared: Set[str]) -> Iterator[Complaint]:
    if attribute.is_list:
        if not isinstance(value, list):
            yield Complaint(path, "must be a list")
            return
        for i, item in enumerate(value, 1):
            yield from _one(model, attribute, item, f"{path}[{i}]", declared)
    else:
        yield from _one(model, attribute, value, path, declared)


def _one(model: Model, attribute: Attribute, value: Any, path: str, declared: Set[str]) -> Iterator[Complaint]:
    if attribute.is_object:
        if not isinstance(value, dict):
            yield Complaint(path, "must be an object")
            return
        yield from _entity(model, model.object(attribute.type), value, f"{path}.", declared)
        return
    base = model.base_type(attribute.type)
    kinds = _KINDS[base]
    if not isinstance(value, kinds) or (isinstance(value, bool) and bool not in kinds):
        yield Complaint(path, f"is {value!r}, but must be {attribute.type}")
        return
    limits = model.type_limits(attribute.type)
    if "regex" in limits and not re.search(limits["regex"], str(value)):
        yield Complaint(path, f"is {value!r}, which is no {attribute.type}")
    if "range" in limits and not limits["range"][0] <= value <= limits["range"][1]:
        yield Complaint(path, f"is {value!r}, outside {limits['range'][0]} to {limits['range'][1]}")
    if "max_len" in limits and len(str(value)) > limits["max_len"]:
        yield Complaint(path, f"has {len(str(value))} characters, more than {limits['max_len']}")
    if attribute.enum and value not in attribute.enum:
        yield Complaint(path, f"is {value!r}, which its enumeration does not have")
