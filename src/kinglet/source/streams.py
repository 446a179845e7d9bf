"""Files, pipes and devices that are read once, from the start to the end."""

from __future__ import annotations

import os
import select
import stat
from collections.abc import Iterator
from typing import BinaryIO

from kinglet.source.pauses import Chunk, Pause

_SHORT_PAUSE = 0.05


class Stream:
    """What is read of an open file, in chunks; its first bytes may be looked at before."""

    def __init__(self, stream: BinaryIO) -> None:
        self._stream = stream
        self._may_pause = _may_pause(stream)
        self._first = b""
        self._ended = False

    def first(self, size: int) -> bytes:
        """The first bytes, which come again as the first chunk: so many, or those after which nothing comes for now.

        Waits for the first of them.

        Raises:
            OSError: it cannot be read.
        """
        while len(self._first) < size and not self._ended:
            if self._may_pause and self._first and not _has_more(self._stream.fileno(), _SHORT_PAUSE):
                break
            wanted = size - len(self._first)
            some = os.read(self._stream.fileno(), wanted) if self._may_pause else self._stream.read(wanted)
            self._first += some
            self._ended = not some
        return self._first

    def chunks(self, idle: float, most: int) -> Iterator[Chunk]:
        """All of it, in chunks of no more bytes than `most`, with pauses where more may come; closes it in the end.

        Raises:
            OSError: it cannot be read.
        """
        with self._stream:
            yield from (self._first[start : start + most] for start in range(0, len(self._first), most))
            if self._ended:
                return
            if self._may_pause:
                yield from _pipe_chunks(self._stream.fileno(), idle, most)
                return
            while chunk := self._stream.read(most):
                yield chunk


def _has_more(number: int, wait: float | None) -> bool:
    return bool(select.select([number], [], [], wait)[0])


def _may_pause(stream: BinaryIO) -> bool:
    """Whether the stream is a pipe or the like, whose writer may keep us waiting."""
    try:
        mode = os.fstat(stream.fileno()).st_mode
    except (OSError, AttributeError, TypeError):
        return False
    return os.name == "posix" and not stat.S_ISREG(mode)


def _pipe_chunks(number: int, idle: float, most: int) -> Iterator[Chunk]:
    """What a pipe gives: as much as there is, and a pause where there is no more for now."""
    parts: list[bytes] = []
    length = 0
    last_pause: Pause | None = None
    while True:
        wait = _SHORT_PAUSE if parts or last_pause is None else idle if last_pause is Pause.SHORT else None
        if not _has_more(number, wait):
            if parts:
                yield b"".join(parts)
                parts, length = [], 0
            last_pause = Pause.LONG if last_pause is Pause.SHORT else Pause.SHORT
            yield last_pause
            continue
        last_pause = None
        part = os.read(number, most - length)
        parts.append(part)
        length += len(part)
        if not part or length >= most:
            if length:
                yield b"".join(parts)
            parts, length = [], 0
        if not part:
            return
