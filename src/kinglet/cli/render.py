"""What the commands share in how they show things."""

from __future__ import annotations

import json
import os
import sys
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from datetime import date, datetime
from typing import Any

from rich.console import Console, ConsoleOptions
from rich.segment import Segment
from rich.text import Text

from kinglet.insight.palette import FEW_STATES, STATES
from kinglet.insight.spans import Span
from kinglet.insight.visible import visible

MARGIN = "  "


class _Console(Console):
    def render(self, renderable: Any, options: ConsoleOptions | None = None) -> Iterator[Segment]:
        """Shows nothing that a terminal would obey, wherever it comes from."""
        for segment in super().render(renderable, options):
            plain = segment.control or segment.text.isprintable() or segment.text == "\n"
            yield segment if plain else segment._replace(text=visible(segment.text))

    def on_broken_pipe(self) -> None:
        """Leaves it to `main` to end quietly when nobody reads on."""
        raise BrokenPipeError


def console(*, error: bool = False) -> Console:
    """A console that neither guesses at markup nor colours numbers of its own accord."""
    found = _Console(stderr=error, highlight=False, markup=False, emoji=False, soft_wrap=False)
    if not found.is_terminal and "COLUMNS" not in os.environ:
        found.width = 100
    return found


@contextmanager
def waiting(what: str) -> Iterator[None]:
    """Says on a terminal that something takes its time."""
    out = console(error=True)
    if not out.is_terminal:
        yield
        return
    with out.status(what, spinner="line"):
        yield


@contextmanager
def progress_of(what: str) -> Iterator[Callable[[int, int], None]]:
    """A bar on a terminal for work whose pieces are counted; to be told how many are done, of how many."""
    out = console(error=True)
    if not out.is_terminal:
        yield lambda done, of: None
        return
    from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn, TimeRemainingColumn

    columns = (TextColumn("{task.description}"), BarColumn(), MofNCompleteColumn(), TimeRemainingColumn())
    with Progress(*columns, console=out, transient=True) as bar:
        task = bar.add_task(what, total=None)
        yield lambda done, of: bar.update(task, completed=done, total=of)


def few_colours(out: Console) -> bool:
    """Whether a terminal knows only its basic colours, to which others would be bent past telling apart."""
    return out.color_system == "standard"


def state_colours(out: Console) -> Mapping[str, str]:
    return FEW_STATES if few_colours(out) else STATES


def print_json(value: Any) -> None:
    """Machine-readable output: one JSON value on standard output."""
    text = json.dumps(value, indent=2, ensure_ascii=False, default=_json_value)
    hidden = (sign if sign.isprintable() or sign == "\n" else json.dumps(sign)[1:-1] for sign in text)
    sys.stdout.write((text if text.isprintable() else "".join(hidden)) + "\n")


def _json_value(value: Any) -> Any:
    if isinstance(value, datetime):
        return value.isoformat().replace("+00:00", "Z")
    return value.isoformat() if isinstance(value, date) else str(value)


def heading(text: str, about: str = "") -> Text:
    line = Text(text, style="bold")
    if about:
        line.append(f"  {about}", style="not bold dim")
    return line


def state_lines(counts: Mapping[str, int], colours: Mapping[str, str]) -> list[Text]:
    """A line a state: its colour, count and share."""
    total = counts["events"]
    digits = len(f"{total:,}")
    lines = []
    for state, colour in colours.items():
        if counts[state] or state in ("complete", "partial", "unmatched"):
            line = Text(MARGIN).append("█ ", style=colour).append(f"{state:<10}")
            lines.append(line.append(f"{counts[state]:>{digits},}  {_percent(counts[state], total):>7}"))
    return lines


def coverage_bar(counts: Mapping[str, int], colours: Mapping[str, str], width: int = 40) -> Text:
    """All states in one bar; a state that occurs always shows."""
    total = max(counts["events"], 1)
    cells = {state: max(1, round(width * counts[state] / total)) if counts[state] else 0 for state in colours}
    widest = max(cells, key=lambda state: cells[state])
    cells[widest] += width - sum(cells.values())
    bar = Text()
    for state, colour in colours.items():
        bar.append("█" * cells[state], style=colour)
    return bar


def _percent(count: int, total: int) -> str:
    """A share that never rounds up to all nor down to none."""
    if not total:
        return "-"
    if count == total:
        return "100 %"
    if count == 0:
        return "0 %"
    return f"{min(max(100 * count / total, 0.01), 99.99):.2f} %"


def marked(raw: str, spans: Sequence[Span], colours: Mapping[str, str]) -> Text:
    """A raw event with the characters of its fields in the fields' colours."""
    text = Text(visible(raw), no_wrap=False, overflow="fold")
    for span in spans:
        if span.end > span.start:
            text.stylize(f"black on {colours[span.field]}", span.start, span.end)
    return text


def instant(moment: datetime) -> str:
    """A moment with as many digits of its second as it has."""
    text = moment.strftime("%Y-%m-%d %H:%M:%S")
    return text + (f".{moment.microsecond:06}".rstrip("0") if moment.microsecond else "")


def shown_value(value: Any, width: int) -> str:
    """A value as text, cut at the width."""
    if value is None:
        return "-"
    if isinstance(value, datetime):
        text = instant(value) + "Z"
    elif isinstance(value, bool):
        text = str(value).lower()
    elif isinstance(value, list):
        text = ", ".join(shown_value(item, width) for item in value) or "none"
    elif isinstance(value, dict):
        text = json.dumps(value, ensure_ascii=False, default=_json_value)
    else:
        text = visible(str(value)).replace("\n", "⏎")
    return text if len(text) <= width else text[: max(width - 1, 1)] + "…"
