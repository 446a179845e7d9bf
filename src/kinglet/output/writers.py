"""Files that events are written to, one class a format, each with the same two methods.

A file is written beside its place and moved there when it is whole, so that nobody ever finds
half of one.
"""

from __future__ import annotations

import contextlib
import os
import re
import secrets
import sys
from collections.abc import Iterable, Sequence
from pathlib import Path
from types import TracebackType
from typing import IO, TYPE_CHECKING, Any, ClassVar

import polars as pl

try:
    import fcntl

    MARKS = True
except ImportError:  # a system that cannot mark files: leftovers of killed runs stay
    MARKS = False

from kinglet.columns.arrow import text_of
from kinglet.columns.json_rows import json_bytes
from kinglet.errors import OutputError
from kinglet.kernels.compiled import kernel
from kinglet.output.feeding import Feed
from kinglet.output.views import View, lines_of

if TYPE_CHECKING:
    from kinglet.output.mixed_view import MixedView
    from kinglet.source.logs import Source

_AT_ONCE = 2**22  # speed
"""The system takes many bytes at once a third as quickly."""


class Writer:
    """Base of the writers: the place, the file aside, the move at the end."""

    suffix: ClassVar[str] = ""

    def __init__(self, path: str, view: View | MixedView) -> None:
        self.view = view
        self.path = None if path == "-" else Path(path)
        self.aside: Path | None = None
        self.stream: IO[bytes]

    def prepare(self, parsed: Any) -> Any:
        """What `write` wants of a batch of its view; touches no file, so that many threads can do it at once."""
        raise NotImplementedError

    def write(self, prepared: Any) -> None:
        """Adds the events of a batch."""
        whole = memoryview(prepared)
        for start in range(0, len(whole), _AT_ONCE):
            self.stream.write(whole[start : start + _AT_ONCE])

    def finish(self) -> None:
        """Writes what stands at the end of a file."""

    def abandon(self) -> None:
        """Lets go of the file before it is thrown away."""

    def __enter__(self) -> Writer:
        """Opens the file aside.

        Raises:
            OutputError: it cannot be made there.
        """
        if self.path is None:
            self.stream = sys.stdout.buffer
            return self
        _clear_leftovers(self.path)
        stream: IO[bytes] | None = None
        while stream is None:
            self.aside = self.path.with_name(f".{self.path.name}.{secrets.token_hex(4)}.part")
            try:
                stream = self.aside.open("xb")
                if not _ours(stream, self.aside):
                    # a run that began just now took the new file for a leftover before it was marked
                    stream.close()
                    stream = None
            except OSError as error:
                raise _unwritable(self.path, error) from None
            except BaseException:
                # told to end between the file and the block that would throw it away
                if stream is not None:
                    stream.close()
                self.aside.unlink(missing_ok=True)
                raise
        self.stream = stream
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        try:
            if kind is None:
                self.finish()
                self.stream.flush()
            else:
                self.abandon()
                if isinstance(error, OSError) and not isinstance(error, BrokenPipeError):
                    raise error
            if self.aside is not None and self.path is not None:
                if not MARKS:
                    self.stream.close()
                if kind is None:
                    # closed afterwards: a file that nobody holds is a leftover to other runs
                    self.aside.replace(self.path)
        except OSError as problem:
            raise _unwritable(self.path, problem) from None
        finally:
            if self.aside is not None:
                with contextlib.suppress(OSError):
                    self.stream.close()
                self.aside.unlink(missing_ok=True)


def _hold(stream: IO[bytes], path: Path) -> bool:
    """Marks a file as that of a process which lives, until it is closed; whether it is there and no other's.

    Raises:
        OSError: the file system knows no such marks.
    """
    try:
        fcntl.flock(stream.fileno(), fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return False
    return path.exists()


def _ours(stream: IO[bytes], path: Path) -> bool:
    """Whether a new file is still there, marked where that can be."""
    try:
        return _hold(stream, path) if MARKS else True
    except OSError:
        return True  # never marked, so never taken for a leftover either


def _clear_leftovers(path: Path) -> None:
    """Removes what runs left behind that were killed while they wrote to this output; without marks, nothing."""
    name = re.compile(re.escape(f".{path.name}.") + r"[0-9a-f]{8}\.part")
    with contextlib.suppress(OSError):
        for aside in path.parent.iterdir() if MARKS else ():
            if name.fullmatch(aside.name) and aside.is_file():
                with contextlib.suppress(OSError), aside.open("rb") as stream:
                    if _hold(stream, aside):
                        aside.unlink()


class NdjsonWriter(Writer):
    """A JSON object a line."""

    suffix = ".ndjson"

    def prepare(self, parsed: Any) -> Iterable[bytes | memoryview]:
        pieces = self.view.pieces(parsed)
        run = kernel("json_rows", sum(piece.frame.height for piece in pieces))
        if run is None:
            return [text_of(lines_of(pieces, "\n"))]
        return json_bytes(pieces, run)

    def write(self, prepared: Iterable[bytes | memoryview]) -> None:
        for some in prepared:
            super().write(some)


class CsvWriter(Writer):
    """Comma-separated values with a header (RFC 4180)."""

    suffix = ".csv"
    begun = False

    def prepare(self, parsed: Any) -> pl.DataFrame:
        return self.view.flat(parsed)

    def write(self, prepared: pl.DataFrame) -> None:
        prepared.write_csv(self.stream, include_header=not self.begun)
        self.begun = True


class _Engine(Writer):
    """Base of the formats that the column engine writes itself."""

    feed: Feed | None = None

    def prepare(self, parsed: Any) -> pl.DataFrame:
        return self.view.table(parsed)

    def write(self, prepared: pl.DataFrame) -> None:
        if self.feed is None:
            self.feed = Feed(self._sink, prepared.schema)
        try:
            self.feed.put(prepared)
        except pl.exceptions.PolarsError as error:
            raise OSError(str(error).splitlines()[0]) from None

    def finish(self) -> None:
        if self.feed is not None:
            try:
                self.feed.finish()
            except pl.exceptions.PolarsError as error:
                raise OSError(str(error).splitlines()[0]) from None

    def abandon(self) -> None:
        if self.feed is not None:
            self.feed.stop()

    def _sink(self, frames: pl.LazyFrame) -> None:
        raise NotImplementedError


class ParquetWriter(_Engine):
    """Apache Parquet."""

    suffix = ".parquet"

    def _sink(self, frames: pl.LazyFrame) -> None:
        assert self.aside is not None
        frames.sink_parquet(self.aside, compression="zstd", compression_level=1)


class ArrowWriter(_Engine):
    """Apache Arrow, the file form of its IPC format."""

    suffix = ".arrow"

    def _sink(self, frames: pl.LazyFrame) -> None:
        assert self.aside is not None
        frames.sink_ipc(self.aside)


WRITERS: dict[str, type[Writer]] = {
    ".ndjson": NdjsonWriter,
    ".csv": CsvWriter,
    ".parquet": ParquetWriter,
    ".arrow": ArrowWriter,
}


def writer_for(path: str, view: View | MixedView) -> Writer:
    """The writer for an output path; `-` is NDJSON on standard output.

    Raises:
        OutputError: the suffix names no format, or the path is a folder.
    """
    if path == "-":
        return NdjsonWriter(path, view)
    if Path(path).is_dir():
        raise OutputError(f"{path}: is a folder", f"name a file in it, such as {Path(path) / 'events.ndjson'}")
    kind = WRITERS.get(Path(path).suffix)
    if kind is None:
        raise OutputError(
            f"{path}: the suffix tells no format; use " + " ".join(WRITERS) + ", or - for standard output"
        )
    return kind(path, view)


def refuse_inputs(output: str, given: Sequence[object], sources: Sequence[Source]) -> None:
    """Refuses an output that is one of the logs, or lies in a folder of logs and would be read the next time.

    given: the paths of the call.

    Raises:
        OutputError: it is, or does.
    """
    if output == "-":
        return
    place = Path(output).absolute()
    for source in sources:
        if source.path is not None and place.exists() and source.path.exists() and place.samefile(source.path):
            raise OutputError(f"{output}: is one of the logs that are read", "write to another file")
    for item in given:
        folder = Path(item) if isinstance(item, str | os.PathLike) else None
        if folder is not None and folder.is_dir() and place.resolve().is_relative_to(folder.resolve()):
            what = f"lies in the folder {folder} of the logs, and would be read with them the next time"
            raise OutputError(f"{output}: {what}", "write it elsewhere")


def _unwritable(path: Path | None, error: OSError) -> OutputError | OSError:
    if isinstance(error, BrokenPipeError):
        return error
    if path is None:
        return OutputError(f"standard output: cannot be written: {error.strerror or error}")
    if isinstance(error, FileNotFoundError | NotADirectoryError):
        return OutputError(f"{path}: there is no folder {path.parent}", f"make it first: mkdir -p {path.parent}")
    if isinstance(error, PermissionError):
        return OutputError(f"{path}: may not be written", "choose a folder that you may write to")
    return OutputError(f"{path}: cannot be written: {error.strerror or error}")
