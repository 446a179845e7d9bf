"""Events with a separator between them: a zero byte, or a text of the log's own."""

from __future__ import annotations

import re

import polars as pl

from kinglet.raw.boundaries.base import Buffer, Found, with_open
from kinglet.raw.text import POSITION, at, found


class Separated:
    """What stands between two separators is an event, unless it is empty."""

    def __init__(self, separator: bytes) -> None:
        self.separator = separator

    def find(self, buffer: Buffer) -> Found:
        data, width = buffer.data, len(self.separator)
        if width == 1:
            marks = found(data, self.separator[0])
        else:
            marks = pl.Series([match.start() for match in re.finditer(re.escape(self.separator), data)], dtype=POSITION)
        spans = pl.DataFrame({
            "start": pl.concat([at(0), marks + width]),
            "end": pl.concat([marks, at(len(data))]),
        })  # fmt: skip
        start = int(spans["start"][-1])
        if buffer.final:
            return Found(spans.filter(pl.col("end") > pl.col("start")), False, len(data))
        whole = spans.head(-1).filter(pl.col("end") > pl.col("start"))
        return Found(with_open(whole, start, len(data) - width - 3), True, start)

    def advance(self, data: bytes, to: int) -> None:
        pass

    def restart(self) -> None:
        pass
