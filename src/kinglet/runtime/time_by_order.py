"""What the order of a log says of its events' times, batch after batch."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import NamedTuple

import polars as pl

from kinglet.plan.data import Plan
from kinglet.runtime.time import Timing, zone_of
from kinglet.source.logs import Source
from kinglet.timestamps import notes
from kinglet.timestamps.order import Dates, Known, Times, after, dated, filled, plainly, second_hours
from kinglet.timestamps.stamps import INSTANT


class Placed(NamedTuple):
    """The times of some events of a batch, and the rows of the batch that these events are."""

    rows: pl.Series
    timing: Timing


Memory = Mapping[int, tuple[Source, Known]]
"""What is known at the end of a batch of each of its logs, by the identity of its source."""


def settle(
    plan: Plan,
    parts: Sequence[Placed],
    sources: Sequence[Source],
    source_of: pl.Series,
    zone: str | None,
    at: datetime | None,
    memory: Memory,
) -> tuple[list[Placed], Memory]:
    """The times of a batch's events as the order of their logs settles them; source_of has each event's log.

    at: the reference of all logs, where a call gives one.
    """
    known = {i: memory.get(id(source), (source, Known()))[1] for i, source in enumerate(sources)}
    fills = plan.missing == "previous" and any(part.timing.time.null_count() for part in parts)
    is_open = fills or any(
        column is not None and column.null_count() < len(column)
        for part in parts
        for column in (part.timing.later, part.timing.of_day)
    )
    if is_open:
        whole = _whole(parts)
        starts = _ranges(source_of)
        pieces: list[Times] = []
        for index, start, length in starts:
            source = sources[index]
            log = _Log(source, at or source.reference, zone)
            piece, known[index] = _settled(plan, log, _slice(whole, start, length), known[index])
            pieces.append(piece)
        time = pl.concat([piece.time for piece in pieces]).cast(pl.Datetime("us")).dt.replace_time_zone("UTC")
        bits = pl.concat([piece.notes for piece in pieces])
        settled = [
            part._replace(
                timing=part.timing._replace(
                    time=time.gather(part.rows).alias("time"), notes=bits.gather(part.rows), later=None
                )
            )
            for part in parts
        ]
    else:
        settled = list(parts)
        frame = pl.concat(
            pl.DataFrame({"row": part.rows, "time": part.timing.time.to_physical(), "of": source_of.gather(part.rows)})
            for part in parts
        )
        ends = (
            frame.filter(pl.col("time").is_not_null())
            .group_by("of")
            .agg(pl.col("time").sort_by("row").first().alias("first"), pl.col("time").sort_by("row").last())
        )
        for index, first, last in ends.select("of", "first", "time").iter_rows():
            ends_of = pl.Series([first, last])
            known[index] = plainly(ends_of, after(ends_of, known[index]))
    return settled, {id(source): (source, known[i]) for i, source in enumerate(sources)}


class _Log(NamedTuple):
    source: Source
    reference: datetime
    zone: str | None


class _Whole(NamedTuple):
    times: Times
    rule: pl.Series


def _whole(parts: Sequence[Placed]) -> _Whole:
    """The times of all events of a batch in the order of the log."""
    rows = pl.concat([part.rows for part in parts])
    order = None if rows.is_sorted() else rows.arg_sort()

    def joined(columns: list[pl.Series | None], dtype: pl.DataType) -> pl.Series | None:
        if all(column is None for column in columns):
            return None
        filled_in = [
            pl.Series([None], dtype=dtype).new_from_index(0, len(part.rows)) if column is None else column
            for part, column in zip(parts, columns, strict=True)
        ]
        whole = pl.concat([column.rename("") for column in filled_in])
        return whole if order is None else whole.gather(order)

    time = joined([part.timing.time for part in parts], INSTANT)
    bits = joined([part.timing.notes for part in parts], notes.DTYPE)
    later = joined([part.timing.later for part in parts], INSTANT)
    of_day = joined([part.timing.of_day for part in parts], pl.Int64())
    rule = joined([part.timing.rule for part in parts], pl.UInt8())
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


def _settled(plan: Plan, log: _Log, whole: _Whole, known: Known) -> tuple[Times, Known]:
    times = whole.times
    if times.of_day is not None:
        if known.backward is None:
            from kinglet.runtime.direction import runs_backward

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
