"""Findings of lint, as `kinglet check` shows them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from rich.console import Console

    from kinglet.lint.rule import Finding

_SIGNS = {"error": "✗", "warning": "!", "note": "·"}
_STATES = {"error": "unmatched", "warning": "partial"}


def plain(item: Finding) -> dict[str, Any]:
    """A finding for machines."""
    return {
        "code": item.code,
        "title": item.title,
        "severity": item.severity,
        "file": item.place.file,
        "line": item.place.line,
        "column": item.place.column,
        "key": item.key,
        "message": item.message,
        "mend": item.mend,
    }


def render(out: Console, findings: Sequence[Finding]) -> None:
    """A line that says where and what kind, and below it what, and how to mend it."""
    from rich.text import Text

    from kinglet.cli.render import state_colours

    colours = state_colours(out)
    for item in findings:
        style = colours[_STATES[item.severity]] if item.severity in _STATES else "dim"
        line = Text(f"  {_SIGNS[item.severity]} {item.code} {item.title}", style=style)
        out.print(line.append(f"  {item.place}", style="default dim"), soft_wrap=True)
        for piece in Text(f"{item.message}; {item.mend}").wrap(out, out.width - 4):
            piece.rstrip()
            out.print(Text("    ").append_text(piece))
