"""Lines within a log that name the columns of the rows below them (W3C, Extended Log File Format)."""

from __future__ import annotations

from collections.abc import Sequence

import polars as pl

from kinglet.cutting.header_lines import MOST_HEADERS
from kinglet.structured.delimited import Delimited

HEADER_LINE = r"#Fields:\s*"
DIRECTIVE = "#{directive}: {text:rest}"
"""The pattern of lines about the log itself, such as `#Date: 2026-11-20`."""
_SIGN = "#"
_ENOUGH = 0.95
_PROBE = 2000


def names_columns(lines: pl.Series) -> bool:
    """Whether lines such as `#Fields: date time` name the columns of nearly all rows below them."""
    said = lines.str.extract(f"^{HEADER_LINE}(\\S.*)$", 1)
    if said.null_count() == len(said):
        return False
    below = pl.DataFrame([lines.alias("row"), said.forward_fill().alias("said")])
    below = below.filter(~lines.str.starts_with(_SIGN) & lines.str.contains(r"\S"))
    probe = below.gather_every(max(1, below.height // _PROBE))
    good = sum(said is not None and _cells(row, said) is not None for row, said in probe.iter_rows())
    return bool(probe.height) and good >= _ENOUGH * probe.height and below["said"].n_unique() <= MOST_HEADERS


def under_one(rows: Sequence[str], headers: Sequence[str | None]) -> tuple[list[str], list[str], str]:
    """Rows as they would stand below one header of all columns; those columns, and the sign between them."""
    columns = list(dict.fromkeys(name for said in dict.fromkeys(headers) if said for name in _names(said)))
    sign = sign_of([said for said in headers if said])
    out: list[str] = []
    for row, said in zip(rows, headers, strict=True):
        cells = _cells(row, said) if said is not None else None
        if said is None or cells is None:
            continue
        found = dict(zip(_names(said), cells, strict=True))
        out.append(sign.join(found.get(name, "-") for name in columns))
    return out, columns, sign


def sign_of(headers: Sequence[str]) -> str:
    """What stands between the columns: tabs, or blanks."""
    return "\t" if any("\t" in said for said in headers) else " "


def _names(said: str) -> list[str]:
    return said.strip().split(sign_of([said]))


def _cells(row: str, said: str) -> list[str] | None:
    """The values of a row as they are written; None where they are not as many as the names above it."""
    names, sign = _names(said), sign_of([said])
    cells = row.split(sign)
    if len(cells) != len(names) and '"' in row:
        values = Delimited(names, sign).values(row) or ()
        cells = [_written(value.text or "", sign) for value in values]
    return cells if len(cells) == len(names) else None


def _written(text: str, sign: str) -> str:
    return '"' + text.replace('"', '""') + '"' if sign in text or '"' in text else text
