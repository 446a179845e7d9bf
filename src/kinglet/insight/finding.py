"""Events by what stands in them."""

from __future__ import annotations

import re

import polars as pl

from kinglet.errors import UsageError


def finding(text: str) -> pl.Expr:
    """Whether an event has a text in it, or where it is between slashes, a regex.

    Raises:
        UsageError: it is no regex.
    """
    if not (len(text) > 2 and text[0] == text[-1] == "/"):
        return pl.col("raw").str.contains(text, literal=True)
    try:
        pl.Series([""]).str.contains(text[1:-1])
    except pl.exceptions.PolarsError as error:
        said = re.findall(r"^error: (.*)$", str(error), re.MULTILINE)
        what = f"`{text}` is no regex" + (f": {said[-1]}" if said else "")
        raise UsageError(what, "write text without slashes to find it as it stands") from None
    return pl.col("raw").str.contains(text[1:-1])


def spread(events: pl.DataFrame, count: int, seed: int) -> pl.DataFrame:
    """So many events from all over a log, in its order; the same for the same seed."""
    if events.height <= count:
        return events
    rows = pl.int_range(events.height, eager=True).sample(count, seed=seed).sort()
    return events[rows]
