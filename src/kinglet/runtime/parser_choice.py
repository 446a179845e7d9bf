"""How a log is cut and who of several parsers reads it: told by its path, its beginning, and what they read of that."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import replace
from typing import NamedTuple, TypeAlias

import polars as pl

from kinglet.cutting.cutter import cut
from kinglet.cutting.rule import CutRule
from kinglet.plan.data import Plan
from kinglet.runtime.candidate_parsers import Claimed, Contents, is_general, of_path, required_texts, together
from kinglet.runtime.extraction.regex_requests import run_requests
from kinglet.runtime.extraction.variants import read_events
from kinglet.runtime.shared_batches import Plans, parse_by_several, part_of
from kinglet.runtime.work import Options, reference_of
from kinglet.source.logs import Source, beginning

_LITTLE = 0.01
_SEVERAL = 2
_FIRST = 40  # speed
_LINES = 16  # speed
_TRIED = 16  # speed
_SIGNS = re.compile(rb"\w+")


class Choice(NamedTuple):
    """How a log is cut, and the places of the parsers for its events: first those that claim it, then the others.

    strangers: those of the others that claim texts which the beginning of the log does not have.
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


class Begun(NamedTuple):
    """A log, its beginning as one of its own if that can be read, and the parsers that claim text which it has."""

    source: Source
    beginning: Source | None
    claim: list[int]


Decided: TypeAlias = dict[tuple[tuple[int, ...], frozenset[bytes]], _Best]


class Chooser:
    """Tells for logs which of several parsers read them; unclaimed: the plan of events that none of them reads."""

    def __init__(self, parsers: Sequence[Claimed], unclaimed: Plan) -> None:
        self.parsers, self.unclaimed = list(parsers), unclaimed
        self.torn: dict[str, list[str]] = {}
        """Logs in which events of some parsers are cut by the rule of another, and these parsers."""
        self._contents = Contents(self.parsers)
        self._several_rules = len({parser.plan.cut for parser in self.parsers}) > 1
        self._required: dict[int, tuple[bytes, ...] | None] = {}

    def begun(self, sources: Sequence[Source]) -> list[Begun]:
        """Logs with their beginnings, where these tell anything, and the parsers that claim them."""
        asked = self._several_rules or any(parser.contains or parser.paths for parser in self.parsers)
        starts = [beginning(source) if asked else None for source in sources]
        claims = self._contents.claimed([_text_of(start) if start is not None else b"" for start in starts])
        return [Begun(*log) for log in zip(sources, starts, claims, strict=True)]

    def choice(self, begun: Begun, decided: Decided) -> Choice:
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
        few = part_of(batch, 0, _TRIED)
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
            for parsed in parse_by_several(batch, plans, self.unclaimed, Options()).by_parser:
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


def _text_of(head: Source) -> bytes:
    """The text of the beginning of a log."""
    return head.data if head.data is not None else "\n".join(map(str, head.events or ())).encode("utf-8", "replace")
