"""What may stand at a place of a parser file: keys, types, formats, zones, fields, classes, attributes, captions."""

from __future__ import annotations

import re
import zoneinfo
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from functools import cache
from typing import Any

from pydantic import BaseModel

from kinglet.editor.where import Where, section_of, where
from kinglet.errors import ModelError
from kinglet.ocsf.loading import load_model
from kinglet.ocsf.schema import Attribute, ModelClass
from kinglet.parser import Parser
from kinglet.patterns.types import TYPES
from kinglet.spec import schema
from kinglet.spec.steps import FileWithSteps, operations
from kinglet.timestamps.formats import NAMED

_IN_SLOT = re.compile(r"\{[A-Za-z_]\w*:?(?P<type>\w*)$")
ALWAYS = ("class_uid", "category_uid", "activity_id", "type_uid", "severity_id", "time", "metadata")
"""Attributes that every mapped event has by its class, activity, severity and time."""
SECTIONS: Mapping[tuple[str, ...], type[BaseModel]] = {
    (): FileWithSteps,
    ("product",): schema.Product,
    ("time",): schema.TimeRule,
    ("clock",): schema.Clock,
    ("envelope",): schema.Envelope,
    ("variants",): schema.Variant,
    ("event",): schema.EventMapping,
    ("variants", "event"): schema.EventMapping,
    ("cases",): schema.Case,
}


@dataclass(frozen=True)
class Completion:
    """A text that may stand there. about: of what kind it is; more: what it means. first: whether it is wanted most."""

    text: str
    about: str
    more: str = ""
    first: bool = False


def completions(text: str, line: int, column: int, parser: Parser | None) -> list[Completion]:
    """What may stand at a place: line and column from 0. parser: as it was last loaded, for its fields."""
    here = text.split("\n")[line][:column] if line < text.count("\n") + 1 else ""
    slot = _IN_SLOT.search(here)
    if slot is not None and ":" in slot[0]:
        own = parser._definition.types if parser is not None else {}
        return [Completion(name, "slot type", kind.about) for name, kind in TYPES.items()] + [
            Completion(name, "slot type of this parser") for name in own
        ]
    place = where(text, line, column)
    if not place.key:
        return [*_keys(text, place, parser, line)]
    value = _VALUES.get(place.key)
    if value is not None:
        return [*value(text, place, parser, line)]
    if place.path[-1:] in (("set",), ("from",)) or place.key in ("when", "from", "kind"):
        return [*_fields(parser)]
    if place.path[-1:] == ("types",):
        return [Completion(name, "slot type", kind.about) for name, kind in TYPES.items()]
    return []


def _keys(text: str, place: Where, parser: Parser | None, line: int) -> Iterator[Completion]:
    """Keys that may stand in a section, but for those that are there."""
    if place.path[-1:] == ("set",):
        yield from _attributes(text, place, line)
        return
    if place.path == ("steps",):
        yield from (Completion(name, "step") for name in operations())
        return
    if place.path[-1:] in (("expect",), ("types",)):
        yield from _fields(parser)
        return
    section = SECTIONS.get(place.path)
    for name, info in section.model_fields.items() if section is not None else ():
        yield Completion(info.alias or name, "key", info.description or "", info.is_required())


def _fields(parser: Parser | None) -> Iterator[Completion]:
    for name, dtype in parser.fields.items() if parser is not None else ():
        yield Completion(name, f"field, {dtype}")


def _formats(*_: Any) -> Iterator[Completion]:
    yield from (Completion(name, "format of stamps") for name in sorted(NAMED))


def _zones(*_: Any) -> Iterator[Completion]:
    yield from (Completion(name, "time zone") for name in _all_zones())


@cache
def _all_zones() -> tuple[str, ...]:
    return tuple(sorted(zoneinfo.available_timezones()))


def _classes(*_: Any) -> Iterator[Completion]:
    for one in load_model().classes():
        yield Completion(one.caption, "class", f"{one.category}, {one.uid}")


def _captions(text: str, place: Where, parser: Parser | None, line: int) -> Iterator[Completion]:
    """The captions of an enumeration of the class: of its activity, status or severity."""
    found = class_at(text, line)
    if found is None:
        return
    attribute = found.attributes.get(f"{place.key}_id")
    for number, caption in (attribute.enum if attribute is not None else {}).items():
        yield Completion(str(caption), f"{place.key} {number}")


def _attributes(text: str, place: Where, line: int) -> Iterator[Completion]:
    """The attributes of the class in scope; below a mapping those that it requires and has not come first."""
    found = class_at(text, line)
    if found is None:
        return
    there = set(re.findall(r"^\s*([a-z_]+(?:\.[a-z_]+)*):", section_of(text, line), re.MULTILINE))
    above, _, _ = place.word.rpartition(".")
    for path, attribute in _paths(found, above):
        if path not in there:
            wanted = attribute.requirement == "required" and path not in ALWAYS
            yield Completion(path, described(attribute), attribute.caption, wanted)


def _paths(owner: ModelClass, above: str) -> Iterator[tuple[str, Attribute]]:
    """Attributes of a class, or of the object that a path leads to."""
    entity: Any = owner
    for part in above.split(".") if above else ():
        attribute = entity.attributes.get(part)
        if attribute is None or not attribute.is_object:
            return
        entity = load_model().object(attribute.type)
    for name, attribute in entity.attributes.items():
        yield f"{above}.{name}" if above else name, attribute


def described(attribute: Attribute) -> str:
    """What an attribute is: its requirement and its type."""
    return f"{attribute.requirement}, {attribute.type}{' list' if attribute.is_list else ''}"


def class_at(text: str, line: int) -> ModelClass | None:
    """The class of the mapping that a line is in: its own, or that which all variants share."""
    for part in (section_of(text, line), _shared(text)):
        match = re.search(r"\bclass:\s*['\"]?([A-Za-z0-9 ]+?)['\"]?\s*(?:[,}#\n]|$)", part)
        if match:
            try:
                return load_model().find_class(match[1])
            except ModelError:
                return None
    return None


def _shared(text: str) -> str:
    match = re.search(r"^event:[^\n]*\n(?:[ #][^\n]*\n|\n)*", text + "\n", re.MULTILINE)
    return match[0] if match else ""


_VALUES: Mapping[str, Callable[[str, Where, Parser | None, int], Iterator[Completion]]] = {
    "format": _formats,
    "zone": _zones,
    "class": _classes,
    "activity": _captions,
    "status": _captions,
    "severity": _captions,
}
