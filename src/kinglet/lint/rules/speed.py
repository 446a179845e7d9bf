"""Patterns that are slow, or that a text can make slow; the text is made, and the time measured."""

from __future__ import annotations

import functools
import random
import re
import time
from collections.abc import Iterator
from typing import Any, NamedTuple

import polars as pl

from kinglet.generating.walk import Walk
from kinglet.lint.rule import Found, LintRule, Subject
from kinglet.lint.rules.regexes import written
from kinglet.regex.backtracking import BUDGET, search, why_slow
from kinglet.regex.for_python import translated
from kinglet.regex.syntax_tree import tree_of

_LENGTHS = (30, 3000)
"""Repeats that show a time which doubles with each, and one that grows with their square."""
_ANY = 1000
_WALKS = 8
"""So many texts of each repeat are tried, and all of them one behind the other."""
_MOST_PUMPS = 24
_LARGE = 400
_REPEATED, _TEXTS = 60, 3
_TRIES = 8
_PLAIN = "(?s)^(.*)$"
_SLOW = 5e-7
"""Seconds a character of the linear-time engine that are worth a word: fifty times what others take."""


class Slow(NamedTuple):
    """A text that hurts a regex: its beginning, the piece that is repeated, how often, and the seconds it took."""

    front: str
    piece: str
    times: int
    seconds: float
    ended: bool

    def __str__(self) -> str:
        front = f"`{self.front}` and " if self.front else ""
        milliseconds = f"{self.seconds * 1000:.0f} ms"
        took = f"takes {milliseconds}" if self.ended else f"is given up after {milliseconds}"
        return f"on {front}{self.times:,} times `{self.piece}` it {took}"


class Pump(NamedTuple):
    """What a repeat of a regex can read again and again, and texts that may stand before and behind it."""

    front: str
    piece: str
    back: str


@functools.lru_cache(maxsize=256)
def hurting(regex: str) -> Slow | None:
    """The text that hurts a regex of the slower engine, if one does."""
    for pump in _pumps(regex):
        for count in _LENGTHS:
            # the sign that nothing reads makes it fail; what follows is there for engines that look for it first
            text = f"{pump.front}{pump.piece * count}\n!{pump.back}"
            begun = time.perf_counter()
            ended = True
            try:
                search(regex, text)
            except TimeoutError:
                ended = False
            seconds = time.perf_counter() - begun
            if not ended or seconds > BUDGET / 2:
                return Slow(pump.front, pump.piece, count, seconds, ended)
    return None


def _pumps(regex: str) -> list[Pump]:
    """The repeats of a regex that have no end."""
    found: list[Pump] = []
    walk = Walk(random.Random(1), {}, lambda _: True, {})

    def look(items: list[Any], front: str, back: str) -> None:
        for i, (operation, value) in enumerate(items):
            name = str(operation)
            rest = walk.sequence(items[i + 1 :]) + back
            if name in ("MAX_REPEAT", "MIN_REPEAT") and value[1] > _ANY:
                inner = list(value[2])
                pieces = [walk.sequence(inner) for _ in range(_WALKS)]
                kinds = dict.fromkeys((*pieces, "".join(dict.fromkeys(pieces))))
                found.extend(Pump(front, piece, rest) for piece in kinds if piece)
                look(inner, front, rest)
            elif name in ("MAX_REPEAT", "MIN_REPEAT"):
                look(list(value[2]), front, rest)
            elif name == "SUBPATTERN":
                look(list(value[3]), front, rest)
            elif name == "BRANCH":
                for inner in value[1]:
                    look(list(inner), front, rest)
            front += walk.one(name, value)

    look(list(tree_of(translated(regex))), "", "")
    return found[:_MOST_PUMPS]


@functools.lru_cache(maxsize=256)
def large(regex: str) -> float | None:
    """Seconds a character that a regex with large counted repeats takes beyond any regex, on a text that it reads."""
    if not _nested(regex):
        return None
    text = Walk(random.Random(1), {}, lambda _: True, {}, _REPEATED).sequence(tree_of(translated(regex)))
    texts = pl.Series([text] * _TEXTS)
    least = {regex: float("inf"), _PLAIN: float("inf")}
    for one in least:
        texts.head(1).str.extract_groups(one)  # compiled before the time is taken
    # a busy machine makes one try slow, but not all of them; a call has a cost of its own, whatever the regex
    for _ in range(_TRIES):
        for one, best in least.items():
            begun = time.perf_counter()
            texts.str.extract_groups(one)
            least[one] = min(best, (time.perf_counter() - begun) / (max(len(text), 1) * _TEXTS))
        if least[regex] - least[_PLAIN] <= _SLOW:
            break
    return least[regex] - least[_PLAIN]


def _nested(regex: str) -> bool:
    """Whether counted repeats stand in counted repeats, which multiply."""
    counts = [int(count) for count in re.findall(r"\{(?:\d+,)?(\d+)\}", regex)]
    product = 1
    for count in counts:
        product *= max(count, 1)
    return product >= _LARGE


def _slow_regexes(subject: Subject) -> Iterator[tuple[tuple[str | int, ...], str]]:
    for regex in written(subject):
        yield regex.path, regex.text
    for i, rule in enumerate(subject.definition.time):
        if rule.after is not None:
            listed = isinstance(subject.document.values.get("time"), list)
            yield ("time", i, "after") if listed else ("time", "after"), rule.after


def slower_engine(subject: Subject) -> Iterator[Found]:
    for path, regex in _slow_regexes(subject):
        why = why_slow(regex)
        if why is not None and hurting(regex) is None:
            yield Found(
                path,
                f"has {why}: it runs event by event, many times slower than others, with {BUDGET:g} s for each",
                "match the text around it and leave it out of the groups, if you can",
            )


def dangerous(subject: Subject) -> Iterator[Found]:
    for path, regex in _slow_regexes(subject):
        why = why_slow(regex)
        if why is not None:
            slow = hurting(regex)
            if slow is not None:
                yield Found(
                    path,
                    f"a log can make it slow, since it has {why}: {slow}",
                    f"say what the repeats may read, so that only one of them can read a character; best without {why}",
                )


def costly(subject: Subject) -> Iterator[Found]:
    for path, regex in _slow_regexes(subject):
        if why_slow(regex) is None and (seconds := large(regex)) is not None and seconds > _SLOW:
            yield Found(
                path,
                f"is costly: its counted repeats take {seconds * 1e6:.1f} µs a character",
                "write `+` or `*` for counts that nobody needs",
            )


RULES = (
    LintRule(
        "S01", "regex on the slower engine", "note",
        "a regex with look-around, back-references or atomic groups, which the linear-time engine cannot run",
        "match the text around it and leave it out of the groups",
        slower_engine,
    ),
    LintRule(
        "S02", "regex that a log can make slow", "error",
        "a regex of the slower engine whose time grows without bounds; the text that hurts is made from the regex, and "
        "the time measured",
        "let each character be readable by one repeat only",
        dangerous,
    ),
    LintRule(
        "S03", "costly counted repeats", "warning",
        "counted repeats so large, or so nested, that a character costs fifty times the usual; measured on a text that "
        "the regex reads",
        "write `+` or `*`",
        costly,
    ),
)  # fmt: skip
