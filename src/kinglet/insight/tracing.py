"""An event before and after every step, and what a log would be without one of them."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Any, NamedTuple

import polars as pl

from kinglet.errors import UsageError
from kinglet.names import RESERVED
from kinglet.output.views import FieldsView
from kinglet.plan.data import ROW, Plan
from kinglet.plan.steps import ActsAcross, StepPlan
from kinglet.runtime.parsed import Parsed, VariantEvents
from kinglet.runtime.steps import apply_one

if TYPE_CHECKING:
    from kinglet.calls import ReferenceTime
    from kinglet.parser import Parser
    from kinglet.result import Result
    from kinglet.source.logs import Given


class FieldChange(NamedTuple):
    """A field that a step changed; None before one that it made, and after one that it removed."""

    field: str
    before: Any
    after: Any


class TraceStage(NamedTuple):
    """An event after a step, and what the step did to it.

    done: whether the step's condition chose the event. size: bytes of the event as a line of JSON, 0 for one
    that is dropped.
    """

    step: StepPlan
    done: bool
    changes: tuple[FieldChange, ...]
    state: str
    faults: tuple[str, ...]
    size: int


class Trace(NamedTuple):
    """An event from what was read of it to what goes out; size: before any step."""

    line: int
    raw: str
    variant: str | None
    state: str
    fields: dict[str, Any]
    size: int
    stages: tuple[TraceStage, ...]


def trace(
    parser: Parser,
    log: Given,
    line: int,
    *,
    reference_time: ReferenceTime = None,
    zone: str | None = None,
    encoding: str | None = None,
) -> Trace:
    """What the steps of a parser do to the event that has a line of a log; the options are those of `Parser.parse`.

    Raises:
        InputError: the log cannot be read.
        UsageError: no event has this line.
    """
    return traced(
        parser, lambda some: some.parse(log, reference_time=reference_time, zone=zone, encoding=encoding), line
    )


def traced(parser: Parser, parsed_by: Callable[[Parser], Result], line: int) -> Trace:
    """What the steps of a parser do to the event that has a line of a log; parsed_by: parses the log with fewer steps.

    Raises:
        UsageError: no event has this line.
    """
    parsed, part, row = _found(parsed_by(parser.with_steps(until=0)), line)
    frame = part.frame[row]
    plan = parser._plan
    before = _fields(frame)
    first = frame.row(0, named=True)
    size = start = _size(plan, parsed, part, frame)
    stages: list[TraceStage] = []
    for step in plan.steps:
        if isinstance(step.action, ActsAcross):  # which needs the events before this one
            _, all_of_it, place = _found(parsed_by(parser.with_steps(until=step.number)), line)
            after = _changed(frame, all_of_it.frame[place], step.action.gives)
        else:
            after = apply_one(step, frame, parsed.reference)
        now = _fields(after)
        changes = [FieldChange(name, before.get(name), now.get(name)) for name in dict.fromkeys((*before, *now))]
        changed = tuple(change for change in changes if change.before != change.after)
        event = after.row(0, named=True)
        size = 0 if event["state"] == "dropped" else _size(plan, parsed, part, after)
        done = after is not frame
        stages.append(TraceStage(step, done, changed, event["state"], tuple(event["faults"]), size))
        frame, before = after, now
    fields = _fields(part.frame[row])
    return Trace(first["line"], first["raw"], first["variant"], first["state"], fields, start, tuple(stages))


def _changed(frame: pl.DataFrame, after: pl.DataFrame, names: Sequence[str]) -> pl.DataFrame:
    """An event with fields as they are afterwards; the same frame where none differs."""
    new = [after[name] for name in (*names, "state", "faults") if name in after.columns]
    differs = [column for column in new if column.to_list() != _values(frame, column.name)]
    return frame.with_columns(differs) if differs else frame


def _values(frame: pl.DataFrame, name: str) -> list[Any]:
    return frame[name].to_list() if name in frame.columns else [None]


def _found(bare: Result, line: int) -> tuple[Parsed, VariantEvents, int]:
    """The first event that has a line, and where it is."""
    within = (pl.col("line") <= line) & (pl.col("line") + pl.col("raw").str.count_matches("\n", literal=True) >= line)
    for parsed in bare.batches:
        found = [
            (part.frame[ROW][place], part, place)
            for part in parsed.parts
            for place in part.frame.select(within).to_series().arg_true().head(1).to_list()
        ]
        if found:
            _, part, place = min(found, key=lambda item: item[0])
            return parsed, part, place
    lines = bare.events.select(first="line", last=pl.col("line") + pl.col("raw").str.count_matches("\n", literal=True))
    first, last = lines.select(pl.col("first").min(), pl.col("last").max()).row(0)
    raise UsageError(f"no event has line {line}", f"those read have lines {first:,} to {last:,}")


def _fields(frame: pl.DataFrame) -> dict[str, Any]:
    """The fields of an event that have a value, and its raw text."""
    event = frame.row(0, named=True)
    hidden = {*RESERVED, ROW} - {"raw", "time"}
    return {name: value for name, value in event.items()
            if value is not None and name not in hidden and not name.startswith("#")}  # fmt: skip


def _size(plan: Plan, parsed: Parsed, part: VariantEvents, frame: pl.DataFrame) -> int:
    whole = plan._replace(fields=plan.all_fields)
    alone = dataclasses.replace(parsed, plan=whole, parts=(VariantEvents(part.variant, frame),))
    return int(FieldsView(whole).lines(alone).str.len_bytes().sum()) + 1


class Effect(NamedTuple):
    """A field, in how many events it differs, and the first of them: its line, and both values."""

    field: str
    events: int
    line: int
    before: Any
    after: Any


class Difference(NamedTuple):
    """What a log is with all steps (before) and without one (after); bytes are of lines of JSON."""

    effects: tuple[Effect, ...]
    bytes_before: int
    bytes_after: int


def difference(before: Result, after: Result) -> Difference:
    """In what the events of two results of the same log differ."""
    one, other = before.events, after.events
    effects: list[Effect] = []
    for name in dict.fromkeys((*one.columns, *other.columns)):
        if name in ("parser", "version"):
            continue
        old, new = (_column(frame, name) for frame in (one, other))
        rows = _differing(old, new)
        if len(rows):
            first = int(rows[0])
            effects.append(Effect(name, len(rows), int(one["line"][first]), _value(old, first), _value(new, first)))
    return Difference(tuple(effects), _bytes(before), _bytes(after))


def _differing(old: pl.Series, new: pl.Series) -> pl.Series:
    if old.dtype == new.dtype and not old.dtype.is_nested():
        return old.ne_missing(new).arg_true()
    pairs = zip(old.to_list(), new.to_list(), strict=True)
    return pl.Series([one != other for one, other in pairs], dtype=pl.Boolean).arg_true()


def _value(column: pl.Series, row: int) -> Any:
    value = column[row]
    return value.to_list() if isinstance(value, pl.Series) else value


def _column(frame: pl.DataFrame, name: str) -> pl.Series:
    return frame[name] if name in frame.columns else pl.Series(name, [None]).new_from_index(0, frame.height)


def _bytes(result: Result) -> int:
    view = FieldsView(result.parser._plan)
    return sum(int(view.lines(batch.kept(), "\n").str.len_bytes().sum()) for batch in result.batches)
