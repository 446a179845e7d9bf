"""Regexes known to hurt engines that go back, each with a text made to hurt it and one of its length that does not."""

from __future__ import annotations

import time
from typing import NamedTuple

import kinglet
from kinglet.regex.backtracking import BUDGET, why_slow

LENGTH = 5_000


class Hostile(NamedTuple):
    """A regex, and what is repeated in the text that hurts it."""

    regex: str
    pump: str


_PLAIN = r"""
^(a+)+$ ~ a
^(a*)+$ ~ a
^(a+)*$ ~ a
^((a+)+)+$ ~ a
^(a+a+)+b ~ a
^(a|aa)+$ ~ a
^(a|a?)+$ ~ a
^(a|a)*b$ ~ a
(.*)+x$ ~ a
(x+x+)+y ~ x
^(\w+\s?)*$ ~ word·
^(\w+\s)*\w+:$ ~ word·
^(\d+)*[a-z]$ ~ 1
^([a-zA-Z]+)*\d$ ~ a
^(([a-z])+.)+[A-Z]([a-z])+$ ~ a
^(([^/]+)/?)+:$ ~ ab/
^(\S+\s*)+=$ ~ ab·
^((ab)*)+c ~ ab
(?i)^(a+)+$ ~ aA
(?s)^(.+)+x$ ~ ab\n
(?m)^(.+)+x$ ~ ab\n
^(?:(?:a+)?b?)+c ~ a
^(\w|\d)+$ ~ 1
^(\d|\d\d)+$ ~ 1
^(.|\s)*x$ ~ ·
^(a|b|ab)*c$ ~ ab
^(\w|_|-)+:$ ~ _
^(aa|aaa)+$ ~ a
^(?:foo|foobar|bar)+$ ~ foobar
^(?:[a-f]|[d-k]|[e-z])+\d$ ~ e
^(é|e|é?)+$ ~ é
\s*\s*\s*\s*\s*x ~ ·
\d*\d*\d*\d*\d*x ~ 1
.*.*.*.*.*= ~ a
(.*a){12} ~ a
a*a*a*a*a*a*b ~ a
^.*a.*b.*c.*d$ ~ abc
^\S*\S*\S*\S*:$ ~ a
(\w*)-(\w*)-(\w*)-x ~ a-
x*y*x*y*x*y*z ~ xy
^\s+|\s+$ ~ ·
[a-z]*[a-z0-9]*[a-z0-9_]*\.x ~ a
(a?){25}a{25} ~ a
(a{1,9}){1,9}{1,9}b ~ a
^([a-zA-Z0-9])(([\-.]|[_]+)?([a-zA-Z0-9]+))*(@){1}[a-z0-9]+[.]{1}(([a-z]{2,3})|([a-z]{2,3}[.]{1}[a-z]{2,3}))$ ~ a
^[\w.+-]+@(?:[\w-]+\.)+[a-z]{2,}$ ~ a.
^(?:[0-9]{1,3}\.?)+$ ~ 1.
^(?:\d+,?)+$ ~ 1,
"(?:[^"\\]|\\.)*"$ ~ \\\\
<(?:[^<>]+)*>$ ~ <a
^(?:[\w-]+=[\w-]*;?\s*)+$ ~ a=b;·
(?:https?://)?(?:\w+\.?)+/$ ~ ab.
^(?:(?:[01]?\d{1,2})\.)+x ~ 1.
^\[(?:[^\[\]]*)*\]$ ~ [
^(?P<head>.*?),(?P<more>(?:.*?,)*)(?P<tail>.*?)x$ ~ a,
(\w+)=(\w+)(?:;(\w+)=(\w+))*;$ ~ a=b;
"""
_SLOW = r"""
^(?=(a+)+$)(?P<v>.*)b ~ a
^(a+)+(?<!b)$ ~ a
^(?!(a+)+$).*b ~ a
(a+)\1+b ~ a
^(a*)*\1b$ ~ a
^(\w+)\s(\1\s?)+$ ~ ab·
^(?P<w>a+)(?P=w)*b$ ~ a
^(?=(\w+\s?)*x)y ~ ab·
^(x+x+)+(?=y) ~ x
(?<=a)(a|aa)+$ ~ a
^(.*?)(?:,\1)+x ~ a,
^(?>a+)(a|b)*(\1|c)x ~ ab
^(a++)*(b|a\1?)+c ~ ab
^((?=a)a|aa)+$ ~ a
^(([a-z]+)(?![0-9]))+$ ~ a
^(\d+)+(?<=\d)x ~ 1
"""


def _read(table: str) -> list[Hostile]:
    rows = (line.rsplit(" ~ ", 1) for line in table.strip().splitlines())
    return [Hostile(regex, pump.replace(r"\n", "\n").replace("·", " ").replace("\\\\", "\\")) for regex, pump in rows]


CORPUS = (*_read(_PLAIN), *_read(_SLOW))
"""Repeats within repeats, alternatives that overlap, one repeat after another; then look-around and the like."""

PARSER = {
    "kinglet": 1,
    "parser": "hostile",
    "version": "1.0.0",
    "product": {"vendor": "Marram Ferries", "name": "Test bench"},
}


def parser_of(item: Hostile) -> kinglet.Parser:
    """A parser whose only variant has the regex."""
    return kinglet.load(PARSER | {"variants": [{"name": "any", "regex": item.regex}]})


def texts_of(item: Hostile, count: int) -> tuple[list[str], list[str]]:
    """Texts that hurt the regex, and as many of the same length that do not."""
    hurting = item.pump * (LENGTH // len(item.pump)) + "!"
    return [hurting] * count, ["#" * len(hurting)] * count


class Spent(NamedTuple):
    """Seconds over all regexes on texts that hurt and on others; refused regexes; events that ran out of time."""

    hostile: float
    harmless: float
    budgets: float
    refused: int
    late: int


def measure(count: int = 20) -> Spent:
    """Runs every regex over its texts; budgets are those of all events that a slow regex sees."""
    seconds = {"hostile": 0.0, "harmless": 0.0}
    refused, late, budgets = 0, 0, 0.0
    for item in CORPUS:
        try:
            parser = parser_of(item)
        except kinglet.ParserFileError:
            refused += 1
            continue
        budgets += BUDGET * count if why_slow(item.regex) else 0.0
        for name, texts in zip(("hostile", "harmless"), texts_of(item, count), strict=True):
            started = time.perf_counter()
            late += parser.parse(texts).faults.get("too-slow", 0)
            seconds[name] += time.perf_counter() - started
    return Spent(seconds["hostile"], seconds["harmless"], budgets, refused, late)


if __name__ == "__main__":
    found = measure()
    print(f"{len(CORPUS)} regexes, {found.refused} refused, {found.late} events too slow")
    print(f"hostile {found.hostile:.2f} s; allowed {2 * found.harmless:.2f} + {found.budgets:.2f} s")
