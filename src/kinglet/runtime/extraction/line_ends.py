"""Line ends within texts, which patterns and regexes read as LF, whatever they are in the log.

The raw text and the values of structure keep them as they stand.
"""

from __future__ import annotations

import polars as pl

from kinglet.cutting.cutter import EventBatch
from kinglet.plan.data import Plan

LF_TEXT = "#text"
"""A column of events beside the text that variants read: the same with LF for line ends, where the two differ."""


def as_lf(texts: pl.Series, lone_returns: bool = False) -> pl.Series:
    """Texts with LF in place of CRLF, and of CR by itself where that ends lines."""
    # speed: to look is many times quicker than to replace, and most logs have none
    end = "\r" if lone_returns else "\r\n"
    if texts.dtype != pl.String() or not texts.str.contains(end, literal=True).any():
        return texts
    texts = texts.str.replace_all("\r\n", "\n", literal=True)
    return texts.str.replace_all("\r", "\n", literal=True) if lone_returns else texts


def with_lf_text(columns: pl.DataFrame, name: str, lone_returns: bool = False) -> pl.DataFrame:
    """Events with what their variants read by regex, the text of a column, beside it where the two differ."""
    text = columns[name]
    read = as_lf(text, lone_returns)
    columns = columns.drop(LF_TEXT, strict=False)
    return columns if read is text else columns.with_columns_seq(read.alias(LF_TEXT))


def has_one_line_each(plan: Plan, batch: EventBatch) -> bool:
    """Whether no event of a batch can have a line end, since each of them is a line that was cut."""
    return plan.cut.kind == "line" and not batch.given
