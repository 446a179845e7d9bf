"""`kinglet look`: a first look at raw logs."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from kinglet.cli import options
from kinglet.discover.words import counted, percent, size

if TYPE_CHECKING:
    from rich.console import Console
    from rich.text import Text

    from kinglet.discover.report import Look, Shape, StampPlace

_LABEL = 11


@click.command("look")
@click.argument("files", metavar="FILE...", nargs=-1, required=True)
@click.option(
    "--shapes", default=8, show_default=True, type=click.IntRange(0), help="Shapes to show; rare ones follow."
)
@options.encoding()
@options.max_unpacked_bytes()
@options.as_json()
def command(
    files: tuple[str, ...], shapes: int, encoding: str | None, max_unpacked_bytes: int | None, as_json: bool
) -> None:
    """Look at raw logs before there is a parser.

    Says of each FILE how it is encoded, what form it has, where its events start, where stamps stand, which shapes its
    lines have and which values belong together; each with its evidence. FILE may be a folder or a glob, which is looked
    at as one log, or - for standard input.
    """
    from kinglet.cli.render import console, print_json, waiting
    from kinglet.looking.profile import look

    with waiting("looking"):
        found = look(*files, encoding=encoding, max_unpacked_bytes=max_unpacked_bytes)
    if as_json:
        print_json({"logs": [item.to_dict() for item in found]})
        return
    out = console()
    for i, item in enumerate(found):
        if i:
            out.print()
        render(out, item, shapes)


def render(out: Console, item: Look, shapes: int) -> None:
    """Shows a look."""
    from kinglet.cli.render import heading

    files = f"{item.files:,} files; " if item.files > 1 else ""
    out.print(heading(item.name, f"{files}looked at {item.looked_at}"))
    _basics(out, item)
    _boundaries(out, item)
    _stamps(out, item)
    _shapes(out, item, shapes)
    _pairs(out, item)
    _next(out, item)


def _fact(out: Console, label: str, text: str, note: str = "") -> None:
    """A line of a label and what is said of it, with its evidence dimmed; long ones go on below."""
    from rich.text import Text

    from kinglet.insight.visible import visible

    body = Text(visible(text))
    if note:
        body.append(("  " if text else "") + visible(note), style="dim")
    lines = body.wrap(out, out.width - _LABEL - 2)
    for i, line in enumerate(lines):
        line.rstrip()
        out.print(Text(f"  {label if i == 0 else '':<{_LABEL}}", style="bold").append_text(_not_bold(line)))


def _not_bold(text: Text) -> Text:
    text.style = "not bold"
    return text


def _basics(out: Console, item: Look) -> None:
    basics = item.basics
    about = "about " if basics.lines_estimated else ""
    packed = f", {basics.packing} unpacked" if basics.packing else ""
    total = size(basics.size) if basics.size is not None else "size not known"
    where = f" (line {basics.longest_line_number:,})" if basics.longest_line_number else ""
    empty = f", {basics.empty_lines:,} empty" if basics.empty_lines else ""
    _fact(
        out,
        "size",
        f"{total}{packed}, {about}{counted(basics.lines, 'line')}{empty}; "
        f"the longest {basics.longest_line:,} bytes{where}",
    )
    _fact(
        out,
        "encoding",
        basics.encoding.upper() if basics.encoding.startswith("utf") else basics.encoding,
        basics.encoding_evidence,
    )
    ends = (
        ", ".join(f"{name} ({count:,})" for name, count in basics.line_ends.items())
        if len(basics.line_ends) > 1
        else "".join(basics.line_ends)
    )
    _fact(out, "line ends", ends or "none")
    if item.container is not None:
        form = item.container
        _fact(out, "form", f"{form.name}: {form.details}", f"{percent(form.share)} of {form.basis}")
    else:
        _fact(out, "form", "lines of text", "none of the usual containers fits four fifths of it")
    for i, odd in enumerate(basics.anomalies):
        lines = [str(number) for number in odd.lines if number]
        where = f"line{'s' if len(lines) > 1 else ''} {', '.join(lines)}" if lines else ""
        count = "" if odd.what.startswith("the last line") and odd.count == 1 else f"{odd.count:,} "
        _fact(out, "odd" if i == 0 else "", f"{count}{odd.what}", where)


def _boundaries(out: Console, item: Look) -> None:
    from rich.text import Text

    from kinglet.cli.render import heading, state_colours

    out.print()
    out.print(heading("events", "where they start, and what share of the lines that explains"))
    for i, way in enumerate(item.boundaries):
        line = Text("  ● " if i == 0 else "    ", style=state_colours(out)["complete"])
        line.append(f"{percent(way.explained):>6}  ", style="default")
        # not folded, so that it can be copied
        out.print(line.append(_events(way.events), style="bold default" if i == 0 else "default"), soft_wrap=True)
        for fact in (way.evidence, way.wrong):
            if fact:
                _hanging(out, Text(" " * 12), fact, 12, style="dim")


def _hanging(out: Console, head: Text, text: str, indent: int, style: str = "default") -> None:
    """Text behind a head, going on below it where it is long."""
    from rich.text import Text

    from kinglet.cli.render import few_colours
    from kinglet.insight.visible import visible

    body = Text(visible(text), style=style)
    if style == "bold":  # a shape
        body.highlight_regex(r"\{[^{}\s]*\}", style="not bold blue" if few_colours(out) else "not bold #2f74b5")
    lines = body.wrap(out, max(out.width - indent, 30))
    for i, line in enumerate(lines):
        line.rstrip()
        out.print((head if i == 0 else Text(" " * indent)).append_text(line))


def _events(events: dict[str, object]) -> str:
    """The `events` of a parser file, as it would be written there."""
    from kinglet.discover.suggestion import flow

    name, value = next(iter(events.items()))
    return name if value is True else f"{name}: {flow(value)}"


def _stamps(out: Console, item: Look) -> None:
    from rich.text import Text

    from kinglet.cli.render import heading, state_colours

    out.print()
    if not item.stamps:
        out.print(heading("times", "no stamp of a known form in the events that were searched"))
        return
    out.print(heading("times", "where stamps stand; the likeliest time of the event first"))
    for place in item.stamps:
        line = Text("  ● " if place.is_time else "    ", style=state_colours(out)["complete"])
        line.append(f"{place.example}", style="bold default").append(
            f"  {place.place}, {percent(place.share)} of events", style="default"
        )
        out.print(line, soft_wrap=True)
        for text in _about_stamp(place):
            _hanging(out, Text("      "), text, 6, style="dim")


def _about_stamp(place: StampPlace) -> list[str]:
    from kinglet.cli.render import shown_value

    how = f"{place.form}: {place.format}" if place.format and place.format != place.form else place.form
    facts = [f"{how}; " + ("no zone in the text" if place.zone.startswith("none") else f"zone {place.zone}")]
    if place.first is not None:
        order = _order(place.rising)
        facts.append(f"from {shown_value(place.first, 40)} to {shown_value(place.last, 40)}{order}")
    elif not place.format:
        facts.append(
            "cannot be read by itself: it has no date" if "time of day" in place.form else "no format reads it yet"
        )
    if place.unreadable:
        facts.append(f"{place.unreadable:,} of this form are no valid time")
    if place.ambiguity:
        facts.append(place.ambiguity)
    if place.reason:
        facts.append(f"likely the event's time: {place.reason}")
    if place.apart:
        facts.append(place.apart)
    return facts


def _order(rising: float | None) -> str:
    if rising is None:
        return ""
    if rising == 1:
        return "; always rising"
    if rising < 0.05:
        return "; falling: the newest comes first"
    return f"; rising in {percent(rising)} of steps"


def _shapes(out: Console, item: Look, most: int) -> None:
    from kinglet.cli.render import heading

    out.print()
    if not most:
        return
    shown = item.shapes[:most]
    rest = item.shape_count - len(shown)
    out.print(
        heading("shapes", f"{item.shape_count:,} of them" + (f"; --shapes N for more than {most}" if rest > 0 else ""))
    )
    digits = max((len(f"{shape.count:,}") for shape in item.shapes), default=1)
    for shape in shown:
        _shape(out, shape, digits)
    rare = item.shapes[most:][-4:]
    if rest > 0:
        _fact_line(out, f"{rest:,} more, the rarest of them:")
        for shape in rare:
            _shape(out, shape, digits, example=False)
    for shape in [shape for shape in shown if shape.columns][:3]:
        _columns(out, shape)


def _fact_line(out: Console, text: str) -> None:
    from rich.text import Text

    out.print(Text(f"  {text}", style="dim"))


def _shape(out: Console, shape: Shape, digits: int, example: bool = True) -> None:
    from rich.text import Text

    from kinglet.insight.visible import visible

    head = Text(f"  {shape.count:>{digits},} {percent(shape.share):>7}  ")
    _hanging(out, head, shape.text.replace("\n", "⏎"), len(head.plain), style="bold")
    if example:
        indent = " " * len(f"  {shape.count:>{digits},} {percent(shape.share):>7}  ")
        text = visible(shape.example.replace("\n", " ⏎ "))
        number = f"line {shape.line:,}: " if shape.line else ""
        room = out.width - len(indent) - len(number)
        out.print(
            Text(f"{indent}{number}", style="dim").append(
                text if len(text) <= room else text[: room - 1] + "…", style="dim"
            )
        )


def _columns(out: Console, shape: Shape) -> None:
    from rich.text import Text

    from kinglet.cli.render import heading
    from kinglet.insight.visible import visible

    out.print()
    text = shape.text if len(shape.text) <= out.width - 14 else shape.text[: out.width - 15] + "…"
    out.print(heading("columns", f"of {visible(text)}"))
    names = min(max(len(column.name) for column in shape.columns), 28)
    shown = shape.columns[:24]
    about = min(max(len(column.about) for column in shown), 40)
    heads = f"  {'':<{names}}  {'type':<5} {'distinct':>8}  {'':<{about}}  commonest"
    out.print(Text(heads, style="dim"))
    for column in shown:
        line = (
            Text("  ")
            .append(f"{_cut(column.name, names):<{names}}  ", style="bold")
            .append(f"{column.type:<5} {column.distinct:>8,}  {_cut(column.about, about):<{about}}  ")
        )
        room = out.width - len(line.plain)
        line.append(_cut(visible(", ".join(column.examples)), max(room, 12)), style="dim")
        out.print(line)
    if len(shape.columns) > len(shown):
        _fact_line(out, f"{len(shape.columns) - len(shown)} more; --json has all")


def _pairs(out: Console, item: Look) -> None:
    from rich.text import Text

    from kinglet.cli.render import heading

    if not item.pairs:
        return
    out.print()
    out.print(heading("belong together", "where a value departs from the rule may be worth a detection"))
    for pair in item.pairs:
        sign = "↔" if pair.relation == "one to one" else "→"
        but = f", but for {pair.exceptions:,} of {pair.of:,}" if pair.exceptions else ", without exception"
        out.print(Text("  ").append(f"{pair.one} {sign} {pair.many}", style="bold").append(f"  {pair.relation}{but}"))
        for example in pair.examples[:2]:
            _hanging(out, Text("      "), example, 6, style="dim")


def _next(out: Console, item: Look) -> None:
    from rich.text import Text

    from kinglet.cli.render import heading, state_colours

    out.print()
    if item.ready:
        _ready(out, item)
    name = item.command.split()[2]
    out.print(
        heading("next", f"put this into {name}, and" if name.endswith(".yaml") else "a ready parser has this name")
    )
    if name.endswith(".yaml"):
        for line in item.suggestion.splitlines():
            out.print(Text(f"    {line}"), soft_wrap=True)
    out.print(
        Text("  $ ", style="dim").append(item.command, style="bold " + state_colours(out)["complete"]), soft_wrap=True
    )


def _ready(out: Console, item: Look) -> None:
    from rich.text import Text

    from kinglet.cli.render import heading

    out.print(heading("ready", "parsers that read it already"))
    for one in item.ready:
        line = Text(f"  {one.parser}", style="bold").append(f"  reads {percent(one.complete)} of it", "not bold")
        out.print(line.append(f", and claims {one.claims!r}" if one.claims is not None else "", "not bold dim"))
    alone = len(item.ready) == 1
    call = f"kinglet try {item.ready[0].parser} {item.name}" if alone else f"kinglet run -p library {item.name} -o OUT"
    out.print(Text("  $ ", style="dim").append(call), soft_wrap=True)
    out.print()


def _cut(text: str, width: int) -> str:
    text = text.replace("\n", "⏎")
    return text if len(text) <= width else text[: max(width - 1, 1)] + "…"
