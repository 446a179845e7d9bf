"""Packed logs, told by their content: gzip, bzip2, xz and Zstandard, unpacked as they are read.

Input goes in by small pieces, so that no step can make more than some tens of MiB of it; a log
that grows beyond all measure is stopped by the limit.
"""

from __future__ import annotations

import contextlib
import zlib
from collections.abc import Callable, Iterator
from typing import Any, NamedTuple, Protocol

from kinglet.errors import InputError
from kinglet.source.pauses import Chunk, Pause

_DAMAGE = ("error", "OSError", "LZMAError", "ZstdError", "ValueError", "EOFError")
LIMIT_BYTES = 2**30
LIMIT_RATIO = 200


class _Unpacker(Protocol):
    @property
    def eof(self) -> bool: ...

    @property
    def unused_data(self) -> bytes: ...

    def decompress(self, data: bytes, /) -> bytes: ...


# What unpacks a format is imported when a log needs it.
def _bzip2() -> _Unpacker:
    import bz2

    return bz2.BZ2Decompressor()


def _xz() -> _Unpacker:
    import lzma

    return lzma.LZMADecompressor()


def _zstd() -> Any:
    import zstandard

    return zstandard.ZstdDecompressor().decompressobj()


class Packing(NamedTuple):
    """A format: the bytes it begins with, what unpacks it, and by what pieces it is fed."""

    name: str
    magic: bytes
    unpacker: Callable[[], _Unpacker]
    piece: int = 1024


PACKINGS = (
    Packing("gzip", b"\x1f\x8b\x08", lambda: zlib.decompressobj(wbits=31), 16 * 1024),  # RFC 1952
    Packing("bzip2", b"BZh", _bzip2),
    Packing("xz", b"\xfd7zXZ\x00", _xz),
    Packing("zstd", b"\x28\xb5\x2f\xfd", _zstd),  # RFC 8878
)
MAGIC_BYTES = max(len(packing.magic) for packing in PACKINGS)


def packing_of(head: bytes) -> Packing | None:
    """The format of packed data that begins like this."""
    return next((packing for packing in PACKINGS if head.startswith(packing.magic)), None)


def _until_damage(unpacker: Any, piece: bytes) -> bytes:
    """What can still be unpacked of a piece that is damaged; of formats that can go back to its start."""
    parts: list[bytes] = []
    with contextlib.suppress(Exception):
        for at in range(len(piece) if unpacker is not None else 0):
            parts.append(unpacker.decompress(piece[at : at + 1]))
    return b"".join(parts)


class Unpacked:
    """The bytes within packed ones.

    In the end `cut_off` says whether the packed data ended too early, and `damage` what is wrong with it from some
    place on; what was unpacked before that is good.
    """

    def __init__(self, packing: Packing, chunks: Iterator[Chunk], name: str, limit: int | None) -> None:
        self.packing, self.chunks, self.name, self.limit = packing, chunks, name, limit
        self.cut_off = False
        self.damage: str | None = None

    def __iter__(self) -> Iterator[Chunk]:
        """
        Raises:
            InputError: nothing can be unpacked, or more than the limit allows.
        """  # fmt: skip
        unpacker = self.packing.unpacker()
        taken = given = 0
        begun = False
        for chunk in self.chunks:
            if isinstance(chunk, Pause):
                yield chunk
                continue
            waiting: list[bytes] = []
            for first in range(0, len(chunk), self.packing.piece):
                piece = chunk[first : first + self.packing.piece]
                taken += len(piece)
                while piece:
                    if unpacker.eof:  # one member has ended; another may follow (RFC 1952, section 2.2)
                        piece = piece.lstrip(b"\0")  # tapes and block devices pad with zeros
                        unpacker, begun = self.packing.unpacker(), False
                        continue
                    before = unpacker.copy() if hasattr(unpacker, "copy") else None
                    try:
                        part = unpacker.decompress(piece)
                    except Exception as error:
                        if type(error).__name__ not in _DAMAGE:
                            raise
                        part = _until_damage(before, piece)
                        given += len(part)
                        waiting.append(part)
                        if not given:
                            raise self._damaged(error) from None
                        what = "is damaged" if begun else "ends, and what follows is none of it"
                        self.damage = f"the {self.packing.name} data {what} after {given:,} unpacked bytes"
                        if any(waiting):
                            yield b"".join(waiting)
                        return
                    begun = True
                    given += len(part)
                    waiting.append(part)
                    piece = unpacker.unused_data if unpacker.eof else b""
                self._check(taken, given)
                if sum(map(len, waiting)) > 2**22:
                    yield b"".join(waiting)
                    waiting = []
            if any(waiting):
                yield b"".join(waiting)
        self.cut_off = begun and not unpacker.eof
        if self.cut_off and not given:
            raise InputError(
                f"{self.name}: the {self.packing.name} data ends before anything of it can be unpacked",
                "fetch it again",
            )

    def _check(self, taken: int, given: int) -> None:
        limit = self.limit if self.limit is not None else max(LIMIT_BYTES, LIMIT_RATIO * taken)
        if given > limit:
            what = (
                f"more than the {limit:,} bytes allowed"
                if self.limit is not None
                else f"over {LIMIT_BYTES // 2**30} GiB, more than {LIMIT_RATIO} times what is packed"
            )
            raise InputError(
                f"{self.name}: unpacks to {what}", "if it is no trap, raise the limit with --max-unpacked-bytes"
            )

    def _damaged(self, error: Exception) -> InputError:
        return InputError(
            f"{self.name}: the {self.packing.name} data is damaged from its start on ({error})", "fetch it again"
        )
