"""Batches on several threads, their results in order."""

from __future__ import annotations

import os
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from typing import Any, TypeAlias, TypeVar

from kinglet.cutting.cutter import EventBatch
from kinglet.runtime.forks import begin

T = TypeVar("T")
Turn: TypeAlias = "Future[Any]"
"""What is known of the logs once the times of a batch are decided; the next batch waits for it."""
Work = Callable[[EventBatch, "Turn | None", "Turn | None"], T]
"""Parses a batch; it takes what is known from the turn before and has to fulfil its own."""


def in_turn(batches: Iterable[EventBatch | None], work: Work[T], workers: int | None, ordered: bool) -> Iterator[T]:
    """The results of batches, in order; a bounded number of them is in memory at a time.

    A batch of None says that there is nothing more for now. ordered: whether a batch needs to know of those before.
    """
    begin()
    workers = workers or min((os.cpu_count() or 1) + 1, 8)  # one more, since one waits for the writer

    def done(batch: EventBatch, before: Turn | None, mine: Turn | None) -> T:
        try:
            return work(batch, before, mine)
        except BaseException as error:
            if mine is not None and not mine.done():
                mine.set_exception(error)
            raise

    last: Turn | None = None
    if workers == 1:
        for batch in batches:
            if batch is not None:
                turn: Turn | None = Future() if ordered else None
                yield done(batch, last, turn)
                last = turn
        return
    waiting: deque[Future[T]] = deque()
    pool = ThreadPoolExecutor(workers, thread_name_prefix="kinglet")
    try:
        for batch in batches:
            if batch is None:  # what there is need not wait
                while waiting:
                    yield waiting.popleft().result()
                continue
            turn = Future() if ordered else None
            waiting.append(pool.submit(done, batch, last, turn))
            last = turn
            if len(waiting) > workers:
                yield waiting.popleft().result()
        while waiting:
            yield waiting.popleft().result()
    finally:
        pool.shutdown(wait=False, cancel_futures=True)
