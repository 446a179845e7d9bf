"""Keys that a parser does not name, as columns."""

from __future__ import annotations

import json
from collections import Counter
from typing import Any

import polars as pl

from kinglet.plan.data import MORE, name_problem


def spread(events: pl.DataFrame, most: int) -> pl.DataFrame:
    """Events with the commonest keys of the field MORE as columns of text; the others stay in it.

    Values are text as JSON strings have it, and JSON for all else.
    """
    if MORE not in events.columns:
        return events
    objects: list[dict[str, Any]] = [json.loads(text, strict=False) if text else {} for text in events[MORE]]
    counts = Counter(key for item in objects for key in item)
    chosen = sorted(counts, key=lambda key: (-counts[key], key))[:most]
    columns: list[pl.Series] = []
    taken = {*events.columns}
    for key in chosen:
        name = f"{MORE}.{key}" if key in events.columns or name_problem(key) is not None else key
        while name in taken:
            name = f"{MORE}.{name}"
        taken.add(name)
        columns.append(pl.Series(name, [_text(item.pop(key, None)) for item in objects], dtype=pl.String))
    rest = [json.dumps(item, ensure_ascii=False, separators=(",", ":")) if item else None for item in objects]
    return events.with_columns_seq(pl.Series(MORE, rest, dtype=pl.String)).hstack(columns)


def _text(value: Any) -> str | None:
    return value if value is None or isinstance(value, str) else json.dumps(value, ensure_ascii=False)
