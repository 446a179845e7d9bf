"""Events with a separator between them: a zero byte, or a text of the log's own."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any, ClassVar

import polars as pl

from kinglet.columns.text_spans import POSITION, at, found
from kinglet.cutting.boundaries.base import Boundary, Buffer, FoundEvents, with_open
from kinglet.cutting.rule import CutRule


class Separated(Boundary):
    """What stands between two separators is an event, unless it is empty."""

    kept: ClassVar[Mapping[str, Any]] = {"begun": bool}

    def __init__(self, separator: bytes) -> None:
        self.separator = separator
        self.begun = False  # whether the start of the log has been seen
        # a line end of a separator may be of either kind; at the start of a log, or its end, there need be none
        whole = re.escape(separator.replace(b"\r\n", b"\n")).replace(b"\\\n", b"\r?\n").replace(b"\n", b"\r?\n")
        whole = whole.replace(b"\r?\r?\n", b"\r?\n")
        self._any = re.compile(whole)
        self._first = re.compile(whole.removeprefix(b"\r?\n"))
        self._last = re.compile(whole.removesuffix(b"\r?\n") + rb"\Z")

    def find(self, buffer: Buffer) -> FoundEvents:
        data, width = buffer.data, len(self.separator) + self.separator.count(b"\n")
        if len(self.separator) == 1 and self.separator != b"\n":
            marks = found(data, self.separator[0])
            ends = marks + 1
        else:
            places = [match.span() for match in self._any.finditer(data)]
            if not self.begun and (first := self._first.match(data)) is not None and first.end() > 0:
                places = [(0, first.end()), *(place for place in places if place[0] >= first.end())]
            if buffer.final and (last := self._last.search(data, places[-1][1] if places else 0)) is not None:
                places.append(last.span())
            marks = pl.Series([start for start, _ in places], dtype=POSITION)
            ends = pl.Series([end for _, end in places], dtype=POSITION)
        spans = pl.DataFrame({
            "start": pl.concat([at(0), ends]),
            "end": pl.concat([marks, at(len(data))]),
        })  # fmt: skip
        start = int(spans["start"][-1])
        if buffer.final:
            return FoundEvents(spans.filter(pl.col("end") > pl.col("start")), False, len(data))
        self.begun = self.begun or start > 0
        whole = spans.head(-1).filter(pl.col("end") > pl.col("start"))
        return FoundEvents(with_open(whole, start, len(data) - width - 3), True, start)

    def advance(self, data: bytes, to: int) -> None:
        """Nothing but that the log has begun."""
        self.begun = True


def by_nul(rule: CutRule) -> Boundary:
    """`nul`."""
    return Separated(b"\0")


def by_separator(rule: CutRule) -> Boundary:
    """`separator`."""
    return Separated(str(rule.value).encode())
