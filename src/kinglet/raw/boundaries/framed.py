"""Events whose length is known: records of a fixed size, and frames that begin with a count (RFC 6587)."""

from __future__ import annotations

import re
from typing import Literal

import polars as pl

from kinglet.raw.boundaries.base import Buffer, Found, with_open
from kinglet.raw.text import POSITION

_COUNT = re.compile(rb"([1-9][0-9]{0,9}) ")
_FRAME = re.compile(rb"(?<![0-9])[1-9][0-9]{0,9} <[0-9]{1,3}>")  # a count before the priority that RFC 5424 begins with
_LONGEST_HEAD = 16


class FixedLength:
    """Records of a number of bytes each."""

    def __init__(self, length: int) -> None:
        self.length = length

    def find(self, buffer: Buffer) -> Found:
        size = len(buffer.data)
        whole = size // self.length * self.length
        starts = pl.int_range(0, whole, self.length, dtype=POSITION, eager=True)
        spans = pl.DataFrame({"start": starts, "end": starts + self.length})
        if not buffer.final:
            return Found(spans, False, whole)
        if whole < size:
            spans = spans.with_columns(pl.lit(False).alias("cut-off"))
            spans = spans.vstack(pl.DataFrame([(whole, size, True)], schema=spans.schema, orient="row"))
        return Found(spans, False, size)

    def advance(self, data: bytes, to: int) -> None:
        """Records are no longer than events may be, so that none is given out in pieces."""

    def restart(self) -> None:
        pass


class Counted:
    """Frames of a count of bytes in decimal digits, a blank, and so many bytes; line ends between them are none.

    Where no count stands, where it is more than an event may have, and where after a frame there
    is neither another nor the end, the count was wrong: the event then reaches to the next frame
    that can be told by its count and priority.
    """

    def __init__(self, max_bytes: int) -> None:
        self.max_bytes = max_bytes
        self.lost = False  # within a stretch without a good count, of which a piece is given out

    def find(self, buffer: Buffer) -> Found:
        data, size = buffer.data, len(buffer.data)
        spans: list[tuple[int, int, bool, bool]] = []
        position, lost, self.lost = 0, self.lost, False
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
            return Found(with_open(frames, position, size - _LONGEST_HEAD, "bad-count"), True, position)
        return Found(frames, False, position)

    def advance(self, data: bytes, to: int) -> None:
        self.lost = True

    def restart(self) -> None:
        self.lost = False

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
