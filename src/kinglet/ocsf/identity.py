"""What an event says of itself: class, activity, status and severity, and what every event carries."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any, NamedTuple, Protocol

import polars as pl

from kinglet.errors import ModelError, parts_of
from kinglet.ocsf.schema import Model, ModelClass, enum_value
from kinglet.spec.document import KeyPath
from kinglet.spec.schema import EventMapping, ParserFile


class Report(Protocol):
    """Takes down what is wrong at a place of the parser file, and how to mend it."""

    def __call__(self, path: KeyPath, message: str, hint: str = "") -> None: ...


BY_NAME = {"activity": "activity_id", "status": "status_id", "severity": "severity_id"}
"""Keys of a mapping, and the enumerations that they set by caption or id."""
CLASS = "class"
"""The key of a mapping that gives the class, or under `translate` the words that decide it."""


class Leaf(NamedTuple):
    """One attribute of the mapped event; value is an expression, or a constant that JSON can hold.

    is_json: whether the text that it gives is JSON already.
    """

    path: str
    value: pl.Expr | Any
    dtype: pl.DataType
    is_constant: bool = False
    is_json: bool = False


def constant(path: str, value: Any, dtype: pl.DataType | None = None) -> Leaf:
    """A leaf that is the same in every event."""
    kinds: dict[type, pl.DataType] = {str: pl.String(), int: pl.Int64()}
    return Leaf(path, value, dtype or kinds[type(value)], True)


def identity(
    definition: ParserFile,
    event: EventMapping,
    model: Model,
    model_class: ModelClass,
    report: Report,
    source_path: Callable[[str], KeyPath],
) -> Iterator[Leaf]:
    """The identifiers and captions that a mapping names, and what is the same for all classes."""
    ids: dict[str, int] = {}
    for key, name in BY_NAME.items():
        wanted = getattr(event, key)
        attribute = model_class.attributes.get(name)
        if attribute is None:
            if wanted is not None:
                report(source_path(key), f"the class {model_class.caption} has no {key}", "leave it out")
            continue
        if wanted is None and attribute.requirement != "required":
            continue
        try:
            ids[name] = int(enum_value(attribute, wanted if wanted is not None else 0))
        except ModelError as error:
            report(source_path(key), *parts_of(error))
            ids[name] = 0
    activity = ids.get("activity_id", 0)
    activity_name = model_class.attributes["activity_id"].enum[activity]
    yield constant("class_uid", model_class.uid)
    yield constant("class_name", model_class.caption)
    yield constant("category_uid", model_class.category_uid)
    yield constant("category_name", model_class.category)
    yield constant("type_uid", model_class.uid * 100 + activity)
    yield constant("type_name", f"{model_class.caption}: {activity_name}")
    for name, value in ids.items():
        attribute = model_class.attributes[name]
        yield constant(name, value)
        if attribute.sibling:
            yield constant(attribute.sibling, attribute.enum[value])
    yield Leaf("time", pl.col("time").dt.epoch("ms"), pl.Int64())
    yield from _metadata(definition, model, model_class)
    yield Leaf("metadata.uid", pl.col("id"), pl.String())
    yield Leaf("raw_data", pl.col("raw"), pl.String())


def _metadata(definition: ParserFile, model: Model, model_class: ModelClass) -> Iterator[Leaf]:
    yield constant("metadata.version", model.version)
    yield constant("metadata.product.vendor_name", definition.product.vendor)
    yield constant("metadata.product.name", definition.product.name)
    if definition.product.version:
        yield constant("metadata.product.version", definition.product.version)
    made_by = [{"name": definition.parser, "uid": f"{definition.parser} {definition.version}"}]
    info = pl.List(pl.Struct({"name": pl.String(), "uid": pl.String()}))
    yield constant("metadata.transformation_info_list", made_by, info)
    if model_class.extension is not None:
        extension = model.extensions[model_class.extension]
        shape = pl.List(pl.Struct(dict.fromkeys(extension._fields, pl.String())))
        yield constant("metadata.extensions", [extension._asdict()], shape)


def typed_by_activity(model_class: ModelClass, activity: Leaf) -> Iterator[Leaf]:
    """`type_uid` and `type_name` of events whose activity differs from one to the next."""
    captions = model_class.attributes["activity_id"].enum
    number = activity.value.fill_null(0)
    yield Leaf("type_uid", number + model_class.uid * 100, pl.Int64())
    caption = number.replace_strict(list(captions), list(captions.values()), default="Other", return_dtype=pl.String)
    yield Leaf("type_name", pl.concat_str(pl.lit(f"{model_class.caption}: "), caption), pl.String())
