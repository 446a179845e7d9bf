"""A result as a notebook shows it."""

from __future__ import annotations

import html
from collections.abc import Callable
from typing import TYPE_CHECKING

from kinglet.insight.palette import STATES, field_colours
from kinglet.insight.preview import ShownEvent, preview
from kinglet.insight.visible import visible

if TYPE_CHECKING:
    from kinglet.drafting.report import Draft
    from kinglet.result import Result
    from kinglet.teaching.lesson import Lesson


_MARK = "color:#111;border-radius:3px;padding:0 2px;background:"
_MONO = "font-family:ui-monospace,monospace;font-size:12px;"


def escape(text: str) -> str:
    """Text of strangers for a page: no markup, and nothing that a terminal would obey when it is copied there."""
    return html.escape(visible(text))


def result_html(result: Result, show: int = 12) -> str:
    """Counts, a coverage bar, a legend and raw events with their fields marked; of several parsers a row for each."""
    if len(result.parsers) > 1:
        return _of_several(result)
    shown = preview(result, show=show)
    colours = field_colours(result.parser.fields)
    legend = " ".join(f'<span style="{_MARK}{colours[name]}">{escape(name)}</span>' for name in shown.legend)
    rows = "".join(
        f'<tr><td style="text-align:right;opacity:.6;vertical-align:top">{event.line}</td>'
        f'<td style="border-left:4px solid {STATES[event.state]};padding-left:8px;text-align:left;'
        f'white-space:pre-wrap;word-break:break-word">{marked_html(event, colours)}</td></tr>'
        for event in shown.events
    )
    faults = "".join(
        f'<li style="{_MONO}"><b>{escape(fault.fault)}</b> × {fault.count:,}: {escape(fault.examples[0][1].message)}'
        f" (line {fault.examples[0][0].line})</li>"
        for fault in shown.faults
    )
    return (
        f"<div>{head_html(result, f'{result.parser.name} {result.parser.version}')}"
        f'<div style="{_MONO}margin:6px 0">{legend}</div><table style="{_MONO}">{rows}</table><ul>{faults}</ul></div>'
    )


def head_html(result: Result, name: str) -> str:
    """Whose events they are, how many of them in which state, and a bar of these."""
    total = max(result.counts["events"], 1)
    bar = "".join(
        f'<span title="{state}" style="display:inline-block;height:10px;background:{colour};'
        f'width:{100 * result.counts[state] / total:.3f}%"></span>'
        for state, colour in STATES.items()
    )
    counts = " · ".join(f"<b>{result.counts[state]:,}</b> {state}" for state in STATES)
    return (
        f"<div><b>{escape(name)}</b> · {result.counts['events']:,} events · {counts}</div>"
        f'<div style="max-width:640px;line-height:10px;margin:6px 0;font-size:0">{bar}</div>'
    )


def _of_several(result: Result) -> str:
    heads = "".join(f'<th style="text-align:right">{word}</th>' for word in ("events", *STATES))
    rows = "".join(
        f'<tr><td style="text-align:left">{escape(name)}</td>'
        + "".join(f'<td style="text-align:right">{counts[word]:,}</td>' for word in ("events", *STATES))
        + "</tr>"
        for name, counts in result.by_parser.items()
    )
    table = f'<table style="{_MONO}"><tr><th style="text-align:left">parser</th>{heads}</tr>{rows}</table>'
    return f"<div>{head_html(result, f'{len(result.parsers)} parsers')}{table}</div>"


def marked_html(event: ShownEvent, colours: dict[str, str], said: Callable[[str], str] = str) -> str:
    """The text of an event with its fields in their colours. said: of a field, what the pointer shows."""
    text, position = "", 0
    for span in event.spans:
        if span.start < position or span.end == span.start:
            continue
        text += escape_lines(event.raw[position : span.start])
        text += (
            f'<span title="{escape(said(span.field))}" style="{_MARK}{colours[span.field]}">'
            f"{escape_lines(event.raw[span.start : span.end])}</span>"
        )
        position = span.end
    return text + escape_lines(event.raw[position:])


def draft_html(draft: Draft) -> str:
    """What a draft found, its messages with their counts, what it is unsure of, and the parser file to fold out."""
    rows = "".join(
        f'<tr><td style="text-align:right">{message.count:,}</td>'
        f'<td style="text-align:left">{escape(message.variant)}</td>'
        f'<td style="text-align:left;white-space:pre-wrap;word-break:break-word">'
        f"{escape(message.pattern or ', '.join(message.fields))}</td></tr>"
        for message in draft.messages
    )
    said = ("; ".join(filter(None, (doubt.text, doubt.mend))) for doubt in draft.doubts)
    doubts = "".join(f"<li>{escape(text)}</li>" for text in said)
    return (
        f"<div><b>{escape(draft.stem)}</b> · {draft.complete:,} of {draft.events:,} events complete · "
        f'{len(draft.messages):,} variants<ul style="{_MONO}">{doubts}</ul><table style="{_MONO}">{rows}</table>'
        f'<details><summary>parser file</summary><pre style="{_MONO}">{escape_lines(draft.text)}</pre></details></div>'
    )


def lesson_html(lesson: Lesson) -> str:
    """What a parser was taught: the field by variant with its commonest values, what is doubtful, and the change."""
    rows = "".join(
        f'<tr><td style="text-align:right">{match.count:,} of {match.of:,}</td>'
        f'<td style="text-align:left">{escape(match.context or "no variant")}</td>'
        f'<td style="text-align:left;word-break:break-word">'
        f"{escape(', '.join(f'{text} ({count:,})' for text, count in match.values))}</td></tr>"
        for match in lesson.matches
    )
    doubts = "".join(f"<li>{escape(doubt.text)}</li>" for doubt in lesson.doubts)
    return (
        f"<div><b>{escape(lesson.field)}</b> in {lesson.taught:,} of {lesson.events:,} events · "
        f'{escape("; ".join(lesson.how))}<ul style="{_MONO}">{doubts}</ul><table style="{_MONO}">{rows}</table>'
        f'<pre style="{_MONO}">{escape_lines(lesson.diff)}</pre></div>'
    )


def escape_lines(text: str) -> str:
    """Text of several lines for a page."""
    return "\n".join(map(escape, text.split("\n")))
