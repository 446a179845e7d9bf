"""A result as a page of its own: one file that needs no network, to be attached to a review."""

from __future__ import annotations

import base64
import hashlib
import io
from collections.abc import Iterable, Sequence
from datetime import datetime
from typing import TYPE_CHECKING, Any

import polars as pl

from kinglet.insight.palette import STATES, field_colours
from kinglet.insight.preview import ShownEvent, preview
from kinglet.insight.values import FieldValues, values_of
from kinglet.names import RESERVED
from kinglet.notebook.html import escape, escape_lines, head_html, marked_html

if TYPE_CHECKING:
    from kinglet.drafting.leftovers import Leftover
    from kinglet.result import Result

SHOWN = 300
"""Events of each state that the page has."""
_FIELDS = 60
_VALUES = 8
_BINS = 80

_STYLE = """
body{font:14px/1.45 system-ui,sans-serif;color:#1d2330;background:#fbfbf8;margin:24px auto;max-width:1220px;
padding:0 24px}
h1{font-size:20px;margin:0 0 4px}h2{font-size:15px;margin:26px 0 6px}p{margin:4px 0}
table{border-collapse:collapse}td,th{padding:2px 10px 2px 0;text-align:left;vertical-align:top;font-weight:normal}
th{color:#666}.n{text-align:right;white-space:nowrap}.m,td.raw{font:12px/1.5 ui-monospace,monospace}
td.raw{white-space:pre-wrap;word-break:break-word;padding-left:8px;border-left:4px solid}td.line{color:#777}
label{margin-right:14px}select{margin-right:14px;max-width:320px}
pre{background:#f0f0ea;padding:6px 10px;margin:4px 0;white-space:pre-wrap;word-break:break-word}
.c{color:#a33;font-size:12px}.grid{display:grid;grid-template-columns:repeat(3,1fr);gap:10px 28px}
.grid td.v{max-width:250px;overflow:hidden;text-overflow:ellipsis;white-space:nowrap}.o{color:#a06000}
img{max-width:100%}tr.h{display:none}
@media print{body{margin:0;max-width:none}.filter{display:none}pre,tr{break-inside:avoid}}
""".strip()
_SCRIPT = """
const rows=[...document.querySelectorAll('tr.e')],shown=document.getElementById('shown');
function apply(){
const states=[...document.querySelectorAll('input[name=state]:checked')].map(x=>x.value);
const variant=document.getElementById('variant').value,fault=document.getElementById('fault').value;let n=0;
for(const r of rows){const ok=states.includes(r.dataset.state)&&(!variant||r.dataset.variant===variant)
&&(!fault||r.dataset.faults.split('\\u001f').includes(fault));r.classList.toggle('h',!ok);n+=ok}
shown.textContent=n+' of '+rows.length}
document.querySelectorAll('.filter input,.filter select').forEach(x=>x.addEventListener('change',apply));apply();
""".strip()


def page(result: Result, name: str, left: Sequence[Leftover], moment: datetime) -> str:
    """The page: counts, what is left, the times as a figure, values by field, and events that can be filtered.

    name: of the log. left: the groups of events that are not complete. moment: when the page was made.
    """
    parser = result.parser
    title = f"{parser.name} {parser.version} · {name}"
    script = base64.b64encode(hashlib.sha256(_SCRIPT.encode()).digest()).decode()
    policy = f"default-src 'none'; style-src 'unsafe-inline'; img-src data:; script-src 'sha256-{script}'"
    return (
        f'<!doctype html><html lang="en"><head><meta charset="utf-8"><title>{escape(title)}</title>'
        f'<meta http-equiv="Content-Security-Policy" content="{policy}">'
        f'<meta name="viewport" content="width=device-width"><style>{_STYLE}</style></head><body>'
        f"<h1>{escape(name)}</h1><p>{moment:%Y-%m-%d %H:%M} UTC</p>"
        f"{head_html(result, f'{parser.name} {parser.version}')}{_left(left)}{_times(result)}{_values(result)}"
        f"{_events(result, _rows(result))}<script>{_SCRIPT}</script></body></html>\n"
    )


def _left(left: Sequence[Leftover]) -> str:
    if not left:
        return "<h2>What is left</h2><p>Every event is complete.</p>"
    out = []
    for group in left:
        reason = f'<div class="c">{escape(group.reason.message)}</div>' if group.reason is not None else ""
        variant = f"<details><summary>a variant</summary><pre class=m>{escape_lines(group.variant)}</pre></details>"
        out.append(
            f'<tr><td class="n">{group.count:,}</td><td class="m"><b>{escape_lines(group.shape)}</b>'
            f"<div>line {group.line:,}: {escape(group.raw[:300])}</div>{reason}"
            f"{variant if group.variant else ''}</td></tr>"
        )
    return f"<h2>What is left</h2><table>{''.join(out)}</table>"


def _times(result: Result) -> str:
    times = result.events.select("time", "state").drop_nulls("time")
    if times.height < 2:
        return ""
    drawn = _figure(times)
    first, last = times["time"].dt.strftime("%Y-%m-%d %H:%M:%S").sort().gather([0, -1])
    span = f"{first} to {last} UTC"
    return f"<h2>Times</h2><p>{span}</p>{drawn}"


def _figure(times: pl.DataFrame) -> str:
    """Events over time by state, as a picture that holds no text of the log."""
    try:
        from matplotlib.figure import Figure
    except ImportError:
        return "<p>Install kinglet-logs[plots] for a figure.</p>"
    figure = Figure(figsize=(12, 1.7), layout="constrained")
    axis = figure.subplots()
    naive = times["time"].dt.replace_time_zone(None)
    states = [state for state in STATES if (times["state"] == state).any()]
    parts = [naive.filter(times["state"] == state).to_numpy() for state in states]
    axis.hist(parts, bins=_BINS, stacked=True, color=[STATES[state] for state in states], label=states)
    axis.spines[["top", "right"]].set_visible(False)
    axis.set_ylabel("events")
    axis.margins(x=0)
    axis.legend(frameon=False, fontsize=8, ncols=len(states), loc="upper right")
    out = io.BytesIO()
    figure.savefig(out, format="svg", transparent=True)
    data = base64.b64encode(out.getvalue()).decode()
    return f'<img alt="events over time, by state" src="data:image/svg+xml;base64,{data}">'


def _values(result: Result) -> str:
    events = result.events
    names = [name for name in result.parser.fields if name in events.columns and name not in (*RESERVED, "more")]
    names = [name for name in names if events[name].null_count() < events.height][:_FIELDS]
    tables = "".join(_field(values_of(events, name, _VALUES)) for name in names)
    return f'<h2>Values</h2><div class="grid">{tables}</div>' if tables else ""


def _field(found: FieldValues) -> str:
    rows = "".join(
        f'<tr><td class="n">{one.count:,}</td><td class="v m" title="{escape(one.value[:300])}">'
        f'{escape(one.value[:60])}</td><td class="o">{escape(one.unlike)}</td></tr>'
        for one in found.values
    )
    more = f"<tr><td></td><td>{found.distinct - len(found.values):,} more</td></tr>" * (
        found.distinct > len(found.values)
    )
    return f"<div><b>{escape(found.name)}</b> {found.type}, {found.count:,} events<table>{rows}{more}</table></div>"


def _rows(result: Result) -> list[tuple[ShownEvent, dict[str, Any]]]:
    """Events of each state, with their values."""
    found: dict[int, ShownEvent] = {}
    for state in STATES:
        for event in preview(result, show=SHOWN, only=state).events:
            found.setdefault(event.line, event)
    values = {row["line"]: row for row in result.events.filter(pl.col("line").is_in(list(found))).iter_rows(named=True)}
    return [(event, values[line]) for line, event in sorted(found.items())]


def _events(result: Result, rows: Sequence[tuple[ShownEvent, dict[str, Any]]]) -> str:
    colours = field_colours(result.parser.fields)
    body = "".join(_event(event, values, colours) for event, values in rows)
    variants = dict.fromkeys(event.variant for event, _ in rows if event.variant)
    faults = dict.fromkeys(fault for _, values in rows for fault in values["faults"] or ())
    checks = "".join(
        f'<label><input type="checkbox" name="state" value="{state}" checked> {state}</label>'
        for state in STATES
        if any(event.state == state for event, _ in rows)
    )
    return (
        f'<h2>Events <span id="shown" style="font-weight:normal"></span></h2><p class="filter">{checks}'
        f'<select id="variant"><option value="">any variant</option>{_options(variants)}</select>'
        f'<select id="fault"><option value="">any fault</option>{_options(faults)}</select></p><table>{body}</table>'
    )


def _options(names: Iterable[str]) -> str:
    return "".join(f'<option value="{escape(name)}">{escape(name)}</option>' for name in names)


def _event(event: ShownEvent, values: dict[str, Any], colours: dict[str, str]) -> str:
    def said(field: str) -> str:
        value = values.get(field)
        return f"{field}: {value if value is not None else 'no value'}"[:300]

    faults = "\u001f".join(map(escape, values["faults"] or ()))
    return (
        f'<tr class="e" data-state="{event.state}" data-variant="{escape(event.variant or "")}"'
        f' data-faults="{faults}"><td class="n m line">{event.line:,}</td>'
        f'<td class="raw" style="border-color:{STATES[event.state]}"'
        f' title="{escape(_about(event))}">{marked_html(event, colours, said)}</td></tr>'
    )


def _about(event: ShownEvent) -> str:
    time = f"{event.time:%Y-%m-%d %H:%M:%S} UTC" if event.time is not None else "no time"
    return f"{event.variant or 'no variant'}, {time}"
