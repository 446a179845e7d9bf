"""Lines of a log that name the columns of the lines below them."""

from __future__ import annotations

from dataclasses import dataclass, field

import polars as pl

HEADER = "#header"
"""The column that has what the last such line above an event says; null above the first."""
MOST_HEADERS = 64
"""Of a log so many headers that are different are known; under another its rows have none."""
LONGEST_HEADER = 16 * 1024
"""A header of more characters names no columns."""


@dataclass
class Headers:
    """The headers of a log so far: known, those that are different, and last, the one that what comes next is under."""

    known: list[str] = field(default_factory=list)
    last: str | None = None

    def take(self, header: str) -> str | None:
        """A header that comes next; None where it is too long, or one too many."""
        if header not in self.known and len(header) <= LONGEST_HEADER and len(self.known) < MOST_HEADERS:
            self.known.append(header)
        self.last = header if header in self.known else None
        return self.last


def under_headers(
    frame: pl.DataFrame, spans: pl.DataFrame, regex: str, headers: Headers
) -> tuple[pl.DataFrame, pl.DataFrame]:
    """Lines without those that name columns, with HEADER, and their spans.

    A line names columns where the regex matches at its start, and names what stands behind the match. headers: of the
    log, or where `#source` tells the lines of several logs apart, of the first of them, which has not been read before.
    """
    at_start = f"^(?:{regex})"
    names = frame["raw"].str.contains(at_start)
    starts: list[int] = [0]
    if "#source" in frame.columns:
        log = frame["#source"]
        starts = (log != log.shift(1)).fill_null(True).arg_true().to_list()
    elif not names.any():
        below = pl.Series(HEADER, [headers.last], dtype=pl.String).new_from_index(0, frame.height)
        return frame.with_columns_seq(below), spans
    rows = names.arg_true().to_list()
    texts = frame["raw"].gather(rows).str.replace(at_start, "").str.strip_chars(" \t").to_list()
    changes: list[tuple[int, str | None]] = [(row, None) for row in starts]
    changes += zip(rows, texts, strict=True)
    points: list[int] = []
    said: list[str | None] = []
    for row, text in sorted(changes, key=lambda change: change[0]):
        if text is None and points:
            headers = Headers()
        points.append(row)
        said.append(headers.last if text is None else headers.take(text))
    place = pl.Series(points).search_sorted(pl.int_range(frame.height, eager=True), side="right") - 1
    frame = frame.with_columns_seq(pl.Series(HEADER, said, dtype=pl.String).gather(place).alias(HEADER))
    return frame.filter(~names), spans.filter(~names)
