"""What a message is made of: fixed text, what varies, and what only some of its lines have."""

from __future__ import annotations

import itertools
import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TypeVar, cast

from kinglet.mining.cells import COLOURING, NAME, NUMBER, TEXT, WORD, is_value, value
from kinglet.mining.columns import Table

_CONSTANT = 3
_FIXED = re.compile(r"[A-Za-z]+[/v-]?[0-9.]+")
"""A name with digits in it that never varies in so many lines is fixed text."""


@dataclass
class Literal:
    """Fixed text."""

    text: str


@dataclass
class Varying:
    """What varies: its values by row of the message, None where a row lacks it. looks: what its values look like."""

    values: list[str | None]
    looks: frozenset[str]


@dataclass
class Maybe:
    """What some rows have and others have not. rows: the positions of those that have it."""

    parts: list[Literal | Varying]
    rows: list[int]


Part = Literal | Varying | Maybe


def is_wordy(part: Part) -> bool:
    """Whether it varies and has nothing but words and names."""
    return isinstance(part, Varying) and {look for look in part.looks if is_value(look)} <= _WORDS


def parts_of(found: Table, values: list[list[str | None]], form_of: Sequence[int], *, is_head: bool) -> list[Part]:
    """What a message is made of, from its columns."""
    parts: list[Part] = []
    forms = max(form_of) + 1
    runs: list[tuple[frozenset[int], list[int]]] = []
    for i, column in enumerate(found.columns):
        if runs and runs[-1][0] == column.forms:
            runs[-1][1].append(i)
        else:
            runs.append((column.forms, [i]))
    runs = _placed(found, runs, forms)
    for having, members in runs:
        made = merged([piece for i in members for piece in _part(found, values, i, is_head=is_head)])
        made = [piece for part in made for piece in _pieces(part, is_head=is_head)]
        if len(having) == forms:
            parts += made
        else:
            parts.append(Maybe(made, [row for row, form in enumerate(form_of) if form in having]))
    whole = merged(_whole(_either(parts, len(form_of))))
    return whole if is_head else _told(whole, len(form_of))


def is_patchwork(parts: Sequence[Part]) -> bool:
    """Whether the forms of a message have too little in common: signs that some of them have and others have not.

    Or words that vary side by side, of which nothing tells where the one ends and the other begins.
    """
    loose = sum(isinstance(part, Maybe) and _is_loose(part) for part in parts)
    beside = any(_is_open(one) and _is_open(other) for one, other in itertools.pairwise(parts))
    bare = most = 0  # parts that only some have, without a word, one behind the other
    for part in parts:
        if isinstance(part, Maybe):
            bare += not _has_word(part.parts)
        elif isinstance(part, Literal) and _has_word([part]):
            bare = 0
        most = max(most, bare)
    return loose >= _LOOSE or beside or most >= _LOOSE


def _has_word(parts: Sequence[Literal | Varying]) -> bool:
    return any(isinstance(item, Literal) and any(map(str.isalpha, item.text)) for item in parts)


def _is_loose(part: Maybe) -> bool:
    """Whether it has neither a value nor a word."""
    return all(isinstance(item, Literal) and not any(map(str.isalnum, item.text)) for item in part.parts)


def _is_open(part: Part) -> bool:
    return isinstance(part, Varying) and part.looks <= _WORDS | {value(TEXT)}


_LOOSE = 3
_MOST_PIECES = 7
_SIGNS = re.compile(r"([:/=#,|])")
_AMOUNT = re.compile(r"([+-]?[0-9]{1,9}(?:\.[0-9]+)?)((?:[^\W\d_]{1,5}|°[CFK]?)(?:/[^\W\d_]{1,3})?[²³]?)")
"""A number and its unit, whatever that is."""


_GROUPED = re.compile(r"[+-]?[0-9]+(?:,[0-9]+)+(?:\.[0-9]+)?|[+-]?[0-9]{1,3}(?:\.[0-9]{3})+,[0-9]+")
"""A number with commas in it, between its digits or before its decimals, which is one value."""


def _pieces(part: Literal | Varying, *, is_head: bool) -> list[Literal | Varying]:
    """What a name is made of, where all of them have the same signs in them: `{package}:{machine}`.

    Or the same unit behind a number: `{weight:int}kg`.
    """
    if not isinstance(part, Varying) or part.looks != {value(NAME)}:
        return [part]
    amounts = [_AMOUNT.fullmatch(text) if text is not None else None for text in part.values]
    measured = [found for found in amounts if found is not None]
    if len(measured) >= _CONSTANT and len(measured) == sum(text is not None for text in part.values):
        numbers, units = ({found[i] for found in measured} for i in (1, 2))
        if len(units) == 1 and len(numbers) > 1 and not is_head:
            values = [found[1] if found is not None else None for found in amounts]
            return [Varying(values, frozenset({value(NUMBER)})), Literal(units.pop())]
    if all(_GROUPED.fullmatch(text) for text in part.values if text is not None):
        return [part]
    split = [_SIGNS.split(text) if text is not None else None for text in part.values]
    known = [pieces for pieces in split if pieces is not None]
    first = known[0]
    if (
        len(known) < _CONSTANT
        or not 3 <= len(first) <= _MOST_PIECES
        or any(pieces[1::2] != first[1::2] or "" in pieces for pieces in known)
    ):
        return [part]
    out: list[Literal | Varying] = []
    for i in range(len(first)):
        texts = [pieces[i] if pieces is not None else None for pieces in split]
        same = len({text for text in texts if text is not None}) == 1
        if same and not (is_head and any(char.isdigit() for char in first[i])):
            out.append(Literal(first[i]))
        else:
            out.append(Varying(texts, frozenset({value(NAME)})))
    return merged(out)


def _told(parts: list[Part], rows: int) -> list[Part]:
    """The parts; words without any fixed text among them are text."""
    words = [part for part in parts if is_wordy(part)]
    plain = all(is_wordy(part) or isinstance(part, Literal) for part in parts)
    if (
        len(words) < _MANY_WORDS
        or not plain
        or any(char.isalnum() for part in parts if isinstance(part, Literal) for char in part.text)
    ):
        return parts
    texts = [
        "".join(
            part.text if isinstance(part, Literal) else part.values[row] or ""
            for part in parts
            if not isinstance(part, Maybe)
        )
        for row in range(rows)
    ]
    return [Varying(list(texts), frozenset({value(TEXT)}))]


_WORDS = frozenset({value(WORD), value(NAME)})
_MANY_WORDS = 3


def _whole(parts: Sequence[Part]) -> list[Part]:
    """The parts with signs that only some rows have around a value, such as `<none>`, taken into the value."""
    out: list[Part] = []
    i = 0
    while i < len(parts):
        part = parts[i]
        before, behind = parts[i - 1] if i else None, parts[i + 1] if i + 1 < len(parts) else None
        signs = [side if _is_sign(side) else None for side in (before, behind)]
        if not isinstance(part, Varying) or signs == [None, None]:
            out.append(part)
            i += 1
            continue
        values = list(part.values)
        for side, in_front in zip(signs, (True, False), strict=True):
            if isinstance(side, Maybe):
                text = "".join(item.text for item in side.parts if isinstance(item, Literal))
                for row in side.rows:
                    values[row] = text + (values[row] or "") if in_front else (values[row] or "") + text
        if signs[0] is not None:
            out.pop()
        out.append(Varying(values, frozenset({value(WORD)})))
        i += 1 + (signs[1] is not None)
    return out


def _either(parts: Sequence[Part], rows: int) -> list[Part]:
    """The parts; what stands for each other, `*` in some rows and `-` in the others, is a value."""
    out: list[Part] = []
    for part in parts:
        last = out[-1] if out else None
        if isinstance(part, Maybe) and isinstance(last, Maybe) and _is_plain(part) and _is_plain(last):
            here, there = set(part.rows), set(last.rows)
            texts = [_text_of(part if row in here else last, row) for row in range(rows)]
            if not here & there and len(here) + len(there) == rows and all(text.strip() for text in texts):
                blank = " " if all(text.startswith(" ") for text in texts) else ""
                values: list[str | None] = [text.removeprefix(blank) for text in texts]
                out[-1:] = [Literal(blank)] if blank else []
                out.append(Varying(values, frozenset({value(WORD)})))
                continue
        out.append(part)
    return out


def _is_plain(part: Maybe) -> bool:
    """Whether it is fixed text, or a value with nothing but signs around it."""
    varying = [item for item in part.parts if isinstance(item, Varying)]
    text = "".join(item.text for item in part.parts if isinstance(item, Literal))
    return not varying or (len(varying) == 1 and not any(map(str.isalnum, text)))


def _text_of(part: Maybe, row: int) -> str:
    return "".join(item.text if isinstance(item, Literal) else item.values[row] or "" for item in part.parts)


def _is_sign(part: Part | None) -> bool:
    """Whether it is a sign or several, without a blank, that only some rows have."""
    return isinstance(part, Maybe) and all(
        isinstance(item, Literal) and not any(char.isalnum() or char.isspace() for char in item.text)
        for item in part.parts
    )


def _placed(
    found: Table, runs: list[tuple[frozenset[int], list[int]]], forms: int
) -> list[tuple[frozenset[int], list[int]]]:
    """What only some forms have, so placed that it reads best: `[[ from {{ip}}]]` rather than `[[from {{ip}} ]]`."""
    out = [(having, list(members)) for having, members in runs]
    for k in range(1, len(out) - 1):
        having, members = out[k]
        before, behind = out[k - 1][1], out[k + 1][1]
        if len(having) == forms or len(out[k - 1][0]) != forms or len(out[k + 1][0]) != forms:
            continue
        left = right = 0  # how many cells it may move either way: what stands there is the same as at its other end
        while left < min(len(before), len(members)) and _same(found, before[-1 - left], members[-1 - left]):
            left += 1
        while right < min(len(behind), len(members)) and _same(found, behind[right], members[right]):
            right += 1
        row = before[len(before) - left :] + members + behind[:right]
        ways = range(len(row) - len(members) + 1)
        best = max(ways, key=lambda at: (_reads_well(found, row[at : at + len(members)]), -abs(at - left)))
        end = best + len(members)
        out[k - 1] = (out[k - 1][0], before[: len(before) - left] + row[:best])
        out[k] = (having, row[best:end])
        out[k + 1] = (out[k + 1][0], row[end:] + behind[right:])
    return [run for run in out if run[1]]


def _same(found: Table, one: int, other: int) -> bool:
    literal = found.columns[one].literal
    return literal is not None and literal == found.columns[other].literal and not literal.strip()[:1].isalnum()


_OPEN = {")": "(", "]": "[", ">": "<", "}": "{"}


def _reads_well(found: Table, members: Sequence[int]) -> int:
    """How well cells stand together: brackets and quotes in pairs, a blank or a comma in front, none behind."""
    signs = [(found.columns[member].literal or "").strip(" \t") for member in members]
    counts = Counter(signs)
    paired = all(counts[opening] == counts[closing] for closing, opening in _OPEN.items())
    paired = paired and not any(counts[quote] % 2 for quote in "\"'")
    first = found.columns[members[0]]
    opening = first.blank != "" or signs[0] in (",", ";", "|")
    return 4 * paired + opening - (signs[-1] in (" ", "\t"))


def _part(found: Table, values: list[list[str | None]], i: int, *, is_head: bool) -> list[Literal | Varying]:
    column = found.columns[i]
    if column.literal is not None:
        return [Literal(column.literal)]
    blank: list[Literal | Varying] = [Literal(column.blank)] if column.blank else []
    present = [text for text in values[i] if text is not None]
    if column.keys == {value(COLOURING)} and len(set(present)) == 1:
        return [*blank, Literal(present[0])]
    of_key = i > 0 and (found.columns[i - 1].literal or "").endswith("=")
    same = column.keys == {value(NAME)} and not of_key and len(present) >= _CONSTANT and len(set(present)) == 1
    if same and not is_head and _FIXED.fullmatch(present[0]):
        return [*blank, Literal(present[0])]
    return [*blank, Varying(values[i], column.keys)]


P = TypeVar("P", bound=Part)


def merged(parts: Sequence[P]) -> list[P]:
    """The parts, with fixed texts that stand side by side as one."""
    out: list[P] = []
    for part in parts:
        if isinstance(part, Literal) and out and isinstance(out[-1], Literal):
            out[-1] = cast(P, Literal(out[-1].text + part.text))
        else:
            out.append(part)
    return out
