"""Whether a log whose stamps have no date runs forward or backward, as its beginning shows."""

from __future__ import annotations

import polars as pl

from kinglet.cutting.cutter import cut
from kinglet.plan.data import Plan
from kinglet.runtime.extraction.regex_requests import run_requests
from kinglet.runtime.extraction.variants import read_events
from kinglet.runtime.stages.time import times_of
from kinglet.runtime.work import bundled, rows_of
from kinglet.source.logs import Source, beginning
from kinglet.timestamps.calendar import DAY

_LEAST = 3
"""So many steps back show a log that runs backward, where they are most of all steps."""


def runs_backward(plan: Plan, source: Source, zone: str | None) -> bool:
    """Whether most times of day in the beginning of a log are earlier than those before them.

    The beginning is read by itself, so that the answer is the same however the log is cut into batches. What cannot be
    read twice, such as a pipe, runs forward.
    """
    head = beginning(source)
    if head is None:
        return False
    clocks: list[pl.Series] = []
    for batch in cut(head, plan.cut):
        rows = pl.int_range(len(batch), dtype=pl.UInt32, eager=True)
        extracted = run_requests(read_events(plan, batch, rows, source.reference))
        if not extracted:
            continue
        bundles = bundled(extracted)
        of_day = times_of(plan, bundles, source.reference, zone).of_day
        if of_day is not None:
            clocks.append(of_day[rows_of(bundles).arg_sort()])
    if not clocks:
        return False
    steps = pl.concat(clocks).drop_nulls().diff().drop_nulls()
    near = steps.filter(steps.abs() < DAY // 2)
    back, on = int((near < 0).sum()), int((near > 0).sum())
    return back >= _LEAST and back > 3 * on
