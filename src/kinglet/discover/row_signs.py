"""The sign between the values of rows, where texts are rows: it stands equally often in nearly all of them."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from typing import NamedTuple

from kinglet.structured.blocks import DRAWN

ALIGNED = "\x04"
"""Stands for two blanks or more, by which values are put below each other."""
_SEVERAL = ("::", "||", " | ", " - ", " -- ", " ; ", ", ", "; ")
_SINGLE = ("|", "^", "~", ";", "\t", ",", "¦", "§", "\x1f", "\x01", ":")
_SIGNS = (ALIGNED, *_SEVERAL, *_SINGLE)
_OF_PROSE = ("|", " | ", ";", "; ", " ; ", "\t", " - ", " -- ", ", ", ":")
"""Signs that stand in front of messages too; what is behind the last of them is told apart by its words."""
_IN_PROSE = (", ", "; ", " - ", " -- ", ",", ";", ":")
_ALL = 0.98
_LEAST = 10
PROBE = 500
_LONGEST = 20_000
_MASK = "\x02"
_FILLED = re.compile("[ \t]{2,}")
DRAWN_LINE = re.compile(f"[ \t]*(?:{DRAWN}[ \t]*)+")
_BLANK = re.compile(r"[ \t]")


class Rows(NamedTuple):
    """Rows of values: the sign between them, their texts, these with stamps hidden, and how many signs each has."""

    sign: str
    texts: Sequence[str]
    masked: Sequence[str]
    width: int


def rows_in(texts: Sequence[str], stamps: Sequence[str]) -> Rows | None:
    """The sign that stands equally often in nearly all texts, and parts values rather than words."""
    if (
        len(texts) < _LEAST
        or any(len(text) > _LONGEST for text in texts)
        or sum('{"' in text for text in texts) > 0.5 * len(texts)
    ):
        return None
    hidden = re.compile("|".join(stamps)) if stamps else None
    for sign in _SIGNS:
        probe = [text for text in _masked(texts[:PROBE], sign, hidden)[1] if not DRAWN_LINE.fullmatch(text)]
        if not probe:
            return None
        count, many = Counter(text.count(sign) for text in probe).most_common(1)[0]
        if many < _ALL * len(probe) or count < (3 if sign in _IN_PROSE else 2):
            continue
        if sign == ":" and any(_is_within_values(text, hidden) for text in texts[:PROBE]):
            continue
        whole = [text.split(sign) for text in probe if text.count(sign) == count]
        if _arevalues_of(whole, sign):
            return Rows(sign, *_masked(texts, sign, hidden), count)
    return None


_COLONS = re.compile("(?:[0-9A-Fa-f]{2}:){5}|::")
"""Part of an address of a network card, or of one of IPv6."""


def _is_within_values(text: str, stamps: re.Pattern[str] | None) -> bool:
    """Whether values of a text have colons in them."""
    of_stamps = stamps is not None and any(":" in found[0] for found in stamps.finditer(text))
    return of_stamps or _COLONS.search(text) is not None


def _masked(texts: Sequence[str], sign: str, stamps: re.Pattern[str] | None) -> tuple[Sequence[str], Sequence[str]]:
    """Texts, and the same with all hidden in which a sign parts no values: stamps, and what stands in quotes."""
    plain = [_without(sign, text, stamps) for text in texts]
    if sign == ALIGNED:
        texts = [_closed_up(text, by) for text, by in zip(texts, plain, strict=True)]
        plain = [_closed_up(text, text) for text in plain]
    return texts, [_hidden_quotes(text, sign) for text in plain] if len(sign) == 1 else plain


def _without(sign: str, text: str, stamps: re.Pattern[str] | None) -> str:
    """A text with its stamps hidden; but a sign between a date and a time of day stays: these are two values then."""
    if stamps is None:
        return text
    one = re.escape(sign)
    inner = rf"[^{one}]|(?<=:[0-9]{{2}}){one}" if len(sign) == 1 else "(?s:.)"
    return stamps.sub(lambda found: re.sub(inner, _MASK, found[0]), text)


def _closed_up(text: str, by: str) -> str:
    """A text with one sign for blanks that fill up, where these stand in another text of the same length."""
    out, at = "", 0
    for found in _FILLED.finditer(by.rstrip()):
        out += text[at : found.start()] + ALIGNED
        at = found.end()
    return out + text[at:].rstrip()


def _hidden_quotes(text: str, sign: str) -> str:
    """A row with what stands in quotes between signs hidden."""
    if '"' not in text:
        return text
    around = re.escape(sign)
    return re.sub(rf'(?<={around})"(?:[^"]|"")*"(?={around}|$)', lambda found: _MASK * len(found[0]), text)


def _arevalues_of(rows: Sequence[Sequence[str]], sign: str) -> bool:
    """Whether most columns hold single values, none of them between blanks, and the last one no message.

    Where values are missing it may be one: a column may be empty, and the front of a message is not.
    """
    columns = [list(column) for column in list(zip(*rows, strict=True))[1:]]
    around = sum(text != text.strip(" ") for column in columns for text in column)
    if around > 0.02 * len(rows) * len(columns):
        return False
    wordy = [sum(_BLANK.search(text) is not None for text in column) > 0.1 * len(column) for column in columns]
    # of prose some signs would have a blank behind them
    tight = len(sign) == 1 and not around and not wordy[-1] and len(columns) > 2
    if sum(wordy) > (0 if sign in (ALIGNED, ":") else 0.8 if tight else 0.5) * len(columns):
        return False
    empty = sum(not text for column in columns[:-1] for text in column) > 0.01 * len(rows) * len(columns)
    return empty or not (sign in _OF_PROSE and wordy[-1])


def values_of(text: str, masked: str, sign: str) -> list[str]:
    """The values of a row; signs within a stamp part none."""
    out, start = [], 0
    for part in masked.split(sign):
        out.append(text[start : start + len(part)])
        start += len(part) + len(sign)
    return out
