"""What mappings leave open, as `kinglet check` shows it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from rich.console import Console

    from kinglet.insight.coverage import Coverage

_MOST = 6


def plain(item: Coverage) -> dict[str, Any]:
    """A mapping's coverage for machines."""
    return {
        "variant": item.variant,
        "class": item.class_caption,
        "cases": item.cases,
        "missing": list(item.missing),
        "wrong": [
            {"case": one.case, "path": one.complaint.path, "message": one.complaint.message} for one in item.wrong
        ],
        "recommended": list(item.recommended),
        "unmapped": list(item.unmapped),
        "unexercised": list(item.unexercised),
        "filled": dict(item.filled),
        "not_mapped": dict(item.counted),
        "left_out": dict(item.left_out),
    }


def render(out: Console, covered: Sequence[Coverage]) -> None:
    """What mappings give and leave open, variant by variant."""
    from rich.text import Text

    for item in covered:
        out.print()
        out.print(Text(f"  {item.variant} → {item.class_caption}", style="bold"))
        for name, values in _open(item):
            _row(out, name, values)


def _open(item: Coverage) -> list[tuple[str, Sequence[str]]]:
    more = len(item.recommended) - _MOST
    recommended = [*item.recommended[:_MOST], *([f"and {more} of less use"] if more > 0 else [])]
    always = [path for path, count in item.filled.items() if item.cases and count == item.cases]
    rows: list[tuple[str, Sequence[str]]] = [
        ("all cases fill", always),
        ("some cases fill", [path for path, count in item.filled.items() if 0 < count < item.cases]),
        ("fields mapped nowhere", item.unmapped),
        ("no case fills", ["all of it, for no case is of this variant"] if not item.cases else item.unexercised),
        ("kept as they stand", [f"{name} {count}" for name, count in item.counted.items()]),
        ("does not hold for it", [f"{path} ({why})" for path, why in item.left_out.items()]),
        ("recommended, not filled", recommended),
    ]
    return [(name, values) for name, values in rows if values]


def _row(out: Console, name: str, values: Sequence[str]) -> None:
    from rich.table import Table
    from rich.text import Text

    grid = Table.grid(padding=(0, 2, 0, 0))
    grid.add_column(width=27)
    grid.add_column()
    grid.add_row(Text(f"    {name}", style="dim"), Text(", ".join(values)))
    out.print(grid)
