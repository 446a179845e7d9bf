"""The steps of a parser, done to events one after the other."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import NamedTuple

import polars as pl

from kinglet.columns.faults import Faults, fault_lists
from kinglet.columns.put import put, rows_where
from kinglet.expressions import evaluating
from kinglet.expressions.compiling import Expression
from kinglet.plan.steps import Needs, StepPlan
from kinglet.timestamps.stamps import Reference

MOST_BYTES = 65_536
"""A text that a step makes may have so many bytes, or four times those of the event, if that is more."""


def apply(steps: Sequence[StepPlan], frame: pl.DataFrame, reference: Reference) -> pl.DataFrame:
    """Events after all steps."""
    for step in steps:
        frame = apply_one(step, frame, reference)
    return frame


def apply_one(step: StepPlan, frame: pl.DataFrame, reference: Reference) -> pl.DataFrame:
    """Events after a step. Dropped events stay as they are."""
    where, failed = _where(step, frame)
    if where is not None and not where.any():
        return with_faults(frame, failed)
    raw = frame["raw"]
    frame, faults = step.action.act(frame, where, reference)
    frame, long = _bounded(frame, step.action.gives, raw)
    faults = [(name, bad if where is None else bad & where) for name, bad in (*faults, *long)]
    return with_faults(frame, [(name, bad) for name, bad in (*faults, *failed) if bad.any()])


def done_to(step: StepPlan, frame: pl.DataFrame) -> tuple[pl.DataFrame, pl.Series | None]:
    """The events a step is done to, None for all, and with their faults those of which that cannot be told."""
    where, failed = _where(step, frame)
    return with_faults(frame, failed), where


def _where(step: StepPlan, frame: pl.DataFrame) -> tuple[pl.Series | None, Faults]:
    """The events that a step is done to, None for all, and those of which its condition cannot be told."""
    where = frame["state"] != "dropped"
    faults: Faults = []
    if step.condition is not None:
        found, bad = selected(frame, step.condition, step.needs, next(iter(step.condition.names), None))
        faults = [(name, mask & where) for name, mask in bad]
        faults = [(name, mask) for name, mask in faults if mask.any()]
        where = where & found.fill_null(False)
    return None if where.all() else where, faults


class Asked(NamedTuple):
    """An expression, the fields that it uses, and the field that a fault of it names.

    blamed: that which a failing piece reads unless given.
    """

    expression: Expression
    needs: Needs
    blamed: str | None = None


Answer = tuple[pl.Series, Faults]
"""The value of an expression for each event, fields that they lack being null, and the events in which it fails."""


def selected(frame: pl.DataFrame, expression: Expression, needs: Needs, blamed: str | None = None) -> Answer:
    """What one expression gives."""
    (answer,) = answers(frame, [Asked(expression, needs, blamed)])
    return answer


def answers(frame: pl.DataFrame, asked: Sequence[Asked]) -> list[Answer]:
    """What expressions give, of events as they are before any of them."""
    # speed: what reads only fields that none of the events has is the same for all
    alike = [frame.height > 1 and not any(name in frame.columns for name, _ in one.needs) for one in asked]
    first = iter(_answers(frame.head(1), [one for one, same in zip(asked, alike, strict=True) if same]))
    others = iter(_answers(frame, [one for one, same in zip(asked, alike, strict=True) if not same]))
    return [_for_all(next(first), frame.height) if same else next(others) for same in alike]


def _for_all(answer: Answer, height: int) -> Answer:
    value, bad = answer
    return value.new_from_index(0, height), [(name, mask.new_from_index(0, height)) for name, mask in bad]


def _answers(frame: pl.DataFrame, asked: Sequence[Asked]) -> list[Answer]:
    if not asked:
        return []
    known = _needed(frame, {name: dtype for one in asked for name, dtype in one.needs})
    # speed: all in one go
    values = [
        (f"{number}:{test}", value, dtype)
        for number, one in enumerate(asked)
        for test, (value, dtype) in enumerate(
            [(one.expression.value, one.expression.dtype), *((test, pl.Boolean()) for _, test in one.expression.fails)]
        )
    ]
    found, wrong = evaluating.columns(known, values)
    return [_answer(found, wrong, one, str(number)) for number, one in enumerate(asked)]


def _needed(frame: pl.DataFrame, needs: Mapping[str, pl.DataType]) -> pl.DataFrame:
    """Fields of events as expressions see them, those that the events lack being null."""
    columns = [column_of(frame, name, dtype) for name, dtype in needs.items()]
    columns = [column.cast(pl.String) if column.name == "state" else column for column in columns]
    return pl.DataFrame(columns) if columns else frame


def _answer(found: pl.DataFrame, wrong: Mapping[str, pl.Series], asked: Asked, number: str) -> Answer:
    expression, blamed = asked.expression, asked.blamed
    masks: dict[str, pl.Series] = {}
    for test, (name, _) in enumerate(expression.fails, 1):
        mask, fault = found[f"{number}:{test}"].fill_null(False), f"bad-value:{blamed or name}"
        masks[fault] = masks[fault] | mask if fault in masks else mask
    bad = wrong.get(f"{number}:0")
    if bad is not None:
        fault = f"bad-value:{blamed or next(iter(expression.names), 'value')}"
        masks[fault] = masks[fault] | bad if fault in masks else bad
    return found[f"{number}:0"].alias(""), list(masks.items())


def computed(frame: pl.DataFrame, where: pl.Series | None, asked: Sequence[Asked]) -> list[Answer]:
    """What expressions give where a step is done, null elsewhere.

    Events to which it is not done are not computed: a condition guards its step.
    """
    if where is None:
        return answers(frame, asked)
    rows, height = where.arg_true(), frame.height
    return [
        (_at(rows, value, height), [(name, _at(rows, mask, height).fill_null(False)) for name, mask in bad])
        for value, bad in answers(rows_where(frame, where), asked)
    ]


def _at(rows: pl.Series, values: pl.Series, height: int) -> pl.Series:
    """Values at some rows, null at the others."""
    return put(pl.Series("", [None], dtype=values.dtype).new_from_index(0, height), rows, values)


def _bounded(frame: pl.DataFrame, names: Sequence[str], raw: pl.Series) -> tuple[pl.DataFrame, Faults]:
    """Events without the texts that a step made longer than any event's text needs; steps may double them forever."""
    faults: Faults = []
    texts = [name for name in dict.fromkeys(names) if name in frame.columns and frame.schema[name] == pl.String()]
    if not texts:
        return frame, faults
    lengths = frame.select_seq(pl.col(texts).str.len_bytes().max())
    for name, most in zip(texts, lengths.row(0), strict=True):
        if isinstance(most, int) and most > MOST_BYTES:
            allowed = pl.select(pl.max_horizontal(raw.str.len_bytes().fill_null(0) * 4, MOST_BYTES)).to_series()
            long = (frame[name].str.len_bytes() > allowed).fill_null(False)
            if long.any():
                frame = frame.with_columns_seq(frame[name].set(long, None))
                faults.append((f"too-long:{name}", long))
    return frame, faults


def with_faults(frame: pl.DataFrame, faults: Faults) -> pl.DataFrame:
    """Events with further faults; a complete one that has any is partial."""
    if not faults or not frame.height:
        return frame
    lists = fault_lists(faults)
    bad = lists.list.len() > 0
    had = frame["faults"].list.len() > 0
    if had.any():
        lists = _both(frame["faults"], had, lists, (had & bad).arg_true())
    state = frame["state"].zip_with(~(bad & (frame["state"] == "complete")), _state("partial", frame))
    return frame.with_columns_seq(lists, state)


def _both(before: pl.Series, had: pl.Series, now: pl.Series, rows: pl.Series) -> pl.Series:
    """Two columns of lists as one; had: where the first has any, rows: where both have, which few events are."""
    height = len(now)
    # to choose rows of one column costs the engine a tenth of choosing between two
    at = pl.int_range(height, dtype=pl.UInt32, eager=True) + (~had).cast(pl.UInt32) * height
    columns = [before, now]
    if len(rows):
        some = pl.DataFrame([before[rows].alias("before"), now[rows].alias("now")])
        columns.append(some.select_seq(pl.concat_list("before", "now").alias(before.name)).to_series())
        at = put(at, rows, pl.int_range(2 * height, 2 * height + len(rows), dtype=pl.UInt32, eager=True))
    return pl.concat(columns, rechunk=True)[at]


def _state(name: str, frame: pl.DataFrame) -> pl.Series:
    return pl.Series("state", [name], dtype=frame.schema["state"])


def placed(frame: pl.DataFrame, name: str, value: pl.Series, where: pl.Series | None) -> pl.DataFrame:
    """Events with a field that has a new value, in all of them or where it is said."""
    return all_placed(frame, {name: value}, where)


def all_placed(frame: pl.DataFrame, values: Mapping[str, pl.Series], where: pl.Series | None) -> pl.DataFrame:
    """Events with fields that have new values, in all of them or where it is said."""
    columns = [
        value if where is None else value.zip_with(where, column_of(frame, name, value.dtype))
        for name, value in values.items()
    ]
    return frame.with_columns_seq(column.alias(name) for name, column in zip(values, columns, strict=True))


def column_of(frame: pl.DataFrame, name: str, dtype: pl.DataType) -> pl.Series:
    """A field of events, null where they lack it."""
    if name in frame.columns:
        return frame[name]
    return pl.Series(name, [None], dtype=dtype).new_from_index(0, frame.height)
