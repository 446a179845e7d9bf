"""Cases of events that stand in logs."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import polars as pl

from kinglet.checking.accepting import text_of
from kinglet.drafting.cases import model_of, read_under, whole_case
from kinglet.drafting.editing import inserted, is_listed
from kinglet.drafting.masking import Masks
from kinglet.drafting.writing import case_lines
from kinglet.errors import UsageError
from kinglet.names import RESERVED
from kinglet.parser import Parser, load_text
from kinglet.plan.headers import reads_headers


@dataclass(frozen=True)
class Added:
    """A case that is added, or why it is none: the event's place in its log, and the lines of the case."""

    place: str
    lines: tuple[str, ...] = ()
    why_not: str = ""


def add_cases(parser: Parser, places: Sequence[str], *, mask: bool = False) -> tuple[str, list[Added]]:
    """The text of a parser's file with cases for events of logs, which expect what the parser reads of them now.

    places: each a log and a line of the event, as in `pump.log:17`. mask: whether names, hosts and addresses are
    replaced by stand-ins of the same form, the same ones in all of these cases.

    Raises:
        UsageError: a place is no log and line, or has no event; the list of cases cannot be added to; with stand-ins an
            event is read otherwise.
    """
    text = text_of(parser)
    if not is_listed(text, "cases"):
        raise UsageError(f"{parser._document.name}: `cases` is written on one line", "write a case a line")
    known = {case.raw for case in parser._definition.cases}
    masks = Masks()
    found: list[Added] = []
    for place in places:
        event, header = event_at(parser, place)
        raw = str(event["raw"])
        if mask:
            event = _masked(parser, event, masks, place, header)
        if event["raw"] in known or raw in known:
            found.append(Added(place, why_not="is a case already"))
            continue
        known.add(str(event["raw"]))
        event, before = _with_before(parser, event, place) if header is None else (event, [])
        case = whole_case(parser, event)
        if before:
            case = {"raw": case.pop("raw"), "before": before, **case}
        if header is not None:
            case["header"] = header
        if parser._definition.maps:
            case["model"] = model_of(parser, case["raw"], case.get("at"), before, header)
        lines = tuple(case_lines(case))
        text = inserted(text, "cases", lines)
        found.append(Added(place, lines))
    load_text(text, parser._document.name)  # what is written can be read
    return text, found


_MOST_BEFORE = 3


def _with_before(parser: Parser, event: dict[str, Any], place: str) -> tuple[dict[str, Any], list[str]]:
    """An event as it is read by itself, or behind the events of its log from which a step remembers what it lacks."""
    remembers = [step.form for step in parser._definition.steps if step.operation == "remember" and not step.off]
    alone = _read([str(event["raw"])], parser, event)
    if not remembers or _same(parser, alone, event):
        return (event, []) if not remembers else (alone, [])
    log = place.rpartition(":")[0]
    keys = [name for form in remembers for name in form.by]
    earlier: list[str] = []
    for batch in parser.parse_batches(log):
        same = [pl.col(name).eq_missing(pl.lit(event[name])) for name in keys if event.get(name) is not None]
        here = batch.events.filter(pl.col("line") < event["line"], *same)
        earlier = [*earlier, *here["raw"]][-_MOST_BEFORE:]
        if batch.events["line"].max() >= event["line"]:
            break
    for before in (*([one] for one in reversed(earlier)), *(earlier[-count:] for count in range(2, len(earlier) + 1))):
        again = _read([*before, str(event["raw"])], parser, event)
        if _same(parser, again, event):
            return again, before
    return alone, []


def _read(raws: list[str], parser: Parser, event: dict[str, Any]) -> dict[str, Any]:
    return parser.parse(raws, reference_time=event["time"]).events.row(-1, named=True)


def _same(parser: Parser, one: dict[str, Any], other: dict[str, Any]) -> bool:
    return all(one.get(name) == other.get(name) for name in parser.fields)


def event_at(parser: Parser, place: str) -> tuple[dict[str, Any], str | None]:
    """The event of a log that has a line, and the header of the log, where it names the columns of its rows.

    Raises:
        UsageError: it is no place, or there is no such line.
    """
    match = re.fullmatch(r"(?P<log>.+):(?P<line>[1-9]\d*)", place)
    if match is None:
        raise UsageError(f"`{place}` is no event of a log", "write LOG:LINE, as in pump.log:17")
    line = int(match["line"])
    rows: pl.DataFrame | None = None
    header: str | None = None
    for batch in parser.parse_batches(match["log"]):
        events = batch.events
        here = events.filter(pl.col("line") <= line)
        if here.height:
            rows = here.tail(1)
            if reads_headers(parser._plan):
                header = batch.header_of(match["log"], int(rows["line"][0]))
        if here.height < events.height:
            break
    if rows is None or line - int(rows["line"][0]) > str(rows["raw"][0]).count("\n"):
        raise UsageError(f"{match['log']} has no line {line}", "see `kinglet try` for the lines of events")
    return rows.row(0, named=True), header


def _masked(parser: Parser, event: dict[str, Any], masks: Masks, place: str, header: str | None) -> dict[str, Any]:
    """An event with stand-ins, read again: it has to be read as before."""
    texts = {name: value for name, value in event.items() if isinstance(value, str)}
    values = [(name, value) for name, value in texts.items() if name not in (*RESERVED, "body")]
    raw = masks.text(texts["raw"], values)
    moment = event["time"]
    headers = pl.Series([header]) if header is not None else None
    again = read_under(parser, pl.Series([raw]), headers, moment).events.row(0, named=True)
    same = all(
        (again[name] is None) == (value is None) for name, value in event.items() if name in parser.fields
    ) and all(again[name] == event[name] for name in ("variant", "state"))
    if not same:
        raise UsageError(f"{place}: with stand-ins it is read otherwise: {raw[:80]}", "add it without --mask")
    return again
