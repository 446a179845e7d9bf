"""`kinglet explain`: what a parser will do, pattern by pattern."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from kinglet.cli import options

if TYPE_CHECKING:
    from collections.abc import Iterator

    from rich.console import Console

    from kinglet.insight.explaining import Explanation, Overview

_NAMES = 10
_REGEXES = ("regex", "or")
_READS = {
    "json": "a JSON object",
    "pairs": "pairs of keys and values",
    "delimited": "a row",
    "xml": "an XML element",
    "block": "a labelled block",
    "fixed": "columns by position",
    "nothing": "nothing; its kind tells it",
}


@click.command("explain")
@click.argument("parser")
@click.option("--variant", "wanted", metavar="NAME", help="This variant only.")
@click.option("--line", metavar="TEXT", help="Show piece by piece what the patterns take of this event.")
@click.option("--merged", is_flag=True, help="Print the file as one with what it extends.")
@options.model()
@options.as_json()
def command(
    parser: str, wanted: str | None, line: str | None, merged: bool, extensions: tuple[str, ...], as_json: bool
) -> None:
    """Show what PARSER will do, pattern by pattern.

    Of each pattern: the regexes that it becomes and the order in which they are tried, the text that every match
    contains, how long matches are, what runs it, and the fields it gives.
    """
    from kinglet.cli.render import console, print_json
    from kinglet.errors import UsageError, did_you_mean
    from kinglet.insight.explaining import explain, json_values
    from kinglet.parser import load

    loaded = load(parser, model=options.load_model(extensions))
    if merged:
        from kinglet.insight.merged import merged_text

        if as_json:
            print_json(loaded._document.values)
        else:
            click.echo(merged_text(loaded), nl=False)
        return
    if line is not None:
        from kinglet.cli.pieces import pieces_as_plain, render_pieces
        from kinglet.insight.pieces import pieces

        shown = pieces(loaded, line, wanted)
        if as_json:
            print_json(pieces_as_plain(shown))
        else:
            render_pieces(console(), line, shown)
        return
    found = explain(loaded)
    if wanted is not None:
        names = [item.name for item in found.variants]
        if wanted not in names:
            raise UsageError(
                f"no variant `{wanted}`", f"{did_you_mean(wanted, names, 'the variants are ' + ', '.join(names))}"
            )
        found = found._replace(variants=tuple(item for item in found.variants if item.name == wanted))
    if as_json:
        print_json(json_values(found))
        return
    out = console()
    if wanted is None:
        _render_head(out, found)
    for item in found.variants:
        out.print()
        _render(out, item, named=len(found.kinds) > 1)
    if wanted is None and found.steps:
        _render_steps(out, found)


def _render_head(out: Console, found: Overview) -> None:
    from kinglet.cli.render import heading

    count = len(found.variants)
    out.print(
        heading(f"{found.parser} {found.version}", f"{count} variant{'s' * (count != 1)}  {found.about}".rstrip())
    )
    _line(out, "events", found.events)
    for i, time in enumerate(found.times):
        _line(out, "time" if i == 0 else "", time)
    for i, (name, text) in enumerate(found.parts.items()):
        _line(out, "" if i else "parts", f"{{@{name}}}  {text}")
    if found.envelope is not None:
        out.print()
        _render(out, found.envelope)
        if found.kinds:
            reads = f", which reads `{found.body}`" if found.body else ""
            verb = "tells" if len(found.kinds) == 1 else "together tell"
            _line(out, "kind", f"{' and '.join(f'`{name}`' for name in found.kinds)} {verb} the variant{reads}")
        elif found.body:
            _line(out, "then", f"the variants read `{found.body}`")


def _render_steps(out: Console, found: Overview) -> None:
    from kinglet.cli.render import heading

    out.print()
    out.print(heading("steps", "after the fields are read, in this order"))
    for step in found.steps:
        about = f"{step.operation}  {step.about}" + ("  (off)" if step.off else "")
        _line(out, f"{step.number}", about)
        if step.when is not None:
            _line(out, "", f"when {step.when}")
        if step.note:
            _line(out, "", f"# {step.note}")


def _render(out: Console, item: Explanation, *, named: bool = False) -> None:
    from kinglet.cli.render import heading

    out.print(heading(item.name, _kinds(item, named=named)))
    for name, text in _lines(item):
        _line(out, name, text)


def _kinds(item: Explanation, *, named: bool) -> str:
    """The values that tell a variant; named: with the slots that have them."""
    if len(item.kinds) == 1 and not named:
        values = next(iter(item.kinds.values()))
        return f"{'kind' if len(values) == 1 else 'kinds'} {', '.join(map(str, values))}"
    return ", ".join(f"{slot} {' or '.join(map(str, values))}" for slot, values in item.kinds.items())


_MOST_NAMED = 3


def _as_one(item: Explanation) -> str:
    """The variants that are read together with this one."""
    if not item.as_one_with:
        return ""
    more = len(item.as_one_with) - _MOST_NAMED
    names = ", ".join(item.as_one_with[:_MOST_NAMED]) + (f" and {more:,} more" if more > 0 else "")
    return f", together with {names}, which open with other text"


def _lines(item: Explanation) -> Iterator[tuple[str, str]]:
    if item.form == "pattern":
        yield "pattern", item.written
    if not item.regexes:
        yield "reads", _READS[item.form]
        yield "fields", _fields(item)
        if item.mapped:
            yield "model", item.mapped
        return
    yield "regex", item.regexes[0]
    for regex in item.regexes[1:]:
        yield "or", regex
    telling = [text for text in item.literals if len(text.strip()) > 1] or sorted(item.literals, key=len)[-1:]
    yield "contains", "  ".join(f"`{text}`" for text in telling) or "no text that is always the same"
    least = f"{item.least:,}"
    yield (
        "width",
        f"{least} characters"
        if item.least == item.most
        else (f"{least} characters or more" if item.most is None else f"{least} to {item.most:,} characters"),
    )
    yield "engine", item.engine + _as_one(item)
    yield "fields", _fields(item)
    if item.mapped:
        yield "model", item.mapped


def _fields(item: Explanation) -> str:
    fields = [
        f"{note.name} ({note.type}: {note.value})" if note.type != note.value else f"{note.name} ({note.value})"
        for note in item.fields
    ]
    return ", ".join(fields) or "none"


def _line(out: Console, name: str, text: str) -> None:
    from rich.text import Text

    from kinglet.insight.visible import visible

    width = out.width - _NAMES - 2
    text = visible(text)
    if name in _REGEXES:
        lines = list(_cut(text, width))
    else:
        lines = [piece.plain.rstrip() for piece in Text(text).wrap(out, width, overflow="fold")]
    for i, line in enumerate(lines):
        out.print(Text(f"  {name if i == 0 else '':<{_NAMES}}", style="dim").append(line, style="not dim"))


def _cut(regex: str, width: int) -> Iterator[str]:
    """A regex in lines that end between its pieces where they can."""
    from kinglet.regex.atoms import atoms

    line = ""
    for piece in atoms(regex):
        # a piece that needs lines of its own anyway begins where there is room
        if len(line) + len(piece) > width >= len(piece):
            yield line
            line = ""
        line += piece
        while len(line) > width:
            yield line[:width]
            line = line[width:]
    if line:
        yield line
