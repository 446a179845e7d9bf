"""Structure in texts to fields: what readers find, put beside the groups of a regex."""

from __future__ import annotations

import polars as pl

from kinglet.columns.faults import Faults
from kinglet.columns.merging import merged
from kinglet.plan.data import MORE, Reading, StructurePlan
from kinglet.structured.by_form import KeyColumns, column_of, read


def with_structures(
    reading: Reading, texts: pl.DataFrame, whole: KeyColumns | None, more: pl.Series | None
) -> tuple[pl.DataFrame, Faults]:
    """The texts of all fields of a reading, and what is wrong with them.

    texts: those of its groups. whole: what its first structure was found to hold, where that is all
    that it reads. more: keys that are not named, of what was read before.
    """
    faults: Faults = []
    found_more = [] if more is None else [more]
    for plan in reading.structures:
        found = whole if whole is not None and plan.source is None else None
        if found is None:
            assert plan.source is not None
            text = texts[plan.source]
            found = read_plan(text, plan)
            bad = text.is_not_null() & ~found.good
            if bad.any():
                faults.append((plan.fault, bad))
            texts = texts.with_columns_seq(text.set(found.good, None))
        for name in found.faults.drop_nulls().unique(maintain_order=True):
            faults.append((f"{name}:{plan.source}" if plan.source else name, (found.faults == name).fill_null(False)))
        named = [found.column(key).alias(item.name) for key, item in zip(plan.keys, plan.fields, strict=True)]
        texts = texts.hstack(named)
        found_more.append(found.more)
    others = merged(found_more)
    if others.repeated.any():
        faults.append(("repeated-key", others.repeated))
    return texts.hstack([others.text.alias(MORE)]), faults


def read_plan(text: pl.Series, plan: StructurePlan) -> KeyColumns:
    """What texts hold of a structure; those that lack a key which it needs are none."""
    found = read(text, plan.structure, plan.keys, plan.prefix)
    if not plan.needs:
        return found
    there = found.columns.select_seq(
        pl.all_horizontal(pl.col([column_of(key) for key in plan.needs]).is_not_null())
    ).to_series()
    return found._replace(good=found.good & there)
