"""Which forms are of one message: by what they have in common, in order."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Sequence

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


def groups(forms: Sequence[Keys], weights: Sequence[int]) -> list[list[int]]:
    """The forms, by their positions, that are of one message; the commonest message first."""
    order = sorted(range(len(forms)), key=lambda i: (-weights[i], i))
    members: list[list[int]] = []
    leads: list[Keys] = []
    by_word: dict[str, list[int]] = defaultdict(list)
    same: dict[Keys, int] = {}
    for i in order:
        form = forms[i]
        if form in same:
            members[same[form]].append(i)
            continue
        words = {key for key in form if is_word(key)}
        shared = Counter(group for word in words for group in by_word.get(word, ()))
        best, most = -1, 0.0
        for group, _ in shared.most_common(_MOST_CANDIDATES):
            often = min(weights[members[group][0]], weights[i]) >= _OFTEN
            alike = likeness(leads[group], form, _CONFLICT_OF_OFTEN if often else _CONFLICT)
            if alike > most:
                best, most = group, alike
        if best < 0 or most < _ENOUGH:
            best = len(members)
            members.append([])
            leads.append(form)
            for word in words:
                by_word[word].append(best)
        members[best].append(i)
        same[form] = best
    return sorted(members, key=lambda group: -sum(weights[i] for i in group))


def _weight(key: str) -> float:
    return _MATCH if is_word(key) else _VALUE if is_value(key) else _SIGN


def likeness(one: Keys, other: Keys, conflict: float = _CONFLICT) -> float:
    """How much of two forms is the same, between 0 and 1; conflict: what each other word counts against it."""
    n, m = len(one), len(other)
    matched = [[0.0] * (m + 1) for _ in range(n + 1)]
    for i in range(n - 1, -1, -1):
        row, below = matched[i], matched[i + 1]
        key = one[i]
        weight = _weight(key)
        for j in range(m - 1, -1, -1):
            score = below[j] if below[j] > row[j + 1] else row[j + 1]
            if key == other[j]:
                diagonal = below[j + 1] + weight
                if diagonal > score:
                    score = diagonal
            row[j] = score
    words = sum(map(is_word, one)), sum(map(is_word, other))
    whole = min(sum(map(_weight, one)), sum(map(_weight, other)))
    largest = max(sum(map(_weight, one)), sum(map(_weight, other)))
    if not min(words):
        return 0.0
    alone, other_alone = _left(one, other), _left(other, one)
    more = alone if len(alone) > len(other_alone) else other_alone
    added = sum(map(is_word, more))
    if not any(map(is_value, more)) and 2 * added > min(words):
        return 0.0  # an optional part has a value in it, or is small
    conflicts = min(sum(map(_tells, alone)), sum(map(_tells, other_alone)))
    first = next((k for k in one if is_word(k)), "") == next((k for k in other if is_word(k)), "")
    score = matched[0][0]
    return 0.5 * score / whole + 0.5 * score / largest - (0.0 if first else 0.3) - conflict * conflicts


def _tells(key: str) -> bool:
    """Whether a word may tell one message from another."""
    return is_word(key) and key.lower() not in SWITCHES


def _left(one: Keys, other: Keys) -> list[str]:
    """The cells of a form that another lacks."""
    return list((Counter(one) - Counter(other)).elements())
