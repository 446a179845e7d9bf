"""A comparison as Markdown, for a review."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from kinglet.comparing.expected import Verdict
from kinglet.insight.comparing import Comparison, ValueChange

_MOST = 12


def markdown(old: str, new: str, found: Comparison, judged: Verdict) -> str:
    """The summary: what fails first, then counts, and each table folded where it is long."""
    return "\n".join(_lines(old, new, found, judged)).rstrip() + "\n"


def _lines(old: str, new: str, found: Comparison, judged: Verdict) -> Iterator[str]:
    yield f"### {_code(old)} → {_code(new)}"
    yield ""
    if found.same:
        yield f"Nothing changes in {found.counts[1]['events']:,} events."
        yield ""
    elif judged.failing:
        yield f"**{_count(len(judged.failing), 'difference')} that nobody named:**"
        yield ""
        yield from (f"- {_text(str(one))}" for one in judged.failing[:_MOST])
        if len(judged.failing) > _MOST:
            yield f"- and {len(judged.failing) - _MOST} more"
        yield ""
    else:
        yield "Nothing is lost" + (f"; {_count(len(judged.named), 'difference')} as named." if judged.named else ".")
        yield ""
    if judged.unused:
        yield "Named, but not there: " + "; ".join(one.why for one in judged.unused)
        yield ""
    states = list(dict.fromkeys((*found.counts[0], *found.counts[1])))
    yield from _table(
        ["", *states],
        [
            [name, *(f"{counts.get(state, 0):,}" for state in states)]
            for name, counts in zip(("before", "now"), found.counts, strict=True)
        ],
    )
    if found.microseconds is not None:
        before, now = found.microseconds
        yield f"Processor time for an event: {before:.1f} µs before, {now:.1f} µs now ({now / before:.2f} ×)."
        yield ""
    for name, moves in (("State", found.states), ("Variant", found.variants)):
        if moves:
            rows = [
                [f"{item.before} → {item.now}", f"{item.events:,}", f"{_code(f'{item.file}:{item.line}')}"]
                for item in moves
            ]
            yield from _table([name, "events", "first at"], rows)
    for name, changes in (("Time", found.time), ("Field", found.fields), ("Attribute", found.filled)):
        told = [item for item in changes if item.whole or item.gained]
        if told:
            yield from _table([name, "gained", "lost", "other value", "example"], [_row(item) for item in told])
    if found.found:
        rows = [
            [item.rule, f"{item.gained:,}", f"{item.lost:,}", _code(f"{item.file}:{item.line}")] for item in found.found
        ]
        yield from _table(["Rule", "finds more", "finds no more", "first at"], rows)


def _row(item: ValueChange) -> list[str]:
    numbers = [f"{count:,}" if count else "" for count in (item.gained, item.lost, item.changed)]
    first = item.examples[0]
    return [
        item.name,
        *numbers,
        f"{_value(first.before)} → {_value(first.now)} at {_code(f'{first.file}:{first.line}')}",
    ]


def _table(heads: Sequence[str], rows: Sequence[Sequence[str]]) -> Iterator[str]:
    yield "| " + " | ".join(heads) + " |"
    yield "|" + "---|" * len(heads)
    for row in rows:
        yield "| " + " | ".join(cell.replace("|", "\\|").replace("\n", " ") for cell in row) + " |"
    yield ""


def _value(value: str | None) -> str:
    if value is None:
        return "nothing"
    return _code(value if len(value) <= 40 else value[:39] + "…")


def _code(text: str) -> str:
    """Text as code, in which nothing is markup; longer fences where it has backticks."""
    text = text.replace("\n", "⏎").replace("\r", "␍")
    fence = "`" * (max((len(run) for run in text.split() if set(run) == {"`"}), default=0) + 1)
    return f"{fence} {text} {fence}" if "`" in text else f"`{text}`"


def _text(text: str) -> str:
    return text.replace("<", "&lt;").replace("*", "\\*").replace("_", "\\_")


def _count(count: int, what: str) -> str:
    return f"{count:,} {what}{'s' * (count != 1)}"
