"""Events that are XML elements of one name; comments, CDATA and attribute values are respected (XML 1.0)."""

from __future__ import annotations

import re
from collections.abc import Iterator

import polars as pl

from kinglet.raw.boundaries.base import Buffer, Found, with_open
from kinglet.raw.boundaries.strays import FAULT, unsettled_line, with_strays
from kinglet.raw.text import POSITION

_VALUES = rb"(?:[^<>\"']|\"[^\"]*\"|'[^']*')*?"
_MARKUP = re.compile(
    rb"<!--.*?-->|<!\[CDATA\[.*?\]\]>|<\?.*?\?>|<[!/]?[A-Za-z_:]" + _VALUES + rb">|\xef\xbb\xbf", re.DOTALL
)
_NOT_END = re.compile(rb"[^\r\n]")
_TAIL = 256


class Elements:
    """Elements of one name, with or without a namespace prefix. What is around them is no event.

    Records do not lie within each other: where one begins before the last has ended, that one is
    broken (`cut-off`). Text between records that is no markup is an event of its own (`stray-text`).
    """

    def __init__(self, name: str, max_bytes: int) -> None:
        tag = (b"" if ":" in name else rb"(?:[A-Za-z_][\w.-]*:)?") + re.escape(name.encode())
        self.max_bytes = max_bytes
        self._token = re.compile(
            rb"<(?:!--(?P<comment>.*?-->)?|!\[CDATA\[(?P<cdata>.*?\]\]>)?|(?P<close>/)"
            + tag + rb"\s*>|(?P<open>" + tag + rb")(?=[\s/>])" + _VALUES + rb"(?P<alone>/)?>)",
            re.DOTALL,
        )  # fmt: skip
        self.within = False  # an element of which a piece has been given out
        self.stray = False  # what is under way is no element

    def find(self, buffer: Buffer) -> Found:
        data, size = buffer.data, len(buffer.data)
        records: list[tuple[int, int, bool]] = []
        start = 0 if self.within else None
        self.within = False
        known = size
        for match in self._tokens(buffer):
            if isinstance(match, int):
                known = match
                break
            if match["open"]:
                if start is not None:
                    records.append((start, _stripped(data, start, match.start()), True))
                start = match.start()
            if match["alone"] or (match["close"] and start is not None):
                assert start is not None
                records.append((start, match.end(), False))
                start = None
        if start is not None and buffer.final:
            records.append((start, _stripped(data, start, size), True))
            start = None
        schema = {"start": POSITION, "end": POSITION, "cut-off": pl.Boolean()}
        spans = pl.DataFrame(records, schema=schema, orient="row")
        if start is not None:
            known = start
        elif not buffer.final:
            known = min(known, self._unsure(data, records[-1][1] if records else 0))
        spans = with_strays(data, spans, known, _masked, " \t\r\n")
        self.stray = start is None
        if buffer.final:
            return Found(spans, False, size)
        return Found(with_open(spans, known, size - _TAIL, *([FAULT] if self.stray else [])), True, known)

    def advance(self, data: bytes, to: int) -> None:
        self.within = not self.stray

    def restart(self) -> None:
        self.within = self.stray = False

    def _tokens(self, buffer: Buffer) -> Iterator[re.Match[bytes] | int]:
        """The tags of records; a position in place of a comment or CDATA section whose end is not there yet.

        One longer than an event may be is taken for text, so that a broken one does not hide all after it.
        """
        data, position = buffer.data, 0
        while match := self._token.search(data, position):
            position = match.end()
            if not (match["open"] or match["close"]):
                whole = match["comment"] or match["cdata"]
                if whole is None and not buffer.final and len(data) - match.start() <= self.max_bytes:
                    yield match.start()
                    return
                if whole is not None and len(whole) > self.max_bytes:
                    position = match.start() + 4
                continue
            yield match

    def _unsure(self, data: bytes, done: int) -> int:
        """Where a tag or a line begins whose end is not there yet."""
        last = data.rfind(b"<", done)
        line = unsettled_line(data, done)
        if last < 0 or last >= line or len(data) - last > self.max_bytes or _MARKUP.match(data, last):
            return line
        return last


def _stripped(data: bytes, start: int, end: int) -> int:
    """The end of a span without the blanks and line ends at its end."""
    while end > start and data[end - 1] in b" \t\r\n":
        end -= 1
    return end


def _masked(gap: bytes, start: int) -> bytes:
    """A gap with blanks in place of markup."""
    return _MARKUP.sub(lambda match: _NOT_END.sub(b" ", match[0]), gap)
