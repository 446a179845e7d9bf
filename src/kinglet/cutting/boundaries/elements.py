"""Events that are XML elements of one name; comments, CDATA and attribute values are respected (XML 1.0)."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from typing import Any, ClassVar, NamedTuple

import polars as pl

from kinglet.columns.text_spans import POSITION
from kinglet.cutting.boundaries.base import Boundary, Buffer, FoundEvents, with_open, without
from kinglet.cutting.boundaries.strays import FAULT, open_stray, unsettled_line, with_strays
from kinglet.cutting.rule import CutRule
from kinglet.kernels.compiled import kernel

_VALUES = rb"(?:[^<>\"']|\"[^\"]*\"|'[^']*')*?"
_TAG = re.compile(rb"<[!/]?[A-Za-z_:]" + _VALUES + rb">|\xef\xbb\xbf", re.DOTALL)
_ASIDE = re.compile(rb"<(?:!--|!\[CDATA\[|\?)")
_ENDS = {b"<!--": b"-->", b"<![CDATA[": b"]]>", b"<?": b"?>"}
_OPEN_VALUE = rb"(?:\"[^\"]*|'[^']*)?\Z"
_MARK = re.compile(
    b"(?P<aside>%b)|%b|(?P<unfinished><(?:[!/]?[A-Za-z_:]%b|!-?|!\\[\\w*|/)?%b)"
    % (_ASIDE.pattern, _TAG.pattern, _VALUES, _OPEN_VALUE),
    re.DOTALL,
)
_NOT_END = re.compile(rb"[^\r\n]")
_BLANKS = b" \t\r\n"
_PLAIN_NAME = re.compile(rb"[A-Za-z0-9_.:-]+")
_TAIL = 256
_BYTES_AN_EVENT = 1000  # speed


class _Line(NamedTuple):
    """What of a line stands before a place: blanks at its start, characters in all."""

    indent: int
    length: int

    @property
    def room(self) -> int:
        """How far in a line may begin that is no part of what stands there."""
        return self.indent + (self.length if self.length > self.indent else 0)


class Elements(Boundary):
    """Elements of one name, with or without a namespace prefix. What is around them is no event.

    An element within another of its name belongs to that; but one that begins a line, and stands no further in than
    the line on which the other began, shows that the end of the other is missing (`cut-off`). So does an end without a
    beginning. Text between records that is no markup is an event of its own (`stray-text`).
    """

    kept: ClassVar[Mapping[str, Any]] = {
        "within": bool, "stray": bool, "depth": int, "at_end": bool, "room": int, "line": _Line, "line_before": _Line,
    }  # fmt: skip

    def __init__(self, name: str, max_bytes: int) -> None:
        tag = (b"" if ":" in name else rb"(?:[A-Za-z_][\w.-]*:)?") + re.escape(name.encode())
        self.max_bytes = max_bytes
        self._name = name.encode()
        self._token = re.compile(
            rb"(?P<aside><(?:!--|!\[CDATA\[))|<(?:(?P<close>/)"
            + tag + rb"\s*>|(?P<open>" + tag + rb")(?=[\s/>])" + _VALUES + rb"(?P<alone>/)?>)"
            + rb"|(?P<unfinished><" + tag + rb"\s" + _VALUES + _OPEN_VALUE + rb")",
            re.DOTALL,
        )  # fmt: skip
        self.within = False  # an element of which a piece has been given out
        self.stray = False  # what is under way is no element
        self.depth = 0  # elements of the name that are open within the one under way
        self.at_end = False  # whether one was under way where the log ended
        self.room = 0  # that of the element under way: see `find`
        self.line = self.line_before = _NOTHING  # of the line in which the buffer begins, and the one before it did

    def find(self, buffer: Buffer) -> FoundEvents:
        data, size = buffer.data, len(buffer.data)
        records: list[tuple[int, int, bool]] = []
        start = 0 if self.within else None
        room = self.room if self.within else None  # how far in an element may stand that ends the one under way
        depth = self.depth if self.within else 0
        self.within = False
        known = size
        for match in self._tokens(buffer):
            if isinstance(match, int):
                known = match
                break
            if match["open"] and start is not None:
                inner = _indent(data, start, match.start())
                if inner is not None and room is None:
                    room = _behind(self.line, data, start).room
                # deeper in than the line on which the other began, or on that line: it is part of the other
                if inner is None or room is None or inner > room:
                    depth += not match["alone"]
                    continue
            if match["open"]:
                if start is not None:
                    records.append((start, without(data, start, match.start(), _BLANKS), True))
                start, depth, room = match.start(), 0, None
            if match["close"] and depth:
                depth -= 1
            elif match["close"] and start is None:  # the end of what never began
                records.append((match.start(), match.end(), True))
            elif match["alone"] or match["close"]:
                assert start is not None
                records.append((start, match.end(), False))
                start = None
        self.depth, self.at_end = depth, start is not None
        if start is not None:
            self.room = room if room is not None else _behind(self.line, data, start).room
        if start is not None and buffer.final:
            records.append((start, without(data, start, size, _BLANKS), True))
            start = None
        schema = {"start": POSITION, "end": POSITION, "cut-off": pl.Boolean()}
        spans = pl.DataFrame(records, schema=schema, orient="row")
        sure = size - _TAIL
        if start is not None:
            known = start
        elif not buffer.final:
            known, unsure = self._settled(data, records[-1][1] if records else 0, known)
            sure = min(sure, unsure)
        spans = with_strays(data, spans, known, self._masked, " \t\r\n", continued=buffer.continued)
        self.stray = start is None
        sure = max(known, sure)
        if self.stray and not buffer.final:
            known, last = open_stray(data, known, sure, self._masked, continued=buffer.continued)
        else:
            last = without(data, known, sure, _BLANKS)
        self.line_before, self.line = self.line, _behind(self.line, data, known)
        if buffer.final:
            return FoundEvents(spans, False, size)
        return FoundEvents(with_open(spans, known, last, *([FAULT] if self.stray else [])), True, known)

    def advance(self, data: bytes, to: int) -> None:
        self.within = not self.stray
        self.line = _behind(self.line_before, data, to)

    def restart(self) -> None:
        """An element that was under way goes on."""
        self.within, self.stray = self.at_end, False

    def _tokens(self, buffer: Buffer) -> Iterator[re.Match[bytes] | int]:
        """The tags of records; a position in place of a tag, comment or CDATA section whose end is not there yet.

        One longer than an event may be is taken for text, so that a broken one does not hide all after it.
        """
        data, position = buffer.data, 0
        ends = _Ends(data)
        places = self._places(data)
        while match := self._next(data, position, places):
            position = match.end()
            if match["unfinished"]:
                if not buffer.final and len(data) - match.start() <= self.max_bytes:
                    yield match.start()
                    return
                position = match.start() + 1
                continue
            if match["aside"]:
                end = ends.after(match["aside"], position)
                if end < 0 and not buffer.final and len(data) - match.start() <= self.max_bytes:
                    yield match.start()
                    return
                # a comment that is longer than an event is text that only looks like one
                if 0 <= end <= match.start() + self.max_bytes:
                    position = end
                continue
            yield match

    def _next(self, data: bytes, position: int, places: Iterator[int] | None) -> re.Match[bytes] | None:
        """The next tag, or what may hide one; places: at which alone one may begin, where they are known."""
        if places is None:
            return self._token.search(data, position)
        for place in places:
            match = self._token.match(data, place) if place >= position else None
            if match is not None:
                return match
        return None

    def _places(self, data: bytes) -> Iterator[int] | None:
        """Where tags of the name may begin, by machine code; None where there is none."""
        run = kernel("tags", len(data) // _BYTES_AN_EVENT) if _PLAIN_NAME.fullmatch(self._name) else None
        if run is None:
            return None
        import numpy as np

        name = self._name
        room = len(data) // 256 + 64
        while True:
            found = np.empty(room, np.int64)
            bytes_of = [np.frombuffer(text or b" ", np.uint8) for text in (data, name)]
            addresses = [array.ctypes.data for array in bytes_of]
            given = np.array([addresses[0], len(data), addresses[1], len(name), found.ctypes.data, room], np.int64)
            count = run(given.ctypes.data)
            if count >= 0:
                places: list[int] = found[:count].tolist()
                return iter(places)
            room *= 4

    def _settled(self, data: bytes, done: int, known: int) -> tuple[int, int]:
        """Up to where lines behind the last record have ended, and where what is not sure yet begins."""
        unsure = known
        spans = []
        for start, end in self._markup(data[done:known]):
            if end < 0:
                unsure = done + start
                break
            spans.append((done + start, done + end))
        line = unsettled_line(data, done, unsure)
        return next((end for start, end in spans if start < line < end), line), unsure

    def _markup(self, text: bytes) -> Iterator[tuple[int, int]]:
        """Start and end of each piece of markup; the end is -1 where it has not come."""
        ends, position = _Ends(text), 0
        while match := _MARK.search(text, position):
            start, end, position = match.start(), match.end(), match.end()
            if match["aside"]:
                end = ends.after(match["aside"], position)
            elif match["unfinished"]:
                end, position = -1, start + 1
            if (len(text) if end < 0 else end) <= start + self.max_bytes:  # otherwise it is taken for text
                position = max(position, end)
                yield start, end

    def _masked(self, gap: bytes, start: int) -> bytes:
        """A gap with blanks in place of markup."""
        parts: list[bytes] = []
        position = 0
        for first, last in self._markup(gap):
            if last >= 0:  # markup without an end is text
                parts += [gap[position:first], _NOT_END.sub(b" ", gap[first:last])]
                position = last
        return b"".join([*parts, gap[position:]])


class _Ends:
    """Where comments and the like end; what has no end is looked for once only."""

    def __init__(self, data: bytes) -> None:
        self.data = data
        self.none_behind: dict[bytes, int] = {}

    def after(self, opening: bytes, position: int) -> int:
        """The position behind the end of what opens so, or -1."""
        if position >= self.none_behind.get(opening, len(self.data) + 1):
            return -1
        found = self.data.find(_ENDS[opening], position)
        if found < 0:
            self.none_behind[opening] = position
            return -1
        return found + len(_ENDS[opening])


_NOTHING = _Line(0, 0)


def _behind(before: _Line, data: bytes, to: int) -> _Line:
    """The same for a place in a buffer; before: of the line in which the buffer begins."""
    line = data.rfind(b"\n", 0, to) + 1
    text = data[line:to]
    indent = len(text) - len(text.lstrip())
    if line:
        return _Line(indent, len(text))
    blank = before.length == before.indent
    return _Line(before.indent + (indent if blank else 0), before.length + len(text))


def _indent(data: bytes, start: int, inner: int) -> int | None:
    """How far in on its line an element stands within another; None where it does not begin a line."""
    line = inner
    while line > start and data[line - 1] in b" \t\r":
        line -= 1
    if line <= start or data[line - 1] != 10:
        return None
    return inner - line


def by_xml(rule: CutRule) -> Boundary:
    """`xml`."""
    return Elements(str(rule.value), rule.max_bytes)
