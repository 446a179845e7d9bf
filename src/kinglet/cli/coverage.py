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


def render(out: Console, covered: Sequence[Coverage], *, whole: bool) -> None:
    """What fails; with `whole` also what is left open, variant by variant, otherwise how much."""
    from rich.text import Text

    from kinglet.cli.render import state_colours

    colours = state_colours(out)
    for item in covered:
        head = f"{item.variant} → {item.class_caption}"
        if whole:
            out.print()
            out.print(Text(f"  {head}", style="bold"))
        if item.missing:
            _wrapped(
                out,
                f"  ✗ {head}: nothing fills what the class requires: {'; '.join(item.missing)}",
                colours["unmatched"],
            )
        for one in item.wrong:
            _wrapped(out, f"  ✗ {head}: case {one.case}: {one.complaint}", colours["unmatched"])
        if whole:
            for name, values in _open(item):
                _row(out, name, values)
    if not whole and (examples := _what_is_open(covered)):
        out.print(f"  open: {examples} (--mapping)", style="dim", soft_wrap=True)


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


def _what_is_open(covered: Sequence[Coverage]) -> str:
    counts = (
        (len({name for item in covered for name in item.unmapped}), "field mapped nowhere", "fields mapped nowhere"),
        (sum(not item.cases for item in covered), "variant without a case", "variants without a case"),
        (
            sum(len(item.unexercised) for item in covered if item.cases),
            "attribute no case fills",
            "attributes no case fills",
        ),
    )
    return ", ".join(f"{count} {one if count == 1 else many}" for count, one, many in counts if count)


def _wrapped(out: Console, text: str, style: str) -> None:
    out.print(text, style=style, soft_wrap=True)
