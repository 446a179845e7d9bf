"""`kinglet library`: the ready parsers."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from kinglet.cli import options
from kinglet.spec.ready import SHIPPED

if TYPE_CHECKING:
    from rich.console import Console

    from kinglet.locking import Difference
    from kinglet.shelf import OnShelf

_SAMPLES = 5


@click.command("library")
@click.argument("names", metavar="[NAME]...", nargs=-1)
@click.option("--search", metavar="WORD", help="Only those with WORD in their name, messages, fields or classes.")
@click.option("--rules", metavar="DIR", help="Say which rules of DIR each feeds.")
@click.option("--copy", metavar="FILE", help="Write the parser file of NAME to FILE, to go on from it.")
@click.option("--lock", metavar="FILE", help="Keep NAMEs, or all of `library`, in FILE as they are now: library.lock.")
@click.option("--changed", metavar="FILE", help="Say which are no longer as FILE keeps them; exit status 1 where any.")
@options.as_json()
def command(
    names: tuple[str, ...],
    search: str | None,
    rules: str | None,
    copy: str | None,
    lock: str | None,
    changed: str | None,
    as_json: bool,
) -> None:
    """List the parsers that are ready to use, or show NAME: its messages, classes, fields and some events.

    `kinglet run -p library FILE...` uses all of them together. Folders in KINGLET_PARSERS and installed packages bring
    more.
    """
    from kinglet.cli import needs
    from kinglet.cli.render import console, print_json
    from kinglet.locking import differences, locked_parsers
    from kinglet.shelf import copied, one_name, shelf

    if lock is not None or changed is not None:
        found = locked_parsers(names, Path(lock)) if lock is not None else differences(Path(str(changed)))
        if as_json:
            print_json({"changed": [item._asdict() for item in found]})
        else:
            _differences(console(), found, lock, changed)
        if lock is None and found:
            raise SystemExit(1)
        return
    name = one_name(names)
    if copy is not None:
        copied(name, Path(copy))
        click.echo(f"{copy} is written", err=True)
        return
    wanted = needs.load(rules, None) if rules is not None else []
    shown = shelf(name, search=search, rules=wanted)
    if as_json:
        print_json({"parsers": [one.to_dict() for one in shown]})
    elif name is not None and shown:
        _one(console(), shown[0])
    else:
        _all(console(), shown)


def _differences(out: Console, found: list[Difference], lock: str | None, changed: str | None) -> None:
    for item in found:
        out.print(f"  {item}", highlight=False, soft_wrap=True)
    if lock is not None:
        out.print(f"  {lock} is written", style="dim", soft_wrap=True)
    elif found:
        out.print()
        out.print(f"  $ kinglet compare {changed} library LOG", highlight=False, soft_wrap=True)
    else:
        out.print(f"  all are as {changed} keeps them", style="dim", soft_wrap=True)


def _all(out: Console, shown: list[OnShelf]) -> None:
    from rich.table import Table
    from rich.text import Text

    table = Table.grid(padding=(0, 2, 0, 0))
    for one in shown:
        about = Text(one.about).append(f"\n{', '.join(one.classes)}", style="dim")
        table.add_row(Text(one.name, style="bold"), Text(one.version, style="dim"), about)
    out.print(table)
    out.print()
    out.print(f"  {len(shown)} parser{'s' * (len(shown) != 1)}; `kinglet library NAME` shows one", style="dim")


def _one(out: Console, one: OnShelf) -> None:
    from rich.table import Table
    from rich.text import Text

    from kinglet.cli.render import heading

    out.print(heading(f"{one.name} {one.version}", one.about), soft_wrap=True)
    table = Table.grid(padding=(0, 3, 0, 0))
    for name, caption in one.variants.items():
        table.add_row(f"    {name}", Text(caption, style="dim"))
    out.print()
    out.print(Text("  messages", style="bold"))
    out.print(table)
    out.print()
    out.print(Text("  fields", style="bold"))
    for piece in Text(", ".join(one.fields)).wrap(out, out.width - 4):
        out.print(Text("    ").append_text(piece))
    if one.rules:
        out.print()
        out.print(Text("  feeds", style="bold"))
        out.print(f"    {', '.join(one.rules)}", soft_wrap=True)
    if one.origin != SHIPPED:
        over = f", over {', '.join(one.over)}" if one.over else ""
        out.print()
        out.print(Text("  from", style="bold"))
        out.print(f"    {one.file}{over}", highlight=False, soft_wrap=True)
    out.print()
    out.print(Text(f"  events, of {one.cases} cases", style="bold"))
    for raw in one.samples[:_SAMPLES]:
        out.print(Text("    " + raw.split("\n")[0][: out.width - 6], style="dim"))
    out.print()
    out.print(f"  $ kinglet try {one.name} LOG")
    out.print(f"  $ kinglet library {one.name} --copy {one.name}.yaml")
