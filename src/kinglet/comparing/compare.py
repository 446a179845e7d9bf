"""Two versions of a parser, or of a set of them, over the same logs."""

from __future__ import annotations

import dataclasses
import time
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any, NamedTuple

import polars as pl

from kinglet.calls import ParseCalls, ReferenceTime, run_batches, view_of
from kinglet.insight.comparing import ATTRIBUTE, Comparison, RuleChange, compare_events, total
from kinglet.insight.needs import Rule, needs
from kinglet.output.views import View
from kinglet.parser import Parser
from kinglet.source.logs import Given, Source, open_sources, refuse_once

_NOT_COMPARED = (
    "metadata.transformation_info_list",
    "metadata.uid",
    "raw_data",
    "unmapped.time_notes",
    "unmapped.faults",
)
_TIMED, _FEW = 40_000, 2_000


def compare(
    old: ParseCalls,
    new: ParseCalls,
    sources: Sequence[Given],
    *,
    reference_time: ReferenceTime = None,
    rules: Sequence[Rule] = (),
    timed: bool = False,
) -> Comparison:
    """Parses logs with an older and a newer parser, or set of parsers, and joins their events by where they stand.

    Memory is bounded by batches. reference_time: near which timestamps without a year lie. rules: of which is said
    whether they go blind, and which events they find. timed: whether both are timed on a part of the first log.

    Raises:
        InputError: a log cannot be read.
        UsageError: a log can be read once only.
    """
    given = [one if isinstance(one, str | bytes) or hasattr(one, "__fspath__") else list(one) for one in sources]
    refuse_once(given, "here are two parsers")
    readers = _Reader(old, rules), _Reader(new, rules)
    found = total(
        _of_pair(pair, rules)
        for logs in zip(*(open_sources(*given) if given else [] for _ in readers), strict=True)
        for pair in _pairs(*(reader.frames(log, reference_time) for reader, log in zip(readers, logs, strict=True)))
    )
    before, now = (dict(reader.parsers) for reader in (old, new))
    return dataclasses.replace(
        found,
        attributes=dict(_attributes(before, now)),
        rules=tuple(zip(needs(rules, before.values()), needs(rules, now.values()), strict=True)),
        parsers=_gone_and_new(before, now),
        microseconds=_timed((old, new), given[0], reference_time) if timed and given else None,
    )


def _gone_and_new(before: Mapping[str, Parser], now: Mapping[str, Parser]) -> tuple[list[str], list[str]]:
    """Parsers of sets; single ones are compared whatever they are called."""
    if len(before) == len(now) == 1:
        return [], []
    return [name for name in before if name not in now], [name for name in now if name not in before]


class Pair(NamedTuple):
    """Events of the same stretch of a log, as each version reads them."""

    before: pl.DataFrame
    now: pl.DataFrame


class _Reader:
    """A version: the frames of a log, with its fields, the attributes they are mapped to, and which rules find them."""

    def __init__(self, reader: ParseCalls, rules: Sequence[Rule]) -> None:
        self.reader, self.rules = reader, rules
        self.is_mapped = any(parser._definition.maps for parser in reader.parsers.values())
        self.several = len(reader.parsers) > 1

    def frames(self, log: Source, reference_time: ReferenceTime) -> Iterator[pl.DataFrame]:
        fields, view = (view_of(self.reader, form) for form in ("fields", "model"))
        for parsed in run_batches(self.reader, [log], reference_time=reference_time):
            events = fields.table(parsed)
            if self.several:
                events = events.with_columns(pl.concat_str("parser", "variant", separator=" ").alias("variant"))
            yield self._with_attributes(events, parsed, view)

    def _with_attributes(self, events: pl.DataFrame, parsed: Any, view: View) -> pl.DataFrame:
        if not (self.is_mapped or self.rules):
            return events
        flat = view.flat(parsed)
        kept = [name for name in flat.columns if name not in _NOT_COMPARED and not name.startswith("unmapped.")]
        events = events.with_columns(flat[name].alias(ATTRIBUTE + name) for name in kept)
        if self.rules:
            mapped = view.table(parsed)
            events = events.with_columns(rule.true_of(mapped).alias(f"#{rule.name}") for rule in self.rules)
        return events


def _pairs(before: Iterator[pl.DataFrame], now: Iterator[pl.DataFrame]) -> Iterator[Pair]:
    """Both versions in step: stretches up to where both have read. Batches need not end at the same events."""
    streams = [_Stream(before), _Stream(now)]
    while not all(stream.ended for stream in streams):
        behind = min((stream for stream in streams if not stream.ended), key=lambda stream: stream.reached)
        behind.read()
        reached = min((stream.reached for stream in streams if not stream.ended), default=None)
        yield Pair(*(stream.take(reached) for stream in streams))


class _Stream:
    """The frames of one version; what it has read and not given is kept."""

    def __init__(self, frames: Iterator[pl.DataFrame]) -> None:
        self.frames = frames
        self.waiting: pl.DataFrame | None = None
        self.reached = -1
        self.ended = False

    def read(self) -> None:
        frame = next(self.frames, None)
        if frame is None:
            self.ended = True
            return
        if frame.height:
            self.reached = max(self.reached, int(frame["offset"].max()))  # type: ignore[arg-type]
        self.waiting = frame if self.waiting is None else pl.concat([self.waiting, frame], how="diagonal_relaxed")

    def take(self, reached: int | None) -> pl.DataFrame:
        """What stands up to a place of the log; all of it, where none is given."""
        if self.waiting is None:
            return pl.DataFrame(schema=_EMPTY)
        whole = self.waiting
        if reached is None:
            self.waiting = whole.clear()
            return whole
        self.waiting = whole.filter(pl.col("offset") > reached)
        return whole.filter(pl.col("offset") <= reached)


_EMPTY = {"file": pl.String(), "offset": pl.Int64(), "line": pl.Int64(), "state": pl.String(), "variant": pl.String()}


def _of_pair(pair: Pair, rules: Sequence[Rule]) -> Comparison:
    names = [f"#{rule.name}" for rule in rules]
    frames = [frame.drop([name for name in names if name in frame.columns]) for frame in pair]
    found = compare_events(frames[0], frames[1])
    return dataclasses.replace(found, found=tuple(_of_rules(pair, rules))) if rules else found


def _of_rules(pair: Pair, rules: Iterable[Rule]) -> Iterator[RuleChange]:
    """The events that each rule finds in one version only."""
    for rule in rules:
        name = f"#{rule.name}"
        hits = [
            frame.filter(pl.col(name)).select("file", "offset", "line")
            if name in frame.columns
            else frame.clear().select("file", "offset", "line")
            for frame in pair
        ]
        lost = hits[0].join(hits[1], on=["file", "offset"], how="anti")
        gained = hits[1].join(hits[0], on=["file", "offset"], how="anti")
        if lost.height or gained.height:
            first = (lost if lost.height else gained).row(0, named=True)
            yield RuleChange(rule.name, gained.height, lost.height, first["file"], first["line"])


def _attributes(
    before: Mapping[str, Parser], now: Mapping[str, Parser]
) -> Iterator[tuple[str, tuple[list[str], list[str]]]]:
    """By message what its mapping fills no more, and what it fills now; parsers of sets are matched by their names."""
    single = len(before) == len(now) == 1
    for name, parser in before.items():
        other = next(iter(now.values())) if single else now.get(name)
        if other is None:
            continue
        one, two = _filled(parser), _filled(other)
        for message in dict.fromkeys((*one, *two)):
            gone = [path for path in one.get(message, ()) if path not in two.get(message, ())]
            added = [path for path in two.get(message, ()) if path not in one.get(message, ())]
            if gone or added:
                yield message if single else f"{name} {message}", (gone, added)


def _filled(parser: Parser) -> Mapping[str, list[str]]:
    return {
        f"{variant.name} → {mapping.class_caption}": list(mapping.fills)
        for variant in parser._plan.variants
        for mapping in variant.mappings
    }


def _timed(
    readers: tuple[ParseCalls, ParseCalls], given: Given, reference_time: ReferenceTime
) -> tuple[float, float] | None:
    """Microseconds of processor time that each version takes for an event, the better of two; of few events nothing."""
    best = [float("inf"), float("inf")]
    count = 0
    for _ in range(2):
        for i, reader in enumerate(readers):
            begun, count = time.process_time(), 0
            for parsed in run_batches(reader, open_sources(given), reference_time=reference_time, workers=1):
                count += parsed.counts["events"]
                if count >= _TIMED:
                    break
            best[i] = min(best[i], (time.process_time() - begun) / max(count, 1) * 1e6)
    return (best[0], best[1]) if count >= _FEW else None
