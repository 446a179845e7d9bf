"""Bytes to events, a buffer at a time.

A cut is two arrays of byte offsets into the buffer; the text column that the engine reads is laid
over that buffer without copying a byte. So every byte is either in an event or in the gap
between two: a line end, or a line with nothing on it.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import NamedTuple

import nanoarrow
import polars as pl

from kinglet.definition.schema import DEFAULT_MAX_BYTES
from kinglet.raw.sources import Source

MAX_EVENTS = 100_000
_BOM = b"\xef\xbb\xbf"
_TAIL = 4  # bytes at the end of a buffer that may be half a line end or half a character
_SPAN = ("start", "end", "line")  # the columns of a frame of spans; any others are faults


class CutRule(NamedTuple):
    """Where events begin: at a line that `start` matches, or without it at every line."""

    start: str | None = None
    max_bytes: int = DEFAULT_MAX_BYTES


@dataclass(frozen=True)
class EventBatch:
    """Events in the order of the log.

    frame has line (of the event's first line, from 1), offset (bytes before it) and raw (text).
    faults names what is wrong with some of them, each with a mask over the frame.
    """

    source: Source
    frame: pl.DataFrame
    faults: tuple[tuple[str, pl.Series], ...] = ()
    bytes_read: int = 0

    def __len__(self) -> int:
        return self.frame.height


def cut(source: Source, rule: CutRule) -> Iterator[EventBatch]:
    """The events of a source, in batches whose size the length of the log does not change.

    Raises:
        InputError: the source cannot be read.
    """
    if source.events is not None:
        yield from _uncut(source, source.events)
        return
    cutter = _Cutter(source, rule)
    chunks = source.chunks()
    chunk = next(chunks, None)
    while chunk is not None:
        following = next(chunks, None)
        yield from cutter.feed(chunk, final=following is None)
        chunk = following


def _uncut(source: Source, events: list[str]) -> Iterator[EventBatch]:
    for first in range(0, len(events), MAX_EVENTS):
        raw = pl.Series("raw", events[first : first + MAX_EVENTS], dtype=pl.String)
        offsets = pl.int_range(first, first + len(raw), eager=True).alias("offset")
        yield EventBatch(source, pl.DataFrame([(offsets + 1).alias("line"), offsets, raw]))


class _Cutter:
    """Holds what has been read and not yet cut: the beginning of an event whose end has not come."""

    def __init__(self, source: Source, rule: CutRule) -> None:
        self.source, self.rule = source, rule
        self.held = b""
        self.offset = 0  # of the first byte held
        self.line = 1  # number of the line it stands on
        self.continued = False  # whether it goes on with an event that was too long
        self.fresh = True

    def feed(self, chunk: bytes, *, final: bool) -> Iterator[EventBatch]:
        if self.fresh:
            self.fresh = False
            if chunk.startswith(_BOM):
                chunk, self.offset = chunk[len(_BOM) :], len(_BOM)
        data = self.held + chunk if self.held else chunk
        if final or b"\n" in chunk or len(data) > self.rule.max_bytes + _TAIL:
            yield from self._cut(data, final)
        else:
            self.held = data

    def _cut(self, data: bytes, final: bool) -> Iterator[EventBatch]:
        spans = _lines(data, self.line)
        sure = len(data) if final else len(data) - _TAIL  # bytes that cannot turn out to be a line end
        if self.rule.start is not None:
            if not final and len(data) - _last(spans, "start") <= self.rule.max_bytes + _TAIL:
                spans = spans.head(-1)  # an unfinished line may yet be a start
                sure = _last(spans, "end") if spans.height else 0
            spans = self._group(data, spans)
        if final:
            done = len(data)
            spans = self._split_long(data, spans)
        else:
            opened = spans.tail(1).with_columns(pl.col("end").clip(upper_bound=sure))
            spans = self._split_long(data, pl.concat([spans.head(-1), opened]))
            done = _last(spans, "start")  # the last one may go on
            self.continued = done != opened["start"].item() or (self.continued and spans.height == 1)
            spans = spans.head(-1)
        spans = spans.filter(pl.col("end") > pl.col("start"))
        offset = self.offset
        self.held = data[done:]
        self.line += data.count(b"\n", 0, done)
        self.offset += done
        if spans.height:
            yield from self._batches(data, spans, offset, done)

    def _group(self, data: bytes, lines: pl.DataFrame) -> pl.DataFrame:
        """Lines to events that begin at a line matching `start`; blank lines at the end of one belong to none."""
        assert self.rule.start is not None
        text, _ = as_text(data, lines["start"], self._clipped(data, lines))
        filled = lines["end"] > lines["start"]
        some = filled.arg_true()
        lead = some[0] if len(some) else 0  # the first line with something on it
        begins = text.str.contains(self.rule.start).fill_null(False)
        orphan = len(some) > 0 and not begins[lead] and not self.continued
        rows = pl.int_range(lines.height, eager=True)
        begins = (begins & (rows > lead)) | (rows == (0 if self.continued else lead))
        events = lines.with_columns(
            pl.when(filled).then("end").otherwise(None).forward_fill().fill_null(0).alias("end")
        )
        ends = events["end"].filter(begins.shift(-1, fill_value=True) & (rows >= begins.arg_true()[0]))
        found = events.filter(begins).with_columns(ends)
        if orphan:
            found = found.with_columns((pl.int_range(pl.len()) == 0).alias("no-start"))
        return found

    def _clipped(self, data: bytes, lines: pl.DataFrame) -> pl.Series:
        """Line ends, of which none is further from its start than an event may be long."""
        far = (lines["end"] - lines["start"] > self.rule.max_bytes).arg_true()
        if not len(far):
            return lines["end"]
        near = [_character_start(data, start + self.rule.max_bytes) for start in lines["start"].gather(far)]
        return lines["end"].clone().scatter(far, near)

    def _split_long(self, data: bytes, spans: pl.DataFrame) -> pl.DataFrame:
        """Events longer than may be in pieces, each with the fault."""
        limit = self.rule.max_bytes
        long = spans["end"] - spans["start"] > limit
        if self.continued and spans.height:
            long[0] = True
        if not long.any():
            return spans
        pieces: list[tuple[int, int, int, int]] = []
        rows = long.arg_true()
        for row in rows:
            start, end, line = spans.row(row)[: len(_SPAN)]
            first = start
            while end - start > limit:
                middle = _character_start(data, start + limit)
                pieces.append((row, start, middle, line + data.count(b"\n", first, start)))
                start = middle
            pieces.append((row, start, end, line + data.count(b"\n", first, start)))
        split = pl.DataFrame(pieces, schema=["row", *_SPAN], orient="row").with_columns(pl.lit(True).alias("too-long"))
        whole = spans.with_row_index("row").with_columns(pl.col("row").cast(pl.Int64))
        first_piece = split.group_by("row", maintain_order=True).first().select("row", "start")
        faults = whole.drop("end", "line").join(first_piece, on=["row", "start"], how="semi").drop("start")
        split = split.with_columns(pl.col("row").is_first_distinct().alias("_first")).join(faults, on="row", how="left")
        named = [name for name in spans.columns if name not in _SPAN]
        split = split.with_columns(pl.col(name) & pl.col("_first") for name in named).drop("_first")
        return pl.concat([whole.filter(~long), split], how="diagonal").sort("row", "start").drop("row")

    def _batches(self, data: bytes, spans: pl.DataFrame, offset: int, done: int) -> Iterator[EventBatch]:
        raw, bad = as_text(data, spans["start"], spans["end"])
        if bad is not None:
            spans = spans.with_columns(bad.alias("bad-bytes"))
        frame = spans.select("line", (pl.col("start") + offset).alias("offset"), raw.alias("raw"))
        masks = [(name, spans[name].fill_null(False)) for name in spans.columns if name not in _SPAN]
        for first in range(0, frame.height, MAX_EVENTS):
            part = frame.slice(first, MAX_EVENTS)
            faults = [(name, mask.slice(first, MAX_EVENTS)) for name, mask in masks]
            faults = [(name, mask) for name, mask in faults if mask.any()]
            yield EventBatch(self.source, part, tuple(faults), done * part.height // frame.height)


def _last(spans: pl.DataFrame, name: str) -> int:
    return int(spans[name][-1])


def _character_start(data: bytes, position: int) -> int:
    """The start of the UTF-8 character that a byte belongs to (RFC 3629, section 3)."""
    for back in range(position, position - 4, -1):
        if data[back] & 0xC0 != 0x80:
            return back
    return position


def _lines(data: bytes, first_line: int) -> pl.DataFrame:
    """Start, end (without its line end) and number of every line; the last may be unfinished."""
    codes = pl.Series(nanoarrow.c_array_from_buffers(nanoarrow.uint8(), len(data), [None, data]))
    breaks = (codes == 10).arg_true().cast(pl.Int64)
    starts = pl.concat([pl.Series([0], dtype=pl.Int64), breaks + 1])
    ends = pl.concat([breaks, pl.Series([len(data)], dtype=pl.Int64)])
    has_return = (codes.gather((ends - 1).clip(0)) == 13) & (ends > starts)
    lines = pl.int_range(first_line, first_line + len(starts), eager=True)
    return pl.DataFrame({"start": starts, "end": ends - has_return.cast(pl.Int64), "line": lines})


def as_text(data: bytes, starts: pl.Series, ends: pl.Series) -> tuple[pl.Series, pl.Series | None]:
    """The spans of a buffer as a text column over it, and which of them had bytes that are not UTF-8.

    Such bytes become U+FFFD. Spans rise and do not overlap.
    """
    if not data.isascii():  # which is known many times quicker than that it is UTF-8
        try:
            data.decode("utf-8")
        except UnicodeDecodeError:
            return _replaced(data, starts, ends)
    if not len(starts):
        return pl.Series([], dtype=pl.String), None
    # One string for each span and one for each gap, of which every second is dropped: the
    # format wants offsets without holes between the strings.
    offsets = pl.concat([starts, ends], rechunk=True).sort()
    buffer = next(iter(nanoarrow.c_array_stream(offsets))).view().buffer(1)
    strings = nanoarrow.c_array_from_buffers(nanoarrow.large_string(), len(offsets) - 1, [None, buffer, data])
    return pl.Series(strings).gather_every(2), None


def _replaced(data: bytes, starts: pl.Series, ends: pl.Series) -> tuple[pl.Series, pl.Series]:
    texts: list[str] = []
    bad: list[bool] = []
    for start, end in zip(starts, ends, strict=True):
        span = data[start:end]
        text = span.decode("utf-8", "replace")
        texts.append(text)
        bad.append("\ufffd" in text and text.encode() != span)
    return pl.Series(texts, dtype=pl.String), pl.Series(bad, dtype=pl.Boolean)
