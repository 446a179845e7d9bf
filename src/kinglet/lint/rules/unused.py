"""Parts of a parser that do nothing, and tables that lack what is looked up in them."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from typing import Any

import polars as pl

from kinglet.errors import KingletError
from kinglet.insight.cases import events_of
from kinglet.lint.rule import Found, LintRule, Subject
from kinglet.parser import Parser
from kinglet.plan.steps import StepPlan
from kinglet.spec.schema import Case
from kinglet.steps.tables import FINDERS, Lookup

_NOT_COMPARED = ("parser", "version", "id")


def _texts(subject: Subject) -> str:
    """All patterns of the file, in which types and parts are named."""
    definition = subject.definition
    envelope = definition.envelope
    forms = [envelope if isinstance(envelope, str) else envelope.pattern if envelope is not None else None]
    forms += [variant.pattern for variant in definition.variants]
    forms += definition.parts.values()
    forms += [_patterns(subject.document.values.get("steps"))]
    return "\n".join(form for form in forms if form)


def _patterns(value: object) -> str:
    if isinstance(value, dict):
        return "\n".join(_patterns(one) for one in value.values())
    if isinstance(value, list):
        return "\n".join(map(_patterns, value))
    return value if isinstance(value, str) else ""


def unused_type(subject: Subject) -> Iterator[Found]:
    text = _texts(subject)
    definition = subject.definition
    named = {kind for variant in definition.variants for kind in variant.types.values()}
    if definition.envelope is not None and not isinstance(definition.envelope, str):
        named |= {*definition.envelope.types.values()}
    named |= {*re.findall(r"\w+", _patterns(subject.document.values.get("steps")))}
    for name in definition.types:
        if name not in named and not re.search(rf":\s*{re.escape(name)}\s*(?:\+\s*text\s*)?\}}", text):
            yield Found(("types", name), f"the type `{name}` is used nowhere", "leave it out")


def unused_part(subject: Subject) -> Iterator[Found]:
    text = _texts(subject)
    for name in subject.definition.parts:
        if not re.search(rf"\{{\s*@\s*{re.escape(name)}\s*\}}", text):
            yield Found(("parts", name), f"the part `{name}` is used nowhere", "leave it out")


_FIRST, _MORE = 3, 4
"""So many cases at first, and each time so many times more, as long as they come out the same."""


def idle_step(subject: Subject) -> Iterator[Found]:
    if not subject.definition.cases and subject.samples is None:
        return
    steps = subject.plan.steps
    full = events_of(subject.parser.with_steps(), subject.definition.cases) if steps else pl.DataFrame()
    of_sample: pl.DataFrame | None = None
    for step in steps:
        try:
            without = subject.parser.with_steps(without=[step.number])
        except KingletError:
            continue  # what follows needs it
        if not _same(full, without, subject.definition.cases, _likely_first(step, full)):
            continue
        if subject.samples is not None:
            raws = subject.samples["raw"].to_list()
            if of_sample is None:
                of_sample = subject.parser.with_steps().parse(raws).events
            if not _equal(of_sample, without.parse(raws).events):
                continue
        where = "no case and no event of the sample" if subject.samples is not None else "no case"
        yield Found(
            ("steps", step.number - 1),
            f"does nothing: {where} comes out otherwise without it",
            "add a case that it is for, or leave it out",
        )


def _likely_first(step: StepPlan, events: pl.DataFrame) -> list[int]:
    """The rows of events, those first to which a step is likely to do something, and of each variant one."""
    if not events.height:
        return []
    given = [name for name in step.action.gives if name in events.columns]
    has_value = pl.any_horizontal([pl.lit(False), *(pl.col(name).is_not_null() for name in given)])
    dropped = pl.lit(step.action.about.reason is not None) & (pl.col("state") == "dropped")
    order = events.select(
        (has_value | dropped).alias("likely"), pl.col("variant").cum_count().over("variant").alias("number")
    )
    return order.select(pl.arg_sort_by(["likely", "number"], descending=[True, False])).to_series().to_list()


def _same(events: pl.DataFrame, parser: Parser, cases: Sequence[Case], order: Sequence[int]) -> bool:
    """Whether a parser reads cases as these events say; one case that comes out otherwise is enough."""
    if events.height != len(cases):
        return _equal(events, events_of(parser, cases))
    start, count = 0, _FIRST
    while start < len(order):
        rows = list(order[start : start + count])
        if not _equal(events[rows], events_of(parser, [cases[row] for row in rows])):
            return False
        start, count = start + count, count * _MORE
    return True


def _equal(one: pl.DataFrame, other: pl.DataFrame) -> bool:
    """Whether events are the same but for who parsed them; a field that none has is none."""
    names = {
        name
        for frame in (one, other)
        for name in frame.columns
        if name not in _NOT_COMPARED and frame[name].null_count() < frame.height
    }
    if one.height != other.height or not names <= set(one.columns) & set(other.columns):
        return False
    return one.select(sorted(names)).equals(other.select(sorted(names)))


def lacking_table(subject: Subject) -> Iterator[Found]:
    for step in subject.plan.steps:
        if not isinstance(step.action, Lookup):
            continue
        values = {str(event[step.action.name]) for event in subject.cases if event.get(step.action.name) is not None}
        if subject.samples is not None and step.action.name in subject.samples.columns:
            values |= set(subject.samples[step.action.name].drop_nulls().cast(pl.String).to_list())
        find = FINDERS[step.action.by](step.action.table, step.action.key)
        lacks = sorted(value for value in values if find(value) is None)
        if lacks:
            some = ", ".join(f"`{value}`" for value in lacks[:3]) + (
                f" and {len(lacks) - 3} more" if len(lacks) > 3 else ""
            )
            yield Found(
                ("steps", step.number - 1, "lookup"),
                f"the table {step.action.table.path.name} has no row for {some}",
                "add rows for them",
            )


def hidden_in_raw(subject: Subject) -> Iterator[Found]:
    """Steps that hide values which the raw text still shows."""
    drops = any(step.operation == "raw" and step.when is None for step in subject.plan.steps)
    for step in subject.plan.steps:
        if (hidden := step.action.about.hidden) is not None and not drops:
            names = ", ".join(f"`{name}`" for name in step.action.gives)
            verb, stay = ("are", "stay") if len(step.action.gives) > 1 else ("is", "stays")
            yield Found(
                ("steps", step.number - 1), f"{names} {verb} {hidden}, but {stay} in the raw text",
                "add the step `raw: drop`",
            )  # fmt: skip


def counted_from_nought(subject: Subject) -> Iterator[Found]:
    """Keys of items and occurrences with the number 0, of which there is none, unless a key of the log is called so."""
    values = subject.document.values
    forms: list[tuple[tuple[str | int, ...], object]] = [(("envelope",), values.get("envelope"))]
    forms += [(("variants", i), form) for i, form in enumerate(_list(values.get("variants")))]
    forms += [(("steps", i, "parse"), form.get("parse")) for i, form in enumerate(_list(values.get("steps")))]
    for path, form in forms:
        keys = form.get("keys") if isinstance(form, dict) else None
        for field, key in keys.items() if isinstance(keys, dict) else ():
            if "[0]" in str(key) and all(event.get(field) is None for event in subject.cases):
                mend = f"write `{str(key).replace('[0]', '[1]')}` for the first"
                yield Found((*path, "keys", field), f"`{key}` is never there: the first has the number 1", mend)


def _list(value: object) -> list[dict[str, Any]]:
    return [one if isinstance(one, dict) else {} for one in value] if isinstance(value, list) else []


RULES = (
    LintRule(
        "U01", "type used nowhere", "warning",
        "a type of the parser's own that no pattern and no `types` names",
        "leave it out",
        unused_type,
    ),
    LintRule(
        "U02", "part used nowhere", "warning",
        "a part that no pattern refers to",
        "leave it out",
        unused_part,
    ),
    LintRule(
        "U03", "step without effect", "warning",
        "a step without which every case, and every event of `--sample`, comes out the same",
        "add a case that it is for, or leave it out",
        idle_step,
    ),
    LintRule(
        "U04", "table without a row", "warning",
        "a `lookup` whose table lacks a value that cases, or events of `--sample`, have",
        "add the row",
        lacking_table,
    ),
    LintRule(
        "U05", "hidden, but shown in the raw text", "note",
        "a value that a step masks or hashes, while the raw text keeps it",
        "add the step `raw: drop`",
        hidden_in_raw,
    ),
    LintRule(
        "U06", "item with the number 0", "warning",
        "a key such as `tags[0]` that no case has: items, and occurrences of a key, count from 1",
        "write `[1]` for the first, `[-1]` for the last",
        counted_from_nought,
    ),
)  # fmt: skip
