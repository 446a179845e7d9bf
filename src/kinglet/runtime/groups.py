"""Events on their way through a batch."""

from __future__ import annotations

from typing import NamedTuple

import polars as pl

from kinglet.columns.faults import Faults
from kinglet.columns.put import rows_where
from kinglet.columns.repeated import true_of
from kinglet.plan.data import FieldPlan
from kinglet.timestamps.stamps import Reference


class Group(NamedTuple):
    """Events on their way: rows in the batch, what was read from them so far, what is wrong with them.

    texts: of all fields. columns: the events, and the values of fields. pending: fields that are text so far.
    """

    rows: pl.Series
    columns: pl.DataFrame
    texts: pl.DataFrame
    faults: Faults
    pending: tuple[FieldPlan, ...] = ()

    def where(self, mask: pl.Series) -> Group:
        if mask.all():
            return self
        faults = [(name, bad.filter(mask)) for name, bad in self.faults]
        return Group(
            self.rows.filter(mask), rows_where(self.columns, mask), rows_where(self.texts, mask), faults, self.pending
        )

    def gather(self, order: pl.Series) -> Group:
        faults = [(name, bad[order]) for name, bad in self.faults]
        return Group(self.rows[order], _rows(self.columns, order), _rows(self.texts, order), faults, self.pending)

    def slice(self, start: int, length: int) -> Group:
        faults = [(name, bad.slice(start, length)) for name, bad in self.faults]
        texts = self.texts.slice(start, length) if self.texts.width else pl.DataFrame(height=length)
        return Group(self.rows.slice(start, length), self.columns.slice(start, length), texts, faults, self.pending)


def _rows(frame: pl.DataFrame, order: pl.Series) -> pl.DataFrame:
    # rows of a column in several pieces are gathered ten times slower
    return frame.rechunk()[order] if frame.width else pl.DataFrame(height=len(order))


def joined(groups: list[Group]) -> Group:
    """Groups of events with the same columns as one."""
    if len(groups) == 1:
        return groups[0]
    names = [name for name, _ in groups[0].faults]
    faults = [(name, pl.concat([group.faults[i][1] for group in groups])) for i, name in enumerate(names)]
    texts = [group.texts for group in groups]
    return Group(
        pl.concat([group.rows for group in groups]),
        pl.concat([group.columns for group in groups]),
        pl.concat(texts) if texts[0].width else pl.DataFrame(height=sum(len(group.rows) for group in groups)),
        faults,
        groups[0].pending,
    )


def near(reference: Reference, group: Group) -> Reference:
    """The reference of each event of a group, where they come from several logs."""
    return reference[group.columns["#source"]] if isinstance(reference, pl.Series) else reference


def every(group: Group) -> pl.Series:
    """A mask of all events of a group."""
    return true_of(len(group.rows))
