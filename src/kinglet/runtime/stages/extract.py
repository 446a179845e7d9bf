"""Extract: each event by the variant that reads it, behind the envelope; its fields are text so far."""

from __future__ import annotations

import polars as pl

from kinglet.runtime.extraction.regex_requests import run_requests
from kinglet.runtime.extraction.variants import read_events
from kinglet.runtime.work import Work


def extract(work: Work) -> None:
    """Adds what variants read of the events; several parsers do it by themselves, in `runtime.shared_batches`."""
    rows = pl.int_range(len(work.batch), dtype=pl.UInt32, eager=True)
    work.take(run_requests(read_events(work.plan, work.batch, rows, work.reference)))
