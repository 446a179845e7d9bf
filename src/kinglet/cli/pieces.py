"""How `explain --line` shows a pattern piece by piece."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from collections.abc import Sequence

    from rich.console import Console

    from kinglet.insight.pieces import Pieces

_PIECE, _TAKEN = 30, 26


def pieces_as_plain(found: Sequence[Pieces]) -> list[dict[str, Any]]:
    """Plain values."""
    return [{**one._asdict(), "pieces": [piece._asdict() for piece in one.pieces]} for one in found]


def render_pieces(out: Console, line: str, found: Sequence[Pieces]) -> None:
    """Shows what each piece took, what it is in words, and where a pattern gave up."""
    from rich.text import Text

    from kinglet.cli.render import heading, state_colours
    from kinglet.errors import window
    from kinglet.insight.visible import visible

    colours = state_colours(out)
    for one in found:
        out.print(heading(one.name, "takes all of it" if one.matches else f"gives up at column {one.column:,}"))
        given_up = False
        for piece in one.pieces:
            if piece.taken is None and not given_up and not one.matches and piece.start < 0:
                given_up = True
                shown, caret = window(visible(line), one.column - 1, out.width - 6)
                out.print(Text("    ").append(shown, style="dim"))
                out.print(Text(f"    {' ' * caret}^", style=colours["unmatched"]))
                out.print(Text("    here it wants what follows", style=colours["unmatched"]))
            text = Text("  ").append(f"{_short(visible(piece.text), _PIECE):<{_PIECE}} ", style="bold")
            taken = visible(piece.taken) if piece.taken is not None else ""
            text.append(f"{_short(taken, _TAKEN):<{_TAKEN}} ", style=colours["complete"])
            room = out.width - len(text)
            for i, words in enumerate(Text(piece.words).wrap(out, room)):
                words.rstrip()
                lead = text if i == 0 else Text(" " * (out.width - room))
                out.print(lead.append_text(Text(words.plain, style="dim")))
        out.print()


def _short(text: str, most: int) -> str:
    text = text.replace("\n", "⏎")
    return text if len(text) <= most else text[: most - 1] + "…"
