"""Messages as patterns: fixed text, typed and named slots, optional parts."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from operator import eq

import polars as pl

from kinglet.discover.columns import type_of
from kinglet.drafting.naming import Names, is_open
from kinglet.mining.cells import COLOUR, COLOURING, JSON, SIZE, TIME, value
from kinglet.mining.messages import Message
from kinglet.mining.parts import Literal, Maybe, Part, Varying
from kinglet.names import field_of
from kinglet.patterns.compiling import to_regexes
from kinglet.patterns.grammar import PatternError, escaped, parse
from kinglet.patterns.grammar import slots as in_pattern
from kinglet.patterns.types import TYPES
from kinglet.patterns.words import words_type
from kinglet.plan.data import name_problem
from kinglet.structured.blocks import Blocks
from kinglet.structured.by_form import Structure, is_within
from kinglet.structured.json_objects import JsonObjects
from kinglet.timestamps.formats import parse_format
from kinglet.timestamps.reading import TimeReading, is_read

_FEW = 4
_OFTEN = 3
_ENOUGH = 20
_EACH = 10
_MOSTLY = 0.9
_ALTERNATIVE = re.compile(r"[^\W\d_]+(?:[_-][^\W\d_]+)*")
_AS = {"ipv4": "ip", "ipv6": "ip", "empty": "text", "hex": "word", "bool": "word", "time": "word", "host": "host"}
"""Types of values that a sample shows too narrowly, or that would lose how a value is written."""
_LARGEST = 18
_OF_VERSION = re.compile(r"(?i)(?:version|release|\bv|_v)\W*(?:(?:to|is|of) )?$")
"""What stands before a version, which is no number though it may look like one: 3.10 is not 3.1."""
_OF_PORT = re.compile(r"(?i)(?<!re)(?<!im)(?<!ex)(?<!sup)(?<!trans)(?<!air)(?<!pass)port\W*$")
"""A word in front of a number that is a port: `dport=`, not `report `."""
_FRAME = re.compile(r"(?m)^\s*(?:at [\w$.<>/]+\(|File \"|\.\.\. [0-9]+ more|Traceback |Caused by: )")
LETTER = "/[A-Z]"
"""The type of a letter directly before a stamp."""
_LABELS = 2  # lines of so many labels are a block
_CODE = re.compile("[A-Z]{1,4}[-_]?[0-9]{2,}")


@dataclass
class Slot:
    """A slot of a draft: its name, its type, and the text of its value in each row of the message."""

    name: str
    type: str
    values: list[str | None]
    words: tuple[str, ...] = ()
    wanted: str = ""
    alias: str = ""
    own: str = ""
    """The type of the parser's own that its type, a regex behind a slash, is called."""

    def __post_init__(self) -> None:
        self.wanted = self.wanted or self.name

    @property
    def text(self) -> str:
        """The slot as a pattern has it."""
        kind = "|".join(self.words) if self.words else self.own or self.type
        if not self.name:
            return "{:" + kind + "}"
        return "{" + (self.name if kind == "word" else f"{self.name}:{kind}") + "}"


@dataclass
class Written:
    """A message as a pattern.

    maybe: for each optional part the rows that have it. fixed: the pattern, where it is known.
    """

    parts: list[str | Slot | Optional]
    slots: list[Slot]
    maybe: list[list[int]] = field(default_factory=list)
    fixed: str = ""
    keys: dict[str, Slot] = field(default_factory=dict)
    """The keys of the JSON object in it that have values, and the fields that they become."""

    @property
    def pattern(self) -> str:
        """The pattern as a parser file has it."""
        return self.fixed or _text(self.parts)

    @property
    def words(self) -> str:
        """The fixed text that every line has, but for letters right behind a slot, such as a unit."""
        joined = "".join(part if isinstance(part, str) else "\0" for part in self.parts)
        return re.sub(r"\0[^\W\d_]*", " ", re.sub(COLOUR, "", joined))


@dataclass
class Optional:
    """An optional part of a pattern."""

    parts: list[str | Slot]


def _text(parts: Sequence[str | Slot | Optional]) -> str:
    """Parts as a pattern; brackets that would meet those of an optional part stand in quotes."""
    out = ""
    for part in parts:
        if isinstance(part, str):
            text = escaped(part).replace("\t", r'{"\t"}')
            if text[:1] in ("[", "]") and out.endswith(text[:1]):
                text = f'{{"{text[0]}"}}{text[1:]}'
            out += text
        elif isinstance(part, Slot):
            out += part.text
        else:
            inner = _text(part.parts)
            inner = inner[:-1] + '{"]"}' if inner.endswith("]") else inner
            out = out[:-1] + '{"["}' if out.endswith("[") else out
            out += f"[[{inner}]]"
    return out


def written(
    message: Message,
    names: Names,
    *,
    stamp: list[str | None] | None = None,
    more: Sequence[str | None] = (),
    open_words: bool = False,
    behind: str = "",
) -> Written:
    """A message as a pattern.

    stamp: the stamp of each row, which is called so. more: the lines behind the first of each row, where it has such.
    open_words: no slot is held to the words that were seen. behind: the fixed text that stands in front.
    """
    parts: list[str | Slot | Optional] = []
    slots: list[Slot] = []
    maybe: list[list[int]] = []
    before = behind  # the fixed text since the last slot
    for i, part in enumerate(_with_fixed_keys(message.parts)):
        last = i == len(message.parts) - 1
        if isinstance(part, Maybe):
            inner: list[str | Slot] = []
            for k, item in enumerate(part.parts):
                if isinstance(item, Literal):
                    inner.append(item.text)
                    before += item.text
                elif item.looks == _COLOURS:
                    inner += _coloured(item)
                else:
                    slot = _slot(item, before, names, last=last and k == len(part.parts) - 1, stamp=stamp)
                    inner.append(slot)
                    slots.append(slot)
                    before = ""
            parts.append(Optional(inner))
            maybe.append(part.rows)
        elif isinstance(part, Literal):
            parts.append(part.text.rstrip() if last else part.text)
            before += part.text
        elif part.looks == _COLOURS:
            parts += _coloured(part)
        else:
            padded = [] if last else _padded(part)
            slot = _slot(part, before, names, last=last, stamp=stamp)
            before_it = parts[-1] if parts and slot.type == "time" else None
            if isinstance(before_it, Slot) and all(re.fullmatch("[A-Z]", text or "A") for text in before_it.values):
                before_it.type, before_it.words = LETTER, ()  # a word would take some of the stamp
            parts.append(slot)
            slots.append(slot)
            before = ""
            if padded:
                parts.append(Optional([" "]))
                maybe.append(padded)
    having = [row for row, text in enumerate(more) if text is not None]
    if having:
        for slot in slots:
            slot.type = "text" if slot.type == "rest" else slot.type
        block = _are_block([text for text in more if text is not None])
        lines = Slot("", "block", list(more)) if block else Slot(names.name("", "rest", "lines"), "rest", list(more))
        slots.append(lines)
        parts += ["\n", lines] if len(having) == len(more) else [Optional(["\n", lines])]
        maybe += [] if len(having) == len(more) else [having]
    keys: dict[str, Slot] = {}
    for slot in slots:
        if slot.type in _WITH_KEYS:
            keys |= _keys(slot, names)
    slots += keys.values()
    if open_words:
        for slot in slots:
            slot.words = ()
    return Written(parts, slots, maybe, keys=keys)


_COLOURS = frozenset({value(COLOURING)})


def _coloured(part: Varying) -> list[str | Slot]:
    """A sequence that sets one colour here and another there: which one is no field (ECMA-48, SGR)."""
    colours = [text[2:-1] if text is not None else None for text in part.values]
    return ["\x1b[", Slot("", "text", colours), "m"]


_MOST_KEYS = 40


def _with_fixed_keys(parts: Sequence[Part]) -> Iterator[Part]:
    """The parts of a message, of which quoted keys of what was JSON before it was cut off are fixed text."""
    for i, part in enumerate(parts):
        before, after = parts[i - 1] if i else None, parts[i + 1] if i + 1 < len(parts) else None
        is_key = (
            isinstance(before, Literal)
            and isinstance(after, Literal)
            and re.search(r'[{,]\s*"$', before.text)
            and re.match(r'"\s*:', after.text)
        )
        texts = {*part.values} if isinstance(part, Varying) else set()
        only = next(iter(texts)) if len(texts) == 1 else None
        yield Literal(only) if is_key and only else part


_WITH_KEYS: dict[str, Structure] = {"json": JsonObjects(), "block": Blocks()}


def _are_block(texts: Sequence[str]) -> bool:
    """Whether the lines behind the first ones of messages are labelled, all of them, and are no trace of calls."""
    if any(_FRAME.search(text) for text in texts):
        return False
    each = [Blocks().values(text) or () for text in texts]
    # a value that goes on over lines may be a text of its own, such as the message of a change
    plain = [all(item.kind != "text" and "\n" not in (item.text or "") for item in values) for values in each]
    labelled = sum(len(values) >= _LABELS and sure for values, sure in zip(each, plain, strict=True))
    return all(each) and labelled >= _MOSTLY * len(texts)


def _keys(slot: Slot, names: Names) -> dict[str, Slot]:
    """The keys of the structure that a slot has, by their paths, as slots."""
    structure = _WITH_KEYS[slot.type]
    each = [{item.path: item.text for item in structure.values(text) or ()} if text else {} for text in slot.values]
    # a label without a value begins a section, and is none itself
    with_text = [[path for path, text in values.items() if text or slot.type == "json"] for values in each]
    paths = list(dict.fromkeys(path for some in with_text for path in some if path))
    leaves = [path for path in paths if not any(other != path and is_within(other, path) for other in paths)]
    out: dict[str, Slot] = {}
    for path in leaves[:_MOST_KEYS]:
        if name_problem(path) is not None and field_of(path) == path:
            continue
        column = Varying([values.get(path) for values in each], frozenset())
        type_, _ = slot_type(column, "port" if path.lower().endswith("port") else "", last=False)
        out[path] = Slot(names.name("", type_, field_of(path)), type_, column.values)
    return out


def _are_names(words: Iterable[str]) -> bool:
    """Whether words of two parts begin with the same one, as `site-north` and `site-west`: others may come."""
    fronts = {re.split("[_-]", word)[0] if re.search("[_-]", word) else None for word in words}
    return len(fronts) == 1 and None not in fronts


def _padded(part: Varying) -> list[int]:
    """The rows whose word is filled up with blanks, which are taken off."""
    rows = [row for row, text in enumerate(part.values) if text is not None and text[-1:] in (" ", "\t")]
    if rows and all(text is None or re.fullmatch(r"\S+[ \t]*", text) for text in part.values):
        part.values = [text.rstrip(" \t") if text is not None else None for text in part.values]
        return rows
    return []


def _slot(part: Varying, before: str, names: Names, *, last: bool, stamp: list[str | None] | None) -> Slot:
    if stamp is not None and sum(map(eq, part.values, stamp)) >= _MOSTLY * len(stamp):
        return Slot(names.name(before, "time", "stamp"), "time", part.values)
    if part.looks == {value(JSON)}:
        return Slot("", "json", part.values)
    if part.looks == {value(TIME)}:
        type_ = moment_type([text for text in part.values if text is not None])
        return Slot(names.name(before, "time"), type_, part.values)
    type_, words = slot_type(part, before, last=last, of_address=names.last in ("ip", "host"))
    codes = all(_CODE.fullmatch(text) for text in part.values if text is not None)
    name = names.name(before, type_, codes=codes)
    return Slot(name, type_, part.values, words if is_open(name) else ())


_ISO = TimeReading((parse_format("iso8601"),))


def moment_type(texts: Sequence[str]) -> str:
    """The type of stamps that are not the event's time: `time`, or a regex of their form."""
    if all(":" in text and is_read(text, _ISO) for text in texts[:_ENOUGH]):
        return "time"
    shape = re.sub(r"[A-Za-z]+", "[A-Za-z]+", re.sub(r"([\\.^$*+?{}\[\]()|])", r"\\\1", texts[0]))
    shape = re.sub(r"(?<!-)[0-9]+(?!-?\])", "[0-9]+", shape)
    return f"/{shape}" if all(re.fullmatch(shape, text) for text in texts) else "text"


def slot_type(part: Varying, before: str, *, last: bool, of_address: bool = False) -> tuple[str, tuple[str, ...]]:
    """The type of what varies, and the words that it may be, where they are few.

    before: the fixed text in front. last: nothing follows. of_address: an address stands before that text.
    """
    known = [text for text in part.values if text is not None]
    counts = Counter(known)
    if (
        2 <= len(counts) <= _FEW
        and len(known) >= _ENOUGH
        and min(counts.values()) >= _OFTEN
        and len(known) >= _EACH * len(counts)
        and all(_ALTERNATIVE.fullmatch(text) and text not in TYPES for text in counts)
        and not _are_names(counts)
    ):
        return "word", tuple(sorted(counts))
    if part.looks == {value(SIZE)}:
        return "size", ()
    found = type_of(pl.Series("", known, dtype=pl.String))
    found = _AS.get(found, found)
    if any(not text for text in known) and found != "rest":
        found = "text"
    if found == "num" and _OF_VERSION.search(before):
        found = "word"
    if found in ("int", "port") and not all(_is_number(text) for text in counts):
        found = "word"
    behind_address = before in (":", ".") and of_address and max(map(len, counts), default=0) > 1
    of_port = behind_address or _OF_PORT.search(before) is not None  # of one digit it is a count
    if found == "int" and of_port and all(0 <= int(text) <= 65535 for text in counts):
        found = "port"
    elif found == "port" and not of_port:
        found = "int"
    if found == "word" and any(re.search(r"\s", text) for text in counts):
        found = "text"
    return ("rest" if found == "text" and last else found), ()


def _is_number(text: str) -> bool:
    """Whether a whole number is written as one: without zeros in front, and not too long."""
    digits = text.lstrip("+-")
    return len(digits) <= _LARGEST and (digits == "0" or not digits.startswith("0")) and not text.startswith("+")


_ANY = "(?s:.+?)"
"""What a stamp may be: whether a pattern reads a line is told by what stands around it."""


def regex_of(pattern: str) -> str | None:
    """The regex of a pattern; none where it has types that only a file would define."""
    try:
        tokens = parse(pattern)
        stamps = {slot.name: _ANY for slot in in_pattern(tokens) if slot.type == "time"}
        words = {slot.type: words_type(slot.type, slot.words) for slot in in_pattern(tokens) if slot.words}
        return to_regexes(tokens, stamps, {**TYPES, **words})[-1]
    except (PatternError, KeyError):
        return None
