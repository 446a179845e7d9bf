"""Events that are JSON values: one after another, the records of an array, or those under a key (RFC 8259).

Brackets are counted in columns. No JSON string holds a line end, so that a quote too many harms
its own line only; and an object that begins a line where records begin starts afresh, so that a
bracket too few harms its own record only.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any, ClassVar, NamedTuple

import numpy as np
import numpy.typing as npt
import polars as pl

from kinglet.cutting.boundaries.base import NO_SPANS, Boundary, Buffer, FoundEvents, with_open, without
from kinglet.cutting.boundaries.strays import FAULT, open_stray, unsettled_line, with_strays
from kinglet.cutting.rule import CutRule
from kinglet.kernels.compiled import kernel

Bytes = npt.NDArray[np.uint8]
Positions = npt.NDArray[np.int64]
Flags = npt.NDArray[np.bool_]

_QUOTE, _ESCAPE, _LINE_FEED, _OPEN_OBJECT, _OPEN_ARRAY = 0x22, 0x5C, 0x0A, 0x7B, 0x5B
_OPENS, _CLOSES = 0x5B, 0x5D  # what is left of brackets of both kinds without the bit that tells them apart
_BEGINNING = re.compile(rb"[\s\x1e]*(?:\xef\xbb\xbf)?[\s\x1e]*(\[)?[\s\x1e]*([^\s\x1e])")
_STRING = re.compile(rb'"(?:[^"\\]|\\.?)*("|\Z)', re.DOTALL)
_CONTINUES = list(b",[:")  # what stands before an object that is part of another value
_BLANKS = list(b" \t\r\n")
_BEHIND = b" \t\r\n,"  # what may stand behind a record that has no end, and is none of it
_TAIL = 4
_BYTES_AN_EVENT = 200  # speed

_NONE: Positions = np.empty(0, np.int64)


class _Brackets(NamedTuple):
    """The brackets of a buffer: position, code, whether they open, depth before and after."""

    at: Positions
    code: Bytes
    opens: Flags
    before: Positions
    after: Positions


class _Records(NamedTuple):
    """Records of a buffer: start, end or -1, and where the next bracket between records is, or -1."""

    starts: Positions
    ends: Positions
    following: Positions


class _Before(NamedTuple):
    """What is known of the bytes before a buffer.

    depth: brackets open. in_string, escaped: whether a string is open, and a backslash stands last. in_records:
    whether the innermost array around is that of the key. had_key: whether the object around has had that. last:
    the last byte that is no blank. indent: the blanks on the line that goes on, -1 where that began with more.
    """

    depth: int = 0
    in_string: bool = False
    escaped: bool = False
    in_records: bool = False
    had_key: bool = False
    last: int = 0
    indent: int = -1


class Objects(Boundary):
    """JSON values as records; in an array or under a key the brackets and commas around them are no events.

    A record whose end is missing has the fault `cut-off`; text between records that is no JSON
    is an event of its own (`stray-text`).
    """

    together = True
    kept: ClassVar[Mapping[str, Any]] = {
        "level": int | None, "behind": _Before, "column": int, "stray": bool, "any_records": bool,
    }  # fmt: skip

    def __init__(self, key: str | None, max_bytes: int) -> None:
        self.key, self.max_bytes = key, max_bytes
        self.level = 2 if key is not None else None  # brackets open around a record
        self.before = self.behind = _Before()  # of this buffer, and of the next one
        self.column = -1  # where on their lines the records of an array begin
        self.stray = False
        self.any_records = False
        self.had_key: list[tuple[int, bool]] = []  # from where on the object around has had the array of the key
        self.regions: list[tuple[int, int]] = []  # where all that is no record is stray: see `_stray_regions`

    def find(self, buffer: Buffer) -> FoundEvents:
        self.before, self.had_key = self.behind, []
        if self.level is None and not self._knows_level(buffer):
            return FoundEvents(NO_SPANS, False, 0)
        assert self.level is not None
        data, size, level = buffer.data, len(buffer.data), self.level
        heads = buffer.heads.to_numpy() if buffer.heads is not None else _NONE
        brackets = self._brackets(data, heads)
        if buffer.heads is None and level and self.column < 0 and self._first_record(data, brackets):
            brackets = self._brackets(data)
        records = self._records(data, brackets, heads)
        self.any_records = self.any_records or len(records.starts) > 0
        start = None
        if not buffer.final and len(records.starts) and records.ends[-1] < 0:
            start = int(records.starts[-1])
            records = _Records(*(column[:-1] for column in records))
        ended = self._ended(data, records)
        done = int(ended["end"][-1]) if ended.height else 0
        known = size if buffer.final else start if start is not None else unsettled_line(data, done, size)
        if level == 2:
            known = self._before_key(data, known, buffer.final)
            known = self._stray_regions(data, brackets, heads, known, buffer.final)
        usual = " \t\r\n,\x1e" + ("[]" if level == 1 else "")
        spans = with_strays(data, ended, known, self._masked, usual, continued=buffer.continued)
        self.stray = start is None
        sure = max(known, size - _TAIL)
        if buffer.final:
            self._settle(data, brackets, known)
            return FoundEvents(spans, False, size)
        if not self.stray:
            self._settle(data, brackets, known)
            return FoundEvents(with_open(spans, known, without(data, known, sure, _BEHIND)), True, known)
        first, last = open_stray(data, known, sure, self._masked, continued=buffer.continued)
        settled = first if level < 2 else known  # what stands before the array of a key tells its name
        self._settle(data, brackets, settled)
        return FoundEvents(with_open(spans, first, last, FAULT), True, settled)

    def advance(self, data: bytes, to: int) -> None:
        self._settle(data, self._brackets(data[:to]), to)
        line = data.rfind(b"\n", 0, to) + 1
        opened = b"" if line or not self.before.in_string else b'"\\' if self.before.escaped else b'"'
        text = opened + data[line:to]
        strings = list(_STRING.finditer(text))
        in_string = bool(strings) and not strings[-1][1]
        escaped = in_string and (len(text) - len(text.rstrip(b"\\"))) % 2 == 1
        self.behind = self.behind._replace(in_string=in_string, escaped=escaped)

    def restart(self) -> None:
        """Brackets stay open, so that the rest of a record is told from the next one."""
        self.stray = False

    def _knows_level(self, buffer: Buffer) -> bool:
        """Whether the log begins with an array of objects is known; sets the level."""
        self.level = level_of(buffer.data)
        if self.level is None and (buffer.final or len(buffer.data) >= self.max_bytes):
            self.level = 0
        return self.level is not None

    def _brackets(self, data: bytes, heads: Positions = _NONE) -> _Brackets:
        """The brackets outside strings; at heads a new log begins."""
        values = np.frombuffer(data, np.uint8)
        found = self._outside_strings_at_once(values)
        at, code = found if found is not None else self._outside_strings(data, values)
        opens = code & 0xDF == _OPENS
        delta = np.where(opens, 1, -1)
        after = self._depths(delta, self._hard(data, values, at, code), np.searchsorted(at, heads))
        return _Brackets(at, code, opens, after - delta, after)

    def _outside_strings_at_once(self, values: Bytes) -> tuple[Positions, Bytes] | None:
        """Places and codes of brackets outside strings, by machine code; None where there is none."""
        run = kernel("json_brackets", len(values) // _BYTES_AN_EVENT)
        if run is None:
            return None
        room = len(values) // 64 + 64
        while True:
            places, codes = np.empty(room, np.int64), np.empty(room, np.uint8)
            given = np.array(
                [values.ctypes.data, len(values), self.before.in_string, self.before.escaped,
                 places.ctypes.data, codes.ctypes.data, room],
                np.int64,
            )  # fmt: skip
            count = run(given.ctypes.data)
            if count >= 0:
                return places[:count], codes[:count]
            room *= 4

    def _outside_strings(self, data: bytes, values: Bytes) -> tuple[Positions, Bytes]:
        """The same with whole columns."""
        low = values & 0xDF  # { and [, } and ] fall together
        tokens = np.flatnonzero(
            (values == _QUOTE) | (low == _OPENS) | (low == _CLOSES) | (values == _LINE_FEED) | (values == _ESCAPE)
        )
        code = values[tokens]
        quote = code == _QUOTE
        if b"\\" in data or self.before.escaped:
            quote &= ~_escaped(tokens, code, self.before.escaped)
        count = np.cumsum(quote) + int(self.before.in_string)
        # quotes are counted from the start of each line, so that one too many harms no other line
        at_line = np.maximum.accumulate(np.where(code == _LINE_FEED, count, 0)) if len(count) else count
        kinds = code & 0xDF
        outside = ((count - at_line) % 2 == 0) & ((kinds == _OPENS) | (kinds == _CLOSES))
        return tokens[outside], code[outside]

    def _hard(self, data: bytes, values: Bytes, at: Positions, code: Bytes) -> Positions:
        """The objects, by their number among the brackets, at which counting starts afresh.

        They begin a line where records begin, and no value goes on with them.
        """
        column = self.column if self.level else 0
        if self.level and column <= 0:
            return _NONE
        begins = at - column
        rows: Positions = np.flatnonzero((code == _OPEN_OBJECT) & (begins > 0))
        rows = rows[values[begins[rows] - 1] == _LINE_FEED]
        indent = self.before.indent
        if indent >= 0 and len(at) and code[0] == _OPEN_OBJECT and indent + at[0] == column:
            rows = np.append(0, rows)  # the line began before the buffer
        if column:
            good = [not data[max(at[i] - column, 0) : at[i]].strip(b" \t") for i in rows]
            return rows.compress(np.array(good, bool))
        before = values[np.maximum(at[rows] - 2, 0)]
        goes_on = np.isin(before, _CONTINUES)
        # only those behind a blank line need a walk back; the others are judged as one column
        blank = np.isin(before, _BLANKS) | (at[rows] < 2)
        for i in np.flatnonzero(blank):
            end = int(at[rows[i]]) - 2
            while end >= 0 and data[end] in b" \t\r\n":
                end -= 1
            goes_on[i] = (data[end] if end >= 0 else self.before.last) in _CONTINUES
        return rows.compress(~goes_on)

    def _depths(self, delta: Positions, hard: Positions, heads: Positions) -> Positions:
        """Depth after each bracket; a closing one too many counts for nothing."""
        total: Positions = np.cumsum(delta) + self.before.depth
        heads = np.unique(heads[heads < len(total)])
        resets = np.union1d(hard, heads)
        if len(resets):
            depths = np.where(np.isin(resets, heads), 0, self.level or 0)
            lengths = np.diff(np.append(resets, len(total)))
            total[resets[0] :] -= np.repeat(total[resets] - delta[resets] - depths, lengths)
        if len(total) and total.min() < 0:
            # below zero each closing bracket too many would lift all that follows by one
            for part in np.split(total, resets):
                if len(part) and part.min() < 0:
                    part -= np.minimum(np.minimum.accumulate(part), 0)
        return total

    def _records(self, data: bytes, brackets: _Brackets, heads: Positions = _NONE) -> _Records:
        """Where records begin and end; the end is -1 where it has not come before the next begins."""
        level = self.level or 0
        begins = brackets.opens & (brackets.before == level)
        ends = ~brackets.opens & (brackets.after == level)
        if self.level == 2:
            inside = self._in_records(data, brackets, heads)
            begins, ends = begins & inside, ends & inside
        rows = np.flatnonzero(begins | ends)
        at, is_begin = brackets.at[rows], begins[rows]
        if self.before.depth > level and (self.before.in_records or level < 2):  # the buffer begins within a record
            at, is_begin = np.append(0, at), np.append(True, is_begin)
        following = np.append(at[1:], -1)
        closed = np.append(~is_begin[1:], False)
        return _Records(at[is_begin], np.where(closed, following + 1, -1)[is_begin], following[is_begin])

    def _ended(self, data: bytes, records: _Records) -> pl.DataFrame:
        """Records with an end each: those that have none end before what follows them."""
        ends = records.ends.copy()
        missing = ends < 0
        for i in np.flatnonzero(missing):
            start, end = int(records.starts[i]), int(records.following[i])
            ends[i] = without(data, start, end if end >= 0 else len(data), _BEHIND)
        spans = pl.DataFrame([pl.Series("start", records.starts), pl.Series("end", ends)])
        return spans.with_columns_seq(pl.Series("cut-off", missing)) if missing.any() else spans

    def _in_records(self, data: bytes, brackets: _Brackets, heads: Positions = _NONE) -> Flags:
        """Which brackets lie in an array under the key, counting its own."""
        assert self.key is not None
        named = re.compile(rb'"' + re.escape(self.key.encode()) + rb'"\s*:\s*\Z')
        rows = np.flatnonzero(brackets.opens & (brackets.before == 1))
        flags = np.full(len(brackets.at), self.before.in_records)
        if len(heads):
            firsts = np.searchsorted(brackets.at, heads)
            rows = np.union1d(rows, firsts[firsts < len(flags)])
        for i, row in enumerate(rows):
            position = int(brackets.at[row])
            # between a key and its array stand a colon and blanks, of which no writer makes many
            before = max(0, position - len(self.key.encode()) - 64)
            flags[row : rows[i + 1] if i + 1 < len(rows) else None] = brackets.code[row] == _OPEN_ARRAY and bool(
                named.search(data, before, position)
            )
        return flags

    def _settle(self, data: bytes, brackets: _Brackets, to: int) -> None:
        """Keeps what has to be known of the bytes before `to`."""
        if not to:
            self.behind = self.before
            return
        depth, in_records, last, indent = (
            self.before.depth, self.before.in_records, self.before.last, self.before.indent,
        )  # fmt: skip
        count = int(np.searchsorted(brackets.at, to))
        if count:
            if self.level == 2:
                in_records = bool(self._in_records(data, brackets)[count - 1])
            depth = int(brackets.after[count - 1])
        if count < len(brackets.at) and brackets.at[count] == to and brackets.opens[count]:
            depth = int(brackets.before[count])  # counting may have started afresh
        had_key = next((had for place, had in reversed(self.had_key) if place < to), self.before.had_key)
        end = to - 1
        while end >= 0 and data[end] in b" \t\r\n":
            end -= 1
        if end >= 0:
            last = data[end]
        line = data.rfind(b"\n", 0, to) + 1
        if data[line:to].strip(b" \t"):
            indent = -1
        elif line or indent >= 0:
            indent = to - line + (0 if line else indent)
        self.behind = _Before(depth, False, False, in_records, had_key, last, indent)

    def _first_record(self, data: bytes, brackets: _Brackets) -> bool:
        """Whether the first record has begun; notes the column on its line at which it does."""
        records = self._records(data, brackets)
        if not len(records.starts):
            return False
        position = int(records.starts[0])
        line = data.rfind(b"\n", 0, position) + 1
        blank = not data[line:position].strip(b" \t") and (line > 0 or self.before.indent >= 0)
        self.column = position - line + (0 if line else self.before.indent) if blank else 0
        return True

    def _before_key(self, data: bytes, known: int, final: bool) -> int:
        """What is known, but for a key whose array has not begun yet, and for a log in which it never does."""
        assert self.key is not None
        if final:
            return known
        if not self.any_records:
            return 0
        ending = re.search(rb'"' + re.escape(self.key.encode()) + rb'"\s*:?\s*\Z', data[:known])
        return ending.start() if ending else known

    def _stray_regions(self, data: bytes, brackets: _Brackets, heads: Positions, known: int, final: bool) -> int:
        """Notes where text is stray that is no record: in arrays of the key, and objects that have no such array.

        Returns what is known, but for an object that may still have the key.
        """
        inside = self._in_records(data, brackets, heads)
        rows = np.flatnonzero((brackets.opens & (brackets.before <= 1)) | (~brackets.opens & (brackets.after <= 1)))
        self.regions = []
        array = 0 if self.before.in_records and self.before.depth >= 2 else None
        had_key = self.before.had_key
        whole = 0 if self.before.depth and not had_key else None  # it is known to have no such array
        for row in rows:
            position = int(brackets.at[row])
            if brackets.opens[row]:
                if brackets.before[row] == 0:
                    whole, had_key = position, False
                elif inside[row]:
                    array, had_key, self.any_records = position + 1, True, True
                self.had_key.append((position, had_key))
            elif brackets.after[row] == 0:
                if whole is not None and not had_key:
                    self.regions.append((whole, position + 1))
                whole = None
            elif array is not None:
                self.regions.append((array, position))
                array = None
        if array is not None:
            self.regions.append((array, len(data)))
        if whole is not None and not had_key:
            if final or len(data) - whole > self.max_bytes:
                self.regions.append((whole, len(data)))
            else:
                known = min(known, whole)
        return known

    def _masked(self, gap: bytes, start: int) -> bytes:
        """A gap with blanks in place of what may stand between records."""
        gap = gap.replace(b"\xef\xbb\xbf", b"   ").translate(_BETWEEN_RECORDS)
        if self.level == 1:
            return gap.translate(_AROUND_ARRAYS)
        if self.level == 2 and self.any_records:  # the object around the array, and what else it says
            blank = bytearray(re.sub(rb"[^\r\n]", b" ", gap))
            for first, last in self.regions:
                one, other = max(first - start, 0), min(last - start, len(gap))
                if one < other:
                    blank[one:other] = gap[one:other]
            return bytes(blank)
        return gap


_BETWEEN_RECORDS = bytes.maketrans(b",\x1e", b"  ")
_AROUND_ARRAYS = bytes.maketrans(b"[]", b"  ")


def level_of(text: bytes) -> int | None:
    """How many brackets are around the records of a log that begins like this; None where it is too short to tell."""
    match = _BEGINNING.match(text)
    return None if match is None else 1 if match[1] and match[2] == b"{" else 0


def _escaped(tokens: Positions, code: Bytes, first_is: bool) -> Flags:
    """Which tokens have an odd number of backslashes directly before them; first_is tells of byte 0."""
    back = code == _ESCAPE
    follows = np.diff(tokens, prepend=-2) == 1
    starts = back & ~(np.append(False, back[:-1]) & follows)
    row = np.arange(len(code))
    length = np.where(back, row - np.maximum.accumulate(np.where(starts, row, 0)) + 1, 0)
    if first_is and len(tokens) and tokens[0] == 0:
        run = int(np.argmin(back)) if not back.all() else len(back)  # backslashes that the one before byte 0 leads
        broken = np.flatnonzero(~follows[1:run]) + 1
        length[: int(broken[0]) if len(broken) else run] += 1
    odd: Flags = (np.append(0, length[:-1]) % 2 == 1) & follows
    if first_is and len(tokens) and tokens[0] == 0:
        odd[0] = True
    return odd


def by_json(rule: CutRule) -> Boundary:
    """`json`."""
    return Objects(str(rule.value) if rule.value is not None else None, rule.max_bytes)
