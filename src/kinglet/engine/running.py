"""A plan over batches: the order of steps for one batch, and many batches on several threads."""

from __future__ import annotations

import os
from collections import deque
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from datetime import datetime
from typing import TYPE_CHECKING, NamedTuple, TypeAlias, TypeVar

import polars as pl

from kinglet.clock import notes
from kinglet.clock.reading import INSTANT, Reference
from kinglet.engine.convert import Faults
from kinglet.engine.parsed import Parsed, Part
from kinglet.engine.plan import MORE, STAMP, STATES, Plan, Reading
from kinglet.engine.routing import FEW, in_question, slices
from kinglet.engine.taking import take
from kinglet.engine.timing import Timing, dated_fields, nanoseconds, needs_order, timing, zone_of
from kinglet.raw.cutting import EventBatch
from kinglet.raw.joining import cut_all
from kinglet.raw.sources import Source

if TYPE_CHECKING:
    from kinglet.engine.settling import Memory, Placed

_NO_FAULTS = pl.List(pl.String())


class Options(NamedTuple):
    """What a call says beside the parser: the moment to take missing years from, a default zone."""

    at: datetime | None = None
    zone: str | None = None


T = TypeVar("T")
_Turn: TypeAlias = "Future[Memory]"
"""What is known of the logs once a batch is settled; the next batch waits for it."""
Settled = Callable[[Sequence["Placed"], Sequence[Source], pl.Series], list["Placed"]]
"""Settles the times of a batch by what is known of the batches before."""


class _Group(NamedTuple):
    """Events on their way: rows in the batch, what was read from them so far, what is wrong with them."""

    rows: pl.Series
    columns: pl.DataFrame
    texts: pl.DataFrame
    faults: Faults

    def where(self, mask: pl.Series) -> _Group:
        if mask.all():
            return self
        faults = [(name, bad.filter(mask)) for name, bad in self.faults]
        return _Group(self.rows.filter(mask), self.columns.filter(mask), self.texts.filter(mask), faults)

    def gather(self, order: pl.Series) -> _Group:
        faults = [(name, bad.gather(order)) for name, bad in self.faults]
        return _Group(self.rows.gather(order), self.columns[order], _rows(self.texts, order), faults)

    def slice(self, start: int, length: int) -> _Group:
        faults = [(name, bad.slice(start, length)) for name, bad in self.faults]
        texts = self.texts.slice(start, length) if self.texts.width else pl.DataFrame(height=length)
        return _Group(self.rows.slice(start, length), self.columns.slice(start, length), texts, faults)


def _rows(frame: pl.DataFrame, order: pl.Series) -> pl.DataFrame:
    return frame[order] if frame.width else pl.DataFrame(height=len(order))


class _Read(NamedTuple):
    """Events that have been read; what the order of the log says of their times is still open."""

    variant: int | None
    state: str
    group: _Group
    timing: Timing


def parse_batch(plan: Plan, batch: EventBatch, options: Options, settled: Settled | None = None) -> Parsed:
    """Parses one batch: envelope, kind, variants, types, time, state."""
    reference = options.at or _reference(batch)
    rows = pl.Series("row", range(0)) if not len(batch) else pl.int_range(len(batch), dtype=pl.UInt32, eager=True)
    start = _Group(rows.alias("row"), batch.frame, pl.DataFrame(height=len(batch)), list(batch.faults))
    kept: list[tuple[int | None, str, _Group]] = []

    def keep(variant: int | None, group: _Group, state: str) -> None:
        kept.append((variant, state, group))

    entered, outside = _envelope(plan, start, reference)
    if outside is not None:
        keep(None, outside._replace(faults=[*outside.faults, ("no-match", _all(outside))]), "unmatched")
    for group, candidates in _routes(plan, entered):
        for index, matched, rest in _tried(plan, group, candidates, reference):
            if matched is not None:
                keep(index, matched, "complete")
            if rest is not None:
                keep(None, *_leftover(plan, rest, candidates))
    timings = _timings(plan, [group for _, _, group in kept], reference, options.zone)
    found = [_Read(*item, times) for item, times in zip(kept, timings, strict=True)]
    if settled is not None:
        from kinglet.engine.settling import Placed

        source_of = (
            batch.frame["#source"] if "#source" in batch.frame.columns else pl.zeros(len(batch), pl.UInt32, eager=True)
        )
        placed = settled([Placed(item.group.rows, item.timing) for item in found], batch.sources, source_of)
        found = [item._replace(timing=part.timing) for item, part in zip(found, placed, strict=True)]
    zones = {rule.field: zone_of(rule, options.zone) for rule in plan.times if rule.field is not None}
    dated = (item._replace(timing=item.timing._replace(fields=dated_fields(item.timing, zones))) for item in found)
    parts = tuple(_finish(plan, item, reference) for item in dated)
    if plan.steps:
        from kinglet.steps.plan import apply

        parts = tuple(Part(part.variant, apply(plan.steps, part.frame, reference)) for part in parts)
    return Parsed(plan, batch.sources, parts, batch.bytes_read, reference)


def _timings(plan: Plan, groups: list[_Group], reference: Reference, zone: str | None) -> list[Timing]:
    """The times of groups of events; those of many groups are read together, for each reading has its cost."""
    if len(groups) <= FEW:
        return [timing(plan, group.columns["raw"], group.texts, _near(reference, group), zone) for group in groups]
    slots = {name for rule in plan.times for name in (rule.slot, rule.zone_slot) if name is not None}
    frames = [
        pl.DataFrame(
            [
                group.columns["raw"].alias("#raw"),
                *(group.texts[name] for name in group.texts.columns if name in slots),
                *([group.columns["#source"]] if isinstance(reference, pl.Series) else []),
            ]
        )
        for group in groups
    ]
    whole = pl.concat(frames, how="diagonal")
    near = reference.gather(whole["#source"]) if isinstance(reference, pl.Series) else reference
    times = timing(plan, whole["#raw"], whole.drop("#raw", "#source", strict=False), near, zone)
    parts: list[Timing] = []
    start = 0
    for frame in frames:
        parts.append(times.slice(start, frame.height))
        start += frame.height
    return parts


def _reference(batch: EventBatch) -> Reference:
    moments = [source.reference for source in batch.sources]
    if len(set(moments)) == 1:
        return moments[0]
    return pl.Series(moments, dtype=INSTANT)


def _envelope(plan: Plan, group: _Group, reference: Reference) -> tuple[_Group | None, _Group | None]:
    if plan.envelope is None:
        return group, None
    return _take(plan.envelope, group, group.columns["raw"], reference)


def _take(
    reading: Reading, group: _Group, text: pl.Series, reference: Reference
) -> tuple[_Group | None, _Group | None]:
    """The events that a reading matches, with their fields, and those that it does not."""
    more = group.texts[MORE] if MORE in group.texts.columns else None
    took = take(reading, text, _near(reference, group), more)
    if took is None:
        return None, group
    hit, rest = group, None
    if not took.matched.all():
        hit, rest = group.where(took.matched), group.where(~took.matched)
    if took.faults and not took.texts.width:
        hit = hit._replace(faults=[*hit.faults, *took.faults])
    if took.texts.width:
        columns = hit.columns.drop(MORE, strict=False) if MORE in took.values.columns else hit.columns
        before = hit.texts.drop(MORE, strict=False) if MORE in took.texts.columns else hit.texts
        faults = [*hit.faults, *took.faults]
        hit = _Group(hit.rows, columns.hstack(took.values), before.hstack(took.texts), faults)
    return hit, rest


def _tried(
    plan: Plan, group: _Group, candidates: tuple[int, ...], reference: Reference
) -> Iterator[tuple[int, _Group | None, _Group | None]]:
    """The events that each candidate reads, then those that none does."""
    asked = in_question(plan, group.columns[plan.body or "raw"], candidates) if len(candidates) > FEW else None
    if asked is None:
        rest: _Group | None = group
        for index in candidates:
            if rest is None:
                return
            matched, rest = _read(plan, index, rest, reference)
            yield index, matched, None
        yield -1, None, rest
        return
    left = [group.where(asked.is_null())] if asked.null_count() else []
    waiting, places = (group, asked) if not left else (group.where(asked.is_not_null()), asked.drop_nulls())
    turn = 0
    while len(waiting.rows):
        order, slices_of = slices(places.list.get(turn, null_on_oob=True))
        waiting, places = waiting.gather(order), places.gather(order)
        kept: list[tuple[_Group, pl.Series]] = []
        used = 0
        for place, start, length in slices_of:
            part = waiting.slice(start, length)
            matched, rest = _read(plan, candidates[place], part, reference)
            yield candidates[place], matched, None
            used = start + length
            if rest is not None:
                mask = part.rows.is_in(rest.rows.implode()) if matched is not None else None
                lists = places.slice(start, length)
                kept.append((rest, lists.filter(mask) if mask is not None else lists))
        if used < len(waiting.rows):
            left.append(waiting.slice(used, len(waiting.rows) - used))
        if not kept:
            break
        waiting, places = _joined([item for item, _ in kept]), pl.concat([lists for _, lists in kept])
        turn += 1
    if left:
        yield -1, None, _joined(left)


def _read(plan: Plan, index: int, group: _Group, reference: Reference) -> tuple[_Group | None, _Group | None]:
    """The events that a variant reads, and the others."""
    variant = plan.variants[index]
    text = group.texts[variant.source] if variant.source is not None else group.columns[plan.body or "raw"]
    return _take(variant.reading, group, text, reference)


def _joined(groups: list[_Group]) -> _Group:
    if len(groups) == 1:
        return groups[0]
    names = [name for name, _ in groups[0].faults]
    faults = [(name, pl.concat([group.faults[i][1] for group in groups])) for i, name in enumerate(names)]
    texts = [group.texts for group in groups]
    return _Group(
        pl.concat([group.rows for group in groups]),
        pl.concat([group.columns for group in groups]),
        pl.concat(texts) if texts[0].width else pl.DataFrame(height=sum(len(group.rows) for group in groups)),
        faults,
    )


def _near(reference: Reference, group: _Group) -> Reference:
    """The reference of each event of a group, where they come from several logs."""
    return reference.gather(group.columns["#source"]) if isinstance(reference, pl.Series) else reference


def _routes(plan: Plan, group: _Group | None) -> Iterator[tuple[_Group, tuple[int, ...]]]:
    """The events by the variants that come into question for them."""
    if group is None:
        return
    if plan.kind is None or not plan.routes:
        yield group, plan.otherwise
        return
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
        for number in sorted(route.unique().to_list()):
            yield group.where(route == number), candidates[number]
        return
    order, slices_of = slices(route)
    group = group.gather(order)
    for number, start, length in slices_of:
        yield group.slice(start, length), candidates[number]


def _leftover(plan: Plan, group: _Group, candidates: tuple[int, ...]) -> tuple[_Group, str]:
    """Events whose message no variant reads; with an envelope that much of them is understood."""
    if plan.envelope is None:
        return group._replace(faults=[*group.faults, ("no-match", _all(group))]), "unmatched"
    unknown = plan.kind is not None and candidates == plan.otherwise and plan.routes
    fault = "unknown-kind" if unknown else "no-variant"
    return group._replace(faults=[*group.faults, (fault, _all(group))]), "partial"


def _finish(plan: Plan, item: _Read, reference: Reference) -> Part:
    """Time, faults and state; the columns of a part."""
    group, found = item.group, item.timing
    height = len(group.rows)
    own = [fault for stamps in found.fields.values() for fault in stamps.faults]
    faults = [*group.faults, *(own if item.state != "unmatched" else [])]
    if item.state != "unmatched":
        faults += _time_faults(plan, found)
    states = pl.Series("state", [item.state], dtype=pl.Enum(STATES)).new_from_index(0, height)
    bad = [mask for _, mask in faults]
    if bad and item.state == "complete":
        faulty = pl.DataFrame([mask.alias(str(i)) for i, mask in enumerate(bad)]).select(pl.any_horizontal(pl.all()))
        states = states.set(faulty.to_series(), "partial")
    columns = group.columns
    if item.variant is not None and plan.body is not None and plan.variants[item.variant].reads_body:
        columns = columns.drop(plan.body)
    name = plan.variants[item.variant].name if item.variant is not None else None
    frame = columns.with_columns(
        group.rows,
        states,
        _fault_lists(faults, height),
        pl.lit(name, dtype=pl.String).alias("variant"),
        *_time_columns(plan, found, _near(reference, group)),
    )
    return Part(item.variant, frame)


def _time_faults(plan: Plan, found: Timing) -> Faults:
    """What is wrong with the stamps of events that have no time of their own."""
    gone = found.rule.is_null()
    faults: Faults = []
    if found.of_day is not None:
        undated = found.of_day.is_not_null() & found.time.is_null()
        labels = plan.rules
        for number in found.rule.filter(undated).unique().to_list():
            faults.append((f"no-date:{labels[number]}", undated & (found.rule == number).fill_null(False)))
    if plan.rules and gone.any():
        silent = gone
        for name, mask in found.faults:
            mask = mask & gone
            silent = silent & ~mask
            faults.append((name, mask))
        if plan.missing == "previous":
            silent = silent & found.time.is_null()
        if plan.missing != "file":
            faults.append(("no-time", silent))
    return [(name, mask) for name, mask in faults if mask.any()]


def _time_columns(plan: Plan, found: Timing, reference: Reference) -> list[pl.Series]:
    """The event's time, how it was found, and the fields of further stamps."""
    time, bits = found.time, found.notes
    if plan.missing == "file" and time.null_count():
        gone = time.is_null()
        at = reference.cast(INSTANT) if isinstance(reference, pl.Series) else pl.Series([reference], dtype=INSTANT)
        time = time.zip_with(~gone, at if len(at) == len(time) else at.new_from_index(0, len(time)))
        bits = bits | notes.where(gone, "time-of-log")
    columns = [
        time.alias("time"),
        found.rule.cat.to(pl.Enum(plan.rules)).alias("time_rule"),
        found.stamp.alias(STAMP),
    ]
    lists = [notes.lists(bits)]
    for name, stamps in found.fields.items():
        columns.append(stamps.time.alias(name))
        if (stamps.notes != 0).any():
            lists.append(notes.lists(stamps.notes, f"{name}:"))
    columns.append(_together(lists).alias("time_notes"))
    for item in plan.times:
        if item.nanos is not None and item.field is None:
            columns.append(nanoseconds(time, found.beyond).alias(item.nanos))
        elif item.nanos is not None and item.field in found.fields:
            stamps = found.fields[item.field]
            columns.append(nanoseconds(stamps.time, stamps.beyond).alias(item.nanos))
    return list({column.name: column for column in columns}.values())


def _together(lists: list[pl.Series]) -> pl.Series:
    if len(lists) == 1:
        return lists[0]
    some = pl.DataFrame([column.alias(str(i)) for i, column in enumerate(lists)])
    every = pl.concat_list(pl.col(name).fill_null([]) for name in some.columns)
    return some.select(pl.when(every.list.len() > 0).then(every)).to_series()


def _fault_lists(faults: Faults, height: int) -> pl.Series:
    faults = [(name, mask) for name, mask in faults if mask.any()]
    if not faults:
        return pl.Series("faults", [[]], dtype=_NO_FAULTS).new_from_index(0, height)
    named = [
        pl.DataFrame({"bad": mask}).select(pl.when("bad").then(pl.lit(name)).alias(str(i))).to_series()
        for i, (name, mask) in enumerate(faults)
    ]
    lists = pl.DataFrame(named).select(pl.concat_list(pl.all()).list.drop_nulls().alias("faults"))
    return lists.to_series()


def _all(group: _Group) -> pl.Series:
    return pl.Series([True], dtype=pl.Boolean).new_from_index(0, len(group.rows))


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
    batches = cut_all(sources, plan.cut, larger=max(1, len(plan.variants) // FEW))
    workers = workers or min((os.cpu_count() or 1) + 1, 8)  # one more, since one waits for the writer
    ordered = needs_order(plan, options.zone)

    def work(batch: EventBatch, before: _Turn | None, mine: _Turn | None) -> tuple[Parsed, T]:
        def settled(parts: Sequence[Placed], of: Sequence[Source], source_of: pl.Series) -> list[Placed]:
            from kinglet.engine.settling import settle

            assert mine is not None
            memory = before.result() if before is not None else {}
            found, known = settle(plan, parts, of, source_of, options.zone, options.at, memory)
            mine.set_result(known)
            return found

        try:
            parsed = parse_batch(plan, batch, options, settled if ordered else None)
        except BaseException as error:
            if mine is not None and not mine.done():
                mine.set_exception(error)
            raise
        return parsed, then(parsed)

    last: _Turn | None = None
    if workers == 1:
        for batch in batches:
            if batch is not None:
                turn: _Turn | None = Future() if ordered else None
                yield work(batch, last, turn)
                last = turn
        return
    waiting: deque[Future[tuple[Parsed, T]]] = deque()
    pool = ThreadPoolExecutor(workers, thread_name_prefix="kinglet")
    try:
        for batch in batches:
            if batch is None:  # nothing more for now: what there is need not wait
                while waiting:
                    yield waiting.popleft().result()
                continue
            turn = Future() if ordered else None
            waiting.append(pool.submit(work, batch, last, turn))
            last = turn
            if len(waiting) > workers:
                yield waiting.popleft().result()
        while waiting:
            yield waiting.popleft().result()
    finally:
        pool.shutdown(wait=False, cancel_futures=True)
