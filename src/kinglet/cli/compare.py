"""`kinglet compare`: two versions of a parser over the same logs; exit status 1 where the new one is worse."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import click

from kinglet.cli import options

if TYPE_CHECKING:
    from rich.console import Console

    from kinglet.insight.comparing import Comparison, Moved


@click.command("compare")
@click.argument("old", metavar="OLD")
@click.argument("new", metavar="NEW")
@click.argument("files", metavar="FILE...", nargs=-1, required=True)
@click.option("--rules", metavar="DIR", help="Say which rules of DIR the change blinds.")
@options.moment()
@options.model()
@options.as_json()
def command(
    old: str,
    new: str,
    files: tuple[str, ...],
    rules: str | None,
    at: str | None,
    extensions: tuple[str, ...],
    as_json: bool,
) -> None:
    """Parse FILEs with two versions of a parser and show what changes.

    Exit status 1 where events that were complete are not any more, or a rule goes blind.
    """
    from kinglet.cli import needs
    from kinglet.cli.render import console, print_json
    from kinglet.insight.comparing import compare
    from kinglet.parser import load

    model = options.load_model(extensions)
    wanted = needs.load(rules, model) if rules is not None else []
    found = compare(load(old, model=model), load(new, model=model), files, reference_time=at, rules=wanted)
    if as_json:
        print_json(_as_json(found))
    else:
        _render(console(), old, new, found)
    if found.worse:
        raise SystemExit(1)


def _as_json(found: Comparison) -> dict[str, Any]:
    return {
        "before": found.counts[0],
        "now": found.counts[1],
        "cut_otherwise": found.cut,
        "states": [item._asdict() for item in found.states],
        "variants": [item._asdict() for item in found.variants],
        "fields": [item._asdict() for item in found.fields],
        "attributes": {name: {"lost": lost, "gained": gained} for name, (lost, gained) in found.attributes.items()},
        "rules": [
            {"rule": now.rule.name, "blind_before": before.blind, "blind": now.blind, "lacking": now.lacking}
            for before, now in found.rules
        ],
        "worse": found.worse,
    }


def _render(out: Console, old: str, new: str, found: Comparison) -> None:
    from rich.table import Table
    from rich.text import Text

    from kinglet.cli.render import heading, state_colours

    colours = state_colours(out)
    out.print(heading(f"{old} → {new}", "nothing changes" if found.same else ""), soft_wrap=True)
    states = list(dict.fromkeys((*found.counts[0], *found.counts[1])))
    table = Table.grid(padding=(0, 3, 0, 0))
    table.add_row("", *(Text(name, style="dim", justify="right") for name in states))
    for name, counts in zip(("  before", "  now"), found.counts, strict=True):
        table.add_row(name, *(Text(f"{counts.get(state, 0):,}", justify="right") for state in states))
    out.print(table)
    if found.cut:
        out.print(f"  {found.cut:,} events stand in one only: the logs are cut otherwise", style=colours["partial"])
    _moves(out, "states", found.states)
    _moves(out, "variants", found.variants)
    if found.fields:
        table = Table.grid(padding=(0, 3, 0, 0))
        heads = ("  fields", "gained", "lost", "other value", "first at")
        table.add_row(
            *(
                Text(head, style="bold" if i == 0 else "dim", justify="right" if 0 < i < 4 else "left")
                for i, head in enumerate(heads)
            )
        )
        for item in found.fields:
            numbers = (item.gained, item.lost, item.changed)
            table.add_row(
                f"    {item.name}",
                *(Text(f"{count:,}" if count else "", justify="right") for count in numbers),
                Text(f"{item.file}:{item.line}", style="dim"),
            )
        out.print()
        out.print(table)
    if found.attributes:
        out.print()
        out.print(Text("  mapping", style="bold"))
        for name, (lost, gained) in found.attributes.items():
            words = [f"{word}{', '.join(paths)}" for word, paths in (("no more ", lost), ("now ", gained)) if paths]
            out.print(f"    {name}: {'; '.join(words)}", soft_wrap=True)
    changed = [(before, now) for before, now in found.rules if before.blind != now.blind]
    if changed:
        out.print()
        out.print(Text("  rules", style="bold"))
        for _, now in changed:
            style = colours["unmatched" if now.blind else "complete"]
            said = f"goes blind, for want of {', '.join(now.lacking) or 'its class'}" if now.blind else "is fed now"
            out.print(
                Text(f"    {'✗' if now.blind else '✓'} {now.rule.name}", style=style).append(f"  {said}", "default")
            )


def _moves(out: Console, name: str, moves: Sequence[Moved]) -> None:
    from rich.text import Text

    if not moves:
        return
    out.print()
    out.print(Text(f"  {name}", style="bold"))
    for item in moves:
        line = Text(f"    {item.events:>9,}  {item.before} → {item.now}").append(f"  {item.file}:{item.line}", "dim")
        out.print(line, soft_wrap=True)
