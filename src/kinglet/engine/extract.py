"""One text column to the columns of its groups."""

from __future__ import annotations

import functools

import polars as pl

from kinglet.engine.masks import true_of
from kinglet.engine.plan import Reading


def extract(text: pl.Series, reading: Reading) -> tuple[pl.DataFrame, pl.Series]:
    """The groups of a reading as text, null where a group took no part, and a mask of what matched.

    The frame has one column for each field of the reading and as many rows as text has.
    """
    if not reading.regexes:
        return pl.DataFrame(height=len(text)), true_of(len(text))
    frame, matched = _by_regex(text, reading, reading.regexes[0])
    for regex in reading.regexes[1:]:
        if matched.all():
            break
        gaps = (~matched).arg_true()
        more, found = _by_regex(text.gather(gaps), reading, regex)
        if not found.any():
            continue
        rows = gaps.filter(found)
        more = more.filter(found)
        frame = frame.with_columns(frame[name].scatter(rows, more[name]) for name in frame.columns)
        matched = matched.scatter(rows, True)
    return frame, matched


@functools.lru_cache(maxsize=4096)
def _groups_of(regex: str) -> pl.Expr:
    """The groups of a regex; the engine compiles it when the expression is made, once for all batches."""
    return pl.col("").str.extract_groups(regex)


def _by_regex(text: pl.Series, reading: Reading, regex: str) -> tuple[pl.DataFrame, pl.Series]:
    names = reading.groups
    if not names:
        return pl.DataFrame(height=len(text)), text.str.contains(regex).fill_null(False)
    groups = text.alias("").to_frame().select(_groups_of(regex)).to_series().struct.unnest()
    if groups.columns == names:
        frame = groups
    else:
        there = set(groups.columns)
        nothing = pl.Series([None], dtype=pl.String).new_from_index(0, len(text))
        frame = pl.DataFrame([groups[name] if name in there else nothing.alias(name) for name in names])
    if reading.always is not None:
        always = frame[reading.always]
        return frame, true_of(len(text)) if not always.null_count() else always.is_not_null()
    matched = frame.select(pl.any_horizontal(pl.all().is_not_null())).to_series()
    silent = (~matched).arg_true()
    if len(silent):  # a match may leave every named group out
        matched = matched.scatter(silent, text.gather(silent).str.contains(regex).fill_null(False))
    return frame, matched


def one_by_one(text: pl.Series, reading: Reading, seconds: float) -> tuple[pl.DataFrame, pl.Series, pl.Series]:
    """The same by a regex that only an engine that goes back can run, and a mask of texts that took too long."""
    from kinglet.patterns.slow import search

    names = reading.groups
    groups: dict[str, list[str | None]] = {name: [] for name in names}
    matched: list[bool] = []
    late: list[bool] = []
    for value in text.to_list():
        match = None
        late.append(False)
        try:
            match = search(reading.regexes[0], value, seconds) if value is not None else None
        except TimeoutError:
            late[-1] = True
        matched.append(match is not None)
        for name in names:
            groups[name].append(match[name] if match is not None else None)
    frame = pl.DataFrame(groups, schema=dict.fromkeys(names, pl.String)) if names else pl.DataFrame(height=len(text))
    return frame, pl.Series(matched, dtype=pl.Boolean), pl.Series(late, dtype=pl.Boolean)
