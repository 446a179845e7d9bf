"""What a cutter knows between two buffers, as plain values that can be stored and read back."""

from __future__ import annotations

import base64
from typing import Any

from kinglet.cutting.boundaries.base import Boundary

KEPT: dict[str, tuple[str, ...]] = {
    "EveryLine": (),
    "GroupedLines": ("behind", "any_events"),
    "Objects": ("level", "behind", "column", "stray", "any_records"),
    "Elements": ("within", "stray", "depth", "at_end", "room", "line", "line_before"),
    "Rows": ("header",),
    "Separated": ("begun",),
    "FixedLength": ("given", "missing"),
    "Counted": ("lost", "short", "missing"),
    "Prefixed": ("lost", "short", "missing"),
}
"""The attributes of each cutting rule that change from buffer to buffer."""


def stored(boundary: Boundary) -> dict[str, Any]:
    """What a rule knows."""
    return {name: plain(getattr(boundary, name)) for name in KEPT[type(boundary).__name__]}


def restore(boundary: Boundary, values: dict[str, Any]) -> None:
    """Gives a new rule of the same kind what another knew."""
    for name in KEPT[type(boundary).__name__]:
        if name in values:
            setattr(boundary, name, from_plain(values[name], getattr(boundary, name)))


def plain(value: Any) -> Any:
    """A value as JSON can hold it: bytes as base64 under a key, named tuples as the lists of their values."""
    if isinstance(value, bytes):
        return {"base64": base64.b64encode(value).decode()}
    return [plain(item) for item in value] if isinstance(value, tuple) else value


def from_plain(value: Any, like: Any) -> Any:
    """The value again; like: one of the same type, which says what named tuple it is."""
    if isinstance(value, dict):
        return base64.b64decode(value["base64"])
    return (
        type(like)(*(from_plain(item, like[i]) for i, item in enumerate(value))) if isinstance(value, list) else value
    )
