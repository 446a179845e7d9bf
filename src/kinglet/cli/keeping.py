"""Cases that are written into parser files, as `kinglet check` shows it."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from rich.console import Console

    from kinglet.checking.covering import Covered
    from kinglet.parser import Parser

_MOST = 4


def accept(out: Console, parsers: Sequence[Parser]) -> None:
    """Writes what cases give now, and shows the lines that change."""
    from rich.text import Text

    from kinglet.checking.accepting import accept
    from kinglet.cli.render import state_colours

    colours = state_colours(out)
    styles = {"+": colours["complete"], "-": colours["unmatched"]}
    for parser in parsers:
        accepted = accept(parser)
        if not accepted.cases:
            continue
        accepted.write()
        for line in accepted.diff():
            style = "bold" if line.startswith(("+++", "---")) else styles.get(line[:1], "dim")
            out.print(Text(line, style=style), soft_wrap=True)
        numbers = ", ".join(map(str, accepted.cases))
        out.print(f"  {accepted.file}: case{'s' * (len(accepted.cases) > 1)} {numbers} written anew")
        out.print()


def add(out: Console, parser: Parser, places: Sequence[str], *, mask: bool) -> None:
    """Adds cases, and shows them."""
    from rich.text import Text

    from kinglet.checking.accepting import write_text
    from kinglet.checking.adding import add_cases
    from kinglet.cli.render import state_colours

    text, added = add_cases(parser, places, mask=mask)
    write_text(Path(parser._document.name), text)
    for one in added:
        if one.why_not:
            out.print(f"  {one.place} {one.why_not}", soft_wrap=True)
        for line in one.lines:
            out.print(Text("+" + line, style=state_colours(out)["complete"]), soft_wrap=True)
    count = sum(bool(one.lines) for one in added)
    out.print(f"  {parser._document.name}: {count} case{'s' * (count != 1)} added")
    out.print()


def cover(out: Console, parser: Parser, log: str, found: Covered) -> None:
    """The events that are proposed, what each of them shows, and the call that adds them."""
    from rich.text import Text

    from kinglet.cli.render import heading

    left = found.shown - found.already
    about = f"shows {found.shown} things, of which cases show {found.already}"
    out.print(heading(log, about + (f"; {len(found.events)} events show the other {left}" if left else "")))
    for one in found.events:
        out.print()
        out.print(Text(f"  {one.place}", style="bold"))
        out.print(Text("    " + one.raw.split("\n")[0][: out.width - 6], style="dim"))
        more = f", and {len(one.shows) - _MOST} more" if len(one.shows) > _MOST else ""
        for piece in Text("; ".join(one.shows[:_MOST]) + more).wrap(out, out.width - 6):
            piece.rstrip()
            out.print(Text("    ").append_text(piece))
    if found.events:
        out.print()
        places = " ".join(f"--add {one.place}" for one in found.events)
        out.print(f"  kinglet check {parser._document.name} {places}", soft_wrap=True)


def plain(found: Covered) -> dict[str, Any]:
    """Proposals for machines."""
    return {
        "shown": found.shown,
        "already": found.already,
        "events": [{"place": one.place, "raw": one.raw, "shows": list(one.shows)} for one in found.events],
    }
