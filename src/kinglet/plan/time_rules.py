"""The `time` and `clock` sections of a parser file to a plan's time rules."""

from __future__ import annotations

import zoneinfo
from collections.abc import Callable, Mapping

import polars as pl

from kinglet.errors import did_you_mean, parts_of
from kinglet.plan.data import DTYPES, Limits, TimeRulePlan, name_problem
from kinglet.regex.dialect import RegexError, check_regex
from kinglet.spec.document import Document, KeyPath
from kinglet.spec.schema import Clock, DateFrom, ParserFile, TimeRule, ZoneFrom
from kinglet.timestamps.formats import Format, counted, parse_format
from kinglet.timestamps.reading import ISO, PIVOT, TimeReading
from kinglet.timestamps.reference_time import as_moment, as_span, is_moment
from kinglet.timestamps.search import Search
from kinglet.timestamps.zones import configured_zone, find_zone

Report = Callable[..., None]


def limits(clock: Clock) -> Limits:
    latest = as_span(clock.latest)
    return Limits(as_moment(clock.earliest), as_moment(clock.latest) if latest is None else latest)


def rules(definition: ParserFile, document: Document, report: Report) -> list[TimeRulePlan]:
    """The rules, as far as they can be built before the fields are known."""
    table = tuple((name.upper(), meaning) for name, meaning in definition.clock.zones.items())
    for name, meaning in definition.clock.zones.items():
        if find_zone(meaning) is None:
            report(("clock", "zones", name), f"no such zone `{meaning}`", _zone_hint(meaning))
    _check_zone(definition.clock.zone, table, ("clock", "zone"), report)
    found: list[TimeRulePlan] = []
    labels: dict[str, int] = {}
    for rule, path in zip(definition.time, paths(definition, document), strict=True):
        plan = _rule(rule, path, table, definition.clock, report)
        count = labels[plan.label] = labels.get(plan.label, 0) + 1
        if any((plan.slot, plan.field, plan.searches) == (other.slot, other.field, other.searches) for other in found):
            report((*path, "from"), f"`{rule.from_}` has a rule already", "give one rule all its formats")
        found.append(plan._replace(label=f"{plan.label} ({count})") if count > 1 else plan)
    return found


def bare(clock: Clock) -> TimeReading:
    """How stamps in slots are read for which there is no rule."""
    table = tuple((name.upper(), meaning) for name, meaning in clock.zones.items())
    return ISO._replace(zone=clock.zone, zones=table)


def paths(definition: ParserFile, document: Document) -> list[KeyPath]:
    """Where each rule stands in the file; a single one may be the section itself."""
    listed = isinstance(document.values.get("time"), list)
    return [("time", i) if listed else ("time",) for i in range(len(definition.time))]


def shapes(plans: list[TimeRulePlan]) -> dict[str, str]:
    """The regex of each slot that holds a stamp and nothing else."""
    found: dict[str, list[str]] = {}
    for plan in plans:
        for slot, shape in plan.slot_shapes:
            found.setdefault(slot, []).append(shape)
        if plan.slot is not None and not plan.searches and not plan.slot_shapes:
            found.setdefault(plan.slot, []).extend(fmt.shape for fmt in plan.reading.formats)
    return {slot: one_of(regexes) for slot, regexes in found.items()}


def one_of(regexes: list[str]) -> str:
    once = list(dict.fromkeys(regexes))
    return once[0] if len(once) == 1 else f"(?:{'|'.join(once)})"


def _rule(
    rule: TimeRule, path: KeyPath, table: tuple[tuple[str, str], ...], clock: Clock, report: Report
) -> TimeRulePlan:
    formats: list[Format] = []

    def add(key: str, make: Callable[[], Format]) -> Format | None:
        try:
            return make()
        except ValueError as error:
            report((*path, key), *parts_of(error))
            return None

    date = next((source for source in rule.date if isinstance(source, DateFrom)), None)
    shapes_of: list[tuple[str, str]] = []
    if rule.since is not None and rule.unit is not None:
        since, unit = rule.since, rule.unit
        formats = [fmt for fmt in [add("unit" if is_moment(since) else "since", lambda: counted(since, unit))] if fmt]
    elif date is not None and rule.from_ is not None:
        for text in rule.format:
            clock_format = add("format", lambda text=text: parse_format(text))  # type: ignore[misc]
            for day in date.format:
                day_format = add("date", lambda day=day: parse_format(day))  # type: ignore[misc]
                if clock_format is None or day_format is None:
                    continue
                if clock_format.has_date or not day_format.has_date or not day_format.forms or not clock_format.forms:
                    hint = "the slot `from` holds the time of day, that of `date` the day, both in directives"
                    report((*path, "date"), f"{day!r} and {text!r} are no day and time of day", hint)
                    continue
                shapes_of += [(rule.from_, clock_format.shape), (date.from_, day_format.shape)]
                whole = add("format", lambda day=day, text=text: parse_format(f"{day} {text}"))  # type: ignore[misc]
                formats += [whole] if whole is not None else []
    else:
        formats = [fmt for text in rule.format if (fmt := add("format", lambda text=text: parse_format(text)))]  # type: ignore[misc]
    undated = [fmt.text for fmt in formats if not fmt.has_date]
    dates = ["event"] if rule.to else ["previous", "file"]
    if undated and not rule.date:
        wanted = " or ".join(f"`date: {word}`" for word in dates)
        report((*path, "format"), f"{undated[0]!r} reads no date", f"add {wanted}, or a month and a day to the format")
    elif wrong := [word for word in rule.date if word not in dates and date is None]:
        of = "a further stamp takes its date from the event" if rule.to else "the event's time cannot come from itself"
        report(
            (*path, "date"),
            f"`{wrong[0]}` does not go here: {of}",
            "write " + " or ".join(f"`{word}`" for word in dates),
        )
    elif rule.date and formats and not undated and date is None:
        report((*path, "date"), "every format of this rule reads a date", "leave `date` out")
    zone = rule.zone if isinstance(rule.zone, str) else clock.zone
    if isinstance(rule.zone, str):
        _check_zone(rule.zone, table, (*path, "zone"), report)
    if rule.after is not None:
        try:
            check_regex(rule.after)
        except RegexError as error:
            report((*path, "after"), error.message, error.hint, offset=max(error.offset, 0), excerpt=rule.after)
    searches: tuple[Search, ...] = ()
    if rule.after is not None or rule.find is not None:
        shapes = [fmt.search_shape for fmt in sorted(formats, key=_parts, reverse=True)]
        regexes = (one_of(shapes[i:]) for i in range(len(shapes)))
        searches = tuple(
            Search(
                shape,
                rule.after,
                rule.find == "start",
                rule.within,
                is_count=any(fmt.epoch for fmt in formats),
                has_zone=isinstance(rule.zone, ZoneFrom),
                has_year=all(fmt.has_year or not fmt.has_date for fmt in formats),
            )
            for shape in regexes
        )
    year = rule.year if isinstance(rule.year, int) else None
    pivot = PIVOT if rule.pivot is None else rule.pivot
    return TimeRulePlan(
        label=rule.to or _label(rule),
        slot=rule.from_,
        reading=TimeReading(tuple(formats), zone, year, pivot, table),
        searches=searches,
        zone_slot=rule.zone.from_ if isinstance(rule.zone, ZoneFrom) else None,
        date_slot=date.from_ if date is not None else None,
        slot_shapes=tuple(shapes_of),
        year_of_name=rule.year == "file",
        of_previous="previous" in rule.date,
        of_log="file" in rule.date,
        field=rule.to,
        nanos=rule.nanoseconds,
    )


def _parts(fmt: Format) -> int:
    """How much a format reads; in a search one that reads more goes first, for it may begin like another."""
    return max((len(form.parts) for form in fmt.forms), default=0)


def _label(rule: TimeRule) -> str:
    where = (
        f"after {rule.after}" if rule.after is not None else {"start": "at the start"}.get(rule.find or "", rule.find)
    )
    return " ".join(word for word in (rule.from_, where) if word)


def _check_zone(zone: str | None, table: tuple[tuple[str, str], ...], path: KeyPath, report: Report) -> None:
    if zone is not None and configured_zone(zone, table) is None:
        report(path, f"no such zone `{zone}`", _zone_hint(zone))


def _zone_hint(zone: str) -> str:
    from kinglet.timestamps.zones import means_several

    if means_several(zone, {}):
        return "it stands for several; use an IANA name such as `Atlantic/Azores`, or an offset"
    return did_you_mean(zone, zoneinfo.available_timezones(), "use an IANA name such as `Atlantic/Azores`")


def check_fields(
    plans: list[TimeRulePlan], fields: dict[str, pl.DataType], where: list[KeyPath], report: Report, *, known: bool
) -> None:
    """Judges the slots that rules name, and adds the fields that they give; known: whether all slots are known."""
    slots = dict(fields)
    for plan, path in zip(plans, where, strict=True):
        for key, name in (("from", plan.slot), ("zone", plan.zone_slot), ("date", plan.date_slot)):
            if known and name is not None and name not in slots:
                hint = did_you_mean(name, slots, "the slots are " + ", ".join(slots))
                report((*path, key), f"no pattern has a slot `{name}`", hint)
        for key, name, dtype in (("to", plan.field, DTYPES["time"]), ("nanoseconds", plan.nanos, DTYPES["int"])):
            if name is None:
                continue
            wrong = name_problem(name)
            if wrong is not None:
                report((*path, key), *wrong)
            elif name in slots and (name != plan.slot or key != "to" or plan.searches):
                report((*path, key), f"`{name}` is a slot already", f"call the field `{name}_time`")
            elif not name.isidentifier():
                report((*path, key), f"`{name}` is no name of a field", "use letters, digits and underscores")
            fields[name] = dtype


def given(plans: list[TimeRulePlan], slots: Mapping[str, pl.DataType]) -> dict[str, pl.DataType]:
    """The fields that rules give to events with these slots."""
    found: dict[str, pl.DataType] = {}
    for plan in plans:
        if plan.slot is None or plan.slot in slots:
            found |= {plan.field: DTYPES["time"]} if plan.field else {}
            found |= {plan.nanos: DTYPES["int"]} if plan.nanos else {}
    return found
