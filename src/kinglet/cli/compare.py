"""`kinglet compare`: two versions of parsers over the same logs; exit status 1 where something is lost."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from kinglet.cli import options

if TYPE_CHECKING:
    from rich.console import Console

    from kinglet.comparing.expected import Verdict
    from kinglet.insight.comparing import Comparison, Moved, ValueChange

_MOST = 40


@click.command("compare")
@click.argument("old", metavar="OLD")
@click.argument("new", metavar="NEW")
@click.argument("files", metavar="FILE...", nargs=-1, required=True)
@click.option("--rules", metavar="DIR", help="Say which rules of DIR the change blinds, and what they find otherwise.")
@click.option("--expect", metavar="CHANGES", help="Let every difference fail that the file CHANGES does not name.")
@click.option(
    "--format", "form", type=click.Choice(["text", "json", "markdown"]), default="text", help="What is printed."
)
@options.moment()
@options.model()
@options.as_json()
def command(
    old: str,
    new: str,
    files: tuple[str, ...],
    rules: str | None,
    expect: str | None,
    form: str,
    at: str | None,
    extensions: tuple[str, ...],
    as_json: bool,
) -> None:
    """Parse FILEs with two versions of a parser and show what changes.

    OLD and NEW are files, folders of parsers, either of these in a revision of git, as in main:parsers/pump.yaml, or a
    lock file and `library`. Exit status 1 where something is lost: events that were complete, values, what rules find.
    With --expect all changes fail that are not named.
    """
    from kinglet.cli import needs
    from kinglet.cli.render import console, print_json, waiting
    from kinglet.comparing.compare import compare
    from kinglet.comparing.expected import load_expected, verdict
    from kinglet.comparing.markdown import markdown
    from kinglet.comparing.versions import load_versions

    form = "json" if as_json else form
    model = options.load_model(extensions)
    wanted = needs.load(rules, model) if rules is not None else []
    expected = load_expected(Path(expect)) if expect is not None else None
    versions = load_versions(old, new, model=model)
    with waiting("comparing"):
        found = compare(*versions, files, reference_time=at, rules=wanted, timed=True)
    judged = verdict(found, expected)
    if form == "json":
        print_json(_as_json(found, judged))
    elif form == "markdown":
        click.echo(markdown(old, new, found, judged), nl=False)
    else:
        _render(console(), old, new, found, judged)
    if judged.failing or (expected is None and found.worse):
        raise SystemExit(1)


def _as_json(found: Comparison, judged: Verdict) -> dict[str, Any]:
    return {
        "before": found.counts[0],
        "now": found.counts[1],
        "cut_otherwise": found.cut,
        "states": [item._asdict() for item in found.states],
        "variants": [item._asdict() for item in found.variants],
        "time": [_plain(item) for item in found.time],
        "fields": [_plain(item) for item in found.fields],
        "attributes": {name: {"lost": lost, "gained": gained} for name, (lost, gained) in found.attributes.items()},
        "filled": [_plain(item) for item in found.filled],
        "rules": [
            {"rule": now.rule.name, "blind_before": before.blind, "blind": now.blind, "lacking": now.lacking}
            for before, now in found.rules
        ],
        "found": [item._asdict() for item in found.found],
        "parsers": {"gone": found.parsers[0], "new": found.parsers[1]},
        "microseconds": found.microseconds,
        "worse": found.worse,
        "failing": [item._asdict() for item in judged.failing],
        "named": [item._asdict() for item in judged.named],
        "named_but_not_there": [item.why for item in judged.unused],
    }


def _plain(item: ValueChange) -> dict[str, Any]:
    return {**item._asdict(), "examples": [one._asdict() for one in item.examples]}


def _render(out: Console, old: str, new: str, found: Comparison, judged: Verdict) -> None:
    from rich.table import Table
    from rich.text import Text

    from kinglet.cli.render import heading, state_colours

    colours = state_colours(out)
    out.print(heading(f"{old} → {new}", "nothing changes" if found.same else ""), soft_wrap=True)
    states = list(dict.fromkeys((*found.counts[0], *found.counts[1])))
    table = Table.grid(padding=(0, 3, 0, 0))
    speeds = found.microseconds or ()
    heads = [*states, *(["µs an event"] if speeds else [])]
    table.add_row("", *(Text(name, style="dim", justify="right") for name in heads))
    for i, (name, counts) in enumerate(zip(("  before", "  now"), found.counts, strict=True)):
        cells = [f"{counts.get(state, 0):,}" for state in states] + [f"{one:.1f}" for one in speeds[i : i + 1]]
        table.add_row(name, *(Text(cell, justify="right") for cell in cells))
    out.print(table)
    for word, names in zip(("gone", "new"), found.parsers, strict=True):
        if names:
            out.print(f"  {word}: {', '.join(names)}", soft_wrap=True)
    if found.cut:
        out.print(f"  {found.cut:,} events stand in one only: the logs are cut otherwise", style=colours["partial"])
    _moves(out, "states", found.states)
    _moves(out, "variants", found.variants)
    _values(out, "time and fields", (*found.time, *found.fields))
    _values(out, "attributes", found.filled)
    if found.attributes:
        out.print()
        out.print(Text("  mapping", style="bold"))
        for name, (lost, gained) in found.attributes.items():
            words = [f"{word}{', '.join(paths)}" for word, paths in (("no more ", lost), ("now ", gained)) if paths]
            out.print(f"    {name}: {'; '.join(words)}", soft_wrap=True)
    _rules(out, found)
    _verdict(out, judged)


def _values(out: Console, title: str, changes: Sequence[ValueChange]) -> None:
    from rich.table import Table
    from rich.text import Text

    from kinglet.cli.render import shown_value

    told = [item for item in changes if item.whole or item.gained]
    if not changes:
        return
    if not told:
        out.print()
        about = f"  {len(changes)} change where events are not complete any more"
        out.print(Text(f"  {title}", style="bold").append(about, "not bold dim"))
        return
    table = Table.grid(padding=(0, 3, 0, 0))
    heads = (f"  {title}", "gained", "lost", "other value", "first at")
    table.add_row(
        *(
            Text(head, style="bold" if i == 0 else "dim", justify="right" if 0 < i < 4 else "left")
            for i, head in enumerate(heads)
        )
    )
    for item in told[:_MOST]:
        numbers = (item.gained, item.lost, item.changed)
        table.add_row(
            f"    {item.name}",
            *(Text(f"{count:,}" if count else "", justify="right") for count in numbers),
            Text(f"{item.file}:{item.line}", style="dim"),
        )
        if item.changed:
            first = next((one for one in item.examples if one.before is not None and one.now is not None), None)
            if first is not None:
                said = f"{shown_value(first.before, 30)} → {shown_value(first.now, 30)}"
                table.add_row("", "", "", "", Text(said, style="dim"))
    out.print()
    out.print(table)
    if left := len(changes) - len(told[:_MOST]):
        why = "in events that are not complete any more" if len(told) <= _MOST else "(--json has all)"
        out.print(f"    and {left} more {why}", style="dim")


def _rules(out: Console, found: Comparison) -> None:
    from rich.text import Text

    from kinglet.cli.render import state_colours

    colours = state_colours(out)
    changed = [(before, now) for before, now in found.rules if before.blind != now.blind]
    if not (changed or found.found):
        return
    out.print()
    out.print(Text("  rules", style="bold"))
    for _, now in changed:
        style = colours["unmatched" if now.blind else "complete"]
        said = f"goes blind, for want of {', '.join(now.lacking) or 'its class'}" if now.blind else "is fed now"
        out.print(Text(f"    {'✗' if now.blind else '✓'} {now.rule.name}", style=style).append(f"  {said}", "default"))
    for item in found.found:
        words = [f"{count:,} {word}" for count, word in ((item.lost, "no more"), (item.gained, "more")) if count]
        style = colours["unmatched" if item.lost else "complete"]
        line = Text(f"    {'✗' if item.lost else '✓'} {item.rule}", style=style)
        out.print(line.append(f"  finds {', '.join(words)}", "default").append(f"  {item.file}:{item.line}", "dim"))


def _verdict(out: Console, judged: Verdict) -> None:
    from rich.text import Text

    from kinglet.cli.render import state_colours

    colours = state_colours(out)
    if judged.named:
        out.print()
        out.print(f"  {len(judged.named)} changes as named", style=colours["complete"])
    for change in judged.unused:
        out.print(f"  named, but not there: {change.why}", style=colours["partial"], soft_wrap=True)
    if judged.failing:
        out.print()
        out.print(Text("  fails", style=f"bold {colours['unmatched']}"))
        for one in judged.failing[:_MOST]:
            out.print(Text(f"    ✗ {one}", style=colours["unmatched"]), soft_wrap=True)
        if len(judged.failing) > _MOST:
            out.print(f"    and {len(judged.failing) - _MOST} more (--json has all)", style="dim")


def _moves(out: Console, name: str, moves: Sequence[Moved]) -> None:
    from rich.text import Text

    if not moves:
        return
    out.print()
    out.print(Text(f"  {name}", style="bold"))
    for item in moves:
        line = Text(f"    {item.events:>9,}  {item.before} → {item.now}").append(f"  {item.file}:{item.line}", "dim")
        out.print(line, soft_wrap=True)
