"""`kinglet run`: logs in bulk, into a file."""

from __future__ import annotations

import functools
import gc
import time
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any, NamedTuple

import click

from kinglet.cli import options

if TYPE_CHECKING:
    from collections.abc import Callable

    from kinglet.ocsf.schema import Model
    from kinglet.parser import Parser
    from kinglet.runtime.mixed import Mixed
    from kinglet.runtime.parsed import Parsed
    from kinglet.source.logs import Source


@click.command("run")
@click.argument("files", metavar="FILE...", nargs=-1, required=True)
@click.option(
    "-p",
    "--parser",
    "parsers",
    required=True,
    multiple=True,
    metavar="PARSER",
    help="A parser file, the name of a ready parser, or a folder of parser files; may be given several times.",
)
@click.option("-o", "--output", required=True, metavar="OUT", help="Where to: .ndjson .csv .parquet .arrow, or - .")
@click.option(
    "--as",
    "form",
    type=click.Choice(["fields", "model"]),
    default="fields",
    show_default=True,
    help="Write the fields, or events mapped onto the model.",
)
@click.option("--workers", type=click.IntRange(1, 256), help="Threads to parse with; all processors unless given.")
@options.moment()
@options.zone()
@options.encoding()
@options.max_unpacked_bytes()
@options.skip_unreadable()
@options.model()
@options.as_json()
def command(
    files: tuple[str, ...],
    parsers: tuple[str, ...],
    output: str,
    form: str,
    workers: int | None,
    at: str | None,
    zone: str | None,
    encoding: str | None,
    max_unpacked_bytes: int | None,
    skip_unreadable: bool,
    extensions: tuple[str, ...],
    as_json: bool,
) -> None:
    """Parse FILEs in bulk and write the events to OUT.

    With several parsers each event goes to the one that reads it best. The output appears whole or not at all. What
    was done is told on standard error, or with --json on standard output.
    """
    from pathlib import Path

    from kinglet.cli.render import print_json
    from kinglet.errors import InputError, UsageError
    from kinglet.output.writers import refuse_inputs, writer_for
    from kinglet.runtime.workers import Then
    from kinglet.source.logs import open_sources

    if as_json and output == "-":
        raise UsageError("--json and -o - both write to standard output", "give -o a file")
    task = _task(parsers, form, options.load_model(extensions))
    gc.freeze()
    gc.enable()
    given = [name if name == "-" else Path(name) for name in files]
    sources = open_sources(
        *given, encoding=encoding, max_unpacked_bytes=max_unpacked_bytes, skip_unreadable=skip_unreadable
    )
    refuse_inputs(output, given, sources)
    counts: dict[str, int] = {}
    dropped: dict[str, int] = {}
    started = time.perf_counter()
    with writer_for(output, task.view) as writer, _progress(sources) as advance:

        def prepared_of(parsed: Parsed | Mixed) -> Any:
            return writer.prepare(parsed.kept())

        batches = task.run(sources, reference_time=at, zone=zone, workers=workers, then=Then(prepared_of, writer.write))
        for parsed in batches:
            task.add(parsed)
            for reason, count in parsed.dropped.items():
                dropped[reason] = dropped.get(reason, 0) + count
            for state, count in parsed.counts.items():
                counts[state] = counts.get(state, 0) + count
            advance(parsed.bytes_read)
        if not counts:
            failed = next((source.error for source in sources if source.error is not None), None)
            raise InputError(failed or f"{', '.join(files)}: is empty; there is nothing to parse")
    seconds = time.perf_counter() - started
    if as_json:
        print_json(
            {
                **task.about(),
                "files": list(files),
                "output": output,
                "as": form,
                "counts": counts,
                "dropped": dropped,
                "skipped": {source.name: source.error for source in sources if source.error is not None},
                "damaged": {source.name: source.damage for source in sources if source.damage is not None},
                **({"not_mapped": dict(task.view.counted), "invalid": task.view.invalid} if form == "model" else {}),
                "seconds": round(seconds, 3),
            }
        )
    else:
        _summary(counts, dropped, output, seconds)
        _troubles(sources)
        _by_parser(task.by_parser)
        _of_nobody(task.by_log)
        _torn(task.torn)
        _not_mapped(task.view.counted, task.view.invalid)


class _Task(NamedTuple):
    """One parser or several: how their events go out, what parses logs, what is told of them."""

    view: Any
    run: Callable[..., Iterator[Any]]
    parsers: list[Parser]
    by_parser: dict[str, dict[str, int]]
    by_log: dict[str, dict[str, int]]
    torn: dict[str, list[str]]

    def add(self, parsed: Parsed | Mixed) -> None:
        if len(self.parsers) > 1:
            parsed.add_counts(self.by_parser)
            parsed.add_by_log(self.by_log)

    def about(self) -> dict[str, Any]:
        if len(self.parsers) == 1:
            return {"parser": self.parsers[0].name, "version": self.parsers[0].version}
        versions = {parser.name: parser.version for parser in self.parsers}
        told = [
            {"parser": name, "version": versions.get(name), "counts": counts} for name, counts in self.by_parser.items()
        ]
        return {"parsers": told, "logs": self.by_log, "torn": self.torn}


def _task(names: tuple[str, ...], form: str, model: Model | None) -> _Task:
    from kinglet.calls import run_batches, view_of
    from kinglet.parser import load
    from kinglet.parser_set import is_library, is_several, load_set_to_parse

    if len(names) == 1 and not is_several(names[0]):
        parser = load(names[0], model=model)
        return _Task(view_of(parser, form), functools.partial(run_batches, parser), [parser], {}, {}, {})
    # the ready parsers are known to be good
    loaded = load_set_to_parse(*names, model=model, maps=form == "model" or not all(map(is_library, names)))
    if len(loaded.parsers) == 1:
        parser = next(iter(loaded.parsers.values()))
        return _Task(view_of(parser, form), functools.partial(run_batches, parser), [parser], {}, {}, {})
    return _Task(
        view_of(loaded, form),
        functools.partial(run_batches, loaded),
        list(loaded.parsers.values()),
        {},
        {},
        loaded.mixer.torn,
    )


_MOST_SHOWN = 20


def _troubles(sources: list[Source]) -> None:
    """The logs that could not be read, or not to their end."""
    from rich.text import Text

    from kinglet.cli.render import console

    out = console(error=True)
    lines = [f"skipped  {source.error}" for source in sources if source.error is not None]
    lines += [f"damaged  {source.name}: {source.damage}" for source in sources if source.damage is not None]
    for line in lines[:_MOST_SHOWN]:
        out.print(Text(f"  {line}"))
    if len(lines) > _MOST_SHOWN:
        out.print(f"  … and {len(lines) - _MOST_SHOWN:,} more; --json has them all")


def _by_parser(found: dict[str, dict[str, int]]) -> None:
    """A row a parser: its events by state."""
    from rich.text import Text

    from kinglet.cli.render import console

    if not found:
        return
    out = console(error=True)
    names = max(6, *(len(name) for name in found)) + 2
    ordered = sorted(found.items(), key=lambda item: (-item[1]["events"], item[0]))
    states = [state for state in next(iter(found.values())) if any(counts[state] for counts in found.values())]
    out.print(Text(f"  {'parser':<{names}}" + "".join(f"{state:>11}" for state in states), style="dim"))
    for name, counts in ordered[:_MOST_SHOWN]:
        out.print(Text(f"  {name:<{names}}" + "".join(f"{counts[state]:>11,}" for state in states)))
    if len(ordered) > _MOST_SHOWN:
        out.print(f"  … and {len(ordered) - _MOST_SHOWN:,} parsers more; --json has them all")


def _of_nobody(found: dict[str, dict[str, int]]) -> None:
    """The logs of which no parser reads anything."""
    from rich.text import Text

    from kinglet.cli.render import console
    from kinglet.runtime.several import UNCLAIMED

    logs = [name for name, counts in found.items() if set(counts) == {UNCLAIMED}]
    if not logs or len(found) < 2:
        return
    out = console(error=True)
    noun = "log that no parser reads" if len(logs) == 1 else "logs that no parser reads"
    out.print(Text(f"  {len(logs):,} {noun}: ").append(", ".join(logs[:_LOGS_SHOWN]), style="dim"), soft_wrap=True)
    if len(logs) > _LOGS_SHOWN:
        out.print(f"  … and {len(logs) - _LOGS_SHOWN:,} more; --json has them all")


def _torn(found: dict[str, list[str]]) -> None:
    """The logs in which events of some parsers are cut by the rule of another."""
    from rich.text import Text

    from kinglet.cli.render import console

    out = console(error=True)
    for name, parsers in list(found.items())[:_LOGS_SHOWN]:
        what = f"  {name}: events of {', '.join(parsers)} in it are cut as those of others; part such logs beforehand"
        out.print(Text(what), soft_wrap=True)


_LOGS_SHOWN = 5
_WHAT = {
    "other": "no word of the enumeration, kept as Other",
    "bad-value": "does not fit, kept in unmapped",
    "missing": "required, and not there",
    "no-class": "no word of its table, mapped as Base Event",
}
"""What the reasons mean for which events could not go out as they stood."""


def _not_mapped(found: Mapping[str, int], invalid: int) -> None:
    """What the model could not take as it stood, the commonest first."""
    from rich.text import Text

    from kinglet.cli.render import console

    out = console(error=True)
    for name, count in sorted(found.items(), key=lambda item: (-item[1], item[0])):
        above, _, reason = name.rpartition(": ") if ": " in name else ("", "", name)
        fault, _, path = reason.rpartition(":")
        what = _WHAT.get(fault, "needed, and not there")
        out.print(Text(f"  {count:>9,}  {f'{above}: ' if above else ''}{path}  ").append(what, style="dim"))
    if invalid:
        noun = "event is" if invalid == 1 else "events are"
        out.print(Text(f"  {invalid:>9,}  {noun} not valid for want of what the class requires"))


def _summary(counts: dict[str, int], dropped: dict[str, int], output: str, seconds: float) -> None:
    from rich.text import Text

    from kinglet.cli.render import console, coverage_bar, state_colours

    out = console(error=True)
    states = ", ".join(
        f"{counts[state]:,} {state}"
        for state in ("complete", "partial", "unmatched", "dropped")
        if counts[state] or state == "complete"
    )
    if dropped:
        states += " (" + ", ".join(f"{reason} {count:,}" for reason, count in dropped.items()) + ")"
    target = "standard output" if output == "-" else output
    written = counts["events"] - counts["dropped"]
    noun = "event" if counts["events"] == 1 else "events"
    events = f"{written:,} of {counts['events']:,} {noun}" if written < counts["events"] else f"{written:,} {noun}"
    out.print(Text(f"{events} to {target} in {seconds:.2f} s: {states}"))
    if counts["complete"] < counts["events"] and out.is_terminal:
        out.print(coverage_bar(counts, state_colours(out), min(out.width - 2, 76)))


@contextmanager
def _progress(sources: list[Source]) -> Iterator[Callable[[int], None]]:
    """A progress bar over the bytes read, on a terminal only."""
    from kinglet.cli.render import console, state_colours

    out = console(error=True)
    if not out.is_terminal:
        yield lambda count: None
        return
    from rich.progress import BarColumn, DownloadColumn, Progress, TextColumn, TimeRemainingColumn

    colour = state_colours(out)["complete"]
    sizes = [source.size for source in sources]
    total = None if None in sizes else sum(size or 0 for size in sizes)
    columns = (
        TextColumn("parsing"),
        BarColumn(40, style="dim", complete_style=colour, finished_style=colour, pulse_style=colour),
        DownloadColumn(binary_units=True),
        TimeRemainingColumn(),
    )
    with Progress(*columns, console=out, transient=True) as bar:
        task = bar.add_task("parsing", total=total)
        yield lambda count: bar.advance(task, count)
