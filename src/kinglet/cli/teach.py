"""`kinglet teach`: a field learned from examples."""

from __future__ import annotations

import shlex
from typing import TYPE_CHECKING

import click

from kinglet.cli import options
from kinglet.discover.words import counted, percent

if TYPE_CHECKING:
    from rich.console import Console

    from kinglet.teaching.lesson import Lesson, Matched

_LABEL = 10
_FEW = 3


@click.command("teach")
@click.argument("parser", metavar="PARSER.yaml")
@click.argument("file", metavar="LOG")
@click.option("--mark", "shown", multiple=True, metavar="LINE:FIELD=TEXT", help="In this line this text is that field.")
@click.option("--not", "refused", multiple=True, metavar="LINE:FIELD", help="In this line there is no such field.")
@click.option("--type", "kind", metavar="TYPE", help="The type of the slot, if the one that fits the values is wrong.")
@click.option("--name", "variant", metavar="NAME", help="What a variant is called that is added for it.")
@click.option("--no-case", is_flag=True, help="Add no case for the marks.")
@click.option("--dry-run", is_flag=True, help="Show the change and write nothing.")
@options.moment()
@options.zone()
@options.encoding()
@options.as_json()
def command(
    parser: str,
    file: str,
    shown: tuple[str, ...],
    refused: tuple[str, ...],
    kind: str | None,
    variant: str | None,
    no_case: bool,
    dry_run: bool,
    at: str | None,
    zone: str | None,
    encoding: str | None,
    as_json: bool,
) -> None:
    """Teach PARSER.yaml a field by marks on lines of LOG.

    Finds what tells the value in every other event and writes it in the plainest way: a slot in a pattern, a key of a
    structure, a variant or a step. The rest of the file stays as it is, and so does what the parser reads already.
    Where there is no such file, one is begun for the log. A case is added for each mark.
    """
    from kinglet.cli.render import console, print_json, waiting
    from kinglet.teaching.marks import read_mark, read_not
    from kinglet.teaching.teach import teach

    marks = [*map(read_mark, shown), *map(read_not, refused)]
    with waiting("teaching"):
        lesson = teach(
            parser, file, marks, kind=kind, variant=variant, cases=not no_case, at=at, zone=zone, encoding=encoding
        )
    if not dry_run and lesson.text != lesson.before:
        lesson.save()
    if as_json:
        print_json(lesson.to_dict())
        return
    render(console(), lesson)
    _next(console(), lesson, file, dry_run)


def render(out: Console, lesson: Lesson) -> None:
    """Shows a lesson: what was done, what is doubtful, what was taken, and the change of the file."""
    from rich.text import Text

    from kinglet.cli.render import heading
    from kinglet.insight.visible import visible

    share = percent(lesson.taught / lesson.events)
    out.print(heading(lesson.field, f"in {lesson.taught:,} of {counted(lesson.events, 'event')}, {share}"))
    for i, how in enumerate(lesson.how):
        _fact(out, "how" if i == 0 else "", how)
    for i, doubt in enumerate(lesson.doubts):
        _fact(out, "doubtful" if i == 0 else "", visible(doubt.text))
    for match in lesson.matches:
        _match(out, match)
    out.print()
    for line in lesson.diff.splitlines()[2:]:
        style = "green" if line.startswith("+") else "red" if line.startswith("-") else "dim"
        for i, piece in enumerate(Text(visible(line), style=style).wrap(out, out.width - 6)):
            piece.rstrip()
            out.print(Text("  " if i == 0 else "      ").append_text(piece))


def _match(out: Console, match: Matched) -> None:
    from rich.text import Text

    from kinglet.insight.visible import visible

    different = max((count for _, count in match.values), default=0) == 1 < len(match.values)
    shown = [f"{visible(text)} ({count:,})" if count > 1 else visible(text) for text, count in match.values]
    values = "all different: " + ", ".join(shown[:_FEW]) if different else ", ".join(shown)
    name = match.context or "no variant"
    line = Text(f"  {match.count:>6,} of {match.of:,}  ").append(name, style="bold")
    line.append("" if match.marked else "  no mark", style="dim")
    out.print(line)
    for piece in Text(values).wrap(out, out.width - _LABEL - 6):
        piece.rstrip()
        out.print(Text(" " * (_LABEL + 4)).append_text(piece))


def _fact(out: Console, label: str, text: str) -> None:
    from rich.text import Text

    for i, line in enumerate(Text(text).wrap(out, out.width - _LABEL - 2)):
        line.rstrip()
        out.print(Text("  ").append(f"{label if i == 0 else '':<{_LABEL}}", style="bold").append_text(line))


def _next(out: Console, lesson: Lesson, file: str, dry_run: bool) -> None:
    from rich.text import Text

    if dry_run:
        _fact(out, "next", "nothing was written; leave --dry-run out")
        return
    said = f"{counted(lesson.cases, 'case')} added" if lesson.cases else "no case added"
    if lesson.text == lesson.before:
        said = "nothing was to be written"
    _fact(out, "next", f"{said}; what is wrong is another --mark, or --not LINE:{lesson.field}")
    out.print(Text(f"  $ kinglet try {shlex.quote(lesson.name)} {shlex.quote(file)}", style="bold"))
