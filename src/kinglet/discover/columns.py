"""The columns of a shape: what type their values have, which repeat, and which belong together."""

from __future__ import annotations

import re
from itertools import combinations
from typing import Any

import polars as pl

from kinglet.discover.report import Pair, ShapeColumn
from kinglet.discover.words import percent
from kinglet.patterns.types import TYPES
from kinglet.timestamps.known_forms import FINDABLE

_TYPES = ("ipv4", "ipv6", "ip", "mac", "uuid", "int", "num", "hex", "email", "url")
_PROBE = 3000
_DIGITS = 15
"""More digits than these a number with a fraction may lose (IEEE 754, binary64)."""
_FEW = 16
MOST_PAIRS = 8
_LABEL = r"[A-Za-z0-9_](?:[A-Za-z0-9_-]*[A-Za-z0-9_])?"
_ENDINGS = "com|net|org|edu|gov|mil|info|io|local|lan|internal|home|corp|arpa|example|test|localdomain"
_NUMBERS = r"[0-9]{1,3}(?:\.[0-9]{1,3}){3}"  # an address stands where others have a name
_HOST = rf"^(?:(?:{_LABEL}\.)+(?:{_ENDINGS})|(?:{_LABEL}\.){{2,}}[A-Za-z]{{2,}}|{_NUMBERS})$"


_STAMP = "|".join(form.shape for form in FINDABLE if form.date and form.clock and not form.name.startswith("epoch"))
_EPOCH = "|".join(form.shape for form in FINDABLE if form.name.startswith("epoch"))


def _shapes() -> dict[str, str]:
    """The regexes of types, in the order in which they are tried; narrower than slots read where these read much."""
    own = {"url": r"[A-Za-z][A-Za-z0-9+.-]*://\S+", "hex": "(?:0[xX])[0-9A-Fa-f]+|[0-9A-Fa-f]{8,}"}
    shapes = {"time": f"(?i:{_STAMP})", "epoch": _EPOCH}
    shapes |= {name: own.get(name, TYPES[name].valid or TYPES[name].shape) for name in _TYPES}
    found = {name: f"^(?:{shape})$" for name, shape in shapes.items()}
    return found | {"path": r"^/[^\s]*$", "host": _HOST, "bool": "^(?i:true|false|yes|no|on|off)$", "word": r"^\S*$"}


_SHAPES = _shapes()


def type_of(values: pl.Series) -> str:
    """The narrowest slot type that all values have."""
    probe = values.drop_nulls().unique(maintain_order=True).head(_PROBE).alias("")
    probe = probe.filter(probe != "")
    if not len(probe):
        return "empty"
    # a call has its cost: all shapes are tried at once on a few values, and only what is left on all of them
    tried = [pl.col("").str.contains(shape).all().alias(name) for name, shape in _SHAPES.items()]
    possible = probe.head(_FEW).to_frame().select(tried).row(0, named=True)
    for name, shape in _SHAPES.items():
        if not possible[name] or (len(probe) > _FEW and not probe.str.contains(shape).all()):
            continue
        if name == "epoch" and len(probe) <= 5:
            continue
        if name == "num" and _digits(probe) > _DIGITS:
            continue
        if name == "int" and _ports(probe):
            return "port"
        return "time" if name == "epoch" else name
    return "text"


def _digits(values: pl.Series) -> int:
    """The most digits that a number with a fraction has, without zeros in front and the exponent."""
    bare = values.str.replace_all("[eE].*$|[^0-9]", "").str.strip_chars_start("0")
    return int(bare.str.len_bytes().max() or 0)  # type: ignore[arg-type]


def _ports(values: pl.Series) -> bool:
    numbers = values.cast(pl.Int64, strict=False)
    low, high = numbers.min(), numbers.max()
    return len(values) > 20 and isinstance(low, int) and isinstance(high, int) and low >= 1024 and 32768 < high <= 65535


def described(name: str, values: pl.Series, type_: str | None = None) -> ShapeColumn:
    """A column: its type, how many values, and whether it varies."""
    known = values.drop_nulls().alias("value")
    counted = known.value_counts(sort=True, name="n") if len(known) else None
    distinct = counted.height if counted is not None else 0
    examples = [str(value) for value in counted.to_series(0).head(4)] if counted is not None else []
    about = _about(known, distinct, counted)
    if len(known) < len(values):
        about += f"; in {percent(len(known) / len(values))}"
    return ShapeColumn(name, type_ or type_of(known), distinct, examples, about)


def _about(known: pl.Series, distinct: int, counted: pl.DataFrame | None) -> str:
    count = len(known)
    if not count or counted is None:
        return "empty"
    if distinct == 1:
        return "constant" if count > 1 else "once"
    if distinct == count:
        return "unique"
    top = int(counted["n"][0])
    if distinct > 0.9 * count:
        return "nearly unique"
    return f"repeats; the commonest {percent(top / count)}"


def pairs(columns: dict[str, pl.Series], types: dict[str, str]) -> list[Pair]:
    """Pairs of columns of which the value of one nearly always tells that of the other."""
    found: list[tuple[float, Pair]] = []
    usable = {}
    for name, values in columns.items():
        distinct = values.drop_nulls().n_unique()
        rows = len(values) - values.null_count()
        most = 0.15 if types.get(name) in ("int", "port") else 0.5
        if rows >= 6 and 2 <= distinct <= max(2, most * rows) and types.get(name) not in ("num", "time", "empty"):
            usable[name] = distinct
    names = sorted(usable, key=lambda name: usable[name])[:12]
    for one, other in combinations(names, 2):
        frame = pl.DataFrame([columns[one].alias("a"), columns[other].alias("b")]).drop_nulls()
        if frame.height < 6:
            continue
        if (pair := _pair(one, other, frame)) is not None:
            found.append(pair)
    found.sort(key=lambda item: item[0], reverse=True)
    return [pair for _, pair in found[:MOST_PAIRS]]


def _pair(one: str, other: str, frame: pl.DataFrame) -> tuple[float, Pair] | None:
    """How the values of two columns go together; nothing where they do not."""
    by_a = frame.group_by("a", maintain_order=True).agg(
        pl.col("b").unique(maintain_order=True).alias("other"), pl.len().alias("n")
    )
    by_b = frame.group_by("b", maintain_order=True).agg(
        pl.col("a").unique(maintain_order=True).alias("other"), pl.len().alias("n")
    )
    repeated_a = by_a.filter(pl.col("n") > 1).height
    repeated_b = by_b.filter(pl.col("n") > 1).height
    several_a = by_a.filter(pl.col("other").list.len() > 1)
    several_b = by_b.filter(pl.col("other").list.len() > 1)
    fixed_a = 1 - several_a.height / max(repeated_a, 1)
    fixed_b = 1 - several_b.height / max(repeated_b, 1)
    if min(repeated_a, repeated_b) < 2 and max(by_a.height, by_b.height) < 3:
        return None
    if fixed_a >= 0.7 and fixed_b >= 0.7 and by_a.height > 2 and by_b.height > 2:
        exceptions = [*_examples(several_a, one, other), *_examples(several_b, other, one)]
        number = several_a.height + several_b.height
        return 2 + fixed_a + fixed_b, Pair(one, other, "one to one", number, by_a.height + by_b.height, exceptions[:4])
    for fixed, repeated, many, single, table in (
        (fixed_b, repeated_b, other, one, several_b),
        (fixed_a, repeated_a, one, other, several_a),
    ):
        size = by_b.height if many == other else by_a.height
        fewer = by_a.height if many == other else by_b.height
        if fixed >= 0.8 and repeated >= 3 and fewer >= 2 and size > fewer:
            examples = _examples(table, many, single)
            several = several_a if many == other else several_b
            if several.height < 0.5 * fewer:  # most have one after all
                examples += _examples(several, single, many)
            return fixed, Pair(single, many, "one to many", table.height, size, examples[:4])
    return None


def _examples(several: pl.DataFrame, name: str, other: str) -> list[str]:
    """Values of a column that go with several of the other."""
    rows: list[dict[str, Any]] = several.sort("n", descending=True, maintain_order=True).head(3).to_dicts()
    key = several.columns[0]
    return [
        f"{name} {_short(row[key])} has {len(row['other'])} {other}: "
        + ", ".join(_short(value) for value in row["other"][:3])
        + (", …" if len(row["other"]) > 3 else "")
        for row in rows
    ]


def _short(value: Any) -> str:
    text = re.sub(r"\s+", " ", str(value))
    return text if len(text) <= 40 else text[:39] + "…"
