"""The step that fills fields of an event with what earlier events of the same key said.

An event of a connection, a session or a process often says only its number; who it is stood in the first one. The
values are kept from batch to batch, bounded by how far back they may lie.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import accumulate
from typing import TYPE_CHECKING

import polars as pl

from kinglet.columns.faults import Faults
from kinglet.columns.put import put
from kinglet.expressions.compiling import Expression
from kinglet.plan.data import ROW
from kinglet.plan.steps import Action, ActsAcross, Fields, Json, Needs, Remembered, SomeEvents
from kinglet.runtime.steps import column_of, selected, with_faults
from kinglet.spec import steps as forms
from kinglet.steps.context import StepContext
from kinglet.steps.runs_by_key import ENDS, NO_TIME, NUMBER, Runs, Said, times_of
from kinglet.timestamps.stamps import Reference

if TYPE_CHECKING:
    from kinglet.steps.runs_by_key import Mask, Numbers

_SECOND = 1_000_000
_LOG, _PLACE, _PART = "log", "place", "part"


@dataclass(frozen=True)
class Remember(ActsAcross):
    """Fields that an event lacks, as the last event before it with the same key had them.

    until: behind such an event the values of its key are forgotten. age: seconds that a value may lie back; events: how
    many events.
    """

    keys: tuple[str, ...]
    kept: tuple[tuple[str, pl.DataType], ...]
    key_types: tuple[pl.DataType, ...]
    age: float
    events: int
    until: Expression | None = None
    needs: Needs = ()

    def act(self, frame: pl.DataFrame, where: pl.Series | None, reference: Reference) -> tuple[pl.DataFrame, Faults]:
        """See `Action`; events whose order nobody knows stay as they are."""
        return frame, []

    def act_across(
        self, events: Sequence[SomeEvents], before: Mapping[int, Remembered]
    ) -> tuple[list[pl.DataFrame], dict[int, Remembered]]:
        """See `ActsAcross`."""
        numbers, counts = _numbered(events, before)
        frames = [item.frame for item in events]
        told: list[pl.DataFrame] = []
        for i, item in enumerate(events):
            ends, faults = self._ends(item)
            told.append(self._told(i, item, ends, numbers[i]))
            frames[i] = with_faults(item.frame, faults)
        kept = [
            one.known.with_columns_seq(pl.lit(log, pl.UInt32).alias(_LOG))
            for log, one in before.items()
            # a session that goes on with another parser may have kept something else
            if one.known is not None and dict(one.known.schema) == self._kept_schema
        ]
        pieces = [*kept, *(piece for piece in told if piece.height)]
        if not pieces:
            return frames, _after(counts, before, {})
        whole = pl.concat([*pieces, self._nothing()], how="diagonal", rechunk=True)
        runs = Runs(whole, [_LOG, *(f"key:{name}" for name in self.keys)])
        own = whole[_PART].is_not_null().to_numpy()
        first = sum(piece.height for piece in kept)
        said = {}
        for name, _ in self.kept:
            said[name] = one = Said.of(whole, name, runs, own)
            filled = self._filled(whole, name, one, own)
            if filled is not None:
                frames = _with_filled(frames, told, first, name, filled)
        return frames, _after(counts, before, self._known(whole, said, runs.lasts, counts))

    def _ends(self, item: SomeEvents) -> tuple[pl.Series, Faults]:
        """Which events end what is known of their key, and those of which that cannot be told."""
        if self.until is None:
            return pl.Series([False]).new_from_index(0, item.frame.height), []
        ends, faults = selected(item.frame, self.until, self.needs, next(iter(self.until.names), None))
        there = item.where if item.where is not None else True
        return ends.fill_null(False), [(name, bad) for name, mask in faults if (bad := mask & there).any()]

    def _told(self, part: int, item: SomeEvents, ends: pl.Series, numbers: pl.Series) -> pl.DataFrame:
        """Of events that have the whole key: it, the values, whether they end what is known of it."""
        frame = item.frame
        there = set(frame.columns)
        if not there.issuperset(self.keys):
            return self._nothing()
        asked = pl.all_horizontal(pl.col(name).is_not_null() for name in self.keys)
        columns = [
            _log_of(frame),
            pl.col(ROW),
            pl.lit(part, pl.UInt32).alias(_PART),
            pl.int_range(pl.len(), dtype=pl.UInt32).alias(_PLACE),
            pl.col("time").to_physical().alias("time"),
            ends.alias(ENDS),
            numbers.alias(NUMBER),
            *(pl.col(name).alias(f"key:{name}") for name in self.keys),
            *(
                (pl.col(name) if name in there else pl.lit(None, dtype=dtype)).alias(f"value:{name}")
                for name, dtype in self.kept
            ),
        ]
        # an event without a whole key tells nothing and gets nothing, but counts
        wanted = frame.select_seq(asked).to_series()
        wanted = wanted if item.where is None else wanted & item.where
        return frame.select_seq(columns).filter(wanted)

    @property
    def _kept_schema(self) -> dict[str, pl.DataType]:
        """The columns of what is kept of a log: keys, and of each field its value, its event's number and time."""
        columns = {f"key:{name}": dtype for name, dtype in zip(self.keys, self.key_types, strict=True)}
        for name, dtype in self.kept:
            columns |= {f"value:{name}": dtype, f"{NUMBER}:{name}": pl.Int64(), f"time:{name}": pl.Int64()}
        return columns

    def _nothing(self) -> pl.DataFrame:
        own = {
            _LOG: pl.UInt32,
            ROW: pl.UInt32,
            _PART: pl.UInt32,
            _PLACE: pl.UInt32,
            "time": pl.Int64,
            ENDS: pl.Boolean,
        }
        keys = {f"key:{name}": dtype for name, dtype in zip(self.keys, self.key_types, strict=True)}
        values = {f"value:{name}": dtype for name, dtype in self.kept}
        return pl.DataFrame(schema={**own, **keys, **values, NUMBER: pl.Int64})

    def _filled(self, whole: pl.DataFrame, name: str, said: Said, own: Mask) -> pl.Series | None:
        """A field of all events, filled where it was empty and what is known of it is not too far back.

        None where nothing is filled.
        """
        import numpy as np

        value = whole[f"value:{name}"]
        empty = np.flatnonzero((said.rows >= 0) & value.is_null().to_numpy() & own)
        if not len(empty):
            return None
        rows = said.rows[empty]
        numbers, times = whole[NUMBER].to_numpy()[empty], times_of(whole["time"])[empty]
        there = (times != NO_TIME) & (said.times[rows] != NO_TIME)
        # what has no time is as near as its number says
        far = np.abs(np.where(there, times - said.times[rows], 0)) > int(self.age * _SECOND)
        near = (numbers - said.numbers[rows] <= self.events) & ~far
        if not near.any():
            return None
        places = np.arange(len(value), dtype=np.uint32)
        places[empty[near]] = rows[near]
        return value.gather(pl.Series(places))

    def _known(
        self, whole: pl.DataFrame, said: Mapping[str, Said], lasts: Numbers, counts: Mapping[int, int]
    ) -> dict[int, pl.DataFrame]:
        """What the last event of each key has left, by log."""
        import numpy as np

        # an event that ends its key leaves nothing behind
        lasts = lasts[~whole[ENDS].fill_null(False).to_numpy()[lasts]]
        if not len(lasts):
            return {}
        last = whole.select_seq(_LOG, *(f"key:{name}" for name in self.keys))[pl.Series(lasts)]
        logs, which = np.unique(last[_LOG].to_numpy(), return_inverse=True)
        so_far = np.array([counts.get(log, 0) for log in logs.tolist()], np.int64)[which]
        columns: list[pl.Series] = []
        some = np.zeros(len(lasts), bool)
        for name, one in said.items():
            rows = one.rows[lasts]
            near = (rows >= 0) & (so_far - one.numbers[rows] <= self.events)
            some |= near
            at = pl.Series(rows).set(pl.Series(~near), None)
            columns += [
                whole[f"value:{name}"].gather(at).alias(f"value:{name}"),
                pl.Series(one.numbers).gather(at).alias(f"{NUMBER}:{name}"),
                pl.Series(one.times).gather(at).replace(NO_TIME, None).alias(f"time:{name}"),
            ]
        kept = last.with_columns_seq(columns).filter(pl.Series(some))
        return {log: kept.filter(pl.col(_LOG) == log).drop(_LOG) for log in kept[_LOG].unique().to_list()}

    def fields(self, before: Fields, always: bool) -> Fields:
        """See `Action`."""
        return before | dict(self.kept)

    @property
    def uses(self) -> tuple[str, ...]:
        """See `Action`."""
        return (*self.keys, *(name for name, _ in self.kept), *(name for name, _ in self.needs))

    @property
    def gives(self) -> tuple[str, ...]:
        """See `Action`."""
        return tuple(name for name, _ in self.kept)

    def json(self, before: Json) -> Json:
        """See `Action`."""
        return before


def _with_filled(
    frames: Sequence[pl.DataFrame], told: Sequence[pl.DataFrame], first: int, name: str, filled: pl.Series
) -> list[pl.DataFrame]:
    """The frames with a filled field in them; told: of which events it is, one after the other, from a row on."""
    after = []
    for frame, piece in zip(frames, told, strict=True):
        values, first = filled.slice(first, piece.height), first + piece.height
        if values.null_count() == len(values):
            after.append(frame)
            continue
        if piece.height < frame.height:
            column = column_of(frame, name, filled.dtype)
            # by places, since values of lists cannot be put into a column
            places = pl.int_range(frame.height, dtype=pl.UInt32, eager=True)
            places = put(places, piece[_PLACE], pl.int_range(piece.height, dtype=pl.UInt32, eager=True) + frame.height)
            values = pl.concat([column, values], rechunk=True)[places]
        after.append(frame.with_columns_seq(values.alias(name)))
    return after


def _log_of(frame: pl.DataFrame) -> pl.Expr:
    return (pl.col("#source").cast(pl.UInt32) if "#source" in frame.columns else pl.lit(0, pl.UInt32)).alias(_LOG)


def _numbered(events: Sequence[SomeEvents], before: Mapping[int, Remembered]) -> tuple[list[pl.Series], dict[int, int]]:
    """The numbers of events in their logs, counted over all batches, and how many each log of the batch has now."""
    import numpy as np

    frames = [item.frame.select_seq(ROW, _log_of(item.frame)) for item in events]
    rows = np.concatenate([frame[ROW].to_numpy() for frame in frames])
    logs = np.concatenate([frame[_LOG].to_numpy() for frame in frames])
    order = np.lexsort((rows, logs))
    found, firsts, sizes = np.unique(logs[order], return_index=True, return_counts=True)
    starts = np.array([before[log].events if log in before else 0 for log in found.tolist()], np.int64)
    numbers = np.empty(len(rows), np.int64)
    numbers[order] = np.arange(len(rows)) + np.repeat(starts - firsts, sizes)
    whole = pl.Series(numbers)
    heights = [frame.height for frame in frames]
    starts_of = accumulate(heights, initial=0)
    pieces = [whole.slice(start, height) for start, height in zip(starts_of, heights, strict=False)]
    return pieces, dict(zip(found.tolist(), (starts + sizes).tolist(), strict=True))


def _after(
    counts: Mapping[int, int], before: Mapping[int, Remembered], known: Mapping[int, pl.DataFrame]
) -> dict[int, Remembered]:
    """What is handed on of every log."""
    so_far = {log: one.events for log, one in before.items()} | dict(counts)
    return {log: Remembered(count, known.get(log)) for log, count in so_far.items()}


def remember(context: StepContext, form: forms.Remember) -> Action | None:
    """`remember`: fields as earlier events of the same key had them."""
    good = context.known(("remember", "by"), form.by) and context.known(("remember", "keep"), form.keep)
    for key, names in (("by", form.by), ("keep", form.keep)):
        for name in sorted({name for name in names if names.count(name) > 1}):
            context.report(("remember", key), f"`{name}` stands here twice", "name it once")
            good = False
    for name in form.keep:
        if name in form.by:
            context.report(("remember", "keep"), f"`{name}` is what events are told apart by", "leave it out")
    until: Expression | None = None
    needs: Needs = ()
    if form.until is not None:
        found = context.expression(("remember", "until"), form.until)
        if found is None:
            return None
        until, needs = found
        if until.dtype != pl.Boolean():
            hint = "compare something: `variant = 'closed'`"
            context.report(("remember", "until"), f"`{form.until}` is no condition", hint)
    if not good:
        return None
    kept = tuple((name, context.types[name]) for name in form.keep)
    key_types = tuple(context.types[name] for name in form.by)
    return Remember(tuple(form.by), kept, key_types, form.age, form.events, until, needs)
