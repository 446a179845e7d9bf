"""The regexes of a reading over a column of texts."""

from __future__ import annotations

import functools
from typing import NamedTuple

import polars as pl

from kinglet.columns.put import put
from kinglet.columns.repeated import true_of
from kinglet.patterns.types import FLAG
from kinglet.plan.data import Reading
from kinglet.regex.automaton import Alternative
from kinglet.runtime.extraction import regex_at_once


class RegexGroups(NamedTuple):
    """What regexes find in texts, and masks of those that they match and of those that took too long.

    texts: a column of text for each field of the reading, null where its group took no part.
    """

    texts: pl.DataFrame
    matched: pl.Series
    late: pl.Series | None = None


def extract(text: pl.Series, reading: Reading) -> RegexGroups:
    """What the regexes of a reading find, of which the first that matches a text counts."""
    return with_flags(_extract(text, reading), reading)


def with_flags(found: RegexGroups, reading: Reading) -> RegexGroups:
    """The same with the texts of flags."""
    flags = [item.name for item in reading.fields if item.type.name == FLAG]
    if not flags:
        return found
    # the text of a flag is empty where its part is there: what counts is that there is one
    there = (found.texts[name].is_not_null().cast(pl.String).alias(name) for name in flags)
    return found._replace(texts=found.texts.with_columns_seq(there))


def _extract(text: pl.Series, reading: Reading) -> RegexGroups:
    if not reading.regexes:
        return RegexGroups(pl.DataFrame(height=len(text)), true_of(len(text)))
    if reading.budget is not None:
        return _one_by_one(text, reading, reading.budget)
    frame, matched = _by_regex(text, reading, reading.regexes[0])
    for regex in reading.regexes[1:]:
        if matched.all():
            break
        # null texts cannot match and would only slow the next regex down
        rows = ((~matched) & text.is_not_null()).arg_true()
        if not len(rows):
            break
        groups, more = _by_regex(text[rows], reading, regex)
        if more.any():
            frame = frame.with_columns_seq(put(frame[name], rows, groups[name]) for name in frame.columns)
            matched = put(matched, rows, more)
    return RegexGroups(frame, matched)


@functools.lru_cache(maxsize=4096)
def _groups_of(regex: str) -> pl.Expr:
    """The expression for a regex's groups; to make it takes the engine longer than to run it on a few texts."""
    return pl.col("").str.extract_groups(regex)


def _by_regex(text: pl.Series, reading: Reading, regex: str) -> tuple[pl.DataFrame, pl.Series]:
    names = reading.groups
    found = regex_at_once.find(text, (Alternative(regex, tuple(names)),))
    if found is None:
        return _by_engine(text, reading, regex)
    columns = [column.alias(name) for name, column in zip(names, found.groups, strict=True)]
    frame = pl.DataFrame(columns) if columns else pl.DataFrame(height=len(text))
    odd = found.odd
    if not len(odd):
        return frame, found.matched
    others, matched = _by_engine(text.gather(odd), reading, regex)
    frame = frame.with_columns_seq(put(frame[name], odd, others[name]) for name in names)
    return frame, put(found.matched, odd, matched)


def _by_engine(text: pl.Series, reading: Reading, regex: str) -> tuple[pl.DataFrame, pl.Series]:
    names = reading.groups
    if not names:
        return pl.DataFrame(height=len(text)), text.str.contains(regex).fill_null(False)
    groups = text.to_frame("").select_seq(_groups_of(regex)).to_series().struct.unnest()
    # groups that nothing asks for are dropped, and two of one name are not possible
    if groups.columns == names:
        frame = groups
    else:
        there = set(groups.columns)
        nothing = pl.Series([None], dtype=pl.String).new_from_index(0, len(text))
        frame = pl.DataFrame([groups[name] if name in there else nothing.alias(name) for name in names])
    # a group that is in every match says whether there was one: no second search
    if reading.always is not None:
        always = frame.get_column(reading.always)
        return frame, true_of(len(text)) if not always.null_count() else always.is_not_null()
    matched = frame.select_seq(pl.any_horizontal(pl.all().is_not_null())).to_series()
    silent = (~matched).arg_true()
    if len(silent):  # a match may leave every named group out
        matched = put(matched, silent, text[silent].str.contains(regex).fill_null(False))
    return frame, matched


def _one_by_one(text: pl.Series, reading: Reading, seconds: float) -> RegexGroups:
    """The same by a regex that only an engine that goes back can run."""
    from kinglet.regex.backtracking import search

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
    return RegexGroups(frame, pl.Series(matched, dtype=pl.Boolean), pl.Series(late, dtype=pl.Boolean))
