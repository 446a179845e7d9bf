"""Which forms are of one message: by what they have in common, in order."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Sequence
from typing import NamedTuple

from kinglet.mining.cells import is_value, is_word
from kinglet.mining.switches import SWITCHES

Keys = tuple[str, ...]
_MATCH, _VALUE, _SIGN = 1.0, 0.5, 0.15
_MOST_CANDIDATES = 24
_ENOUGH = 0.62
_CONFLICT = 0.12
"""What a word of each that the other lacks counts against two forms."""
_OFTEN, _CONFLICT_OF_OFTEN = 5, 0.4
"""The same where both occur so often: then it is no rare value."""


class Form(NamedTuple):
    """A form with what is compared of it: how often it has each cell, its weight, and its words.

    first: the first word that is no key of a pair. named: words that are keys: one that only another form has is an
    optional part, not another message.
    """

    keys: Keys
    counts: dict[str, int]
    weight: float
    words: int
    first: str
    named: frozenset[str]


def form_of(keys: Keys) -> Form:
    """A form ready to be compared."""
    words = [key for key in keys if is_word(key)]
    named = frozenset(key for i, key in enumerate(keys) if is_word(key) and _is_key(keys, i))
    first = next((key for i, key in enumerate(keys) if is_word(key) and keys[i + 1 : i + 2] != ("=",)), "")
    return Form(keys, dict(Counter(keys)), sum(map(_weight, keys)), len(words), first, named)


def _is_key(keys: Keys, i: int) -> bool:
    """Whether a cell is the key of a value: what stands behind it is `=`, or a colon and a value, in quotes or not."""
    if keys[i + 1 : i + 2] == ("=",):
        return True
    behind = [key for key in keys[i + 1 : i + 5] if key == ":" or is_value(key) or is_word(key)]
    return keys[i + 1 : i + 2] == (":",) and len(behind) > 1 and is_value(behind[1])


def groups(forms: Sequence[Keys], weights: Sequence[int]) -> list[list[int]]:
    """The forms, by their positions, that are of one message; the commonest message first."""
    order = sorted(range(len(forms)), key=lambda i: (-weights[i], i))
    members: list[list[int]] = []
    leads: list[Form] = []
    by_word: dict[str, list[int]] = defaultdict(list)
    same: dict[Keys, int] = {}
    for i in order:
        if forms[i] in same:
            members[same[forms[i]]].append(i)
            continue
        form = form_of(forms[i])
        words = {key for key in form.counts if is_word(key)}
        shared = Counter(group for word in words for group in by_word.get(word, ()))
        best, most = -1, 0.0
        for group, _ in shared.most_common(_MOST_CANDIDATES):
            often = min(weights[members[group][0]], weights[i]) >= _OFTEN
            conflict = _CONFLICT_OF_OFTEN if often else _CONFLICT
            alike = likeness(leads[group], form, conflict, max(most, _ENOUGH))
            if alike > most:
                best, most = group, alike
        if best < 0 or most < _ENOUGH:
            best = len(members)
            members.append([])
            leads.append(form)
            for word in words:
                by_word[word].append(best)
        members[best].append(i)
        same[form.keys] = best
    return sorted(members, key=lambda group: -sum(weights[i] for i in group))


def _weight(key: str) -> float:
    return _MATCH if is_word(key) else _VALUE if is_value(key) else _SIGN


def likeness(one: Form, other: Form, conflict: float = _CONFLICT, least: float = 0.0) -> float:
    """How much of two forms is the same, between 0 and 1; 0 where it cannot be `least`.

    conflict: what each word that the other lacks counts against it.
    """
    if not one.words or not other.words:
        return 0.0
    first = 0.0 if one.first == other.first else 0.3
    smaller, larger = sorted((one.weight, other.weight))
    common = sum(_weight(key) * min(count, other.counts.get(key, 0)) for key, count in one.counts.items())
    if 0.5 * common / smaller + 0.5 * common / larger - first < least:
        return 0.0  # what they share in any order is no more than what they share in this one
    alone, other_alone = _left(one.counts, other.counts), _left(other.counts, one.counts)
    more = alone if len(alone) > len(other_alone) else other_alone
    if not any(map(is_value, more)) and 2 * sum(map(is_word, more)) > min(one.words, other.words):
        return 0.0  # an optional part has a value in it, or is small
    conflicts = _conflicts(one, alone, other, other_alone)
    score = _in_order(one.keys, other.keys)
    return 0.5 * score / smaller + 0.5 * score / larger - first - conflict * conflicts


def _in_order(one: Keys, other: Keys) -> float:
    """The weight of what two forms have in common in the same order."""
    below = [0.0] * (len(other) + 1)
    for key in reversed(one):
        weight = _weight(key)
        row = [0.0] * (len(other) + 1)
        for j in range(len(other) - 1, -1, -1):
            score = below[j] if below[j] > row[j + 1] else row[j + 1]
            if key == other[j] and below[j + 1] + weight > score:
                score = below[j + 1] + weight
            row[j] = score
        below = row
    return below[0]


def _conflicts(one: Form, alone: Sequence[str], other: Form, other_alone: Sequence[str]) -> int:
    """How many words, of those that only one of two forms has, may tell their messages apart.

    Keys do not, nor do words of switches that stand for each other, unless a key goes with them.
    """
    words, others = [key for key in alone if is_word(key)], [key for key in other_alone if is_word(key)]
    plain, others_plain = (
        [key for key in words if key not in one.named],
        [key for key in others if key not in other.named],
    )
    count = min(len(plain), len(others_plain))
    if (len(plain) < len(words) and others) or (len(others_plain) < len(others) and words):
        return count
    return count - min(sum(key.lower() in SWITCHES for key in some) for some in (plain, others_plain))


def _left(one: dict[str, int], other: dict[str, int]) -> list[str]:
    """The cells of a form that another lacks."""
    return [key for key, count in one.items() for _ in range(count - other.get(key, 0))]
