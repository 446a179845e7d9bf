"""A reading done to a column of texts: which it matches, and the typed fields of those."""

from __future__ import annotations

from typing import NamedTuple

import polars as pl

from kinglet.columns.faults import Faults
from kinglet.columns.put import rows_where
from kinglet.plan.data import Reading
from kinglet.runtime.extraction.regex_groups import RegexGroups, extract
from kinglet.runtime.typed_values import convert
from kinglet.timestamps.reading import ISO, TimeReading
from kinglet.timestamps.stamps import Reference


class FieldTexts(NamedTuple):
    """matched: of each text whether the reading matches. The rest has a row for each text that it matches.

    texts: what groups and keys hold, as text. faults: what is wrong with them. values: the fields, where asked for.
    """

    matched: pl.Series
    texts: pl.DataFrame
    faults: Faults
    values: pl.DataFrame


def read_fields(reading: Reading, text: pl.Series, reference: Reference, times: TimeReading = ISO) -> FieldTexts | None:
    """What a reading takes from texts, with its fields; None where it matches none of them.

    reference: for one text each where it is a column. times: how stamps are read.
    """
    took = read_texts(reading, text)
    if took is None or not took.texts.width:
        return took
    near = reference.filter(took.matched) if isinstance(reference, pl.Series) else reference
    values, bad = convert(took.texts, reading.every_field, near, times)
    return took._replace(values=values, faults=[*took.faults, *bad])


def read_texts(
    reading: Reading, text: pl.Series, more: pl.Series | None = None, found: RegexGroups | None = None
) -> FieldTexts | None:
    """What a reading takes from texts, as text; None where it matches none of them.

    A text for which a slow regex had too little time counts as matched, without values and with a fault.
    more: of each text, keys that nothing named so far. found: what its regexes find in the texts, where that is known.
    """
    texts, matched, late = found or extract(text, reading)
    if late is not None:
        # it counts as read, so that no other variant is tried on an event of unknown length of time
        matched, late = matched | late, late if late.any() else None
    whole = None
    if reading.structures and reading.structures[0].source is None:
        from kinglet.runtime.extraction.structures import read_plan

        whole = read_plan(text, reading.structures[0])
        matched = whole.good
    if not matched.any():
        return None
    if not matched.all():
        texts = rows_where(texts, matched)
        whole = whole.where(matched) if whole is not None else None
        more = more.filter(matched) if more is not None else None
    faults: Faults = [] if late is None else [("too-slow", late.filter(matched))]
    if reading.structures:
        from kinglet.runtime.extraction.structures import with_structures

        texts, bad = with_structures(reading, texts, whole, more)
        faults += bad
    return FieldTexts(matched, texts, faults, pl.DataFrame(height=texts.height))
