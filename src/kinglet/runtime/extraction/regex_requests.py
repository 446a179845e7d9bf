"""Readings that are asked for, and done at once for all who ask.

Whoever reads events says what to read from which texts and goes on with what was found there. So hundreds of variants,
or parsers, each of which reads a few hundred events of a batch, share one pass over all processors.
"""

from __future__ import annotations

from collections.abc import Generator, Sequence
from typing import NamedTuple, TypeVar

import polars as pl

from kinglet.plan.data import Reading
from kinglet.runtime.extraction.candidate_variants import FEW
from kinglet.runtime.extraction.regex_groups import RegexGroups, extract
from kinglet.runtime.extraction.regex_workers import on_workers

T = TypeVar("T")


class RegexRequest(NamedTuple):
    """Texts, and what to read from them."""

    text: pl.Series
    reading: Reading


Requests = Generator[list[RegexRequest], list[RegexGroups], T]
"""Yields what it asks for, is sent what was found, and returns what it makes of that."""


def side_by_side(readers: Sequence[Requests[T]]) -> Requests[list[T]]:
    """Readers side by side: what all of them ask for is asked for at once. Their results, in order."""
    results: dict[int, T] = {}
    # every reader goes on until it asks; those that are done drop out
    answers: dict[int, list[RegexGroups] | None] = dict.fromkeys(range(len(readers)))
    while answers:
        requests: dict[int, list[RegexRequest]] = {}
        for i, answer in answers.items():
            try:
                requests[i] = next(readers[i]) if answer is None else readers[i].send(answer)
            except StopIteration as done:
                results[i] = done.value
        found = iter((yield [request for theirs in requests.values() for request in theirs]) if requests else ())
        answers = {i: [next(found) for _ in theirs] for i, theirs in requests.items()}
    return [results[i] for i in range(len(readers))]


def run_requests(reader: Requests[T]) -> T:
    """What a reader returns once all that it asks for is found."""
    try:
        requests = next(reader)
        while True:
            requests = reader.send(_find(requests))
    except StopIteration as done:
        result: T = done.value
        return result


def _find(requests: list[RegexRequest]) -> list[RegexGroups]:
    """What is found for each that is asked; many regexes are shared among threads."""

    def work(number: int) -> RegexGroups:
        return extract(*requests[number])

    numbered = [(i, request.reading) for i, request in enumerate(requests)]
    # a budget is of time, which others would take from it
    shared = [(i, reading.regexes[0]) for i, reading in numbered if reading.regexes and reading.budget is None]
    found = on_workers(work, shared) if len(shared) > FEW else {}  # speed
    return [found[i] if i in found else work(i) for i in range(len(requests))]
