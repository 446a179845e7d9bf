"""A reading done to a column of texts: which it matches, and the typed fields of those."""

from __future__ import annotations

from typing import NamedTuple

import polars as pl

from kinglet.clock.reading import Reference
from kinglet.engine.convert import Faults, convert
from kinglet.engine.extract import extract, one_by_one
from kinglet.engine.plan import Reading


class Took(NamedTuple):
    """matched: of each text whether the reading matches. The rest has a row for each text that it matches.

    texts: what groups and keys hold, as text. values: the fields. faults: what is wrong with them.
    """

    matched: pl.Series
    texts: pl.DataFrame
    values: pl.DataFrame
    faults: Faults


def take(reading: Reading, text: pl.Series, reference: Reference, more: pl.Series | None = None) -> Took | None:
    """What a reading takes from texts; None where it matches none of them.

    A text for which a slow regex had too little time counts as matched, without values and with a fault.

    reference: for one text each where it is a column. more: of each text, keys that nothing named so far.
    """
    late: pl.Series | None = None
    if reading.budget is not None:
        texts, matched, late = one_by_one(text, reading, reading.budget)
        matched, late = matched | late, late if late.any() else None
    else:
        texts, matched = extract(text, reading)
    whole = None
    if reading.structures and reading.structures[0].source is None:
        from kinglet.extract.forms import read

        plan = reading.structures[0]
        whole = read(text, plan.structure, plan.keys, plan.prefix)
        matched = whole.good
    if not matched.any():
        return None
    if not matched.all():
        texts = texts.filter(matched)
        whole = whole.where(matched) if whole is not None else None
        more = more.filter(matched) if more is not None else None
        reference = reference.filter(matched) if isinstance(reference, pl.Series) else reference
    faults: Faults = [] if late is None else [("too-slow", late.filter(matched))]
    if reading.structures:
        from kinglet.engine.structures import with_structures

        texts, faults = with_structures(reading, texts, whole, more)
    if not reading.fields and not reading.structures:
        return Took(matched, pl.DataFrame(height=int(matched.sum())), pl.DataFrame(height=int(matched.sum())), faults)
    values, bad = convert(texts, reading.every_field, reference)
    return Took(matched, texts, values, [*faults, *bad])
