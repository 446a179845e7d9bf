"""The slots of a parser that are read and not kept, and what they take."""

from __future__ import annotations

import copy
from collections.abc import Iterator, Sequence
from typing import Any, NamedTuple

import polars as pl

from kinglet.calls import ReferenceTime
from kinglet.errors import KingletError
from kinglet.parser import Parser, load
from kinglet.patterns.grammar import Literal, Optional, PatternError, Slot, Token, parse, slots
from kinglet.patterns.types import STRUCTURES, TYPES
from kinglet.spec.document import KeyPath
from kinglet.spec.patterns import patterns_of

_NAME = "unnamed_slot_"


class Unnamed(NamedTuple):
    """A slot without a name.

    path: where its pattern stands in the file. at: where the slot stands in the pattern, written as source. before: the
    fixed text in front of it. values: its text in each event, null where it took none.
    """

    path: KeyPath
    at: int
    source: str
    type: str
    before: str
    values: pl.Series

    @property
    def variant(self) -> int | None:
        """The number of the variant that has it; none for the envelope and for parts."""
        return int(self.path[1]) if self.path[0] == "variants" else None


def put(values: Any, path: KeyPath, value: Any) -> None:
    """Puts a value in its place among the values of a file."""
    for part in path[:-1]:
        values = values[part]
    values[path[-1]] = value


def unnamed(parser: Parser, raw: pl.Series, reference: ReferenceTime) -> list[Unnamed]:
    """The slots without a name of a parser's patterns, with what they take of events."""
    values = copy.deepcopy(parser._document.values)
    for key in ("event", "steps", "cases", "templates", "claims"):
        values.pop(key, None)
    for variant in values.get("variants", []):
        variant.pop("event", None)
    found: list[tuple[KeyPath, Slot, str, str]] = []
    for path, text in list(patterns_of(values)):
        try:
            tokens = parse(text)
        except PatternError:
            continue
        mine = [slot for slot in slots(tokens) if not slot.name and _can_be_named(slot)]
        for slot in reversed(mine):
            name = f"{_NAME}{len(found)}"
            plain = slot.words or TYPES.get(slot.type, TYPES["text"]).value == "text"
            kind = slot.source[slot.source.index(":") + 1 : -1].strip()
            end = slot.offset + len(slot.source)
            text = text[: slot.offset] + f"{{{name}:{kind}{'' if plain else '+text'}}}" + text[end:]
            found.append((path, slot, before_slot(tokens, slot), name if plain else f"{name}_text"))
        put(values, path, text)
    if not found:
        return []
    try:
        events = load(values).parse_column(raw, reference_time=reference).events
    except KingletError:  # a name more was one too many
        return []
    return [
        Unnamed(path, slot.offset, slot.source, slot.type, before, events[name].cast(pl.String))
        for path, slot, before, name in found
        if name in events.columns
    ]


def _can_be_named(slot: Slot) -> bool:
    return slot.type not in STRUCTURES and slot.type not in ("time", "flag") and ":" in slot.source


def before_slot(tokens: Sequence[Token], slot: Slot) -> str:
    """The fixed text between a slot and the one before it, blanks as one."""
    text = ""
    for token in _flat(tokens):
        if token == slot:
            return text
        if isinstance(token, Slot):
            text = ""
        else:
            text += token.text if isinstance(token, Literal) else " "
    return text


def _flat(tokens: Sequence[Token]) -> Iterator[Token]:
    for token in tokens:
        if isinstance(token, Optional):
            yield from _flat(token.tokens)
        else:
            yield token
