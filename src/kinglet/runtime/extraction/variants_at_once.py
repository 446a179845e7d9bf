"""Many variants in one pass over the texts, by machine code: which is the first to match each, and its groups."""

from __future__ import annotations

import functools
import itertools
from collections.abc import Iterator, Sequence
from typing import NamedTuple

import polars as pl

from kinglet.columns.repeated import true_of
from kinglet.plan.data import Reading
from kinglet.regex.automaton import Alternative
from kinglet.runtime.extraction import regex_at_once
from kinglet.runtime.extraction.regex_groups import RegexGroups, with_flags


class Share(NamedTuple):
    """The rows of texts that one reading is the first to match, or that none does, or that are left to others.

    start: the first of them, where they are neighbours.
    """

    rows: pl.Series
    start: int | None
    reading: int | None
    found: RegexGroups | None


def first_of(text: pl.Series, readings: Sequence[Reading]) -> Iterator[Share] | None:
    """Each reading's share of texts, and those of none; None where that is left to the column engine.

    Shares of `reading` None have no match; those that also have no `found` were not looked at.
    """
    alternatives = _alternatives(tuple((reading.regexes, tuple(reading.groups)) for reading in readings))
    if not all(_is_plain(reading) for reading in readings):
        return None
    found = regex_at_once.find(text, alternatives)
    return _shares(found, readings) if found is not None else None


def _is_plain(reading: Reading) -> bool:
    """Whether regexes alone say if a reading matches."""
    by_structure = bool(reading.structures) and reading.structures[0].source is None
    return bool(reading.regexes) and reading.budget is None and not by_structure


@functools.lru_cache(maxsize=1024)
def _alternatives(readings: tuple[tuple[tuple[str, ...], tuple[str, ...]], ...]) -> tuple[Alternative, ...]:
    return tuple(Alternative(regex, groups) for regexes, groups in readings for regex in regexes)


def _shares(found: regex_at_once.Found, readings: Sequence[Reading]) -> Iterator[Share]:
    import numpy as np

    # several regexes of one reading are one; the last two stand for no match, and for what was not looked at
    owner = np.array([number for number, reading in enumerate(readings) for _ in reading.regexes] + [-2, -1])
    numbers = owner[found.regexes]
    order = np.argsort(numbers, kind="stable").astype(np.uint32)
    edges = np.flatnonzero(np.diff(numbers[order], prepend=-9, append=len(owner)))
    groups = pl.DataFrame([column.alias(str(i)) for i, column in enumerate(found.groups)])
    for first, last in itertools.pairwise(edges):
        places = order[first:last]
        number = int(numbers[places[0]])
        # neighbours are a slice, which costs a hundredth of gathering them
        start = int(places[0]) if places[-1] - places[0] + 1 == len(places) else None
        rows = pl.Series(places)
        if number < 0:
            unmatched = RegexGroups(pl.DataFrame(), pl.Series([], dtype=pl.Boolean))
            yield Share(rows, start, None, None if number == -2 else unmatched)
            continue
        texts = pl.DataFrame(height=len(places))
        if names := readings[number].groups:
            taken = groups[:, : len(names)]
            texts = taken[rows] if start is None else taken.slice(start, len(places))
            texts.columns = names
        yield Share(rows, start, number, with_flags(RegexGroups(texts, true_of(len(places))), readings[number]))
