"""Work that is spread over processes, since Python itself runs on one processor."""

from __future__ import annotations

import multiprocessing
import os
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ProcessPoolExecutor
from contextlib import contextmanager
from typing import Any, TypeVar

T = TypeVar("T")
R = TypeVar("R")
_FEW = 12
"""So few pieces are done sooner than processes start."""
_CHUNK = 4


def spread(
    do: Callable[[T], R], pieces: Sequence[T], begin: Callable[..., None], given: tuple[Any, ...]
) -> Iterator[R]:
    """What becomes of pieces, in their order; each process begins with `begin(*given)`, at once.

    do and begin are functions of modules, which processes import.
    """
    workers = min(os.cpu_count() or 1, max(len(pieces) // _FEW, 1))
    if workers == 1 or multiprocessing.current_process().daemon:  # which may not start others
        return _here(do, pieces, begin, given)
    with _one_thread_each():
        pool = ProcessPoolExecutor(workers, multiprocessing.get_context("spawn"), begin, given)
        found = pool.map(do, pieces, chunksize=_CHUNK)
    return _results(pool, found)


def _here(do: Callable[[T], R], pieces: Sequence[T], begin: Callable[..., None], given: tuple[Any, ...]) -> Iterator[R]:
    begin(*given)
    yield from map(do, pieces)


def _results(pool: ProcessPoolExecutor, found: Iterator[R]) -> Iterator[R]:
    try:
        yield from found
    finally:
        pool.shutdown(wait=True, cancel_futures=True)


@contextmanager
def _one_thread_each() -> Iterator[None]:
    """The column engine of each process has one thread: there are as many processes as processors."""
    name = "POLARS_MAX_THREADS"
    before = os.environ.get(name)
    os.environ[name] = "1"
    try:
        yield
    finally:
        if before is None:
            del os.environ[name]
        else:
            os.environ[name] = before
