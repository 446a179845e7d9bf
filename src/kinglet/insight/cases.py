"""A parser's cases: run them, and show the smallest difference first."""

from __future__ import annotations

import dataclasses
import json
import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any, NamedTuple
from weakref import WeakKeyDictionary

import polars as pl

from kinglet.errors import Place, did_you_mean
from kinglet.names import field_of
from kinglet.output.views import ModelView
from kinglet.plan.data import ROW
from kinglet.runtime.parsed import Parsed, VariantEvents
from kinglet.runtime.work import Options
from kinglet.source.logs import open_sources
from kinglet.spec.schema import Case
from kinglet.timestamps.reference_time import as_moment

if TYPE_CHECKING:
    from kinglet.parser import Parser


@dataclass(frozen=True)
class CaseDifference:
    """An expectation that was not met; column is where two texts part, -1 where they are no texts.

    written: what the case calls it. of_model: whether it is an attribute of the mapped event. unknown: whether there is
    no such field.
    """

    name: str
    expected: Any
    got: Any
    column: int = -1
    hint: str = ""
    written: str = ""
    of_model: bool = False
    unknown: bool = False


@dataclass(frozen=True)
class CaseOutcome:
    """What came of a case; good where nothing differs."""

    number: int
    place: Place
    case: Case
    differences: tuple[CaseDifference, ...]

    @property
    def good(self) -> bool:
        return not self.differences


def check_cases(parser: Parser) -> list[CaseOutcome]:
    """Runs every case of a parser, in file order; differences of a case come smallest first."""
    outcomes: list[CaseOutcome] = []
    events = events_of(parser).iter_rows(named=True)
    for i, (case, event) in enumerate(zip(parser._definition.cases, events, strict=True)):
        place = parser._document.place(("cases", i))
        found = [
            *_of_event(parser, case, event),
            *_of_model(case, mapped_case(parser, case).events if case.model else []),
        ]
        outcomes.append(CaseOutcome(i + 1, place, case, tuple(sorted(found, key=_size))))
    return outcomes


def are_good(parser: Parser, cases: Sequence[Case], *, mapped: bool = True) -> bool:
    """Whether all cases, which need not be a parser's own, are what it gives; mapped: also in the model."""
    batches = _batches(parser, cases)
    events = _events_of(parser, batches).iter_rows(named=True)
    if any(True for case, event in zip(cases, events, strict=True) for _ in _of_event(parser, case, event)):
        return False
    return not mapped or not any(
        True
        for batch in batches
        if any(cases[number].model for number in batch.numbers)
        for number, found, _ in _mapped_together(parser, batch)
        for _ in _of_model(cases[number], found)
    )


_OF_EVENTS = ("state", "variant", "time", "faults")
"""What a case may expect that is no field."""


class CaseBatch(NamedTuple):
    """Cases that were parsed together, by their numbers from 0, and the batch, in which those before them stand too."""

    numbers: list[int]
    parsed: Parsed
    cases: list[Parsed]


_KNOWN: WeakKeyDictionary[Parser, list[CaseBatch]] = WeakKeyDictionary()
"""The cases of parsers that were parsed already: a check asks for each several times."""


def parsed_case(parser: Parser, case: Case) -> Parsed:
    """The event of a case, with what the events before it have shown."""
    cases = parser._definition.cases
    number = next((i for i, one in enumerate(cases) if one is case), None)
    if number is None:
        return parsed_cases(parser, [case])[0]
    for batch in case_batches(parser):
        if number in batch.numbers:
            return batch.cases[batch.numbers.index(number)]
    raise AssertionError("every case is in a batch")


def case_batches(parser: Parser) -> list[CaseBatch]:
    """All cases of a parser."""
    if parser not in _KNOWN:
        _KNOWN[parser] = _batches(parser, parser._definition.cases)
    return _KNOWN[parser]


def parsed_cases(parser: Parser, cases: Sequence[Case]) -> list[Parsed]:
    """The events of cases that need not be its own."""
    return _by_case(_batches(parser, cases))


def _by_case(batches: Sequence[CaseBatch]) -> list[Parsed]:
    """The events of the cases of batches, in the order of the cases."""
    found = {number: one for batch in batches for number, one in zip(batch.numbers, batch.cases, strict=True)}
    return [found[number] for number in sorted(found)]


def _batches(parser: Parser, cases: Sequence[Case]) -> list[CaseBatch]:
    """Each case is a log of its own; those of one moment are parsed together."""
    found: list[CaseBatch] = []
    moments: dict[str | None, list[int]] = {}
    for i, case in enumerate(cases):
        moments.setdefault(case.at, []).append(i)
    for at, numbers in moments.items():
        logs = open_sources(*([*(cases[i].before or ()), cases[i].raw] for i in numbers))
        # logs of a known size are put together
        sources = [
            dataclasses.replace(log, size=len(cases[i].raw), header=cases[i].header)
            for i, log in zip(numbers, logs, strict=True)
        ]
        of_source = {id(source): i for i, source in zip(numbers, sources, strict=True)}
        options = Options(as_moment(at) if at is not None else None)
        for parsed in parser._run(sources, options, 1, None):
            places = [of_source[id(source)] for source in parsed.sources]
            found.append(CaseBatch(places, parsed, _last_of_each(parsed)))
    return found


def _last_of_each(parsed: Parsed) -> list[Parsed]:
    """The last event of each log of a batch."""
    last: dict[int, tuple[int, VariantEvents]] = {}
    for part in parsed.parts:
        frame = part.frame
        logs = frame["#source"].to_list() if len(parsed.sources) > 1 else [0] * frame.height
        for at, (log, row) in enumerate(zip(logs, frame[ROW].to_list(), strict=True)):
            if log not in last or row > last[log][0]:
                last[log] = row, VariantEvents(part.variant, frame.slice(at, 1))
    none = [dataclasses.replace(parsed, parts=()) for _ in parsed.sources]
    return [dataclasses.replace(one, parts=(last[log][1],)) if log in last else one for log, one in enumerate(none)]


def events_of(parser: Parser, cases: Sequence[Case] | None = None) -> pl.DataFrame:
    """The events of cases as one frame, in their order; of its own unless given."""
    return _events_of(parser, case_batches(parser) if cases is None else _batches(parser, cases))


def _events_of(parser: Parser, batches: Sequence[CaseBatch]) -> pl.DataFrame:
    frames = [_together(batch).events() for batch in batches]
    if not frames:
        return pl.DataFrame(schema=parser._plan.schema)
    numbers = [number for batch in batches for number, one in zip(batch.numbers, batch.cases, strict=True) if one.parts]
    return pl.concat(frames, how="vertical")[pl.Series(numbers).arg_sort()]


def _together(batch: CaseBatch) -> Parsed:
    """The events of the cases of a batch, and not those before them."""
    rows = [part.frame[ROW] for one in batch.cases for part in one.parts]
    return batch.parsed.of_rows(pl.concat(rows)) if rows else dataclasses.replace(batch.parsed, parts=())


class MappedCase(NamedTuple):
    """The mapped event of a case, none where it is dropped; counted: what could not be mapped as it stood."""

    events: list[dict[str, Any]]
    counted: dict[str, int]


_MAPPED: WeakKeyDictionary[Parser, dict[int, MappedCase]] = WeakKeyDictionary()


def mapped_case(parser: Parser, case: Case) -> MappedCase:
    """What a case of a parser becomes in the model."""
    if parser not in _MAPPED:
        found = (item for batch in case_batches(parser) for item in _all_mapped(parser, batch).items())
        _MAPPED[parser] = {id(parser._definition.cases[number]): mapped for number, mapped in found}
    known = _MAPPED[parser]
    if id(case) not in known:
        known[id(case)] = _mapped(parser, parsed_case(parser, case))
    return known[id(case)]


def _all_mapped(parser: Parser, batch: CaseBatch) -> dict[int, MappedCase]:
    """What the cases of a batch become, by their numbers."""
    cases = dict(zip(batch.numbers, batch.cases, strict=True))
    return {  # of which case it is that something was counted, is seen one by one
        number: _mapped(parser, cases[number]) if is_counted else MappedCase(mapped, {})
        for number, mapped, is_counted in _mapped_together(parser, batch)
    }


def _mapped_together(parser: Parser, batch: CaseBatch) -> list[tuple[int, list[dict[str, Any]], bool]]:
    """The mapped event of each case of a batch, by its number; and whether it, or one of its variant, was counted."""
    view = ModelView(parser._plan)
    events = [json.loads(line) for line in view.lines(_together(batch).kept())]
    found: list[tuple[int, list[dict[str, Any]], bool]] = []
    for number, parsed in zip(batch.numbers, batch.cases, strict=True):
        count = parsed.kept().counts["events"]
        is_counted = any(part.variant in view.counted_of for part in parsed.parts)
        found.append((number, events[:count], is_counted))
        del events[:count]
    return found


def _mapped(parser: Parser, parsed: Parsed) -> MappedCase:
    view = ModelView(parser._plan)
    return MappedCase([json.loads(line) for line in view.lines(parsed.kept())], dict(view.counted))


def _of_event(parser: Parser, case: Case, event: dict[str, Any]) -> Iterator[CaseDifference]:
    if "state" not in case.expect and event["state"] != "complete":
        got = f"{event['state']} ({' '.join(event['faults'])})"
        yield CaseDifference("state", "complete", got)
    for written, expected in case.expect.items():
        own = written not in _OF_EVENTS and field_of(written) in {**parser._plan.all_fields, **parser._plan.fields}
        name = field_of(written) if own else written
        if name not in event:
            near = did_you_mean(name, event)
            hint = "no such field" + (f"; {near}" if near else "")
            yield CaseDifference(name, expected, None, hint=hint, written=written, unknown=True)
        elif difference := _difference(name, expected, event[name]):
            yield dataclasses.replace(difference, written=written)


def _of_model(case: Case, events: Sequence[dict[str, Any]]) -> Iterator[CaseDifference]:
    mapped = events[0] if events else {}
    for path, expected in case.model.items():
        if difference := _difference(path, expected, _at(mapped, path)):
            yield dataclasses.replace(difference, written=path, of_model=True)


def _size(difference: CaseDifference) -> tuple[int, int]:
    """Small where most of the text agrees; a wrong state or variant explains all others, so it leads."""
    if difference.name in ("state", "variant"):
        return (0, 0 if difference.name == "variant" else 1)
    wanted, got = str(difference.expected), str(difference.got)
    return (1, max(len(wanted), len(got)) - max(difference.column, 0))


def _difference(name: str, expected: Any, got: Any) -> CaseDifference | None:
    expected, got = _comparable(expected, got)
    if isinstance(expected, float) and isinstance(got, int | float) and not isinstance(got, bool):
        same = math.isclose(expected, got, rel_tol=1e-12)
    else:
        same = expected == got and isinstance(expected, bool) == isinstance(got, bool)
    if same:
        return None
    column = -1
    if isinstance(expected, str) and isinstance(got, str):
        pairs = zip(expected, got, strict=False)
        column = next((i for i, (a, b) in enumerate(pairs) if a != b), min(len(expected), len(got)))
    hint = ""
    if type(expected) is not type(got) and str(expected) == str(got):
        hint = f"the same text, but {said_type_of(got)} where {said_type_of(expected)} was expected"
    return CaseDifference(name, expected, got, column, hint)


def _comparable(expected: Any, got: Any) -> tuple[Any, Any]:
    """Instants compare as instants, and read as RFC 3339."""
    if isinstance(got, datetime):
        got = _instant(got)
        if isinstance(expected, str):
            try:
                moment = datetime.fromisoformat(expected)
            except ValueError:
                return expected, got
            expected = _instant(moment if moment.tzinfo else moment.replace(tzinfo=UTC))
    if isinstance(expected, str) and isinstance(got, list):
        expected = expected.split()
    if isinstance(expected, int) and not isinstance(expected, bool) and isinstance(got, float):
        expected = float(expected)
    return expected, got


def _instant(moment: datetime) -> str:
    return moment.astimezone(UTC).replace(tzinfo=None).isoformat() + "Z"


def said_type_of(value: Any) -> str:
    """What values of a type are called."""
    return {str: "text", int: "a whole number", float: "a number", bool: "true or false"}.get(type(value), "nothing")


def _at(value: Any, path: str) -> Any:
    for part in path.split("."):
        if isinstance(value, list) and part.isdigit() and int(part) < len(value):
            value = value[int(part)]
        elif isinstance(value, dict):
            value = value.get(part)
        else:
            return None
    return value
