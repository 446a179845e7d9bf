"""SQL over fields to values of an attribute's type, and what tells whether a value fits.

Types and their limits are those of the model (OCSF), IP addresses those of RFC 4291.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import NamedTuple

import polars as pl

from kinglet.expressions.compiling import Expression, sql
from kinglet.expressions.terms import constant, refuse_quoted
from kinglet.ocsf.schema import Attribute, Model, enum_value
from kinglet.patterns.types import TYPES
from kinglet.spec.section import FixedText, Scalar

BASES: dict[str, pl.DataType] = {
    "string_t": pl.String(),
    "integer_t": pl.Int64(),
    "long_t": pl.Int64(),
    "float_t": pl.Float64(),
    "boolean_t": pl.Boolean(),
    "json_t": pl.String(),
}
_SURE = {
    "ip_t": {"ip", "ipv4", "ipv6"},
    "port_t": {"port"},
}
"""Types of the model that values of some slot types always fit."""
_SHAPES = {"ip_t": TYPES["ip"].valid}
"""What values look like where the regex of the model is wider than it means; what the standard does not restrict is not
restricted."""
OTHER = 99
WORDS = pl.List(pl.String())


class Fields(NamedTuple):
    """The columns that expressions may name, and the slot types of those whose text was found valid by one."""

    columns: Mapping[str, pl.DataType]
    slots: Mapping[str, str]


class Value(NamedTuple):
    """An attribute's value as an expression.

    bad: which events have one that does not fit; it is null there, and `text` has it as it was. caption: the text
    that goes with the value of an enumeration. other: which events have a word that the enumeration does not have.
    """

    expression: pl.Expr
    dtype: pl.DataType
    names: frozenset[str]
    text: pl.Expr
    bad: pl.Expr | None = None
    caption: pl.Expr | None = None
    other: pl.Expr | None = None


def value_of(
    value: Scalar | FixedText | Sequence[Scalar | FixedText],
    attribute: Attribute,
    model: Model,
    fields: Fields,
    table: Mapping[str, int | str] | None = None,
) -> Value:
    """The value of an attribute; a list gives all its values that are there.

    table: of an enumeration, its values by the words of the log.

    Raises:
        ValueError: the SQL cannot be read, names a field that does not exist, or its result cannot become the
            attribute's type.
    """
    target = BASES[model.base_type(attribute.type)]
    if isinstance(value, list | tuple):
        if not attribute.is_list:
            raise ValueError(f"`{attribute.name}` takes one value, not a list")
        items = [_single(one, attribute, model, fields, None) for one in value]
        names = frozenset(name for item in items for name in item.names)
        together = pl.concat_list([item.expression for item in items]).list.drop_nulls()
        bad = [item.bad for item in items if item.bad is not None]
        text = pl.concat_list([item.text for item in items]).list.join(" ", ignore_nulls=True)
        return Value(
            pl.when(together.list.len() > 0).then(together), pl.List(target), names, text,
            pl.any_horizontal(bad) if bad else None,
        )  # fmt: skip
    assert isinstance(value, str | int | float | bool | FixedText)
    found = _single(value, attribute, model, fields, table)
    if attribute.is_list and not isinstance(found.dtype, pl.List):
        one = found.expression
        return found._replace(
            expression=pl.when(one.is_not_null()).then(pl.concat_list(one)), dtype=pl.List(found.dtype)
        )
    return found


def _single(
    value: Scalar | FixedText, attribute: Attribute, model: Model, fields: Fields, table: Mapping[str, int | str] | None
) -> Value:
    if isinstance(value, str) and _is_caption(value, attribute, fields):
        fixed = constant(enum_value(attribute, value))
        made = Expression(value, fixed.value, fixed.dtype, ())
    elif isinstance(value, FixedText):
        fixed = constant(value.text)
        made = Expression(value.text, fixed.value, fixed.dtype, ())
    elif isinstance(value, str):
        refuse_quoted(value)
        made = sql(value, fields.columns)
    else:
        fixed = constant(value)
        made = Expression(str(value), fixed.value, fixed.dtype, ())
    found = _fitted(value, made, attribute, model, fields, table)
    if made.failed is None:
        return found
    # what cannot be computed is shown as what it was computed from
    source = pl.col(made.names[0]).cast(pl.String) if made.names else found.text
    text = pl.when(made.failed).then(source).otherwise(found.text)
    return found._replace(bad=made.failed if found.bad is None else found.bad | made.failed, text=text)


def _is_caption(value: str, attribute: Attribute, fields: Fields) -> bool:
    """Whether a word is no field but the caption of a value of an enumeration: `direction_id: Outbound`."""
    captions = {caption.casefold() for caption in attribute.enum.values()}
    return value.strip() not in fields.columns and value.strip().casefold() in captions


def _fitted(
    value: Scalar | FixedText,
    made: Expression,
    attribute: Attribute,
    model: Model,
    fields: Fields,
    table: Mapping[str, int | str] | None,
) -> Value:
    """A computed value as the type of its attribute."""
    expression, result = made.value, made.dtype
    target = BASES[model.base_type(attribute.type)]
    names = frozenset(made.names)
    text = expression.cast(pl.String) if not isinstance(result, pl.List) else expression.cast(WORDS).list.join(" ")
    if attribute.enum and not names and table is None:
        constant = pl.select(expression).item()
        if constant is not None:
            enum_value(attribute, constant)
    if attribute.enum and (table is not None or (target == pl.Int64 and result == pl.String)):
        return _enumerated(text, attribute, names, table)
    if attribute.type == "timestamp_t" and isinstance(result, pl.Datetime):
        return Value(expression.dt.epoch("ms"), target, names, text)
    if isinstance(result, pl.List) and attribute.is_list and not isinstance(result.inner, pl.List | pl.Struct):
        item = pl.element().cast(target, strict=False)
        test = _fits(item, pl.element(), result.inner, attribute, model)  # type: ignore[arg-type]
        words = expression.cast(WORDS).list.join(" ", ignore_nulls=True)
        if test is None:
            whole = expression.cast(pl.List(target), strict=False)
            return Value(pl.when(whole.list.len() > 0).then(whole), pl.List(target), names, words)
        good = expression.list.eval(pl.when(test.fill_null(False)).then(item)).list.drop_nulls()
        bad = (good.list.len() < expression.list.drop_nulls().list.len()).fill_null(False)
        return Value(pl.when(good.list.len() > 0).then(good), pl.List(target), names, words, bad)
    if isinstance(result, pl.List | pl.Struct) or (isinstance(result, pl.Datetime) and target != pl.String):
        raise ValueError(f"`{value}` is {result}, but `{attribute.name}` wants {target} ({attribute.type})")
    cast = expression if result == target else expression.cast(target, strict=False)
    fits = _fits(cast, expression, result, attribute, model)
    sure = isinstance(value, str) and fields.slots.get(value.strip()) in _SURE.get(attribute.type, ())
    if fits is None or sure or not names:
        return Value(cast, target, names, text, caption=_caption(cast, attribute))
    good = pl.when(fits).then(cast)
    if attribute.enum and attribute.requirement == "required" and 0 in attribute.enum and target == pl.Int64:
        good = good.fill_null(0)  # what is required and has no value is Unknown
    return Value(
        good, target, names, text, expression.is_not_null() & ~fits.fill_null(False), _caption(good, attribute)
    )


def _caption(value: pl.Expr, attribute: Attribute) -> pl.Expr | None:
    if not attribute.enum or attribute.sibling is None:
        return None
    return value.replace_strict(
        list(attribute.enum), list(attribute.enum.values()), default=None, return_dtype=pl.String
    )


def _enumerated(
    text: pl.Expr, attribute: Attribute, names: frozenset[str], table: Mapping[str, int | str] | None
) -> Value:
    """The values that words mean: those of the table, or captions. What means none is Other, its text the caption."""
    numbers = all(isinstance(key, int) for key in attribute.enum)
    dtype: pl.DataType = pl.Int64() if numbers else pl.String()
    words = table if table is not None else {caption.casefold(): key for key, caption in attribute.enum.items()}
    key = text if table is not None else text.str.to_lowercase()
    other = OTHER if OTHER in attribute.enum else 0 if 0 in attribute.enum else None
    absent = 0 if attribute.requirement == "required" and 0 in attribute.enum else None
    known = list(words)
    value = pl.when(text.is_null()).then(pl.lit(absent, dtype=dtype)).otherwise(
        key.replace_strict(known, list(words.values()), default=other, return_dtype=dtype)
    )  # fmt: skip
    captions = [attribute.enum[number] for number in words.values()]
    nothing = pl.lit(attribute.enum[absent] if absent is not None else None, dtype=pl.String)
    caption = pl.when(text.is_null()).then(nothing).otherwise(
        pl.coalesce(key.replace_strict(known, captions, default=None, return_dtype=pl.String), text)
    )  # fmt: skip
    unknown = text.is_not_null() & ~key.is_in(known)
    if other is None or attribute.sibling is None:
        return Value(value, dtype, names, text, bad=unknown)
    return Value(value, dtype, names, text, caption=caption, other=unknown)


def _fits(
    cast: pl.Expr, expression: pl.Expr, result: pl.DataType, attribute: Attribute, model: Model
) -> pl.Expr | None:
    """Which values an attribute may have; None where it takes any."""
    limits = model.type_limits(attribute.type)
    tests: list[pl.Expr] = []
    if attribute.type in _SHAPES:
        tests.append(cast.str.contains(f"^(?:{_SHAPES[attribute.type]})$"))
    elif "regex" in limits:
        tests.append(cast.str.contains(_anchored(limits["regex"])))
    if "range" in limits:
        tests.append(cast.is_between(*limits["range"]))
    if "max_len" in limits and attribute.type != "ip_t":
        tests.append(cast.str.len_chars() <= limits["max_len"])
    if attribute.enum:
        tests.append(cast.is_in(list(attribute.enum)))
    target = BASES[model.base_type(attribute.type)]
    if target != pl.String and result == pl.String:
        tests.append(cast.is_not_null())
    if target == pl.Int64 and result.is_float():
        tests.append(expression == expression.floor())
    return pl.all_horizontal(tests) if tests else None


def _anchored(regex: str) -> str:
    return regex if regex.startswith("^") else f"^(?:{regex})$"
