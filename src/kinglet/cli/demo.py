"""`kinglet demo`: the whole job on made-up logs, step by step."""

from __future__ import annotations

import time
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from kinglet.cli import options

if TYPE_CHECKING:
    from rich.console import Console

    from kinglet.demo.scenario import Story
    from kinglet.demo.writing import DemoLog


@click.command("demo")
@click.argument("folder", metavar="[DIR]", default="kinglet-demo")
@click.option(
    "--first-day",
    type=click.DateTime(["%Y-%m-%d"]),
    metavar="DATE",
    help="Tell the story of other days: in that which begins on 2026-10-22 the clocks go back.",
)
@options.as_json()
@click.pass_context
def command(ctx: click.Context, folder: str, first_day: datetime | None, as_json: bool) -> None:
    """Write the logs and parsers of an invented ferry operator to DIR and do the whole job on them.

    Every step says which command does it alone, so that you can go on from there by hand.
    """
    from kinglet.cli.render import console, print_json
    from kinglet.demo.scenario import STORY, Story
    from kinglet.demo.writing import bench, write_demo

    story = STORY if first_day is None else Story(first_day.replace(tzinfo=UTC))
    logs = write_demo(Path(folder), story)
    if as_json:
        print_json({"folder": folder, "logs": [_figures(item, Path(folder)) for item in logs]})
        return
    out = console()
    _opening(out, logs, story)
    _look(ctx, out, logs)
    _draft(ctx, out, logs)
    _try(ctx, out, bench(Path(folder)))
    _check(ctx, out, logs)
    figures = _run(out, logs, Path(folder))
    _model(ctx, out)
    _closing(out, figures, bench(Path(folder)))


def _step(out: Console, number: int, what: str, do: str) -> None:
    from rich.rule import Rule
    from rich.text import Text

    from kinglet.cli.render import state_colours

    out.print()
    out.print(Rule(Text(f"{number}  {what}", style="bold"), align="left", style="dim"))
    out.print(Text("   $ ", style="dim").append(do, style="bold " + state_colours(out)["complete"]), soft_wrap=True)
    out.print()


def _opening(out: Console, logs: list[DemoLog], story: Story) -> None:
    from kinglet.cli.render import heading
    from kinglet.discover.words import size

    out.print(
        heading(
            "Marram Ferries",
            f"an invented ferry operator between two harbours, five days from {story.start:%Y-%m-%d} on",
        )
    )
    for item in logs:
        out.print(f"  {item.log}  {size(item.log.stat().st_size)}, read by {item.parser}", soft_wrap=True)


def _look(ctx: click.Context, out: Console, logs: list[DemoLog]) -> None:
    from kinglet.cli import look

    shown = next(item for item in logs if item.name == "slipway-vpn")
    _step(
        out,
        1,
        "Look at a raw log before there is a parser: its form, its times, what belongs together",
        f"kinglet look {shown.log} --shapes 3",
    )
    ctx.invoke(look.command, files=(str(shown.log),), shapes=3, encoding=None, max_unpacked_bytes=None, as_json=False)


def _draft(ctx: click.Context, out: Console, logs: list[DemoLog]) -> None:
    from kinglet.cli import draft

    shown = next(item for item in logs if item.name == "jump-host")
    _step(
        out,
        2,
        "Have the first parser written: its messages, its fields, and what is unsure",
        f"kinglet draft {shown.log} --messages 4",
    )
    nothing: dict[str, Any] = dict.fromkeys(("output", "into", "product", "zone", "at", "encoding", "most"))
    ctx.invoke(
        draft.command,
        files=(str(shown.log),),
        **nothing,
        max_unpacked_bytes=None,
        mask=False,
        split=False,
        shown=4,
        as_json=False,
    )


def _try(ctx: click.Context, out: Console, first: DemoLog) -> None:
    from kinglet.cli import try_

    _step(
        out,
        3,
        "Try a parser on a sample: what was read, what was not, and why",
        f"kinglet try {first.parser} {first.log} --show 5",
    )
    ctx.invoke(
        try_.command,
        parser=str(first.parser),
        files=(str(first.log),),
        show=5,
        only=None,
        most=100_000,
        at=None,
        zone=None,
        encoding=None,
        max_unpacked_bytes=None,
        as_json=False,
    )


def _check(ctx: click.Context, out: Console, logs: list[DemoLog]) -> None:
    from kinglet.cli import check

    _step(
        out,
        4,
        "Check the cases that stand beside each parser, its mapping, and what rules get of it",
        f"kinglet check {' '.join(str(item.parser) for item in logs)} --rules {logs[0].parser.parent.parent / 'rules'}",
    )
    ctx.invoke(
        check.command,
        parsers=tuple(str(item.parser) for item in logs),
        mapping=False,
        rules=str(logs[0].parser.parent.parent / "rules"),
        as_json=False,
    )


def _run(out: Console, logs: list[DemoLog], folder: Path) -> list[dict[str, Any]]:
    _step(
        out,
        5,
        "Run the parsers in bulk and map every event onto the common model",
        f"kinglet run -p {logs[0].parser} {logs[0].log} -o {folder / 'out' / logs[0].name}.parquet --as model",
    )
    figures = []
    for item in logs:
        found = _figures(item, folder)
        figures.append(found)
        out.print(f"  {found['events']:>6,} events to {found['outputs'][0]} and .parquet", soft_wrap=True)
    return figures


def _figures(item: DemoLog, folder: Path) -> dict[str, Any]:
    """Runs a log into its two outputs: its mapped events as NDJSON and as Parquet."""
    from kinglet.output.views import view
    from kinglet.output.writers import writer_for
    from kinglet.parser import load

    loaded = load(item.parser)
    started = time.perf_counter()
    result = loaded.parse(item.log)
    outputs = [str(folder / "out" / f"{item.name}{suffix}") for suffix in (".ndjson", ".parquet")]
    for output in outputs:
        with writer_for(output, view(loaded._plan, "model")) as writer:
            for batch in result.batches:
                writer.write(writer.prepare(batch))
    mapped = result.events["variant"].is_not_null().sum()
    return {
        "log": item.name,
        **result.counts,
        "mapped": mapped,
        "outputs": outputs,
        "seconds": round(time.perf_counter() - started, 3),
    }


def _model(ctx: click.Context, out: Console) -> None:
    from kinglet.cli import model

    _step(out, 6, "See what a class of the model wants", 'kinglet model "Tunnel Activity"')
    ctx.invoke(
        model.command, name="Tunnel Activity", search=None, all_attributes=False, file_schema=False, as_json=False
    )


def _closing(out: Console, figures: list[dict[str, Any]], faulty: DemoLog) -> None:
    from rich.rule import Rule
    from rich.text import Text

    out.print()
    out.print(Rule(Text("Figures", style="bold"), align="left", style="dim"))
    names = ("events", "complete", "partial", "unmatched", "mapped")
    out.print(Text(f"  {'log':<14}" + "".join(f"{name:>11}" for name in names) + f"{'seconds':>11}", style="dim"))
    for found in figures:
        out.print(
            f"  {found['log']:<14}" + "".join(f"{found[name]:>11,}" for name in names) + f"{found['seconds']:>11.2f}"
        )
    totals = {name: sum(found[name] for found in figures) for name in names}
    seconds = sum(found["seconds"] for found in figures)
    out.print(
        Text(f"  {'all':<14}" + "".join(f"{totals[name]:>11,}" for name in names) + f"{seconds:>11.2f}", style="bold")
    )
    out.print()
    out.print(f"Go on by hand: mend {faulty.parser}", soft_wrap=True)
    out.print(f"until it reads all of {faulty.log}", soft_wrap=True)
