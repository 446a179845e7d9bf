"""Regexes as tables that read a text byte by byte, once, and know which matches and where its groups are.

Of several regexes the first that matches counts, as of alternatives. A state is an ordered list of threads, each a
place in a regex with the registers in which the edges of its groups stand; the first thread that ends with the text is
what the linear-time engine would find (tagged automata with registers: Laurikari 2000; threads in the order of
preference: Thompson 1968, Pike). States that differ in the names of their registers only are one. The tables are filled
as texts need them: a log visits few of the states that there are, and few of the regexes.

Texts are not empty. A regex has to begin with `^` and end with `$`. A character beyond ASCII is two to four bytes, and
as many places; which ones it may be is looked up when a text first has its first byte there.
"""

from __future__ import annotations

import re
import threading
from collections.abc import Sequence
from typing import Any, NamedTuple

from kinglet.regex.atoms import atoms
from kinglet.regex.characters import ALL_OF_ASCII, ASCII, FOLLOWING, Characters, UnknownItemError, characters_of
from kinglet.regex.syntax_tree import tree_of

MOST_NODES = 8000
MOST_STATES = 2000
"""Of one regex; others may add a tenth of it each, up to 20 times as many."""
MOST_REGISTERS = 120
MOST_THREADS = 60
MOST_CHANGES = 8000
_ONE_BYTE = ("LITERAL", "NOT_LITERAL", "IN", "ANY")
_LISTED = 256
_UNSET, _HERE, _START, _BYTE = -1, -2, -3, -4
"""Instead of a register: the edge of a group that took no part, one where the text has come to, one where it begins,
one before the byte that is read. Where the text has come to is written down only once a thread goes on from there."""
_ANY_FOLLOWING = (1 << FOLLOWING) - 1


UNKNOWN, DEAD, FIRST = 0, 1, 2
"""States: what is not known yet where a move leads to, of texts that cannot match any more, and the first."""
_OPENING = re.compile(r"\^((?:[A-Za-z0-9 :,_=<>/-](?![*+?{]))*)")
_ANCHORS = ("AT_BEGINNING", "AT_BEGINNING_STRING")


class Tables(NamedTuple):
    """Regexes as numbers, as far as they are known.

    moves: of each state, a row, and each byte of ASCII the place of the first number in the row of the next state, and
    2 to the 32 times the code of what is done to registers on the way. beyond: the same of the other bytes. Codes: 0
    nothing, up to 255 that the register below it is the place of the byte, from 256 on a number of changes. changes:
    the pairs of these, register and source (-4: the place of the byte); change_ends: where those of each number end.
    final: of each state the number of the row of finals, from 1, that holds if the text ends there, 0 where it may not.
    finals: the number of the regex, and start and end of each of its groups: a register, -1 for none, -2 for the end of
    the text, -3 for its start.
    """

    moves: Any
    beyond: Any
    changes: Any
    change_ends: Any
    final: Any
    finals: Any


class UnsuitableError(Exception):
    """A regex says what no table can, or needs too large a one."""


class Alternative(NamedTuple):
    """A regex, and which of its groups are wanted."""

    regex: str
    groups: tuple[str, ...]


class _Graph:
    """The places of regexes, each with what leads on from it.

    A regex is taken apart once a text begins as it does. Places: `byte`, of which of ASCII, what is behind, and which
    other characters; `following`, of which bytes from 0x80 on, and what is behind; `split`, of which others, the best
    first; `tag`, the edge of a group; `end`, of the text; `accept`, of which regex; `later`, the rest of a regex behind
    its opening.
    """

    def __init__(self, alternatives: Sequence[Alternative]) -> None:
        self.alternatives = alternatives
        self.nodes: list[tuple[Any, ...]] = []
        self.most_nodes = MOST_NODES * len(alternatives)
        self._first_bytes: dict[tuple[int, int], int | None] = {}
        for alternative in alternatives:
            if not alternative.regex.startswith(("^", "(?")) or not alternative.regex.endswith(("$", ")")):
                raise UnsuitableError
        self.starts = [self._opening(number) for number in range(len(alternatives))]

    def _add(self, *node: Any) -> int:
        if len(self.nodes) >= self.most_nodes:
            raise UnsuitableError
        self.nodes.append(node)
        return len(self.nodes) - 1

    def _opening(self, number: int) -> int:
        """The start of a regex: its plain first characters as they are, the rest for later."""
        regex = self.alternatives[number].regex
        match = _OPENING.match(regex)
        text = match[1] if match is not None and len(atoms(regex)) > 1 else ""
        place = self._add("later", number, len(text))
        for char in reversed(text):
            place = self._add("byte", 1 << ord(char), place, None)
        return place

    def whole(self, node: int) -> int:
        """The place that a `later` stands for."""
        _, number, opening = self.nodes[node]
        regex, groups = self.alternatives[number]
        tree = tree_of(regex)
        items = list(tree)
        if not items or str(items[0][0]) != "AT" or str(items[0][1]) not in _ANCHORS or tree.state.flags & re.MULTILINE:
            raise UnsuitableError
        self.most_nodes = len(self.nodes) + MOST_NODES
        named = tree.state.groupdict
        self.tags = {named[name]: 2 * i for i, name in enumerate(groups) if name in named}
        place = self._sequence(items[1 + opening :], self._add("accept", number), tree.state.flags)
        self.nodes[node] = ("split", (place,))
        return place

    def _sequence(self, items: Any, behind: int, flags: int) -> int:
        for operation, value in reversed(list(items)):
            behind = self._item(str(operation), value, behind, flags)
        return behind

    def _item(self, operation: str, value: Any, behind: int, flags: int) -> int:
        match operation:
            case _ if operation in _ONE_BYTE:
                try:
                    chars = characters_of(operation, value, flags)
                except UnknownItemError:
                    raise UnsuitableError from None
                return self._add("byte", chars.ascii, behind, chars)
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
            entry = self._add("split", ())
            body = self._sequence(inner, entry, flags)
            self.nodes[entry] = ("split", choice(body, behind))
            # `x+` goes round by its own copy, so that no place is there twice
            if least and [str(item[0]) for item in inner] in ([one] for one in _ONE_BYTE):
                least -= 1
                entry = body
        else:
            entry = behind
            for _ in range(most - least):
                entry = self._add("split", choice(self._sequence(inner, entry, flags), behind))
        for _ in range(least):
            entry = self._sequence(inner, entry, flags)
        return entry

    def after_first(self, place: int, first: int) -> int | None:
        """The place behind the first byte of a character beyond ASCII; None where a `byte` has no such character."""
        if (place, first) not in self._first_bytes:
            _, _, behind, chars = self.nodes[place]
            assert chars is None or isinstance(chars, Characters)
            bits, count = chars.behind(first) if chars is not None else (0, 1)
            self.most_nodes = max(self.most_nodes, len(self.nodes) + MOST_NODES)
            self._first_bytes[place, first] = self._following(bits, count, behind) if bits else None
        return self._first_bytes[place, first]

    def _following(self, bits: int, count: int, behind: int) -> int:
        """The place of the other bytes of some characters, a bit each; count: how many bytes those are."""
        width = FOLLOWING ** (count - 1)
        part = (1 << width) - 1
        masks: dict[int, int] = {}
        for number in range(FOLLOWING):
            rest = bits >> (number * width) & part
            if rest:
                masks[rest] = masks.get(rest, 0) | 1 << number
        places = [
            self._add("following", mask, behind if count == 1 else self._following(rest, count - 1, behind))
            for rest, mask in masks.items()
        ]
        return places[0] if len(places) == 1 else self._add("split", tuple(places))


Edges = tuple[int, ...]
"""Where each edge of a regex's groups stands: a register, or one of what stands instead of it."""
_NO_REGISTER = (_UNSET, _HERE, _START)


class _State(NamedTuple):
    """Threads in the order of preference, and the first that may end here, where one may: its regex, its edges."""

    threads: tuple[tuple[int, Edges], ...]
    final: tuple[int, Edges] | None


class _Reached(NamedTuple):
    """A place that waits for a byte, or None and the regex that may end here, with the edges on the way there."""

    node: int | None
    regex: int
    tags: tuple[int, ...]


class Automaton:
    """The tables of regexes; `learn` adds to them, safely while others read.

    groups: the most that one of the regexes has.

    Raises:
        UnsuitableError: there are none for them.
    """

    def __init__(self, alternatives: Sequence[Alternative]) -> None:
        import numpy as np

        self.graph = _Graph(alternatives)
        self.groups = max(len(alternative.groups) for alternative in alternatives)
        self.is_full = False
        self.most_states = min(MOST_STATES + (len(alternatives) - 1) * MOST_STATES // 10, 20 * MOST_STATES)
        self.tables = Tables(
            np.zeros((self.most_states, ASCII), np.int64),
            np.zeros((self.most_states, ASCII), np.int64),
            np.zeros((4 * MOST_CHANGES, 2), np.int16),
            np.zeros(MOST_CHANGES, np.int32),
            np.zeros(self.most_states, np.int32),
            np.zeros((self.most_states, 1 + 2 * self.groups), np.int16),
        )
        self._lock = threading.Lock()
        self._reached: dict[int, list[_Reached]] = {}
        self._changes: dict[tuple[tuple[int, int], ...], int] = {(): 0}
        self._finals: dict[tuple[int, Edges], int] = {}
        first = [
            (start, (_UNSET,) * (2 * len(alternative.groups)))
            for start, alternative in zip(self.graph.starts, alternatives, strict=True)
        ]
        # what is reached before the first byte is found out once that has come
        self._states: list[_State] = [_State((), None), _State((), None), _State(tuple(first), None)]
        self._numbers: dict[_State, int] = {self._states[DEAD]: DEAD}
        self.tables.moves[DEAD] = self.tables.beyond[DEAD] = DEAD * ASCII

    @property
    def is_useless(self) -> bool:
        """Whether the regexes say what no table can, so that every text is left to others."""
        return self.is_full and len(self._states) == FIRST + 1

    def learn(self, state: int, byte: int) -> None:
        """Finds out where a byte leads from a state; where there is no place left, notes that instead."""
        table = self.tables.moves if byte < ASCII else self.tables.beyond
        with self._lock:
            if self.is_full or table[state, byte % ASCII] != UNKNOWN:
                return
            try:
                going, alike = self._going(state, byte)
                new, code = self._named(going)
                move = self._number(new) * ASCII + (code << 32)
            except (UnsuitableError, RecursionError):
                self.is_full = True
                return
            # last, as others may read it at once
            table[state, _bits(alike)] = move

    def _going(self, state: int, byte: int) -> tuple[list[tuple[int, Edges]], int]:
        """The places to which threads come by a byte, and all bytes of the table of which that is so."""
        going: list[tuple[int, Edges]] = []
        bit = 1 << byte % ASCII
        is_first = byte >= ASCII + FOLLOWING
        wanted = "byte" if byte < ASCII else "following"
        alike = bit if is_first else ALL_OF_ASCII if byte < ASCII else _ANY_FOLLOWING
        nodes = self.graph.nodes
        for node, edges in self._states[state].threads:
            waiting = [(node, edges)]
            if state == FIRST:
                reached = self._reached_from(node)
                waiting = [(one.node, _with(edges, one.tags, _START)) for one in reached if one.node is not None]
            for place, there in waiting:
                kind, mask, behind, *_ = nodes[place]
                if is_first:
                    following = self.graph.after_first(place, byte)
                elif kind == wanted and mask & bit:
                    following = behind
                    alike &= mask
                else:
                    following = None
                    alike &= ~mask
                if following is not None:
                    going.append((following, tuple(_BYTE if edge == _HERE else edge for edge in there)))
        return going, alike

    def _number(self, state: _State) -> int:
        """The number of a state, which is added where it is new."""
        known = self._numbers.get(state)
        if known is not None:
            return known
        number = len(self._states)
        if number >= self.most_states:
            raise UnsuitableError
        if state.final is not None:
            row = self._finals.setdefault(state.final, len(self._finals))
            regex, edges = state.final
            self.tables.finals[row] = (regex, *edges, *[_UNSET] * (2 * self.groups - len(edges)))
            self.tables.final[number] = row + 1
        self._states.append(state)
        self._numbers[state] = number
        return number

    def _change(self, moves: tuple[tuple[int, int], ...]) -> int:
        """The code of what is done to registers, which is added where it is new."""
        if len(moves) == 1 and moves[0][1] == _BYTE:
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
        final: tuple[int, Edges] | None = None
        seen: set[int] = set()
        for node, edges in going:
            for there in self._reached_from(node):
                if there.node is None:
                    final = (there.regex, _with(edges, there.tags, _HERE)) if final is None else final
                elif there.node not in seen:
                    seen.add(there.node)
                    threads.append((there.node, _with(edges, there.tags, _HERE)))
        if len(threads) > MOST_THREADS:
            raise UnsuitableError
        names: dict[int, int] = {}
        for _, edges in threads:
            for edge in edges:
                if edge not in names and edge not in _NO_REGISTER:
                    names[edge] = len(names)
        for edge in final[1] if final is not None else ():
            if edge not in names and edge not in _NO_REGISTER:
                names[edge] = len(names)
        if len(names) > MOST_REGISTERS:
            raise UnsuitableError
        named = names | {edge: edge for edge in _NO_REGISTER}
        state = _State(
            tuple((node, tuple(named[edge] for edge in edges)) for node, edges in threads),
            None if final is None else (final[0], tuple(named[edge] for edge in final[1])),
        )
        moves = _in_turn({name: source for source, name in names.items() if source != name}, MOST_REGISTERS)
        return state, self._change(moves)

    def _reached_from(self, start: int) -> list[_Reached]:
        """What is reached from a place without another byte, in the order of preference."""
        if start in self._reached:
            return self._reached[start]
        found: list[_Reached] = []
        seen: set[tuple[int, bool]] = set()
        stack: list[tuple[int, tuple[int, ...], bool]] = [(start, (), False)]
        while stack:
            node, tags, ended = stack.pop()
            if (node, ended) in seen:
                continue
            seen.add((node, ended))
            kind, *what = self.graph.nodes[node]
            if kind in ("byte", "following"):
                if not ended:
                    found.append(_Reached(node, 0, tags))
            elif kind == "split":
                stack += [(branch, tags, ended) for branch in reversed(what[0])]
            elif kind == "tag":
                stack.append((what[1], (*tags, what[0]), ended))
            elif kind == "end":
                stack.append((what[0], tags, True))
            elif kind == "later":
                stack.append((self.graph.whole(node), tags, ended))
            elif ended:
                found.append(_Reached(None, what[0], tags))
            else:
                raise UnsuitableError  # a match that may end before the text does
        self._reached[start] = found
        return found


def _with(edges: Edges, tags: tuple[int, ...], where: int) -> Edges:
    """Edges of which some are somewhere else."""
    if not tags:
        return edges
    changed = list(edges)
    for tag in tags:
        changed[tag] = where
    return tuple(changed)


def _bits(mask: int) -> list[int]:
    """The numbers of the bits that are set."""
    return [bit for bit in range(ASCII) if mask >> bit & 1]


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
