"""What variants share of their mappings: the parser's `event`, and templates, of the parser or of the model's file.

What is shared holds for the variants that have the fields it reads and the attributes it fills, and is left out of the
others. What holds for none of them is wrong, and is said as it would be for a variant's own.
"""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Mapping, Sequence
from typing import Any, NamedTuple

import polars as pl

from kinglet.errors import ModelError, did_you_mean
from kinglet.expressions.compiling import sql
from kinglet.expressions.terms import ExpressionError
from kinglet.ocsf.identity import BY_NAME
from kinglet.ocsf.mapping import ALWAYS
from kinglet.ocsf.schema import Model
from kinglet.spec.schema import EventMapping, Translation

Fields = Mapping[str, pl.DataType]


class Whole(NamedTuple):
    """A variant's mapping with all that it shares; own: the keys of `set` and `translate` that it does not share."""

    event: EventMapping
    own: frozenset[str]


def merged(shared: EventMapping | None, own: EventMapping | None) -> EventMapping | None:
    """A variant's mapping over the one that all variants share."""
    if shared is None or own is None:
        return own or shared
    given = {name: getattr(own, name) for name in own.model_fields_set}
    own_keys = own.model_fields_set | own.translate.keys()
    own_paths = own.set.keys() | {path for name, path in BY_NAME.items() if name in own_keys}
    values = {path: value for path, value in shared.set.items() if path not in own_paths}
    tables = {key: table for key, table in shared.translate.items() if BY_NAME.get(key, key) not in own_paths}
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


def left_out(items: Sequence[tuple[Whole, Fields] | None], every: Fields, model: Model) -> list[dict[str, str]]:
    """For each variant the shared keys that do not hold for it, and why; items: its mapping and its fields.

    every: the fields that events of any variant have. A key that holds for no variant is not left out.
    """
    found = [_not_for(*item, every, model) if item is not None else {} for item in items]
    holds = {key for item, no in zip(items, found, strict=True) if item is not None
             for key in (*item[0].event.set, *item[0].event.translate) if key not in no}  # fmt: skip
    return [{key: why for key, why in no.items() if key in holds} for no in found]


def without(event: EventMapping, keys: Mapping[str, str]) -> EventMapping:
    """A mapping without some keys."""
    if not keys:
        return event
    values = {path: value for path, value in event.set.items() if path not in keys}
    tables = {key: table for key, table in event.translate.items() if key not in keys}
    return event.model_copy(update={"set": values, "translate": tables})


def _not_for(item: Whole, fields: Fields, every: Fields, model: Model) -> dict[str, str]:
    event, own = item
    found: dict[str, str] = {}
    for key, value in (*event.set.items(), *event.translate.items()):
        if key in own or value is None:
            continue
        lacking = next((name for text in _texts(value) for name in _names(text, every) if name not in fields), None)
        if lacking is not None:
            found[key] = f"no field `{lacking}`"
        elif event.class_ is not None and key not in BY_NAME:
            with contextlib.suppress(ModelError):
                model_class = model.find_class(event.class_)
                try:
                    model.path(model_class, key)
                except ModelError:
                    found[key] = f"no such attribute of {model_class.caption}"
    return found


def reads(event: EventMapping, fields: Fields) -> set[str]:
    """The fields that a mapping reads, of these."""
    values = (*event.set.values(), *event.translate.values())
    return {name for value in values for text in _texts(value) for name in _names(text, fields)}


def _texts(value: Any) -> list[str]:
    values = value if isinstance(value, list) else [value.from_ if isinstance(value, Translation) else value]
    return [one for one in values if isinstance(one, str)]


def _names(text: str, every: Fields) -> tuple[str, ...]:
    """The fields that an expression reads; none, where it cannot be read."""
    try:
        names = sql(text, {**ALWAYS, **every}).names
    except ExpressionError:
        return ()
    return tuple(name for name in names if name not in ALWAYS)
