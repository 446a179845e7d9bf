"""The step that fills fields of an event with what earlier events of the same key said.

An event of a connection, a session or a process often says only its number; who it is stood in the first one. The
values are kept from batch to batch, bounded by how far back they may lie.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import polars as pl

from kinglet.columns.faults import Faults
from kinglet.columns.put import put
from kinglet.expressions.compiling import Expression
from kinglet.plan.data import ROW
from kinglet.plan.steps import Action, ActsAcross, Fields, Json, Needs, Remembered, SomeEvents
from kinglet.runtime.steps import selected, with_faults
from kinglet.spec import steps as forms
from kinglet.steps.context import StepContext
from kinglet.timestamps.stamps import Reference

_SECOND = 1_000_000
_LOG, _PLACE, _NUMBER, _PART, _ENDS = "log", "place", "number", "part", "ends"


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
        counted = _numbered(events, before)
        frames = [item.frame for item in events]
        told: list[pl.DataFrame] = []
        for i, item in enumerate(events):
            ends, faults = self._ends(item)
            told.append(self._told(i, item, ends))
            frames[i] = with_faults(item.frame, faults)
        told = [piece.join(counted, on=[_LOG, ROW], how="left") for piece in told if piece.height]
        kept = [
            one.known.with_columns(pl.lit(log, pl.UInt32).alias(_LOG))
            for log, one in before.items()
            # a session that goes on with another parser may have kept something else
            if one.known is not None and dict(one.known.schema) == self._kept_schema
        ]
        if not told and not kept:
            return frames, _counts(counted, before, {})
        in_order = pl.concat(told).sort(_LOG, ROW) if told else self._nothing()
        # what earlier batches said goes before all events of this one, as if it stood at the top of the log
        whole = pl.concat([*kept, in_order], how="diagonal").with_row_index("#")
        group = [_LOG, *(f"key:{name}" for name in self.keys)]
        ended = pl.col(_ENDS).fill_null(False).cast(pl.UInt32)
        whole = whole.with_columns((ended.cum_sum().over(group) - ended).alias("stretch"))
        for name, _ in self.kept:
            whole = self._with_source(whole, name, [*group, "stretch"])
            frames = self._filled(frames, whole, name)
        return frames, _counts(counted, before, self._known(whole, group, counted))

    def _ends(self, item: SomeEvents) -> tuple[pl.Series, Faults]:
        """Which events end what is known of their key, and those of which that cannot be told."""
        if self.until is None:
            return pl.Series([False]).new_from_index(0, item.frame.height), []
        ends, faults = selected(item.frame, self.until, self.needs, self.until.names[:1])
        there = item.where if item.where is not None else True
        return ends.fill_null(False), [(name, bad) for name, mask in faults if (bad := mask & there).any()]

    def _told(self, part: int, item: SomeEvents, ends: pl.Series) -> pl.DataFrame:
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
            ends.alias(_ENDS),
            *(pl.col(name).alias(f"key:{name}") for name in self.keys),
            *(
                (pl.col(name) if name in there else pl.lit(None, dtype=dtype)).alias(f"value:{name}")
                for name, dtype in self.kept
            ),
        ]
        # an event without a whole key tells nothing and gets nothing, but counts
        wanted = frame.select(asked).to_series()
        wanted = wanted if item.where is None else wanted & item.where
        return frame.select(columns).filter(wanted)

    @property
    def _kept_schema(self) -> dict[str, pl.DataType]:
        """The columns of what is kept of a log: keys, and of each field its value, its event's number and time."""
        columns = {f"key:{name}": dtype for name, dtype in zip(self.keys, self.key_types, strict=True)}
        for name, dtype in self.kept:
            columns |= {f"value:{name}": dtype, f"{_NUMBER}:{name}": pl.Int64(), f"time:{name}": pl.Int64()}
        return columns

    def _nothing(self) -> pl.DataFrame:
        own = {
            _LOG: pl.UInt32,
            ROW: pl.UInt32,
            _PART: pl.UInt32,
            _PLACE: pl.UInt32,
            "time": pl.Int64,
            _ENDS: pl.Boolean,
        }
        keys = {f"key:{name}": dtype for name, dtype in zip(self.keys, self.key_types, strict=True)}
        values = {f"value:{name}": dtype for name, dtype in self.kept}
        return pl.DataFrame(schema={**own, **keys, **values, _NUMBER: pl.Int64})

    def _with_source(self, whole: pl.DataFrame, name: str, group: list[str]) -> pl.DataFrame:
        """Adds where the value of a field stands that events of the key have so far: its row, its number, its time."""
        value, number, time = (f"{what}:{name}" for what in ("value", _NUMBER, "time"))
        # the row it stands in leads to value, number and time alike, of whatever type
        row = pl.when(pl.col(value).is_not_null()).then(pl.col("#")).forward_fill().over(group)
        known = whole.with_columns(row.alias(f"row:{name}"))
        for column, own in ((number, _NUMBER), (time, "time")):
            column_or_own = pl.coalesce(column, own) if column in known.columns else pl.col(own)
            known = known.with_columns(column_or_own.gather(pl.col(f"row:{name}")).alias(column))
        return known

    def _filled(self, frames: list[pl.DataFrame], whole: pl.DataFrame, name: str) -> list[pl.DataFrame]:
        """The frames with a field filled where it was empty and what is known of it is not too far back."""
        value = whole[f"value:{name}"]
        back = pl.col(_NUMBER) - pl.col(f"{_NUMBER}:{name}")
        older = (pl.col("time") - pl.col(f"time:{name}")).abs()
        fills = whole.filter(
            pl.col(_PART).is_not_null()
            & pl.col(f"value:{name}").is_null()
            & (back <= self.events)
            & (older <= int(self.age * _SECOND)).fill_null(True)
        )
        for part in fills[_PART].unique().to_list():
            found, frame = fills.filter(pl.col(_PART) == part), frames[part]
            nothing = pl.Series(name, [None], dtype=value.dtype).new_from_index(0, frame.height)
            column = frame[name] if name in frame.columns else nothing
            # by places, since values of lists cannot be put into a column
            places = pl.int_range(frame.height, dtype=pl.UInt32, eager=True)
            places = put(places, found[_PLACE], pl.int_range(len(found), dtype=pl.UInt32, eager=True) + frame.height)
            filled = pl.concat([column, value.gather(found[f"row:{name}"])]).gather(places)
            frames[part] = frame.with_columns(filled.alias(name))
        return frames

    def _known(self, whole: pl.DataFrame, group: list[str], counted: pl.DataFrame) -> dict[int, pl.DataFrame]:
        """What the last event of each key has left, by log."""
        # an event that ends its key leaves nothing behind
        last = whole.group_by(group, maintain_order=True).last().filter(~pl.col(_ENDS).fill_null(False))
        if not last.height:
            return {}
        ahead = counted.group_by(_LOG).agg((pl.col(_NUMBER).max() + 1).alias("ahead"))
        last = last.join(ahead, on=_LOG, how="left")
        columns = [pl.col(name) for name in group]
        there = []
        for name, _ in self.kept:
            near = (pl.col("ahead").fill_null(0) - pl.col(f"{_NUMBER}:{name}") <= self.events).fill_null(False)
            there.append(near)
            value = whole[f"value:{name}"].gather(last[f"row:{name}"]).alias(f"value:{name}")
            last = last.with_columns(value)
            columns += [
                pl.when(near).then(pl.col(f"{what}:{name}")).alias(f"{what}:{name}")
                for what in ("value", _NUMBER, "time")
            ]
        kept = last.filter(pl.any_horizontal(there)).select(columns)
        logs = kept[_LOG].unique().to_list()
        return {log: kept.filter(pl.col(_LOG) == log).drop(_LOG) for log in logs}

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


def _log_of(frame: pl.DataFrame) -> pl.Expr:
    return (pl.col("#source").cast(pl.UInt32) if "#source" in frame.columns else pl.lit(0, pl.UInt32)).alias(_LOG)


def _numbered(events: Sequence[SomeEvents], before: Mapping[int, Remembered]) -> pl.DataFrame:
    """The number of each event in its log, counted over all batches."""
    rows = pl.concat([item.frame.select(_log_of(item.frame), pl.col(ROW)) for item in events]).sort(_LOG, ROW)
    starts = pl.DataFrame(
        {_LOG: list(before), "start": [one.events for one in before.values()]},
        schema={_LOG: pl.UInt32, "start": pl.Int64},
    )
    number = pl.int_range(pl.len(), dtype=pl.Int64).over(_LOG) + pl.col("start").fill_null(0)
    return rows.join(starts, on=_LOG, how="left", maintain_order="left").select(_LOG, ROW, number.alias(_NUMBER))


def _counts(
    counted: pl.DataFrame, before: Mapping[int, Remembered], known: Mapping[int, pl.DataFrame]
) -> dict[int, Remembered]:
    after = {log: Remembered(one.events, known.get(log)) for log, one in before.items()}
    for log, number in counted.group_by(_LOG).agg(pl.col(_NUMBER).max()).iter_rows():
        after[log] = Remembered(number + 1, known.get(log))
    return after


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
