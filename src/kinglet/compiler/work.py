"""What the passes of the compiler hand on."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import polars as pl

from kinglet.ocsf.mapping import MappingPlan
from kinglet.ocsf.schema import Model
from kinglet.plan.data import (
    Reading,
    TimeRulePlan,
)
from kinglet.plan.readings import Context
from kinglet.spec.schema import ParserFile

if TYPE_CHECKING:
    from kinglet.plan.data import Plan
    from kinglet.plan.steps import StepPlan


@dataclass(kw_only=True)
class Build(Context):
    """What the passes hand on."""

    definition: ParserFile
    above: tuple[str, ...] = ()
    like: Plan | None = None
    steps: tuple[StepPlan, ...] = ()
    all_fields: dict[str, pl.DataType] = field(default_factory=dict)
    json: frozenset[str] = frozenset()
    times: list[TimeRulePlan] = field(default_factory=list)
    envelope: Reading | None = None
    body: str | None = None
    readings: list[Reading | None] = field(default_factory=list)
    fields: dict[str, pl.DataType] = field(default_factory=dict)
    owners: dict[str, str] = field(default_factory=dict)
    holds: dict[str, str] = field(default_factory=dict)
    mappings: list[tuple[MappingPlan, ...]] = field(default_factory=list)
    keeps_body: list[bool] = field(default_factory=list)
    class_numbers: list[pl.Expr | None] = field(default_factory=list)
    unread: MappingPlan | None = None
    model: Model | None = None
    maps: bool = True
