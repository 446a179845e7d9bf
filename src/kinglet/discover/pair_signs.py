"""The signs of pairs in texts: what stands between two, between a key and its value, and around values."""

from __future__ import annotations

import functools
import re
from collections import Counter
from collections.abc import Container, Iterable, Iterator, Sequence
from typing import Any, NamedTuple

from kinglet.structured.by_form import Value
from kinglet.structured.pairs import Pairs

_BETWEEN = (" ", "\t", ", ", ",", "; ", ";", " | ", "|", "&", "] [", "][", ") (", ")(")
_EQUALS = ("=", ":")
_AROUND = {"] [": "[]", "][": "[]", ") (": "()", ")(": "()"}
"""What stands around all pairs, by what stands between two."""
_ENOUGH = 0.95
_MOSTLY = 0.6
_LEAST = 3
"""So many pairs have most texts that are pairs."""
_PROBE = 200
_LONGEST = 20_000
"""Characters of a text that is looked into."""
_STARTS = 12
_NEAR, _FAR = 12, 120
_WORD = r"[^\W\d][\w.@$/-]*"
_KEY = re.compile(rf"{_WORD}(?: [\w.@$/-]+){{0,3}}")
_WORDS_BEHIND = re.compile(r"(?:^|[:|,;>\])-] )((?:[^\W\d][\w.-]* ){1,3})$")
_STICKS = re.compile(r"[,;|\]}]$")
_RECURS = 0.2
"""So many texts have a word without a value that is a flag; what others have is text."""


class Signs(NamedTuple):
    """How pairs are written, as the arguments of `Pairs`; around: the brackets around all of them."""

    between: str = " "
    equals: str = "="
    quote: str = '"'
    around: str = ""
    open_values: bool = False

    @property
    def form(self) -> str | dict[str, Any]:
        """What stands behind `pairs` in a parser file."""
        usual = Signs()
        names = ("between", "equals", "quote", "open_values")
        other = {name: getattr(self, name) for name in names if getattr(self, name) != getattr(usual, name)}
        return other or "true"

    @property
    def reader(self) -> Pairs:
        """What reads them."""
        return _reader(self)


@functools.lru_cache(32)
def _reader(signs: Signs) -> Pairs:
    return Pairs(signs.between, signs.equals, signs.quote, open_values=signs.open_values)


class Found(NamedTuple):
    """Pairs in texts: their signs, where they begin in each text, and the keys of each; none where there are none."""

    signs: Signs
    starts: list[int | None]
    keys: list[tuple[str, ...]]
    mixed: bool
    """Whether a key has values in quotes in some texts, and without in others."""
    escaped: bool
    """Whether values have escapes."""
    known: frozenset[str]
    """Keys that stand behind others, and so are sure to be whole."""
    fronts: frozenset[str]
    """What stands right in front of the first key, with numbers as zeros."""

    def start(self, text: str) -> int | None:
        """Where the pairs of a text begin."""
        if len(text) > _LONGEST:
            return None
        start, values = _pairs_in(text, self.signs, self.signs.reader, behind_heads=True)
        return start - _missing(text, start, values[0].path, self.known, self.fronts) if start is not None else None


def pair_signs(texts: Sequence[str], *, behind_heads: bool = False) -> Found | None:
    """The signs by which nearly all texts are pairs; behind_heads: other text may stand in front of the first."""
    probe = [text for text in texts[:_PROBE] if len(text) <= _LONGEST]
    best: tuple[tuple[float, ...], Found] | None = None
    for signs in _candidates(probe):
        found = _read(probe, signs, behind_heads=behind_heads)
        if found is None:
            continue
        distinct = {key for keys in found.keys for key in keys}
        covered = -sum(start or 0 for start in found.starts)
        order = (covered, not signs.open_values, sum(map(len, found.keys)), -len(distinct), len(signs.between))
        if best is None or order > best[0]:
            best = order, found
    return best[1] if best is not None else None


def _candidates(texts: Sequence[str]) -> Iterator[Signs]:
    if not texts:
        return
    least = _ENOUGH * len(texts)
    for equals in _EQUALS:
        if sum(equals in text for text in texts) < least or sum(text.count(equals) for text in texts) < 3 * least:
            continue
        quotes = Counter(quote for quote in "\"'" for text in texts if re.search(rf"{equals}\s*{quote}", text))
        quote = quotes.most_common(1)[0][0] if quotes else '"'
        for between in _BETWEEN:
            if sum(between in text for text in texts) >= _MOSTLY * len(texts):
                yield Signs(between, equals, quote, _AROUND.get(between, ""))
        if equals == "=":  # before a colon several words may be the key
            yield Signs(" ", equals, quote, open_values=True)


def _read(texts: Sequence[str], signs: Signs, *, behind_heads: bool) -> Found | None:
    """What texts are by these signs; None where it is not pairs with keys that recur."""
    reader = signs.reader
    starts: list[int | None] = []
    each: list[list[Value]] = []
    for i, text in enumerate(texts):
        start, values = _pairs_in(text, signs, reader, behind_heads=behind_heads)
        starts.append(start)
        each.append(values)
        if i == 10 and sum(place is not None for place in starts) < 5:
            return None
    having = [values for values in each if values]
    if len(having) < _ENOUGH * len(texts) or sum(len(values) >= _LEAST for values in each) < _MOSTLY * len(texts):
        return None
    if not _is_plain(having, signs):
        return None
    known = frozenset(value.path for values in each for value in values[1:] if value.kind)
    if any(values and " " in values[0].path for values in each) and not any(" " in key for key in known):
        return None  # what stands in front of the first key of whole texts is none of it
    fronts = frozenset(_front(text[:start]) for text, start in zip(texts, starts, strict=True) if start is not None)
    for i, (text, start, values) in enumerate(zip(texts, starts, each, strict=True)):
        if start is not None and (missing := _missing(text, start, values[0].path, known, fronts)):
            starts[i] = start - missing
            values[0] = values[0]._replace(path=text[start - missing : start] + values[0].path)
    keys = [tuple(value.path for value in values) for values in each]
    mixed, escaped = _quoting(texts, starts, each, signs)
    return Found(signs, starts, keys, mixed, escaped, known, fronts)


def _front(text: str) -> str:
    return re.sub("[0-9]+", "0", text[-_FAR:])[-_NEAR:]


def _missing(text: str, start: int, first: str, known: Iterable[str], others: Container[str]) -> int:
    """How many characters before the first key of a text belong to it.

    Keys of several words stand elsewhere too, or other texts have other keys where these words begin.
    """
    longer = [key.removesuffix(first) for key in known if key.endswith(f" {first}")]
    fronts = [front for front in longer if text[:start].endswith(front)]
    words = _WORDS_BEHIND.search(text, max(start - _FAR, 0), start)
    if not fronts and words is not None and _front(text[: words.start(1)]) in others:
        fronts.append(words[1])
    return max(map(len, fronts), default=0)


def _pairs_in(text: str, signs: Signs, reader: Pairs, *, behind_heads: bool) -> tuple[int | None, list[Value]]:
    """Where the pairs of a text begin, and what they are: the leftmost place from which on all of it is pairs."""
    places = list(_places(text, signs)) if behind_heads else [0]
    for place in places[:_STARTS]:
        body = text[place:]
        if signs.around:
            body = body.rstrip()
            if not (body.startswith(signs.around[0]) and body.endswith(signs.around[1])):
                continue
            body = body[1:-1]
        values = reader.values(body)
        if values is None or not values[0].kind or values[0].text is None or not _has_keys(values):
            continue
        token = body[values[0].start : values[0].end].lstrip()
        if behind_heads and (" " in values[0].path or _key_and(signs.equals).match(token)):
            continue  # words in front of the first key, or one that names the whole line
        return place, values
    return None, []


def _places(text: str, signs: Signs) -> Iterator[int]:
    """Where the first key could begin: at the start, or behind a blank or a sign."""
    opened = re.escape(signs.around[0]) if signs.around else ""
    key = rf"{opened}{_WORD}[ \t]*{re.escape(signs.equals)}"
    return (found.end(1) for found in re.finditer(rf"(^|[\s:|,;>\])(\[-])(?={key})", text))


@functools.cache
def _key_and(equals: str) -> re.Pattern[str]:
    return re.compile(rf"{_KEY.pattern}[ \t]*{re.escape(equals)}(?!\S)")


def _has_keys(values: Sequence[Value]) -> bool:
    """Whether all keys are such as programs write, and most have a value."""
    named = sum(bool(value.kind) for value in values)
    return named >= 0.75 * len(values) and all(_KEY.fullmatch(value.path) for value in values if value.kind)


def _is_plain(each: Sequence[Sequence[Value]], signs: Signs) -> bool:
    """Whether keys recur, flags do, and no value ends in what stands between pairs."""
    keys = Counter(value.path for values in each for value in values if value.kind)
    flags = Counter(value.path for values in each for value in values if not value.kind)
    total = sum(keys.values())
    if len(each) >= 10 and len(keys) > max(_LEAST, 0.34 * total):
        return False
    if any(count < _RECURS * len(each) for count in flags.values()) and sum(flags.values()) > 0.02 * total:
        return False
    texts = [value.text for values in each for value in values[:-1] if value.kind and value.text]
    if sum(_STICKS.search(text) is not None for text in texts) > 0.5 * len(texts):
        return False
    if signs.open_values and any(map(_are_numbers_in_front, _texts_by_key(each))):
        return False
    # a value that goes on with a key of its own was cut in the wrong places
    inner = re.compile(rf"(?:^|[\s,;|])({_WORD})[ \t]*{re.escape(signs.equals)}")
    return sum(any(key in keys for key in inner.findall(text)) for text in texts) <= 0.02 * len(texts)


_NUMBER_IN_FRONT = re.compile(r"[+-]?[0-9]+(?:\.[0-9]+)?(?: +([^\W\d_]{3,})\b.*)?", re.DOTALL)


def _texts_by_key(each: Sequence[Sequence[Value]]) -> Iterable[list[str]]:
    found: dict[str, list[str]] = {}
    for values in each:
        for value in values:
            if value.kind and value.text is not None:
                found.setdefault(value.path, []).append(value.text)
    return found.values()


def _are_numbers_in_front(texts: Sequence[str]) -> bool:
    """Whether texts are numbers in front of words that vary: `op=1 BIND` says more than what `op` is."""
    found = [match for text in texts if (match := _NUMBER_IN_FRONT.fullmatch(text)) is not None]
    words = Counter(match[1] for match in found if match[1] is not None)
    return len(found) == len(texts) and len(words) > 1 and words.total() > _RECURS * len(texts)


def _quoting(
    texts: Sequence[str], starts: Sequence[int | None], each: Sequence[Sequence[Value]], signs: Signs
) -> tuple[bool, bool]:
    """Whether keys have values with quotes and without, and whether a backslash in quotes means what follows it."""
    ways: dict[str, set[bool]] = {}
    escaped = False
    for text, start, values in zip(texts, starts, each, strict=True):
        if start is None:
            continue
        body = text.rstrip()[start + bool(signs.around) :]
        for value in values:
            if not value.kind or value.text is None:
                continue
            token = body[value.start : value.end].strip()
            quoted = token.startswith(signs.quote)
            ways.setdefault(value.path, set()).add(quoted)
            escaped |= quoted and token[1:-1] != value.text
    return any(len(found) == 2 for found in ways.values()), escaped
