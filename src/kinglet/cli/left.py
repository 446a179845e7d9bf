"""How `try` shows what is left to do, and the values of a field."""

from __future__ import annotations

from typing import TYPE_CHECKING

from kinglet.discover.words import counted

if TYPE_CHECKING:
    from collections.abc import Sequence

    from rich.console import Console

    from kinglet.drafting.leftovers import Leftover
    from kinglet.insight.values import FieldValues


def render_left(out: Console, found: Sequence[Leftover], state: str) -> None:
    """Shows groups of events that are not complete: their shape, one of them, where it stopped, and what to add."""
    from rich.text import Text

    from kinglet.cli.render import heading
    from kinglet.errors import window
    from kinglet.insight.visible import visible

    if not found:
        return
    out.print()
    out.print(heading("left", f"{counted(len(found), 'group')} of {state} events, the commonest first"))
    digits = max(len(f"{group.count:,}") for group in found)
    for group in found:
        out.print()
        lines = Text(visible(group.shape.replace("\n", "⏎")), style="bold").wrap(out, out.width - digits - 4)
        for i, wrapped in enumerate(lines):
            wrapped.rstrip()
            lead = f"  {group.count:>{digits},}  " if i == 0 else " " * (digits + 4)
            out.print(Text(lead).append_text(wrapped))
        if group.reason is None:
            continue
        line, caret = window(visible(group.raw), group.reason.start, out.width - 14)
        length = max(1, min(group.reason.end - group.reason.start, len(line) - caret))
        out.print(Text(f"  {group.line:>8}  ", style="dim").append(line, style="default"))
        out.print(Text(f"{' ' * 12}{' ' * caret}").append("^" * length, style="red"))
        for piece in Text(group.reason.message).wrap(out, out.width - 12):
            piece.rstrip()
            out.print(Text(" " * 12).append_text(piece))
        for text in group.variant.splitlines():
            out.print(Text(f"          {visible(text)}", style="green"), overflow="fold")


def render_values(out: Console, found: FieldValues) -> None:
    """Shows the values of a field with their counts, those unlike the others first."""
    from rich.text import Text

    from kinglet.cli.render import heading, shown_value

    out.print()
    about = f"{found.type}, in {found.count:,} of {counted(found.of, 'event')}, {found.distinct:,} different"
    out.print(heading(found.name, about))
    digits = max((len(f"{one.count:,}") for one in found.values), default=1)
    width = min(max((len(one.value) for one in found.values), default=1), out.width - digits - 42)
    for one in found.values:
        lines = f"line {', '.join(f'{line:,}' for line in one.lines)}" + (", …" if one.count > len(one.lines) else "")
        text = Text(f"  {one.count:>{digits},}  ").append(f"{shown_value(one.value, width):<{width}}", style="bold")
        text.append(f"  {lines}", style="dim")
        text.append(f"  {one.unlike}" if one.unlike else "", style="yellow")
        out.print(text, overflow="ellipsis", no_wrap=True)
    if found.distinct > len(found.values):
        out.print(Text(f"  {found.distinct - len(found.values):,} more; --json has all", style="dim"))
