"""Events that are rows of delimited text, in which a quoted value may go on over line ends (RFC 4180)."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any, ClassVar, NamedTuple

import polars as pl

from kinglet.columns.put import put
from kinglet.columns.text_spans import POSITION, found
from kinglet.cutting.boundaries.base import Boundary, Buffer, FoundEvents, line_spans, with_open
from kinglet.cutting.rule import CutRule

MAX_LINES = 1000
"""Lines over which a quoted value may go on, unless the parser says otherwise."""
_TAIL = 4


class _Lines(NamedTuple):
    """The lines of a buffer, and which of them have an odd number of quotes."""

    data: bytes
    starts: list[int]
    ends: list[int]
    odd: list[int]

    def text(self, row: int) -> bytes:
        return self.data[self.starts[row] : self.ends[row]]


class Rows(Boundary):
    """Rows of values; a quote counts where a value begins with it.

    A quote that is not closed within the limits costs the row its first line alone: it has the
    fault `cut-off`, and reading goes on behind it. The header is the first row, and no event.
    """

    kept: ClassVar[Mapping[str, Any]] = {"header": bytes | None}

    def __init__(self, delimiter: str, quote: str, header: bool, max_bytes: int, max_lines: int) -> None:
        self.quote = quote.encode()
        self.wants_header = header
        self.max_bytes, self.max_lines = max_bytes, max_lines
        mark, between = re.escape(self.quote), re.escape(delimiter.encode())
        inside = b"(?:[^%b]|%b)*" % (mark, mark * 2)
        to_next = b"[^%b]*(?:%b|\\Z)" % (between, between)
        ends = b"%b%b(?!%b)%b" % (inside, mark, mark, to_next)
        self._ends = re.compile(ends)
        self._value = re.compile(b"%b%b|(?!%b)%b" % (mark, ends, mark, to_next))

    def find(self, buffer: Buffer) -> FoundEvents:
        lines = line_spans(buffer)
        unfinished = int(lines["start"][-1])
        if not buffer.final:
            lines = lines.head(-1)
        joined, opened, broken = self._joined(buffer, lines)
        spans = lines
        if joined:
            inner = [row for first, last in joined for row in range(first + 1, last + 1)]
            lasts = lines["end"].gather([last for _, last in joined])
            ends = put(lines["end"], [first for first, _ in joined], lasts)
            kept = put(pl.Series([True]).new_from_index(0, lines.height), inner, False)
            spans = lines.with_columns_seq(ends.alias("end")).filter(kept)
        if broken:
            starts = lines["start"].gather(broken)
            spans = spans.with_columns_seq(pl.col("start").is_in(starts.implode()).alias("cut-off"))
        settled = len(buffer.data)
        if not buffer.final:
            settled = int(lines["start"][opened]) if opened is not None else unfinished
            spans = spans.filter(pl.col("start") < settled)
        spans = spans.filter(pl.col("end") > pl.col("start"))
        if self.wants_header and self.header is None and spans.height:
            start, end = spans.row(0)[:2]
            self.header = buffer.data[start:end]
            spans = spans.slice(1)
        if buffer.final:
            return FoundEvents(spans, False, settled)
        return FoundEvents(with_open(spans, settled, len(buffer.data) - _TAIL), True, settled)

    def advance(self, data: bytes, to: int) -> None:
        """A line longer than an event may be leaves no value open, so that there is nothing to keep."""

    def restart(self) -> None:
        """The header stays known."""

    def _joined(self, buffer: Buffer, frame: pl.DataFrame) -> tuple[list[tuple[int, int]], int | None, list[int]]:
        """Rows of several lines (first and last), the line where an unfinished one begins, broken lines."""
        joined: list[tuple[int, int]] = []
        broken: list[int] = []
        odd = self._odd(buffer.data, frame)
        if not odd:
            return joined, None, broken
        lines = _Lines(buffer.data, frame["start"].to_list(), frame["end"].to_list(), odd)
        after = 0 if buffer.continued else -1
        for i, first in enumerate(odd):
            if first <= after or lines.ends[first] - lines.starts[first] > self.max_bytes:
                continue
            if not self._opens(lines.text(first)):
                continue
            last = self._close(lines, i + 1, first)
            if last is not None:
                joined.append((first, last))
                after = last
                continue
            too_long = len(buffer.data) - lines.starts[first] > self.max_bytes + _TAIL
            if buffer.final or too_long or frame.height - first >= self.max_lines:
                broken.append(first)
            else:
                return joined, first, broken
        return joined, None, broken

    def _close(self, lines: _Lines, i: int, first: int) -> int | None:
        """The line at whose end the value that the line `first` leaves open is closed, and no other open."""
        for j in range(i, len(lines.odd)):
            row = lines.odd[j]
            if row - first >= self.max_lines or lines.ends[row] - lines.starts[first] > self.max_bytes:
                return None
            text = lines.text(row)
            closed = self._ends.match(text)
            if closed is not None and not self._opens(text[closed.end() :]):
                return row
        return None

    def _opens(self, text: bytes) -> bool:
        """Whether a quoted value is still open at the end of this text, which begins with a value."""
        position = 0
        while position < len(text):
            match = self._value.match(text, position)
            if match is None:
                return True
            if match.end() == position:
                return False
            position = match.end()
        return False

    def _odd(self, data: bytes, lines: pl.DataFrame) -> list[int]:
        """The lines with an odd number of quotes."""
        if not lines.height or self.quote not in data:
            return []
        marks = found(data, self.quote[0])
        before = marks.search_sorted(lines["start"]).cast(POSITION)
        within = marks.search_sorted(lines["end"]).cast(POSITION) - before
        return (within % 2 == 1).arg_true().to_list()


def by_csv(rule: CutRule) -> Boundary:
    """`csv`."""
    return Rows(rule.delimiter, rule.quote, rule.header, rule.max_bytes, rule.max_lines or MAX_LINES)
