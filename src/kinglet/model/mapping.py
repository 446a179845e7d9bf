"""From the `event` section of a parser to the columns of a mapped event.

A mapping is a flat table of leaves: the dotted path of an attribute, and either a constant or an
expression over the fields. Nesting is made of the paths only where something is written.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any, NamedTuple

import polars as pl

from kinglet.clock.reading import Reference
from kinglet.definition.schema import EventMapping, ParserFile
from kinglet.definition.section import Scalar
from kinglet.errors import ModelError, did_you_mean
from kinglet.model.schema import Attribute, Entity, Model, ModelClass, enum_value

Path = tuple[str | int, ...]
Report = Callable[[Path, str], None]

_VALUES: dict[str, pl.DataType] = {
    "string_t": pl.String(),
    "integer_t": pl.Int64(),
    "long_t": pl.Int64(),
    "float_t": pl.Float64(),
    "boolean_t": pl.Boolean(),
    "json_t": pl.String(),
}
_ALWAYS: dict[str, pl.DataType] = {
    "raw": pl.String(),
    "time": pl.Datetime("us", "UTC"),
    "line": pl.Int64(),
    "file": pl.String(),
}
_SET_BY_NAME = {"activity": "activity_id", "status": "status_id", "severity": "severity_id"}


class Leaf(NamedTuple):
    """One attribute of the mapped event; value is an expression, or a constant that JSON can hold."""

    path: str
    value: pl.Expr | Any
    dtype: pl.DataType
    is_constant: bool = False


class MappingPlan(NamedTuple):
    """What events of one variant become."""

    class_caption: str
    leaves: tuple[Leaf, ...]
    used: frozenset[str]
    missing: tuple[str, ...]

    def apply(self, frame: pl.DataFrame, reference: Reference) -> pl.DataFrame:
        """The columns of the mapped events, by dotted path; constants are left to the writer."""
        known = frame.with_columns(_time_or(reference))
        return known.select(leaf.value.alias(leaf.path) for leaf in self.leaves if not leaf.is_constant)


def _time_or(reference: Reference) -> list[pl.Expr]:
    """An event without a time gets the reference of its log, and says so."""
    unknown = pl.col("time").is_null()
    return [
        pl.col("time").fill_null(pl.lit(reference, dtype=pl.Datetime("us", "UTC"))),
        pl.when(unknown).then(pl.lit("reference")).alias("time_from"),
    ]


def merged(shared: EventMapping | None, own: EventMapping | None) -> EventMapping | None:
    """A variant's mapping over the one that all variants share."""
    if shared is None or own is None:
        return own or shared
    given = {name: getattr(own, name) for name in own.model_fields_set}
    return shared.model_copy(update={**given, "set": shared.set | own.set})


def build_mapping(
    definition: ParserFile,
    event: EventMapping | None,
    fields: Mapping[str, pl.DataType],
    model: Model,
    report: Report,
    source_path: Callable[[str], Path],
    stamps: Sequence[str] = (),
    original: str | None = None,
) -> MappingPlan | None:
    """Compiles a mapping for events that have these fields.

    stamps are the fields that hold the event's time as text, and original the column of the text
    that gave it; report is told of every fault, with
    the path in the parser file that `source_path` gives for a key of the section. Returns None
    where the class itself is not known.
    """
    event = event or EventMapping.model_validate({"class": "Base Event"})
    if event.class_ is None:
        report(source_path("class"), "the mapping names no class; add `class:` (`kinglet model` lists them)")
        return None
    try:
        model_class = model.find_class(event.class_)
    except ModelError as error:
        report(source_path("class"), str(error))
        return None
    leaves: dict[str, Leaf] = {}
    profiles: set[str] = set()
    for leaf in _identity(definition, event, model, model_class, report, source_path):
        leaves[leaf.path] = leaf
    used: set[str] = {name for name in stamps if name in fields}
    if original is not None:
        leaves["metadata.original_time"] = Leaf("metadata.original_time", pl.col(original), pl.String())
    for path, value in event.set.items():
        if value is None:
            continue
        where = source_path(path)
        try:
            attributes = model.path(model_class, path)
            _no_lists_of_objects(path, attributes)
            expression, names = _expression(value, attributes[-1], model, {**_ALWAYS, **fields})
        except (ModelError, ValueError) as error:
            report(where, str(error))
            continue
        for attribute in attributes:
            if attribute.profiles and not profiles & set(attribute.profiles):
                profiles.add(attribute.profiles[0])
        leaves[path] = Leaf(path, expression, _dtype(attributes[-1], model))
        used |= names
    if profiles:
        leaves["metadata.profiles"] = _constant("metadata.profiles", sorted(profiles), pl.List(pl.String()))
    for leaf in _kept(fields, used):
        leaves[leaf.path] = leaf
    missing = tuple(_missing(model, model_class, leaves))
    return MappingPlan(model_class.caption, tuple(leaves.values()), frozenset(used), missing)


def _constant(path: str, value: Any, dtype: pl.DataType | None = None) -> Leaf:
    kinds: dict[type, pl.DataType] = {str: pl.String(), int: pl.Int64()}
    return Leaf(path, value, dtype or kinds[type(value)], True)


def _identity(
    definition: ParserFile,
    event: EventMapping,
    model: Model,
    model_class: ModelClass,
    report: Report,
    source_path: Callable[[str], Path],
) -> Iterator[Leaf]:
    """The identifiers and captions of class, activity, status and severity, and what every event carries."""
    ids: dict[str, int] = {}
    for key, name in _SET_BY_NAME.items():
        wanted = getattr(event, key)
        attribute = model_class.attributes.get(name)
        if attribute is None:
            if wanted is not None:
                report(source_path(key), f"the class {model_class.caption} has no {key}; leave it out")
            continue
        if wanted is None and attribute.requirement != "required":
            continue
        try:
            ids[name] = int(enum_value(attribute, wanted if wanted is not None else 0))
        except ModelError as error:
            report(source_path(key), str(error))
            ids[name] = 0
    activity = ids.get("activity_id", 0)
    activity_name = model_class.attributes["activity_id"].enum[activity]
    yield _constant("class_uid", model_class.uid)
    yield _constant("class_name", model_class.caption)
    yield _constant("category_uid", model_class.category_uid)
    yield _constant("category_name", model_class.category)
    yield _constant("type_uid", model_class.uid * 100 + activity)
    yield _constant("type_name", f"{model_class.caption}: {activity_name}")
    for name, value in ids.items():
        attribute = model_class.attributes[name]
        yield _constant(name, value)
        if attribute.sibling:
            yield _constant(attribute.sibling, attribute.enum[value])
    yield Leaf("time", pl.col("time").dt.epoch("ms"), pl.Int64())
    yield _constant("metadata.version", model.version)
    yield _constant("metadata.product.vendor_name", definition.product.vendor)
    yield _constant("metadata.product.name", definition.product.name)
    if definition.product.version:
        yield _constant("metadata.product.version", definition.product.version)
    made_by = [{"name": definition.parser, "uid": f"{definition.parser} {definition.version}"}]
    info = pl.List(pl.Struct({"name": pl.String(), "uid": pl.String()}))
    yield _constant("metadata.transformation_info_list", made_by, info)
    yield Leaf("metadata.uid", pl.col("id"), pl.String())
    yield Leaf("raw_data", pl.col("raw"), pl.String())


def _kept(fields: Mapping[str, pl.DataType], used: set[str]) -> Iterator[Leaf]:
    """Fields that no attribute took go to `unmapped`, with what was wrong with the event."""
    for name, dtype in fields.items():
        if name in used:
            continue
        if isinstance(dtype, pl.Datetime):
            yield Leaf(f"unmapped.{name}", pl.col(name).dt.strftime("%Y-%m-%dT%H:%M:%S%.6fZ"), pl.String())
        else:
            yield Leaf(f"unmapped.{name}", pl.col(name), dtype)
    some = pl.col("faults").list.len() > 0
    yield Leaf("unmapped.faults", pl.when(some).then(pl.col("faults")), pl.List(pl.String()))
    yield Leaf("unmapped.time_from", pl.col("time_from"), pl.String())
    yield Leaf("unmapped.time_notes", pl.col("time_notes"), pl.List(pl.String()))


def _no_lists_of_objects(path: str, attributes: tuple[Attribute, ...]) -> None:
    for attribute in attributes:
        if attribute.is_list and attribute.is_object:
            raise ValueError(f"`{attribute.name}` in `{path}` is a list of objects, which `set` cannot fill")


def _dtype(attribute: Attribute, model: Model) -> pl.DataType:
    inner = _VALUES[model.base_type(attribute.type)]
    return pl.List(inner) if attribute.is_list else inner


def _expression(
    value: Scalar, attribute: Attribute, model: Model, fields: Mapping[str, pl.DataType]
) -> tuple[pl.Expr, set[str]]:
    """The value of an attribute as a column expression of the attribute's type.

    Raises:
        ValueError: the SQL cannot be read, names a field that does not exist, or its result
            cannot become the attribute's type.
    """
    expression = sql(value, fields) if isinstance(value, str) else pl.lit(value)
    known = pl.DataFrame(schema=dict(fields))
    try:
        result = known.select(expression.alias("value")).schema["value"]
    except pl.exceptions.PolarsError as error:
        raise ValueError(f"{value!r} cannot be computed: {str(error).splitlines()[0]}") from None
    target = _VALUES[model.base_type(attribute.type)]
    if attribute.type == "timestamp_t" and isinstance(result, pl.Datetime):
        expression = expression.dt.epoch("ms")
    elif result != target:
        if isinstance(result, pl.List | pl.Struct) or (isinstance(result, pl.Datetime) and target != pl.String):
            raise ValueError(f"`{value}` is {result}, but `{attribute.name}` wants {target} ({attribute.type})")
        expression = expression.cast(target, strict=False)
    if attribute.is_list:
        expression = pl.when(expression.is_not_null()).then(pl.concat_list(expression))
    return expression, set(expression.meta.root_names())


def sql(text: str, fields: Mapping[str, pl.DataType]) -> pl.Expr:
    """A SQL expression over fields.

    Raises:
        ValueError: it is not SQL, or names a field that does not exist.
    """
    try:
        expression = pl.sql_expr(_quoted_fields(text, fields))
        names = expression.meta.root_names()
    except pl.exceptions.PolarsError as error:
        reason = str(error).splitlines()[0]
        word = re.fullmatch(r"unsupported function '(\w+)'", reason)
        if word is None or re.search(rf"\b{word[1]}\s*\(", text):
            raise ValueError(f"`{text}` is not a SQL expression: {reason}") from None
        names = [word[1]]  # a word that SQL takes for a function, such as `user`
        expression = pl.col(word[1])
    for name in names:
        if name not in fields:
            hint = did_you_mean(name, fields, f"for a fixed text write \"'{name}'\"")
            raise ValueError(f"`{name}` is no field of this variant; {hint}")
    return expression


_SQL_PIECE = re.compile(
    r"""'(?:[^']|'')*'|"(?:[^"]|"")*"|[A-Za-z_][A-Za-z0-9_]*(?:\.[A-Za-z_0-9]+)*(?!\s*\()|.""", re.DOTALL
)


def _quoted_fields(text: str, fields: Mapping[str, pl.DataType]) -> str:
    """SQL whose field names are quoted, so that a field may be called `user` or `order`."""
    return "".join(f'"{piece}"' if piece in fields else piece for piece in _SQL_PIECE.findall(text))


def _missing(model: Model, entity: Entity, leaves: Mapping[str, Leaf], prefix: str = "") -> Iterator[str]:
    """Required attributes that nothing fills, down the objects that are filled; and unmet constraints."""
    below = {path.removeprefix(prefix).split(".")[0] for path in leaves if path.startswith(prefix)}
    for name, attribute in entity.attributes.items():
        path = f"{prefix}{name}"
        if attribute.requirement == "required" and not attribute.profiles and name not in below:
            yield path
        elif name in below and attribute.is_object and path not in leaves and path != "unmapped":
            yield from _missing(model, model.object(attribute.type), leaves, f"{path}.")
    for kind, names in entity.constraints.items():
        count = len(below & set(names))
        if count == 0 or (kind == "just_one" and count > 1):
            wanted = ", ".join(f"{prefix}{name}" for name in names)
            yield f"{'just one' if kind == 'just_one' else 'at least one'} of {wanted}"
