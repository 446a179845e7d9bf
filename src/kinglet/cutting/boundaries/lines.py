"""Events of whole lines: every line, or lines grouped by a first one, a last one, blank lines or indentation."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any, ClassVar, NamedTuple

import polars as pl

from kinglet.columns.put import put, rows_where
from kinglet.columns.text_spans import as_text, at, character_start
from kinglet.cutting.boundaries.base import NO_SPANS, Boundary, Buffer, FoundEvents, line_spans, with_open
from kinglet.cutting.rule import CutRule
from kinglet.kernels.compiled import kernel

_TAIL = 4  # bytes at the end of a buffer that may be half a line end or half a character
_BLANK = r"^[ \t]*$"


class EveryLine(Boundary):
    """Each line that has something on it is an event."""

    together = True

    def find(self, buffer: Buffer) -> FoundEvents:
        lines = line_spans(buffer)
        if buffer.final:
            return FoundEvents(_filled(lines), False, len(buffer.data))
        start = int(lines["start"][-1])
        return FoundEvents(with_open(_filled(lines.head(-1)), start, len(buffer.data) - _TAIL), True, start)


class LineRule(NamedTuple):
    """Which lines begin a new group.

    begins: from the text of the lines, or, with blanks, from which of them are blank. orphan: the fault of a first
    event that begins otherwise. last: from the text of the lines, which may be the last of an event; a log that ends
    with another has been cut off. looks_back: whether a line begins is known before it has ended.
    blanks: lines of nothing but blanks count as empty, and all that counts is which these are.
    """

    begins: Callable[[pl.Series], pl.Series]
    orphan: str | None = None
    last: Callable[[pl.Series], pl.Series] | None = None
    looks_back: bool = False
    blanks: bool = False
    lead: str | None = None
    banner: str | None = None


def start_rule(regex: str, lead: str | None = None, banner: str | None = None) -> LineRule:
    """Events begin with a line that matches; lines that match `lead` right before it belong to it.

    Lines that match `banner` are events by themselves, and no fault where the log begins with them.
    """

    def begins(text: pl.Series) -> pl.Series:
        found = text.str.contains(regex)
        if lead is not None:
            # the lead lines right before a start take its place
            leads = text.str.contains(lead) & ~found
            starts = pl.DataFrame([found.alias("start"), leads.alias("lead")])
            behind = pl.when(~pl.col("lead")).then("start").backward_fill().fill_null(False)
            run = starts.select_seq(behind).to_series()
            led = leads & run
            first = led & ~led.shift(1, fill_value=False)
            found = (found & ~led.shift(1, fill_value=False)) | first
        if banner is not None:
            alone = text.str.contains(banner) & ~found
            found = found | alone
        return found

    return LineRule(begins, orphan="no-start", lead=lead, banner=banner)


def end_rule(regex: str) -> LineRule:
    def ends(text: pl.Series) -> pl.Series:
        return text.str.contains(regex)

    return LineRule(lambda text: ends(text).shift(1, fill_value=False), last=ends, looks_back=True)


def indent_rule() -> LineRule:
    return LineRule(lambda text: ~text.str.contains(r"^(?:[ \t]|$)"), orphan="no-start")


def blank_line_rule() -> LineRule:
    return LineRule(lambda blank: blank & ~blank.shift(1, fill_value=False), blanks=True)


class GroupedLines(Boundary):
    """Lines grouped into events; lines with nothing on them at the ends of one belong to none."""

    kept: ClassVar[Mapping[str, Any]] = {"behind": bytes, "any_events": bool}
    together = True

    def __init__(self, rule: LineRule, max_bytes: int) -> None:
        self.rule, self.max_bytes = rule, max_bytes
        self.before = b""  # the part of the buffer's first line that stands before the buffer
        self.behind = b""  # the same for the next buffer
        self.breaks = at(0).head(0)
        self.any_events = False  # whether the log's first event has ended

    def find(self, buffer: Buffer) -> FoundEvents:
        self.before, self.breaks = self.behind, buffer.breaks
        found = self._found(buffer)
        self.any_events = self.any_events or found.spans.height > int(found.opened)
        if found.settled:
            self.advance(buffer.data, found.settled)
        return found

    def advance(self, data: bytes, to: int) -> None:
        row = int(self.breaks.search_sorted(to))
        line = int(self.breaks[row - 1]) + 1 if row else 0
        self.behind = (data[line:to] if row else self.before + data[:to])[: self.max_bytes]

    def restart(self) -> None:
        self.behind, self.any_events = b"", False

    def _found(self, buffer: Buffer) -> FoundEvents:
        lines = self._known(buffer)
        if lines is None:
            return FoundEvents(NO_SPANS, False, 0)
        told = self._blank(buffer.data, lines) if self.rule.blanks else self._text(buffer.data, lines)
        begins = self.rule.begins(told)
        filled = lines["end"] > lines["start"]
        if self.rule.blanks:
            filled &= ~told
        rows = filled.arg_true()
        if not len(rows):
            return self._nothing(buffer, int(lines["start"][-1]))
        heads = _head_rows(buffer, lines)
        forced = begins if not len(heads) else put(begins, heads, True)
        group = forced.cum_sum()
        last_group = group[-1]
        all_lines = lines
        if len(rows) < len(group):
            lines, group = rows_where(lines, filled), group.filter(filled)
        first = (group != group.shift(1)).fill_null(True)
        spans = pl.DataFrame(
            {
                "start": lines["start"].filter(first),
                "end": lines["end"].filter(first.shift(-1, fill_value=True)),
                "row": lines["row"].filter(first),
            }
        )
        if self.rule.orphan is not None and len(heads) and not self.any_events:
            places = rows.search_sorted(heads)
            leads = rows[places.filter(places < len(rows))]
            orphans = all_lines["start"][leads.filter(~begins[leads])]
            if len(orphans):
                spans = spans.with_columns_seq(pl.col("start").is_in(orphans.implode()).alias(self.rule.orphan))
        if buffer.final:
            if self.rule.last is not None:
                ends = pl.concat(
                    [heads[1:] if not buffer.continued else heads, pl.Series([len(told)], dtype=heads.dtype)]
                )
                places = rows.search_sorted(ends).cast(pl.Int64) - 1
                lasts = rows.gather(places.filter(places >= 0))
                open_ = all_lines["end"][lasts.filter(~self.rule.last(told[lasts]))]
                if len(open_):
                    spans = spans.with_columns_seq(pl.col("end").is_in(open_.implode()).alias("cut-off"))
            return FoundEvents(spans, False, len(buffer.data))
        if group[-1] != last_group:
            return FoundEvents(spans, False, int(spans["end"][-1]))
        return FoundEvents(spans, True, int(spans["start"][-1]))

    def _known(self, buffer: Buffer) -> pl.DataFrame | None:
        """The lines of which it is known whether they begin an event."""
        lines = line_spans(buffer)
        if buffer.final:
            return lines
        if len(buffer.data) - int(lines["start"][-1]) > self.max_bytes + _TAIL:
            return lines.with_columns_seq(pl.col("end").clip(upper_bound=len(buffer.data) - _TAIL))
        if not self.rule.looks_back:
            lines = lines.head(-1)
        if self.rule.lead is not None and lines.height:  # what stands behind the last of them is not known yet
            leads = self._text(buffer.data, lines).str.contains(self.rule.lead)
            others = (~leads).arg_true()
            kept = int(others[-1]) + 1 if len(others) else 0
            held = len(buffer.data) - int(lines["start"][kept]) if kept < lines.height else 0
            lines = lines.head(kept) if held <= self.max_bytes else lines
        return lines if lines.height else None

    def _nothing(self, buffer: Buffer, last: int) -> FoundEvents:
        settled = len(buffer.data) if buffer.final else 0 if buffer.continued else last
        return FoundEvents(NO_SPANS, False, settled)

    def _blank(self, data: bytes, lines: pl.DataFrame) -> pl.Series:
        """Which of the lines are blank, as far as the rule reads them."""
        starts, ends = lines["start"], lines["end"]
        run = kernel("blank_lines", len(starts)) if not self.before else None
        if run is None or (ends - starts > self.max_bytes).any():
            return self._text(data, lines).str.contains(_BLANK)
        import numpy as np

        text, first, last = np.frombuffer(data, np.uint8), starts.to_numpy(), ends.to_numpy()
        blank = np.empty(len(first), np.bool_)
        places = [array.ctypes.data for array in (text, first, last)]
        run(np.array([*places, len(first), blank.ctypes.data], np.int64).ctypes.data)
        return pl.Series(blank)

    def _text(self, data: bytes, lines: pl.DataFrame) -> pl.Series:
        """The text of the lines as the rule reads it: none of it longer than an event may be."""
        ends = lines["end"]
        far = (ends - lines["start"] > self.max_bytes).arg_true()
        if len(far):
            near = [character_start(data, start + self.max_bytes) for start in lines["start"][far]]
            ends = put(ends, far, near)
        text, _ = as_text(data, lines["start"], ends)
        if self.before:
            start, end = int(lines["start"][0]), int(ends[0])
            text = put(text, 0, (self.before + data[start:end])[: self.max_bytes].decode("utf-8", "replace"))
        return text


def _head_rows(buffer: Buffer, lines: pl.DataFrame) -> pl.Series:
    """The lines at which logs begin."""
    if buffer.heads is not None:
        return lines["start"].search_sorted(buffer.heads).cast(pl.Int64)
    return pl.Series([] if buffer.continued else [0], dtype=pl.Int64)


def _filled(lines: pl.DataFrame) -> pl.DataFrame:
    full = lines["end"] > lines["start"]
    return lines if full.all() else rows_where(lines, full)


def every_line(rule: CutRule) -> Boundary:
    """`line`."""
    return EveryLine()


def by_start(rule: CutRule) -> Boundary:
    """`start`."""
    return GroupedLines(start_rule(str(rule.value), rule.lead, rule.banner), rule.max_bytes)


def by_end(rule: CutRule) -> Boundary:
    """`end`."""
    return GroupedLines(end_rule(str(rule.value)), rule.max_bytes)


def by_blank_line(rule: CutRule) -> Boundary:
    """`blank-line`."""
    return GroupedLines(blank_line_rule(), rule.max_bytes)


def by_indent(rule: CutRule) -> Boundary:
    """`indent`."""
    return GroupedLines(indent_rule(), rule.max_bytes)
