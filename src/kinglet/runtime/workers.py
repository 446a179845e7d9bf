"""Batches on several threads, their results in order."""

from __future__ import annotations

import os
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from typing import Any, NamedTuple, Protocol, TypeVar

from kinglet.cutting.cutter import EventBatch
from kinglet.runtime.forks import begin

T = TypeVar("T")


class Turn(Protocol):
    """What a batch knows from the one before, and hands on to the next, which waits for it."""

    def close(self, error: BaseException | None = None) -> None:
        """Hands on what has not been yet, or the reason why there is nothing."""


class Then(NamedTuple):
    """What the thread that parsed a batch does with it: `at_once`, beside other threads; with what comes of that
    `in_turn`, when those before it have done so.
    """

    at_once: Callable[[Any], Any]
    in_turn: Callable[[Any], Any]


TurnType = TypeVar("TurnType", bound=Turn)
Parse = Callable[[EventBatch, TurnType | None], T]


def in_turn(
    batches: Iterable[EventBatch | None],
    parse: Parse[TurnType, T],
    workers: int | None,
    next_turn: Callable[[TurnType | None], TurnType] | None,
    then: Then | None = None,
) -> Iterator[T]:
    """The results of batches, in order; a bounded number of them is in memory at a time.

    A batch of None says that there is nothing more for now. next_turn: the turn behind another, where a batch needs to
    know of those before it.
    """
    begin()
    workers = workers or min(os.cpu_count() or 1, 8)  # speed

    def done(batch: EventBatch, turn: TurnType | None, before: Future[T] | None) -> T:
        try:
            parsed = parse(batch, turn)
        except BaseException as error:
            # the next batch waits for what this one knows, also where this one fails
            if turn is not None:
                turn.close(error)
            raise
        if then is not None:
            made = then.at_once(parsed)
            if before is not None:
                before.result()
            then.in_turn(made)
        return parsed

    last: TurnType | None = None
    if workers == 1:  # speed
        for batch in batches:
            if batch is not None:
                last = next_turn(last) if next_turn is not None else None
                yield done(batch, last, None)
        return
    waiting: deque[Future[T]] = deque()
    before: Future[T] | None = None
    pool = ThreadPoolExecutor(workers, thread_name_prefix="kinglet")
    try:
        for batch in batches:
            if batch is None:  # what there is need not wait
                while waiting:
                    yield waiting.popleft().result()
                continue
            last = next_turn(last) if next_turn is not None else None
            before = pool.submit(done, batch, last, before)
            waiting.append(before)
            if len(waiting) > workers:  # speed: one batch more than there are threads, so that none waits
                yield waiting.popleft().result()
        while waiting:
            yield waiting.popleft().result()
    finally:
        pool.shutdown(wait=False, cancel_futures=True)
