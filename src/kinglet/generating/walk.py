"""Texts that a regex matches, made by walking it."""

from __future__ import annotations

import functools
import importlib
import random
import re
from collections.abc import Callable, Mapping
from typing import Any

from kinglet.regex.for_python import translated
from kinglet.regex.syntax_tree import tree_of

_compiler: Any = importlib.import_module("re._compiler")
_PLAIN = "abcdefghijklmnopqrstuvwxyz0123456789"
_OTHER = " _-./:=,;ABCXYZ\"'()[]{}<>|\\\t\n!?*+%&#@~^$`"
_FEW = 3
"""Repeats beyond the least of them."""
_CATEGORIES: dict[str, Callable[[str], bool]] = {
    "CATEGORY_DIGIT": str.isdigit,
    "CATEGORY_NOT_DIGIT": lambda char: not char.isdigit(),
    "CATEGORY_SPACE": str.isspace,
    "CATEGORY_NOT_SPACE": lambda char: not char.isspace(),
    "CATEGORY_WORD": lambda char: char.isalnum() or char == "_",
    "CATEGORY_NOT_WORD": lambda char: not (char.isalnum() or char == "_"),
}

Optional = Callable[[int], bool]
"""Whether the optional part of a number is there; they are numbered as they stand."""


class Walk:
    """One walk: what groups shall hold, and what they got.

    at_least: how often is repeated what may be, where its counts allow that.
    """

    def __init__(
        self,
        rng: random.Random,
        given: Mapping[str, str],
        there: Optional,
        names: Mapping[int, str],
        at_least: int = 0,
    ) -> None:
        self.rng, self.given, self.there, self.names, self.at_least = rng, given, there, names, at_least
        self.groups: dict[str, str] = {}
        self.numbered: dict[int, str] = {}

    def sequence(self, tree: Any) -> str:
        return "".join(self.one(str(operation), value) for operation, value in tree)

    def one(self, operation: str, value: Any) -> str:
        match operation:
            case "LITERAL":
                return chr(value)
            case "NOT_LITERAL":
                return self.rng.choice([char for char in _PLAIN if ord(char) != value])
            case "ANY":
                return self.rng.choice(_PLAIN)
            case "IN":
                return self.rng.choice(_class(tuple((str(kind), item) for kind, item in value)))
            case "BRANCH":
                return self.sequence(self.rng.choice(value[1]))
            case "SUBPATTERN":
                return self.group(value[0], value[3])
            case "ATOMIC_GROUP":
                return self.sequence(value)
            case "GROUPREF":
                return self.numbered.get(value, "")
            case "MAX_REPEAT" | "MIN_REPEAT" | "POSSESSIVE_REPEAT":
                return self.repeat(*value)
        return ""  # anchors and looks around read nothing

    def group(self, number: int | None, inner: Any) -> str:
        name = self.names.get(number or 0, "")
        text = self.given[name] if name in self.given else self.sequence(inner)
        if number is not None:
            self.numbered[number] = text
        if name:
            self.groups[name] = text
        return text

    def repeat(self, least: int, most: Any, inner: Any) -> str:
        if least == 0 and most == 1:
            return self.sequence(inner) if self.there(_number(inner)) else ""
        if least == 0 and str(inner[0][0]) == "IN" and _is_blank(inner[0][1]):
            return ""  # blanks that nobody needs
        if least == 1 and str(inner[0][0]) == "IN" and _is_blank(inner[0][1]):
            return " "
        few = min(int(most), max(least + _FEW, self.at_least))
        fewest = min(few, max(least, 1, self.at_least))
        return "".join(self.sequence(inner) for _ in range(self.rng.randint(fewest, few)))


def _number(inner: Any) -> int:
    return id(inner)


def _is_blank(items: Any) -> bool:
    return all(str(kind) == "LITERAL" and chr(item).isspace() for kind, item in items)


@functools.lru_cache(maxsize=2048)
def _class(items: tuple[tuple[str, Any], ...]) -> str:
    """The characters of a class that are tried, the plain ones where it has any."""
    negated = any(kind == "NEGATE" for kind, _ in items)

    def within(char: str) -> bool:
        code = ord(char)
        for kind, item in items:
            if kind == "LITERAL" and code == item:
                return True
            if kind == "RANGE" and item[0] <= code <= item[1]:
                return True
            if kind == "CATEGORY" and _CATEGORIES.get(str(item), str.isprintable)(char):
                return True
        return False

    for chars in (_PLAIN, _PLAIN.upper(), _OTHER, "".join(map(chr, range(1, 0x250)))):
        if found := "".join(char for char in chars if within(char) != negated):
            return found
    literal = next((item if kind == "LITERAL" else item[0] for kind, item in items if kind in ("LITERAL", "RANGE")), 97)
    return chr(literal)


@functools.lru_cache(maxsize=2048)
def _tree(regex: str) -> tuple[Any, dict[int, str]]:
    tree = tree_of(translated(regex))
    return tree, {number: name for name, number in tree.state.groupdict.items()}


def optional_parts(regex: str) -> list[int]:
    """The optional parts of a regex in order, by what `there` is asked for."""
    found: list[int] = []

    def look(items: Any) -> None:
        for operation, value in items:
            match str(operation):
                case "MAX_REPEAT" | "MIN_REPEAT" | "POSSESSIVE_REPEAT":
                    if value[0] == 0 and value[1] == 1:
                        found.append(_number(value[2]))
                    look(value[2])
                case "SUBPATTERN":
                    look(value[3])
                case "ATOMIC_GROUP":
                    look(value)
                case "BRANCH":
                    for inner in value[1]:
                        look(inner)

    look(_tree(regex)[0])
    return found


@functools.lru_cache(maxsize=2048)
def _of_group(regex: str, name: str) -> re.Pattern[str] | None:
    """What a group of a regex may hold, by itself."""
    tree, names = _tree(regex)
    found: list[Any] = []

    def look(items: Any) -> None:
        for operation, value in items:
            match str(operation):
                case "SUBPATTERN":
                    if names.get(value[0]) == name:
                        found.append(value[3])
                    look(value[3])
                case "MAX_REPEAT" | "MIN_REPEAT" | "POSSESSIVE_REPEAT":
                    look(value[2])
                case "ATOMIC_GROUP":
                    look(value)
                case "BRANCH":
                    for inner in value[1]:
                        look(inner)

    look(tree)
    return _compiler.compile(found[0]) if found else None


def may_hold(regex: str, name: str, text: str) -> bool:
    """Whether a group of a regex, looked at by itself, may hold a text."""
    pattern = _of_group(regex, name)
    return pattern is None or pattern.fullmatch(text) is not None


def walked(
    regex: str, rng: random.Random, given: Mapping[str, str] | None = None, there: Optional = lambda _: True
) -> tuple[str, dict[str, str]] | None:
    """A text that a regex may match, and what its named groups hold; none where it cannot be walked.

    given: what groups shall hold. Looks around and anchors are not heeded: see whether it matches.
    """
    try:
        tree, names = _tree(regex)
        walk = Walk(rng, given or {}, there, names)
        return walk.sequence(tree), walk.groups
    except (re.error, RecursionError, IndexError, OverflowError):
        return None


def text_of(regex: str, rng: random.Random) -> str | None:
    """A text that a regex may match."""
    found = walked(regex, rng)
    return found[0] if found is not None else None
