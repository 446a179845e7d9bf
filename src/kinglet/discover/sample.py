"""What is looked at: all of a log, or parts of a large one."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterator
from typing import NamedTuple

import polars as pl

from kinglet.columns.text_spans import as_text, found
from kinglet.cutting.cutter import has_lone_returns
from kinglet.discover.words import size
from kinglet.source.encodings import HEAD_BYTES, Encoding, from_start, named
from kinglet.source.logs import Source
from kinglet.source.pauses import Pause

WHOLE_BYTES = 16 * 2**20
"""Logs up to this size are looked at whole."""
PART_BYTES = 4 * 2**20
"""Of each part of a larger one: the head, the middle and the tail."""
MOST_BYTES = 256 * 2**20
"""How far a larger one is read that has to be read from the start: from a pipe, or packed."""
MOST_FILES = 60
"""How many of the files of a folder or glob are looked at."""


class Sample(NamedTuple):
    """Text of one or more logs in UTF-8, cut at line ends.

    names: the logs; size: bytes of them, once unpacked, as far as read or known; whole: nothing was
    left out, otherwise `about` says what was looked at. text: line ends are LF, whatever they were;
    unended: logs whose last line has none.
    numbers: for each line of text its number in the log, 0 where it is not known.
    """

    names: list[str]
    files: int
    size: int | None
    packing: str | None
    encoding: Encoding | None
    whole: bool
    about: str
    ends: dict[str, int]
    bad_bytes: int
    text: bytes
    lines: pl.Series
    numbers: pl.Series
    unended: int


class _Part(NamedTuple):
    data: bytes
    at_start: bool
    at_end: bool


def take(sources: list[Source]) -> Sample:
    """The sample of one log, or of several that are looked at as one.

    Raises:
        InputError: a log cannot be read.
    """
    files = len(sources)
    chosen = sources if files <= MOST_FILES else [sources[i * files // MOST_FILES] for i in range(MOST_FILES)]
    budget = WHOLE_BYTES // len(chosen)
    texts: list[bytes] = []
    numbers: list[pl.Series] = []
    ends = {"LF": 0, "CRLF": 0, "CR": 0}
    whole = files == len(chosen)
    total = unended = 0
    bad = 0
    for source in chosen:
        parts, read, complete = _parts(source, budget)
        total += read
        whole = whole and complete
        first = 1
        for part in parts:
            unended += part.at_end and bool(part.data) and not part.data.endswith((b"\n", b"\r"))
            text, part_bad = _as_utf8(part, ends)
            bad += part_bad
            count = text.count(b"\n")
            texts.append(text)
            numbers.append(
                pl.int_range(first, first + count, eager=True)
                if part.at_start
                else pl.Series([0]).new_from_index(0, count)
            )
    joined = b"".join(texts)
    breaks = found(joined, 10)
    starts = pl.concat([pl.Series([0], dtype=pl.Int64), breaks + 1]).head(len(breaks))
    lines, _ = as_text(joined, starts, breaks)
    return Sample(
        [source.name for source in chosen],
        files,
        total,
        chosen[0].packing,
        chosen[0].encoding,
        whole,
        _about(files, len(chosen), whole, total, len(joined)),
        {name: count for name, count in ends.items() if count},
        bad,
        joined,
        lines.alias("line"),
        pl.concat(numbers) if numbers else pl.Series([], dtype=pl.Int64),
        unended,
    )


def _about(files: int, chosen: int, whole: bool, total: int, looked: int) -> str:
    if whole:
        return "all of it" if files == 1 else f"all of {files:,} files"
    if files == 1 and total <= looked:
        return f"what had come of it, {size(looked)}"
    share = f"{size(looked)} of {size(total)}" if total > looked else size(looked)
    return f"{chosen:,} of {files:,} files, {share}" if files > 1 else f"head, middle and tail: {share}"


def _parts(source: Source, budget: int) -> tuple[list[_Part], int, bool]:
    """Parts of a log, its size in bytes as far as it is known, and whether they are all of it."""
    if source.events is not None:
        data = "\n".join(source.events).encode()
        return [_Part(data, True, True)], len(data), True
    length = source.size
    if length is not None and length > budget and source.path is not None:
        with source.path.open("rb") as stream:
            head = stream.read(HEAD_BYTES)
        probe = Source(source.name, source.reference, data=head)
        list(probe.chunks(head_texts=bytes))
        if probe.packing is None:
            return _seek(source, length, budget), length, False
    return _read(source, budget)


def _seek(source: Source, total: int, budget: int) -> list[_Part]:
    """Head, middle and tail of a file that can be read anywhere."""
    assert source.path is not None
    length = min(PART_BYTES, budget // 3) // 4 * 4
    parts: list[_Part] = []
    with source.path.open("rb") as stream:
        for start in (0, (total - length) // 2 // 4 * 4, (total - length) // 4 * 4):
            stream.seek(start)
            parts.append(_Part(stream.read(length + 4), start == 0, start + length + 4 >= total))
    head = parts[0].data[:HEAD_BYTES]
    source.encoding = named(source.given_encoding, head) if source.given_encoding else from_start(head)
    if source.encoding is None:
        probe = Source(source.name, source.reference, data=b"".join(part.data for part in parts))
        for _ in probe.chunks():
            pass
        source.encoding = probe.encoding
    source.identify(head)
    recoded: list[_Part] = []
    for part in parts:
        data = part.data[source.encoding.bom :] if part.at_start and source.encoding else part.data
        if source.encoding is not None and source.encoding.width:
            data = data.decode(source.encoding.name, "replace").encode()
        recoded.append(_Part(data, part.at_start, part.at_end))
    return recoded


def _read(source: Source, budget: int) -> tuple[list[_Part], int, bool]:
    """What is kept of a log that has to be read from the start."""
    head: list[bytes] = []
    tail: deque[bytes] = deque()
    middle = b""
    read = kept = 0
    mark = 2 * budget
    complete = True
    for chunk in _text_chunks(source):
        read += len(chunk)
        if complete and read <= budget:
            head.append(chunk)
            continue
        complete = False
        if read >= mark:  # the middle of what may follow
            middle, mark = chunk, 2 * mark
        tail.append(chunk)
        kept += len(chunk)
        while kept - len(tail[0]) > PART_BYTES:
            kept -= len(tail.popleft())
        if read > MOST_BYTES:
            break
    if complete:
        return [_Part(b"".join(head), True, True)], read, not source.cut_off
    first = (b"".join(head) or tail[0])[:PART_BYTES]
    parts = [
        _Part(first, True, False),
        _Part(middle[:PART_BYTES], False, False),
        _Part(b"".join(tail)[-PART_BYTES:], False, read <= MOST_BYTES),
    ]
    return [part for part in parts if part.data], read, False


def _text_chunks(source: Source) -> Iterator[bytes]:
    """The text of a log; of one that is still being written, until it pauses for long."""
    has_text = False
    for chunk in source.chunks():
        if not isinstance(chunk, Pause):
            has_text = True
            yield chunk
        elif chunk is Pause.LONG and has_text:
            source.cut_off = True
            return


def _as_utf8(part: _Part, ends: dict[str, int]) -> tuple[bytes, int]:
    """The whole lines of a part, with LF at their ends and U+FFFD for what cannot be read, and how much of that."""
    data = part.data
    alone = has_lone_returns(data[:HEAD_BYTES])
    end = b"\r" if alone else b"\n"
    if not part.at_start:
        data = data[data.find(end) + 1 :] if end in data else b""
    if not part.at_end and end in data:  # a single line without an end is kept as far as it goes
        data = data[: data.rfind(end) + 1]
    bad = 0
    if not data.isascii():
        try:
            data.decode()
        except UnicodeDecodeError:
            data = data.decode("utf-8", "replace").encode()
        bad = data.count("\ufffd".encode())
    both = data.count(b"\r\n")
    ends["CRLF"] += both
    ends["LF"] += data.count(b"\n") - both
    returns = data.count(b"\r") - both
    ends["CR"] += returns
    data = data.replace(b"\r\n", b"\n")
    if alone:
        data = data.replace(b"\r", b"\n")
    if data and not data.endswith(b"\n"):
        data += b"\n"
    return data, bad
