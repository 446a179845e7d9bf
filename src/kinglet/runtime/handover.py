"""What a plan knows of its logs at the end of a batch, and hands on to the next one.

Batches are parsed on several threads. Each waits only for what it needs: for times until those of the batch before are
decided, for what steps remember until its steps are done.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from concurrent.futures import Future
from typing import TypeAlias

from kinglet.plan.steps import Remembered
from kinglet.source.logs import Source
from kinglet.timestamps.order import Known

Memory: TypeAlias = Mapping[int, tuple[Source, Known]]
"""What is known at the end of a batch of the times of each of its logs, by the identity of its source."""
Kept: TypeAlias = Mapping[int, tuple[Source, Mapping[int, Remembered]]]
"""What steps have kept of each log, by the identity of its source and the number of the step."""


class Handover:
    """What one batch takes from the batch before, and gives to the next."""

    def __init__(self, before: Handover | None = None) -> None:
        # futures alone: to hold the handover before would hold all before that
        self._times_before = before.times if before is not None else None
        self._kept_before = before.kept if before is not None else None
        self.times: Future[Memory] = Future()
        self.kept: Future[Kept] = Future()

    @property
    def times_before(self) -> Memory:
        """What is known of times, once the batch before has decided its own."""
        return self._times_before.result() if self._times_before is not None else {}

    @property
    def kept_before(self) -> Kept:
        """What steps have kept, once the batch before has been through them."""
        return self._kept_before.result() if self._kept_before is not None else {}

    def close(self, error: BaseException | None = None) -> None:
        """Hands on what came from before, where the batch had nothing to add, or why there is nothing."""
        for mine, before in ((self.times, self._times_before), (self.kept, self._kept_before)):
            # what the batch itself had to say stands
            if mine.done():
                continue
            if error is not None:
                mine.set_exception(error)
            else:
                mine.set_result(before.result() if before is not None else {})  # type: ignore[arg-type]

    @staticmethod
    def of(times: Memory, kept: Kept) -> Handover:
        """One that begins with what is known already."""
        first = Handover()
        first.times.set_result(times)
        first.kept.set_result(kept)
        return Handover(first)


class Handovers:
    """Those of several plans, by their numbers; closed together."""

    def __init__(self, numbers: Iterable[int], before: Handovers | None = None) -> None:
        known: Mapping[int, Handover] = before.of if before is not None else {}
        self.of: Mapping[int, Handover] = {number: Handover(known.get(number)) for number in numbers}

    def close(self, error: BaseException | None = None) -> None:
        """Closes each of them."""
        for one in self.of.values():
            one.close(error)
