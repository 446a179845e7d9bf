"""Which of several parsers reads an event best."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import polars as pl

from kinglet.columns.put import put
from kinglet.plan.data import ROW, STATES
from kinglet.runtime.candidate_parsers import is_general
from kinglet.runtime.parsed import Parsed, VariantEvents

_BEST = {"complete": 0, "dropped": 0, "partial": 1, "unmatched": 3}
_RANKS = pl.Series([_BEST[state] for state in STATES], dtype=pl.UInt8)


def ranks(found: Sequence[tuple[int, Parsed]], height: int) -> pl.Series:
    """How well each event of a batch is read so far, 0 being best."""
    best = pl.Series([4], dtype=pl.UInt8).new_from_index(0, height)
    for _, parsed in found:
        for part in parsed.parts:
            here = part.frame[ROW]
            rank = _rank(part)
            before = best[here]
            best = put(best, here, rank.zip_with(rank < before, before))
    return best


def _rank(part: VariantEvents) -> pl.Series:
    """How well events are read; one of which a variant is known goes before one of which only the envelope is."""
    rank = _RANKS[part.frame["state"].to_physical().cast(pl.UInt32)]
    return rank if part.variant is not None else rank + (rank == 1).cast(pl.UInt8)


def winners(found: list[tuple[int, Parsed]], height: int) -> list[tuple[int, Parsed]]:
    """Each event only with the parser that reads it best; of equals one that knows the message, then the first."""
    times = sum(len(part.frame) for _, parsed in found for part in parsed.parts)
    rows = [part.frame[ROW] for _, parsed in found for part in parsed.parts]
    several = bool(rows) and pl.concat(rows).n_unique() < times
    best: list[tuple[int, Parsed]] = []
    if several:
        frames = [
            pl.DataFrame({"row": part.frame[ROW], "rank": _rank(part)}).with_columns_seq(
                pl.lit(place, dtype=pl.UInt32).alias("place"),
                pl.lit(part.variant is None or is_general(parsed.plan.variants[part.variant])).alias("general"),
            )
            for place, parsed in found
            for part in parsed.parts
        ]
        first = (
            pl.concat(frames).sort("row", "rank", "general", "place").unique("row", keep="first", maintain_order=True)
        )
        winner = put(pl.Series([None], dtype=pl.UInt32).new_from_index(0, height), first["row"], first["place"])
    for place, parsed in found:
        parts = parsed.parts
        if several:
            parts = tuple(part.where(winner[part.frame[ROW]] == place) for part in parts)
        # what a parser cannot read at all, not even its envelope, is not its own
        parts = tuple(
            part if part.variant is not None else part.where(part.frame["state"] != "unmatched") for part in parts
        )
        parts = tuple(part for part in parts if part.frame.height)
        if parts:
            best.append((place, replace(parsed, parts=parts)))
    return best
