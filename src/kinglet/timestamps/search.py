"""Where in a text a stamp stands: after something, at the start, or anywhere.

A stamp is never cut: where the text behind what a format reads goes on like a stamp (a time of day behind a date,
a fraction, an offset, AM or PM, a year) that belongs to it, and what cannot read it all reads none of it.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import NamedTuple

import polars as pl

from kinglet.regex.backtracking import search
from kinglet.timestamps.abbreviations import OFFSETS, SEVERAL

_BETWEEN = "[^0-9A-Za-z]"
_BEFORE_COUNT = "[^0-9A-Za-z.+-]"
"""What may stand before a count: no sign and no point, which would be part of it."""
_FAR = "(?s:.{0,40})"
_BEHIND = f"($|[^0-9]{_FAR})"
_BEHIND_COUNT = f"($|[^0-9eE.,]{_FAR}|[eE](?:$|[^0-9+-]{_FAR})|[.,](?:$|[^0-9]{_FAR}))"

# `08:00:00 EAST quay`: a stamp, and a word
_WORDS = {"ACT", "ART", "BOT", "EAT", "GET", "PET", "SST", "WAT", "CAT", "MART", "EAST"}
"""Abbreviations that are words, too, and say nothing of a stamp before them."""
_ZONES = "|".join(sorted({*OFFSETS, *SEVERAL, "UTC"} - _WORDS))
_AREAS = "Africa|America|Antarctica|Arctic|Asia|Atlantic|Australia|Europe|Indian|Pacific|Etc"
_END = "(?:[^0-9A-Za-z]|$)"
_T = r"[0-9]{1,2}:[0-9]{2}(?::[0-9]{2}(?:[.,][0-9]+)?)?"
_HAS_CLOCK = r"[0-9]:[0-9]|[0-9][Tt][0-9]|^[0-9]{8} ?[0-9]{4}"
_HAS_ZONE = (
    rf"(?:[Zz]|[0-9][+-][0-9]{{2}}(?::?[0-9]{{2}})?| [+-][0-9]{{2}}:?[0-9]{{2}}|\b(?:{_ZONES})"
    rf"|(?:{_AREAS})/[A-Za-z_/]+)$"
)
_CLOCK = rf"(?:[ \t_,;-]{{1,3}}|[ \t]*[Tt][ \t]*){_T}"
_FINER = r"[.,][0-9]+|:[0-9]{2,9}"
_HALF = r"[ \t\xa0\u202f]?[AaPp]\.?[Mm]\.?(?:[^0-9A-Za-z.]|$)"
OFFSET = rf"[ \t]?(?:[+-][0-9]{{2}}:?[0-9]{{2}}|[Zz]){_END}|[+-][0-9]{{2}}(?:[^0-9A-Za-z:.]|$)"
NAMED = rf"[ \t]?\(?(?:{_ZONES}|(?:{_AREAS})/[A-Za-z_]+(?:/[A-Za-z_]+)?){_END}"
_YEAR = r"[ \t]+(?:19[89]|20[0-4])[0-9](?:[^0-9A-Za-z.,:/%-]|$)"
_ANY = f"^(?:{_CLOCK}|{_FINER}|{_HALF}|{OFFSET}|{NAMED}|{_YEAR})"


class Search(NamedTuple):
    """A stamp to be searched for.

    shape: the regex of its text, without groups. after: a regex; the stamp stands directly behind what it matches
    first, but for blanks. at_start: only blanks may stand before it. within: the characters among which it has to
    begin, counted from the start or from the end of what `after` matches. is_count: whether it may be a count.
    has_zone, has_year: whether a zone, or a year, behind it is none of its own, for it is said elsewhere.
    """

    shape: str
    after: str | None = None
    at_start: bool = False
    within: int | None = None
    is_count: bool = False
    has_zone: bool = False
    has_year: bool = True

    @property
    def group(self) -> int:
        """The number of the group that holds the stamp."""
        return (re.compile(self.after).groups if self.after else 0) + 1

    @property
    def regex(self) -> str:
        """Finds the stamp, and in the group behind it some of what follows."""
        stamp = f"({self.shape}){_BEHIND_COUNT if self.is_count else _BEHIND}"
        if self.at_start:
            return rf"^[ \t]*{stamp}"
        if self.after and self.within is None:
            return rf"(?:{self.after})[ \t]*{stamp}"
        width = "*" if self.within is None else f"{{0,{max(self.within - 1, 0)}}}"
        between = _BEFORE_COUNT if self.is_count else _BETWEEN
        gap = f"(?:(?s:.{width}?){between})??" if self.within != 0 else ""
        return f"(?:{self.after}){gap}{stamp}" if self.after else f"^{gap}{stamp}"

    def texts(self, texts: pl.Series) -> pl.Series:
        """The stamp in each text, with all that belongs to it; null where there is none."""
        groups = texts.str.extract_groups(self.regex).struct.unnest()
        stamp, behind = groups.to_series(self.group - 1), groups.to_series(self.group)
        if self.is_count or not behind.str.contains(_ANY).any():
            return stamp.rename(texts.name)
        return self._whole(stamp, behind).rename(texts.name)

    def _whole(self, stamp: pl.Series, behind: pl.Series) -> pl.Series:
        """Stamps with what goes on behind them."""
        frame = pl.DataFrame({"stamp": stamp, "behind": behind})
        clock, zone = pl.col("stamp").str.contains(_HAS_CLOCK), pl.col("stamp").str.contains(_HAS_ZONE)

        def part(kinds: Sequence[str]) -> pl.Expr:
            return pl.col("behind").str.extract(f"^({'|'.join(kinds)})", 1)

        of_clock = [_FINER, _HALF, *([] if self.has_year else [_YEAR])]
        more = (
            pl.when(~clock)
            .then(part([_CLOCK]))
            .when(zone if not self.has_zone else pl.lit(True))
            .then(part(of_clock))
            .otherwise(part([*of_clock, OFFSET, NAMED]))
        )
        return frame.select_seq(pl.concat_str("stamp", more.fill_null("").str.strip_chars_end(" \t)]"))).to_series()

    def place(self, text: str) -> tuple[int, int] | None:
        """The characters that the stamp takes."""
        try:
            match = search(self.regex, text)
        except TimeoutError:
            return None
        return match.span(self.group) if match else None
