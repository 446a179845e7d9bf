"""Logs that several parsers read: those that the same ones come into question for go through together."""

from __future__ import annotations

import functools
from collections.abc import Iterator, Sequence

from kinglet.cutting.cutter import EventBatch
from kinglet.cutting.small_logs import SHARED_BYTES, cut_all
from kinglet.plan.data import Plan
from kinglet.runtime.candidate_parsers import Claimed
from kinglet.runtime.event_times import needs_order
from kinglet.runtime.handover import Handovers
from kinglet.runtime.mixed import Mixed
from kinglet.runtime.parser_choice import Begun, Choice, Chooser, Decided
from kinglet.runtime.shared_batches import Plans, parse_by_several
from kinglet.runtime.work import Options
from kinglet.runtime.workers import Then, in_turn
from kinglet.source.logs import Source

UNCLAIMED = "unclaimed"
_WAITING = 64 * 2**20  # speed
_AHEAD = 64  # speed
_MOST_LARGER = 25  # speed: a parser costs the same for few events and for many


class Mixer:
    """Several parsers, ready to read logs together; unclaimed: the plan of events that none of them reads."""

    def __init__(self, parsers: Sequence[Claimed], unclaimed: Plan) -> None:
        self.parsers, self.unclaimed = list(parsers), unclaimed
        self._chooser = Chooser(parsers, unclaimed)

    @property
    def torn(self) -> dict[str, list[str]]:
        """Logs in which events of some parsers are cut by the rule of another, and these parsers."""
        return self._chooser.torn

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
                mixed = parse_by_several(batch, plans, self.unclaimed, options, known)
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
            groups.setdefault(self._chooser.choice(begun, decided), []).append(source)
            held += len(source.held or b"")
            waiting += source.size or 0
            if source.size is None or held > SHARED_BYTES or waiting > _WAITING:
                yield from groups.items()
                groups, held, waiting = {}, 0, 0
        yield from groups.items()

    def _begun(self, sources: Sequence[Source]) -> Iterator[Begun]:
        """Logs with their beginnings, some at a time; what comes behind a pipe is not opened before that is parsed."""
        few: list[Source] = []
        for source in sources:
            few.append(source)
            if len(few) == _AHEAD or source.size is None:
                yield from self._chooser.begun(few)
                few = []
        yield from self._chooser.begun(few)
