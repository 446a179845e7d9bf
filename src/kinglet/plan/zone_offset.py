"""How far ahead of UTC the clock was that an event's stamp shows, as far as that is known."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import polars as pl

from kinglet.columns import arrow
from kinglet.kernels.compiled import kernel
from kinglet.plan.data import STAMP, TimeRulePlan
from kinglet.timestamps.zones import configured_zone

_TOLD = pl.Struct({"carried": pl.Int64(), "silent": pl.Boolean()})
_HAS_OFFSET, _IS_SILENT = 2, 3  # states of `kinglet.kernels.loops.offsets`
_SIGNED = r"([+-])([0-9]{2}):?([0-9]{2})?$"
_CLOCK = r"[0-9]:[0-9]{2}|[0-9][Tt][0-9]"


def zone_offset(rules: Sequence[TimeRulePlan], has_stamp: bool) -> pl.Expr | None:
    """Minutes ahead of UTC: the offset that the stamp carries, otherwise that of the zone which the parser names.

    Null where neither is known; a count since 1970 shows no clock. has_stamp: whether events keep the text of theirs.
    """
    own = [rule for rule in rules if rule.field is None]
    if not has_stamp or not own or all(fmt.epoch for rule in own for fmt in rule.reading.formats):
        return None
    told = pl.col(STAMP).map_batches(_told, return_dtype=_TOLD)
    carried = told.struct.field("carried")
    zones = {rule.reading.zone for rule in own}
    zone = zones.pop() if len(zones) == 1 else None
    found = configured_zone(zone, own[0].reading.zones) if zone is not None else None
    if found is None or any(rule.zone_slot is not None for rule in own):
        return carried
    if found.name is None:
        minutes = pl.lit(found.offset // 60_000_000, dtype=pl.Int64)
    else:
        local = pl.col("time").dt.convert_time_zone(found.name)
        minutes = (local.dt.base_utc_offset() + local.dt.dst_offset()).dt.total_minutes()
    return pl.when(carried.is_not_null()).then(carried).when(told.struct.field("silent")).then(minutes)


def _told(stamp: pl.Series) -> pl.Series:
    """Of each stamp the minutes that it carries, and whether it shows a clock and says nothing of a zone."""
    run = kernel("offsets", len(stamp))
    if run is not None:
        return _at_once(stamp, run)
    found = stamp.to_frame("").select(pl.struct(carried=_carried(pl.col("")), silent=_silent(pl.col(""))))
    return found.to_series().alias(stamp.name)


def _carried(stamp: pl.Expr) -> pl.Expr:
    parts = stamp.str.extract_groups(_SIGNED).struct
    size = parts.field("2").cast(pl.Int64) * 60 + parts.field("3").cast(pl.Int64).fill_null(0)
    signed = pl.when(parts.field("1") == "-").then(-size).otherwise(size)
    is_carried = stamp.str.contains(_CLOCK) & (size < 1440)
    return pl.when(stamp.str.contains("[0-9][Zz]$")).then(0).when(is_carried).then(signed).cast(pl.Int64)


def _silent(stamp: pl.Expr) -> pl.Expr:
    # a stamp that ends with letters names its zone, and a count shows no clock
    return stamp.str.contains(_CLOCK) & ~stamp.str.contains("[A-Za-z]{2,}$|[0-9][Zz]$")


def _at_once(stamp: pl.Series, run: Callable[[int], int]) -> pl.Series:
    """The same by machine code."""
    import numpy as np

    column = arrow.columns_of([stamp])
    minutes, states = np.zeros(len(stamp), np.int64), np.zeros(len(stamp), np.uint8)
    given = np.array([len(stamp), *column.columns[0], minutes.ctypes.data, states.ctypes.data], np.int64)
    run(given.ctypes.data)
    carried = pl.Series("carried", minutes).set(pl.Series(states != _HAS_OFFSET), None)
    return pl.DataFrame([carried, pl.Series("silent", states == _IS_SILENT)]).to_struct(stamp.name)
