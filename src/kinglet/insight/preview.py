"""What `try` shows of a result: chosen events, their values and their faults."""

from __future__ import annotations

import dataclasses
from dataclasses import dataclass
from datetime import datetime
from typing import TYPE_CHECKING, Any

import polars as pl

from kinglet.insight.diagnosis import Diagnosis, reasons
from kinglet.insight.finding import finding, spread
from kinglet.insight.similar_keys import SimilarKey, similar_keys
from kinglet.insight.spans import Span, spans, stamp_place
from kinglet.insight.timeline import Timeline, timeline
from kinglet.names import RESERVED
from kinglet.plan.data import DROPPED
from kinglet.plan.headers import plan_under

if TYPE_CHECKING:
    from kinglet.result import Result


EXAMPLES = 3


@dataclass(frozen=True)
class ShownEvent:
    """An event as it stood in the log, with the characters that became fields.

    stamp: the characters that gave its time, by the rule time_rule; time_notes: what is noted of it.
    """

    line: int
    raw: str
    state: str
    variant: str | None
    spans: list[Span]
    time: datetime | None = None
    stamp: tuple[int, int] | None = None
    time_rule: str | None = None
    time_notes: tuple[str, ...] = ()


@dataclass(frozen=True)
class ShownValues:
    """The values of the first events of a variant: field by field, a column for each event."""

    variant: str
    count: int
    lines: list[int]
    rows: dict[str, list[Any]]


@dataclass(frozen=True)
class ShownFault:
    """A fault, how often it occurs, and events that have it."""

    fault: str
    count: int
    examples: list[tuple[ShownEvent, Diagnosis]]


@dataclass(frozen=True)
class Preview:
    counts: dict[str, int]
    legend: list[str]
    events: list[ShownEvent]
    values: list[ShownValues]
    faults: list[ShownFault]
    times: Timeline | None
    of: int = 0
    """How many events there are of those that were asked for."""
    chosen: pl.DataFrame = dataclasses.field(default_factory=pl.DataFrame)
    """The events that were asked for, or the sample of them."""
    similar: list[SimilarKey] = dataclasses.field(default_factory=list)
    """Keys of fields that no event has, where these have one that is called nearly the same."""


def preview(
    result: Result,
    *,
    show: int = 12,
    only: str | None = None,
    find: str | None = None,
    sample: int | None = None,
    seed: int = 0,
    examples: int = 2,
    zone: str | None = None,
) -> Preview:
    """Chooses what to show: an event of every variant first, then from the top of the log.

    show: how many raw events; only: a state to keep to; find: a text that events have, or a /regex/; sample: so many
    events from all over the log, as the seed chooses; examples: events for each fault; zone: that of the call.

    Raises:
        UsageError: `find` is no regex.
    """
    events = result.events if only is None else result.events.filter(pl.col("state") == only)
    events = events if find is None else events.filter(finding(find))
    of = events.height
    events = events if sample is None else spread(events, sample, seed)
    chosen = _chosen(events, show)
    shown = [_event(result, row) for row in chosen.iter_rows(named=True)]
    times = timeline(result, zone) if result.parser._plan.times else None
    used = {span.field for event in shown for span in event.spans}
    legend = [name for name in result.parser.fields if name in used]
    values, faults = _values(result, events), _faults(result, events, examples)
    similar = similar_keys(result.parser._plan, result.events)
    return Preview(result.counts, legend, shown, values, faults, times, of, events, similar)


def _chosen(events: pl.DataFrame, show: int) -> pl.DataFrame:
    numbered = events.with_row_index("_row")
    firsts = numbered.group_by("variant", maintain_order=True).first().head(show)["_row"].to_list()
    for row in range(min(events.height, show)):
        if len(firsts) >= show:
            break
        if row not in firsts:
            firsts.append(row)
    return events[sorted(firsts)]


def _event(result: Result, row: dict[str, Any]) -> ShownEvent:
    plan = plan_under(result.parser._plan, result.header_of(row["file"], row["line"]))
    found = spans(plan, row["raw"], row["variant"])
    rule = next((rule for rule in plan.times if rule.field is None and rule.label == row["time_rule"]), None)
    return ShownEvent(
        row["line"],
        row["raw"],
        row["state"],
        row["variant"],
        found,
        row["time"],
        stamp_place(rule, row["raw"], found) if rule is not None else None,
        row["time_rule"],
        tuple(row["time_notes"] or ()),
    )


def _values(result: Result, events: pl.DataFrame) -> list[ShownValues]:
    shown: list[ShownValues] = []
    for variant in result.parser._plan.variants:
        group = events.filter(pl.col("variant") == variant.name)
        if not group.height:
            continue
        kept = group.filter(pl.col("state") != "dropped")
        first = (kept if kept.height else group).head(EXAMPLES)
        names = [name for name in events.columns if name not in RESERVED and group[name].null_count() < group.height]
        rows = {name: first[name].to_list() for name in ("time", *names)}
        shown.append(ShownValues(variant.name, group.height, first["line"].to_list(), rows))
    return shown


def _faults(result: Result, events: pl.DataFrame, examples: int) -> list[ShownFault]:
    shown: list[ShownFault] = []
    # what else is wrong with an event that is dropped is nothing to mend
    told = pl.when(pl.col("state") == "dropped").then(
        pl.col("faults").list.eval(pl.element().filter(pl.element().str.starts_with(DROPPED)))
    )
    each = events.with_columns(told.otherwise("faults").alias("faults")).filter(pl.col("faults").list.len() > 0)
    counted = each["faults"].explode().value_counts(sort=True)
    for fault, count in sorted(counted.iter_rows(), key=lambda item: (-item[1], item[0])):
        rows = each.filter(pl.col("faults").list.contains(fault)).head(examples)
        found = []
        for row in rows.iter_rows(named=True):
            plan = plan_under(result.parser._plan, result.header_of(row["file"], row["line"]))
            reason = reasons(plan, row["raw"], row["variant"], [fault])[0]
            found.append((_event(result, row), reason))
        shown.append(ShownFault(fault, count, found))
    return shown
