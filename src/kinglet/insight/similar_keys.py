"""Keys that should be fields and that no event has, where events have one that is called nearly the same."""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import dataclass

import polars as pl

from kinglet.names import name_alike
from kinglet.plan.data import MORE, Plan, StructurePlan

_PROBE = 1000


@dataclass(frozen=True)
class SimilarKey:
    """A key that becomes a field, none of the events of a variant has it, and one that is there instead.

    variant: None for a key of the envelope. similar: the key that is there, in so many of `of` events; of many events
    the first thousand are looked at.
    """

    variant: str | None
    field: str
    key: str
    similar: str
    count: int
    of: int


def similar_keys(plan: Plan, events: pl.DataFrame) -> list[SimilarKey]:
    """Such keys of a parser's structures; events: those of a result, with the field MORE where any have other keys."""
    if MORE not in events.columns:
        return []
    found: list[SimilarKey] = []
    if plan.envelope is not None:
        for structure in plan.envelope.structures:
            found += _of(structure, None, events)
    for variant in plan.variants:
        mine = events.filter(pl.col("variant") == variant.name) if variant.reading.structures else None
        for structure in variant.reading.structures:
            if mine is not None:
                found += _of(structure, variant.name, mine)
    return found


def _of(structure: StructurePlan, variant: str | None, events: pl.DataFrame) -> Iterator[SimilarKey]:
    lacking = [
        (key, field.name)
        for key, field in zip(structure.keys, structure.fields, strict=True)
        if field.name in events.columns and events[field.name].null_count() == events.height
    ]
    if not lacking or not events.height:
        return
    rows = events[MORE].head(_PROBE)
    counts: dict[str, int] = {}
    for text in rows.drop_nulls():
        for key in json.loads(text):
            counts[key] = counts.get(key, 0) + 1
    by_name = {name_alike(key.removeprefix(structure.prefix)): key for key in counts}
    for key, field in lacking:
        similar = by_name.get(name_alike(key))
        if similar is not None:
            yield SimilarKey(variant, field, key, similar, counts[similar], len(rows))
