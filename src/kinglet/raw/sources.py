"""Where raw logs come from: files, standard input, bytes, or events already cut."""

from __future__ import annotations

import hashlib
import os
import sys
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from kinglet.errors import InputError

CHUNK_BYTES = 4 * 2**20
_SNIFFED = 8192
_COMPRESSED = {
    b"\x1f\x8b": ("gzip", "gzip -dc"),
    b"BZh": ("bzip2", "bzip2 -dc"),
    b"\xfd7zXZ": ("xz", "xz -dc"),
    b"\x28\xb5\x2f\xfd": ("Zstandard", "zstd -dc"),
}
_TEXT_CONTROLS = bytes([*range(8, 14), 27])

Given = str | os.PathLike[str] | bytes | Iterable[str]


@dataclass
class Source:
    """One raw log.

    name is what events say they came from; reference the moment near which its stamps lie (when
    the file was last written, or now); size its bytes where known. events is set instead of
    chunks for a log whose events are cut already.
    """

    name: str
    reference: datetime
    size: int | None = None
    path: Path | None = None
    data: bytes | None = None
    events: list[str] | None = None
    fingerprint: str = ""

    def chunks(self) -> Iterator[bytes]:
        """The bytes in order.

        Raises:
            InputError: the log cannot be opened or read, or is not text.
        """
        for chunk in self._raw_chunks():
            if not self.fingerprint:
                _refuse_binary(chunk[:_SNIFFED], self.name)
                self.identify(chunk)
            yield chunk

    def identify(self, head: bytes) -> None:
        """Sets the fingerprint: of where the log lies and the first line it has.

        With an offset it names an event; the same event at the same place has the same name in
        every run, and a log that a new one has replaced does not lend its names.
        """
        place = str(self.path.resolve()) if self.path else self.name
        first_line = head[:1024].partition(b"\n")[0]
        self.fingerprint = hashlib.blake2b(place.encode() + b"\n" + first_line, digest_size=6).hexdigest()

    def _raw_chunks(self) -> Iterator[bytes]:
        if self.data is not None:
            yield from (self.data[i : i + CHUNK_BYTES] for i in range(0, len(self.data), CHUNK_BYTES))
            return
        try:
            stream = sys.stdin.buffer if self.path is None else self.path.open("rb")
            with stream:
                while chunk := stream.read(CHUNK_BYTES):
                    yield chunk
        except OSError as error:
            raise _unreadable(self.name, error) from None


def open_source(given: Given) -> Source:
    """The source that a path, `-`, bytes, a text of several lines or a list of raw events is.

    Raises:
        InputError: a path at which nothing can be read.
    """
    now = datetime.now(UTC)
    if isinstance(given, bytes | bytearray | memoryview):
        return Source("<bytes>", now, len(given), data=bytes(given))
    if isinstance(given, str) and given == "-":
        return Source("<stdin>", now)
    if isinstance(given, str) and "\n" in given:
        data = given.encode("utf-8", "surrogateescape")
        return Source("<text>", now, len(data), data=data)
    if isinstance(given, str | os.PathLike):
        return _open_path(Path(given))
    events = list(given)
    for i, event in enumerate(events):
        if not isinstance(event, str):
            raise InputError(f"<events>: item {i} is {type(event).__name__}, not text; give raw events as str")
    source = Source("<events>", now, events=events)
    source.identify("\n".join(events[:1]).encode("utf-8", "replace"))
    return source


def _open_path(path: Path) -> Source:
    try:
        status = path.stat()
        if path.is_dir():
            raise IsADirectoryError(21, "Is a directory")
        with path.open("rb"):
            pass
    except OSError as error:
        raise _unreadable(str(path), error) from None
    except ValueError:
        raise InputError(f"{str(path)!r} is not a path") from None
    return Source(str(path), datetime.fromtimestamp(status.st_mtime, UTC), status.st_size, path)


def _unreadable(name: str, error: OSError) -> InputError:
    if isinstance(error, FileNotFoundError):
        return InputError(f"{name}: no such file; check the path")
    if isinstance(error, IsADirectoryError):
        return InputError(f"{name}: is a folder; name the files in it, such as {Path(name) / '*.log'}")
    if isinstance(error, PermissionError):
        return InputError(f"{name}: may not be read; ask for read permission, or copy the file")
    return InputError(f"{name}: cannot be read: {error.strerror}")


def _refuse_binary(head: bytes, name: str) -> None:
    for magic, (kind, command) in _COMPRESSED.items():
        if head.startswith(magic):
            raise InputError(f"{name}: is compressed ({kind}); unpack it first: {command} {name} | kinglet … -")
    if head[:2] in (b"\xff\xfe", b"\xfe\xff"):
        raise InputError(f"{name}: is UTF-16 text; convert it first: iconv -f UTF-16 -t UTF-8 {name}")
    controls = len(head) - len(head.translate(None, bytes(set(range(32)) - set(_TEXT_CONTROLS))))
    if controls > len(head) * 0.02:
        offset = next(i for i, byte in enumerate(head) if byte < 32 and byte not in _TEXT_CONTROLS)
        raise InputError(
            f"{name}: is binary, not text (byte 0x{head[offset]:02x} at offset {offset}); give the log itself"
        )
