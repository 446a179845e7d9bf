"""Text to events, a buffer at a time.

A cut is two arrays of byte offsets into the buffer; the text column that the engine reads is laid
over that buffer without copying a byte. So every byte is either in an event or between two: a
line end, a line with nothing on it, a separator, or the brackets around records.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace

import polars as pl

from kinglet.columns.put import put
from kinglet.columns.text_spans import POSITION, as_text, bytes_as_text, character_start, codes, found, where
from kinglet.cutting.boundaries.base import Buffer
from kinglet.cutting.header_lines import HEADER, Headers, like_header, named_by, under_headers
from kinglet.cutting.rule import CutRule, boundary_of
from kinglet.source.logs import Source
from kinglet.source.pauses import Pause

MAX_EVENTS = 100_000  # speed
LAZY_EVENTS = 10_000  # speed
"""Of events that a caller makes one by one so many are asked for at a time."""
MAX_BYTES = 32 * 2**20  # speed
"""A batch has no more events, and no more characters but for those of its last event."""
HEAD_BYTES = 64 * 1024  # how much is looked at to tell the line ends
_TAIL = 4  # bytes at the end of a buffer that may be half a line end or half a character
_SPAN = ("start", "end")
NO_FAULTS = (*_SPAN, "row")
_AT_FIRST = ("no-start", "stray-text", "bad-count", "after-pause")  # faults of the first piece of an event


@dataclass(frozen=True)
class EventBatch:
    """Events in the order of the logs.

    frame has line (of the event's first line, from 1), offset (bytes before it) and raw (text);
    and where events of several logs are together, `#source`, the place of theirs in sources; where lines of the log
    name columns, HEADER, what the last of them says.
    faults names what is wrong with some of them, each with a mask over the frame. given: whether the events came as
    such and were not cut from text. lone_returns: whether a CR by itself ends a line of the log.
    """

    sources: tuple[Source, ...]
    frame: pl.DataFrame
    faults: tuple[tuple[str, pl.Series], ...] = ()
    bytes_read: int = 0
    given: bool = False
    lone_returns: bool = False

    def __len__(self) -> int:
        return self.frame.height

    @property
    def text_bytes(self) -> int:
        """How many bytes of text it holds."""
        return int(self.frame["raw"].str.len_bytes().sum())


def cut(source: Source, rule: CutRule) -> Iterator[EventBatch]:
    """The events of a source, in batches whose size the length of the log does not change.

    Raises:
        InputError: the source cannot be read.
    """
    return (batch for batch in cut_live(source, rule) if batch is not None)


def cut_live(source: Source, rule: CutRule) -> Iterator[EventBatch | None]:
    """The same, with None where a log that is still being written has no more for now."""
    if source.events is not None:
        yield from _uncut(source, source.events)
        return
    cutter = Cutter(source, rule)
    head_texts = cutter.boundary.head_texts if cutter.by_bytes else None
    chunks = source.chunks(rule.encoding, idle=rule.idle, head_texts=head_texts)
    chunk = next(chunks, None)
    while chunk is not None:
        if isinstance(chunk, Pause):
            yield from cutter.flush() if chunk is Pause.LONG else cutter.pause()
            yield None
            chunk = next(chunks, None)
            continue
        following = next(chunks, None)
        yield from cutter.feed(chunk, final=following is None)
        chunk = following
    yield from cutter.end()


def _uncut(source: Source, events: Iterable[str]) -> Iterator[EventBatch]:
    """Raw events as they come, no more at a time than a batch has."""
    first, size = 0, 0
    if isinstance(events, pl.Series):
        yield from _uncut_column(source, events)
        return
    waiting: list[str] = []
    most = MAX_EVENTS if isinstance(events, list) else min(MAX_EVENTS, LAZY_EVENTS)
    for event in events:
        waiting.append(event)
        size += len(event)
        if len(waiting) >= most or size >= MAX_BYTES:
            yield _batch_of(source, waiting, first)
            first, size, waiting = first + len(waiting), 0, []
    if waiting:
        yield _batch_of(source, waiting, first)


def _uncut_column(source: Source, events: pl.Series) -> Iterator[EventBatch]:
    """The same of a column, in batches that are parts of it."""
    sizes = events.str.len_bytes().cast(pl.Int64).cum_sum()
    first = 0
    while first < len(events):
        before = int(sizes[first - 1]) if first else 0  # speed: what a batch holds changes no event
        by_size = int(sizes.search_sorted(before + MAX_BYTES)) + 1 - first
        count = max(1, min(MAX_EVENTS, by_size, len(events) - first))
        batch = _batch_of(source, events.slice(first, count), first)
        if source.headers is not None:
            below = source.headers.slice(first, count).alias(HEADER)
            batch = replace(batch, frame=batch.frame.with_columns_seq(below))
        yield batch
        first += count


def _batch_of(source: Source, events: list[str] | pl.Series, first: int) -> EventBatch:
    raw = pl.Series("raw", events, dtype=pl.String)
    offsets = pl.int_range(first, first + len(raw), eager=True).alias("offset")
    return EventBatch((source,), pl.DataFrame([(offsets + 1).alias("line"), offsets, raw]), given=True)


class Cutter:
    """Holds what has been read and not yet cut: the beginning of an event whose end has not come."""

    def __init__(self, source: Source, rule: CutRule) -> None:
        self.source, self.rule = source, rule
        self.boundary = boundary_of(rule)
        self.held = b""
        self.offset = 0  # of the first byte held, in the log
        self.line = 1  # number of the line it stands on
        self.continued: str | None = None  # why it goes on with an event of which a piece is out
        self.after_pause = False  # whether it goes on with a line that was given out unfinished
        self.lone_returns: bool | None = {"lf": False, "any": True}.get(rule.line_ends)
        self.began = False
        self.headers = Headers()

    @property
    def by_bytes(self) -> bool:
        """Whether its rule counts the bytes of the log itself, not of its text."""
        return self.boundary.by_bytes

    def feed(self, chunk: bytes, *, final: bool = False) -> Iterator[EventBatch]:
        """The events whose end is in the next bytes of the log, or all where these are the last."""
        data = self.held + chunk if self.held else chunk
        if not self._begun(data, final):
            self.held = data
            return
        yield from self._cut(data, final)

    def pause(self) -> Iterator[EventBatch]:
        """The whole events of a log that is too short yet to tell its line ends."""
        if self.held and self.lone_returns is None and self._begun(self.held, True):
            yield from self._cut(self.held, final=False)

    def flush(self) -> Iterator[EventBatch]:
        """The events of which no more has come for a while, as far as they have come."""
        if self.held and self._begun(self.held, True):
            unfinished = not self.held.endswith((b"\n", b"\r"))
            yield from self._cut(self.held, final=True)
            self.boundary.restart()
            self.after_pause, self.continued = unfinished, None

    def end(self) -> Iterator[EventBatch]:
        """What is left where the log ended without saying so."""
        if self.held:
            yield from self.feed(b"", final=True)

    def _begun(self, data: bytes, final: bool) -> bool:
        """Whether the line ends are known; tells them from the start of the log."""
        if not self.began:
            encoding = self.source.encoding
            self.offset = encoding.bom if encoding else 0
            self.began = True
        if self.lone_returns is None:
            if len(data) < HEAD_BYTES and not final:
                return False
            self.lone_returns = has_lone_returns(data[:HEAD_BYTES])
        return True

    def _cut(self, data: bytes, final: bool) -> Iterator[EventBatch]:
        breaks = self.breaks(data, final)
        cuts = self.boundary.find(Buffer(data, breaks, self.continued is not None, final))
        spans = cuts.spans
        if self.boundary.header is not None and self.source.header is None:
            self.source.header = self.boundary.header.decode("utf-8", "replace")
        if self.continued and spans.height:
            spans = _skipped(data, spans)
        spans, opened = (spans.head(-1), spans.tail(1)) if cuts.opened else (spans, None)
        settled = cuts.settled
        going_on = self.continued if self.continued and not spans.height else None
        spans = self.limited(data, breaks, spans)
        if opened is not None:
            start, end = opened.select_seq(_SPAN).row(0)
            pieces = self._pieces(data, breaks, start, end, going_on or "")
            if len(pieces) > 1:
                settled, _, going_on = pieces[-1]
                out = self._named(opened, pieces[:-1], bool(self.continued) and not spans.height, done=False)
                spans = pl.concat([spans, out], how="diagonal")
                self.boundary.advance(data, settled)
        if self.after_pause and data[:1] in (b"\n", b"\r"):
            self.after_pause = False  # the line was whole, only its end had not come
        if self.after_pause and spans.height:
            spans = spans.with_columns_seq((pl.int_range(pl.len()) == 0).alias("after-pause"))
            self.after_pause = False
        for name, found_in in (("cut-off", self.source.cut_off), ("damaged", self.source.damage is not None)):
            if final and found_in and spans.height:
                last = pl.int_range(pl.len()) == pl.len() - 1
                before = pl.col(name).fill_null(False) if name in spans.columns else pl.lit(False)
                spans = spans.with_columns_seq((before | last).alias(name))
        self.continued = going_on
        batches = list(self._batches(data, breaks, spans, settled))
        self._settle(data, breaks, settled)
        yield from batches

    def _settle(self, data: bytes, breaks: pl.Series, settled: int) -> None:
        self.held = data[settled:]
        is_behind = not len(breaks) or int(breaks[-1]) < settled  # speed
        self.line += len(breaks) if is_behind else int(breaks.search_sorted(settled))
        self.offset += int(self._units(data, pl.Series([settled], dtype=POSITION))[0])

    def breaks(self, data: bytes, final: bool) -> pl.Series:
        """The last byte of every line end."""
        if not (self.lone_returns and b"\r" in data):
            return found(data, 10)
        values = codes(data)
        feeds = values == 10
        return where(feeds | ((values == 13) & ~feeds.shift(-1, fill_value=not final)))

    def _guessed_western(self) -> bool:
        """Whether the log was taken for cp1252 by its content."""
        encoding = self.source.encoding
        named = self.source.given_encoding or self.rule.encoding
        return encoding is not None and encoding.name == "cp1252" and named is None

    def _units(self, data: bytes, positions: pl.Series) -> pl.Series:
        """Positions in the buffer as bytes of the log, which may have another encoding."""
        encoding = self.source.encoding
        if encoding is None or encoding.width <= 0 or self.by_bytes:
            return positions
        if data.isascii():
            return positions * encoding.width
        values = codes(data)
        units = ((values & 0xC0) != 0x80).cast(pl.Int64)
        if encoding.width == 2:
            units = units + (values >= 0xF0).cast(pl.Int64)  # two code units, a surrogate pair
        before = pl.concat([pl.Series([0], dtype=pl.Int64), units.cum_sum()])
        return before.gather(positions) * encoding.width

    def limited(self, data: bytes, breaks: pl.Series, spans: pl.DataFrame) -> pl.DataFrame:
        """Events longer than may be in pieces, each with the fault."""
        long = spans["end"] - spans["start"] > self.rule.max_bytes
        if self.rule.max_lines is not None:
            lines = breaks.search_sorted(spans["end"]).cast(POSITION) - breaks.search_sorted(spans["start"])
            long = long | (lines >= self.rule.max_lines)
        if self.continued and spans.height:
            long[0] = True
        if not long.any():
            return spans
        parts = []
        last = 0
        for row in long.arg_true():
            parts.append(spans.slice(last, row - last))
            span = spans.slice(row, 1)
            continued = bool(self.continued) and row == 0
            start, end = span.select_seq(_SPAN).row(0)
            pieces = self._pieces(data, breaks, start, end, (self.continued or "") if continued else "")
            parts.append(self._named(span, pieces, continued, done=True))
            last = row + 1
        parts.append(spans.slice(last))
        return pl.concat(parts, how="diagonal")

    def _pieces(self, data: bytes, breaks: pl.Series, start: int, end: int, why: str) -> list[tuple[int, int, str]]:
        """An event in pieces: start, end and what made it a piece; one, without a reason, where it is not too long."""
        pieces: list[tuple[int, int, str]] = []
        while True:
            cut_at, following, reason = end, end, ""
            if end - start > self.rule.max_bytes:
                cut_at = following = character_start(data, start + self.rule.max_bytes)
                reason = "too-long"
            if self.rule.max_lines is not None:
                row = int(breaks.search_sorted(start)) + self.rule.max_lines - 1
                if row < len(breaks) and breaks[row] < cut_at:
                    following = int(breaks[row]) + 1
                    cut_at = _line_end(data, start, following)
                    reason = "too-many-lines"
            if not reason or _past_ends(data, following) >= end:
                pieces.append((start, end, why))
                return pieces
            pieces.append((start, cut_at, reason))
            start, why = _past_ends(data, following), reason

    def _named(
        self, span: pl.DataFrame, pieces: list[tuple[int, int, str]], continued: bool, *, done: bool
    ) -> pl.DataFrame:
        """The pieces of an event with their faults: what is wrong with its start, or with its end, goes there."""
        frame = pl.DataFrame([piece[:2] for piece in pieces], schema={"start": POSITION, "end": POSITION}, orient="row")
        for reason in dict.fromkeys(reason for *_, reason in pieces if reason):
            mask = pl.Series(reason, [piece[2] == reason for piece in pieces])
            frame = frame.with_columns_seq(mask)
        rows = pl.int_range(len(pieces), eager=True)
        for name in span.columns:
            if name in NO_FAULTS or not span[name][0]:
                continue
            mask = (rows == 0) & (not continued) if name in _AT_FIRST else (rows == len(pieces) - 1) & done
            frame = frame.with_columns_seq(mask.alias(name))
        return frame

    def _batches(self, data: bytes, breaks: pl.Series, spans: pl.DataFrame, settled: int) -> Iterator[EventBatch]:
        if not spans.height:
            return
        starts, ends = spans["start"], spans["end"]
        if self.by_bytes:
            assert self.source.encoding is not None
            raw, bad = bytes_as_text(data, starts, ends, self.source.encoding.name)
        else:
            raw, bad = as_text(data, starts, ends)
        if bad is None and self.source.encoding is not None and self.source.encoding.width:
            bad = raw.str.contains("\ufffd", literal=True)
        if bad is not None and bad.any():
            spans = spans.with_columns_seq(bad.alias("bad-bytes"))
        if self._guessed_western():
            mixed = raw.str.contains(MISREAD)
            if mixed.any():
                spans = spans.with_columns_seq(mixed.alias("mixed-encoding"))
        lines = breaks.search_sorted(starts).cast(POSITION) if "row" not in spans.columns else spans["row"]
        if lines.null_count():
            lines = lines.fill_null(breaks.search_sorted(starts).cast(POSITION))
        lines = lines + self.line
        offsets = self._units(data, starts) + self.offset
        frame = pl.DataFrame([lines.alias("line"), offsets.alias("offset"), raw.alias("raw")])
        frame, spans = self._below_headers(frame, spans)
        if not frame.height:
            return
        masks = [(name, spans[name].fill_null(False)) for name in spans.columns if name not in NO_FAULTS]
        for first in range(0, frame.height, MAX_EVENTS):
            part = frame.slice(first, MAX_EVENTS)
            faults = [(name, mask.slice(first, MAX_EVENTS)) for name, mask in masks]
            faults = [(name, mask) for name, mask in faults if mask.any()]
            read = settled * part.height // frame.height
            yield EventBatch((self.source,), part, tuple(faults), read, lone_returns=bool(self.lone_returns))

    def _below_headers(self, frame: pl.DataFrame, spans: pl.DataFrame) -> tuple[pl.DataFrame, pl.DataFrame]:
        """Events without the lines that name their columns; each knows what the last of these says."""
        if self.rule.header_line is not None:
            names, texts = named_by(frame["raw"], self.rule.header_line)
            return under_headers(frame, spans, names, texts, self.headers)
        header = self.source.header
        if header is None or self.rule.kind != "csv":
            return frame, spans
        self.headers.last = self.headers.last or header
        names, texts = like_header(frame["raw"], header, self.rule)
        if not texts and self.headers.last == header:
            return frame, spans
        return under_headers(frame, spans, names, texts, self.headers)


_SECOND_BYTES = r"[\u00a0-\u00bf\u20ac\u201a\u0192\u201e\u2026\u2020\u2021\u02c6\u2030\u0160\u2039\u0152\u017d\u2018\u2019\u201c\u201d\u2022\u2013\u2014\u02dc\u2122\u0161\u203a\u0153\u017e\u0178\u0081\u008d\u008f\u0090\u009d]"  # noqa: E501
MISREAD = f"[\u00c2-\u00df]{_SECOND_BYTES}|[\u00e0-\u00ef]{_SECOND_BYTES}{{2}}|[\u00f0-\u00f4]{_SECOND_BYTES}{{3}}"
"""What characters of UTF-8 look like that are read as cp1252."""


def has_lone_returns(head: bytes) -> bool:
    """Whether carriage returns by themselves end lines: where they are more than line feeds."""
    alone = len(re.findall(rb"\r(?!\n|\Z)", head))
    return alone > head.count(b"\n")


def _past_ends(data: bytes, position: int) -> int:
    """The next position that is no line end."""
    while position < len(data) and data[position] in b"\r\n":
        position += 1
    return position


def _line_end(data: bytes, start: int, position: int) -> int:
    """The end of the line that ends before a position, without its line end."""
    while position > start and data[position - 1] in b"\r\n":
        position -= 1
    return position


def _skipped(data: bytes, spans: pl.DataFrame) -> pl.DataFrame:
    """The spans, of which the first goes on with an event, without line ends at its start."""
    start = min(_past_ends(data, int(spans["start"][0])), int(spans["end"][0]))
    if "row" in spans.columns and start > spans["start"][0]:
        spans = spans.with_columns_seq(put(spans["row"], 0, None))
    return spans.with_columns_seq(put(spans["start"], 0, start))
