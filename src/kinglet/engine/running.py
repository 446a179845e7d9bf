"""A plan over batches: the order of steps for one batch, and many batches on several threads."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from datetime import datetime
from typing import TYPE_CHECKING, NamedTuple, TypeVar

import polars as pl

from kinglet.clock.reading import INSTANT, Reference
from kinglet.engine.asking import Ask, Asking, answered, together
from kinglet.engine.convert import convert
from kinglet.engine.finishing import Kept, bundled, finish, rows_of, times_of
from kinglet.engine.groups import Group, every, joined, near
from kinglet.engine.parsed import Parsed, Part
from kinglet.engine.plan import MORE, Plan, Reading
from kinglet.engine.routing import FEW, in_question, slices
from kinglet.engine.taking import take_texts
from kinglet.engine.threads import Turn, in_turn
from kinglet.engine.timing import needs_order
from kinglet.raw.cutting import EventBatch
from kinglet.raw.joining import cut_all
from kinglet.raw.sources import Source

if TYPE_CHECKING:
    from kinglet.engine.settling import Placed


class Options(NamedTuple):
    """What a call says beside the parser: the moment to take missing years from, a default zone."""

    at: datetime | None = None
    zone: str | None = None


T = TypeVar("T")
_MOST_LARGER = 12
Settled = Callable[[Sequence["Placed"], Sequence[Source], pl.Series], list["Placed"]]
"""Settles the times of a batch by what is known of the batches before."""


def parse_batch(plan: Plan, batch: EventBatch, options: Options, settled: Settled | None = None) -> Parsed:
    """Parses one batch: envelope, kind, variants; then types, time and state; then steps."""
    reference = options.at or reference_of(batch)
    rows = pl.int_range(len(batch), dtype=pl.UInt32, eager=True)
    return completed(plan, batch, answered(read_events(plan, batch, rows, reference)), options, settled)


def completed(
    plan: Plan, batch: EventBatch, kept: Sequence[Kept], options: Options, settled: Settled | None = None
) -> Parsed:
    """Events of a batch that were read, with all that is told at its end: types, time and state; then steps."""
    reference = options.at or reference_of(batch)
    if not kept:
        return Parsed(plan, batch.sources, (), batch.bytes_read, reference)
    bundles = bundled(kept)
    times = times_of(plan, bundles, reference, options.zone)
    if settled is not None:
        from kinglet.engine.settling import Placed

        source_of = (
            batch.frame["#source"] if "#source" in batch.frame.columns else pl.zeros(len(batch), pl.UInt32, eager=True)
        )
        times = settled([Placed(rows_of(bundles), times)], batch.sources, source_of)[0].timing
    parts = finish(plan, bundles, times, reference, options.zone)
    return Parsed(plan, batch.sources, after_steps(plan, parts, reference), batch.bytes_read, reference)


def read_events(plan: Plan, batch: EventBatch, rows: pl.Series, reference: Reference) -> Asking[list[Kept]]:
    """The events of a batch by the variant that reads them, their fields still text; rows: what they are called."""
    start = Group(rows.alias("row"), batch.frame, pl.DataFrame(height=len(batch)), list(batch.faults))
    kept: list[Kept] = []
    entered, outside = yield from _envelope(plan, start, reference)
    if outside is not None:
        outside = outside._replace(faults=[*outside.faults, ("no-match", every(outside))])
        kept.append(Kept(plan, None, outside, "unmatched"))
    readers = [_tried(plan, group, candidates, reference) for group, candidates in _routes(plan, entered)]
    return kept + [item for some in (yield from together(readers)) for item in some]


def after_steps(plan: Plan, parts: Sequence[Part], reference: Reference) -> tuple[Part, ...]:
    """Parts after all steps of their plan."""
    if not plan.steps:
        return tuple(parts)
    from kinglet.steps.plan import apply

    return tuple(Part(part.variant, apply(plan.steps, part.frame, reference)) for part in parts)


def reference_of(batch: EventBatch) -> Reference:
    """The moment near which stamps lie: of the log, or where there are several, of each of them."""
    moments = [source.reference for source in batch.sources]
    if len(set(moments)) == 1:
        return moments[0]
    return pl.Series(moments, dtype=INSTANT)


def _envelope(plan: Plan, group: Group, reference: Reference) -> Asking[tuple[Group | None, Group | None]]:
    if plan.envelope is None:
        return group, None
    now = frozenset(name for name in (plan.kind, plan.body, MORE) if name is not None)
    inside, outside = yield from _take(plan.envelope, group, group.columns.get_column("raw"), reference, now)
    if inside is not None:
        wanted = plan.texts_later.union(item.name for item in inside.pending)
        texts = pl.DataFrame([text for text in inside.texts.get_columns() if text.name in wanted])
        inside = inside._replace(texts=texts if texts.width else pl.DataFrame(height=len(inside.rows)))
    return inside, outside


def _take(
    reading: Reading, group: Group, text: pl.Series, reference: Reference, now: frozenset[str] = frozenset()
) -> Asking[tuple[Group | None, Group | None]]:
    """The events that a reading matches, with their fields, and those that it does not.

    Only the fields asked for `now` get their types now; the others at the end of the batch, which is quicker where many
    readings do.
    """
    more = group.texts.get_column(MORE) if MORE in group.texts.columns else None
    (found,) = yield [Ask(text, reading)]
    took = take_texts(reading, text, more, found)
    if took is None:
        return None, group
    hit, rest = group, None
    if not took.matched.all():
        hit, rest = group.where(took.matched), group.where(~took.matched)
    faults = [*hit.faults, *took.faults]
    before = hit.texts.drop(MORE, strict=False) if MORE in took.texts.columns else hit.texts
    if not took.texts.width:
        return hit._replace(faults=faults), rest
    texts = before.hstack(took.texts)
    fields = reading.every_field
    columns, pending = hit.columns, hit.pending + tuple(item for item in fields if item.name not in now)
    if len(pending) < len(hit.pending) + len(fields):
        values, bad = convert(took.texts, [item for item in fields if item.name in now], near(reference, hit))
        columns, faults = columns.hstack(values), [*faults, *bad]
    return Group(hit.rows, columns, texts, faults, pending), rest


def _tried(plan: Plan, group: Group, candidates: tuple[int, ...], reference: Reference) -> Asking[list[Kept]]:
    """The events that each candidate reads, then those that none does."""
    asked = in_question(plan, group.columns[plan.body or "raw"], candidates) if len(candidates) > FEW else None
    if asked is not None:
        return (yield from _tried_by_text(plan, group, candidates, asked, reference))
    kept: list[Kept] = []
    rest: Group | None = group
    for index in candidates:
        if rest is not None:
            matched, rest = yield from _read(plan, index, rest, reference)
            if matched is not None:
                kept.append(Kept(plan, index, matched, "complete"))
    if rest is not None:
        kept.append(Kept(plan, None, *_leftover(plan, rest, candidates)))
    return kept


def _tried_by_text(
    plan: Plan, group: Group, candidates: tuple[int, ...], asked: pl.Series, reference: Reference
) -> Asking[list[Kept]]:
    """The same, where each event is tried only by the candidates whose places are listed for it."""
    kept: list[Kept] = []
    left = [group.where(asked.is_null())] if asked.null_count() else []
    waiting, places = (group, asked) if not left else (group.where(asked.is_not_null()), asked.drop_nulls())
    turn = 0
    while len(waiting.rows):
        order, slices_of = slices(places.list.get(turn, null_on_oob=True))
        waiting, places = waiting.gather(order), places.gather(order)
        readers = [
            _read(plan, candidates[place], waiting.slice(start, length), reference)
            for place, start, length in slices_of
        ]
        others: list[tuple[Group, pl.Series]] = []
        used = 0
        for (place, start, length), (matched, rest) in zip(slices_of, (yield from together(readers)), strict=True):
            if matched is not None:
                kept.append(Kept(plan, candidates[place], matched, "complete"))
            if rest is not None:
                lists = places.slice(start, length)
                rows = waiting.rows.slice(start, length)
                others.append((rest, lists if matched is None else lists.filter(rows.is_in(rest.rows.implode()))))
            used = start + length
        if used < len(waiting.rows):
            left.append(waiting.slice(used, len(waiting.rows) - used))
        if not others:
            break
        waiting, places = joined([item for item, _ in others]), pl.concat([lists for _, lists in others])
        turn += 1
    if left:
        kept.append(Kept(plan, None, *_leftover(plan, joined(left), candidates)))
    return kept


def _read(plan: Plan, index: int, group: Group, reference: Reference) -> Asking[tuple[Group | None, Group | None]]:
    """The events that a variant reads, and the others."""
    variant = plan.variants[index]
    text = group.texts[variant.source] if variant.source is not None else group.columns[plan.body or "raw"]
    return (yield from _take(variant.reading, group, text, reference))


def _routes(plan: Plan, group: Group | None) -> list[tuple[Group, tuple[int, ...]]]:
    """The events by the variants that come into question for them."""
    if group is None:
        return []
    if plan.kind is None or not plan.routes:
        return [(group, plan.otherwise)]
    candidates = list(dict.fromkeys((*plan.routes.values(), plan.otherwise)))
    numbers = {kind: candidates.index(route) for kind, route in plan.routes.items()}
    values = group.columns[plan.kind]
    keys = pl.Series(list(numbers), dtype=values.dtype)
    route = values.replace_strict(
        keys,
        pl.Series(list(numbers.values()), dtype=pl.Int32),
        default=candidates.index(plan.otherwise),
        return_dtype=pl.Int32,
    )
    if len(candidates) <= FEW:
        return [(group.where(route == number), candidates[number]) for number in sorted(route.unique().to_list())]
    order, slices_of = slices(route)
    group = group.gather(order)
    return [(group.slice(start, length), candidates[number]) for number, start, length in slices_of]


def _leftover(plan: Plan, group: Group, candidates: tuple[int, ...]) -> tuple[Group, str]:
    """Events whose message no variant reads; with an envelope that much of them is understood."""
    if plan.envelope is None:
        return group._replace(faults=[*group.faults, ("no-match", every(group))]), "unmatched"
    unknown = plan.kind is not None and candidates == plan.otherwise and plan.routes
    fault = "unknown-kind" if unknown else "no-variant"
    return group._replace(faults=[*group.faults, (fault, every(group))]), "partial"


def run(
    plan: Plan,
    sources: Iterable[Source],
    options: Options,
    workers: int | None,
    then: Callable[[Parsed], T],
) -> Iterator[tuple[Parsed, T]]:
    """Parses sources in order, batch by batch; a bounded number of batches is in memory at a time.

    then is done to every batch by the thread that parsed it.
    """
    batches = cut_all(sources, plan.cut, larger=min(_MOST_LARGER, max(1, len(plan.variants) // FEW)))
    ordered = needs_order(plan, options.zone)

    def work(batch: EventBatch, before: Turn | None, mine: Turn | None) -> tuple[Parsed, T]:
        def settled(parts: Sequence[Placed], of: Sequence[Source], source_of: pl.Series) -> list[Placed]:
            from kinglet.engine.settling import settle

            assert mine is not None
            memory = before.result() if before is not None else {}
            found, known = settle(plan, parts, of, source_of, options.zone, options.at, memory)
            mine.set_result(known)
            return found

        parsed = parse_batch(plan, batch, options, settled if ordered else None)
        return parsed, then(parsed)

    return in_turn(batches, work, workers, ordered)
