"""Several parsers over one log: which of them come into question for a log, and for an event.

For a log its path decides, where parsers claim it and read anything of it; otherwise all come into question, those
first that claim text which stands in it, and those last that claim other paths and nothing else: of parsers that read
an event equally well the first has it.
For an event it is text that an event of a parser cannot do without, found for all parsers in one pass (Aho and
Corasick 1975).
"""

from __future__ import annotations

import functools
import re
from collections.abc import Sequence
from fnmatch import fnmatchcase
from typing import NamedTuple

import polars as pl

from kinglet.cutting.rule import CutRule
from kinglet.plan.data import Plan, Reading, VariantPlan
from kinglet.runtime.extraction.candidate_variants import LEAST, Pieces, piece_of


class Claimed(NamedTuple):
    """A parser's plan, globs on the paths of the logs that it claims, and texts of which its logs contain one."""

    plan: Plan
    paths: tuple[str, ...] = ()
    contains: tuple[str, ...] = ()

    def claims(self, name: str) -> bool:
        """Whether the path of a log is one of its own."""
        return any(fnmatchcase(name, glob) for glob in self.paths)

    def claims_only_paths(self) -> bool:
        """Whether nothing but a path tells that a log is its own."""
        return bool(self.paths) and not self.contains


def of_path(parsers: Sequence[Claimed], name: str) -> list[int]:
    """The parsers that claim a log by its path."""
    return [i for i, parser in enumerate(parsers) if parser.claims(name)]


class Contents:
    """The texts that parsers claim, looked for in many logs in one pass."""

    def __init__(self, parsers: Sequence[Claimed]) -> None:
        self.owners: dict[str, list[int]] = {}
        for i, parser in enumerate(parsers):
            for text in parser.contains:
                self.owners.setdefault(text, []).append(i)

    def claimed(self, beginnings: Sequence[bytes]) -> list[list[int]]:
        """For the beginning of each log the parsers that claim text which stands in it."""
        if not self.owners:
            return [[] for _ in beginnings]
        texts = pl.Series([beginning.decode("utf-8", "replace") for beginning in beginnings], dtype=pl.String)
        found = texts.str.extract_many(list(self.owners), overlapping=True).list.unique()
        return [sorted({i for text in row for i in self.owners[text]}) for row in found.to_list()]


_WORDS = ("\u2042 zq7 (%", "x")
"""Texts that no message has in common."""
_STAMPS = (
    "2026-03-05T10:00:00Z", "2026-03-05 10:00:00", "2026-03-05 10:00:00,123", "[2026-03-05 10:00:00]",
    "Mar  5 10:00:00", "Thu Mar  5 10:00:00 2026", "2026/03/05 10:00:00", "1772704800",
)  # fmt: skip
"""What stands before the messages of many programs."""


_TEXTS = pl.Series([f"{stamp} {word}".lstrip() for stamp in ("", *_STAMPS) for word in _WORDS])


def is_general(variant: VariantPlan) -> bool:
    """Whether a variant reads about anything, behind a stamp or none, so that it says little whose an event is."""
    return not variant.kinds and any(_reads_words(variant.reading.regexes))


def _reads_anything(regexes: tuple[str, ...]) -> bool:
    return _reads_words(regexes)[0]


@functools.lru_cache(maxsize=10_000)
def _reads_words(regexes: tuple[str, ...]) -> list[bool]:
    """Whether one of some regexes reads both words: alone, and behind each of the stamps."""
    if not regexes:
        return [True]
    read = [_TEXTS.str.contains(regex).fill_null(False).to_list() for regex in regexes]
    return [any(one[i] and one[i + 1] for one in read) for i in range(0, len(_TEXTS), len(_WORDS))]


_NAMES = re.compile(r"\(\?P<[^>]+>")


def together(plans: Sequence[Plan]) -> CutRule | None:
    """A rule that begins an event where one of any of some plans begins; None where these do not tell it by a line.

    Of a plan whose events are lines it is a line that it reads; of others a line that begins one of its events.
    """
    heads = [_head(plan) for plan in plans]
    if None in heads:
        return None
    regex = "|".join(dict.fromkeys(f"(?:{head})" for head in heads))
    try:
        pl.Series([""]).str.contains(regex)
    except pl.exceptions.PolarsError:
        return None  # too large
    first = next((plan.cut for plan in plans if plan.cut.kind == "start"), None)
    return first._replace(value=regex, lead=None, banner=None) if first is not None else None


def _head(plan: Plan) -> str | None:
    """A regex of lines that begin an event of a plan."""
    if plan.cut.kind == "start" and plan.cut.lead is None:
        return str(plan.cut.value)
    if plan.cut.kind != "line":
        return None
    readings = [plan.envelope] if plan.envelope is not None else [variant.reading for variant in plan.variants]
    if any(not one.regexes or one.budget is not None or _reads_anything(one.regexes) for one in readings):
        return None
    return "|".join(_NAMES.sub("(?:", f"(?:{regex})") for one in readings for regex in one.regexes)


def required_texts(plan: Plan) -> tuple[str, ...] | None:
    """Texts of which every event that a plan can read has one; None where there are none such."""
    if plan.envelope is not None:
        piece = piece_of(plan.envelope) or _key(plan.envelope, plan)
        if piece is not None:
            return (piece,)
    found = [piece_of(variant.reading) or _key(variant.reading, plan) for variant in plan.variants]
    return None if None in found else tuple(dict.fromkeys(piece for piece in found if piece is not None))


def _key(reading: Reading, plan: Plan) -> str | None:
    """How the key is written that tells the kind, or that holds the stamp, where structure is all that is read."""
    if reading.regexes or not reading.structures:
        return None
    first = reading.structures[0]
    written = first.structure.written
    fields = [item.name for item in first.fields]
    rules = [rule for rule in plan.times if rule.field is None]
    kinds_only = [kind.slot for kind in plan.kinds if kind.routes and not kind.otherwise]
    for name in (*kinds_only, rules[0].slot if len(rules) == 1 else None):
        if name in fields:
            key = written(first.keys[fields.index(name)])
            return key if key is not None and len(key) >= LEAST else None
    return None


class CandidateFinder:
    """The parsers that come into question for events."""

    def __init__(self, plans: Sequence[Plan]) -> None:
        self.always: list[int] = []
        places: dict[str, list[int]] = {}
        for i, plan in enumerate(plans):
            texts = required_texts(plan)
            if texts is None:
                self.always.append(i)
            for text in texts or ():
                places.setdefault(text, []).append(i)
        self.pieces = Pieces(places) if places else None

    def by_text(self, text: pl.Series) -> pl.Series:
        """For each event the parsers that its text tells, in order, as lists of their places; null where none."""
        if self.pieces is None:
            return pl.Series([None], dtype=pl.List(pl.UInt32)).new_from_index(0, len(text))
        return self.pieces.found_in(text)
