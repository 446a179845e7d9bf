"""The values of one field: how often each occurs, and which are unlike the others."""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from dataclasses import asdict, dataclass
from typing import Any

import polars as pl

from kinglet.errors import UsageError, did_you_mean
from kinglet.names import field_of
from kinglet.plan.data import DTYPES

_RARE = 0.02
_LINES = 3
_LONG = 4
_MOST_FORMS = 2000


@dataclass(frozen=True)
class ValueCount:
    """A value, the events that have it, and the lines of some. unlike: what is unlike the others, if anything is."""

    value: str
    count: int
    lines: list[int]
    unlike: str = ""


@dataclass(frozen=True)
class FieldValues:
    """The values of a field, those that are unlike the others first, then the commonest.

    count: events that have it, of so many. distinct: how many values there are.
    """

    name: str
    type: str
    count: int
    of: int
    distinct: int
    values: list[ValueCount]

    def to_dict(self) -> dict[str, Any]:
        """Plain values."""
        return asdict(self)


def look_of(text: str) -> str:
    """What a text looks like: letters, digits and signs, whatever their number; names of both are alike."""
    mixed = re.sub(r"(?:[^\W\d_]+[0-9]|[0-9]+[^\W\d_])[^\W_]*", "a", text)
    plain = re.sub(r"[0-9]+", "9", re.sub(r"[^\W\d_]+", "a", mixed))
    return re.sub(r"(.+?)\1+", r"\1", plain)[:20]


def values_of(events: pl.DataFrame, field: str, most: int | None = 20) -> FieldValues:
    """The values of a field of events: so many, or all of them.

    Raises:
        UsageError: no event has such a field.
    """
    name = field_of(field) if field_of(field) in events.columns else field
    if name not in events.columns or name in ("raw", "faults"):
        near = did_you_mean(field, [one for one in events.columns if one != "raw"])
        raise UsageError(f"no event has a field `{field}`", near or "see `kinglet explain`")
    column = events[name]
    dtype = next((kind for kind, own in DTYPES.items() if own == column.dtype), "text")
    known = pl.DataFrame([column.cast(pl.String).alias("value"), events["line"]]).drop_nulls("value")
    counted = (
        known.group_by("value", maintain_order=True)
        .agg(pl.len().alias("n"), pl.col("line").head(_LINES))
        .sort("n", descending=True, maintain_order=True)
    )
    odd = _unlike(counted)
    rows = [ValueCount(value, n, lines, odd.get(value, "")) for value, n, lines in counted.iter_rows() if value in odd]
    most = counted.height if most is None else most
    rows = rows[: max(most // 2, 1)]
    shown = {row.value for row in rows}
    for value, n, lines in counted.head(most).iter_rows():
        if value not in shown and len(rows) < most:
            rows.append(ValueCount(value, n, lines))
    return FieldValues(field, dtype, known.height, events.height, counted.height, rows)


def _unlike(counted: pl.DataFrame) -> dict[str, str]:
    """Values that look or are long unlike nearly all others, and in what."""
    some = counted.head(_MOST_FORMS)
    total = int(counted["n"].sum() or 0)
    weight: Counter[str] = Counter()
    by_look: dict[str, list[str]] = defaultdict(list)
    for value, n in some.select("value", "n").iter_rows():
        weight[look_of(value)] += n
        by_look[look_of(value)].append(value)
    out = {
        value: "looks unlike the others"
        for look, values in by_look.items()
        if weight[look] <= max(1, _RARE * total) and weight[look] < max(weight.values())
        for value in values
    }
    lengths = some["value"].str.len_chars()
    usual = float(lengths.median() or 0)  # type: ignore[arg-type]
    for value, length in zip(some["value"], lengths, strict=True):
        if length > max(_LONG * usual, 20):
            out[value] = f"{length:,} characters"
    return out if len(out) < 0.5 * some.height else {}
