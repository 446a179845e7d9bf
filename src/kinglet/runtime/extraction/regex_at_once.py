"""Regexes over columns by machine code, where it is there and the regex has tables."""

from __future__ import annotations

import functools
from collections.abc import Callable, Sequence
from typing import NamedTuple

import polars as pl

from kinglet.columns import arrow
from kinglet.kernels.compiled import kernel
from kinglet.regex.automaton import Automaton, UnsuitableError

_ENOUGH = 4000  # speed
"""Texts that a regex has had before its tables are begun."""
_PARAMETERS = 23
_FIRST_ROW, _STATE, _CLASS, _IS_FULL = range(19, 23)  # of what `kinglet.kernels.loops.matcher` is given
_ODD, _MATCHED = 0, 2
_REGISTERS = 128


class Found(NamedTuple):
    """What groups hold, of each text whether the regex matches it, and the rows of texts that are left to others."""

    groups: list[pl.Series]
    matched: pl.Series
    odd: pl.Series


class _Regex:
    """A regex and the groups asked for: how many texts it has had, and its tables once there are any."""

    def __init__(self, regex: str, groups: tuple[str, ...]) -> None:
        self.regex, self.groups = regex, groups
        self.texts = 0
        self._automaton: Automaton | None = None
        self._has_none = False

    def automaton(self, texts: int) -> Automaton | None:
        """Its tables; None while it is not worth while, and where there are none."""
        self.texts += texts
        if self._automaton is None and not self._has_none and self.texts >= _ENOUGH:
            try:
                self._automaton = Automaton(self.regex, self.groups)
            except UnsuitableError:
                self._has_none = True
        return self._automaton


@functools.lru_cache(maxsize=2048)
def _known(regex: str, groups: tuple[str, ...]) -> _Regex:
    return _Regex(regex, groups)


def find(text: pl.Series, regex: str, groups: Sequence[str]) -> Found | None:
    """What a regex finds in texts, a column for each group; None where that is left to the column engine."""
    if not len(text):
        return None
    run = kernel("matcher", len(text))
    automaton = _known(regex, tuple(groups)).automaton(len(text)) if run is not None else None
    return _find(text, automaton, len(groups), run) if run is not None and automaton is not None else None


def _find(text: pl.Series, automaton: Automaton, groups: int, run: Callable[[int], int]) -> Found:
    import numpy as np

    rows = len(text)
    column = arrow.columns_of([text])
    states = np.zeros(rows, np.uint8)
    stride = (rows + 63) // 64 * 8
    views = np.zeros((groups, rows, 2), np.int64)
    validity = np.zeros((groups, stride), np.uint8)
    registers = np.zeros(_REGISTERS, np.int64)
    tables = automaton.tables
    addresses = [array.ctypes.data for array in tables]
    given = np.array(
        [
            rows, *column.columns[0], states.ctypes.data, groups, views.ctypes.data, validity.ctypes.data, stride,
            addresses[0], addresses[1], tables.moves.shape[1], *addresses[2:], automaton.begin, registers.ctypes.data,
            0, 0, 0, automaton.is_full,
        ],
        np.int64,
    )  # fmt: skip
    while True:
        given[_FIRST_ROW] = run(given.ctypes.data)
        if given[_FIRST_ROW] == rows:
            break
        automaton.learn(int(given[_STATE]), int(given[_CLASS]))
        given[_IS_FULL] = automaton.is_full
    return Found(
        [arrow.text_column(validity[number], views[number], column) for number in range(groups)],
        pl.Series(states == _MATCHED),
        pl.Series(np.flatnonzero(states == _ODD)),
    )
