"""A class that differs from event to event: one mapping for each class that a variant's events may have.

A mapping says it as it says other things that a word of the log decides, by `translate: {class: {from: …, to: …}}`.
Events with another word, or none, have the class under `class`, or without it Base Event.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from types import MappingProxyType
from typing import NamedTuple

import polars as pl

from kinglet.errors import ModelError, parts_of
from kinglet.expressions.compiling import sql
from kinglet.expressions.terms import refuse_quoted
from kinglet.ocsf.identity import BY_NAME, CLASS
from kinglet.ocsf.mapping import ALWAYS
from kinglet.ocsf.schema import Model, ModelClass, enum_value
from kinglet.ocsf.sharing import Whole, lacking_field
from kinglet.spec.schema import EventMapping, Translation

COMMON = "Base Event"
"""The class of events of which a mapping says none."""


class ByClass(NamedTuple):
    """A variant's mapping for each class that its events may have, that of all other words first.

    number: which of them an event has. is_other: whether it has a word that the table does not have, where the mapping
    does not say which class such events are of. left_out: why the class does not differ, where it cannot.
    """

    wholes: list[Whole]
    number: pl.Expr | None = None
    is_other: pl.Expr | None = None
    left_out: Mapping[str, str] = MappingProxyType({})


def by_class(
    item: Whole,
    fields: Mapping[str, pl.DataType] | None,
    every: Mapping[str, pl.DataType],
    model: Model,
    report: Callable[[str, str], None],
) -> ByClass:
    """Splits a mapping by the classes of its table.

    fields: those of the variant, None where they are not known. every: those of all variants. report is told of what is
    wrong with the table.
    """
    table = item.event.translate.get(CLASS)
    if table is None:
        return ByClass([item._replace(event=_with_class(item.event, item.event.class_))])
    default = item.event.class_ if item.event.class_ is not None else COMMON
    if fields is not None and CLASS not in item.own and (lacking := lacking_field(table, fields, every)) is not None:
        event = _with_class(item.event, default)
        return ByClass([item._replace(event=event)], left_out={CLASS: f"no field `{lacking}`"})
    classes: dict[str, ModelClass] = {}
    words: dict[str, int] = {}
    try:
        for word, wanted in ((None, default), *table.words.items()):
            found = model.find_class(wanted)
            classes.setdefault(found.caption, found)
            if word is not None:
                words[word] = list(classes).index(found.caption)
        if fields is not None:
            refuse_quoted(table.from_)
            text = sql(table.from_, {**ALWAYS, **fields}).value.cast(pl.String)
    except (ModelError, ValueError) as error:
        report(*parts_of(error))
        return ByClass([])
    every_class = list(classes.values())
    wholes = [
        Whole(_for_class(item.event, one, every_class, model), item.own, len(every_class) > 1) for one in every_class
    ]
    if fields is None:
        return ByClass(wholes)
    # 0 is the class of all other words
    number = text.replace_strict(list(words), list(words.values()), default=0, return_dtype=pl.Int32).fill_null(0)
    is_other = text.is_not_null() & ~text.is_in(list(words)) if item.event.class_ is None else None
    return ByClass(wholes, number, is_other)


def _with_class(event: EventMapping, wanted: str | int | None) -> EventMapping:
    tables = {key: table for key, table in event.translate.items() if key != CLASS}
    return event.model_copy(update={"class_": wanted, "translate": tables})


def _for_class(event: EventMapping, wanted: ModelClass, classes: list[ModelClass], model: Model) -> EventMapping:
    """The mapping with one class, and of its tables the words that mean something there."""
    one = _with_class(event, wanted.caption)
    tables = {key: _narrowed(key, table, wanted, classes, model) for key, table in one.translate.items()}
    return one.model_copy(update={"translate": tables})


def _narrowed(
    key: str, table: Translation | None, wanted: ModelClass, classes: list[ModelClass], model: Model
) -> Translation | None:
    """A table without the values that only others of the classes have; what none has stays, and is found wrong."""
    if table is None:
        return None
    here = {word: value for word, value in table.to.items() if _has(wanted, key, value, model)}
    nowhere = {
        word: value for word, value in table.to.items() if not any(_has(one, key, value, model) for one in classes)
    }
    return table.model_copy(update={"to": here | nowhere})


def _has(model_class: ModelClass, key: str, value: str | int, model: Model) -> bool:
    try:
        enum_value(model.path(model_class, BY_NAME.get(key, key))[-1], value)
    except ModelError:
        return False
    return True
