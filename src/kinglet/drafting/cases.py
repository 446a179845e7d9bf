"""Cases of a draft: events of the log that show every variant and every optional part, and what comes of them."""

from __future__ import annotations

import dataclasses
from collections.abc import Iterable, Sequence
from datetime import UTC, date, datetime
from typing import Any

import polars as pl

from kinglet.calls import ReferenceTime, run_batches
from kinglet.drafting.shape import Shape, Variant
from kinglet.names import RESERVED, field_of
from kinglet.parser import Parser
from kinglet.result import Result
from kinglet.source.columns import of_column
from kinglet.spec.section import as_list
from kinglet.timestamps.formats import parse_format

_LONGEST = 2000
_LOOKED_AT = 300
_OF_EVENTS = ("line", "raw", "state", "faults", "variant", "time", "time_rule", "time_notes", "file", "offset", "id")


def chosen(variant: Variant, read: pl.Series, raw: pl.Series) -> list[int]:
    """Events that show a variant: one with as much as may be of what is optional, and one for each part it lacks.

    read: the variants that events were read by. The result are their numbers.
    """
    rows = [i for i, row in enumerate(variant.rows) if read[row] == variant.name and len(raw[row]) <= _LONGEST]
    rows = rows[:_LOOKED_AT]
    if not rows:
        return []
    having = [set(part) for part in variant.written.maybe] if variant.written is not None else []
    wanted = set(range(len(having)))
    found: list[int] = []
    while True:
        best = max(rows, key=lambda i: (sum(i in having[k] for k in wanted), -len(raw[variant.rows[i]])))
        new = {k for k in wanted if best in having[k]}
        if found and not new:
            break
        found.append(best)
        wanted -= new
        if not wanted:
            break
    everything = [i for i in found if all(i in part for part in having)]
    if having and everything:
        bare = next((i for i in rows if not any(i in part for part in having)), None)
        found += [bare] if bare is not None else []
    return [variant.rows[i] for i in found]


def case(shape: Shape, raw: str, event: dict[str, Any], names: Iterable[str]) -> dict[str, Any]:
    """A case for an event as it was read."""
    out: dict[str, Any] = {"raw": raw}
    expect: dict[str, Any] = {"variant": event["variant"]}
    moment = event.get("time")
    formats = _formats(shape)
    if moment is not None and formats:
        if not all(_has_year(text) for text in formats):
            out["at"] = _day(event).isoformat()
        if all(parse_format(text).has_date for text in formats):
            expect["time"] = moment.astimezone(UTC).strftime("%Y-%m-%dT%H:%M:%S.%f").rstrip("0").rstrip(".") + "Z"
    if event["state"] != "complete":
        expect["state"] = event["state"]
    for name in names:
        name = field_of(name)
        item = event.get(name)
        if item is not None and not isinstance(item, datetime | dict | list):
            expect[name] = item
    out["expect"] = expect
    return out


def case_of(parser: Parser, event: dict[str, Any]) -> dict[str, Any]:
    """A case for an event that a parser read: its text, the day near which it lies, and which variant reads it."""
    out: dict[str, Any] = {"raw": event["raw"]}
    if event.get("time") is not None and not all(
        fmt.has_year for rule in parser._plan.times for fmt in rule.reading.formats
    ):
        out["at"] = _day(event).isoformat()
    expect: dict[str, Any] = {} if event["variant"] is None else {"variant": event["variant"]}
    if event["state"] != "complete":
        expect |= {"state": event["state"], "faults": " ".join(event["faults"])}
    return {**out, "expect": expect}


def whole_case(parser: Parser, event: dict[str, Any]) -> dict[str, Any]:
    """A case that expects all values that an event has, and where the stamp says all of it the time."""
    found = case_of(parser, event)
    moment = event.get("time")
    if moment is not None and all(rule.is_dated for rule in parser._plan.times) and parser._plan.times:
        found["expect"]["time"] = moment.astimezone(UTC).strftime("%Y-%m-%dT%H:%M:%S.%f").rstrip("0").rstrip(".") + "Z"
    for name, value in event.items():
        if name not in (*RESERVED, "body", "more") and isinstance(value, str | int | float | bool):
            found["expect"][name] = value
    return found


def read_under(
    parser: Parser,
    raws: pl.Series,
    headers: pl.Series | None,
    reference_time: ReferenceTime = None,
    workers: int | None = None,
) -> Result:
    """Raw events as a parser reads them; headers: what names the columns of each, where such headers do."""
    source = dataclasses.replace(of_column(raws), headers=headers)
    return Result(parser, tuple(run_batches(parser, [source], reference_time=reference_time, workers=workers)))


def model_of(
    parser: Parser, raw: str, at: str | None, before: Sequence[str] = (), header: str | None = None
) -> dict[str, Any]:
    """What an event becomes in the model, as far as the parser file says it: its type, severity, and what is filled.

    before: raw events of the log that stand before it. header: the row above them, where it names their columns.
    """
    raws = pl.Series([*before, raw], dtype=pl.String)
    headers = pl.Series([header] * len(raws), dtype=pl.String) if header is not None else None
    result = read_under(parser, raws, headers, at, workers=1)
    mapped = next(reversed(list(result.to_model())), None)
    names = {variant.name: variant for variant in parser._plan.variants}
    variant = names.get(str(result.events["variant"][-1]))
    if mapped is None or variant is None:
        return {}
    paths = ["type_uid", "severity_id", "status_id"]
    paths += [path for mapping in variant.mappings for path in mapping.fills]
    found = {path: _at(mapped, path) for path in dict.fromkeys(paths)}
    return {path: value for path, value in found.items() if isinstance(value, str | int | float | bool)}


def _at(mapped: Any, path: str) -> Any:
    for part in path.split("."):
        mapped = mapped.get(part) if isinstance(mapped, dict) else None
    return mapped


def _day(event: dict[str, Any]) -> date:
    return event["time"].date()  # type: ignore[no-any-return]


def _formats(shape: Shape) -> Sequence[str]:
    if shape.time is None:
        return ()
    found, date = as_list(shape.time["format"]), shape.time.get("date")
    # of a date in a field of its own both are one stamp
    return [f"{of} {text}" for of in as_list(date["format"]) for text in found] if isinstance(date, dict) else found


def _has_year(text: str) -> bool:
    return text not in ("rfc3164",) and not (
        text.startswith("%") and not any(part in text for part in ("%Y", "%y", "%G", "%s"))
    )
