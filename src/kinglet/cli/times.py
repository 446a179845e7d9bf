"""How `try` shows times: the stamps of the shown events, and the times of the whole log."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta
from typing import TYPE_CHECKING
from zoneinfo import ZoneInfo

from rich.console import Console
from rich.text import Text

from kinglet.cli.render import heading, instant
from kinglet.insight.visible import visible
from kinglet.timestamps.zones import is_zone

if TYPE_CHECKING:
    from kinglet.insight.preview import ShownEvent
    from kinglet.insight.timeline import Step, Timeline

_NAMES = 9
_STAMP = 32


def render_stamps(out: Console, events: Sequence[ShownEvent], times: Timeline) -> None:
    """The stamp of each shown event, its instant in UTC and in the log's zone, and how it was found."""
    zone = times.zone
    local = ZoneInfo(zone) if is_zone(zone) and zone != "UTC" else None
    rows = [
        (
            f"{event.line}",
            _shortened(visible(event.raw[slice(*event.stamp)]), _STAMP) if event.stamp else "-",
            instant(event.time) + "Z" if event.time else "-",
            _local(event.time, local) if event.time and local else "",
        )
        for event in events
    ]
    titles = ("line", "stamp", "UTC", zone if local else "")
    widths = [max(len(row[i]) for row in (titles, *rows)) for i in range(len(titles))]
    several = len(times.rules) > 1
    shared = _shared(events)
    out.print()
    for event, row in zip((None, *events), (titles, *rows), strict=True):
        line = Text(f"  {row[0]:>{widths[0]}}  ", style="dim")
        indent = len(line)
        line.append(
            "  ".join(f"{row[i]:<{widths[i]}}" for i in (1, 2, 3) if widths[i]), style="not dim" if event else ""
        )
        how = _how(event, several, shared) if event is not None else _title(shared)
        if len(line) + 2 + len(how) <= out.width:
            out.print(line.append("  " + how if how else "", style="not dim" if event else ""))
        else:
            out.print(line)
            for piece in Text(how, style="dim").wrap(out, out.width - indent):
                piece.rstrip()
                out.print(Text(" " * indent).append_text(piece))


def _shared(events: Sequence[ShownEvent]) -> list[str]:
    """What is noted of every shown event that has a time; the title says it once."""
    timed = [event.time_notes for event in events if event.time is not None]
    return [note for note in timed[0] if all(note in notes for notes in timed)] if len(timed) > 1 else []


def _title(shared: list[str]) -> str:
    return f"how (all: {', '.join(shared)})" if shared else "how"


def _how(event: ShownEvent, several: bool, shared: list[str]) -> str:
    if event.time is None:
        return "no time"
    own_notes = [note for note in event.time_notes if note not in shared]
    return ", ".join(([f"by {event.time_rule}"] if several and event.time_rule else []) + own_notes)


def render_timeline(out: Console, times: Timeline) -> None:
    """The range of a log's times, how they were found, and what looks strange about them."""
    out.print()
    out.print(heading("time", f"{times.zone} where a stamp carries no zone"))
    for name, text in _lines(times):
        for i, piece in enumerate(Text(text).wrap(out, out.width - _NAMES - 2)):
            piece.rstrip()
            out.print(Text(f"  {name if i == 0 else '':<{_NAMES}}", style="dim").append_text(piece))


def _lines(times: Timeline) -> list[tuple[str, str]]:
    lines: list[tuple[str, str]] = []
    if times.first is not None and times.last is not None:
        span = length(times.last - times.first)
        lines.append(("range", f"{instant(times.first)}Z to {instant(times.last)}Z, {span}"))
    for rule in times.rules:
        share = f"{rule.events:,} of {times.events:,}" if rule.events < times.events else f"all {times.events:,}"
        zone = f", zone {rule.zone}" if rule.zone not in (times.zone, "") else ""
        lines.append(("found", f"{share} by {rule.rule}: {' or '.join(rule.formats)}{zone}"))
        if rule.order:
            lines.append(("", rule.order))
    if times.with_time < times.events:
        count = times.events - times.with_time
        lines.append(("none", f"{count:,} event{'s have' if count > 1 else ' has'} no time"))
    if times.gaps:
        lines.append(("gaps", ", ".join(_step(step) for step in times.gaps)))
    back = f"{times.steps_back:,}, the longest {_step(times.back)}" if times.back else "never"
    lines.append(("back", f"{back}" if times.with_time > 1 else "-"))
    if times.at_arrival:
        lines.append(("arrival", f"{times.at_arrival:,} events have the time of their log's arrival"))
    for at, by in times.changes:
        which = "forward" if by > timedelta() else "back"
        lines.append(("clocks", f"go {which} by {length(abs(by))} at {instant(at)}Z in {times.zone}"))
    for note in times.notes:
        lines.append(("noted", f"{note.note} {note.events:,}, from line {note.line} on: {note.about}"))
    return lines


def _step(step: Step) -> str:
    return f"{length(abs(step.length))} before line {step.line}"


def length(span: timedelta) -> str:
    """A length of time in its two largest units."""
    micros = span // timedelta(microseconds=1)
    units = (("d", 86_400_000_000), ("h", 3_600_000_000), ("min", 60_000_000), ("s", 1_000_000))
    for i, (name, size) in enumerate(units):
        if micros >= size:
            if i == len(units) - 1:
                return f"{micros / size:.3g} s" if micros < 100 * size else f"{micros // size} s"
            rest = micros % size // units[i + 1][1]
            return f"{micros // size} {name}" + (f" {rest} {units[i + 1][0]}" if rest else "")
    return f"{micros / 1000:.3g} ms"


def _local(moment: datetime, zone: ZoneInfo) -> str:
    local = moment.astimezone(zone)
    return f"{local:%Y-%m-%d %H:%M:%S} {local:%z}"[:-2] + ":" + f"{local:%z}"[3:5]


def _shortened(text: str, most: int) -> str:
    return text if len(text) <= most else text[: most - 1] + "…"
