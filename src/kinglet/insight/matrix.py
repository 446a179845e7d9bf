"""Parsers by classes by attributes: what is always filled, sometimes, or never, going by the cases."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Literal

import polars as pl

from kinglet.errors import OutputError, UsageError, needing
from kinglet.insight.coverage import coverage

if TYPE_CHECKING:
    from matplotlib.figure import Figure

    from kinglet.parser import Parser

Filled = Literal["filled", "sometimes", "never"]
_ORDER: tuple[Filled, ...] = ("filled", "sometimes", "never")
_MESSAGE = "parser and variant"  # which no attribute is called
SUFFIXES = (".csv", ".png", ".svg")


def matrix(parsers: Iterable[Parser]) -> pl.DataFrame:
    """A row for each message and attribute that its mapping names: parser, variant, class, attribute, filled, cases.

    filled: `filled` where all cases of the message have it, `sometimes` where some have, `never` where none has.
    """
    rows = [
        (parser.name, item.variant, item.class_caption, path, _filled(count, item.cases), item.cases)
        for parser in parsers
        for item in coverage(parser)
        for path, count in item.filled.items()
    ]
    names = {"parser": pl.String, "variant": pl.String, "class": pl.String, "attribute": pl.String}
    return pl.DataFrame(rows, schema={**names, "filled": pl.Enum(_ORDER), "cases": pl.Int64}, orient="row")


def _filled(count: int, cases: int) -> Filled:
    return "never" if not count else "filled" if count == cases else "sometimes"


def by_class(found: pl.DataFrame) -> dict[str, pl.DataFrame]:
    """For each class a table: a row a message, a column an attribute, the most often filled first."""
    tables: dict[str, pl.DataFrame] = {}
    for (name,), part in found.group_by("class", maintain_order=True):
        messages = part.with_columns((pl.col("parser") + " " + pl.col("variant")).alias(_MESSAGE))
        often = messages.filter(pl.col("filled") != "never").group_by("attribute").len()
        ranked = messages.select(pl.col("attribute").unique(maintain_order=True))
        order = ranked.join(often, on="attribute", how="left").sort(
            "len", descending=True, nulls_last=True, maintain_order=True
        )
        wide = messages.pivot("attribute", index=_MESSAGE, values="filled", maintain_order=True)
        tables[str(name)] = wide.select(_MESSAGE, *order["attribute"])
    return tables


def ready_for(output: Path) -> None:
    """Refuses a file whose ending tells no format.

    Raises:
        UsageError: it is none of `SUFFIXES`.
    """
    if output.suffix not in SUFFIXES:
        raise UsageError(f"{output}: ends with none of {', '.join(SUFFIXES)}")


def write(found: pl.DataFrame, output: Path) -> None:
    """Writes a matrix as CSV, or as a figure (PNG, SVG).

    Raises:
        UsageError: the file's ending tells no format.
        OutputError: it cannot be written.
    """
    ready_for(output)
    try:
        if output.suffix == ".csv":
            found.write_csv(output)
        else:
            with needing("plots"):
                figure(found).savefig(output, dpi=110)
    except OSError as error:
        raise OutputError(f"{output}: cannot be written: {error.strerror}") from None


def figure(found: pl.DataFrame) -> Figure:
    """A panel for each class: messages down, attributes across; full where always filled, half where sometimes."""
    from matplotlib.colors import ListedColormap
    from matplotlib.figure import Figure
    from matplotlib.patches import Patch

    from kinglet.insight.palette import STATES

    tables = by_class(found)
    rows = [table.height for table in tables.values()]
    widest = max((table.width for table in tables.values()), default=1)
    labels = sum(0.35 + 0.07 * max(map(len, table.columns)) for table in tables.values())
    drawn = Figure(figsize=(3 + 0.3 * widest, 0.5 + 0.27 * sum(rows) + labels), layout="constrained")
    axes = drawn.subplots(max(len(tables), 1), 1, squeeze=False, height_ratios=rows or [1])
    colours = [STATES["complete"], STATES["partial"], "#e6e3dc"]
    for (name, table), (axis,) in zip(tables.items(), axes, strict=False):
        _panel(axis, name, table, ListedColormap([*colours, "#ffffff"]), widest)
    drawn.legend(
        handles=[Patch(facecolor=colour, label=word) for colour, word in zip(colours, _ORDER, strict=True)],
        loc="outside upper right", ncols=3, frameon=False, fontsize=8,
    )  # fmt: skip
    return drawn


def _panel(axis: object, name: str, table: pl.DataFrame, colours: object, widest: int) -> None:
    from matplotlib.axes import Axes

    assert isinstance(axis, Axes)
    attributes: Sequence[str] = table.columns[1:]
    numbers = table.select(pl.col(attributes).cast(pl.Enum(_ORDER)).to_physical().fill_null(3)).to_numpy()
    axis.pcolormesh(numbers, cmap=colours, vmin=0, vmax=3, edgecolors="white", linewidth=1.5)  # type: ignore[arg-type]
    for row, column in zip(*(numbers == 1).nonzero(), strict=True):  # told without colour too
        axis.text(column + 0.5, row + 0.5, "~", ha="center", va="center", fontsize=9)
    axis.set_xlim(0, widest)
    axis.invert_yaxis()
    axis.set_title(name, loc="left", fontsize=9, fontweight="bold")
    axis.set_yticks([i + 0.5 for i in range(table.height)], table[_MESSAGE].to_list(), fontsize=8)
    axis.set_xticks([i + 0.5 for i in range(len(attributes))], attributes, fontsize=7, rotation=90)
    axis.tick_params(length=0)
    for spine in axis.spines.values():
        spine.set_visible(False)
