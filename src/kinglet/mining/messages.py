"""The messages of a log: its lines in groups, each with the text that they share and the values that vary."""

from __future__ import annotations

import itertools
import re
from collections import Counter, defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from kinglet.mining.cells import NUMBER, TEXT, WORD, Cells, cells, is_value, is_word, value
from kinglet.mining.codes import with_codes
from kinglet.mining.columns import table
from kinglet.mining.grouping import groups
from kinglet.mining.heads import Head, head_of, look_of
from kinglet.mining.parts import Literal, Part, Varying, is_patchwork, is_wordy, merged, parts_of
from kinglet.mining.ports import with_ports
from kinglet.mining.words import NAMED, absorbed, free_text, vary, without_runs

Keys = tuple[str, ...]


@dataclass
class Message:
    """Lines of one message: their numbers, and what they are made of."""

    rows: list[int]
    parts: list[Part]
    kinds: list[str] = field(default_factory=list)


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
    lines = _lines(texts, stamps)
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


_ALIKE = 0.97


def _lines(texts: Iterable[str], stamps: Iterable[str]) -> list[Cells]:
    """Texts in cells, told apart where one text alone does not say what it has."""
    return with_codes(with_ports(cells(texts, stamps)))


def same_head(texts: Sequence[str], stamps: Iterable[str] = ()) -> Message | None:
    """What texts that are heads as a whole are made of, and the rows that are so; None where they differ in form."""
    lines = _lines(texts, stamps)
    looks = [tuple(look_of(line.keys, i) for i in range(len(line.keys))) for line in lines]
    usual, count = Counter(looks).most_common(1)[0]
    if count < _ALIKE * len(texts):
        return None
    rows = [row for row, look in enumerate(looks) if look == usual]
    return _message(rows, [lines[row] for row in rows], None)


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
    found = merged(opened)
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
    general = absorbed(free_text(vary(free_text(without_runs(distinct)), signs)))
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
_BEFORE_NAMES = ("for", "by", *NAMED)


def _with_known(found: list[Message]) -> list[Message]:
    """Words that never vary in one message are values where they are such behind the same word in another."""
    known: dict[str, set[str]] = {name: set() for name in NAMED}
    for message in found:
        for before, part in _beside(message.parts):
            if is_wordy(part) and (word := _LAST_WORD.search(before)):
                known.setdefault(word[1].lower(), set()).update(text for text in part.values if text is not None)
    people = {text for name in NAMED for text in known[name]}
    known |= {word: known.get(word, set()) | people for word in _BEFORE_NAMES}
    for message in found:
        parts: list[Part] = []
        for item in message.parts:
            parts += _split(item, known, len(message.rows)) if isinstance(item, Literal) else [item]
        message.parts = merged(parts)
    return found


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
        columns = [{body.keys[i] for body in bodies} for i in range(width)]
        general = tuple(
            value(WORD) if len(keys) > 1 and look_of(bodies[0].keys, i) == "w" else bodies[0].keys[i]
            for i, keys in enumerate(columns)
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
    parts = parts_of(found, values, [number[form] for form in forms], is_head=is_head)
    if not is_head and is_patchwork(parts) and distinct != [(value(TEXT),)]:
        return _message(rows, bodies, [(*_common(distinct), value(TEXT))] * len(rows))
    return Message(rows, parts)


def _common(forms: Sequence[Keys]) -> Keys:
    """The cells that all forms begin with, where a word is among them."""
    first, last = min(forms), max(forms)
    same = itertools.takewhile(lambda pair: pair[0] == pair[1], zip(first, last, strict=False))
    common = first[: min(sum(1 for _ in same), *(len(form) - 1 for form in forms))]
    while common and (is_word(common[-1]) or is_value(common[-1])):
        common = common[:-1]  # what stands behind it without a blank is of the same word
    return common if any(map(is_word, common)) else ()
