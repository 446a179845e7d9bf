"""The common model as data: classes, objects, attributes and enumerations.

Source: Open Cybersecurity Schema Framework, in the compact file that `tools/build_model.py` makes.
"""

from __future__ import annotations

import functools
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from types import MappingProxyType
from typing import Any, Literal, NamedTuple

from kinglet.columns.paths import parts
from kinglet.errors import ModelError, did_you_mean

VERSION = "1.8.0"
Requirement = Literal["optional", "recommended", "required"]
REQUIREMENTS: tuple[Requirement, ...] = ("optional", "recommended", "required")


class Attribute(NamedTuple):
    """An attribute of a class or object.

    type is a type of the model (`ip_t`), or the name of an object where `is_object`. enum maps
    values to captions; sibling is the attribute that holds the caption; profiles are those one
    of which an event must declare to have this attribute.
    """

    name: str
    caption: str
    type: str
    requirement: Requirement
    is_object: bool = False
    is_list: bool = False
    enum: Mapping[int | str, str] = MappingProxyType({})
    sibling: str | None = None
    profiles: tuple[str, ...] = ()
    deprecated: bool = False


@dataclass(frozen=True)
class Entity:
    """An object of the model: a set of attributes."""

    name: str
    caption: str
    attributes: dict[str, Attribute]
    constraints: dict[str, list[str]]
    deprecated: bool = False


@dataclass(frozen=True)
class ModelClass(Entity):
    """A class of events."""

    uid: int = 0
    category_uid: int = 0
    category: str = ""
    profiles: tuple[str, ...] = ()
    extension: str | None = None


class Observables(NamedTuple):
    """The kind of observable that values of a type are, an attribute of that name, or an object; their captions."""

    types: Mapping[str, int]
    attributes: Mapping[str, int]
    objects: Mapping[str, int]
    captions: Mapping[int, str]

    def kind(self, attribute: Attribute) -> int | None:
        """The kind that an attribute's value is; None where it is none."""
        return self.attributes.get(attribute.name) or self.types.get(attribute.type)


class Extension(NamedTuple):
    """What adds classes to a model: its name, number and version."""

    name: str
    uid: str
    version: str


class Model:
    """A version of the common model."""

    def __init__(self, data: dict[str, Any]) -> None:
        self.version: str = data["version"]
        self.data = data
        self.extensions: dict[str, Extension] = {
            name: Extension(name, str(value["uid"]), value["version"])
            for name, value in data.setdefault("extensions", {}).items()
        }
        self.templates: dict[str, Any] = data.setdefault("templates", {})
        self._enums = [{_number(key): caption for key, caption in enum.items()} for enum in data["enums"]]
        self._captions: dict[str, str] = {}
        # mappings ask for the same few again and again
        self._objects: dict[str, Entity] = {}
        self._classes: dict[str, ModelClass] = {}
        for name, value in data["classes"].items():
            self._captions |= {value["caption"].casefold(): name, str(value["uid"]): name, name: name}

    @property
    def title(self) -> str:
        """What it is called, with its version, and those of its extensions."""
        added = "".join(f", {item.name} {item.version}" for item in self.extensions.values())
        return f"OCSF {self.version}{added}"

    def classes(self) -> Iterator[ModelClass]:
        """All classes, by uid."""
        return (self._class(name) for name in self.data["classes"])

    def find_class(self, wanted: str | int) -> ModelClass:
        """The class of a caption, name or uid.

        Raises:
            ModelError: there is none; says which come near.
        """
        name = self._captions.get(str(wanted).strip().casefold())
        if name is None:
            captions = [value["caption"] for value in self.data["classes"].values()]
            hint = did_you_mean(str(wanted), captions, "`kinglet model` lists all classes")
            raise ModelError(f"the model has no class `{wanted}`", hint)
        return self._class(name)

    def object(self, name: str) -> Entity:
        """The object of a name."""
        if name not in self._objects:
            value = self.data["objects"][name]
            entity = Entity(name, value["caption"], self._attributes(value), value.get("constraints", {}))
            self._objects[name] = entity
        return self._objects[name]

    def find(self, wanted: str | int) -> Entity:
        """The class, or the object, of a caption, name or uid.

        Raises:
            ModelError: there is none; says which come near.
        """
        if str(wanted) in self.data["objects"]:
            return self.object(str(wanted))
        try:
            return self.find_class(wanted)
        except ModelError:
            captions = {value["caption"].casefold(): name for name, value in self.data["objects"].items()}
            name = captions.get(str(wanted).strip().casefold())
            if name is None:
                raise
            return self.object(name)

    def objects(self) -> Iterator[Entity]:
        """All objects, by name."""
        return (self.object(name) for name in self.data["objects"])

    def base_type(self, name: str) -> str:
        """The type that a type of the model narrows: `integer_t` of `port_t`."""
        while parent := self.data["types"].get(name, {}).get("type"):
            name = parent
        return name

    def type_limits(self, name: str) -> Mapping[str, Any]:
        """What a value of a type must be: `regex`, `range` (both ends included), `max_len`."""
        limits: Mapping[str, Any] = self.data["types"].get(name, {})
        return limits

    @functools.cached_property
    def observables(self) -> Observables:
        """Which values are observables, and of which kind."""
        found = self.data["observables"]
        types = {name: value["observable"] for name, value in self.data["types"].items() if "observable" in value}
        captions = self.object("observable").attributes["type_id"].enum
        return Observables(
            types, found["attributes"], found["objects"], {int(key): caption for key, caption in captions.items()}
        )

    def has(self, owner: Entity, path: str) -> bool:
        """Whether `path` finds an attribute."""
        # speed: what is missing is told before anything is said of it, for near misses take their time
        above: Entity | None = owner
        try:
            for name, _ in _parts_of(path):
                attribute = above.attributes.get(name) if above is not None else None
                if attribute is None:
                    return False
                above = self.object(attribute.type) if attribute.is_object else None
            self.path(owner, path)
        except ModelError:
            return False
        return True

    def path(self, owner: Entity, path: str) -> tuple[Attribute, ...]:
        """The attributes along a dotted path from a class or object down.

        Raises:
            ModelError: a part is no attribute of what it stands in, has attributes beneath it that the path leaves
                out, or is a list of objects and has no number, such as `resources[1].name`.
        """
        found: list[Attribute] = []
        steps = _parts_of(path)
        for i, (part, number) in enumerate(steps):
            above = ".".join(name for name, _ in steps[:i])
            attribute = owner.attributes.get(part)
            if attribute is None:
                raise self._no_attribute(owner, above, part)
            found.append(attribute)
            whole = f"{above}.{part}" if above else part
            if number is not None and not (attribute.is_list and attribute.is_object):
                raise ModelError(f"`{whole}` is no list of objects", f"leave out `[{number}]`")
            if not attribute.is_object:
                if i + 1 < len(steps):
                    raise ModelError(
                        f"`{whole}` is a value ({attribute.type}), with no attribute `{steps[i + 1][0]}` beneath it"
                    )
                return tuple(found)
            if attribute.is_list and number is None and i + 1 < len(steps):
                raise ModelError(
                    f"`{whole}` is a list of objects", f"say which one, such as `{whole}[1].{steps[i + 1][0]}`"
                )
            owner = self.object(attribute.type)
        inside = ", ".join(list(owner.attributes)[:6])
        raise ModelError(f"`{path}` is an object ({owner.caption})", f"name one of its attributes: {inside}, …")

    def _no_attribute(self, owner: Entity, above: str, part: str) -> ModelError:
        prefix = f"{above}." if above else ""
        elsewhere = [
            f"{name}.{part}"
            for name, attribute in owner.attributes.items()
            if attribute.is_object and part in self.object(attribute.type).attributes
        ]
        names = [f"{prefix}{name}" for name in owner.attributes]
        hint = did_you_mean(f"{prefix}{part}", names)
        if not hint and elsewhere:
            hint = "did you mean " + " or ".join(f"`{prefix}{name}`" for name in elsewhere[:2]) + "?"
        kind = "class" if isinstance(owner, ModelClass) else "object"
        hint = hint or f'`kinglet model "{owner.caption}"` lists them'
        return ModelError(f"the {kind} {owner.caption} has no attribute `{part}`", hint)

    def search(self, word: str) -> Iterator[tuple[str, str, str]]:
        """Classes, attributes of classes and objects, and enumeration values that contain a word.

        Yields what it is, its name, and where it belongs.
        """
        needle = word.casefold()
        for item in self.classes():
            if needle in item.caption.casefold() or needle in item.name:
                yield "class", item.caption, f"{item.category}, uid {item.uid}"
        homes: dict[tuple[str, str], list[str]] = {}
        values: dict[tuple[str, str], list[str]] = {}
        for entity in (*self.classes(), *self.objects()):
            for name, attribute in entity.attributes.items():
                if needle in name or needle in attribute.caption.casefold():
                    homes.setdefault((name, _type_text(attribute)), []).append(entity.caption)
                for key, caption in attribute.enum.items():
                    if needle in caption.casefold():
                        values.setdefault((f"{name} = {key}", caption), []).append(entity.caption)
        for (name, kind), where in sorted(homes.items()):
            yield "attribute", f"{name} ({kind})", _listed(where)
        for (name, caption), where in sorted(values.items()):
            yield "value", f"{name}  {caption}", _listed(where)

    def _class(self, name: str) -> ModelClass:
        if name not in self._classes:
            self._classes[name] = self._new_class(name)
        return self._classes[name]

    def _new_class(self, name: str) -> ModelClass:
        value = self.data["classes"][name]
        category_uid, category = value["category"]
        return ModelClass(
            name,
            value["caption"],
            self._attributes(value),
            value.get("constraints", {}),
            value.get("deprecated", False),
            uid=value["uid"],
            category_uid=category_uid,
            category=category,
            profiles=tuple(value["profiles"]),
            extension=value.get("extension"),
        )

    def _attributes(self, value: dict[str, Any]) -> dict[str, Attribute]:
        return {name: self._attribute(name, row) for name, row in value["attributes"].items()}

    def _attribute(self, name: str, row: int) -> Attribute:
        kind, requirement, is_list, enum, sibling, profiles, caption, *more = self.data["attributes"][row]
        return Attribute(
            name,
            caption,
            kind.removeprefix("#"),
            REQUIREMENTS[requirement],
            kind.startswith("#"),
            bool(is_list),
            self._enums[enum] if enum >= 0 else {},
            sibling,
            tuple(profiles or ()),
            deprecated=bool(more),
        )


def _parts_of(path: str) -> list[tuple[str, int | None]]:
    """The names along a path, each with the number of the item where one is named."""
    try:
        return list(parts(path))
    except ValueError as error:
        raise ModelError(str(error)) from None


def enum_value(attribute: Attribute, wanted: str | int) -> int | str:
    """The value of an enumeration that a caption or the value itself names.

    Raises:
        ModelError: there is none; says which come near.
    """
    if wanted in attribute.enum:
        return wanted
    for value, caption in attribute.enum.items():
        if caption.casefold() == str(wanted).strip().casefold():
            return value
    captions = list(attribute.enum.values())
    hint = did_you_mean(str(wanted), captions, "it has " + ", ".join(captions))
    raise ModelError(f"`{attribute.name}` has no value `{wanted}`", hint)


def _type_text(attribute: Attribute) -> str:
    name = attribute.type.removesuffix("_t")
    return f"{name} object" if attribute.is_object else name


def _listed(names: list[str], most: int = 4) -> str:
    unique = list(dict.fromkeys(names))
    more = f" and {len(unique) - most} more" if len(unique) > most else ""
    return ", ".join(unique[:most]) + more


def _number(key: str) -> int | str:
    return int(key) if key.lstrip("-").isdigit() else key
