"""Events whose length is known: records of a fixed size, and frames that begin with a count (RFC 6587)."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any, ClassVar, Literal

import polars as pl

from kinglet.columns.text_spans import POSITION, at
from kinglet.cutting.boundaries.base import Boundary, Buffer, FoundEvents, with_open
from kinglet.cutting.rule import CutRule

_COUNT = re.compile(rb"([1-9][0-9]{0,9}) ")
_FRAME = re.compile(rb"(?<![0-9])[1-9][0-9]{0,9} <[0-9]{1,3}>")  # a count before the priority that RFC 5424 begins with
_LONGEST_HEAD = 16

_LENGTH_LINE = re.compile(rb"([0-9]{1,10})\r?\n")


class FixedLength(Boundary):
    """Records of a number of bytes each."""

    kept: ClassVar[Mapping[str, Any]] = {"given": int, "missing": int}
    by_bytes = True

    def __init__(self, length: int) -> None:
        self.length = length
        self.given = self.missing = 0  # bytes of a record that were given out, and those that are still to come

    def find(self, buffer: Buffer) -> FoundEvents:
        size = len(buffer.data)
        first, self.missing = min(self.missing, size), max(self.missing - size, 0)
        whole = first + (size - first) // self.length * self.length
        starts = pl.int_range(first, whole, self.length, dtype=POSITION, eager=True)
        spans = pl.DataFrame({"start": starts, "end": starts + self.length})
        if first:
            spans = pl.concat([pl.DataFrame({"start": at(0), "end": at(first)}), spans])
        self.given = size - whole
        if not buffer.final:
            return FoundEvents(spans, False, whole)
        if whole < size:
            spans = spans.with_columns_seq(pl.lit(False).alias("cut-off"))
            spans = spans.vstack(pl.DataFrame([(whole, size, True)], schema=spans.schema, orient="row"))
        return FoundEvents(spans, False, size)

    def advance(self, data: bytes, to: int) -> None:
        """Records are no longer than events may be, so that none is given out in pieces."""

    def restart(self) -> None:
        """What is left of the record of which a piece is out comes first."""
        if self.given:
            self.missing = self.length - self.given


class Counted(Boundary):
    """Frames of a count of bytes in decimal digits, a blank, and so many bytes; line ends between them are none.

    Where no count stands, where it is more than an event may have, and where after a frame there
    is neither another nor the end, the count was wrong: the event then reaches to the next frame
    that can be told by its count and priority.
    """

    kept: ClassVar[Mapping[str, Any]] = {"lost": bool, "short": int, "missing": int}
    by_bytes = True

    def __init__(self, max_bytes: int) -> None:
        self.max_bytes = max_bytes
        self.lost = False  # within a stretch without a good count, of which a piece is given out
        self.short = self.missing = 0  # bytes that a frame lacked at the end of the buffer, and that are still to come

    def find(self, buffer: Buffer) -> FoundEvents:
        data, size = buffer.data, len(buffer.data)
        spans: list[tuple[int, int, bool, bool]] = []
        position, lost, self.lost = 0, self.lost, False
        if self.missing:
            position, self.missing = min(self.missing, size), max(self.missing - size, 0)
            spans.append((0, position, False, False))
        self.short = 0
        losing = False
        while not losing:
            if not lost:
                while position < size and data[position] in b"\r\n":
                    position += 1
                if position >= size:
                    break
                found = self._frame(buffer, position)
                if found == "wait":
                    break
                if found != "wrong":
                    start, end = found
                    spans.append((start, min(end, size), False, end > size))
                    self.short = max(end - size, 0)
                    position = min(end, size)
                    continue
            again = _FRAME.search(data, position if lost else position + 1)
            lost = False
            if again is not None:
                spans.append((position, again.start(), True, False))
                position = again.start()
            elif buffer.final:
                spans.append((position, size, True, False))
                position = size
            else:
                losing = True
        schema = {"start": POSITION, "end": POSITION, "bad-count": pl.Boolean(), "cut-off": pl.Boolean()}
        frames = pl.DataFrame(spans, schema=schema, orient="row")
        if losing:
            return FoundEvents(with_open(frames, position, size - _LONGEST_HEAD, "bad-count"), True, position)
        return FoundEvents(frames, False, position)

    def advance(self, data: bytes, to: int) -> None:
        self.lost = True

    def restart(self) -> None:
        """What is left of the frame of which a piece is out comes first."""
        self.lost, self.missing = False, self.short

    def _frame(self, buffer: Buffer, position: int) -> tuple[int, int] | Literal["wait", "wrong"]:
        data, size = buffer.data, len(buffer.data)
        count = _COUNT.match(data, position)
        if count is None:
            short = data[position : position + _LONGEST_HEAD].isdigit() and size - position < _LONGEST_HEAD
            return "wait" if short and not buffer.final else "wrong"
        start, end = count.end(), count.end() + int(count[1])
        if end - start > self.max_bytes:
            return "wrong"
        if end > size:
            if not buffer.final:
                return "wait"
            return "wrong" if _FRAME.search(data, start) else (start, end)
        rest = data[end : end + _LONGEST_HEAD].lstrip(b"\r\n")
        if buffer.final and not rest and size - end < _LONGEST_HEAD:
            return start, end
        if _COUNT.match(rest):
            return start, end
        if not buffer.final and size - end < _LONGEST_HEAD and (not rest or rest.isdigit()):
            return "wait"
        return "wrong"


class Prefixed(Boundary):
    """Records before each of which stands its length: as a line of decimal digits, or as a number of some bytes.

    A length that is none, or more than an event may have, costs all that follows: where the next record begins cannot
    be known. That is an event with the fault `bad-count`.
    """

    kept: ClassVar[Mapping[str, Any]] = {"lost": bool, "short": int, "missing": int}
    by_bytes = True

    def __init__(self, width: int, order: Literal["big", "little"], max_bytes: int) -> None:
        self.width, self.order, self.max_bytes = width, order, max_bytes
        self.lost = False
        self.short = self.missing = 0

    def find(self, buffer: Buffer) -> FoundEvents:
        data, size = buffer.data, len(buffer.data)
        spans: list[tuple[int, int, bool, bool]] = []
        position = 0
        if self.missing:
            position, self.missing = min(self.missing, size), max(self.missing - size, 0)
            spans.append((0, position, False, False))
        self.short = 0
        while position < size and not self.lost:
            if self.width == 0:
                while position < size and data[position] in b"\r\n":
                    position += 1
            head = self._length(data, position)
            if head == "wait" and not buffer.final:
                break
            if position >= size:
                break
            if isinstance(head, str) or head[1] > self.max_bytes:
                self.lost = True
                break
            start, end = head[0], sum(head)
            if end > size and not buffer.final:
                break
            if end > start:
                spans.append((start, min(end, size), False, end > size))
            self.short = max(end - size, 0)
            position = min(end, size)
        if self.lost and position < size and buffer.final:
            spans.append((position, size, True, False))
            position = size
        schema = {"start": POSITION, "end": POSITION, "bad-count": pl.Boolean(), "cut-off": pl.Boolean()}
        frames = pl.DataFrame(spans, schema=schema, orient="row")
        if self.lost and position < size:
            return FoundEvents(with_open(frames, position, size - 3, "bad-count"), True, position)
        return FoundEvents(frames, False, position)

    def advance(self, data: bytes, to: int) -> None:
        """What is lost stays lost."""

    def restart(self) -> None:
        """What is left of the record of which a piece is out comes first."""
        self.missing = self.short

    def head_texts(self, head: bytes) -> bytes:
        """The first records, without the numbers before them, which are no text."""
        if not self.width:
            return head
        texts: list[bytes] = []
        position = 0
        while position + self.width < len(head):
            start = position + self.width
            position = start + int.from_bytes(head[position:start], self.order)
            if position <= len(head) or not texts:  # one that is cut might end within a character
                texts.append(head[start:position])
        return b"".join(texts)

    def _length(self, data: bytes, position: int) -> tuple[int, int] | Literal["wait", "wrong"]:
        """Where the record behind a length begins, and that length."""
        if self.width:
            start = position + self.width
            return (start, int.from_bytes(data[position:start], self.order)) if start <= len(data) else "wait"
        line = _LENGTH_LINE.match(data, position)
        if line is not None:
            return line.end(), int(line[1])
        return (
            "wait" if data[position : position + 12].rstrip(b"\r").isdigit() and len(data) - position < 12 else "wrong"
        )


def by_length(rule: CutRule) -> Boundary:
    """`length`."""
    return FixedLength(int(rule.value or 1))


def by_count(rule: CutRule) -> Boundary:
    """`counted`."""
    if rule.value is None:
        return Counted(rule.max_bytes)
    form = str(rule.value)
    width = int(form[0]) if form[0] in "24" else 0
    return Prefixed(width, "little" if form.endswith("little-endian") else "big", rule.max_bytes)
