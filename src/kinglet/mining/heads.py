"""The head that the messages of a log share: how far the cells of all lines stand in line."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Sequence
from typing import NamedTuple

from kinglet.mining.cells import ADDRESS, COLOURING, NAME, NUMBER, TIME, Cells, is_value, is_word, value
from kinglet.mining.levels import LEVELS, are_levels

_ALL = 0.97
"""So many lines have to agree in what a cell of the head looks like."""
_SHORT = 12
"""Of so many lines or more one may have no head."""
_FEW = 40
_FEWEST = 4
_ONE_MESSAGE = 0.8
_EMPTY = 0.5
_STRAYS = 0.004
"""So many lines may part from the others behind their stamp; where more do, the head ends."""
_NEAR = 7
_SHARED = 0.1
_NAMES = (value(NAME), value(ADDRESS))
_BRACKETS = ("[]", "()", "<>")


Line = tuple[tuple[str, ...], tuple[str, ...]]
"""The keys and the texts of a line's cells."""


class Head(NamedTuple):
    """The cells that all lines begin with, and the one that tells the messages apart.

    looks: what each cell looks like. kind: the position of the cell that tells.
    """

    looks: tuple[str, ...] = ()
    kind: int | None = None

    @property
    def length(self) -> int:
        return len(self.looks)

    def begins(self, line: Cells) -> bool:
        """Whether a line has this head."""
        return all(look_of(line.keys, i) == look for i, look in enumerate(self.looks))


def head_of(lines: Sequence[Cells]) -> Head:
    """The head of lines."""
    if not lines:
        return Head()
    position = end = sure = 0
    looks: list[str] = []
    kind: int | None = None
    now = [(line.keys, line.texts) for line in lines]
    least = min(_ALL * len(lines), len(lines) - 1) if len(lines) >= _SHORT else len(lines)
    while True:
        here = Counter(look_of(keys, position) for keys, _ in now)
        look, count = here.most_common(1)[0]
        stamped = value(TIME) in looks
        if look == "" or count < least or (stamped and len(now) - count > _STRAYS * len(now)):
            break
        now = [line for line in now if look_of(line[0], position) == look]
        looks.append(look)
        sign = not (look == "w" or _has_value(look))
        if not sign:
            words = Counter(texts[position] for _, texts in now)
            if stamped and look == "w" and _is_key(now, position):
                break  # pairs are of the message
            plain = look == "w" and sum(is_word(keys[position]) for keys, _ in now) > 0.5 * len(now)
            if look == value(TIME) or (plain and _is_sure(now, position, words)):
                sure = position + 1
            elif plain and not _is_of_head(now, position, words) and not _leads_on(now, position, stamped=stamped):
                break
            if not plain and look != value(TIME) and kind is None and _tells(now, position, words):
                kind = position
            end = position + 1
        elif look != " " or end:
            # a sign belongs to the head where something of the head stands before it
            end = position + 1
        position += 1
    end = _ending(looks, end, sure, lines)
    return Head(tuple(looks[:end]), kind if kind is not None and kind < end else None)


def _ending(looks: Sequence[str], end: int, sure: int, lines: Sequence[Cells]) -> int:
    """Where a head ends: behind a sign, and before the message, which most lines have.

    What is left of most lines has to be more than one cell: of `job 7 of m.okoro` the name alone is no message.
    """
    if sum(len([key for key in line.keys[end:] if key not in " \t"]) <= 1 for line in lines) > _EMPTY * len(lines):
        end = sure
        while 0 < end < len(looks) and not (looks[end] == "w" or _has_value(looks[end])):
            end += 1
    while end and (looks[end - 1] == "w" or _has_value(looks[end - 1])):
        end -= 1
    return end


def _has_value(look: str) -> bool:
    """Whether a value stands there; a colour is none."""
    return is_value(look) and look != value(COLOURING)


def look_of(keys: tuple[str, ...], i: int) -> str:
    """What a cell of a head looks like: words, names and addresses may stand at one place, in brackets numbers too."""
    if i >= len(keys):
        return ""
    if keys[i] == value(NUMBER) and 0 < i < len(keys) - 1 and keys[i - 1] + keys[i + 1] in _BRACKETS:
        return "w"
    return "w" if is_word(keys[i]) or keys[i] in _NAMES else keys[i]


def _is_sure(lines: Sequence[Line], i: int, words: Counter[str]) -> bool:
    """Whether words are those that levels are called by, or stand between signs in all lines."""
    return are_levels(words, len(lines)) or (_closed(lines, i) and 1 < len(words) <= _FEW)


def _is_of_head(lines: Sequence[Line], i: int, words: Counter[str]) -> bool:
    """Whether a word at this place is a value of the head, not the beginning of a message."""
    if len(words) == 1:
        return True
    # few words, each of which is followed by many, which stand behind several of them
    usual, shared = _followed(lines, i)
    followed = Counter(text for counts in usual.values() for text in counts)
    many = sum(words[text] for text, count in followed.items() if count >= 3)
    return len(words) <= 12 and many >= 0.9 * len(lines) and len(usual) >= 1.5 * len(words) and shared >= 0.2


def _followed(lines: Sequence[Line], i: int) -> tuple[dict[str, Counter[str]], float]:
    """The next words behind a word, with the words before them, and the share of lines whose has several such."""
    behind: dict[str, Counter[str]] = defaultdict(Counter)
    for keys, texts in lines:
        behind[next((key for key in keys[i + 1 :] if is_word(key)), "")][texts[i]] += 1
    usual = {word: counts for word, counts in behind.items() if word and counts.total() > 1}
    return usual, sum(counts.total() for counts in usual.values() if len(counts) > 1) / len(lines)


def _is_key(lines: Sequence[Line], i: int) -> bool:
    return sum(keys[i + 1 : i + 2] == ("=",) for keys, _ in lines) >= _ALL * len(lines)


def _leads_on(lines: Sequence[Line], i: int, *, stamped: bool) -> bool:
    """Whether a cell that surely belongs to the head stands a few cells behind this word in all lines.

    Such is a value behind which the same sign stands, or where the word does not tell what follows, or one of the words
    that levels are called by.
    """
    least = _ALL * len(lines)
    for at in range(i + 1, i + _NEAR):
        look, count = Counter(look_of(keys, at) for keys, _ in lines).most_common(1)[0]
        if look == "" or count < least:
            return False
        values = _has_value(look) and (look != value(TIME) or not stamped)
        if look == "w":
            words = Counter(texts[at].strip().lower() for keys, texts in lines if look_of(keys, at) == look)
            if sum(count for word, count in words.items() if word in LEVELS) >= least and len(words) > 1:
                return True
            values = sum(not is_word(keys[at]) for keys, _ in lines if at < len(keys)) > 0.9 * len(lines)
        if values:
            sign, count = Counter(look_of(keys, at + 1) for keys, _ in lines).most_common(1)[0]
            if count >= least and sign not in ("", " ", "w", "=", ",") and not _has_value(sign):
                return True
            return _followed(lines, i)[1] >= _SHARED
    return False


def _closed(lines: Sequence[Line], i: int) -> bool:
    """Whether the same signs stand behind the word in nearly all lines: a bracket, a bar, a tab or a colon."""
    sign, count = Counter(look_of(keys, i + 1) for keys, _ in lines).most_common(1)[0]
    if sign == " ":
        sign, count = Counter(look_of(keys, i + 2) for keys, _ in lines).most_common(1)[0]
        return count >= _ALL * len(lines) and sign in ("|", "-", ";", "(", "[", "<", "{")
    return count >= _ALL * len(lines) and sign not in ("", "w", "=") and not _has_value(sign)


def _tells(lines: Sequence[Line], i: int, values: Counter[str]) -> bool:
    """Whether the value at this place tells which message it is."""
    if not 2 <= len(values) <= max(_FEW, 0.02 * len(lines)) or values.most_common(1)[0][1] > 0.95 * len(lines):
        return False
    # what each value is mostly followed by: the first words behind, if others follow others
    follow: dict[str, Counter[tuple[str, ...]]] = defaultdict(Counter)
    overall: Counter[tuple[str, ...]] = Counter()
    for keys, texts in lines:
        words = tuple(key for key in keys[i + 1 :] if is_word(key))[:8]
        follow[texts[i]][words] += 1
        overall[words] += 1
    shared: dict[tuple[str, ...], set[str]] = defaultdict(set)
    for text, counts in follow.items():
        for words in counts:
            shared[words].add(text)
    # a few numbers may be those of processes, which the next log has not: such has many messages, a code has one
    numbered = len(values) < _FEWEST and any(char.isdigit() for text in values for char in text)
    if numbered and any(counts.most_common(1)[0][1] < _ONE_MESSAGE * counts.total() for counts in follow.values()):
        return False
    repeated = {words for words, count in overall.items() if count > 1}
    total = sum(overall[words] for words in repeated)
    return bool(total) and sum(overall[words] for words in repeated if len(shared[words]) == 1) >= 0.9 * total
