"""One log, several parsers: each event goes to the parser that reads it best."""

from __future__ import annotations

import functools
import re
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace
from typing import NamedTuple, TypeAlias

import polars as pl

from kinglet.cutting.cutter import EventBatch, cut
from kinglet.cutting.rule import CutRule
from kinglet.cutting.small_logs import SHARED_BYTES, cut_all
from kinglet.plan.data import ROW, Plan
from kinglet.runtime.best_readers import ranks, winners
from kinglet.runtime.candidate_parsers import (
    CandidateFinder,
    Claimed,
    Contents,
    is_general,
    of_path,
    required_texts,
    together,
)
from kinglet.runtime.event_times import needs_order
from kinglet.runtime.extraction.candidate_variants import slices
from kinglet.runtime.extraction.regex_requests import Requests, run_requests, side_by_side
from kinglet.runtime.extraction.variants import read_events
from kinglet.runtime.handover import Handovers
from kinglet.runtime.mixed import Mixed
from kinglet.runtime.parsed import Parsed, VariantEvents
from kinglet.runtime.pipeline import STAGES, complete, parse_batch
from kinglet.runtime.stages.steps import steps
from kinglet.runtime.work import Extracted, Options, Work, reference_of
from kinglet.runtime.workers import Then, in_turn
from kinglet.source.logs import Source, beginning

NO_PARSER = "no-parser"
UNCLAIMED = "unclaimed"
_LITTLE = 0.01
_SEVERAL = 2
_WAITING = 64 * 2**20  # speed
_AHEAD = 64  # speed
_FIRST = 40  # speed
_LINES = 16  # speed
_TRIED = 16  # speed
_SIGNS = re.compile(rb"\w+")
_MOST_LARGER = 25  # speed: a parser costs the same for few events and for many


class Choice(NamedTuple):
    """How a log is cut, and the places of the parsers for its events: first those that claim it, then the others.

    strangers: those of the others that claim texts which the log does not have; of a pipe that cannot be told.
    """

    rule: CutRule
    claim: tuple[int, ...]
    others: tuple[int, ...]
    strangers: frozenset[int] = frozenset()


class _Best(NamedTuple):
    """The rule under which some parsers read most of a log's beginning, how much that is, and the best reader first.

    torn: parsers that read events of it under their own rule, and none under this one.
    """

    rule: CutRule
    much: float
    order: tuple[int, ...]
    torn: tuple[int, ...] = ()


class _Begun(NamedTuple):
    """A log, its beginning as one of its own if that can be read, and the parsers that claim text which it has."""

    source: Source
    beginning: Source | None
    claim: list[int]


Decided: TypeAlias = dict[tuple[tuple[int, ...], frozenset[bytes]], _Best]


class Tier:
    """Plans that are asked together; numbers: which of all they are."""

    def __init__(self, plans: Sequence[Plan], numbers: Sequence[int]) -> None:
        chooser = CandidateFinder([plans[i] for i in numbers])
        self.chooser, self.numbers = chooser, pl.Series(list(numbers), dtype=pl.UInt32)
        self.always = self.numbers[pl.Series(chooser.always, dtype=pl.UInt32)]


class Plans:
    """Plans that may read the same events. claim: how many of the first claim the log. strangers: see `_surely`.

    tiers: those that claim it, and the others, which are asked for what these do not read completely. same_times: of
    each plan the first whose time rules are the same.
    """

    def __init__(self, plans: Sequence[Plan], claim: int = 0, strangers: Iterable[int] = ()) -> None:
        self.plans = list(plans)
        self.strangers = frozenset(strangers)
        numbers = range(len(plans))
        self.tiers = [Tier(plans, part) for part in (numbers[:claim], numbers[claim:]) if len(part)]
        firsts: list[int] = []
        self.same_times: list[int] = []
        for i, plan in enumerate(plans):
            rules = (plan.times, plan.limits, plan.missing, plan.bare)
            # compared one by one: rules hold regexes and tables, of which not all can be hashed
            same = (j for j in firsts if (plans[j].times, plans[j].limits, plans[j].missing, plans[j].bare) == rules)
            first = next(same, i)
            if first == i:
                firsts.append(i)
            self.same_times.append(first)


class Mixer:
    """Several parsers, ready to read logs together; unclaimed: the plan of events that none of them reads."""

    def __init__(self, parsers: Sequence[Claimed], unclaimed: Plan) -> None:
        self.parsers, self.unclaimed = list(parsers), unclaimed
        self.torn: dict[str, list[str]] = {}
        """Logs in which events of some parsers are cut by the rule of another, and these parsers."""
        self._contents = Contents(self.parsers)
        self._several_rules = len({parser.plan.cut for parser in self.parsers}) > 1
        self._required: dict[int, tuple[bytes, ...] | None] = {}

    def run(
        self, sources: Sequence[Source], options: Options, workers: int | None, then: Then | None
    ) -> Iterator[Mixed]:
        """Parses sources in order, batch by batch."""
        known_plans: dict[tuple[tuple[int, ...], tuple[int, ...], frozenset[int]], tuple[Plans, list[int]]] = {}
        for (rule, claim, others, strangers), logs in self._together(sources):
            places = (*claim, *others)
            if (claim, others, strangers) not in known_plans:
                of_places = (number for number, i in enumerate(places) if i in strangers)
                found = Plans([self.parsers[i].plan for i in places], len(claim), of_places)
                in_order = [i for i, plan in enumerate(found.plans) if needs_order(plan, options.zone)]
                known_plans[claim, others, strangers] = found, in_order
            plans, ordered = known_plans[claim, others, strangers]
            most = max(len(plan.variants) for plan in plans.plans)
            larger = min(_MOST_LARGER, max(1, len(places) // 4, most // 8))  # speed

            def parse(batch: EventBatch, known: Handovers | None, plans: Plans = plans) -> Mixed:
                mixed = self._parse(batch, plans, options, known)
                if known is not None:
                    known.close()
                return mixed

            next_turn = functools.partial(Handovers, ordered) if ordered else None
            yield from in_turn(cut_all(logs, rule, larger=larger), parse, workers, next_turn, then)

    def _together(self, sources: Sequence[Source]) -> Iterator[tuple[Choice, list[Source]]]:
        """Logs that the same parsers read, with these and the rule that cuts them.

        Logs wait for others of their kind, so many at a time that ten thousand need no memory of their own; one whose
        size is not known, such as a pipe, does not wait.
        """
        groups: dict[Choice, list[Source]] = {}
        decided: Decided = {}
        held = waiting = 0
        for begun in self._begun(sources):
            source = begun.source
            groups.setdefault(self._choice(begun, decided), []).append(source)
            held += len(source.held or b"")
            waiting += source.size or 0
            if source.size is None or held > SHARED_BYTES or waiting > _WAITING:
                yield from groups.items()
                groups, held, waiting = {}, 0, 0
        yield from groups.items()

    def _begun(self, sources: Sequence[Source]) -> Iterator[_Begun]:
        """Logs with their beginnings, some at a time; what comes behind a pipe is not opened before that is parsed."""
        asked = self._several_rules or any(parser.contains or parser.paths for parser in self.parsers)
        few: list[tuple[Source, Source | None]] = []
        for source in sources:
            few.append((source, beginning(source) if asked else None))
            if len(few) == _AHEAD or source.size is None:
                yield from self._claimed(few)
                few = []
        yield from self._claimed(few)

    def _claimed(self, logs: Sequence[tuple[Source, Source | None]]) -> Iterator[_Begun]:
        heads = [_text_of(head) if head is not None else b"" for _, head in logs]
        for (source, head), claim in zip(logs, self._contents.claimed(heads), strict=True):
            yield _Begun(source, head, claim)

    def _choice(self, begun: _Begun, decided: Decided) -> Choice:
        """How a log is cut, which is so that most of its beginning is complete, and the parsers for its events.

        decided: what was found of logs that the same parsers claim and that begin alike.
        """
        source, head, claim = begun
        by_path = of_path(self.parsers, source.name)
        every = range(len(self.parsers))
        if by_path:
            found = self._seen(head, tuple(by_path), decided)
            if head is None or found.much > 0:
                return Choice(found.rule, found.order, ())
        # those that claim nothing but paths, and not this one, come last
        others = tuple(sorted((i for i in every if i not in claim), key=lambda i: self.parsers[i].claims_only_paths()))
        if head is None:
            return Choice(self._commonest(every), tuple(claim), others)
        strangers = frozenset(i for i in others if self.parsers[i].contains)
        if not self._several_rules and len(claim) < _SEVERAL:
            return Choice(self._commonest(every), tuple(claim), others, strangers)
        # speed: nothing needs to be tried where one parser claims a log of lines
        if len(claim) == 1 and self.parsers[claim[0]].plan.cut == self.unclaimed.cut:
            return Choice(self.unclaimed.cut, tuple(claim), others, strangers)
        # those that claim texts which do not stand there are asked only where no other reads anything
        free = [i for i in others if not self.parsers[i].contains and not self.parsers[i].paths]
        found = self._seen(head, tuple(claim), decided)
        self.torn.pop(source.name, None)
        if found.torn:
            self.torn[source.name] = [self.parsers[i].plan.parser for i in found.torn]
        if found.much == 0:
            found = self._best(head, [*claim, *free], alone=True)
        if found.much == 0:
            found = self._best(head, every, alone=True)
        if found.much == 0:
            return Choice(self._commonest(every), tuple(claim), others, strangers)
        return Choice(
            found.rule,
            tuple(sorted(claim, key=lambda i: found.order.index(i) if i in found.order else len(every))),
            others,
            strangers,
        )

    def _seen(self, head: Source | None, claim: tuple[int, ...], decided: Decided) -> _Best:
        """What `_best` said of a log that the same parsers claim and that begins alike, or says of this one."""
        # speed: a thousand small logs are of few kinds
        if not claim or head is None or head.data is None:
            return self._best(head, claim)
        lines = head.data[: _FIRST * _LINES].split(b"\n")
        if len({self.parsers[i].plan.cut for i in claim}) == 1:
            lines = lines[:1]
        # of rules that differ what all of the first lines look like may decide
        key = claim, frozenset(_SIGNS.sub(b"0", line[: _FIRST // len(lines) + 8]) for line in lines[:_LINES])
        if key not in decided:
            decided[key] = self._best(head, claim)
        return decided[key]

    def _commonest(self, places: Iterable[int]) -> CutRule:
        return Counter(self.parsers[i].plan.cut for i in places).most_common(1)[0][0]

    def _best(self, head: Source | None, places: Sequence[int], *, alone: bool = False) -> _Best:
        """The rule of some parsers under which they read most of a log's beginning.

        alone: whether each rule is tried with its own parsers only, which is quicker where they are many.
        """
        if head is None or not places:
            return _Best(self._commonest(places) if places else self.unclaimed.cut, 0, tuple(places))
        if len(places) == 1 and self._reads_first(head, self.parsers[places[0]].plan):
            return _Best(self.parsers[places[0]].plan.cut, 1, tuple(places))
        text = _text_of(head)
        read = [i for i in places if self._may_read(i, text)]
        best = _Best(self._commonest(places), 0, tuple(places))
        rules = [rule for rule, _ in Counter(self.parsers[i].plan.cut for i in read).most_common()]
        if len(rules) > 1 and not alone and (joint := together([self.parsers[i].plan for i in read])) is not None:
            rules.append(joint)
        read_best: Counter[int] = Counter()
        can: set[int] = set()
        for rule in rules:
            those = [i for i in read if not alone or self.parsers[i].plan.cut == rule]
            much, known, whole = self._complete(head, rule, those)
            can |= {i for i in those if whole[i] and self.parsers[i].plan.cut == rule}
            if much > best.much:
                order = sorted(places, key=lambda i: -known[i])
                best, read_best = _Best(rule, much, tuple(order)), whole
        # what reads events under its own rule, and none under the one that is taken
        return best._replace(torn=tuple(sorted(i for i in can if not read_best[i]))) if not alone else best

    def _may_read(self, place: int, text: bytes) -> bool:
        """Whether a text has what every event of a parser has."""
        if place not in self._required:
            found = required_texts(self.parsers[place].plan)
            # a blank of a pattern matches any run of blanks
            self._required[place] = (
                None if found is None else tuple(one.split()[0].encode() for one in found if one.split())
            )
        required = self._required[place]
        return not required or any(piece in text for piece in required)

    def _reads_first(self, head: Source, plan: Plan) -> bool:
        """Whether a plan reads one of the first events of a log."""
        # speed: a single parser needs no comparison, and most of the time that one takes is not that of its events
        batch = next(iter(cut(replace(head), plan.cut)), None)
        if batch is None:
            return False
        few = _slice(batch, 0, _TRIED)
        rows = pl.int_range(len(few), dtype=pl.UInt32, eager=True)
        read = run_requests(read_events(plan, few, rows, reference_of(few, plan)))
        return any(part.state != "unmatched" for part in read)

    def _complete(self, head: Source, rule: CutRule, places: Sequence[int]) -> tuple[float, Counter[int], Counter[int]]:
        """How much of a log's beginning is read; how many events of it each parser knows, and how many it reads wholly.

        It is events, times their part of its characters: events alone would favour a rule that tears lines off,
        characters alone one that takes all for one event. What is partial counts little, what is complete all.
        """
        # what is done to fields says nothing of whose an event is
        plans = Plans([self.parsers[i].plan._replace(steps=()) for i in places])
        events, good, all_ = 0.0, 0.0, 0
        known: Counter[int] = Counter()
        whole: Counter[int] = Counter()
        by_name = {self.parsers[i].plan.parser: i for i in places}
        for batch in cut(replace(head), rule):
            for parsed in self._parse(batch, plans, Options(), None).by_parser:
                for part in parsed.parts:
                    lengths = part.frame["raw"].str.len_chars()
                    complete = lengths.filter(part.frame["state"] == "complete")
                    partial = lengths.filter(part.frame["state"] == "partial")
                    events += len(complete) + _LITTLE * len(partial)
                    good += int(complete.sum()) + _LITTLE * int(partial.sum())
                    all_ += int(lengths.sum())
                    place = by_name.get(parsed.plan.parser)
                    if place is not None and part.variant is not None:
                        whole[place] += len(complete)
                        if not is_general(parsed.plan.variants[part.variant]):
                            known[place] += len(complete)
        return events * good / max(all_, 1), known, whole

    def _parse(self, batch: EventBatch, plans: Plans, options: Options, known: Handovers | None) -> Mixed:
        """A batch; known: what each plan knows of the logs from the batch before, and hands on to the next."""
        height = len(batch)
        rows = pl.int_range(height, dtype=pl.UInt32, eager=True)
        found: list[tuple[int, Parsed]] = []
        for tier in plans.tiers:
            open_ = rows.filter(ranks(found, height) > 0) if found else rows
            if not len(open_):
                break
            by_text = tier.chooser.by_text(batch.frame["raw"][open_])
            pairs = pl.DataFrame({"row": open_, "place": by_text}).drop_nulls().explode("place")
            pairs = pairs.with_columns_seq(tier.numbers[pairs["place"]].alias("place"))
            found += self._each(batch, pairs, plans, options, known)
            # parsers without fixed text are asked last, and only for what no other has read completely
            if len(tier.always):
                open_ = rows.filter(ranks(found, height) > 0)
                if not len(open_):
                    break
                pairs = pl.DataFrame({"row": open_}).join(pl.DataFrame({"place": tier.always}), how="cross")
                found += [
                    (i, _surely(parsed, i in plans.strangers))
                    for i, parsed in self._each(batch, pairs, plans, options, known)
                ]
        found = winners(found, height)
        taken = [part.frame[ROW] for _, parsed in found for part in parsed.parts]
        unread_rows = rows.filter(~rows.is_in(pl.concat(taken).implode())) if taken else rows
        if len(unread_rows):
            unread = _placed(parse_batch(self.unclaimed, _rows_of(batch, unread_rows), options), unread_rows)
            found.append((len(plans.plans), _nobody(unread)))
        return Mixed(tuple(parsed for _, parsed in found), batch.bytes_read)

    def _each(
        self, batch: EventBatch, pairs: pl.DataFrame, plans: Plans, options: Options, known: Handovers | None
    ) -> Iterator[tuple[int, Parsed]]:
        """Each parser over the events for which it comes into question."""
        reference = options.reference_time or reference_of(batch, plans.plans[0])
        order, runs = slices(pairs["place"])
        all_rows = pairs["row"][order]
        whole = _rows_of(batch, all_rows)
        orders = [needs_order(plans.plans[number], options.zone) for number, _, _ in runs]
        readers: list[Requests[list[Extracted]]] = []
        for (number, start, length), in_order in zip(runs, orders, strict=True):
            rows = pl.int_range(length, dtype=pl.UInt32, eager=True) if in_order else all_rows.slice(start, length)
            readers.append(read_events(plans.plans[number], _slice(whole, start, length), rows, reference))
        read = run_requests(side_by_side(readers))
        shared: dict[int, list[tuple[int, Extracted]]] = {}
        for (number, _, _), in_order, found in zip(runs, orders, read, strict=True):
            # plans with the same time rules go through the stages together, which saves most of the time of many
            if not in_order:
                shared.setdefault(plans.same_times[number], []).extend((number, extracted) for extracted in found)
        for members in shared.values():
            yield from self._same_times(batch, plans, members, options)
        for (number, start, length), in_order, found in zip(runs, orders, read, strict=True):
            if in_order:
                plan, events = plans.plans[number], _slice(whole, start, length)
                handover = known.of.get(number) if known is not None else None
                yield (
                    number,
                    _placed(complete(plan, events, found, options, handover), all_rows.slice(start, length)),
                )

    def _same_times(
        self, batch: EventBatch, plans: Plans, members: Sequence[tuple[int, Extracted]], options: Options
    ) -> Iterator[tuple[int, Parsed]]:
        """What plans with the same rules for times have read, each by the number of its plan."""
        if not members:
            return
        work = Work.of(members[0][1].plan, batch, options)
        work.take([extracted for _, extracted in members])
        for stage in STAGES[1:-1]:  # all but to extract, which is done, and steps, which are each plan's own
            stage(work)
        of_plan: dict[int, list[VariantEvents]] = {}
        for (number, _), own in zip(members, work.parts, strict=True):
            of_plan.setdefault(number, []).extend(own)
        for number, own in of_plan.items():
            alone = replace(work, plan=plans.plans[number], parts=[own])
            steps(alone)
            yield number, replace(alone.parsed(), bytes_read=0)


def _text_of(head: Source) -> bytes:
    """The text of the beginning of a log."""
    return head.data if head.data is not None else "\n".join(map(str, head.events or ())).encode("utf-8", "replace")


def _placed(parsed: Parsed, rows: pl.Series) -> Parsed:
    """Some events of a batch; rows: where they stand in it."""
    frames = [item.frame.with_columns_seq(rows[item.frame[ROW]].alias(ROW)) for item in parsed.parts]
    parts = [VariantEvents(item.variant, frame) for item, frame in zip(parsed.parts, frames, strict=True)]
    return replace(parsed, parts=tuple(parts))


def _rows_of(batch: EventBatch, rows: pl.Series) -> EventBatch:
    faults = tuple((name, mask[rows]) for name, mask in batch.faults)
    return EventBatch(batch.sources, batch.frame[rows], faults, 0)


def _slice(batch: EventBatch, start: int, length: int) -> EventBatch:
    faults = tuple((name, mask.slice(start, length)) for name, mask in batch.faults)
    return EventBatch(batch.sources, batch.frame.slice(start, length), faults, 0)


def _surely(parsed: Parsed, is_stranger: bool) -> Parsed:
    """Only events that are complete, or have a variant and a time: no text tells that they are the parser's own.

    is_stranger: whether the parser claims texts, and none of them stands in the log: what it reads by a variant that
    reads anything is not its own.
    """
    parts = [
        part
        for part in parsed.parts
        if part.variant is not None and not (is_stranger and is_general(parsed.plan.variants[part.variant]))
    ]
    sure = [part.frame["time"].is_not_null() | part.frame["state"].is_in(["complete", "dropped"]) for part in parts]
    kept = [part.where(good) for part, good in zip(parts, sure, strict=True)]
    return replace(parsed, parts=tuple(part for part in kept if part.frame.height))


def _nobody(parsed: Parsed) -> Parsed:
    """Events that no parser reads, with the fault that says so."""

    def named(faults: pl.Expr) -> pl.Expr:
        return faults.list.eval(pl.when(pl.element() == "no-match").then(pl.lit(NO_PARSER)).otherwise(pl.element()))

    parts = tuple(
        VariantEvents(part.variant, part.frame.with_columns_seq(named(pl.col("faults")))) for part in parsed.parts
    )
    return replace(parsed, parts=parts)
