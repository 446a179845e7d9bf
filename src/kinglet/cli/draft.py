"""`kinglet draft`: the first parser of a log."""

from __future__ import annotations

import shlex
from typing import TYPE_CHECKING

import click

from kinglet.cli import options
from kinglet.discover.words import counted, percent

if TYPE_CHECKING:
    from rich.console import Console
    from rich.text import Text

    from kinglet.drafting.report import Draft, DraftedMessage

_LABEL = 10


@click.command("draft")
@click.argument("files", metavar="FILE...", nargs=-1, required=True)
@click.option("-o", "--output", metavar="PARSER.yaml", help="Where the parser goes; - for standard output.")
@click.option("--into", metavar="PARSER.yaml", help="Add variants to this parser for what it does not read.")
@click.option("--product", metavar="VENDOR/NAME", help="What wrote the log.")
@options.zone()
@options.moment()
@options.encoding()
@options.max_unpacked_bytes()
@click.option("--most", type=int, metavar="N", help="Write at most so many variants; 200 unless given.")
@click.option("--mask", is_flag=True, help="Put stand-ins for addresses, names and mail into the cases.")
@click.option("--split", is_flag=True, help="Draft each of several devices whose lines are mixed in the log.")
@click.option("--messages", "shown", default=8, show_default=True, type=click.IntRange(0), help="Messages to show.")
@options.as_json()
def command(
    files: tuple[str, ...],
    output: str | None,
    into: str | None,
    product: str | None,
    zone: str | None,
    at: str | None,
    encoding: str | None,
    max_unpacked_bytes: int | None,
    most: int | None,
    mask: bool,
    split: bool,
    shown: int,
    as_json: bool,
) -> None:
    """Write the first parser for the logs FILE..., which are one log in one form.

    Finds where events begin, their time, the front part that they share and the messages behind it, with typed and
    named slots; writes a case for each message and optional part, and a comment where the log leaves something open.
    What is written has been tried: the draft reads the log, and its values are the texts that stand there.
    """
    from kinglet.cli.render import console, print_json, waiting
    from kinglet.drafting.drafted import draft
    from kinglet.drafting.saving import ready_for, save
    from kinglet.drafting.work import MOST

    target = ready_for(output, into)
    with waiting("drafting"):
        made = draft(
            *files,
            product=product,
            zone=zone,
            at=at,
            encoding=encoding,
            most=MOST if most is None else most,
            mask=mask,
            split=split,
            into=into,
            max_unpacked_bytes=max_unpacked_bytes,
        )
    nothing = into is not None and not made.messages
    written = save(made, target) if target is not None and not nothing else [None] * (1 + len(made.others))
    if as_json and target != "-":
        print_json(made.to_dict())
        return
    out = console(error=target == "-")
    for i, (one, place) in enumerate(zip([made, *made.others], written, strict=True)):
        if i:
            out.print()
        render(out, one, shown)
        if not nothing:
            _next(out, one, place, files)


def render(out: Console, made: Draft, shown: int) -> None:
    """Shows a draft."""
    from kinglet.cli.render import heading

    out.print(heading(made.name, counted(made.events, "event")))
    for one in made.ready:
        _fact(out, "ready", f"`{one.parser}` reads {percent(one.complete)} of it: perhaps nothing needs writing")
    _fact(out, "events", made.cut)
    _fact(out, "time", made.time or "none found")
    if made.envelope:
        _fact(out, "envelope", made.envelope.replace("\n", "⏎"))
    if made.kind:
        _fact(out, "kind", f"`{made.kind}` tells which message it is")
    dropped = made.events - made.complete - made.partial - made.unmatched
    rest = f", {made.partial:,} partial, {made.unmatched:,} unmatched" if made.partial + made.unmatched else ""
    rest += f", {dropped:,} dropped" if dropped else ""
    _fact(out, "complete", f"{made.complete:,} of {counted(made.events, 'event')}, {percent(made.share)}{rest}")
    _fact(out, "messages", f"{counted(len(made.messages), 'variant')}, {counted(made.cases, 'case')}")
    digits = max((len(f"{message.count:,}") for message in made.messages[:shown]), default=1)
    for message in made.messages[:shown]:
        _message(out, message, digits)
    if len(made.messages) > shown:
        _fact(out, "", f"{len(made.messages) - shown:,} more; --messages N for more than {shown}", dim=True)
    for i, doubt in enumerate(made.doubts):
        _fact(out, "unsure" if i == 0 else "", doubt.text + (f"; {doubt.mend}" if doubt.mend else ""))


def _fact(out: Console, label: str, text: str, *, dim: bool = False) -> None:
    """A line of a label and what is said of it; long ones go on below."""
    from rich.text import Text

    from kinglet.insight.visible import visible

    body = Text(visible(text), style="dim" if dim else "not bold")
    for i, line in enumerate(body.wrap(out, max(out.width - _LABEL - 2, 30))):
        line.rstrip()
        out.print(Text(f"  {label if i == 0 else '':<{_LABEL}}", style="bold").append_text(line))


def _message(out: Console, message: DraftedMessage, digits: int) -> None:
    from rich.text import Text

    from kinglet.cli.render import few_colours
    from kinglet.insight.visible import visible

    head = Text(f"  {message.count:>{digits},} {percent(message.share):>7}  ", style="default")
    width = len(head.plain)
    told = message.pattern.replace("\n", "⏎") or f"{message.variant}: {', '.join(message.fields)}"
    body = Text(visible(told), style="default")
    body.highlight_regex(r"\{[^{}\s]*\}", style="blue" if few_colours(out) else "#2f74b5")
    room = max(out.width - width, 30)
    lines = list(body.wrap(out, room))
    if message.classes:
        said = Text(f"→ {message.classes[0]}", style="dim")
        lines[-1].rstrip()
        if len(lines[-1].plain) + 2 + len(said.plain) <= room:
            lines[-1].append("  ").append_text(said)
        else:
            lines.append(said)
    for i, line in enumerate(lines):
        line.rstrip()
        out.print((head if i == 0 else Text(" " * width)).append_text(line))


def _next(out: Console, made: Draft, target: str | None, files: tuple[str, ...]) -> None:
    from rich.text import Text

    from kinglet.cli.render import state_colours

    def line(text: str) -> Text:
        return Text("  $ ", style="dim").append(text, style="bold " + state_colours(out)["complete"])

    if target is None:
        _fact(out, "next", "nothing was written; say where with -o")
        again = " ".join(map(shlex.quote, files))
        out.print(line(f"kinglet draft {again} -o {made.stem}.yaml"), soft_wrap=True)
    elif target != "-":
        _fact(out, "next", f"{target} is written; read its comments, then")
        out.print(line(f"kinglet check {target}"), soft_wrap=True)
