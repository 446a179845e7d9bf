"""A plan over batches: the order of steps for one batch, and many batches on several threads."""

from __future__ import annotations

import os
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from datetime import datetime
from typing import NamedTuple, TypeVar

import polars as pl

from kinglet.clock.reading import INSTANT, Reference, instants
from kinglet.engine.convert import Faults, convert
from kinglet.engine.extract import extract
from kinglet.engine.parsed import Parsed, Part
from kinglet.engine.plan import STATES, Plan, Reading
from kinglet.raw.cutting import EventBatch
from kinglet.raw.joining import cut_all
from kinglet.raw.sources import Source

_NO_FAULTS = pl.List(pl.String())


class Options(NamedTuple):
    """What a call says beside the parser: the moment to take missing years from, a default zone."""

    at: datetime | None = None
    zone: str | None = None


T = TypeVar("T")


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


def parse_batch(plan: Plan, batch: EventBatch, options: Options) -> Parsed:
    """Parses one batch: envelope, kind, variants, types, time, state."""
    reference = options.at or _reference(batch)
    rows = pl.Series("row", range(0)) if not len(batch) else pl.int_range(len(batch), dtype=pl.UInt32, eager=True)
    start = _Group(rows.alias("row"), batch.frame, pl.DataFrame(height=len(batch)), list(batch.faults))
    parts: list[Part] = []
    entered, outside = _envelope(plan, start, reference)
    if outside is not None:
        faults = [*outside.faults, ("no-match", _all(outside))]
        parts.append(_finish(plan, None, outside._replace(faults=faults), reference, options, "unmatched"))
    for group, candidates in _routes(plan, entered):
        rest: _Group | None = group
        for index in candidates:
            if rest is None:
                break
            text = rest.columns[plan.body or "raw"]
            matched, rest = _take(plan.variants[index].reading, rest, text, reference)
            if matched is not None:
                parts.append(_finish(plan, index, matched, reference, options, "complete"))
        if rest is not None:
            parts.append(_leftover(plan, rest, candidates, reference, options))
    return Parsed(plan, batch.sources, tuple(parts), batch.bytes_read, reference)


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
    texts, matched = extract(text, reading)
    if not matched.any():
        return None, group
    hit, rest = group, None
    if not matched.all():
        hit, rest, texts = group.where(matched), group.where(~matched), texts.filter(matched)
    if reading.fields:
        values, faults = convert(texts, reading.fields, _near(reference, hit))
        hit = _Group(hit.rows, hit.columns.hstack(values), hit.texts.hstack(texts), [*hit.faults, *faults])
    return hit, rest


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
    for number in sorted(route.unique().to_list()):
        yield group.where(route == number), candidates[number]


def _leftover(plan: Plan, group: _Group, candidates: tuple[int, ...], reference: Reference, options: Options) -> Part:
    """Events whose message no variant reads; with an envelope that much of them is understood."""
    if plan.envelope is None:
        faults = [*group.faults, ("no-match", _all(group))]
        return _finish(plan, None, group._replace(faults=faults), reference, options, "unmatched")
    unknown = plan.kind is not None and candidates == plan.otherwise and plan.routes
    fault = "unknown-kind" if unknown else "no-variant"
    return _finish(
        plan, None, group._replace(faults=[*group.faults, (fault, _all(group))]), reference, options, "partial"
    )


def _finish(plan: Plan, variant: int | None, group: _Group, reference: Reference, options: Options, state: str) -> Part:
    """Time, faults and state; the columns of a part."""
    time, faults = _time(plan, group, reference, options)
    if state == "unmatched":
        time, faults = pl.Series("time", [None], dtype=INSTANT).new_from_index(0, len(group.rows)), group.faults
    bad = [mask for _, mask in faults]
    states = pl.Series("state", [state], dtype=pl.Enum(STATES)).new_from_index(0, len(group.rows))
    if bad and state == "complete":
        faulty = pl.DataFrame([mask.alias(str(i)) for i, mask in enumerate(bad)]).select(pl.any_horizontal(pl.all()))
        states = states.set(faulty.to_series(), "partial")
    columns = group.columns
    if variant is not None and plan.body is not None:
        columns = columns.drop(plan.body)
    name = plan.variants[variant].name if variant is not None else None
    frame = columns.with_columns(
        group.rows,
        states,
        _fault_lists(faults, len(group.rows)),
        time.alias("time"),
        pl.lit(name, dtype=pl.String).alias("variant"),
    )
    return Part(variant, frame)


def _time(plan: Plan, group: _Group, reference: Reference, options: Options) -> tuple[pl.Series, Faults]:
    time = pl.Series("time", [None], dtype=INSTANT).new_from_index(0, len(group.rows))
    if not plan.times:
        return time, group.faults
    faults: Faults = []
    for rule in plan.times:
        if rule.slot not in group.texts.columns:
            continue
        text = group.texts[rule.slot]
        value = instants(text, rule.reading, _near(reference, group), options.zone)
        time = value if time.null_count() == len(time) else time.zip_with(time.is_not_null(), value)
        if value.null_count() > text.null_count():
            faults.append((f"bad-time:{rule.slot}", value.is_null() & text.is_not_null()))
    if time.null_count():
        gone = time.is_null()
        faults = [(name, mask & gone) for name, mask in faults]
        silent = gone
        for _, mask in faults:
            silent = silent & ~mask
        faults = [
            *((name, mask) for name, mask in faults if mask.any()),
            *([("no-time", silent)] if silent.any() else []),
        ]
    else:
        faults = []
    return time, [*group.faults, *faults]


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
    batches = cut_all(sources, plan.cut)
    workers = workers or min((os.cpu_count() or 1) + 1, 8)  # one more, since one waits for the writer

    def work(batch: EventBatch) -> tuple[Parsed, T]:
        parsed = parse_batch(plan, batch, options)
        return parsed, then(parsed)

    if workers == 1:
        yield from (work(batch) for batch in batches if batch is not None)
        return
    waiting: deque[Future[tuple[Parsed, T]]] = deque()
    pool = ThreadPoolExecutor(workers, thread_name_prefix="kinglet")
    try:
        for batch in batches:
            if batch is None:  # nothing more for now: what there is need not wait
                while waiting:
                    yield waiting.popleft().result()
                continue
            waiting.append(pool.submit(work, batch))
            if len(waiting) > workers:
                yield waiting.popleft().result()
        while waiting:
            yield waiting.popleft().result()
    finally:
        pool.shutdown(wait=False, cancel_futures=True)
