"""The messages of a log: its lines in groups, each with the text that they share and the values that vary."""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import TypeVar, cast

from kinglet.mining.cells import NAME, NUMBER, TEXT, WORD, Cells, cells, is_value, is_word, value
from kinglet.mining.columns import Table, table
from kinglet.mining.grouping import groups
from kinglet.mining.heads import Head, head_of
from kinglet.mining.words import absorbed, free_text, vary

Keys = tuple[str, ...]
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


@dataclass
class Message:
    """Lines of one message: their numbers, and what they are made of."""

    rows: list[int]
    parts: list[Part]
    kinds: list[str] = field(default_factory=list)

    @property
    def literal(self) -> int:
        """How many characters of fixed text every line of it has."""
        return sum(len(part.text.strip()) for part in self.parts if isinstance(part, Literal))


@dataclass
class Mined:
    """A log by its messages. head: what all lines begin with, kind: which of its parts tells the messages apart."""

    begins: Head
    head: list[Part]
    kind: int | None
    messages: list[Message]
    lost: list[int]
    """Lines whose head is another."""


def mine(
    texts: Sequence[str],
    stamps: Iterable[str] = (),
    head: Head | None = None,
    kinds: Sequence[str] | None = None,
) -> Mined:
    """The messages of texts, the commonest first.

    stamps: regexes of stamps that stand in them. head: what the texts begin with, where it is known. kinds: what tells
    the messages apart, where that is known.
    """
    lines = cells(texts, stamps)
    found = head_of(lines) if head is None else head
    kept = [i for i, line in enumerate(lines) if found.begins(line)]
    of_head = _message(kept, [_cut(lines[i], 0, found.length) for i in kept], None) if found.length and kept else None
    if kinds is not None:
        kinds = [kinds[i] for i in kept]
    elif found.kind is not None:
        kinds = [lines[i].texts[found.kind] for i in kept]
    words = [i for i, look in enumerate(found.looks) if look == "w"]
    beside = [tuple(lines[i].texts[at] for at in words) for i in kept]
    each = messages([_cut(lines[i], found.length, None) for i in kept], kinds, beside)
    for message in each:
        message.rows = [kept[row] for row in message.rows]
    kind = None
    if of_head is not None and kinds is not None and found.kind is not None:
        kind, before = _kind_of(of_head.parts, kinds)
        for message in each:
            message.kinds = [text.removeprefix(before) for text in message.kinds]
    having = set(kept)
    lost = [i for i in range(len(lines)) if i not in having]
    parts = of_head.parts if of_head else []
    if kind is not None:
        parts, kind = _opened(parts, kind, each)
    return Mined(found, parts, kind, each, lost)


def _kind_of(parts: Sequence[Part], kinds: Sequence[str]) -> tuple[int | None, str]:
    """Which part of a head has the kinds, and the fixed text that stands in front of each there."""
    for i, part in enumerate(parts):
        if isinstance(part, Varying) and part.values[0] and kinds[0].endswith(part.values[0]):
            before = kinds[0].removesuffix(part.values[0])
            if all(f"{before}{text}" == kind for text, kind in zip(part.values, kinds, strict=True)):
                return i, before
    return None, ""


def _opened(parts: list[Part], kind: int, each: Sequence[Message]) -> tuple[list[Part], int]:
    """The parts of a head with fixed text in front of the number that is the kind by itself: `E` and `{code}`."""
    part = parts[kind]
    assert isinstance(part, Varying)
    texts = {text for text in part.values if text is not None}
    before = re.sub("[0-9]+$", "", min(texts))
    if not before or not all(re.fullmatch("0|[1-9][0-9]*", text.removeprefix(before)) for text in texts):
        return parts, kind
    for message in each:
        message.kinds = [text.removeprefix(before) for text in message.kinds]
    values = [text.removeprefix(before) if text is not None else None for text in part.values]
    opened = [*parts[:kind], Literal(before), Varying(values, frozenset({value(NUMBER)})), *parts[kind + 1 :]]
    found = _merged(opened)
    return found, next(i for i, part in enumerate(found) if isinstance(part, Varying) and part.values == values)


def _cut(line: Cells, start: int, end: int | None) -> Cells:
    return Cells(line.keys[start:end], line.texts[start:end])


def messages(
    bodies: Sequence[Cells], kinds: Sequence[str] | None = None, beside: Sequence[tuple[str, ...]] = ()
) -> list[Message]:
    """The messages of texts, the commonest first.

    kinds: what tells them apart already. beside: the words of each head, of which other messages may have others.
    """
    lead = [(f"{_KIND}{kind}",) for kind in kinds] if kinds is not None else [()] * len(bodies)
    forms = [(*front, *body.keys) for front, body in zip(lead, bodies, strict=True)]
    rows: dict[Keys, list[int]] = defaultdict(list)
    for row, form in enumerate(forms):
        rows[form].append(row)
    distinct = list(rows)
    signs = [Counter(beside[row] for row in rows[form]) for form in distinct] if beside else []
    general = absorbed(free_text(vary(free_text(distinct), signs)))
    merged: dict[Keys, list[int]] = defaultdict(list)
    for form, own in zip(general, distinct, strict=True):
        merged[form] += rows[own]
    skip = 1 if kinds is not None else 0
    together: dict[frozenset[Keys], list[tuple[int, Keys]]] = defaultdict(list)
    for members in _by_kind(merged, skip):
        # the same message of another kind is the same message
        together[frozenset(form[skip:] for form in members)] += [
            (row, form) for form in members for row in merged[form]
        ]
    out: list[Message] = []
    for chosen in sorted(together.values(), key=lambda those: -len(those)):
        chosen.sort()
        found = _message(
            [row for row, _ in chosen], [bodies[row] for row, _ in chosen], [form[skip:] for _, form in chosen]
        )
        if kinds is not None:
            found.kinds = list(dict.fromkeys(kinds[row] for row, _ in chosen))
        out.append(found)
    return _with_known(out)


_KIND = "\x01"
"""Begins the cell of a kind in front of a form: it is no word, and no text begins so."""


def _by_kind(merged: Mapping[Keys, Sequence[int]], skip: int) -> Iterator[list[Keys]]:
    """The forms of each message; those of several kinds are never put together for being alike."""
    names: dict[Keys, list[Keys]] = defaultdict(list)
    for form in merged:
        names[form[:skip]].append(form)
    for forms in names.values():
        for group in groups(forms, [len(merged[form]) for form in forms]):
            yield [forms[i] for i in group]


_LAST_WORD = re.compile(r"([^\W\d_]+)[ \"'(\[<:=]+$")
_NAMED = ("user", "account", "login", "username")
_BEFORE_NAMES = ("for", "by", *_NAMED)


def _with_known(found: list[Message]) -> list[Message]:
    """Words that never vary in one message are values where they are such behind the same word in another."""
    known: dict[str, set[str]] = {name: set() for name in _NAMED}
    for message in found:
        for before, part in _beside(message.parts):
            if _is_wordy(part) and (word := _LAST_WORD.search(before)):
                known.setdefault(word[1].lower(), set()).update(text for text in part.values if text is not None)
    people = {text for name in _NAMED for text in known[name]}
    known |= {word: known.get(word, set()) | people for word in _BEFORE_NAMES}
    for message in found:
        parts: list[Part] = []
        for item in message.parts:
            parts += _split(item, known, len(message.rows)) if isinstance(item, Literal) else [item]
        message.parts = _merged(parts)
    return found


def _is_wordy(part: Part) -> bool:
    """Whether it varies and has nothing but words and names."""
    return isinstance(part, Varying) and {look for look in part.looks if is_value(look)} <= _WORDS


def _beside(parts: Sequence[Part]) -> Iterator[tuple[str, Varying]]:
    """What varies, with the fixed text before it."""
    before = ""
    for part in parts:
        if isinstance(part, Literal):
            before += part.text
        elif isinstance(part, Varying):
            yield before, part
            before = ""
        else:
            yield from _beside([Literal(before), *part.parts])
            before += "".join(item.text for item in part.parts if isinstance(item, Literal))


def _split(part: Literal, known: dict[str, set[str]], rows: int) -> list[Part]:
    """Fixed text with the values in it by themselves."""
    for match in re.finditer(r"([^\W\d_]+)( )([^\W_][\w.@\\-]*)", part.text):
        word, text = match[1].lower(), match[3].rstrip(".-")
        if text in known.get(word, ()):
            start = match.start(3)
            value_ = Varying([text] * rows, frozenset({value(WORD)}))
            behind = _split(Literal(part.text[start + len(text) :]), known, rows)
            return [Literal(part.text[:start]), value_, *behind]
    return [part] if part.text else []


def _message(rows: list[int], bodies: Sequence[Cells], forms: Sequence[Keys] | None) -> Message:
    """A message of lines: their numbers, cells and general forms."""
    is_head = forms is None
    if forms is None:  # a head: all lines have the same cells
        width = len(bodies[0].keys)
        columns = [{body.texts[i] for body in bodies} for i in range(width)]
        general = tuple(
            value(WORD) if len(texts) > 1 and is_word(bodies[0].keys[i]) else bodies[0].keys[i]
            for i, texts in enumerate(columns)
        )
        forms = [general] * len(bodies)
    counts = Counter(forms)
    distinct = [form for form, _ in counts.most_common()]
    found = table(distinct)
    number = {form: i for i, form in enumerate(distinct)}
    values: list[list[str | None]] = [[None] * len(rows) for _ in found.columns]
    for row, (body, form) in enumerate(zip(bodies, forms, strict=True)):
        for column, i in found.places[number[form]]:
            last = i == len(form) - 1
            values[column][row] = "".join(body.texts[i:]) if last and form[i] == value(TEXT) else body.texts[i]
    return Message(rows, _parts(found, values, [number[form] for form in forms], is_head=is_head))


def _parts(found: Table, values: list[list[str | None]], form_of: Sequence[int], *, is_head: bool) -> list[Part]:
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
        made = _merged([piece for i in members for piece in _part(found, values, i, is_head=is_head)])
        made = [piece for part in made for piece in _pieces(part, is_head=is_head)]
        if len(having) == forms:
            parts += made
        else:
            parts.append(Maybe(made, [row for row, form in enumerate(form_of) if form in having]))
    whole = _merged(_whole(_either(parts, len(form_of))))
    return whole if is_head else _told(whole, len(form_of))


_MOST_PIECES = 7
_SIGNS = re.compile(r"([:/=#,|])")


def _pieces(part: Literal | Varying, *, is_head: bool) -> list[Literal | Varying]:
    """What a name is made of, where all of them have the same signs in them: `{package}:{machine}`."""
    if not isinstance(part, Varying) or part.looks != {value(NAME)}:
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
    return _merged(out)


def _told(parts: list[Part], rows: int) -> list[Part]:
    """The parts; words without any fixed text among them are text."""
    words = [part for part in parts if _is_wordy(part)]
    plain = all(_is_wordy(part) or isinstance(part, Literal) for part in parts)
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
    of_key = i > 0 and (found.columns[i - 1].literal or "").endswith("=")
    same = column.keys == {value(NAME)} and not of_key and len(present) >= _CONSTANT and len(set(present)) == 1
    if same and not is_head and _FIXED.fullmatch(present[0]):
        return [*blank, Literal(present[0])]
    return [*blank, Varying(values[i], column.keys)]


P = TypeVar("P", bound=Part)


def _merged(parts: Sequence[P]) -> list[P]:
    """The parts, with fixed texts that stand side by side as one."""
    out: list[P] = []
    for part in parts:
        if isinstance(part, Literal) and out and isinstance(out[-1], Literal):
            out[-1] = cast(P, Literal(out[-1].text + part.text))
        else:
            out.append(part)
    return out
