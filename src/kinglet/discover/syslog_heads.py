"""The heads of syslog that the events of a log have, as far as these are what they look like."""

from __future__ import annotations

import polars as pl

from kinglet.discover.times import Times, format_of_time, search_of
from kinglet.mining.levels import LEVELS
from kinglet.plan.syslog import FIELDS, HEADS

_PROBE = 1200
_ENOUGH = 0.95
_MARKED = 0.8
_ALMOST_ALL = 0.99


def read_heads(lines: pl.Series, form: str) -> list[pl.DataFrame]:
    """Of each regex of a head its groups in the lines that no regex before it reads; null in the others."""
    found: list[pl.DataFrame] = []
    left = lines
    for regex in HEADS[form].regexes:
        frame = left.str.extract_groups(regex).struct.unnest()
        missing = [pl.lit(None, dtype=pl.String).alias(name) for name in FIELDS if name not in frame.columns]
        found.append(frame.with_columns(missing))
        left = left.to_frame().select(pl.when(frame["stamp"].is_null()).then(pl.col(left.name))).to_series()
    return found


def syslog_head(raw: pl.Series) -> str | None:
    """The head of syslog that nearly all events have."""
    probe = raw.head(_PROBE)
    for name in HEADS:
        groups = read_heads(probe, name)
        known = pl.DataFrame([frame["stamp"].alias(str(i)) for i, frame in enumerate(groups)])
        if float(known.select(pl.any_horizontal(pl.all().is_not_null())).to_series().mean() or 0) < _ENOUGH:  # type: ignore[arg-type]
            continue
        # a stamp and a word could begin any line: a priority, or the names of a few applications, tell more
        marked = pl.DataFrame(
            [
                (frame["priority"].is_not_null() | frame["app"].is_not_null()).alias(str(i))
                for i, frame in enumerate(groups)
            ]
        )
        share = float(marked.select(pl.any_horizontal(pl.all())).to_series().mean() or 0)  # type: ignore[arg-type]
        hosts = pl.concat([frame["host"] for frame in groups]).drop_nulls()
        doubled = max(_doubled(probe, frame["body"]) for frame in groups)
        if share >= _MARKED and _are_hosts(hosts) and doubled < 1 - _ENOUGH:
            return name
    return None


def _doubled(lines: pl.Series, bodies: pl.Series) -> float:
    """How many lines go on with a second colon right behind that of the application, which names none then."""
    frame = pl.DataFrame([lines.alias("line"), bodies.alias("body")]).drop_nulls()
    front = pl.col("line").str.head(pl.col("line").str.len_chars() - pl.col("body").str.len_chars())
    glued = frame.select(pl.col("body").str.starts_with(":") & front.str.ends_with(":")).to_series()
    return float(glued.sum()) / max(len(lines), 1)


def _are_hosts(names: pl.Series) -> bool:
    """Whether what stands at the place of hosts could be such: no level, nothing in brackets or with a sign behind."""
    bare = names.str.contains(r"^[0-9A-Za-z_][0-9A-Za-z_.:%-]*$") & ~names.str.ends_with(":")
    levels = names.str.to_lowercase().is_in(list(LEVELS))
    share = (bare & ~levels).mean()
    return not isinstance(share, float) or share >= _ENOUGH


def stamp_of_message(raw: pl.Series, head: str, stamps: Times) -> dict[str, str] | None:
    """A rule for the stamp of messages behind a head of syslog, where it, and not a relay's, is the time of events."""
    text, where = format_of_time(stamps), search_of(stamps, raw)
    if text is None or where is None or raw.str.contains("\n", literal=True).any():
        return None
    of_head = pl.select(pl.coalesce([frame["stamp"] for frame in read_heads(raw, head)])).to_series()
    other = (of_head != stamps.texts[0]).fill_null(True) & stamps.texts[0].is_not_null()
    return {**where, "format": text} if float(other.mean() or 0) >= _ALMOST_ALL else None  # type: ignore[arg-type]


def head_formats(raw: pl.Series, head: str) -> list[str]:
    """The formats of the stamps that events with a head of syslog have."""
    stamps = [read["stamp"] for read in read_heads(raw.head(_PROBE), head)]
    dated = pl.select(pl.coalesce(stamps)).to_series().drop_nulls().str.contains("^[0-9]")
    return ["iso8601"] if dated.all() else ["rfc3164", "iso8601"] if dated.any() else ["rfc3164"]
