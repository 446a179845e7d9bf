"""The slots of a form: what values they have, of what type, and what to call them."""

from __future__ import annotations

import re
import unicodedata
from collections import Counter
from dataclasses import dataclass

import polars as pl

from kinglet.discover.columns import type_of
from kinglet.discover.shapes import LineForm, regex_of

_MOST_VALUES = 20_000
_NAME_BEFORE = re.compile(r"([^\W\d_][^\W\d]{0,19}|[A-Za-z][A-Za-z_.-]{0,19})[\"']?[\[(]?[=:]?[ \"'(\[]*$")
_EMPTY_NAMES = {"and", "is", "the", "a", "an", "or", "of", "with", "in", "at", "on"}
_NO_NAMES = {"for", "from", "by", "to", *_EMPTY_NAMES}
_SIDES = re.compile(r"^[^0-9A-Za-z]|^(?:ms|us|ns|s|min|h|d|[KMGT]i?B|B|C|%)$")


@dataclass
class Slot:
    """A slot: its values in the events of a form, and what it is called. ending is text behind all of them."""

    name: str
    type: str
    values: pl.Series
    fixed: bool
    ending: str = ""
    plain: bool = False  # the name says no more than the type

    @property
    def shown(self) -> str:
        """The slot as a pattern has it; the text itself where it never varies."""
        if self.fixed:
            return f"\ue002{self.values[0]}\ue003{self.ending}"
        inside = self.name if self.type in ("word", "empty") else f"{self.name}:{self.type}"
        return inside + (f"\ue004{self.ending}" if self.ending else "")


def slots_of(form: LineForm, texts: pl.Series, stamp: str) -> list[Slot]:
    """The slots of a form; stamp is a regex of the stamps in it."""
    if not form.slots:
        return []
    groups = texts.head(_MOST_VALUES).str.extract_groups(regex_of(form.text, f"(?i:{stamp})")).struct.unnest()
    before = re.split("\ue000[a-z]\ue001", form.text)
    found: list[Slot] = []
    used: Counter[str] = Counter()
    for i, kind in enumerate(form.slots):
        values = groups.to_series(i)
        ending = ""
        if kind == "n":
            values, ending = _without_ending(values)
        type_ = "time" if kind == "t" else type_of(values)
        fixed = kind != "t" and len(values) >= 3 and values[0] is not None and values.n_unique() == 1
        label = _NAME_BEFORE.search(before[i])
        name = "stamp" if kind == "t" else _field_name(label[1]) if label else ""
        plain = not name or name in _NO_NAMES
        name = type_ if not name or name in _EMPTY_NAMES else name
        used[name] += not fixed
        if used[name] > 1 and not fixed:
            name = f"{name}_{used[name]}"
        found.append(Slot(name, type_, values, fixed, ending, plain))
    return found


def _field_name(text: str) -> str:
    """A word as the name of a field: small ASCII letters."""
    plain = unicodedata.normalize("NFKD", text).encode("ascii", "ignore").decode()
    return re.sub(r"[^a-z0-9]+", "_", plain.lower()).strip("_")


def _without_ending(values: pl.Series) -> tuple[pl.Series, str]:
    """Values without a unit, or another text behind a number, that all of them end with."""
    probe = values.drop_nulls().unique().head(50).to_list()
    if len(probe) < 2:
        return values, ""
    ending = ""
    while all(value[len(value) - len(ending) - 1 :] == probe[0][len(probe[0]) - len(ending) - 1 :] for value in probe):
        if len(ending) == min(map(len, probe)):
            break
        ending = probe[0][len(probe[0]) - len(ending) - 1 :]
    ending = re.sub(r"^[0-9]+", "", ending)
    ending = ending if _SIDES.search(ending) else ""
    numbers = values.str.strip_suffix(ending)
    if (
        not ending
        or not values.str.ends_with(ending).all()
        or not numbers.str.contains(r"^-?[0-9]+(?:\.[0-9]+)?$").all()
    ):
        return values, ""
    return numbers, ending


def same_names(read: list[list[Slot]]) -> None:
    """Gives slots that are called by their type alone the name that others with the same values have."""
    known: dict[str, set[str]] = {}
    for slots in read:
        for slot in slots:
            if not slot.plain and slot.type in ("word", "ipv4", "ipv6", "host", "mac", "email"):
                known.setdefault(slot.name, set()).update(slot.values.drop_nulls().head(2000).unique())
    for slots in read:
        taken = {slot.name for slot in slots}
        for slot in slots:
            if not slot.plain or slot.fixed or slot.type == "time":
                continue
            values = set(slot.values.drop_nulls().head(2000).unique())
            best = max(known, key=lambda name: len(known[name] & values), default="")
            if best and best not in taken and len(known[best] & values) >= max(2, 0.6 * len(values)):
                slot.name, slot.plain = best, False
                taken.add(best)
