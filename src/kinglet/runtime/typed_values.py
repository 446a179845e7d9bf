"""The text of fields to values of their types; what does not fit becomes null and a fault."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import polars as pl

from kinglet.columns import amounts
from kinglet.columns.escapes import unescaped
from kinglet.columns.faults import Faults
from kinglet.plan.data import FieldPlan
from kinglet.timestamps.durations import seconds
from kinglet.timestamps.reading import ISO, TimeReading, read
from kinglet.timestamps.stamps import Reference

_WORDS = {"true": True, "yes": True, "on": True, "1": True, "false": False, "no": False, "off": False, "0": False}


def convert(
    texts: pl.DataFrame,
    fields: Sequence[FieldPlan],
    reference: Reference,
    times: TimeReading = ISO,
    zone: str | None = None,
    noted: dict[str, pl.Series] | None = None,
) -> tuple[pl.DataFrame, Faults]:
    """Typed columns of the same names, and a fault with a mask for each field that has bad values.

    times: how stamps without a rule are read; zone: of those that carry none, where the parser names none. noted: takes
    down for fields that are stamps what is noted of them, as bits of `notes.BIT`.
    """
    columns: list[pl.Series] = []
    faults: Faults = []
    for field in fields:
        text = texts[field.name]
        if field.type.is_plain:
            columns.append(text)
            continue
        change = _CHANGES.get(field.type.change) or _BY_VALUE.get(field.type.value)
        value = text
        if field.type.value == "time":
            stamps = read(text, times, reference, zone)
            value = stamps.time
            if noted is not None and (stamps.notes != 0).any():
                noted[field.name] = stamps.notes.set(value.is_null(), 0)
        elif change is not None:
            value = change(text)
        if field.type.escapes:
            value = unescaped(value, field.type.escapes)
        if field.type.low is not None and field.type.high is not None:
            value = value.set(~value.is_between(field.type.low, field.type.high), None)
        for regex in field.type.checks:
            good = text.str.contains(f"^(?:{regex})$")
            if not good.all():
                value = value.zip_with(good.fill_null(False), pl.Series([None], dtype=value.dtype))
        if value.null_count() > text.null_count():
            faults.append((f"bad-value:{field.name}", value.is_null() & text.is_not_null()))
        columns.append(value.alias(field.name))
    return pl.DataFrame(columns) if columns else pl.DataFrame(height=texts.height), faults


def _integer(text: pl.Series) -> pl.Series:
    return text.cast(pl.Int64, strict=False)


def _number(text: pl.Series) -> pl.Series:
    value = text.cast(pl.Float64, strict=False)
    return value.set(~value.is_finite(), None)


def _hexadecimal(text: pl.Series) -> pl.Series:
    return text.str.to_lowercase().str.strip_prefix("0x").str.to_integer(base=16, strict=False)


def _boolean(text: pl.Series) -> pl.Series:
    return text.str.to_lowercase().replace_strict(_WORDS, default=None, return_dtype=pl.Boolean)


def _unquoted(text: pl.Series) -> pl.Series:
    inside = text.str.slice(1, text.str.len_chars() - 2)
    if inside.str.contains("\\", literal=True).any():
        double = inside.str.replace_all(r'\\(["\\])', "${1}")
        return double.zip_with(text.str.starts_with('"'), inside.str.replace_all(r"\\(['\\])", "${1}"))
    return inside


_CHANGES: dict[str, Callable[[pl.Series], pl.Series]] = {
    "hex": _hexadecimal,
    "quoted": _unquoted,
    "duration": seconds,
    "amount": amounts.whole,
    "percent": amounts.percentage,
}
_BY_VALUE: dict[str, Callable[[pl.Series], pl.Series]] = {"int": _integer, "float": _number, "bool": _boolean}
