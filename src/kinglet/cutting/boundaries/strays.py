"""Text between records that belongs to none of them: each line of it is an event with a fault."""

from __future__ import annotations

import re
from collections.abc import Callable

import polars as pl

from kinglet.columns.text_spans import POSITION, as_text, at
from kinglet.cutting.boundaries.base import without

_LINE = re.compile(rb"[^\r\n]+")
_BLANKS = b" \t\r\n\x0b\x0c\x1e"
FAULT = "stray-text"


Masked = Callable[[bytes, int], bytes]
"""Makes of a gap, and of where it begins, the same with blanks in place of what may stand there."""


def with_strays(
    data: bytes, spans: pl.DataFrame, known: int, masked: Masked, usual: str, *, continued: bool
) -> pl.DataFrame:
    """The spans and those of stray text before `known`, in order.

    usual: the characters that most gaps consist of; such gaps need no closer look. continued: a gap at the start of
    the buffer goes on with stray text.
    """
    starts = pl.concat([at(0), spans["end"]])
    ends = pl.concat([spans["start"], at(known)])
    wide = ends > starts
    starts, ends = starts.filter(wide), ends.filter(wide)
    if not len(starts):
        return spans
    text, _ = as_text(data, starts, ends)
    rows = (text.str.strip_chars(usual) != "").arg_true()
    found: list[tuple[int, int]] = []
    for start, end in zip(starts[rows], ends[rows], strict=True):
        for line in _LINE.finditer(masked(data[start:end], start)):
            place = start + line.start()
            first, last = _inside(line[0], continued=continued and place == 0)
            if last > first:
                found.append((place + first, place + last))
    if not found:
        return spans
    stray = pl.DataFrame(found, schema={"start": POSITION, "end": POSITION}, orient="row")
    return pl.concat([spans, stray.with_columns_seq(pl.lit(True).alias(FAULT))], how="diagonal").sort("start")


def open_stray(data: bytes, known: int, end: int, masked: Masked, *, continued: bool) -> tuple[int, int]:
    """Start and end of the stray text under way from `known` on, as far as is sure; the same where there is none."""
    first, last = _inside(masked(data[known:end], known), continued=continued and known == 0)
    return known + min(first, last), known + last


def _inside(line: bytes, *, continued: bool) -> tuple[int, int]:
    """Start and end of what of a line is no blank; what goes on begins where the line does."""
    last = without(line, 0, len(line), _BLANKS)
    return 0 if continued else len(line) - len(line.lstrip(_BLANKS)), last


def unsettled_line(data: bytes, done: int, to: int) -> int:
    """Where the line begins that is not yet ended before `to`, but not before the end of the last record."""
    return max(done, data.rfind(b"\n", done, to) + 1, data.rfind(b"\r", done, min(to, len(data) - 1)) + 1)
