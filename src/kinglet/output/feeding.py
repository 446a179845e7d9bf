"""A bridge from batches that are pushed to the engine's file writers, which pull."""

from __future__ import annotations

import queue
import threading
from collections.abc import Callable, Iterator

import polars as pl
from polars.io.plugins import register_io_source


class _StoppedError(Exception):
    """The run ended early; the writer is to give up."""


class Feed:
    """Runs a writer of the engine on a thread and hands it frames; a few may wait, no more."""

    def __init__(self, write: Callable[[pl.LazyFrame], object], schema: pl.Schema) -> None:
        self._frames: queue.Queue[pl.DataFrame | None] = queue.Queue(maxsize=2)
        self._error: BaseException | None = None
        self._stopped = False
        self._thread = threading.Thread(target=self._run, args=(write, schema), name="kinglet-writer", daemon=True)
        self._thread.start()

    def put(self, frame: pl.DataFrame) -> None:
        """Hands over a frame; waits while enough are waiting. Raises what the writer raised."""
        while self._error is None:
            try:
                self._frames.put(frame, timeout=0.2)
                return
            except queue.Full:
                continue
        raise self._error

    def finish(self) -> None:
        """Waits until all is written. Raises what the writer raised."""
        if self._error is None:
            self._frames.put(None)
        self._thread.join()
        if self._error is not None:
            raise self._error

    def stop(self) -> None:
        """Gives up; what was written so far is worth nothing."""
        self._stopped = True
        while self._thread.is_alive():
            try:
                self._frames.get_nowait()
            except queue.Empty:
                self._thread.join(0.05)

    def _run(self, write: Callable[[pl.LazyFrame], object], schema: pl.Schema) -> None:
        def frames(columns: object, predicate: object, most: object, size: object) -> Iterator[pl.DataFrame]:
            while True:
                try:
                    frame = self._frames.get(timeout=0.2)
                except queue.Empty:
                    if self._stopped:
                        raise _StoppedError from None
                    continue
                if frame is None:
                    return
                yield frame

        try:
            write(register_io_source(frames, schema=schema))
        except BaseException as error:  # handed to the thread that writes
            self._error = error
