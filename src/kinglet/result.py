"""What parsing gives: the events of a log, or of a batch of it, by one parser or by several."""

from __future__ import annotations

import functools
import json
import os
from collections.abc import Iterator, Mapping
from typing import TYPE_CHECKING, Any

import polars as pl

from kinglet.errors import UsageError, needing
from kinglet.plan.data import MORE
from kinglet.runtime.parsed import total_of

if TYPE_CHECKING:
    import pandas as pd
    import pyarrow as pa

    from kinglet.calls import ParseCalls
    from kinglet.parser import Parser

FORMS = ("fields", "model")
"""How events may go out: as their fields, or as classes of the common model."""


class Result:
    """Parsed events: all of a log, or of one batch of it."""

    def __init__(self, reader: ParseCalls, batches: tuple[Any, ...], limit: int | None = None) -> None:
        self._reader = reader
        self._limit = limit
        self.batches = batches if limit is None else tuple(_limited(batches, limit))

    @property
    def parsers(self) -> Mapping[str, Parser]:
        """The parsers by their names."""
        return self._reader.parsers

    @property
    def parser(self) -> Parser:
        """The parser, where it is one.

        Raises:
            UsageError: there are several.
        """
        if len(self.parsers) != 1:
            raise UsageError(f"the result is of {len(self.parsers)} parsers", "`parsers` has them by name")
        return next(iter(self.parsers.values()))

    @functools.cached_property
    def events(self) -> pl.DataFrame:
        """One row an event, in the order of the logs.

        Its columns: line, raw, state, faults, variant, time, the fields, then where it came from. Of several parsers it
        has the columns of all; a field that has a type here and another there is text.
        """
        view = self._reader._view("fields")
        frames = [view.table(batch) for batch in self.batches]
        return pl.concat(frames) if frames else pl.DataFrame(schema=view.schema)

    @functools.cached_property
    def counts(self) -> dict[str, int]:
        """Events by state; complete + partial + unmatched + dropped = events."""
        return total_of(batch.counts for batch in self.batches)

    @functools.cached_property
    def by_parser(self) -> dict[str, dict[str, int]]:
        """The same for each parser that read an event, the busiest first; `unclaimed` has those that none reads."""
        found: dict[str, dict[str, int]] = {}
        for batch in self.batches:
            batch.add_counts(found)
        return dict(sorted(found.items(), key=lambda item: (-item[1]["events"], item[0])))

    @functools.cached_property
    def by_log(self) -> dict[str, dict[str, int]]:
        """How many events of each log each parser read; `unclaimed` has those that none reads."""
        found: dict[str, dict[str, int]] = {}
        for batch in self.batches:
            batch.add_by_log(found)
        return found

    def header_of(self, file: str, line: int) -> str | None:
        """The header that names the columns of the event at a line of a log, where there is one."""
        return next((found for batch in self.batches if (found := batch.header_of(file, line)) is not None), None)

    @property
    def faults(self) -> dict[str, int]:
        """How often each fault occurs, the commonest first."""
        counted = self.events["faults"].explode().drop_nulls().value_counts()
        return dict(sorted(counted.iter_rows(), key=lambda row: (-row[1], row[0])))

    def spread(self, most: int = 100) -> pl.DataFrame:
        """The events with the keys of `more` as columns of text, for a look at keys that no parser names.

        The columns are all keys of all these events, the commonest first, `most` at most; what is left stays in `more`.
        One whose name the events have already, or could not have, is called `more.KEY`.
        """
        from kinglet.output.spreading import spread

        has_more = any(MORE in parser._plan.json for parser in self.parsers.values())
        return spread(self.events, most) if has_more else self.events

    def to_pandas(self) -> pd.DataFrame:
        """The events as a pandas frame.

        Raises:
            UsageError: pandas is not installed.
        """
        with needing("pandas"):
            return self.events.to_pandas()

    def to_arrow(self) -> pa.Table:
        """The events as an Arrow table."""
        return self.events.to_arrow()

    def to_model(self) -> Iterator[dict[str, Any]]:
        """The events mapped onto the common model, as plain dicts without nulls; dropped events are left out."""
        view = self._reader._view("model")
        for batch in self.batches:
            yield from map(json.loads, view.lines(batch.kept()))

    def write(self, path: str | os.PathLike[str], as_: str = "fields") -> None:
        """Writes the events to a file, whose ending says the form: .ndjson, .csv, .parquet or .arrow.

        as_: `fields`, or `model` for events of the common model. Dropped events are left out.

        Raises:
            OutputError: the file cannot be written, is a log that was parsed, or has another ending.
            UsageError: there is no such form.
        """
        from kinglet.output.writers import refuse_inputs, writer_for

        if as_ not in FORMS:
            raise UsageError(f"as_: there is no form `{as_}` of events", f"give {' or '.join(FORMS)}")
        target = os.fspath(path)
        refuse_inputs(target, [], [source for batch in self.batches for source in batch.sources])
        with writer_for(target, self._reader._view(as_)) as writer:
            for batch in self.batches:
                writer.write(writer.prepare(batch.kept()))

    def __len__(self) -> int:
        return self.counts["events"]

    def __repr__(self) -> str:
        counts = ", ".join(f"{count} {state}" for state, count in self.counts.items() if count or state == "events")
        of = self.parser.name if len(self.parsers) == 1 else f"{len(self.parsers)} parsers"
        return f"<Result of {of}: {counts}>"

    def _repr_html_(self) -> str:
        from kinglet.notebook.html import result_html

        return result_html(self)


def _limited(batches: tuple[Any, ...], limit: int) -> Iterator[Any]:
    for batch in batches:
        if limit <= 0:
            return
        yield batch.head(limit)
        limit -= batch.counts["events"]
