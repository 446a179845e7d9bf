"""What `try --trace` and `try --without` show of steps."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from rich.console import Console

    from kinglet.insight.tracing import Difference, Trace, TraceStage
    from kinglet.plan.steps import StepPlan


_KINDS: dict[type, str] = {str: "text", int: "whole number", float: "number", bool: "true or false"}


def trace_as_plain(found: Trace) -> dict[str, Any]:
    """A trace as JSON has it."""
    return {
        "line": found.line,
        "raw": found.raw,
        "variant": found.variant,
        "state": found.state,
        "fields": found.fields,
        "bytes": found.size,
        "steps": [
            {
                **_step(stage.step),
                "done": stage.done,
                "changes": [change._asdict() for change in stage.changes],
                "state": stage.state,
                "faults": list(stage.faults),
                "bytes": stage.size,
            }
            for stage in found.stages
        ],
    }


def difference_as_plain(found: Difference, step: StepPlan) -> dict[str, Any]:
    """What a step does to a log, as JSON has it."""
    fields = [
        {"field": item.field, "events": item.events, "line": item.line, "with": item.before, "without": item.after}
        for item in found.effects
    ]
    return {**_step(step), "fields": fields, "bytes_with": found.bytes_before, "bytes_without": found.bytes_after}


def _step(step: StepPlan) -> dict[str, Any]:
    return {"step": step.number, "operation": step.operation, "note": step.note, "when": step.when}


def render_trace(out: Console, found: Trace) -> None:
    from kinglet.cli.render import heading, shown_value

    about = f"{found.variant or 'no variant'}, {found.state}, {found.size:,} bytes as a line of JSON"
    out.print(heading(f"event at line {found.line}", about))
    out.print()
    names = max(len(name) for name in _names(found)) + 2
    width = (out.width - 6 - names) // 2 - 4
    for name, value in found.fields.items():
        _row(out, name, names, shown_value(value, out.width - 6 - names))
    size = found.size
    for stage in found.stages:
        out.print()
        _render_stage(out, stage, size, names, width)
        size = stage.size
    out.print()
    change = f", {100 * size / found.size - 100:+.0f} %" if found.size and size != found.size else ""
    out.print(heading("after all steps", f"{size:,} bytes{change}" if size else "dropped: nothing goes out"))


def _names(found: Trace) -> list[str]:
    return [*found.fields, *(change.field for stage in found.stages for change in stage.changes), ""]


def _render_stage(out: Console, stage: TraceStage, size: int, names: int, width: int) -> None:
    from rich.text import Text

    from kinglet.cli.render import heading, shown_value, state_colours

    step = stage.step
    out.print(heading(f"step {step.number}  {step.operation}", step.note))
    if not stage.done:
        reason = f"not done: `{step.when}` is not true of it" if step.when else "not done: there is nothing to do it to"
        out.print(Text(f"  {reason if stage.state != 'dropped' else 'not done: the event is dropped'}", style="dim"))
        return
    if step.when:
        out.print(Text(f"  since {step.when}", style="dim"))
    for change in stage.changes:
        before = "" if change.before is None else shown_value(change.before, width)
        after = "gone" if change.after is None else shown_value(change.after, width)
        if before == after:
            before, after = (f"{text} ({_KINDS.get(type(value), 'list')})" for text, value in
                             ((before, change.before), (after, change.after)))  # fmt: skip
        line = Text(f"    {change.field:<{names}}", style="bold")
        line.append(f"{before} → " if before else "new: ", style="not bold dim")
        out.print(line.append(after, style="not bold"))
    for fault in stage.faults:
        out.print(Text(f"    {fault}", style=state_colours(out)[stage.state]))
    if not stage.changes and not stage.faults:
        out.print(Text("    changes nothing", style="dim"))
    if stage.size != size:
        to = f"{stage.size:,}" if stage.size else "none: it is dropped"
        out.print(Text(f"    {size:,} bytes → {to}", style="dim"))


def _row(out: Console, name: str, names: int, value: str) -> None:
    from rich.text import Text

    out.print(Text(f"    {name:<{names}}", style="bold").append(value, style="not bold"))


def render_difference(out: Console, found: Difference, step: StepPlan) -> None:
    """Without a step: which fields differ, in how many events, and the size."""
    from rich.text import Text

    from kinglet.cli.render import heading, shown_value

    out.print()
    out.print(heading(f"without step {step.number}, {step.operation}", step.note))
    if not found.effects:
        out.print(Text("  nothing differs: the step changes none of these events", style="dim"))
    else:
        names = max(5, *(len(item.field) for item in found.effects)) + 2
        width = (out.width - names - 26) // 2
        head = f"  {'field':<{names}}{'events':>9}{'line':>9}  {'with it':<{width + 2}}without"
        out.print(Text(head, style="dim"))
        for item in found.effects:
            with_it, without = shown_value(item.before, width), shown_value(item.after, width)
            row = f"{item.events:>9,}{item.line:>9,}  {with_it:<{width + 2}}{without}"
            out.print(Text(f"  {item.field:<{names}}", style="bold").append(row, style="not bold"))
    change = 100 * found.bytes_after / found.bytes_before - 100 if found.bytes_before else 0
    if found.bytes_after != found.bytes_before:
        sizes = f"  {found.bytes_before:,} bytes as JSON with it, {found.bytes_after:,} without, {change:+.1f} %"
        out.print(Text(sizes, style="dim"))
