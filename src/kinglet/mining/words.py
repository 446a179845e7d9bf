"""Which words vary: those that stand where many others stand, everything around them being the same."""

from __future__ import annotations

import itertools
import math
import re
from collections import Counter, defaultdict
from collections.abc import Iterable, Mapping, Sequence

from kinglet.mining.cells import NAME, TEXT, WORD, is_value, is_word, value
from kinglet.mining.information import shared
from kinglet.mining.switches import SWITCHES

_ROUNDS = 8
_SEEN = 4
_DEPENDS = 0.3
_LEAST = 0.05  # bits, below which there is nothing to tell
_MANY = 4
"""So many words at one place are values."""
NAMED = ("user", "account", "login", "username")
"""Words in front of the name of a person."""
_HAPPENS = re.compile("(?:ed|ing|in|out|is|was|has|not|to|with|from|for|by)$", re.IGNORECASE)
_COLUMNS = 2
"""So many values beside the one word of a line make it a row of columns."""
_AGAIN = 4
"""What comes so often in one text is a list."""
Keys = tuple[str, ...]


def vary(forms: Sequence[Keys], beside: Sequence[Counter[tuple[str, ...]]] = ()) -> list[Keys]:
    """The forms with words that vary as values; each stands for itself, however often it occurs.

    beside: of each form what stands in front of it, and how often. Of two or three words at a place that each have
    others in front of them, each is a message of its own.
    """
    now, words = list(forms), set[str]()
    for least in (_MANY, 2):  # what surely varies first
        now, words = _rounds(now, words, beside, least)
    return now


def _rounds(
    now: list[Keys], words: set[str], beside: Sequence[Counter[tuple[str, ...]]], least: int
) -> tuple[list[Keys], set[str]]:
    for _ in range(_ROUNDS):
        signs: dict[Keys, Counter[tuple[str, ...]]] = defaultdict(Counter)
        for form, sign in zip(now, beside, strict=False):
            signs[form].update(sign)
        places, words = _places(now, words, signs, least)
        changed = [_replaced(form, places, words) for form in now]
        if changed == now:
            break
        now = changed
    return now, words


def free_text(forms: Sequence[Keys]) -> list[Keys]:
    """The forms with what stands behind a colon as text, where behind the same words many others stand there."""
    tails: dict[Keys, set[Keys]] = defaultdict(set)
    for form in set(forms):
        for i in _colons(form):
            tails[form[:i]].add(form[i:])
    free = {before for before, behind in tails.items() if _is_free(before, behind)}
    phrases = {tail for before in free for tail in tails[before]}
    out = []
    for form in forms:
        for i in _colons(form):
            if form[:i] in free or (len(form) - i > 1 and form[i:] in phrases):
                form = (*form[:i], value(TEXT))
                break
        out.append(form)
    return out


def without_runs(forms: Sequence[Keys]) -> list[Keys]:
    """The forms with what some of them repeat again and again, such as an option and its value, as text."""
    again = {word for form in set(forms) for word in _run(form)}
    out = []
    for form in forms:
        start = next((i for i, key in enumerate(form) if key in again and not _is_key(form, i)), len(form))
        while start < len(form) and start and form[start - 1] not in (" ", "\t"):
            start -= 1
        out.append((*form[:start], value(TEXT)) if start and any(map(is_word, form[:start])) else form)
    return [new if new != (*old, value(TEXT)) else old for new, old in zip(out, forms, strict=True)]


def _run(form: Keys) -> Iterable[str]:
    """Words that come again and again at the same distance up to the end of a form."""
    places: dict[str, list[int]] = defaultdict(list)
    for i, key in enumerate(form):
        if is_word(key) and not _is_key(form, i):
            places[key].append(i)
    for word, at in places.items():
        apart = {b - a for a, b in itertools.pairwise(at)}
        if len(at) >= _AGAIN and len(apart) == 1 and len(form) - at[-1] <= min(apart):
            yield word


def absorbed(forms: Sequence[Keys]) -> list[Keys]:
    """The forms, of which those that a more general one reads are that one."""
    general: dict[str, set[Keys]] = defaultdict(set)
    for form in set(forms):
        if any(key in _OPEN for key in form) and any(map(is_word, form)):
            general[_first_word(form)].add(form)
    best = {
        lead: sorted(those, key=lambda form: (-sum(key in _OPEN for key in form), form))
        for lead, those in general.items()
    }
    known: dict[Keys, Keys] = {}
    for form in set(forms):
        known[form] = next((other for other in best.get(_first_word(form), ()) if _reads(other, form)), form)
    return [known[form] for form in forms]


_OPEN = (value(WORD), value(TEXT))


def _first_word(form: Keys) -> str:
    return next((key for key in form if is_word(key)), "")


def _reads(general: Keys, form: Keys) -> bool:
    """Whether a form is one of those that a general one stands for."""
    text = general[-1] == value(TEXT)
    if len(form) < len(general) or (len(form) > len(general) and not text):
        return False
    for mine, its in zip(general, form[: len(general) - text], strict=False):
        if mine != its and not (mine == value(WORD) and (is_word(its) or its == value(NAME))):
            return False
    return not text or all(is_word(key) or key in (" ", ",", ".", *_OPEN) for key in form[len(general) - 1 :])


def _colons(form: Keys) -> Iterable[int]:
    """Where nothing but words stands behind a colon and a blank."""
    last = max(
        (i for i, key in enumerate(form) if not (is_word(key) or key in " ,.-" or key == value(WORD))), default=-1
    )
    if 0 <= last < len(form) - 2 and form[last] == ":" and form[last + 1] == " ":
        yield last + 2


def _is_free(before: Keys, behind: set[Keys]) -> bool:
    firsts = {tail[0] for tail in behind}
    return any(map(is_word, before)) and len(firsts) >= 3 and len({len(tail) for tail in behind}) >= 2


def _is_key(form: Keys, i: int) -> bool:
    """Whether a word is the key of a pair."""
    return i + 1 < len(form) and form[i + 1] == "="


def _places(
    forms: Iterable[Keys], known: set[str], signs: Mapping[Keys, Counter[tuple[str, ...]]], least: int
) -> tuple[set[tuple[Keys, Keys]], set[str]]:
    """Frames whose word varies, and words that mostly stand in such."""
    frames: dict[tuple[Keys, Keys], set[str]] = defaultdict(set)
    distinct = set(forms)
    for form in distinct:
        for i, key in enumerate(form):
            if (is_word(key) and not _is_key(form, i)) or key in (value(WORD), value(NAME)):
                frames[form[:i], form[i + 1 :]].add(key)
    places = {
        frame
        for frame, words in frames.items()
        if len(words) >= least and _varies(frame, words) and not _apart(frame, words, signs)
    }
    inside: Counter[str] = Counter()
    total: Counter[str] = Counter()
    for form in distinct:
        for i, key in enumerate(form):
            if is_word(key):
                total[key] += 1
                inside[key] += (form[:i], form[i + 1 :]) in places and len(frames[form[:i], form[i + 1 :]]) >= _MANY
    return places, known | {word for word, count in inside.items() if count > 0.5 * total[word]}


def _apart(frame: tuple[Keys, Keys], words: set[str], signs: Mapping[Keys, Counter[tuple[str, ...]]]) -> bool:
    """Whether a few words at a place depend on what stands in front: each then makes a message of its own."""
    if not signs or len(words) >= _MANY or not all(map(is_word, words)):
        return False
    each = [signs[(*frame[0], word, *frame[1])] for word in words]
    if min(counts.total() for counts in each) < _SEEN:
        return False
    for i in range(len(next(iter(each[0])))):
        joint = Counter({(k, sign[i]): 0 for k, counts in enumerate(each) for sign in counts})
        for k, counts in enumerate(each):
            for sign, count in counts.items():
                joint[k, sign[i]] += count
        if _dependence(joint) > _DEPENDS:
            return True
    return False


def _dependence(joint: Counter[tuple[int, str]]) -> float:
    """How much of two things one tells of the other: their mutual information over the smaller entropy.

    What chance makes of so few counts is taken off: 2 N ln 2 times the information of independent things is spread as
    chi-squared, whose upper end is near its degrees of freedom and twice its standard deviation.
    """
    one: Counter[int] = Counter()
    other: Counter[str] = Counter()
    for (a, b), count in joint.items():
        one[a] += count
        other[b] += count
    both, first, second = shared(joint.values(), one.values(), other.values())
    freedom = (len(one) - 1) * (len(other) - 1)
    chance = (freedom + 2 * math.sqrt(2 * freedom)) / (2 * one.total() * math.log(2))
    least = min(first, second)
    return (both - chance) / least if least > _LEAST else 0.0


def _varies(frame: tuple[Keys, Keys], words: set[str]) -> bool:
    before, after = frame
    literal = sum(is_word(key) for key in before) + sum(is_word(key) for key in after)
    count = len(words) + 2 * (value(WORD) in words or value(NAME) in words)
    if len(words) < 2:
        return False
    if literal and value(NAME) in words and all("-" in word for word in words if is_word(word)):
        return True  # `svc-backup` beside `m.okoro`
    if not literal:  # columns of values
        return count >= _MANY and sum(map(is_value, (*before, *after))) >= _COLUMNS
    first = not any(is_word(key) for key in before)
    if first:
        return count >= _MANY + 1 and literal >= 1
    if count >= _MANY:
        return True
    enclosed = (bool(before) and before[-1] in "\"'([<=") or (
        len(before) > 1 and before[-1] == " " and before[-2] in ":="
    )
    # of two or three words nothing tells whether they are values, unless they are known as such, or stand for people
    return enclosed or (literal >= 2 and (all(word.lower() in SWITCHES for word in words) or _are_names(before, words)))


def _are_names(before: Keys, words: set[str]) -> bool:
    """Whether words behind `user` name people, rather than say what happens to them."""
    named = len(before) > 1 and before[-1] == " " and before[-2].lower() in NAMED
    return named and not any(_HAPPENS.search(word) for word in words)


def _replaced(form: Keys, places: set[tuple[Keys, Keys]], words: set[str]) -> Keys:
    out = list(form)
    literals = sum(is_word(key) for key in form)
    for i, key in enumerate(form):
        if not is_word(key) or _is_key(form, i):
            if key == value(NAME) and (form[:i], form[i + 1 :]) in places:
                out[i] = value(WORD)
            continue
        if (form[:i], form[i + 1 :]) in places or (key in words and literals > 1):
            out[i] = value(WORD)
            literals -= 1
    return tuple(out)
