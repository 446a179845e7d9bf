"""What a step is in a plan: data, and the base of what it does."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, NamedTuple

import polars as pl

from kinglet.columns.faults import Faults
from kinglet.expressions.compiling import Expression
from kinglet.timestamps.stamps import Reference

if TYPE_CHECKING:
    from kinglet.plan.data import FieldPlan, Plan, Reading

ALWAYS: Mapping[str, pl.DataType] = {
    "raw": pl.String(),
    "time": pl.Datetime("us", "UTC"),
    "line": pl.Int64(),
    "state": pl.String(),
    "variant": pl.String(),
}
"""The columns besides fields that conditions and expressions may use."""
Fields = dict[str, pl.DataType]
Json = frozenset[str]
"""Fields whose text is JSON."""
Needs = tuple[tuple[str, pl.DataType], ...]
"""The fields that an expression uses, and their types at that step."""


class StepAbout(NamedTuple):
    """What a step says of itself to those who show what it did.

    field: that it reads, by `reading` or by the plan of another parser. types: what it converts fields to. reason: for
    which it drops events. hidden: what it does to values that must not be seen, such as `masked`. taken: the fields
    that it takes away where it is done.
    """

    field: str | None = None
    reading: Reading | None = None
    plan: Plan | None = None
    types: tuple[FieldPlan, ...] = ()
    reason: str | None = None
    hidden: str | None = None
    taken: tuple[str, ...] = ()


class Action:
    """What a step does; it holds no state of a run."""

    @property
    def about(self) -> StepAbout:
        """What it says of itself."""
        return StepAbout()

    def act(self, frame: pl.DataFrame, where: pl.Series | None, reference: Reference) -> tuple[pl.DataFrame, Faults]:
        """Events after the step, and what is wrong with them; where: the ones it is done to, None for all.

        frame may lack fields that none of its events have.
        """
        raise NotImplementedError

    def fields(self, before: Fields, always: bool) -> Fields:
        """The fields that events have afterwards; always: whether it is done to all of them."""
        raise NotImplementedError

    @property
    def uses(self) -> tuple[str, ...]:
        """The fields whose values it reads."""
        return ()

    @property
    def gives(self) -> tuple[str, ...]:
        """The fields that it gives values."""
        raise NotImplementedError

    def json(self, before: Json) -> Json:
        """The fields whose text is JSON afterwards, in the events that it is done to."""
        raise NotImplementedError

    def ready(self) -> None:
        """Reads what it needs from files, which is otherwise done when it first acts.

        Raises:
            ParserFileError: a file cannot be read.
        """


class OnTexts(Action):
    """An action that changes the texts of some fields, each in its place."""

    names: tuple[str, ...]

    def fields(self, before: Fields, always: bool) -> Fields:
        """See `Action`."""
        return before | {name: pl.String() for name in self.names if name in before}

    @property
    def uses(self) -> tuple[str, ...]:
        """See `Action`."""
        return self.names

    @property
    def gives(self) -> tuple[str, ...]:
        """See `Action`."""
        return self.names

    def json(self, before: Json) -> Json:
        """See `Action`."""
        return before - {*self.names}


class SomeEvents(NamedTuple):
    """Events of one variant at a step, and which of them it is done to, None for all."""

    frame: pl.DataFrame
    where: pl.Series | None


class Remembered(NamedTuple):
    """What a step has kept of the events of one log so far; events: how many there were."""

    events: int = 0
    known: pl.DataFrame | None = None


class ActsAcross(Action):
    """An action that looks at the events of all variants together, in the order of their logs."""

    def act_across(
        self, events: Sequence[SomeEvents], before: Mapping[int, Remembered]
    ) -> tuple[list[pl.DataFrame], dict[int, Remembered]]:
        """All events of a batch after the step, and what it keeps of each log for the next batch.

        before: what it has kept of the logs of this batch, by their numbers in the column `#source`, 0 where there is
        one log only.
        """
        raise NotImplementedError


class StepPlan(NamedTuple):
    """A step. number counts from 1, steps that are off too.

    condition: which events it is done to; needs: the fields that this uses.
    """

    number: int
    operation: str
    note: str
    action: Action
    when: str | None = None
    condition: Expression | None = None
    needs: Needs = ()

    @property
    def label(self) -> str:
        """How people tell it from others."""
        return f"step {self.number}, {self.operation}" + (f" ({self.note})" if self.note else "")
