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
    """A line that says what kind and where, and below it what, and how to mend it; what is said twice, once."""
    from rich.text import Text

    from kinglet.cli.render import state_colours

    colours = state_colours(out)
    alike: dict[tuple[str, str, str, str], list[Finding]] = {}
    for item in findings:
        alike.setdefault((item.place.file, item.code, item.message, item.mend), []).append(item)
    for item, *others in alike.values():
        style = colours[_STATES[item.severity]] if item.severity in _STATES else "dim"
        line = Text(f"  {_SIGNS[item.severity]} {item.code} {item.title}", style=style)
        line.append(f"  {item.place}", style="default dim")
        line.append("".join(f", {other.place.line}:{other.place.column}" for other in others), style="default dim")
        out.print(line, soft_wrap=True)
        for piece in Text(f"{item.message}; {item.mend}").wrap(out, out.width - 4):
            piece.rstrip()
            out.print(Text("    ").append_text(piece))
