"""Line ends of texts as patterns and regexes read them: LF, whatever they are in the log, and none at the end.

The raw text and the values of structure keep them as they stand.
"""

from __future__ import annotations

import polars as pl

from kinglet.cutting.cutter import EventBatch
from kinglet.plan.data import Plan

TEXT_READ = "#text"
"""A column of events beside the text that variants read: as their regexes read it, where the two differ."""


def as_read(texts: pl.Series, lone_returns: bool = False) -> pl.Series:
    """Texts as regexes read them; lone_returns: whether a CR by itself ends a line, too."""
    if texts.dtype != pl.String():
        return texts
    # speed: to look is many times quicker than to replace, and most logs have none
    end = "\r" if lone_returns else "\r\n"
    if texts.str.contains(end, literal=True).any():
        texts = texts.str.replace_all("\r\n", "\n", literal=True)
        texts = texts.str.replace_all("\r", "\n", literal=True) if lone_returns else texts
    return texts.str.strip_chars_end("\n") if texts.str.ends_with("\n").any() else texts


def with_text_read(columns: pl.DataFrame, name: str, lone_returns: bool = False) -> pl.DataFrame:
    """Events with what their variants read by regex, the text of a column, beside it where the two differ."""
    text = columns[name]
    read = as_read(text, lone_returns)
    columns = columns.drop(TEXT_READ, strict=False)
    return columns if read is text else columns.with_columns_seq(read.alias(TEXT_READ))


def has_one_line_each(plan: Plan, batch: EventBatch) -> bool:
    """Whether no event of a batch can have a line end, since each of them is a line that was cut."""
    return plan.cut.kind == "line" and not batch.given
