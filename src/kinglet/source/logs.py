"""Where raw logs come from: files, folders, standard input, bytes, or events already cut."""

from __future__ import annotations

import contextlib
import dataclasses
import errno
import glob
import hashlib
import itertools
import os
import stat
import sys
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING

from kinglet.errors import InputError, UsageError, printable
from kinglet.source import encodings
from kinglet.source.compression import MAGIC_BYTES, Unpacked, packing_of
from kinglet.source.encodings import HEAD_BYTES, Decoded, Encoding
from kinglet.source.pauses import Chunk, Pause
from kinglet.source.streams import Stream

if TYPE_CHECKING:
    import polars as pl

SMALL_BYTES = 64 * 1024  # speed
"""Files of no more are read whole, and once."""
CHUNK_BYTES = 4 * 2**20  # speed
IDLE_SECONDS = 5.0
SAMPLE_BYTES = 48 * 1024
SAMPLE_EVENTS = 400
_MOST_AHEAD = 4 * 2**20
_SHOWN = 60  # characters of a name that is none

Given = str | os.PathLike[str] | bytes | Iterable[str]


@dataclass
class Source:
    """One raw log.

    name is what events say they came from; reference the moment near which its stamps lie (when
    the file was last written, or now); size its bytes where known, as they lie on the disk.
    events is set instead of the bytes for a log whose events are cut already, as a column where they
    are all there; headers then says what names the columns of each. given_encoding and
    max_unpacked_bytes are what the call says. The rest is known once reading has begun: how the log is
    packed, how it is encoded, and in the end whether packed data ended too early.
    """

    name: str
    reference: datetime
    size: int | None = None
    path: Path | None = None
    data: bytes | None = None
    events: Iterable[str] | None = None
    headers: pl.Series | None = None
    given_encoding: str | None = None
    max_unpacked_bytes: int | None = None
    fingerprint: str = ""
    packing: str | None = None
    encoding: Encoding | None = None
    cut_off: bool = False
    damage: str | None = None
    """What is wrong with packed data from some place on; what stands before it is read."""
    may_fail: bool = False
    """Whether the other logs are read where this one cannot be."""
    stream: Stream | None = None
    """What can be read once, where its beginning has been looked at before."""
    held: bytes | None = None
    """All of a small log once it has been read to see what it is, so that it is opened once."""
    plain: bytes | None = None
    """What `plain_text` gave, as long as it is held."""
    header: str | None = None
    """The row that says what the columns of its rows are called, once it has been read."""
    error: str | None = None
    """Why it could not be read, or not to its end, where it may fail."""

    def chunks(
        self,
        encoding: str | None = None,
        *,
        idle: float = IDLE_SECONDS,
        head_texts: Callable[[bytes], bytes] | None = None,
    ) -> Iterator[Chunk]:
        """The text of the log as UTF-8, in order, with pauses where it is still being written.

        encoding: what the parser says, which the call overrides; otherwise it is told by content.
        head_texts: gives the bytes as they are, once unpacked, and says which of the first ones tell the encoding.

        Raises:
            InputError: the log cannot be opened, read or unpacked, or is not text.
        """
        bytes_ = self._unpacked(self._raw_chunks(idle))
        head, bytes_ = _with_head(bytes_, HEAD_BYTES)
        self.identify(head)
        name = self.given_encoding or encoding
        text = head_texts(head) if head_texts is not None else head
        self.encoding = encodings.named(name, text) if name else encodings.from_start(text)
        if head_texts is not None:
            self.encoding = (self.encoding or _encoding_of(text))._replace(bom=0)
            yield from bytes_
            return
        if self.encoding is None:
            encodings.refuse_binary(head, self.name)
        decoded = Decoded(bytes_, self.encoding)
        for chunk in decoded:
            self.encoding = decoded.encoding
            yield chunk
        self.encoding = decoded.encoding

    def plain_text(self) -> bytes | None:
        """All of a log that is UTF-8 without a mark; None where a closer look is needed."""
        if self.plain is None:
            self.plain = self._plain_text()
        return self.plain

    def _plain_text(self) -> bytes | None:
        try:
            text = self.data if self.data is not None else self.hold()
        except OSError as error:
            raise _unreadable(self.name, error) from None
        if text is not None and packing_of(text):
            parts: list[bytes] = []
            for part in self._unpacked(iter([text])):
                assert isinstance(part, bytes)
                parts.append(part)
                if len(part) > CHUNK_BYTES or len(parts) > 1:
                    return None
            text = b"".join(parts)
            if self.cut_off or self.damage:
                return None
        if text is None or text.startswith((b"\xef", b"\xfe", b"\xff")) or b"\0" in text:
            return None
        if text.isascii():
            encodings.refuse_binary(text, self.name)
        else:
            try:
                text.decode("utf-8")
            except UnicodeDecodeError:
                return None
        self.encoding = _encoding_of(text[:HEAD_BYTES])
        self.identify(text)
        return text

    def let_go(self) -> bytes | None:
        """What was held, which is held no longer."""
        held, self.held, self.plain = self.held, None, None
        return held

    def hold(self) -> bytes | None:
        """All bytes of a file, which stay here until they are read as the log: so it is opened once."""
        if self.held is None and self.path is not None:
            self.held = self.path.read_bytes()
        return self.held

    def identify(self, head: bytes) -> None:
        """Sets the fingerprint: of where the log lies and the first line it has.

        With an offset it names an event; the same event at the same place has the same name in
        every run, and a log that a new one has replaced does not lend its names.
        """
        place = shown_name(str(self.path.resolve())) if self.path else self.name
        first_line = head[:1024].partition(b"\n")[0]
        self.fingerprint = hashlib.blake2b(place.encode() + b"\n" + first_line, digest_size=6).hexdigest()

    def _unpacked(self, chunks: Iterator[Chunk]) -> Iterator[Chunk]:
        head, chunks = _with_head(chunks, MAGIC_BYTES)
        packing = packing_of(head)
        if packing is None:
            yield from chunks
            return
        self.packing = packing.name
        unpacked = Unpacked(packing, chunks, self.name, self.max_unpacked_bytes)
        yield from unpacked
        self.cut_off, self.damage = unpacked.cut_off, unpacked.damage

    def _raw_chunks(self, idle: float) -> Iterator[Chunk]:
        held = self.let_go()
        data = self.data if self.data is not None else held
        if data is not None:
            yield from (data[i : i + CHUNK_BYTES] for i in range(0, len(data), CHUNK_BYTES))
            return
        try:
            stream, self.stream = self.stream or self._open(), None
            yield from stream.chunks(idle, CHUNK_BYTES)
        except OSError as error:
            raise _unreadable(self.name, error) from None

    def _open(self) -> Stream:
        return Stream(sys.stdin.buffer if self.path is None else self.path.open("rb"))

    def first_bytes(self, size: int) -> bytes | None:
        """The first bytes of what can be read once, such as a pipe; they come again. None of anything else.

        Raises:
            InputError: it cannot be opened or read.
        """
        if self.data is not None or self.events is not None or (self.path is not None and self.size is not None):
            return None
        try:
            self.stream = self.stream or self._open()
            return self.stream.first(size)
        except OSError as error:
            raise _unreadable(self.name, error) from None


def _with_head(chunks: Iterator[Chunk], size: int) -> tuple[bytes, Iterator[Chunk]]:
    """The first bytes, as many as there are up to size, and all chunks once more from the start.

    A log still being written is not waited for.
    """
    first: list[bytes] = []
    length = 0
    ended: list[Chunk] = []
    for chunk in chunks:
        if isinstance(chunk, Pause):
            if first:
                ended = [chunk]
                break
            continue
        first.append(chunk)
        length += len(chunk)
        if length >= size:
            break
    return b"".join(first)[:size], itertools.chain(first, ended, chunks)


def _encoding_of(head: bytes) -> Encoding:
    return encodings.ASCII if head.isascii() else encodings.from_high_bytes(head[encodings.first_high(head) :])


def beginning(source: Source) -> Source | None:
    """The beginning of a log as a log of its own; None where reading it would take it away."""
    if source.events is not None:
        all_there = hasattr(source.events, "__len__")
        return (
            dataclasses.replace(source, events=list(itertools.islice(source.events, SAMPLE_EVENTS)))
            if all_there
            else None
        )
    if source.first_bytes(0) is not None:
        return _beginning_of_stream(source)
    if source.path is not None and source.size is not None and source.size <= SMALL_BYTES and source.path.is_file():
        with contextlib.suppress(OSError):  # said where the log itself is read
            source.hold()
    # speed: most small logs are UTF-8, which needs no closer look
    chunk: Chunk | None = None
    if source.held is not None and not source.given_encoding:
        chunk = source.plain_text()
    if chunk is None:
        chunk = next(iter(dataclasses.replace(source).chunks()), b"")
    if not isinstance(chunk, bytes):
        return None
    data = chunk[: chunk.rfind(b"\n", 0, SAMPLE_BYTES) + 1 or SAMPLE_BYTES]
    return Source(source.name, source.reference, data=data)


def _beginning_of_stream(source: Source) -> Source | None:
    """The same of what can be read once; what is wrong with it is said where it is read itself."""
    size = SAMPLE_BYTES
    while size <= _MOST_AHEAD:
        data = source.first_bytes(size) or b""
        head = dataclasses.replace(source, stream=None, path=None, size=len(data), data=data)
        try:
            return beginning(head)
        except InputError:
            # of some packed data nothing can be unpacked before there are hundreds of thousands of bytes
            if len(data) < size or packing_of(data) is None:
                return None
        size *= 4
    return None


def refuse_once(given: Iterable[Given], why: str) -> None:
    """Refuses logs that can be read once, such as a pipe, where they have to be read again.

    Raises:
        UsageError: there is one.
    """
    for one in given:
        if isinstance(one, Iterator):
            raise UsageError(f"a {type(one).__name__} can be read once, and {why}", "give a list")
        is_path = isinstance(one, os.PathLike) or (isinstance(one, str) and "\n" not in one)
        path = Path(os.fspath(one)) if is_path else None  # type: ignore[arg-type]
        is_other = path is not None and path.exists() and not (path.is_file() or path.is_dir())
        if one == "-" or is_other:
            name = "standard input" if one == "-" else shown_name(str(path))
            raise UsageError(f"{name} can be read once, and {why}", "write it to a file first")


def shown_name(name: str) -> str:
    r"""A name as people may see it: what a terminal would obey, and bytes that are no text, as escapes.

    >>> shown_name("a\x1b[2J.log")
    'a\\x1b[2J.log'
    """
    return printable(os.fsencode(name).decode("utf-8", "backslashreplace")).replace("\n", "\\n")


def open_sources(
    *given: Given, encoding: str | None = None, max_unpacked_bytes: int | None = None, skip_unreadable: bool = False
) -> list[Source]:
    """The sources that paths, globs, folders, `-`, bytes, texts or lists of raw events are.

    A folder means all files below it, in order of their paths, but for those whose names, or
    whose folders' names, begin with a point. A glob may have `**`. encoding overrides what is
    told by content; max_unpacked_bytes is the most bytes that a packed log may unpack to. A file that is given twice is
    read once. skip_unreadable: a log of several that cannot be read says so in `error`, and the others are read.

    Raises:
        InputError: a path at which nothing can be read.
    """
    if max_unpacked_bytes is not None and (not isinstance(max_unpacked_bytes, int) or max_unpacked_bytes < 1):
        raise UsageError(
            f"max_unpacked_bytes: {max_unpacked_bytes!r} is no number of bytes", "give a whole number from 1 on"
        )
    found: dict[object, Source] = {}
    for item in given:
        for source in _opened(item, skip_unreadable):
            source.given_encoding, source.max_unpacked_bytes = encoding, max_unpacked_bytes
            source.may_fail = skip_unreadable
            is_input = source.name == "<stdin>" and source.path is None
            found.setdefault(_identity(source.path) if source.path else "-" if is_input else id(source), source)
    return list(found.values())


def _identity(path: Path) -> object:
    """What two names of one file have in common."""
    try:
        status = path.stat()
    except OSError:
        return path
    return (status.st_dev, status.st_ino) if stat.S_ISREG(status.st_mode) else path


def _opened(given: Given, lenient: bool = False) -> list[Source]:
    now = datetime.now(UTC)
    if isinstance(given, bytes | bytearray | memoryview):
        return [Source("<bytes>", now, len(given), data=bytes(given))]
    if isinstance(given, str) and given == "-":
        return [Source("<stdin>", now)]
    if isinstance(given, str) and "\n" in given and not _is_path(given):
        data = given.encode("utf-8", "surrogateescape")
        return [Source("<text>", now, len(data), data=data, given_encoding="utf-8")]
    if isinstance(given, str | os.PathLike):
        return _open_path(os.fspath(given), lenient)
    if hasattr(given, "read"):
        raise InputError("a file object is no log", "give its path, or what it reads: bytes or text")
    if not isinstance(given, Iterable):
        raise InputError(f"{type(given).__name__} is no log", "give a path, bytes, text, or a list of raw events")
    column = _column(given)
    if column is not None:
        source = Source("<events>", now, events=column)
        source.identify("".join(column.head(1)).encode("utf-8", "replace"))
        return [source]
    events = _checked(given)
    first = list(itertools.islice(events, 1))
    whole = itertools.chain(first, events)
    source = Source("<events>", now, events=list(whole) if isinstance(given, list | tuple) else whole)
    source.identify("\n".join(first).encode("utf-8", "replace"))
    return [source]


def _column(given: Iterable[object]) -> pl.Series | None:
    """Raw events as a column, where they are all there and nothing but text: no look at each is needed."""
    import polars as pl

    if not isinstance(given, pl.Series | list | tuple):
        return None
    try:
        column = given if isinstance(given, pl.Series) else pl.Series(given, dtype=pl.String, strict=True)
    except (TypeError, ValueError, OverflowError, pl.exceptions.PolarsError):
        return None
    return column.rechunk() if column.dtype == pl.String and not column.null_count() else None


def _checked(given: Iterable[object]) -> Iterator[str]:
    """Raw events, each looked at when it is asked for."""
    for i, event in enumerate(given):
        if not isinstance(event, str):
            hint = "give several paths one by one" if isinstance(event, os.PathLike) else "give raw events as str"
            raise InputError(f"<events>: item {i} is {type(event).__name__}, not text", hint)
        yield event


def _is_path(text: str) -> bool:
    """Whether a text with line ends in it is the name of a file, as it may be."""
    try:
        return len(text) < 4096 and Path(text).exists()
    except (OSError, ValueError):
        return False


def _open_path(name: str, lenient: bool = False) -> list[Source]:
    path = Path(name)
    try:
        status = path.stat()
    except OSError as error:
        if isinstance(error, FileNotFoundError) and glob.has_magic(name):
            return _matching(name, lenient)
        raise _unreadable(name, error) from None
    except ValueError:
        raise InputError(f"{name!r} is not a path") from None
    if stat.S_ISDIR(status.st_mode):
        return _below(path, lenient)
    if stat.S_ISREG(status.st_mode) and not lenient and not os.access(path, os.R_OK):
        raise _unreadable(name, PermissionError(errno.EACCES, os.strerror(errno.EACCES)))
    return [_file(name, status)]


def _file(name: str, status: os.stat_result) -> Source:
    size = status.st_size if stat.S_ISREG(status.st_mode) else None
    return Source(shown_name(name), datetime.fromtimestamp(status.st_mtime, UTC), size, Path(name))


def _matching(pattern: str, lenient: bool) -> list[Source]:
    names = sorted(glob.glob(pattern, recursive=True))  # noqa: PTH207 - patterns may be absolute
    files = {Path(name).resolve(): name for name in reversed(names) if not Path(name).is_dir()}  # links may lead back
    found = [source for name in reversed(files.values()) for source in _open_path(name, lenient)]
    if not found:
        raise InputError(f"{shown_name(pattern)}: no file matches", "check the path")
    return found


def _below(folder: Path, lenient: bool) -> list[Source]:
    found: list[Source] = []
    seen: set[Path] = set()  # links may lead round in circles

    def visit(path: Path) -> None:
        real = path.resolve()
        if real in seen:
            return
        seen.add(real)
        try:
            with os.scandir(path) as entries:
                inside = sorted(entries, key=lambda entry: entry.name)
        except OSError as error:
            if not lenient or path == folder:
                raise
            reason = str(_unreadable(str(path), error))
            found.append(Source(shown_name(str(path)), datetime.now(UTC), 0, data=b"", error=reason))
            return
        for entry in inside:
            if entry.name.startswith("."):
                continue
            if entry.is_dir():
                visit(Path(entry.path))
            elif entry.is_file():
                found.append(_file(entry.path, entry.stat()))

    try:
        visit(folder)
    except OSError as error:
        raise _unreadable(str(error.filename or folder), error) from None
    if not found:
        raise InputError(f"{shown_name(str(folder))}: is a folder with no files in it", "check the path")
    return found


def _unreadable(name: str, error: OSError) -> InputError:
    name = shown_name(name)
    if error.errno == errno.ENAMETOOLONG:
        return InputError(f"{name[:_SHOWN]}…: is no name of a file", "give a text of one line as bytes")
    if isinstance(error, FileNotFoundError):
        return InputError(f"{name}: no such file", "check the path")
    if isinstance(error, PermissionError):
        return InputError(f"{name}: may not be read", "ask for read permission, or copy the file")
    return InputError(f"{name}: cannot be read: {error.strerror}")
