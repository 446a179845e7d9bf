"""What the order of a log says of its events' times, batch after batch."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import NamedTuple

import polars as pl

from kinglet.plan.data import Plan
from kinglet.runtime.direction import runs_backward
from kinglet.runtime.event_times import Timing, zone_of
from kinglet.runtime.handover import Handover, Memory
from kinglet.runtime.work import ByOrder, Options
from kinglet.source.logs import Source
from kinglet.timestamps.order import Dates, Known, Times, after, dated, filled, plainly, second_hours


def times_resolver(plan: Plan, options: Options, handover: Handover) -> ByOrder:
    """Settles the times of one batch by what is known from the one before, and hands on what is known then."""

    def by_order(rows: pl.Series, times: Timing, sources: Sequence[Source], source_of: pl.Series) -> Timing:
        found, memory = _resolved(plan, options, _Events(rows, times, sources, source_of), handover.times_before)
        handover.times.set_result(memory)
        return found

    return by_order


class _Events(NamedTuple):
    """The times of a batch's events, the rows that they are, the logs, and of each row its log."""

    rows: pl.Series
    times: Timing
    sources: Sequence[Source]
    source_of: pl.Series


def _resolved(plan: Plan, options: Options, events: _Events, memory: Memory) -> tuple[Timing, Memory]:
    """The times of a batch's events as the order of their logs tells them."""
    rows, timing, sources, source_of = events
    known = {i: memory.get(id(source), (source, Known()))[1] for i, source in enumerate(sources)}
    fills = plan.missing == "previous" and bool(timing.time.null_count())
    is_open = fills or any(
        column is not None and column.null_count() < len(column) for column in (timing.later, timing.of_day)
    )
    if is_open:
        whole = _in_order(rows, timing)
        pieces: list[Times] = []
        for index, start, length in _ranges(source_of):
            source = sources[index]
            log = _Log(source, options.reference_time or source.reference, options.zone)
            piece, known[index] = _of_log(plan, log, _slice(whole, start, length), known[index])
            pieces.append(piece)
        time = pl.concat([piece.time for piece in pieces]).cast(pl.Datetime("us")).dt.replace_time_zone("UTC")
        bits = pl.concat([piece.notes for piece in pieces])
        timing = timing._replace(time=time[rows].alias("time"), notes=bits[rows], later=None)
    else:
        frame = pl.DataFrame({"row": rows, "time": timing.time.to_physical(), "of": source_of[rows]})
        ends = (
            frame.filter(pl.col("time").is_not_null())
            .group_by("of")
            .agg(pl.col("time").sort_by("row").first().alias("first"), pl.col("time").sort_by("row").last())
        )
        for index, first, last in ends.select_seq("of", "first", "time").iter_rows():
            ends_of = pl.Series([first, last])
            known[index] = plainly(ends_of, after(ends_of, known[index]))
    return timing, {id(source): (source, known[i]) for i, source in enumerate(sources)}


class _Log(NamedTuple):
    source: Source
    reference: datetime
    zone: str | None


class _Whole(NamedTuple):
    times: Times
    rule: pl.Series


def _in_order(rows: pl.Series, timing: Timing) -> _Whole:
    """The times of all events of a batch in the order of the log."""
    order = None if rows.is_sorted() else rows.arg_sort()

    def ordered(column: pl.Series | None) -> pl.Series | None:
        return column if column is None or order is None else column[order]

    time, bits, rule = ordered(timing.time), ordered(timing.notes), ordered(timing.rule)
    later, of_day = ordered(timing.later), ordered(timing.of_day)
    assert time is not None and bits is not None and rule is not None
    return _Whole(Times(time.to_physical(), bits, None if later is None else later.to_physical(), of_day), rule)


def _slice(whole: _Whole, start: int, length: int) -> _Whole:
    times = Times(*(None if column is None else column.slice(start, length) for column in whole.times))  # type: ignore[arg-type]
    return _Whole(times, whole.rule.slice(start, length))


def _ranges(source_of: pl.Series) -> list[tuple[int, int, int]]:
    """The logs of a batch, each with the range of its events."""
    runs = source_of.rle().struct.unnest()
    lengths = runs.to_series(0)
    starts = lengths.cum_sum() - lengths
    return list(zip(runs.to_series(1).to_list(), starts.to_list(), lengths.to_list(), strict=True))


def _of_log(plan: Plan, log: _Log, whole: _Whole, known: Known) -> tuple[Times, Known]:
    times = whole.times
    if times.of_day is not None:
        if known.backward is None:
            known = known._replace(backward=runs_backward(plan, log.source, log.zone))
        numbered = [rule for rule in plan.times if rule.field is None]
        for number, rule in enumerate(numbered):
            rows = ((whole.rule == number).fill_null(False) & times.of_day.is_not_null()).arg_true()
            if len(rows):
                dates = Dates(zone_of(rule, log.zone), rule.of_previous, rule.of_log, log.source.name, log.reference)
                times = dated(times, rows, dates, known)
    times, known = second_hours(times, known)
    if plan.missing == "previous" and times.time.null_count():
        times = filled(times, times.time.is_null().arg_true(), known)
    return times, after(times.time, known)
