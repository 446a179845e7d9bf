"""Names from values: what no word names is called as slots are that have the same values."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence

from kinglet.drafting.patterns import Slot

_PLAIN = ("value", "ip", "host")
_TYPES = ("word", "ip", "host", "email", "mac")
_LOOKED_AT = 2000
_MOSTLY = 0.6


def share_names(groups: Sequence[Sequence[Slot]]) -> None:
    """Names slots that are called by their type alone; groups: the slots of each variant's pattern, without keys."""
    known: dict[str, set[str]] = defaultdict(set)
    for slots in groups:
        for slot in slots:
            if slot.type in _TYPES and not _is_plain(slot):
                known[slot.wanted.rstrip("_0123456789")] |= _values(slot)
    for slots in groups:
        taken = {slot.wanted for slot in slots}
        for slot in slots:
            if not _is_plain(slot) or slot.type not in _TYPES:
                continue
            values = _values(slot)
            best = max(known, key=lambda name: len(known[name] & values), default="")
            if best and best not in taken and len(known[best] & values) >= max(2, _MOSTLY * len(values)):
                slot.name = slot.wanted = best
                taken.add(best)


def _is_plain(slot: Slot) -> bool:
    return slot.wanted.rstrip("_0123456789") in _PLAIN


def _values(slot: Slot) -> set[str]:
    return {text for text in slot.values[:_LOOKED_AT] if text is not None}
