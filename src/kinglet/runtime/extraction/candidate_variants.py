"""Many variants: which of them come into question for an event, by text that a variant cannot do without.

One pass over the texts finds all such pieces (Aho and Corasick 1975); only variants whose piece is
there are tried, in their order.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import polars as pl

from kinglet.columns.put import put
from kinglet.plan.data import Plan, Reading
from kinglet.regex.literals import pieces

FEW = 8  # speed
"""So many variants are tried one after the other; with more, a look beforehand is worth its time."""
_PLACES = pl.List(pl.UInt32)
LEAST = 3  # speed
"""Characters of a piece that is worth looking for."""


def piece_of(reading: Reading) -> str | None:
    """The longest text that stands in all that a reading matches by its regexes."""
    if not reading.regexes or reading.budget is not None:
        return None
    first, *others = (pieces(regex) for regex in reading.regexes)
    shared = [piece for piece in first if all(piece in theirs for theirs in others)]
    longest = max(shared, key=len, default="")
    return longest if len(longest.strip()) >= LEAST else None


def candidates_by_text(plan: Plan, text: pl.Series, candidates: Sequence[int]) -> pl.Series | None:
    """For each text the candidates that come into question, in order, as lists of their places.

    None where too many of them come into question for every text.
    """
    places: dict[str, list[int]] = {}
    always: list[int] = []
    for place, index in enumerate(candidates):
        variant = plan.variants[index]
        piece = piece_of(variant.reading) if variant.source is None else None
        if piece is None:
            always.append(place)
        else:
            places.setdefault(piece, []).append(place)
    # variants without fixed text are tried for every event anyway; with many of them the look has no use
    if len(always) > FEW or not places:  # speed
        return None
    lists = Pieces({piece: sorted({*numbers, *always}) for piece, numbers in places.items()}).found_in(text)
    if always:
        none = lists.is_null().arg_true()
        every = pl.Series([sorted(always)], dtype=_PLACES).new_from_index(0, len(none))
        lists = _with(lists, none, every)
    return lists


class Pieces:
    """Pieces of text, each with the places of those that cannot do without it."""

    def __init__(self, places: Mapping[str, Sequence[int]]) -> None:
        self.pieces = list(places)
        self.lists = pl.Series([list(numbers) for numbers in places.values()], dtype=_PLACES)

    def found_in(self, text: pl.Series) -> pl.Series:
        """For each text the places of all pieces that stand in it, in order; null where none does."""
        # a blank of a pattern matches any run of blanks, so both sides are held against each other with single ones
        found = _with_single_blanks(text).str.extract_many(self.pieces, overlapping=True)
        lists = self.lists[self._number(found.list.first())]
        # nearly all texts hold one piece; lists of several are put together only where they are needed
        several = (found.list.len() > 1).arg_true()
        if not len(several):
            return lists
        each = pl.DataFrame({"row": several, "piece": found[several]}).explode("piece").unique()
        each = each.with_columns_seq(self.lists[self._number(each["piece"])].alias("place"))
        merged = each.explode("place").group_by("row").agg(pl.col("place").unique().sort())
        return _with(lists, merged["row"], merged["place"])

    def _number(self, piece: pl.Series) -> pl.Series:
        numbers = pl.Series(range(len(self.pieces)), dtype=pl.UInt32)
        return piece.replace_strict(self.pieces, numbers, default=None, return_dtype=pl.UInt32)


def _with_single_blanks(text: pl.Series) -> pl.Series:
    """Texts in which every run of blanks and tabs is one blank."""
    # two literal searches are far quicker than the regex, and most logs have neither
    if not (text.str.contains("\t", literal=True) | text.str.contains("  ", literal=True)).any():
        return text
    return text.str.replace_all("[ \t]+", " ")


def _with(lists: pl.Series, rows: pl.Series, values: pl.Series) -> pl.Series:
    """Lists of which some are others; columns of lists know no assignment."""
    places = pl.int_range(len(lists), dtype=pl.UInt32, eager=True)
    places = put(places, rows, pl.int_range(len(lists), len(lists) + len(rows), dtype=pl.UInt32, eager=True))
    return pl.concat([lists, values.rename(lists.name)])[places]


def slices(numbers: pl.Series) -> tuple[pl.Series, list[tuple[int, int, int]]]:
    """An order of rows in which equal numbers stand together, rows without one last; of each its start and count."""
    rows = (
        numbers.to_frame("number").with_row_index("row").group_by("number").agg("row").sort("number", nulls_last=True)
    )
    groups = rows.with_columns_seq(pl.col("row").list.len().alias("length"))
    groups = groups.with_columns_seq((pl.col("length").cum_sum() - pl.col("length")).alias("start"))
    return rows["row"].explode(), groups.drop_nulls("number").select_seq("number", "start", "length").rows()
