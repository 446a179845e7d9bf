"""Where in a text a stamp stands: after something, at the start, or anywhere."""

from __future__ import annotations

import re
from typing import NamedTuple

import polars as pl

from kinglet.patterns.slow import search

_BEHIND = "(?:[^0-9]|$)"
_BETWEEN = "[^0-9A-Za-z]"


class Search(NamedTuple):
    """A stamp to be searched for.

    shape: the regex of its text, without groups. after: a regex; the stamp stands behind what it
    matches first. at_start: only blanks may stand before it. within: the characters among which
    it has to begin, counted from the start or from the end of what `after` matches.
    """

    shape: str
    after: str | None = None
    at_start: bool = False
    within: int | None = None

    @property
    def group(self) -> int:
        """The number of the group that holds the stamp."""
        return (re.compile(self.after).groups if self.after else 0) + 1

    @property
    def regex(self) -> str:
        stamp = f"({self.shape}){_BEHIND}"
        if self.at_start:
            return rf"^[ \t]*{stamp}"
        some = "*" if self.within is None else f"{{0,{max(self.within - 1, 0)}}}"
        gap = f"(?:(?s:.{some}?){_BETWEEN})??" if self.within != 0 else ""
        return f"(?:{self.after}){gap}{stamp}" if self.after else f"^{gap}{stamp}"

    def texts(self, texts: pl.Series) -> pl.Series:
        """The stamp in each text, null where there is none."""
        return texts.str.extract(self.regex, self.group)

    def place(self, text: str) -> tuple[int, int] | None:
        """The characters that the stamp takes."""
        try:
            match = search(self.regex, text)
        except TimeoutError:
            return None
        return match.span(self.group) if match else None
