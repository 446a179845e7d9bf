"""Regexes as tables that read a text byte by byte, once, and know where its groups are.

A state is an ordered list of threads, each a place in the regex with the registers in which the edges of its groups
stand; the first thread that ends with the text is what the linear-time engine would find (tagged automata with
registers: Laurikari 2000; threads in the order of preference: Thompson 1968, Pike). States that differ in the names of
their registers only are one. The tables are filled as texts need them: a log visits few of the states that there are.

Texts are ASCII: what a regex says beyond it is not in the tables. A regex has to begin with `^` and end with `$`.
"""

from __future__ import annotations

import re
import threading
from collections.abc import Sequence
from typing import Any, NamedTuple

from kinglet.regex.syntax_tree import tree_of

MOST_NODES = 8000
MOST_STATES = 2000
MOST_REGISTERS = 120
MOST_THREADS = 60
MOST_CHANGES = 8000
_ASCII = 128
_ALL = (1 << _ASCII) - 1
_ONE_BYTE = ("LITERAL", "NOT_LITERAL", "IN", "ANY")
_LISTED = 256
_UNSET, _HERE = -1, -2
"""Instead of a register: the edge of a group that took no part, and one that is where the text has come to."""
_CATEGORIES = {
    "CATEGORY_DIGIT": b"0123456789",
    "CATEGORY_SPACE": b"\t\n\v\f\r ",
    "CATEGORY_WORD": b"0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZ_abcdefghijklmnopqrstuvwxyz",
}


UNKNOWN, DEAD, FIRST = 0, 1, 2
"""States: what is not known yet where a move leads to, of texts that cannot match any more, and the first."""


class Tables(NamedTuple):
    """A regex as numbers, as far as it is known.

    classes: of each byte of ASCII its class. moves: of each state, a row, and each class the place of the first number
    in the row of the next state, and 2 to the 32 times the code of what is done to registers on the way. Codes: 0
    nothing, up to 255 that the register below it is where the text has come to, from 256 on a number of changes.
    changes: the pairs of these, register and source (-2: the place after the byte); change_ends: where those of each
    number end. final: of each state the number of the row of finals, from 1, that tells where the groups are if the
    text ends there, 0 where it may not. finals: start and end of each group: a register, -1 for none, -2 for the end of
    the text.
    """

    classes: Any
    moves: Any
    changes: Any
    change_ends: Any
    final: Any
    finals: Any


class UnsuitableError(Exception):
    """A regex says what no table can, or needs too large a one."""


class _Graph:
    """The places of a regex, each with what leads on from it."""

    def __init__(self, regex: str, groups: Sequence[str]) -> None:
        tree = tree_of(regex)
        named = tree.state.groupdict
        self.tags = {named[name]: 2 * i for i, name in enumerate(groups) if name in named}
        self.nodes: list[tuple[Any, ...]] = []
        items = list(tree)
        if not items or str(items[0][0]) != "AT" or str(items[0][1]) not in ("AT_BEGINNING", "AT_BEGINNING_STRING"):
            raise UnsuitableError
        self.flags = tree.state.flags
        if self.flags & re.MULTILINE:
            raise UnsuitableError
        self.start = self._sequence(items[1:], self._add("accept"), self.flags)

    def _add(self, *node: Any) -> int:
        if len(self.nodes) >= MOST_NODES:
            raise UnsuitableError
        self.nodes.append(node)
        return len(self.nodes) - 1

    def _sequence(self, items: Any, behind: int, flags: int) -> int:
        for operation, value in reversed(list(items)):
            behind = self._item(str(operation), value, behind, flags)
        return behind

    def _item(self, operation: str, value: Any, behind: int, flags: int) -> int:
        match operation:
            case _ if operation in _ONE_BYTE:
                return self._add("byte", _bytes_of(operation, value, flags), behind)
            case "AT" if str(value) == "AT_END":
                return self._add("end", behind)
            case "BRANCH":
                return self._add("split", tuple(self._sequence(inner, behind, flags) for inner in value[1]))
            case "SUBPATTERN":
                number, on, off, inner = value
                if on & re.MULTILINE:
                    raise UnsuitableError
                tag = self.tags.get(number)
                if tag is None:
                    return self._sequence(inner, behind, (flags | on) & ~off)
                ended = self._add("tag", tag + 1, behind)
                return self._add("tag", tag, self._sequence(inner, ended, (flags | on) & ~off))
            case "MAX_REPEAT" | "MIN_REPEAT":
                return self._repeat(value, behind, flags, operation == "MIN_REPEAT")
        raise UnsuitableError

    def _repeat(self, value: Any, behind: int, flags: int, lazy: bool) -> int:
        least, most, inner = value

        def choice(one: int, other: int) -> tuple[int, ...]:
            return (other, one) if lazy else (one, other)

        if str(most) == "MAXREPEAT":
            loop = self._add("split", ())
            self.nodes[loop] = ("split", choice(self._sequence(inner, loop, flags), behind))
            entry = loop
            # `x+` goes round by its own copy, so that no place is there twice
            if least and [str(item[0]) for item in inner] in ([one] for one in _ONE_BYTE):
                least -= 1
                entry = self.nodes[loop][1][1 if lazy else 0]
        else:
            entry = behind
            for _ in range(most - least):
                entry = self._add("split", choice(self._sequence(inner, entry, flags), behind))
        for _ in range(least):
            entry = self._sequence(inner, entry, flags)
        return entry


def _bytes_of(operation: str, value: Any, flags: int) -> int:
    """The bytes of ASCII that an item matches, a bit each."""
    if operation == "ANY":
        return _ALL if flags & re.DOTALL else _ALL & ~(1 << 10)
    negated = operation == "NOT_LITERAL"
    found = 0
    for kind, what in value if operation == "IN" else [("LITERAL", value)]:
        match str(kind):
            case "NEGATE":
                negated = True
            case "LITERAL":
                found |= _range(what, what, flags)
            case "RANGE":
                found |= _range(what[0], what[1], flags)
            case "CATEGORY":
                found |= _category(str(what))
            case _:
                raise UnsuitableError
    if flags & re.IGNORECASE:
        for byte in range(ord("a"), ord("z") + 1):
            either = (1 << byte) | (1 << (byte - 32))
            if found & either:
                found |= either
    return _ALL & ~found if negated else found


def _range(low: int, high: int, flags: int) -> int:
    # there are letters beyond ASCII that are those of ASCII where case does not count
    if flags & re.IGNORECASE and high >= _ASCII:
        raise UnsuitableError
    if low >= _ASCII:
        return 0
    return (1 << (min(high, _ASCII - 1) + 1)) - (1 << low)


def _category(name: str) -> int:
    negated = "_NOT_" in name
    chars = _CATEGORIES.get(name.replace("_NOT_", "_"))
    if chars is None:
        raise UnsuitableError
    found = sum(1 << char for char in chars)
    return _ALL & ~found if negated else found


Edges = tuple[int, ...]
"""Where each edge of a group stands: a register, or one of `_UNSET` and `_HERE`."""


class _State(NamedTuple):
    """Threads in the order of preference, and the edges of the first that may end here, where one may."""

    threads: tuple[tuple[int, Edges], ...]
    final: Edges | None


class Automaton:
    """The tables of a regex; `learn` adds to them, safely while others read.

    begin: the code of what is done to registers before the first byte.

    Raises:
        UnsuitableError: there are none for it.
    """

    def __init__(self, regex: str, groups: Sequence[str]) -> None:
        import numpy as np

        try:
            graph = _Graph(regex, groups)
        except RecursionError:
            raise UnsuitableError from None
        self.nodes = graph.nodes
        self.edges = 2 * len(groups)
        self._lock = threading.Lock()
        self._reached: dict[int, list[tuple[int | None, tuple[int, ...]]]] = {}
        class_of, self.examples = _classes(sorted({node[1] for node in self.nodes if node[0] == "byte"}))
        self.is_full = False
        self.tables = Tables(
            np.array(class_of, np.uint8),
            np.zeros((MOST_STATES, len(self.examples)), np.int64),
            np.zeros((4 * MOST_CHANGES, 2), np.int16),
            np.zeros(MOST_CHANGES, np.int32),
            np.zeros(MOST_STATES, np.int32),
            np.zeros((MOST_STATES, self.edges), np.int16),
        )
        self._changes: dict[tuple[tuple[int, int], ...], int] = {(): 0}
        self._finals: dict[Edges, int] = {}
        self._states: list[_State] = [_State((), None), _State((), None)]
        self._numbers: dict[_State, int] = {self._states[DEAD]: DEAD}
        self.tables.moves[DEAD] = DEAD * len(self.examples)
        first, self.begin = self._named([(graph.start, (_UNSET,) * self.edges)])
        self._number(first)

    def learn(self, state: int, class_: int) -> None:
        """Finds out where a class of bytes leads from a state; where there is no place left, notes that instead."""
        with self._lock:
            if self.is_full or self.tables.moves[state, class_] != UNKNOWN:
                return
            bit = 1 << self.examples[class_]
            going = [
                (self.nodes[node][2], edges) for node, edges in self._states[state].threads if self.nodes[node][1] & bit
            ]
            try:
                new, change = self._named(going)
                # last, as others may read it at once
                self.tables.moves[state, class_] = self._number(new) * len(self.examples) + (change << 32)
            except UnsuitableError:
                self.is_full = True

    def _number(self, state: _State) -> int:
        """The number of a state, which is added where it is new."""
        known = self._numbers.get(state)
        if known is not None:
            return known
        number = len(self._states)
        if number >= MOST_STATES:
            raise UnsuitableError
        if state.final is not None:
            row = self._finals.setdefault(state.final, len(self._finals))
            self.tables.finals[row] = state.final
            self.tables.final[number] = row + 1
        self._states.append(state)
        self._numbers[state] = number
        return number

    def _change(self, moves: tuple[tuple[int, int], ...]) -> int:
        """The code of what is done to registers, which is added where it is new."""
        if len(moves) == 1 and moves[0][1] == _HERE:
            return moves[0][0] + 1
        known = self._changes.get(moves)
        if known is not None:
            return known + _LISTED if known else 0
        number = len(self._changes)
        start = int(self.tables.change_ends[number - 1])
        end = start + len(moves)
        if number >= MOST_CHANGES or end > len(self.tables.changes):
            raise UnsuitableError
        self.tables.changes[start:end] = moves
        self.tables.change_ends[number] = end
        self._changes[moves] = number
        return number + _LISTED

    def _named(self, going: Sequence[tuple[int, Edges]]) -> tuple[_State, int]:
        """The state of threads that have come to some places, and the code of what that does to registers."""
        threads: list[tuple[int, Edges]] = []
        final: Edges | None = None
        seen: set[int] = set()
        for node, edges in going:
            for there, tags in self._reached_from(node):
                if there is None:
                    final = _with(edges, tags) if final is None else final
                elif there not in seen:
                    seen.add(there)
                    threads.append((there, _with(edges, tags)))
        if len(threads) > MOST_THREADS:
            raise UnsuitableError
        names: dict[int, int] = {}
        for _, edges in threads:
            for edge in edges:
                if edge != _UNSET and edge not in names:
                    names[edge] = len(names)
        for edge in final or ():
            if edge >= 0 and edge not in names:
                names[edge] = len(names)
        if len(names) > MOST_REGISTERS:
            raise UnsuitableError
        names_of_threads = names | {_UNSET: _UNSET}
        names_of_final = names_of_threads | {_HERE: _HERE}
        state = _State(
            tuple((node, tuple(names_of_threads[edge] for edge in edges)) for node, edges in threads),
            None if final is None else tuple(names_of_final[edge] for edge in final),
        )
        moves = _in_turn({name: source for source, name in names.items() if source != name}, MOST_REGISTERS)
        return state, self._change(moves)

    def _reached_from(self, start: int) -> list[tuple[int | None, tuple[int, ...]]]:
        """Places that wait for a byte, or None for the end of the text, with the edges on the way there, in order."""
        if start in self._reached:
            return self._reached[start]
        found: list[tuple[int | None, tuple[int, ...]]] = []
        seen: set[tuple[int, bool]] = set()
        stack: list[tuple[int, tuple[int, ...], bool]] = [(start, (), False)]
        while stack:
            node, tags, ended = stack.pop()
            if (node, ended) in seen:
                continue
            seen.add((node, ended))
            kind, *what = self.nodes[node]
            if kind == "byte":
                if not ended:
                    found.append((node, tags))
            elif kind == "split":
                stack += [(branch, tags, ended) for branch in reversed(what[0])]
            elif kind == "tag":
                stack.append((what[1], (*tags, what[0]), ended))
            elif kind == "end":
                stack.append((what[0], tags, True))
            elif ended:
                found.append((None, tags))
            else:
                raise UnsuitableError  # a match that may end before the text does
        self._reached[start] = found
        return found


def _with(edges: Edges, tags: tuple[int, ...]) -> Edges:
    """Edges of which some are where the text has come to."""
    if not tags:
        return edges
    changed = list(edges)
    for tag in tags:
        changed[tag] = _HERE
    return tuple(changed)


def _classes(masks: Sequence[int]) -> tuple[list[int], list[int]]:
    """Of each byte its class, that of bytes which nothing tells apart; and a byte of each."""
    numbers: dict[tuple[bool, ...], int] = {}
    examples: list[int] = []
    class_of = []
    for byte in range(_ASCII):
        key = tuple(bool(mask >> byte & 1) for mask in masks)
        if key not in numbers:
            numbers[key] = len(numbers)
            examples.append(byte)
        class_of.append(numbers[key])
    return class_of, examples


def _in_turn(moves: dict[int, int], spare: int) -> tuple[tuple[int, int], ...]:
    """Moves to registers from others, all meant at once, as moves one after another; spare: a register none has."""
    left = dict(moves)
    ordered: list[tuple[int, int]] = []
    while left:
        free = [to for to in left if to not in left.values()]
        if free:
            for to in free:
                ordered.append((to, left.pop(to)))
            continue
        # only circles are left: one value is set aside
        to = next(iter(left))
        ordered.append((spare, to))
        left = {one: spare if other == to else other for one, other in left.items()}
    return tuple(ordered)
