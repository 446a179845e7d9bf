"""Tokens of a pattern to regexes for the linear-time engine.

A pattern becomes one or two regexes, tried in order:

- the quick one ends every open slot (word, text, …) at the first character that can follow it.
  Such a regex never has a choice to make, which the engine rewards with about twice the speed;
- the patient one lets an open slot read on, as little as it must, for the event in which that
  character occurs inside the value too.

What a pattern means is the first of the two that matches.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping, Set
from typing import NamedTuple

from kinglet.patterns.grammar import TEXT_OF, AnyBlanks, Blank, Literal, Optional, PartRef, Slot, Token
from kinglet.patterns.optional_parts import without_choices
from kinglet.patterns.types import BLANK, FLAG, TYPES, SlotType
from kinglet.regex.first_characters import Beginnings, beginnings

_END = "\0end"
_CONTROLS = {"\n": r"\n", "\r": r"\r", "\t": r"\t"}


class _Way(NamedTuple):
    """How slots are read: the regex of stamps by slot, the types by name, whether the quick regex is wanted."""

    times: Mapping[str, str]
    types: Mapping[str, SlotType]
    quick: bool


class _Follow(NamedTuple):
    """The characters that can come next; None where any can."""

    chars: frozenset[str] | None


def to_regexes(
    tokens: tuple[Token, ...],
    times: Mapping[str, str],
    types: Mapping[str, SlotType] = TYPES,
    onward: Collection[str] = (),
) -> tuple[str, ...]:
    """The regexes of a pattern, in the order in which they are tried.

    times: for slots of type `time`, the regex of their stamps by slot name. types: the slot types
    by name, those of the parser's own among them. onward: slots, outside of optional parts, from which on
    the text is a group too, called `_onward_` and the slot's name.
    """
    last = tokens[-1] if tokens else None
    end, follow = f"{BLANK}*$", _Follow(frozenset((_END, " ", "\t")))
    if isinstance(last, Slot) and last.type in ("rest", "text"):
        end, follow = "$", _Follow(frozenset((_END,)))
    # blanks at the end are an optional part like others, so that they leave no choice either
    elif not onward:
        tokens = without_choices((*tokens, AnyBlanks(0)), lambda slot: _begins(slot, times, types))
        end, follow = "$", _Follow(frozenset((_END,)))
    places = [i for i, token in enumerate(tokens) if isinstance(token, Slot) and token.name in onward]
    found = [f"^{_whole(tokens, _Way(times, types, quick), follow, places)}{end}" for quick in (True, False)]
    # where no slot is open both are the same
    return tuple(dict.fromkeys(found))


def to_search(tokens: tuple[Token, ...], types: Mapping[str, SlotType] = TYPES) -> str:
    """The regex that finds a pattern anywhere in a text; it looks at nothing around what it finds."""
    return _sequence(tokens, _Way({}, types, True), _Follow(None))


def _whole(tokens: tuple[Token, ...], way: _Way, after: _Follow, onward: list[int]) -> str:
    """A pattern's regex with groups that reach from some of its slots to the end."""
    if not onward:
        return _sequence(tokens, way, after)
    parts = [
        _token(token, way, _first(tokens[i + 1 :], after), i > 0 and isinstance(tokens[i - 1], Blank))
        for i, token in enumerate(tokens)
    ]
    for i in onward:
        slot = tokens[i]
        assert isinstance(slot, Slot)
        parts[i] = f"(?P<_onward_{slot.name}>{parts[i]}"
    return "".join(parts) + ")" * len(onward)


def _sequence(tokens: tuple[Token, ...], way: _Way, after: _Follow) -> str:
    parts: list[str] = []
    previous: Token | None = None
    for i, token in enumerate(tokens):
        follow = _first(tokens[i + 1 :], after)
        parts.append(_token(token, way, follow, isinstance(previous, Blank)))
        # a flag reads nothing, so the blank before it is the blank before what follows
        previous = previous if _is_flag(token) else token
    return "".join(parts)


def _is_flag(token: Token) -> bool:
    """Whether a token reads nothing, so that what stands before it is followed by what stands behind it."""
    return isinstance(token, Slot) and token.type == FLAG


def _token(token: Token, way: _Way, follow: _Follow, after_blank: bool) -> str:
    match token:
        case Literal(text=text):
            return escape(text)
        case Blank():
            return f"{BLANK}+"
        case AnyBlanks():
            return f"{BLANK}*"
        case Optional(tokens=tokens):
            return f"(?:{_sequence(tokens, way, follow)})?"
        case PartRef():
            raise AssertionError("parts are put in place before")
        case Slot():
            body = _slot(token, way, follow, after_blank)
            if token.keeps_text:
                body = f"(?P<{token.name}{TEXT_OF}>{body})"
            return f"(?P<{token.name}>{body})" if token.name else f"(?:{body})"


def _slot(slot: Slot, way: _Way, follow: _Follow, after_blank: bool) -> str:
    kind = way.types[slot.type]
    if slot.type == "time":
        return way.times[slot.name]
    if slot.type == "rest" or (slot.type == "text" and follow.chars == frozenset((_END,))):
        # the run of blanks before it takes all blanks: otherwise each of them could belong to either
        return r"(?:[^ \t](?s:.*))?" if after_blank else "(?s:.*)"
    if kind.stops is None:
        return kind.shape
    if kind.may_be_empty:
        return _text(follow, way.quick, after_blank)
    return _run(kind.stops, follow, way.quick)


def _begins(slot: Slot, times: Mapping[str, str], types: Mapping[str, SlotType]) -> Beginnings:
    """The characters that the text of a slot can begin with."""
    kind = types[slot.type]
    if slot.type == "time":
        return beginnings(times[slot.name])
    if slot.type == FLAG:
        return Beginnings(frozenset(), True)
    return beginnings(f"[^{kind.stops}]" if kind.stops else kind.shape or "(?s:.*)")


def _run(excluded: str, follow: _Follow, quick: bool) -> str:
    """A run of one or more characters, all but the excluded ones."""
    if follow.chars is None:
        return f"[^{excluded}]+"
    stops = follow.chars - {" ", "\t", _END}
    if quick or not stops:
        return f"[^{excluded}{_in_class(stops)}]+"
    # at the end nothing can follow that a longer run would have to leave
    return f"[^{excluded}]+" if _END in follow.chars else f"[^{excluded}]+?"


def _text(follow: _Follow, quick: bool, after_blank: bool) -> str:
    """Any text, as little of it as possible."""
    if not quick or follow.chars is None or _END in follow.chars:
        return "(?s:.*?)"
    inside = _in_class(follow.chars)
    if after_blank and not follow.chars & {" ", "\t"}:
        return rf"(?:[^{inside} \t][^{inside}]*)?"
    return f"[^{inside}]*"


def _first(tokens: tuple[Token, ...], after: _Follow) -> _Follow:
    """What the text after a slot can begin with."""
    for i, token in enumerate(tokens):
        match token:
            case Literal(text=text) if text:
                return _Follow(frozenset(text[0]))
            case Blank():
                return _Follow(frozenset((" ", "\t")))
            case AnyBlanks():
                return _Follow(frozenset((_END, " ", "\t")))
            case Optional(tokens=inner):
                rest = _first(tokens[i + 1 :], after)
                within = _first(inner, rest)
                # the part may be missing, so either beginning counts
                if rest.chars is None or within.chars is None:
                    return _Follow(None)
                return _Follow(rest.chars | within.chars)
            # what its text begins with is not known here
            case Slot() if not _is_flag(token):
                return _Follow(None)
    return after


def escape(text: str) -> str:
    """Literal text as both regex engines read it."""
    return "".join(char if char.isalnum() or char in "_ /:,;<>=\"'!%@`~" else _hex_or_slash(char) for char in text)


def _hex_or_slash(char: str) -> str:
    if char in _CONTROLS:
        return _CONTROLS[char]
    return f"\\{char}" if char.isprintable() and char.isascii() else re.escape(char)


def _in_class(chars: Set[str]) -> str:
    return "".join(f"\\{char}" if char in r"\]^-[&~" else char for char in sorted(chars))
