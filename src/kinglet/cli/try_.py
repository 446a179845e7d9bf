"""`kinglet try`: a sample, parsed and shown."""

from __future__ import annotations

import functools
from dataclasses import asdict
from typing import TYPE_CHECKING, Any, NamedTuple

import click

from kinglet.cli import options
from kinglet.cli.left import render_left, render_values
from kinglet.discover.words import counted

if TYPE_CHECKING:
    from collections.abc import Sequence

    from rich.console import Console
    from rich.text import Text

    from kinglet.drafting.leftovers import Leftover
    from kinglet.insight.preview import Preview, ShownEvent
    from kinglet.insight.values import FieldValues
    from kinglet.parser import Parser
    from kinglet.result import Result

_MOST = 100_000


@click.command("try")
@click.argument("parser", metavar="PARSER")
@click.argument("files", metavar="FILE...", nargs=-1, required=True)
@click.option("--show", default=12, show_default=True, type=click.IntRange(0), help="Raw events to show.")
@click.option(
    "--only", type=click.Choice(["complete", "partial", "unmatched", "dropped"]), help="Show events of this state only."
)
@click.option("--find", metavar="TEXT|/REGEX/", help="Show events that have this text, or match this regex.")
@click.option("--field", metavar="NAME", help="Show the values of this field, those unlike the others first.")
@click.option("--sample", type=click.IntRange(1), metavar="N", help="Show of N events from all over the log.")
@click.option("--seed", default=0, show_default=True, type=int, help="Chooses which events --sample takes.")
@click.option("-o", "--output", metavar="REPORT.html", help="Write it as a page in one file.")
@click.option("--watch", is_flag=True, help="Show it again after each save of PARSER, and when FILE grows.")
@click.option(
    "--trace", "line", type=click.IntRange(1), metavar="LINE", help="Show one event before and after each step."
)
@click.option("--without", type=click.IntRange(1), metavar="STEP", help="Leave a step out, and show what that changes.")
@click.option("--until", type=click.IntRange(0), metavar="STEP", help="Do the steps up to this one; 0 for none.")
@click.option("--most", default=_MOST, show_default=True, type=click.IntRange(1), help="Events to read of each file.")
@options.moment()
@options.zone()
@options.encoding()
@options.max_unpacked_bytes()
@options.model()
@options.as_json()
def command(
    parser: str,
    files: tuple[str, ...],
    show: int,
    only: str | None,
    find: str | None,
    field: str | None,
    sample: int | None,
    seed: int,
    output: str | None,
    watch: bool,
    line: int | None,
    without: int | None,
    until: int | None,
    most: int,
    at: str | None,
    zone: str | None,
    encoding: str | None,
    max_unpacked_bytes: int | None,
    extensions: tuple[str, ...],
    as_json: bool,
) -> None:
    """Parse a sample with PARSER and show what came out of it.

    Shows counts by state, raw events with the characters of each field in its colour and the stamp underlined, their
    times, the times of the whole log, values by variant, and why events are not complete. PARSER is a file or the name
    of a ready parser; FILE may be - for standard input.
    """
    from kinglet.cli.render import console, print_json
    from kinglet.errors import InputError, UsageError
    from kinglet.insight.preview import preview
    from kinglet.insight.values import values_of
    from kinglet.parser import load

    if (line is not None) + (without is not None) + (until is not None) > 1:
        raise UsageError("--trace, --without and --until each show something else", "give one of them")
    if without is not None and "-" in files:
        raise UsageError("--without reads the log more than once, and standard input is gone then", "give it a file")
    model = options.load_model(extensions)

    def parsed(name: str, by: Parser) -> Result:
        found = by.parse(
            name, reference_time=at, zone=zone, encoding=encoding, max_unpacked_bytes=max_unpacked_bytes, limit=most
        )
        if not len(found):
            raise InputError(f"{name}: is empty", "there is nothing to parse")
        return found

    def present(name: str, result: Result) -> None:
        shown = preview(result, show=show, only=only, find=find, sample=sample, seed=seed, zone=zone)
        left: list[Leftover] = []
        if only in ("unmatched", "partial"):
            from kinglet.drafting.leftovers import leftovers  # it loads much that is not needed otherwise

            left = leftovers(result, only)
        values = values_of(shown.chosen, field, None if as_json else 20) if field is not None else None
        if as_json:
            found.append(_as_json(name, result, shown))
            found[-1] |= {"left": [one.to_dict() for one in left]} if only in ("unmatched", "partial") else {}
            found[-1] |= {"field": values.to_dict()} if values is not None else {}
        else:
            _render(out, name, result, shown, Asked(only, find, most), left, values)

    found: list[dict[str, Any]] = []
    out = console()
    if output is not None:
        from kinglet.drafting.pages import check_page, write_page

        if as_json or watch or line is not None or without is not None:
            raise UsageError("-o writes a page", "leave --json, --watch, --trace and --without out")
        check_page(output, files)
        result = parsed(files[0], _with_steps(load(parser, model=model), None, until))
        write_page(output, files[0], result)
        counts = result.counts
        out.print(f"{output}: {counts['complete']:,} of {counts['events']:,} events complete", highlight=False)
        return
    if watch:
        from kinglet.cli.watching import follow

        if as_json or line is not None or without is not None or "-" in files:
            raise UsageError("--watch shows files again and again", "leave --json, --trace, --without and - out")

        def again() -> list[tuple[str, Result]]:
            by = _with_steps(load(parser, model=model), None, until)
            return [(name, parsed(name, by)) for name in files]

        follow(out, [parser, *files], again, present)
        return
    loaded = load(parser, model=model)
    stepped = _with_steps(loaded, without, until)
    for name in files:
        if line is not None:
            from kinglet.cli.trace import render_trace, trace_as_plain
            from kinglet.insight.tracing import traced as trace_of

            traced = trace_of(loaded, functools.partial(parsed, name), line)
            if as_json:
                found.append({"file": name, "trace": trace_as_plain(traced)})
            else:
                render_trace(out, traced)
            continue
        result = parsed(name, stepped)
        present(name, result)
        if without is not None:
            from kinglet.cli.trace import difference_as_plain, render_difference
            from kinglet.insight.tracing import difference

            step = next((step for step in loaded._plan.steps if step.number == without), None)
            if step is None:
                raise UsageError(f"step {without} is off already")
            changed = difference(parsed(name, loaded), parsed(name, loaded.with_steps(without=[without])))
            if as_json:
                found[-1]["without"] = difference_as_plain(changed, step)
            else:
                render_difference(out, changed, step)
    if as_json:
        print_json({"parser": loaded.name, "version": loaded.version, "files": found})


def _with_steps(loaded: Parser, without: int | None, until: int | None) -> Parser:
    """The parser with the steps that are asked for; raw text stays whole, for it is shown."""
    left_out = {step.number for step in loaded._plan.steps if step.operation == "raw"}
    if without is not None:
        left_out.add(without)
    return loaded.with_steps(without=left_out, until=until) if left_out or until is not None else loaded


def _as_json(name: str, result: Result, shown: Preview) -> dict[str, Any]:
    from kinglet.insight.timeline import json_values

    return {
        "file": name,
        "counts": result.counts,
        "times": json_values(shown.times) if shown.times is not None else None,
        "faults": [
            {
                "fault": fault.fault,
                "count": fault.count,
                "examples": [
                    {
                        "line": event.line,
                        "raw": event.raw,
                        "start": reason.start,
                        "end": reason.end,
                        "message": reason.message,
                    }
                    for event, reason in fault.examples
                ],
            }
            for fault in shown.faults
        ],
        "events": [
            {
                "line": event.line,
                "raw": event.raw,
                "state": event.state,
                "variant": event.variant,
                "time": event.time,
                "time_rule": event.time_rule,
                "time_notes": list(event.time_notes),
                "stamp": event.stamp and {"start": event.stamp[0], "end": event.stamp[1]},
                "fields": [{"field": span.field, "start": span.start, "end": span.end} for span in event.spans],
            }
            for event in shown.events
        ],
        "values": [
            {"variant": table.variant, "events": table.count, "lines": table.lines, "fields": table.rows}
            for table in shown.values
        ],
        "similar_keys": [asdict(key) for key in shown.similar],
    }


class Asked(NamedTuple):
    """What was asked for of the events."""

    only: str | None
    find: str | None
    most: int

    @property
    def words(self) -> str:
        """The events that were asked for, in words; nothing for all of them."""
        return " ".join(filter(None, (self.only, f"with {self.find}" if self.find else "")))


def _render(
    out: Console,
    name: str,
    result: Result,
    shown: Preview,
    asked: Asked,
    left: Sequence[Leftover],
    values: FieldValues | None,
) -> None:
    from rich.text import Text

    from kinglet.cli.render import coverage_bar, heading, state_colours, state_lines

    counts = result.counts
    parser = result.parser
    title = heading(
        f"{parser.name} {parser.version}",
        f"{name}: {counted(counts['events'], 'event')}{_packing_and_encoding(result)}"
        + (", where reading stopped (--most)" if counts["events"] == asked.most else ""),
    )
    out.print(title)
    out.print()
    out.print(Text("  ").append_text(coverage_bar(counts, state_colours(out), min(out.width - 4, 76))))
    for line in state_lines(counts, state_colours(out)):
        out.print(line)
    if asked.words and not shown.of:
        out.print(f"\n  no event is {asked.only}" if asked.only else "\n  no event has that", style="dim")
    if values is not None:
        render_values(out, values)
    render_left(out, left, asked.only or "")
    _render_events(out, result, shown, asked.words)
    if shown.times is not None:
        from kinglet.cli.times import render_stamps, render_timeline

        if shown.events:
            render_stamps(out, shown.events, shown.times)
        if not left and values is None:  # what is left, or one field, is what was asked for
            render_timeline(out, shown.times)
    if values is None:
        _render_values(out, shown)
        _render_similar(out, shown)
    if not left:
        _render_faults(out, result, shown)


def _packing_and_encoding(result: Result) -> str:
    """How the logs were packed and encoded, where that is not plain UTF-8."""
    sources = [source for batch in result.batches for source in batch.sources]
    forms = dict.fromkeys(
        word
        for source in sources
        for word in (source.packing, source.encoding.name if source.encoding and source.encoding.width else None)
        if word
    )
    return f", {', '.join(forms)}" if forms else ""


def _render_events(out: Console, result: Result, shown: Preview, asked: str) -> None:
    from kinglet.cli.render import few_colours, heading
    from kinglet.insight.palette import field_colours

    if not shown.events:
        return
    colours = field_colours(result.parser.fields, few=few_colours(out))
    of = shown.of
    part = f"{len(shown.events)} of {of:,}" if len(shown.events) < of else f"all {of:,}" if asked else "all"
    part += f" {asked}" if asked else ""
    more = "; --show N for more" if len(shown.events) < of else ""
    out.print()
    out.print(heading("raw events", f"{part}{more}"))
    for line in _legend(shown.legend, colours, out.width):
        out.print(line)
    out.print()
    digits = len(f"{max(event.line for event in shown.events)}")
    for event in shown.events:
        _render_event(out, event, colours, digits)


def _legend(fields: list[str], colours: dict[str, str], width: int) -> list[Text]:
    """The fields in their colours; a line ends between two, never within one."""
    from rich.text import Text

    lines = [Text(" ")]
    for field in fields:
        if len(lines[-1]) + len(field) + 3 > width:
            lines.append(Text(" "))
        lines[-1].append(" ").append(f" {field} ", style=f"black on {colours[field]}")
    return lines if fields else []


def _render_event(out: Console, event: ShownEvent, colours: dict[str, str], digits: int) -> None:
    from rich.text import Text

    from kinglet.cli.render import marked, state_colours

    width = out.width - digits - 6
    text = marked(event.raw, event.spans, colours)
    if event.stamp is not None:
        text.stylize("bold underline", *event.stamp)
    lines = [piece for line in text.split("\n", allow_blank=True) for piece in line.wrap(out, width, overflow="fold")]
    gutter = {"complete": "│", "partial": "┆", "unmatched": "╳", "dropped": "·"}[event.state]
    for i, line in enumerate(lines[:4]):
        number = f"{event.line:>{digits}}" if i == 0 else " " * digits
        out.print(
            Text(f"  {number} ", style="dim")
            .append(f"{gutter} ", style=state_colours(out)[event.state])
            .append_text(line)
        )
    if len(lines) > 4:
        more = "1 more line" if len(lines) == 5 else f"{len(lines) - 4} more lines"
        out.print(Text(f"  {' ' * digits} {gutter} … {more}", style="dim"))


def _render_values(out: Console, shown: Preview) -> None:
    from rich.text import Text

    from kinglet.cli.render import heading, shown_value

    for table in shown.values:
        out.print()
        events = "1 event" if table.count == 1 else f"{table.count:,} events"
        out.print(heading(table.variant, events))
        names = max(len(name) for name in table.rows) + 2
        column = (out.width - 2 - names) // max(len(table.lines), 1) - 2
        column = min(column, 40)
        lines = "".join(f"{line:<{column + 2}}" for line in table.lines)
        out.print(Text(f"  {'line':<{names}}{lines}".rstrip(), style="dim"))
        for name, values in table.rows.items():
            cells = "".join(f"{shown_value(value, column):<{column + 2}}" for value in values)
            out.print(Text(f"  {name:<{names}}", style="bold").append(cells.rstrip(), style="not bold"))


def _render_similar(out: Console, shown: Preview) -> None:
    from rich.text import Text

    from kinglet.cli.render import heading
    from kinglet.insight.visible import visible

    if not shown.similar:
        return
    out.print()
    out.print(heading("called otherwise", "keys that no event has, beside one that looks the same; say it in `keys`"))
    names = max(len(item.field) for item in shown.similar)
    for item in shown.similar:
        where = item.variant or "envelope"
        there = "in all events" if item.count == item.of else f"in {item.count:,} of {item.of:,} events"
        line = Text(f"  {item.field:<{names}}", style="bold")
        line.append(f"  {where}: not `{item.key}` but `{visible(item.similar)}` is there, {there}", "not bold")
        out.print(line)


def _render_faults(out: Console, result: Result, shown: Preview) -> None:
    from rich.text import Text

    from kinglet.cli.render import heading, state_colours
    from kinglet.errors import window
    from kinglet.insight.visible import visible

    if not shown.faults:
        return
    out.print()
    out.print(heading("not complete", "why, and where in the event"))
    for fault in shown.faults:
        kind = fault.fault.partition(":")[0]
        colour = state_colours(out)["unmatched" if kind == "no-match" else "partial"]
        out.print()
        out.print(
            Text(f"  {fault.fault}", style=f"bold {colour}").append(f"  {fault.count:,}", style="not bold default")
        )
        for event, reason in fault.examples:
            line, caret = window(visible(event.raw), reason.start, out.width - 14)
            length = max(1, min(reason.end - reason.start, len(line) - caret))
            out.print(Text(f"  {event.line:>8}  ", style="dim").append(line, style="default"))
            out.print(Text(f"{' ' * 12}{' ' * caret}").append("^" * length, style=colour))
            _indented(out, reason.message, 12)


def _indented(out: Console, text: str, blanks: int) -> None:
    from rich.text import Text

    for line in Text(text).wrap(out, out.width - blanks):
        line.rstrip()
        out.print(Text(" " * blanks).append_text(line))
