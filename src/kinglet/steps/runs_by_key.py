"""The events of each key in their order, and where among them the values of a field stand."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, NamedTuple

import polars as pl

from kinglet.plan.data import ROW

if TYPE_CHECKING:
    import numpy as np
    import numpy.typing as npt

    Numbers = npt.NDArray[np.int64]
    Mask = npt.NDArray[np.bool_]

NO_TIME = -(2**63)
NUMBER, ENDS = "number", "ends"
"""Columns of events: their numbers in their logs, and whether they end what is known of their key."""


class Runs:
    """The events of each key in their order, in runs that an event ends which ends what is known of its key.

    lasts: the rows of the last event of each key.
    """

    def __init__(self, whole: pl.DataFrame, group: Sequence[str]) -> None:
        import numpy as np

        first = whole.with_row_index("#").select_seq(pl.col("#").first().over(group)).to_series().to_numpy()
        # what earlier batches said goes before all events of this one, as if it stood at the top of the log
        row = whole[ROW].cast(pl.Int64).fill_null(-1).to_numpy()
        self._order = np.lexsort((row, first))
        ended = whole[ENDS].fill_null(False).to_numpy()[self._order]
        changes = first[self._order][1:] != first[self._order][:-1]
        begins = np.append(True, changes | ended[:-1])
        self._places = np.arange(len(whole))
        self._starts = np.maximum.accumulate(np.where(begins, self._places, 0))
        self.lasts = self._order[np.append(changes, True)]

    def last_row(self, there: Mask) -> Numbers:
        """For each event the row of the last one so far in its run that is there; -1 where none is."""
        import numpy as np

        last = np.maximum.accumulate(np.where(there[self._order], self._places, -1))
        rows = np.empty(len(last), np.int64)
        rows[self._order] = np.where(last >= self._starts, self._order[last], -1)
        return rows


class Said(NamedTuple):
    """Of a field, for each event the row of the last value so far, -1 where none is; the number and time of each."""

    rows: Numbers
    numbers: Numbers
    times: Numbers

    @classmethod
    def of(cls, whole: pl.DataFrame, name: str, runs: Runs, own: Mask) -> Said:
        """What is said of a field; own: which events are of this batch, and not kept from earlier ones."""
        import numpy as np

        rows = runs.last_row(whole[f"value:{name}"].is_not_null().to_numpy())
        numbers, times = whole[NUMBER].fill_null(0).to_numpy(), times_of(whole["time"])
        if f"{NUMBER}:{name}" in whole.columns:
            numbers = np.where(own, numbers, whole[f"{NUMBER}:{name}"].fill_null(0).to_numpy())
            times = np.where(own, times, times_of(whole[f"time:{name}"]))
        return cls(rows, numbers, times)


def times_of(column: pl.Series) -> Numbers:
    """Times as numbers, NO_TIME where there is none."""
    times: Numbers = column.fill_null(NO_TIME).to_numpy()
    return times
