"""What a mapping leaves open of what its class requires and recommends."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from kinglet.columns.paths import Items, Tree
from kinglet.ocsf.schema import Entity, Model, Requirement


class Wanted(NamedTuple):
    """An attribute that nothing fills; worth orders recommended ones, the most useful first."""

    path: str
    worth: int = 0


def unfilled(
    model: Model, entity: Entity, filled: Tree, requirement: Requirement, prefix: str = ""
) -> Iterator[Wanted]:
    """Attributes of a requirement that nothing fills, down the objects that are filled."""
    for name, attribute in entity.attributes.items():
        path = f"{prefix}{name}"
        if name not in filled:
            wanted = attribute.requirement == requirement and not attribute.profiles
            if wanted and not (attribute.deprecated and requirement != "required"):
                yield Wanted(path, _worth(model, entity, name) - 5 * prefix.count("."))
            continue
        if not attribute.is_object or path == "unmapped":
            continue
        below = filled[name]
        inside = below.items() if isinstance(below, Items) else [(0, below)]
        for number, tree in inside:
            if isinstance(tree, dict):
                here = f"{path}[{number}]." if number else f"{path}."
                yield from unfilled(model, model.object(attribute.type), tree, requirement, here)


def unmet(model: Model, entity: Entity, filled: Tree, prefix: str = "") -> Iterator[str]:
    """Constraints that no event of a mapping can meet."""
    for kind, names in entity.constraints.items():
        count = len(filled.keys() & set(names))
        if count == 0 or (kind == "just_one" and count > 1):
            wanted = ", ".join(f"{prefix}{name}" for name in names)
            yield f"{'just one' if kind == 'just_one' else 'at least one'} of {wanted}"
    for name, below in filled.items():
        attribute = entity.attributes.get(name)
        if attribute is None or not attribute.is_object or name == "unmapped":
            continue
        inside = below.items() if isinstance(below, Items) else [(0, below)]
        for number, tree in inside:
            if isinstance(tree, dict):
                here = f"{prefix}{name}[{number}]." if number else f"{prefix}{name}."
                yield from unmet(model, model.object(attribute.type), tree, here)


def _worth(model: Model, entity: Entity, name: str) -> int:
    """What correlation gains by an attribute: who and where first, then what came of it, then text."""
    attribute = entity.attributes[name]
    kinds = model.observables
    if attribute.is_object:
        inside = model.object(attribute.type).attributes.values()
        if attribute.type in kinds.objects:
            return 9
        return 8 if any(one.type in kinds.objects for one in inside) else 3
    if kinds.kind(attribute):
        return 7
    return 6 if attribute.enum else 2 if name != "message" else 1
