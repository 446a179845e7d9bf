"""How far ahead of UTC the clock was that an event's stamp shows, as far as that is known."""

from __future__ import annotations

from collections.abc import Sequence

import polars as pl

from kinglet.plan.data import STAMP, TimeRulePlan
from kinglet.timestamps.zones import configured_zone

_SIGNED = r"([+-])([0-9]{2}):?([0-9]{2})?$"
_CLOCK = r"[0-9]:[0-9]{2}|[0-9][Tt][0-9]"


def zone_offset(rules: Sequence[TimeRulePlan], has_stamp: bool) -> pl.Expr | None:
    """Minutes ahead of UTC: the offset that the stamp carries, otherwise that of the zone which the parser names.

    Null where neither is known; a count since 1970 shows no clock. has_stamp: whether events keep the text of theirs.
    """
    own = [rule for rule in rules if rule.field is None]
    if not has_stamp or not own or all(fmt.epoch for rule in own for fmt in rule.reading.formats):
        return None
    stamp = pl.col(STAMP)
    parts = stamp.str.extract_groups(_SIGNED).struct
    size = parts.field("2").cast(pl.Int64) * 60 + parts.field("3").cast(pl.Int64).fill_null(0)
    signed = pl.when(parts.field("1") == "-").then(-size).otherwise(size)
    has_clock = stamp.str.contains(_CLOCK)
    carried = pl.when(stamp.str.contains("[0-9][Zz]$")).then(0).when(has_clock & (size < 1440)).then(signed)
    zones = {rule.reading.zone for rule in own}
    zone = zones.pop() if len(zones) == 1 else None
    found = configured_zone(zone, own[0].reading.zones) if zone is not None else None
    # a stamp that ends with letters names its zone, and a count shows no clock
    silent = has_clock & ~stamp.str.contains("[A-Za-z]{2,}$|[0-9][Zz]$")
    if found is None or any(rule.zone_slot is not None for rule in own):
        return carried
    if found.name is None:
        minutes = pl.lit(found.offset // 60_000_000, dtype=pl.Int64)
    else:
        local = pl.col("time").dt.convert_time_zone(found.name)
        minutes = (local.dt.base_utc_offset() + local.dt.dst_offset()).dt.total_minutes()
    return pl.when(carried.is_not_null()).then(carried).when(silent).then(minutes)
