"""What a parser does not read yet: shapes of events, how far the nearest variant got, and what to add."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any

import polars as pl

from kinglet.drafting.naming import Names, variant_name
from kinglet.drafting.patterns import regex_of, written
from kinglet.drafting.shape import Shape, Variant
from kinglet.drafting.work import sampled
from kinglet.drafting.writing import variant_lines
from kinglet.insight.diagnosis import Diagnosis, reasons
from kinglet.mining.heads import Head
from kinglet.mining.messages import mine
from kinglet.plan.data import Plan
from kinglet.result import Result
from kinglet.runtime.extraction.line_ends import as_read

MOST = 20
"""Groups that are told of; what is left has one of its own."""


@dataclass(frozen=True)
class Leftover:
    """Events that are alike and not complete.

    shape: a pattern that reads their messages, or what is wrong with them. line, raw: of the first. reason: how far the
    nearest variant got in it, and what it found there. variant: one that would read them, as lines of a parser file;
    empty where it is not a variant that is missing.
    """

    shape: str
    count: int
    line: int
    raw: str
    reason: Diagnosis | None
    variant: str

    def to_dict(self) -> dict[str, Any]:
        """Plain values."""
        return {**asdict(self), "reason": self.reason._asdict() if self.reason is not None else None}


def leftovers(result: Result, state: str, most: int = MOST) -> list[Leftover]:
    """The events of a state in groups, the commonest first: by their shape; where a variant reads them by their fault.

    state: `unmatched`, `partial` or `dropped`.
    """
    events = result.events.filter(pl.col("state") == state)
    unread = events.filter(pl.col("variant").is_null())
    found = [*_shapes(result, unread, most), *_faults(result, events.filter(pl.col("variant").is_not_null()))]
    found.sort(key=lambda one: -one.count)
    rest = found[most - 1 :] if len(found) > most else []
    if rest:  # told as one, so that every event is in a group
        said = f"{len(rest):,} more groups"
        found[most - 1 :] = [Leftover(said, sum(one.count for one in rest), rest[0].line, rest[0].raw, None, "")]
    return found


def bodies(plan: Plan, raw: pl.Series) -> pl.Series:
    """The messages of events: what the variants read, null where the envelope does not match."""
    if plan.envelope is None or plan.body is None or not plan.envelope.regexes:
        return raw
    raw = as_read(raw)
    found = [raw.str.extract_groups(regex).struct.field(plan.body) for regex in plan.envelope.regexes]
    return pl.select(pl.coalesce(*map(pl.lit, found))).to_series() if len(found) > 1 else found[0]


def _faults(result: Result, events: pl.DataFrame) -> list[Leftover]:
    """Events that a variant reads, by what is wrong with them."""
    groups = events.group_by(["variant", pl.col("faults").list.join(", ")], maintain_order=True)
    out = []
    for (variant, faults), own in groups:
        first = own.row(0, named=True)
        why = reasons(result.parser._plan, first["raw"], first["variant"], list(first["faults"])[:1])
        said = f"{variant}: {faults}" if faults else str(variant)
        out.append(Leftover(said, own.height, first["line"], first["raw"], why[0] if why else None, ""))
    return out


def _shapes(result: Result, events: pl.DataFrame, most: int) -> list[Leftover]:
    """Events that no variant reads, by the shape of their messages."""
    if not events.height:
        return []
    plan = result.parser._plan
    column = bodies(plan, events["raw"])
    outside = column.is_null()
    texts = as_read(column.fill_null(events["raw"]))
    firsts = texts.str.split("\n").list.first()
    rows = sampled(range(events.height))
    mined = mine([str(firsts[row]) for row in rows], (), Head())
    names = {variant.name for variant in plan.variants}
    shape = Shape(plan.parser, "", "", {})
    if len(plan.kinds) == 1 and plan.kinds[0].slot in events.columns:
        shape.kind = plan.kinds[0].slot
        shape.kind_is_number = events[shape.kind].dtype.is_integer()
    taken = [
        name for name in result.parser.fields if name in events.columns and events[name].null_count() < events.height
    ]
    out: list[Leftover] = []
    left = pl.int_range(events.height, eager=True)
    for message in mined.messages:
        if not len(left) or len(out) == most - 1:
            break
        own = [rows[row] for row in message.rows]
        more = [str(texts[row]).partition("\n")[2] if "\n" in str(texts[row]) else None for row in own]
        one = written(message, Names(taken), more=more)
        regex = regex_of(one.pattern)
        mask = texts.gather(left).str.contains(regex) if regex else left.is_in(own)
        count = int(mask.sum())
        if not count:
            continue
        alike = left.filter(mask)
        left = left.filter(~mask)
        variant = Variant(variant_name(one.words, names, len(names) + 1), one, own)
        if shape.kind is not None:
            kinds = events[shape.kind].gather(alike).drop_nulls().unique(maintain_order=True)
            variant.kinds = kinds.cast(pl.String).to_list()
        made = "" if outside[int(alike[0])] else "\n".join(variant_lines(shape, variant))
        out.append(_group(result, events, int(alike[0]), one.pattern, count, made))
    if len(left):
        out.append(_group(result, events, int(left[0]), "{text:rest}", len(left), ""))
    return out


def _group(result: Result, events: pl.DataFrame, row: int, shape: str, count: int, variant: str) -> Leftover:
    first = events.row(row, named=True)
    why = reasons(result.parser._plan, first["raw"], None, list(first["faults"])[:1])
    return Leftover(shape, count, first["line"], first["raw"], why[0] if why else None, variant)
