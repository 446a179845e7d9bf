r"""The pattern language: from text to tokens.

pattern   = { literal | blanks | slot | part | optional }
slot      = "{" [name] [":" type ["+text"]] "}"  a value; without a name it is read and not kept
type      = name | word "|" word { "|" word }  a type by its name, or the words that the value can be
part      = "{@" name "}"                    a named piece of pattern
literal   = "{{" | "}}" | '{"text"}' | text  braces doubled; quoted text is taken as it stands, but for \t
optional  = "[[" pattern "]]"
blanks    = one or more blanks or tabs; match one or more blanks or tabs
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from typing import NamedTuple


class Literal(NamedTuple):
    text: str
    offset: int


class Blank(NamedTuple):
    offset: int


class AnyBlanks(NamedTuple):
    """Blanks or none; nobody writes it, but a pattern may end with it."""

    offset: int


class Slot(NamedTuple):
    """words: those that its text can be, as they are written, where its type is no type by name. keeps_text: whether
    its text is a field too.
    """

    name: str
    type: str
    offset: int
    source: str
    words: tuple[str, ...] = ()
    keeps_text: bool = False


class PartRef(NamedTuple):
    """Stands for a part; see `kinglet.patterns.parts`."""

    name: str
    offset: int


class Optional(NamedTuple):
    tokens: tuple[Token, ...]
    offset: int


Token = Literal | Blank | AnyBlanks | Slot | PartRef | Optional

_SLOT = re.compile(r"\{\s*([A-Za-z_][A-Za-z0-9_]*)?\s*(?::\s*([A-Za-z_][A-Za-z0-9_]*)\s*(\+\s*text\s*)?)?\}")
_WORD = r'\s*(?:"[^"]+"|[^|{}":\s](?:[^|{}":]*[^|{}":\s])?)\s*'
_WORDS = re.compile(rf"\{{\s*([A-Za-z_][A-Za-z0-9_]*)?\s*:({_WORD}(?:\|{_WORD})+)\}}")
_PART = re.compile(r"\{\s*@\s*([A-Za-z_][A-Za-z0-9_-]*)\s*\}")
_BLANKS = re.compile(r"[ \t]+")
_BRACKETS = re.compile(r"\[+|\]+")
_PLAIN = re.compile(r"[^ \t{}\[\]]+")
_QUOTED = re.compile(r'\{"([^"]*)"\}')


class PatternError(ValueError):
    """A pattern that cannot be read; offset is the character at fault."""

    def __init__(self, message: str, hint: str, offset: int) -> None:
        super().__init__(message)
        self.message, self.hint, self.offset = message, hint, offset


MOST_TEXT = 100_000
"""Characters of a pattern, its parts written out."""
MOST_PARTS, MOST_LEVELS = 500, 20
"""A pattern of more slots, or of optional parts nested deeper, is none that a person can read."""
_SPLIT = "read the rest with a second pattern: the step `parse`"


def parse(text: str) -> tuple[Token, ...]:
    """The tokens of a pattern.

    >>> [type(token).__name__ for token in parse("pump {pump:int}[[ after {s:int}s]]")]
    ['Literal', 'Blank', 'Slot', 'Optional']

    Raises:
        PatternError: a brace that is not closed, a slot that is not a slot, brackets that do not match.
    """
    if len(text) > MOST_TEXT:
        raise PatternError(f"more than {MOST_TEXT:,} characters", _SPLIT, 0)
    open_lists: list[tuple[list[Token], int]] = [([], 0)]
    position = 0

    def literal(value: str, offset: int) -> None:
        tokens = open_lists[-1][0]
        if tokens and isinstance(tokens[-1], Literal):
            last = tokens.pop()
            assert isinstance(last, Literal)
            value, offset = last.text + value, last.offset
        tokens.append(Literal(value, offset))

    while position < len(text):
        char = text[position]
        if char in " \t":
            open_lists[-1][0].append(Blank(position))
            position = _end_of(_BLANKS, text, position)
        elif text.startswith(("{{", "}}"), position):
            literal(char, position)
            position += 2
        elif char == "{":
            position = _slot(text, position, open_lists[-1][0], literal)
        elif char == "}":
            raise PatternError("a `}` without its `{`", "write `}}` for a brace in the log", position)
        elif char in "[]":
            run = _end_of(_BRACKETS, text, position) - position
            if char == "[":
                for k in range(run // 2):
                    open_lists.append(([], position + 2 * k))
                if len(open_lists) > MOST_LEVELS:
                    raise PatternError(f"more than {MOST_LEVELS} optional parts within each other", _SPLIT, position)
                if run % 2:
                    literal("[", position + run - 1)
            else:
                closes = min(run // 2, len(open_lists) - 1)
                if run > 2 * closes:
                    literal("]" * (run - 2 * closes), position)
                for _ in range(closes):
                    tokens, offset = open_lists.pop()
                    if not tokens or (len(tokens) == 1 and isinstance(tokens[0], Optional)):
                        message = "an optional part that holds nothing" + (" but another" if tokens else "")
                        raise PatternError(message, "for an optional part in brackets write `[[[ … ]]]`", offset)
                    open_lists[-1][0].append(Optional(tuple(tokens), offset))
            position += run
        else:
            end = _end_of(_PLAIN, text, position)
            literal(text[position:end], position)
            position = end
    check_size(open_lists[0][0])
    if len(open_lists) > 1:
        raise PatternError("`[[` is not closed", "end the optional part with `]]`", open_lists[-1][1])
    return tuple(open_lists[0][0])


def _end_of(run: re.Pattern[str], text: str, position: int) -> int:
    """The end of a run of characters of one kind, one of which stands at a position."""
    match = run.match(text, position)
    assert match is not None
    return match.end()


def check_size(tokens: Sequence[Token]) -> None:
    """Refuses what no person can read.

    Raises:
        PatternError: there are more than MOST_PARTS slots and optional parts.
    """
    if _count(tokens) > MOST_PARTS:
        raise PatternError(f"more than {MOST_PARTS} slots and optional parts", _SPLIT, 0)


def _count(tokens: Sequence[Token]) -> int:
    """How many slots and optional parts there are."""
    return sum(1 + (_count(token.tokens) if isinstance(token, Optional) else 0)
               for token in tokens if isinstance(token, Slot | PartRef | Optional))  # fmt: skip


def _exact(text: str) -> str:
    """Text between double quotes: a tab is written as in other languages, since none shows in a file."""
    return text.replace("\\t", "\t")


def _slot(text: str, position: int, tokens: list[Token], literal: Callable[[str, int], None]) -> int:
    quoted = _QUOTED.match(text, position)
    if quoted:
        literal(_exact(quoted[1]), position)
        return quoted.end()
    part = _PART.match(text, position)
    if part:
        tokens.append(PartRef(part[1], position))
        return part.end()
    chosen = _WORDS.match(text, position)
    if chosen:
        words = tuple(word.strip() for word in re.findall(_WORD, chosen[2]))
        if words[-1].endswith("+text"):
            raise PatternError(f"`{chosen[0]}` is text already", "leave `+text` out", position)
        tokens.append(Slot(chosen[1] or "", "|".join(words), position, chosen[0], words))
        return chosen.end()
    match = _SLOT.match(text, position)
    if match is None:
        if text.find("}", position) < 0:
            raise PatternError("`{` is not closed", "write `{{` for a brace in the log", position)
        inside = text[position : text.index("}", position) + 1]
        if "|" in inside:
            hint = "write {name:one|other}, and words with `|`, `:`, braces or blanks around them in double quotes"
            raise PatternError(f"`{inside}` has a word that is none", hint, position)
        raise PatternError(f"`{inside}` is not a slot", "write {name:type}, and `{{` for a brace in the log", position)
    if match[1] is None and match[2] is None:
        raise PatternError("`{}` names neither a field nor a type", "write {name:type}, or {:type} to skip", position)
    if match[3] and not match[1]:
        raise PatternError(f"`{match[0]}` keeps the text of a slot that is not kept", "give it a name", position)
    tokens.append(Slot(match[1] or "", match[2] or "word", position, match[0], keeps_text=bool(match[3])))
    return match.end()


TEXT_OF = "_text"
"""What stands behind the name of a slot in that of the field which keeps its text."""


def slots(tokens: tuple[Token, ...]) -> list[Slot]:
    """All slots in order, those of optional parts too."""
    found: list[Slot] = []
    for token in tokens:
        if isinstance(token, Slot):
            found.append(token)
        elif isinstance(token, Optional):
            found.extend(slots(token.tokens))
    return found


def escaped(text: str) -> str:
    """Fixed text as a pattern has it."""
    return re.sub(r"([{}])", r"\1\1", text).replace("[[", '{"[["}').replace("]]", '{"]]"}')
