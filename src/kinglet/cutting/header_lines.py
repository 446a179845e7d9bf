"""Lines of a log that name the columns of the lines below them."""

from __future__ import annotations

import csv
from dataclasses import dataclass, field

import polars as pl

from kinglet.columns.put import put
from kinglet.columns.text_spans import POSITION
from kinglet.cutting.rule import CutRule

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


def named_by(rows: pl.Series, regex: str) -> tuple[pl.Series, list[str]]:
    """Which lines name columns, since the regex matches at their start; and what stands behind it."""
    at_start = f"^(?:{regex})"
    names = rows.str.contains(at_start)
    return names, rows.filter(names).str.replace(at_start, "").str.strip_chars(" \t").to_list()


def like_header(rows: pl.Series, header: str, rule: CutRule) -> tuple[pl.Series, list[str]]:
    """Which rows are the header of the log once more, perhaps in another order, as where logs were put together.

    Of one column none is: what it is called may be a value of it.
    """
    wanted = _cells(header, rule) or []
    if len(wanted) < 2:
        return pl.Series([False]).new_from_index(0, len(rows)), []
    alike = rows.str.len_bytes() == len(header.encode())
    if alike.any():  # speed: few rows have a name of a column in them
        alike &= rows.str.contains(max(wanted, key=len), literal=True)
    names = alike & (rows == header)
    turned = [row for row in (alike & ~names).arg_true() if _cells(rows[row], rule) == wanted]
    if turned:
        names = put(names, pl.Series(turned, dtype=POSITION), True)
    return names, rows.filter(names).to_list()


def _cells(text: str, rule: CutRule) -> list[str] | None:
    """The values of a row, in order; None where it is none that the standard library reads."""
    try:
        return sorted(next(csv.reader([text], delimiter=rule.delimiter, quotechar=rule.quote), []))
    except csv.Error:
        return None


def under_headers(
    frame: pl.DataFrame, spans: pl.DataFrame, names: pl.Series, texts: list[str], headers: Headers
) -> tuple[pl.DataFrame, pl.DataFrame]:
    """Lines without those that name columns, with HEADER, and their spans.

    names, texts: which lines name columns, and what they say. headers: of the log, or where `#source` tells the lines
    of several logs apart, of the first of them, which has not been read before.
    """
    starts: list[int] = [0]
    if "#source" in frame.columns:
        log = frame["#source"]
        starts = (log != log.shift(1)).fill_null(True).arg_true().to_list()
    elif not names.any():
        below = pl.Series(HEADER, [headers.last], dtype=pl.String).new_from_index(0, frame.height)
        return frame.with_columns_seq(below), spans
    changes: list[tuple[int, str | None]] = [(row, None) for row in starts]
    changes += zip(names.arg_true().to_list(), texts, strict=True)
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
