"""What a cutting rule has to answer, and what it may ask."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any, ClassVar, NamedTuple

import polars as pl

from kinglet.columns.put import put
from kinglet.columns.text_spans import POSITION, at, codes

MARK = b"\xef\xbb\xbf"
_MOST_BLANKS = 64 * 1024
NO_SPANS = pl.DataFrame(schema={"start": POSITION, "end": POSITION})


class FoundEvents(NamedTuple):
    """The events in a buffer.

    spans: start and end of each event, in order, and where it is known `row`, the number of its
    first line in the buffer; any other column is a fault, true for the events that have it.
    opened: the last of them is still under way, and its end is as far as is sure.
    settled: the bytes before it need not be seen again; the start of the event under way, if any.
    """

    spans: pl.DataFrame
    opened: bool
    settled: int


class Buffer(NamedTuple):
    """Bytes from the place where the last call had settled.

    breaks: positions of the last byte of each line end. continued: the first byte goes on with
    an event of which a piece has been given out. final: no more will come. heads: where each log
    begins, for rules that take several small ones at once.
    """

    data: bytes
    breaks: pl.Series
    continued: bool
    final: bool
    heads: pl.Series | None = None


class Boundary:
    """Finds events in one log from its start to its end.

    kept: the attributes that it holds from buffer to buffer, with their types; a `Session` stores them. by_bytes:
    whether it counts the bytes of the log itself, not of its text. together: whether it takes several small logs at
    once, whose beginnings are the `heads` of a buffer. header: the row that names the columns of the others, once it is
    known.
    """

    kept: ClassVar[Mapping[str, Any]] = {}
    by_bytes: ClassVar[bool] = False
    together: ClassVar[bool] = False
    header: bytes | None = None

    def find(self, buffer: Buffer) -> FoundEvents:
        """The events in a buffer."""
        raise NotImplementedError

    def advance(self, data: bytes, to: int) -> None:
        """The bytes before `to`, which lies within an event, are given out."""

    def restart(self) -> None:
        """All bytes are given out, the event under way with them; what comes next begins afresh."""

    def head_texts(self, head: bytes) -> bytes:
        """What of the first bytes of a log is text, by which its encoding can be told."""
        return head


def with_open(spans: pl.DataFrame, start: int, end: int, *faults: str) -> pl.DataFrame:
    """The spans with one under way behind them."""
    last = pl.DataFrame({"start": at(start), "end": at(max(start, end)), **dict.fromkeys(faults, pl.Series([True]))})
    return pl.concat([spans, last], how="diagonal")


def without(data: bytes, start: int, end: int, blanks: bytes) -> int:
    """The end of a span without the blanks at its end, of which no more are looked at than a buffer can hold back."""
    text = data[max(start, end - _MOST_BLANKS) : end]
    return end - len(text) + len(text.rstrip(blanks))


def line_spans(buffer: Buffer) -> pl.DataFrame:
    """Start and end, without its line end, of every line; the last one may be unfinished."""
    data, breaks = buffer.data, buffer.breaks
    starts = pl.concat([at(0), breaks + 1])
    ends = pl.concat([breaks, at(len(data))])
    if b"\r" in data:
        values = codes(data)
        before = (ends - 1).clip(0)
        ends = ends - ((values.gather(before) == 13) & (ends > starts)).cast(POSITION)
    if MARK[:1] in data and MARK in data:  # of a log that was put behind another
        marks = pl.Series([match.start() for match in re.finditer(MARK, data)], dtype=starts.dtype)
        marked = starts.is_in(marks.implode()).arg_true()
        if len(marked):
            starts = put(starts, marked, starts[marked] + len(MARK))
            ends = (
                pl.DataFrame([starts.alias("start"), ends.alias("end")])
                .select_seq(pl.max_horizontal("start", "end"))
                .to_series()
            )
    return pl.DataFrame([starts.alias("start"), ends.alias("end"), pl.int_range(len(starts), eager=True).alias("row")])
