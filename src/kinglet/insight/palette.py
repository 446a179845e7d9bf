"""Colours of fields and states, the same in the terminal, the notebook and the docs."""

from __future__ import annotations

from collections.abc import Iterable

_FIELDS = (
    "#8ecae6",
    "#ffd166",
    "#b8e0a0",
    "#f4acb7",
    "#cdb4f6",
    "#f6b26b",
    "#7fd1c0",
    "#e6d690",
    "#a9bcf5",
    "#e0a9d8",
    "#c9d36f",
    "#d9b99b",
)
_FEW = ("bright_cyan", "bright_yellow", "bright_green", "bright_magenta", "cyan", "yellow", "green", "magenta")
STATES = {"complete": "#3fa66b", "partial": "#e0a030", "unmatched": "#d4574e", "dropped": "#8a8f98"}


FEW_STATES = {"complete": "green", "partial": "yellow", "unmatched": "red", "dropped": "bright_black"}


def field_colours(fields: Iterable[str], *, few: bool = False) -> dict[str, str]:
    """A background for each field, on which black text reads well; they repeat after twelve.

    few: take the eight that every terminal has.
    """
    colours = _FEW if few else _FIELDS
    return {name: colours[i % len(colours)] for i, name in enumerate(fields)}
