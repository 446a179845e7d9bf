"""Events made from a parser: what each of its variants says it reads, with values that are known."""

from __future__ import annotations

import random
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from typing import TYPE_CHECKING

from kinglet.generating.structures import structured
from kinglet.generating.values import hostile, is_value, usual
from kinglet.generating.walk import may_hold, optional_parts, walked
from kinglet.names import field_of
from kinglet.patterns.types import SlotType
from kinglet.plan.data import Reading, StructurePlan, VariantPlan
from kinglet.regex.backtracking import why_slow
from kinglet.regex.for_python import for_python
from kinglet.timestamps.formats import Format

if TYPE_CHECKING:
    from kinglet.parser import Parser

_MOMENT = datetime(2026, 3, 3, 22, 10, 41, 123456)
_KNOWN = {
    "iso8601": "2026-03-03T22:10:41Z", "epoch": "1772575841", "epoch_ms": "1772575841123",
    "epoch_us": "1772575841123456", "epoch_ns": "1772575841123456000", "epoch_any": "1772575841",
    "rfc5322": "Tue, 03 Mar 2026 22:10:41 +0000", "ncsa": "03/Mar/2026:22:10:41 +0000", "rfc3164": "Mar  3 22:10:41",
}  # fmt: skip
_TRIES = 8


@dataclass(frozen=True)
class Made:
    """An event that was made.

    variant: its number; body: what the variant itself reads of it; values: the text of each field that was put into it.
    sure: whether the patterns of the variant read it as it is meant.
    """

    raw: str
    variant: int
    body: str = ""
    values: Mapping[str, str] = field(default_factory=dict)
    sure: bool = True

    def with_body(self, body: str) -> Made:
        """The same event with other text where its variant reads."""
        return replace(self, raw=self.raw.replace(self.body, body), body=body)


class Maker:
    """Makes events of one parser; the same for the same seed.

    stamps: texts of timestamps by slot, such as its cases have; for others one is written in the format of its rule.
    """

    def __init__(self, parser: Parser, stamps: Mapping[str, Sequence[str]] | None = None, seed: int = 1) -> None:
        self.parser, self.plan = parser, parser._plan
        self.rng = random.Random(seed)
        self.stamps = {**_written_stamps(parser), **(stamps or {})}

    def make(
        self,
        number: int,
        there: Callable[[int], bool] = lambda _: True,
        change: Mapping[str, str] | None = None,
        *,
        sure: bool = True,
    ) -> Made | None:
        """An event of a variant; none where it cannot be made.

        there: which optional parts it has. change: texts of fields that are not left to chance. sure: whether it is
        made only where the patterns read it as it is meant.
        """
        variant = self.plan.variants[number]
        for _ in range(_TRIES):
            values = dict(change or {})
            for slot, kinds in variant.kinds.items():
                values.setdefault(slot, str(self.rng.choice(kinds)))
            texts = self._event(variant, values, there, sure)
            if texts is not None and values.keys() >= variant.kinds.keys():  # an envelope may leave out what tells it
                return Made(texts[0], number, texts[1], values, sure)
        return None

    def several(self, number: int, count: int) -> list[Made]:
        """Events of a variant that differ: all optional parts, none, then some by chance."""
        ways: list[Callable[[int], bool]] = [lambda _: True, lambda _: False]
        ways += [lambda _: self.rng.random() < 0.5] * max(count - 2, 0)
        found = [self.make(number, way) or self.make(number, way, sure=False) for way in ways[:count]]
        for slot, known in self.plan.variants[number].kinds.items():
            found += [self.make(number, change={slot: str(kind)}) for kind in known] if len(known) > 1 else []
        return list({made.raw: made for made in found if made is not None}.values())

    def one_by_one(self, number: int) -> list[Made]:
        """For each optional part of a variant an event that has all but it, and one that has it alone."""
        reading = self.plan.variants[number].reading
        parts = optional_parts(reading.regexes[-1]) if reading.regexes else []
        found = []
        for part in parts:
            found += [self.make(number, lambda one, part=part: one != part)]  # type: ignore[misc]
            found += [self.make(number, lambda one, part=part: one == part)]  # type: ignore[misc]
        return [made for made in found if made is not None]

    def edges(self, number: int) -> list[tuple[str, Made]]:
        """For each field of a variant its values at the edge, one an event, with the name of the field."""
        found = []
        regexes = [
            reading.regexes[-1]
            for reading in (self.plan.variants[number].reading, self.plan.envelope)
            if reading is not None and reading.regexes and why_slow(reading.regexes[-1]) is None
        ]
        for item in self.kept(number):
            for text in hostile(item.type):
                if not all(may_hold(regex, item.name, text) for regex in regexes):
                    continue
                whole = self.make(number)
                if whole is None or item.name not in whole.values:
                    continue
                made = self.make(number, change={**whole.values, item.name: text}, sure=False)
                if made is not None and made.values.get(item.name) == text:
                    found.append((item.name, made))
        return found

    def kept(self, number: int) -> list[FieldLike]:
        """The fields whose values may be chosen: all but stamps and kinds."""
        variant = self.plan.variants[number]
        kinds = {*variant.kinds, *self.stamps}
        envelope = self.plan.envelope.every_field if self.plan.envelope is not None else ()
        return [
            FieldLike(item.name, item.type)
            for item in (*envelope, *variant.reading.every_field)
            if item.name not in kinds and item.name not in (self.plan.body, "more")
        ]

    def _event(
        self, variant: VariantPlan, values: dict[str, str], there: Callable[[int], bool], sure: bool
    ) -> tuple[str, str] | None:
        """A whole event, and what its variant reads of it."""
        body = self._reading(variant.reading, values, there, sure)
        envelope = self.plan.envelope
        if body is None or envelope is None:
            return None if body is None else (body, body)
        whole = variant.source if variant.source is not None else self.plan.body
        if not (variant.reading.regexes or variant.reading.structures):
            whole = None  # the envelope says it all
        given = {whole: body} if whole is not None else {}
        if whole is not None and any(item.name == whole for plan in envelope.structures for item in plan.fields):
            values[whole] = body
        regex = envelope.regexes[-1] if envelope.regexes else None
        if whole is not None and regex is not None and why_slow(regex) is None and not may_hold(regex, whole, body):
            return None
        # the part that holds the message may be optional there
        out = self._reading(envelope, values, lambda _: True, sure, given)
        values.pop(whole or "", None)
        return None if out is None else (out, body)

    def _reading(
        self,
        reading: Reading,
        values: dict[str, str],
        there: Callable[[int], bool],
        sure: bool,
        given: Mapping[str, str] | None = None,
    ) -> str | None:
        """A text of a reading; the values that it has are written down in `values`."""
        texts = dict(given or {})
        for plan in reading.structures:
            made = self._structure(plan, values, there)
            if plan.source is None:
                return made
            if made is None and plan.structure.name != "sdata":
                return None
            texts[plan.source] = made if made is not None else "-"  # no structured data, as RFC 5424 writes it
        if not reading.regexes:
            return ""
        for attempt in range(_TRIES):
            found = self._matching(reading, values, texts, there, sure, attempt >= _TRIES // 2)
            if found is not None:
                text, groups = found
                for item in reading.fields:
                    values.pop(item.name, None)
                    if item.name in groups and item.name not in texts:
                        values[item.name] = groups[item.name]
                return text
        return None

    def _matching(
        self,
        reading: Reading,
        values: Mapping[str, str],
        texts: Mapping[str, str],
        there: Callable[[int], bool],
        sure: bool,
        bare: bool,
    ) -> tuple[str, dict[str, str]] | None:
        """A text of regexes, and what its groups hold: usual values, or what the regex itself says of them."""
        given = dict(texts)
        regex = reading.regexes[-1]
        for item in reading.fields:
            if item.name in texts:
                continue
            if item.name in values:
                given[item.name] = values[item.name]
                continue
            stamps = [text for text in self.stamps.get(item.name, ()) if may_hold(regex, item.name, text)]
            text = self.rng.choice(stamps) if stamps else self._value(item.name, item.type)
            if text is not None and may_hold(regex, item.name, text):
                given[item.name] = text
        # a group of a regex may say more than its type, which for most of them is text
        own = {name: text for name, text in given.items() if name in {*texts, *values, *self.stamps}}
        for one in (given, own) if bare else (given,):
            found = walked(regex, self.rng, one, there)
            if found is not None and (not sure or why_slow(regex) is not None or self._holds(reading, found)):
                return found
        return None

    def _holds(self, reading: Reading, found: tuple[str, dict[str, str]]) -> bool:
        """Whether a text is read, and its groups hold what was put into them, where they hold anything."""
        text, groups = found
        match = next((match for regex in reading.regexes if (match := for_python(regex).search(text))), None)
        kinds = {item.name: item.type for item in reading.fields if item.type.name != "time"}
        # what a regex says of a group may be more than its type allows
        return match is not None and all(
            match[name] in (text, None) and (name not in kinds or is_value(kinds[name], text))
            for name, text in groups.items()
        )

    def _structure(self, plan: StructurePlan, values: dict[str, str], there: Callable[[int], bool]) -> str | None:
        texts: dict[str, str] = {}
        typed: dict[str, str] = {}
        for key, item in zip(plan.keys, plan.fields, strict=True):
            text = values[item.name] if item.name in values else self._value(item.name, item.type)
            if text is None:
                continue
            texts[key] = values[item.name] = text
            typed[key] = item.type.value
        return structured(plan.structure, texts, typed)

    def _value(self, name: str, kind: SlotType) -> str | None:
        if name in self.stamps:
            return self.rng.choice(self.stamps[name])
        if kind.name == "time":
            return _KNOWN["iso8601"]
        return usual(kind, self.rng)


@dataclass(frozen=True)
class FieldLike:
    """A field and the type of its text."""

    name: str
    type: SlotType


def _written_stamps(parser: Parser) -> dict[str, Sequence[str]]:
    """For each slot that a rule reads whole a stamp in one of its formats."""
    found: dict[str, Sequence[str]] = {}
    for rule in parser._plan.times:
        if rule.slot is not None and not rule.searches:
            texts = [text for fmt in rule.reading.formats if (text := written(fmt)) is not None]
            found[field_of(rule.slot)] = texts or [_KNOWN["iso8601"]]
        if rule.date_slot is not None:
            found[rule.date_slot] = ["2026-03-03"]
        if rule.zone_slot is not None:
            found[rule.zone_slot] = ["UTC"]
    return found


def written(fmt: Format) -> str | None:
    """A moment in a format; none where it cannot be written."""
    if fmt.text in _KNOWN:
        return _KNOWN[fmt.text]
    text = _MOMENT.strftime(
        fmt.text.replace("%z", "+0000").replace("%Z", "UTC").replace("%e", " 3").replace("%f", "123456")
    )
    return text if for_python(f"^(?:{fmt.shape})$").search(text) else None
