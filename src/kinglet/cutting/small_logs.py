"""Several logs one after another; small ones go through the cutter together, for each pass has its cost."""

from __future__ import annotations

import itertools
from collections.abc import Iterable, Iterator

import polars as pl

from kinglet.columns.put import put
from kinglet.columns.text_spans import POSITION, as_text
from kinglet.cutting import cutter as cutting
from kinglet.cutting.boundaries.base import Buffer
from kinglet.cutting.cutter import HEAD_BYTES, NO_FAULTS, Cutter, EventBatch, cut, cut_live, has_lone_returns
from kinglet.cutting.header_lines import Headers, named_by, under_headers
from kinglet.cutting.rule import CutRule, boundary_of
from kinglet.errors import InputError
from kinglet.source.logs import CHUNK_BYTES, SMALL_BYTES, Source

SHARED_EVENTS = 20_000  # speed
"""Batches of fewer events than that are put together with those of the next log."""
MOST_SHARED = 500_000  # speed
SHARED_BYTES = 8 * 2**20  # speed
"""And no more than that many bytes of text, so that a batch of large events does not fill the memory."""
ENOUGH_BYTES = 2 * 2**20  # speed
"""A batch of so many is large enough by itself."""


def cut_all(sources: Iterable[Source], rule: CutRule, larger: int = 1) -> Iterator[EventBatch | None]:
    """The events of several sources in order; those of small ones come together in a batch.

    larger: how many times the usual number of events a batch may have, where each batch has its cost.
    """
    shared = min(SHARED_EVENTS * larger, MOST_SHARED)  # speed
    waiting: list[EventBatch] = []
    count = size = 0
    for batch in _batches(sources, rule):
        if batch is not None and _is_small(batch, shared, larger):
            waiting.append(batch)
            count += len(batch)
            size += batch.text_bytes
            if count >= shared or size >= SHARED_BYTES:
                yield _merged(waiting)
                waiting, count, size = [], 0, 0
            continue
        if waiting:
            yield _merged(waiting)
            waiting, count, size = [], 0, 0
        yield batch
    if waiting:
        yield _merged(waiting)


def _is_small(batch: EventBatch, shared: int, larger: int) -> bool:
    """Whether a batch is to be put together with the next."""
    if len(batch) >= shared or batch.sources[0].size is None or batch.lone_returns:
        return False
    return larger > 1 or batch.text_bytes < ENOUGH_BYTES


def _merged(batches: list[EventBatch]) -> EventBatch:
    """Small batches as one."""
    if len(batches) == 1:
        return batches[0]
    frames: list[pl.DataFrame] = []
    sources: list[Source] = []
    masks: dict[str, list[pl.Series]] = {}
    rows = 0
    for batch in batches:
        inner = pl.col("#source") if "#source" in batch.frame.columns else pl.lit(0, dtype=pl.UInt32)
        goes_on = bool(sources) and sources[-1] is batch.sources[0]
        first = len(sources) - goes_on
        frames.append(batch.frame.with_columns_seq((inner + first).cast(pl.UInt32).alias("#source")))
        sources.extend(batch.sources[goes_on:])
        for name, mask in batch.faults:
            masks.setdefault(name, []).append(mask.arg_true().cast(POSITION) + rows)
        rows += len(batch)
    none = pl.Series([False], dtype=pl.Boolean).new_from_index(0, rows)
    faults = tuple((name, put(none, pl.concat(found), True)) for name, found in masks.items())
    whole = pl.concat(frames, rechunk=True)
    given = any(batch.given for batch in batches)
    return EventBatch(tuple(sources), whole, faults, sum(batch.bytes_read for batch in batches), given)


def _batches(sources: Iterable[Source], rule: CutRule) -> Iterator[EventBatch | None]:
    small: list[tuple[Source, bytes]] = []
    held = 0
    form: object = None
    together = boundary_of(rule).together
    for source in sources:
        if source.error is not None:
            continue
        try:
            text = _small_text(source, rule) if together else None
        except InputError as error:
            _failed(source, error)
            continue
        kind = _cut_alike_by(text, rule) if text is not None else None
        if small and (text is None or held >= CHUNK_BYTES or kind != form):
            yield from _cut_small(small, rule)
            small, held = [], 0
        form = kind
        if text is not None:
            small.append((source, text))
            held += len(text)
        else:
            yield from _cut_one(source, rule)
    if small:
        yield from _cut_small(small, rule)


def _cut_one(source: Source, rule: CutRule) -> Iterator[EventBatch | None]:
    """The events of a log, as far as it can be read."""
    try:
        yield from cut_live(source, rule)
    except InputError as error:
        _failed(source, error)


def _failed(source: Source, error: InputError) -> None:
    """Takes down why a log cannot be read, or raises where it has to be."""
    if not source.may_fail:
        raise error
    source.error = str(error)


def _cut_alike_by(text: bytes, rule: CutRule) -> object:
    """What logs must have in common to be cut together."""
    if rule.kind != "json" or rule.value is not None:  # speed
        return None
    from kinglet.cutting.boundaries.objects import level_of

    return level_of(text)


def _cut_small(small: list[tuple[Source, bytes]], rule: CutRule) -> Iterator[EventBatch]:
    """Small logs together; those in which something is broken each by itself, so that it does not touch the next."""
    if len(small) == 1:
        yield from cut(small[0][0], rule)
        return
    batches = list(_cut_joined(small, rule))
    broken = _broken(small, batches) if rule.kind == "json" else set()
    for i, (source, _) in enumerate(small):
        if i not in broken:
            source.let_go()
    if not broken:
        yield from batches
        return
    for alone, members in itertools.groupby(range(len(small)), key=lambda i: i in broken):
        logs = [small[i] for i in members]
        rest = [] if alone else list(_cut_joined(logs, rule))
        if alone or _broken(logs, rest):
            for source, _ in logs:
                yield from cut(source, rule)
        else:
            yield from rest


def _broken(small: list[tuple[Source, bytes]], batches: list[EventBatch]) -> set[int]:
    """The logs that do not have records and nothing else."""
    found: set[int] = set()
    seen: set[int] = set()
    for batch in batches:
        seen |= set(batch.frame["#source"].unique())
        for _, mask in batch.faults:
            found |= set(batch.frame["#source"].filter(mask).unique())
    return found | {i for i, (_, text) in enumerate(small) if i not in seen and text.strip()}


def _small_text(source: Source, rule: CutRule) -> bytes | None:
    """All of a small log in UTF-8 whose line ends are of the usual kind; of any other, nothing."""
    if source.size is None or source.size > SMALL_BYTES or source.events is not None:
        return None
    if source.given_encoding or rule.encoding or rule.line_ends == "any":
        return None
    text = source.plain_text()
    if text is None or (rule.line_ends == "auto" and b"\r" in text and has_lone_returns(text[:HEAD_BYTES])):
        return None
    return text


def _cut_joined(small: list[tuple[Source, bytes]], rule: CutRule) -> Iterator[EventBatch]:
    """The events of small logs, cut as one; each log ends a line and begins an event."""
    parts: list[bytes] = []
    heads: list[int] = []
    position = 0
    for _, text in small:
        heads.append(position)
        parts.append(text)
        position += len(text)
        if text and not text.endswith(b"\n"):
            parts.append(b"\n")
            position += 1
    data = b"".join(parts)
    cutter = Cutter(small[0][0], rule._replace(line_ends="lf"))
    breaks = cutter.breaks(data, True)
    starts = pl.Series(heads, dtype=POSITION)
    found = cutter.boundary.find(Buffer(data, breaks, False, True, starts))
    spans = cutter.limited(data, breaks, found.spans)
    if not spans.height:
        return
    which = starts.search_sorted(spans["start"], side="right").cast(POSITION) - 1
    raw, bad = as_text(data, spans["start"], spans["end"])
    if bad is not None and bad.any():
        spans = spans.with_columns_seq(bad.alias("bad-bytes"))
    lines = breaks.search_sorted(spans["start"]).cast(POSITION) - breaks.search_sorted(starts).cast(POSITION).gather(
        which
    )
    frame = pl.DataFrame(
        [
            (lines + 1).alias("line"),
            (spans["start"] - starts.gather(which)).alias("offset"),
            raw.alias("raw"),
            which.cast(pl.UInt32).alias("#source"),
        ]
    )
    sources = tuple(source for source, _ in small)
    if rule.header_line is not None:
        names, texts = named_by(frame["raw"], rule.header_line)
        frame, spans = under_headers(frame, spans, names, texts, Headers())
    masks = [(name, spans[name].fill_null(False)) for name in spans.columns if name not in NO_FAULTS]
    for first in range(0, frame.height, cutting.MAX_EVENTS):
        faults = [(name, mask.slice(first, cutting.MAX_EVENTS)) for name, mask in masks]
        part = frame.slice(first, cutting.MAX_EVENTS)
        read = position * part.height // frame.height
        yield EventBatch(sources, part, tuple((name, mask) for name, mask in faults if mask.any()), read)
