"""The forms of one message in columns: what stands in all of them, what only in some, what varies."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from kinglet.mining.cells import COLOURING, is_value, is_word, value

Keys = tuple[str, ...]
_WORD, _SAME, _SIGN, _VALUES, _MIXED, _OTHER = 30, 20, 10, 15, 6, 3
_BEGIN, _GAP = -10, -2


class Column(NamedTuple):
    """A column: the blank in front of it, the keys that stand in it, and the forms that have it."""

    blank: str
    keys: frozenset[str]
    forms: frozenset[int]

    @property
    def literal(self) -> str | None:
        """The text that stands here wherever the column does, with its blank."""
        (first, *others) = self.keys
        return None if others or (first and is_value(first)) else self.blank + first


_OF = "\0"  # stands between a cell and the key that it is the value of


def units(form: Keys) -> list[tuple[str, str, int]]:
    """The cells of a form with the blanks in front of them: blank, key, position of the cell.

    A blank at the end stands by itself, with an empty key. What some forms have and others have not then begins with
    its blank, wherever it stands. The key of a pair is one with its sign, and its value is told from those of others.
    """
    out: list[tuple[str, str, int]] = []
    blank = owner = ""
    for i, key in enumerate(form):
        if key in (" ", "\t") and not blank:
            blank, owner = key, ""
            continue
        if key == "=" and out and not blank and is_word(out[-1][1]) and out[-1][2] == i - 1:
            owner = out[-1][1]
            out[-1] = (out[-1][0], f"{owner}=", out[-1][2])
            continue
        owner = "" if key in ",;|:" else owner
        out.append((blank, f"{key}{_OF}{owner}" if owner else key, i))
        blank = ""
    if blank:
        out.append((blank, "", len(form) - 1))
    return out


class Table(NamedTuple):
    """Forms in columns. places: for each form the column of each of its units, and the position of its cell."""

    columns: list[Column]
    places: list[list[tuple[int, int]]]


def table(forms: Sequence[Keys]) -> Table:
    """The forms of one message, the commonest first, in columns."""
    each = [units(form) for form in forms]
    keys: list[set[str]] = [{key} for _, key, _ in each[0]]
    blanks = [blank for blank, _, _ in each[0]]
    cells: list[list[int]] = [list(range(len(keys)))]
    order = list(range(len(keys)))  # columns as they stand, by their numbers
    for form in each[1:]:
        pairs = _aligned([(blanks[column], keys[column]) for column in order], [(blank, key) for blank, key, _ in form])
        places: list[int] = []
        out: list[int] = []
        done = 0
        for (blank, key, _), at in zip(form, pairs, strict=True):
            if at is None:
                keys.append({key})
                blanks.append(blank)
                column = len(keys) - 1
                out.append(column)
            else:
                out += order[done : at + 1]
                done = at + 1
                column = order[at]
                keys[column].add(key)
            places.append(column)
        order = out + order[done:]
        cells.append(places)
    rank = {column: i for i, column in enumerate(order)}
    having: list[set[int]] = [set() for _ in order]
    for i, places in enumerate(cells):
        for column in places:
            having[rank[column]].add(i)
    columns = [
        Column(
            blanks[column], frozenset(key.partition(_OF)[0] for key in keys[column]), frozenset(having[rank[column]])
        )
        for column in order
    ]
    return Table(
        columns,
        [
            [(rank[column], position) for column, (_, _, position) in zip(places, form, strict=True)]
            for places, form in zip(cells, each, strict=True)
        ],
    )


def _fits(column: tuple[str, set[str]], unit: tuple[str, str]) -> int:
    """How well a cell stands in a column; nothing where it cannot."""
    blank, keys = column
    key = unit[1]
    if blank != unit[0]:
        return 0
    if key in keys:
        return _SIGN if not key else _WORD if is_word(key) else _SAME if is_value(key) else _SIGN
    some = next(iter(keys))
    if (
        value(COLOURING) in (key, some)
        or not key
        or not some
        or key.endswith("=")
        or some.endswith("=")
        or key.partition(_OF)[2] != some.partition(_OF)[2]
    ):
        return 0
    if is_value(key):
        return _VALUES if is_value(some) else _MIXED if is_word(some) else 0
    if is_word(key):
        return _MIXED if is_value(some) else _OTHER if is_word(some) else 0
    return 0


def _aligned(columns: Sequence[tuple[str, set[str]]], form: Sequence[tuple[str, str]]) -> list[int | None]:
    """For each cell of a form the column where it stands, or none where it needs a new one.

    A gap has a cost to begin and a small one to go on, so that what some forms lack is in one piece.
    """
    n, m = len(columns), len(form)
    far = -(10**9)
    # the best that can come from cell (i, j) on: at will, within a gap of the form, within a gap of the columns
    free = [[far] * (m + 1) for _ in range(n + 1)]
    skip = [[far] * (m + 1) for _ in range(n + 1)]
    more = [[far] * (m + 1) for _ in range(n + 1)]
    free[n][m] = skip[n][m] = more[n][m] = 0
    for i in range(n, -1, -1):
        for j in range(m, -1, -1):
            if i < n:
                skip[i][j] = max(free[i + 1][j], skip[i + 1][j]) + _GAP
            if j < m:
                more[i][j] = max(free[i][j + 1], more[i][j + 1]) + _GAP
            if i == n and j == m:
                continue
            best = max(skip[i][j], more[i][j]) + _BEGIN
            if i < n and j < m and (fits := _fits(columns[i], form[j])):
                best = max(best, free[i + 1][j + 1] + fits)
            free[i][j] = best
    out: list[int | None] = []
    i = j = 0
    within = ""
    while i < n or j < m:
        fits = _fits(columns[i], form[j]) if not within and i < n and j < m else 0
        if (
            fits and free[i][j] == free[i + 1][j + 1] + fits
        ):  # as early as may be: what is missing is missing at the end
            out.append(i)
            i, j = i + 1, j + 1
        elif within == "skip" or (not within and i < n and free[i][j] == skip[i][j] + _BEGIN):
            within = "skip" if skip[i][j] == skip[i + 1][j] + _GAP else ""
            i += 1
        else:
            within = "more" if more[i][j] == more[i][j + 1] + _GAP else ""
            out.append(None)
            j += 1
    return out
