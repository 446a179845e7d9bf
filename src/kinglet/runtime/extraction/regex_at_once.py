"""Regexes over columns by machine code, where it is there and they have tables."""

from __future__ import annotations

import functools
from collections.abc import Callable, Sequence
from typing import Any, NamedTuple

import polars as pl

from kinglet.columns import arrow
from kinglet.kernels.compiled import is_eager, kernel
from kinglet.regex.automaton import Alternative, Automaton, UnsuitableError

_ENOUGH = 10_000  # speed
"""Texts that regexes have had before their tables are begun, which takes some milliseconds for each."""
_FIRST_ROW, _STATE, _BYTE, _IS_FULL = range(17, 21)  # of what `kinglet.kernels.loops.matcher` is given
_ODD = -2
_REGISTERS = 128


class Found(NamedTuple):
    """What regexes find in texts.

    regexes: of each text the number of the first that matches it, -1 where none does, -2 where that is left to others.
    groups: what the first, second … wanted group holds of the regex that matches.
    """

    regexes: Any
    groups: list[pl.Series]

    @property
    def matched(self) -> pl.Series:
        """Which texts match."""
        return pl.Series(self.regexes >= 0)

    @property
    def odd(self) -> pl.Series:
        """The rows of texts that are left to others."""
        import numpy as np

        return pl.Series(np.flatnonzero(self.regexes == _ODD))


class _Regexes:
    """Regexes and the groups asked for: how many texts they have had, and their tables once there are any."""

    def __init__(self, alternatives: tuple[Alternative, ...]) -> None:
        self.alternatives = alternatives
        self.texts = 0
        self._automaton: Automaton | None = None
        self._has_none = False

    def automaton(self, texts: int) -> Automaton | None:
        """The tables; None while they are not worth while, and where there are none."""
        self.texts += texts
        if self._automaton is None and not self._has_none and (self.texts >= _ENOUGH or is_eager()):
            try:
                self._automaton = Automaton(self.alternatives)
            except UnsuitableError:
                self._has_none = True
        if self._automaton is not None and self._automaton.is_useless:
            self._automaton, self._has_none = None, True
        return self._automaton


@functools.lru_cache(maxsize=2048)
def _known(alternatives: tuple[Alternative, ...]) -> _Regexes:
    return _Regexes(alternatives)


def find(text: pl.Series, alternatives: Sequence[Alternative]) -> Found | None:
    """What the first that matches of some regexes finds in texts; None where that is left to the column engine."""
    if not len(text):
        return None
    run = kernel("matcher", len(text))
    automaton = _known(tuple(alternatives)).automaton(len(text)) if run is not None else None
    return _find(text, automaton, run) if run is not None and automaton is not None else None


def _find(text: pl.Series, automaton: Automaton, run: Callable[[int], int]) -> Found:
    import numpy as np

    rows, groups = len(text), automaton.groups
    column = arrow.columns_of([text])
    regexes = np.zeros(rows, np.int16)
    stride = (rows + 63) // 64 * 8
    views = np.zeros((groups, rows, 2), np.int64)
    validity = np.zeros((groups, stride), np.uint8)
    registers = np.zeros(_REGISTERS, np.int64)
    given = np.array(
        [
            rows, *column.columns[0], regexes.ctypes.data, groups, views.ctypes.data, validity.ctypes.data, stride,
            *(array.ctypes.data for array in automaton.tables), registers.ctypes.data, 0, 0, 0, automaton.is_full,
        ],
        np.int64,
    )  # fmt: skip
    while True:
        given[_FIRST_ROW] = run(given.ctypes.data)
        if given[_FIRST_ROW] == rows:
            break
        automaton.learn(int(given[_STATE]), int(given[_BYTE]))
        given[_IS_FULL] = automaton.is_full
    buffers = arrow.buffers_of(column)
    return Found(regexes, [arrow.text_column(validity[group], views[group], buffers) for group in range(groups)])
