"""What variants share of their mappings: the parser's `event`, and templates, of the parser or of the model's file.

What is shared holds for the variants that have the fields it reads and the attributes it fills, and is left out of the
others. What holds for none of them is wrong, and is said as it would be for a variant's own. Where the class differs
from event to event, a variant has a mapping for each of its classes, and these share all that it says.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any, NamedTuple

import polars as pl

from kinglet.errors import ModelError, did_you_mean
from kinglet.expressions.compiling import sql
from kinglet.expressions.lacking import fields_named, without_fields
from kinglet.expressions.terms import ExpressionError
from kinglet.ocsf.identity import BY_NAME, CLASS
from kinglet.ocsf.mapping import ALWAYS
from kinglet.ocsf.schema import Model, enum_value
from kinglet.spec.schema import EventMapping, Translation

Fields = Mapping[str, pl.DataType]


class Whole(NamedTuple):
    """A variant's mapping with all that it shares; own: the keys of `set` and `translate` that it does not share."""

    event: EventMapping
    own: frozenset[str]
    is_of_several: bool = False
    """Whether the variant has other classes too, of which one may have the attributes that this one lacks."""


def merged(shared: EventMapping | None, own: EventMapping | None) -> EventMapping | None:
    """A variant's mapping over the one that all variants share."""
    if shared is None or own is None:
        return own or shared
    given = {name: getattr(own, name) for name in own.model_fields_set}
    own_keys = {name.rstrip("_") for name in own.model_fields_set} | own.translate.keys()
    own_paths = own.set.keys() | {path for name, path in BY_NAME.items() if name in own_keys}
    values = {path: value for path, value in shared.set.items() if path not in own_paths}
    tables = {key: table for key, table in shared.translate.items() if BY_NAME.get(key, key) not in own_paths}
    if own.class_ is not None:
        tables.pop(CLASS, None)
    both = {"set": values | own.set, "translate": tables | own.translate}
    return shared.model_copy(update={**given, **both})


def whole(
    shared: EventMapping | None,
    own: EventMapping | None,
    templates: Mapping[str, EventMapping],
    report: Callable[[bool, str, str], None],
) -> Whole | None:
    """A variant's mapping over the shared one, each over the template that it names.

    report is told of templates that there are not, and whether the variant names it.
    """

    def filled(mapping: EventMapping | None, is_own: bool) -> EventMapping | None:
        if mapping is None or mapping.template is None:
            return mapping
        base = templates.get(mapping.template)
        if base is None:
            known = "they stand under `templates`, or in the file of `--model`" if not templates else ""
            hint = did_you_mean(mapping.template, templates, known or "there are " + ", ".join(templates))
            report(is_own, f"there is no template `{mapping.template}`", hint)
            return mapping
        return merged(base, mapping)

    event = merged(filled(shared, False), filled(own, True))
    return Whole(event, frozenset({*own.set, *own.translate} if own else ())) if event is not None else None


def narrowed(item: Whole, fields: Fields, every: Fields) -> Whole:
    """A mapping in whose shared expressions `COALESCE` does not look at fields that only other variants have."""
    lacking = every.keys() - fields.keys()

    def text(one: Any) -> Any:
        return without_fields(one, lacking, fields) if isinstance(one, str) else one

    def over(value: Any) -> Any:
        if isinstance(value, Translation):
            return value.model_copy(update={"from_": text(value.from_)})
        return [text(one) for one in value] if isinstance(value, list) else text(value)

    event = item.event
    changed = {
        name: {key: value if key in item.own else over(value) for key, value in values.items()}
        for name, values in (("set", event.set), ("translate", event.translate))
    }
    return item._replace(event=event.model_copy(update=changed))


def left_out(
    items: Sequence[tuple[Sequence[Whole], Fields | None]], every: Fields, model: Model
) -> list[list[dict[str, str]]]:
    """For each mapping of each variant the keys that do not hold for it, and why.

    items: the mappings of a variant and its fields, None where these are not known. every: the fields that events of
    any variant have. A key that holds nowhere is not left out.
    """
    found = [[_not_for(one, fields, every, model) if fields is not None else {} for one in wholes]
             for wholes, fields in items]  # fmt: skip
    of_variants = [
        {key for one, no in zip(wholes, lacking, strict=True) for key in _keys(one.event) if key not in no}
        if fields is not None
        else set()
        for (wholes, fields), lacking in zip(items, found, strict=True)
    ]
    # what holds nowhere is a slip of the pen and stays, so that building the mapping finds it
    holds = {key for keys in of_variants for key in keys}
    chosen: list[list[dict[str, str]]] = []
    for (wholes, _), lacking, mine in zip(items, found, of_variants, strict=True):
        own = wholes[0].own if wholes else frozenset[str]()
        chosen.append(
            [{key: why for key, why in no.items() if key in (mine if key in own else holds)} for no in lacking]
        )
    return chosen


def _keys(event: EventMapping) -> list[str]:
    """What a mapping fills: its paths, and the enumerations that it names."""
    by_name = [key for key in BY_NAME if getattr(event, key) is not None]
    return [*event.set, *event.translate, *by_name]


def without(event: EventMapping, keys: Mapping[str, str]) -> EventMapping:
    """A mapping without some keys."""
    if not keys:
        return event
    values = {path: value for path, value in event.set.items() if path not in keys}
    tables = {key: table for key, table in event.translate.items() if key not in keys}
    by_name = {key: None for key in BY_NAME if key in keys and key not in event.translate}
    return event.model_copy(update={"set": values, "translate": tables, **by_name})


def _not_for(item: Whole, fields: Fields, every: Fields, model: Model) -> dict[str, str]:
    event, own = item.event, item.own
    found: dict[str, str] = {}
    for key, value in (*event.set.items(), *event.translate.items()):
        if value is None:
            continue
        lacking = lacking_field(value, fields, every)
        if key not in own and lacking is not None:
            found[key] = f"no field `{lacking}`"
        elif key not in own or item.is_of_several:
            found |= _no_attribute(event, key, model)
    if item.is_of_several:
        for key in BY_NAME:
            if getattr(event, key) is not None and key not in event.translate:
                found |= _no_attribute(event, key, model) or _no_value(event, key, model)
    return found


def _no_attribute(event: EventMapping, key: str, model: Model) -> dict[str, str]:
    """Why an attribute cannot be filled: the class of the mapping does not have it."""
    if event.class_ is None:
        return {}
    try:
        model_class = model.find_class(event.class_)
    except ModelError:
        return {}
    if model.has(model_class, BY_NAME.get(key, key)):
        return {}
    return {key: f"no such attribute of {model_class.caption}"}


def _no_value(event: EventMapping, key: str, model: Model) -> dict[str, str]:
    """Why an enumeration cannot be filled: that of the class does not have the value."""
    assert event.class_ is not None
    attribute = model.path(model.find_class(event.class_), BY_NAME[key])[-1]
    try:
        enum_value(attribute, getattr(event, key))
    except ModelError:
        return {key: f"no such value in {model.find_class(event.class_).caption}"}
    return {}


def lacking_field(value: Any, fields: Fields, every: Fields) -> str | None:
    """A field that a value of a mapping reads and that other variants have, but not this one."""
    return next((name for text in _texts(value) for name in _names(text, every) if name not in fields), None)


def reads(event: EventMapping, fields: Fields) -> set[str]:
    """The fields that a mapping reads, of these."""
    values = (*event.set.values(), *event.translate.values())
    return {name for value in values for text in _texts(value) for name in _names(text, fields)}


def _texts(value: Any) -> list[str]:
    values = value if isinstance(value, list) else [value.from_ if isinstance(value, Translation) else value]
    return [one for one in values if isinstance(one, str)]


def _names(text: str, every: Fields) -> tuple[str, ...]:
    """The fields that an expression reads; none, where it cannot be read."""
    if text in every:  # speed: the commonest by far
        return () if text in ALWAYS else (text,)
    try:
        names = sql(text, {**ALWAYS, **every}).names
    except ExpressionError:
        return tuple(sorted(fields_named(text, every)))
    return tuple(name for name in names if name not in ALWAYS)
