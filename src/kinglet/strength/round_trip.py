"""Events made from a parser, with values that are known: they must come back as the same values."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

from kinglet.drafting.cases import whole_case
from kinglet.drafting.writing import case_lines
from kinglet.errors import UsageError
from kinglet.generating.events import Made, Maker
from kinglet.generating.values import is_value
from kinglet.generating.walk import may_hold
from kinglet.parser import Parser
from kinglet.patterns.types import SlotType

_AT = "2026-03-05"


@dataclass(frozen=True)
class Broken:
    """An event that did not come back: what was put in, what came of it, and the case that would say so.

    is_complete: whether it is read as a complete event all the same.
    """

    raw: str
    variant: str
    name: str
    put_in: str
    came: str
    case: tuple[str, ...]
    is_complete: bool = False


@dataclass(frozen=True)
class RoundTrip:
    """What came of events that were made.

    made: how many; left_out: variants of which none could be made. broken: those that did not come back, the shortest
    of each variant and field. forged: fields whose text can make up what stands behind them.
    """

    made: int
    left_out: list[str]
    broken: list[Broken]
    forged: list[Broken]


def round_trip(parser: Parser, count: int, *, seed: int = 1) -> RoundTrip:
    """Makes so many events, and all values at the edges of types, and reads them.

    Raises:
        UsageError: the count is less than one.
    """
    if count < 1:
        raise UsageError(f"{count} is no number of events", "write one from 1 on")
    bare = parser.with_steps(until=0)  # steps may change what was put in
    plan = bare._plan
    maker = Maker(bare, _stamps(bare), seed)
    numbers = range(len(plan.variants))
    each = max(count // max(len(plan.variants), 1), 1)
    made: list[tuple[str | None, Made]] = []
    left_out = []
    for number in numbers:
        found: list[tuple[str | None, Made]] = [(None, one) for one in maker.several(number, each)]
        found += maker.edges(number)
        if not found:
            left_out.append(plan.variants[number].name)
        made += found
    tricks = [one for number in numbers for one in _tricks(maker, number)]
    broken = _smallest(_broken(bare, made))
    forged = [
        one
        for one in _smallest(_broken(bare, tricks))
        if (one.variant, one.name) not in {(b.variant, b.name) for b in broken}
    ]
    return RoundTrip(len(made), left_out, broken, forged)


def _stamps(parser: Parser) -> dict[str, list[str]]:
    from kinglet.lint.rule import Subject

    return {name: list(texts) for name, texts in Subject(parser).maker.stamps.items()}


def _tricks(maker: Maker, number: int) -> list[tuple[str | None, Made]]:
    """Values that hold the text which stands behind them, as one who writes a log would forge it."""
    whole = maker.make(number)
    if whole is None:
        return []
    found: list[tuple[str | None, Made]] = []
    for item in maker.plan.variants[number].reading.fields:
        text = whole.values.get(item.name, "")
        if not text or whole.raw.count(text) != 1 or item.type.value != "text":
            continue
        at = whole.raw.index(text) + len(text)
        forged = text + whole.raw[at:]
        regex = maker.plan.variants[number].reading.regexes[-1]
        if whole.raw[at : at + 1] and _may_be(item.type, forged) and may_hold(regex, item.name, forged):
            made = maker.make(number, change={**whole.values, item.name: forged}, sure=False)
            if made is not None and made.values.get(item.name) == forged:
                found.append((item.name, made))
    return found


def _may_be(kind: SlotType, text: str) -> bool:
    if kind.stops:
        return re.search(f"[{kind.stops}]", text) is None
    return is_value(kind, text)


def _broken(parser: Parser, made: list[tuple[str | None, Made]]) -> list[Broken]:
    if not made:
        return []
    plan = parser._plan
    events = parser.parse([one.raw for _, one in made], reference_time=_AT, workers=1).events
    names = [variant.name for variant in plan.variants]
    earlier = [frozenset(names[:number]) for number in range(len(names))]
    found = []
    for (field, one), event in zip(made, events.iter_rows(named=True), strict=True):
        variant = plan.variants[one.variant]
        if event["variant"] in earlier[one.variant] and event["state"] == "complete":
            continue  # a special case of it; where it is none, lint says so
        wanted = variant.name
        readings = (variant.reading, *([plan.envelope] if plan.envelope is not None else []))
        types = {item.name: item.type for reading in readings for item in reading.every_field}
        difference = _difference(one, event, wanted, types)
        if difference is not None:
            expected = {**event, "variant": wanted, "state": "complete", "faults": []}
            expected |= {
                name: _value(types[name], text) for name, text in one.values.items() if name in types and name in event
            }
            case = tuple(case_lines(whole_case(parser, expected)))
            name, put_in, came = difference
            found.append(Broken(one.raw, wanted, field or name, put_in, came, case, event["state"] == "complete"))
    return found


def _difference(
    one: Made, event: Mapping[str, Any], wanted: str, types: Mapping[str, SlotType]
) -> tuple[str, str, str] | None:
    """What came back otherwise: its name, what was put in, what came."""
    if event["variant"] != wanted:
        return "variant", wanted, str(event["variant"] or "none")
    for name, text in one.values.items():
        if name not in types or name not in event:
            continue
        value = _value(types[name], text)
        is_nothing = event[name] is None and value in ("", "-")  # as many logs write it
        if value is not None and event[name] != value and not is_nothing:
            return name, str(value), "nothing" if event[name] is None else str(event[name])
    if event["state"] != "complete":
        return "state", "complete", f"{event['state']} ({' '.join(event['faults'])})"
    return None


def _flag(text: str) -> bool | None:
    return {
        "true": True,
        "yes": True,
        "on": True,
        "1": True,
        "false": False,
        "no": False,
        "off": False,
        "0": False,
    }.get(text.lower())


def _unquoted(text: str) -> str:
    """What a quoted text means: a backslash lets its quote, or another backslash, be itself."""
    return re.sub(rf"\\([\\{text[0]}])", r"\1", text[1:-1])


_VALUES: Mapping[str, Callable[[str], Any]] = {
    "int": int, "port": int, "num": float, "hex": lambda text: int(text, 16), "bool": _flag, "quoted": _unquoted,
}  # fmt: skip


def _value(kind: SlotType, text: str) -> Any:
    """The value that a text is by an independent reading; None for types of which only the text is known."""
    if kind.name in _VALUES:
        try:
            return _VALUES[kind.name](text)
        except (ValueError, IndexError):
            return None  # what is no value is a fault, and tells of itself
    return text if kind.is_plain or (kind.value == "text" and not kind.change and not kind.escapes) else None


def _smallest(found: list[Broken]) -> list[Broken]:
    """The shortest event of each variant and field."""
    best: dict[tuple[str, str], Broken] = {}
    for one in sorted(found, key=lambda one: len(one.raw)):
        best.setdefault((one.variant, one.name), one)
    return list(best.values())
