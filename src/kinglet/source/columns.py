"""Raw events that are a column already."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Any

import polars as pl

from kinglet.errors import UsageError
from kinglet.source.logs import Source


def of_column(column: Any) -> Source:
    """A log whose events are the items of a column of text, in their order; a null is an event without text.

    Raises:
        UsageError: it is no column of text.
    """
    exports = any(hasattr(column, name) for name in ("__arrow_c_array__", "__arrow_c_stream__"))
    if isinstance(column, pl.DataFrame) or not (isinstance(column, pl.Series) or exports):
        raise UsageError(f"{type(column).__name__} is no column", "give a polars series or an Arrow array of strings")
    try:
        events = column if isinstance(column, pl.Series) else pl.Series(column)
    except (TypeError, ValueError, pl.exceptions.PolarsError) as error:
        raise UsageError(f"the column cannot be read: {str(error).splitlines()[0]}") from None
    if events.dtype == pl.Categorical or isinstance(events.dtype, pl.Enum):
        events = events.cast(pl.String)
    if events.dtype not in (pl.String, pl.Null):
        raise UsageError(f"a column of {events.dtype} is no column of raw events", "they are strings")
    source = Source("<column>", datetime.now(UTC), events=events.cast(pl.String).fill_null(""))
    source.identify("".join(events.head(1).drop_nulls().to_list()).encode())
    return source
