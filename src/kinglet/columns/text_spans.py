"""Spans of a buffer as a text column laid over it, without copying a byte."""

from __future__ import annotations

from typing import Any

import nanoarrow
import polars as pl

from kinglet.kernels.compiled import kernel

POSITION = pl.Int64()
_LARGE = 2**18
_BYTES_AN_EVENT = 200  # speed


def codes(data: bytes) -> pl.Series:
    """The bytes of a buffer as a column of numbers."""
    return pl.Series(nanoarrow.c_array_from_buffers(nanoarrow.uint8(), len(data), [None, data]))


def found(data: bytes, byte: int) -> pl.Series:
    """The positions of a byte."""
    run = kernel("positions", len(data) // _BYTES_AN_EVENT)
    if len(data) < _LARGE and run is None:
        return where(codes(data) == byte)
    import numpy as np  # which is quicker here, but takes longer to import than a small log to read

    values = np.frombuffer(data, np.uint8)
    room = len(data) // 64 + 64
    while run is not None:
        places = np.empty(room, np.int64)
        given = np.array([values.ctypes.data, len(data), byte, places.ctypes.data, room], np.int64)
        count = run(given.ctypes.data)
        if count >= 0:
            return pl.Series(places[:count])
        room *= 4
    return pl.Series(np.flatnonzero(values == byte))


def where(mask: pl.Series) -> pl.Series:
    """The positions at which a mask holds."""
    if len(mask) < _LARGE:
        return mask.arg_true().cast(POSITION)
    import numpy as np

    return pl.Series(np.flatnonzero(mask.to_numpy()))


def at(position: int) -> pl.Series:
    """A column of one position."""
    return pl.Series([position], dtype=POSITION)


def character_start(data: bytes, position: int) -> int:
    """The start of the UTF-8 character that a byte belongs to (RFC 3629, section 3)."""
    for back in range(position, max(position - 4, -1), -1):
        if data[back] & 0xC0 != 0x80:
            return back
    return position


def as_text(data: bytes, starts: pl.Series, ends: pl.Series) -> tuple[pl.Series, pl.Series | None]:
    """The spans of a buffer as text, and which of them had bytes that are not UTF-8.

    Such bytes become U+FFFD. Spans rise, do not overlap and split no character.
    """
    if not data.isascii():  # which is known many times quicker than that it is UTF-8
        try:
            data.decode("utf-8")
        except UnicodeDecodeError:
            return decoded(data, starts, ends, "utf-8")
    if not len(starts):
        return pl.Series([], dtype=pl.String), None
    # One string for each span and one for each gap, of which every second is dropped: the
    # format wants offsets without holes between the strings.
    strings = nanoarrow.c_array_from_buffers(
        nanoarrow.large_string(), 2 * len(starts) - 1, [None, _interleaved(starts, ends), data]
    )
    return pl.Series(strings).gather_every(2), None


def _interleaved(starts: pl.Series, ends: pl.Series) -> Any:
    """A start, its end, the next start and so on, as a buffer."""
    if len(starts) < _LARGE // 100:
        offsets = pl.concat([starts, ends], rechunk=True).sort()
        return next(iter(nanoarrow.c_array_stream(offsets))).view().buffer(1)
    import numpy as np

    pairs = np.empty(2 * len(starts), np.int64)
    pairs[::2], pairs[1::2] = starts.to_numpy(), ends.to_numpy()
    return pairs


def bytes_as_text(data: bytes, starts: pl.Series, ends: pl.Series, encoding: str) -> tuple[pl.Series, pl.Series | None]:
    """The same for spans that were counted off in bytes, in any encoding."""
    if encoding != "utf-8":
        return decoded(data, starts, ends, encoding)
    edges = pl.concat([starts, ends])
    inside = edges.filter(edges < len(data))
    # a span that was counted in bytes may begin or end within a character, which the column engine would refuse
    if len(inside) and ((codes(data).gather(inside) & 0xC0) == 0x80).any():
        return decoded(data, starts, ends, encoding)
    return as_text(data, starts, ends)


def decoded(data: bytes, starts: pl.Series, ends: pl.Series, encoding: str) -> tuple[pl.Series, pl.Series]:
    """The same, span by span."""
    texts: list[str] = []
    bad: list[bool] = []
    for start, end in zip(starts, ends, strict=True):
        span = data[start:end]
        text = span.decode(encoding, "replace")
        texts.append(text)
        # a replacement character may also stand in the log itself, where it is no damage
        bad.append("\ufffd" in text and text.encode(encoding, "replace") != span)
    return pl.Series(texts, dtype=pl.String), pl.Series(bad, dtype=pl.Boolean)
