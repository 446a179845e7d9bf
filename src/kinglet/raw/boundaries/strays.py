"""Text between records that belongs to none of them: each line of it is an event with a fault."""

from __future__ import annotations

import re
from collections.abc import Callable

import polars as pl

from kinglet.raw.text import POSITION, as_text, at

_LINE = re.compile(rb"[^\r\n]+")
_BLANKS = b" \t\x0b\x0c\x1e"
FAULT = "stray-text"


def with_strays(
    data: bytes, spans: pl.DataFrame, known: int, masked: Callable[[bytes, int], bytes], usual: str
) -> pl.DataFrame:
    """The spans and those of stray text before `known`, in order.

    masked: a gap, and where it begins, with blanks in place of what may stand there. usual: the characters that most
    gaps consist of; such gaps need no closer look.
    """
    starts = pl.concat([at(0), spans["end"]])
    ends = pl.concat([spans["start"], at(known)])
    some = ends > starts
    starts, ends = starts.filter(some), ends.filter(some)
    if not len(starts):
        return spans
    text, _ = as_text(data, starts, ends)
    rows = (text.str.strip_chars(usual) != "").arg_true()
    found: list[tuple[int, int]] = []
    for start, end in zip(starts.gather(rows), ends.gather(rows), strict=True):
        for line in _LINE.finditer(masked(data[start:end], start)):
            inside = line[0].strip(_BLANKS)
            if inside:
                first = start + line.start() + line[0].index(inside)
                found.append((first, first + len(inside)))
    if not found:
        return spans
    stray = pl.DataFrame(found, schema={"start": POSITION, "end": POSITION}, orient="row")
    return pl.concat([spans, stray.with_columns(pl.lit(True).alias(FAULT))], how="diagonal").sort("start")


def unsettled_line(data: bytes, done: int) -> int:
    """Where the line begins that is not yet ended, but not before the end of the last record."""
    return max(done, data.rfind(b"\n", done) + 1, data.rfind(b"\r", done, len(data) - 1) + 1)
