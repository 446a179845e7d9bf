"""What the times of a parsed log look like together: their range, gaps, steps back, and how they were found."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from typing import TYPE_CHECKING, Any, NamedTuple

import polars as pl

from kinglet.plan.data import TimeRulePlan
from kinglet.timestamps import notes, zones
from kinglet.timestamps.formats import Format

if TYPE_CHECKING:
    from kinglet.result import Result


_GAPS = 3


class Step(NamedTuple):
    """A step from one event to the next in the order of the log; line is that of the second."""

    line: int
    length: timedelta


class RuleShare(NamedTuple):
    """How many times a rule gave, and how it reads them; order: what its stamps show of day and month."""

    rule: str
    events: int
    formats: list[str]
    zone: str
    order: str = ""


class NoteShare(NamedTuple):
    """How often something is noted of a time, and the line where it is first."""

    note: str
    events: int
    line: int
    about: str


class Timeline(NamedTuple):
    """The times of a log's events.

    zone: the zone of stamps that carry none. steps_back: how often a time lies before that of the
    event before; back: the longest such step. at_arrival: events whose time is the reference of
    their log. changes: when the clocks of the zone change within the range, and by how much.
    """

    events: int
    with_time: int
    zone: str
    first: datetime | None
    last: datetime | None
    rules: list[RuleShare]
    gaps: list[Step]
    steps_back: int
    back: Step | None
    at_arrival: int
    reference: datetime | None
    notes: list[NoteShare]
    changes: list[tuple[datetime, timedelta]]


def timeline(result: Result, zone: str | None = None) -> Timeline:
    """Sums up the times of a result; zone: that of the call."""
    plan = result.parser._plan
    events = result.events
    known = events.filter(pl.col("time").is_not_null()).select("line", "time", "time_rule", "time_notes", "raw", "file")
    times = known["time"]
    local = result.parser._definition.clock.zone or _zone_of_rules(plan.times) or zone or "UTC"
    first, last = times.min(), times.max()
    first = first if isinstance(first, datetime) else None
    last = last if isinstance(last, datetime) else None
    gaps, steps_back, back = _steps(known)
    references = dict(_references(result))
    reference = next(iter(references.values()), None)
    arrived = known.filter(
        pl.col("time") == pl.col("file").replace_strict(references, default=None, return_dtype=times.dtype)
    )
    return Timeline(
        events.height,
        known.height,
        local,
        first,
        last,
        list(_rules(result, known, local, reference or datetime.now(UTC))),
        gaps,
        steps_back,
        back,
        arrived.height,
        reference,
        list(_notes(known)),
        _changes(local, first, last),
    )


def _references(result: Result) -> Iterator[tuple[str, datetime]]:
    """The reference of each log by its name."""
    for batch in result.batches:
        for i, source in enumerate(batch.sources):
            yield source.name, batch.reference[i] if isinstance(batch.reference, pl.Series) else batch.reference


def _zone_of_rules(rules: tuple[TimeRulePlan, ...]) -> str | None:
    return next((rule.reading.zone for rule in rules if rule.field is None and rule.reading.zone), None)


def _rules(result: Result, known: pl.DataFrame, local: str, reference: datetime) -> Iterator[RuleShare]:
    events = result.events
    for rule in result.parser._plan.times:
        if rule.field is not None:
            continue
        mine = known.filter(pl.col("time_rule") == rule.label)
        texts = events[rule.slot] if rule.slot is not None and rule.slot in events.columns else events["raw"]
        if rule.searches and texts.dtype == pl.String:
            texts = rule.searches[0].texts(texts)
        orders_found = ""
        if texts.dtype == pl.String:
            lines = events["line"]
            orders = (_order(texts, lines, fmt, rule, reference) for fmt in rule.reading.formats if "%m" in fmt.text)
            orders_found = "; ".join(order for order in orders if order)
        zone = "in the text" if all(fmt.has_zone for fmt in rule.reading.formats) else rule.reading.zone or local
        if all(fmt.epoch for fmt in rule.reading.formats):
            zone = ""
        elif rule.zone_slot is not None:
            zone = f"in `{rule.zone_slot}`"
        yield RuleShare(rule.label, mine.height, [fmt.text for fmt in rule.reading.formats], zone, orders_found)


def _order(texts: pl.Series, lines: pl.Series, fmt: Format, rule: TimeRulePlan, reference: datetime) -> str:
    """Whether the stamps bear out that day or month stands first, as the format has it."""
    from kinglet.timestamps.ambiguity import decide, first_of

    first = first_of(fmt)
    if first is None:
        return ""
    readable = texts.str.contains(fmt.forms[0].regex).fill_null(False)
    if not readable.any():
        return ""
    found = decide(texts.filter(readable), lines.filter(readable), fmt, rule.reading, reference)
    if found.first is None:
        return f"{first} first, as the parser says; the stamps do not show it: {found.reason}"
    if found.first == first:
        return f"{first} first, as the parser says: {found.reason}"
    return f"{first} first, as the parser says, but the stamps say {found.first} first: {found.reason}"


def _steps(known: pl.DataFrame) -> tuple[list[Step], int, Step | None]:
    """The longest gaps, and the steps back, between events of one log."""
    steps = known.with_columns(pl.col("time").diff().over("file").alias("step")).filter(pl.col("step").is_not_null())
    ahead = steps.filter(pl.col("step") > 0).top_k(_GAPS, by="step")
    behind = steps.filter(pl.col("step") < 0)
    gaps = [Step(line, length) for line, length in ahead.select("line", "step").iter_rows()]
    longest = behind.bottom_k(1, by="step").select("line", "step").rows()
    return gaps, behind.height, Step(*longest[0]) if longest else None


def _notes(known: pl.DataFrame) -> Iterator[NoteShare]:
    about = {note.name: note.about for note in notes.NOTES}
    each = known.select("line", pl.col("time_notes").alias("note")).explode("note").drop_nulls()
    counted = each.group_by("note").agg(pl.len().alias("events"), pl.col("line").min())
    for name, count, line in sorted(counted.iter_rows(), key=lambda row: (row[2], row[0])):
        yield NoteShare(name, count, line, about.get(name.rpartition(":")[2], ""))


def _changes(zone: str, first: datetime | None, last: datetime | None) -> list[tuple[datetime, timedelta]]:
    """The moments within a range at which the clocks of a zone change."""
    if first is None or last is None or not zones.is_zone(zone) or last.year - first.year > 50:
        return []
    start = datetime(1970, 1, 1, tzinfo=UTC)
    found = [change for year in range(first.year, last.year + 1) for change in zones.changes(zone, year)]
    moments = [
        (start + timedelta(microseconds=item.at), timedelta(microseconds=item.after - item.before)) for item in found
    ]
    return [(at, by) for at, by in moments if first - timedelta(hours=2) <= at <= last + timedelta(hours=2)]


def json_values(found: Timeline) -> dict[str, Any]:
    """A timeline as JSON can hold it; lengths in seconds."""
    return {
        "events": found.events,
        "with_time": found.with_time,
        "zone": found.zone,
        "first": found.first,
        "last": found.last,
        "rules": [item._asdict() for item in found.rules],
        "gaps": [{"line": step.line, "seconds": step.length.total_seconds()} for step in found.gaps],
        "steps_back": found.steps_back,
        "longest_step_back": {"line": found.back.line, "seconds": found.back.length.total_seconds()}
        if found.back
        else None,
        "at_arrival": found.at_arrival,
        "reference": found.reference,
        "notes": [item._asdict() for item in found.notes],
        "clock_changes": [{"at": at, "seconds": by.total_seconds()} for at, by in found.changes],
    }
