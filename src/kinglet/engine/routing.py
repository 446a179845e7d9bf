"""Many variants: which of them come into question for an event, by text that a variant cannot do without.

One pass over the texts finds all such pieces (Aho and Corasick 1975); only variants whose piece is
there are tried, in their order.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import polars as pl

from kinglet.engine.plan import Plan, VariantPlan
from kinglet.patterns.literals import pieces

FEW = 8
"""So many variants are tried one after the other; with more, a look beforehand is worth its time."""
_LEAST = 3  # characters of a piece that is worth looking for


def piece_of(variant: VariantPlan) -> str | None:
    """The longest text that stands in all that a variant reads."""
    if variant.source is not None or not variant.reading.regexes or variant.reading.budget is not None:
        return None
    longest = max(pieces(variant.reading.regexes[-1]), key=len, default="")
    return longest if len(longest) >= _LEAST else None


def in_question(plan: Plan, text: pl.Series, candidates: Sequence[int]) -> pl.Series | None:
    """For each text the candidates that come into question, in order, as lists of their places.

    None where too many of them come into question for every text.
    """
    places: dict[str, list[int]] = {}
    always: list[int] = []
    for place, index in enumerate(candidates):
        piece = piece_of(plan.variants[index])
        if piece is None:
            always.append(place)
        else:
            places.setdefault(piece, []).append(place)
    if len(always) > FEW or not places:
        return None
    schema: dict[str, pl.DataType] = {"piece": pl.String(), "place": pl.List(pl.UInt32)}
    table = pl.DataFrame({"piece": list(places), "place": list(places.values())}, schema=schema)
    plain = text.str.replace_all("[ \t]+", " ")
    found = pl.DataFrame({"piece": plain.str.extract_many(list(places), overlapping=True)}).with_row_index("row")
    each = found.explode("piece").drop_nulls("piece").unique().join(table, on="piece").select("row", "place")
    each = each.explode("place")
    if always:
        rows = pl.DataFrame({"row": pl.int_range(len(text), dtype=pl.UInt32, eager=True)})
        every = rows.join(pl.DataFrame({"place": pl.Series(always, dtype=pl.UInt32)}), how="cross")
        each = pl.concat([each, every])
    lists = each.group_by("row").agg(pl.col("place").unique().sort())
    rows = pl.DataFrame({"row": pl.int_range(len(text), dtype=pl.UInt32, eager=True)})
    return rows.join(lists, on="row", how="left", maintain_order="left")["place"]


def slices(numbers: pl.Series) -> tuple[pl.Series, Iterator[tuple[int, int, int]]]:
    """An order of rows in which equal numbers stand together, and of each number its start and its count."""
    order = numbers.arg_sort(nulls_last=True)
    counts = numbers.gather(order).rle().struct.unnest()

    def each() -> Iterator[tuple[int, int, int]]:
        start = 0
        for length, number in counts.iter_rows():
            if number is not None:
                yield number, start, length
            start += length

    return order, each()
