"""Regexes on threads of their own, which keep them compiled.

The column engine compiles a regex when a thread first needs it, and each thread keeps the last 32. With hundreds
of variants every one would be compiled again for every batch, which takes longer than to read a few hundred texts.
So a regex always goes to the same thread, its worker, and a worker has no more of them than a thread keeps.
"""

from __future__ import annotations

import functools
import itertools
import os
import threading
from collections.abc import Callable, Iterable
from concurrent.futures import Future, ThreadPoolExecutor
from typing import TypeVar

T = TypeVar("T")
PLACES = 28  # speed
"""Regexes of a worker; a thread has place for a few more, such as those that are tried second."""
MOST = 64  # speed
"""Workers; with more regexes than they have places for, some are compiled again."""

_numbers = itertools.count()
_processors = threading.Semaphore(os.cpu_count() or 1)  # speed
"""Threads that wait for a processor would only take turns with those that put the results together."""


@functools.lru_cache(maxsize=MOST * PLACES)
def _worker_of(regex: str) -> int:
    # regexes are dealt out in the order in which they are first seen: those of a parser stay together
    return next(_numbers) // PLACES % MOST


@functools.cache
def _thread(number: int) -> ThreadPoolExecutor:
    return ThreadPoolExecutor(1, thread_name_prefix=f"kinglet-worker-{number}")


def on_workers(work: Callable[[int], T], regexes: Iterable[tuple[int, str]]) -> dict[int, T]:
    """What work gives for each number, done by the thread that has its regex."""
    shares: dict[int, list[int]] = {}
    for number, regex in regexes:
        shares.setdefault(_worker_of(regex), []).append(number)

    def all_of(share: list[int]) -> list[T]:
        with _processors:
            return [work(number) for number in share]

    pending: list[tuple[list[int], Future[list[T]]]] = [
        (share, _thread(worker).submit(all_of, share)) for worker, share in shares.items()
    ]
    return {number: result for share, done in pending for number, result in zip(share, done.result(), strict=True)}


def _forget() -> None:
    """A forked process has none of the threads of the one it comes from."""
    global _processors
    _thread.cache_clear()
    _processors = threading.Semaphore(os.cpu_count() or 1)  # speed


if hasattr(os, "register_at_fork"):
    os.register_at_fork(after_in_child=_forget)
