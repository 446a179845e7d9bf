"""Programs that are started for a while, and what they wrote."""

from __future__ import annotations

import contextlib
import os
import re
import signal
import socket
import subprocess
import time
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import IO


@contextlib.contextmanager
def started(
    *command: str | Path, wait: float = 1.5, out: IO[bytes] | int = subprocess.DEVNULL, cwd: str = "/",
    people: Mapping[str, str] | None = None, ended_by: int = signal.SIGTERM,
) -> Iterator[subprocess.Popen[bytes]]:  # fmt: skip
    """A program that runs until the block is left."""
    program = subprocess.Popen(command, stdout=out, stderr=out, cwd=cwd, env={**os.environ, **(people or {})})
    time.sleep(wait)
    try:
        yield program
    finally:
        program.send_signal(ended_by)
        with contextlib.suppress(subprocess.TimeoutExpired):
            program.wait(20)
        program.kill()
        program.wait()


def ask(*command: str | Path, given: str | bytes = "", people: Mapping[str, str] | None = None, cwd: str = "/") -> str:
    """Runs a command whatever comes of it: that it fails is part of what is logged."""
    data = given if isinstance(given, bytes) else given.encode()
    try:
        done = subprocess.run(
            command, input=data, capture_output=True, timeout=20, check=False, cwd=cwd,
            env={**os.environ, **(people or {})},
        )  # fmt: skip
    except (subprocess.TimeoutExpired, OSError):
        return ""
    return (done.stdout + done.stderr).decode("utf-8", "replace")


def keep(source: Path, target: Path, *inner: Path | str) -> None:
    """Keeps a log, with the paths of this run, and the name of the machine, as those of a place that never was."""
    name = re.escape(socket.gethostname().encode())
    text = re.sub(rb'(?<=[ "])' + name + rb'(?=[ ":])', b"quay-1", source.read_bytes())
    for path in inner:
        text = text.replace(str(path).encode(), b"/srv/quay")
    target.parent.mkdir(parents=True, exist_ok=True)
    target.write_bytes(text)
