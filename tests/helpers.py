"""What the tests share: a parser to bend, and the command line as a person calls it."""

from __future__ import annotations

import contextlib
import functools
import gc
import io
import json
import os
import subprocess
import sys
import tempfile
import time
import unittest
from collections.abc import Iterator
from pathlib import Path
from typing import Any, NamedTuple

from hypothesis import settings

import kinglet as kinglet_module
from kinglet.cli.main import main
from kinglet.discover.facts import facts
from kinglet.discover.suggestion import beginning
from kinglet.source.logs import Given, open_sources

ROOT = Path(__file__).parent.parent
PATIENCE = 300
"""Seconds after which a process counts as one that never ends."""

PUMP = r"""
kinglet: 1
parser: pump-panel
version: 1.2.0
product: {vendor: Brackwater, name: PumpPanel}
events:
  start: '^\d{2}/\w{3} '
time:
  - from: stamp
    format: "%d/%b %H:%M:%S"
    zone: Atlantic/Azores
    year: nearest
envelope: '{stamp:time} {unit:word} PMP/{code:int} {body:rest}'
kind: code
variants:
  - name: setpoint-changed
    kind: 4102
    pattern: 'setpoint {tank:word} {old:num} -> {new:num} by {user:word}[[ from {client:ip}]]'
    event:
      class: Entity Management
      activity: Update
      status: Success
      set:
        actor.user.name: user
        src_endpoint.ip: client
        entity.name: tank
  - name: pump-state
    kind: [4001, 4002]
    regex: '^pump (?P<pump>\d+) (?P<verb>started|stopped)(?: after (?P<ran_s>\d+)s)?$'
    types: {pump: int, ran_s: int}
"""

PUMP_LOG = """\
03/Mar 22:10:41 P04 PMP/4102 setpoint T2 40.0 -> 85.5 by m.okoro from 192.0.2.14
03/Mar 22:10:42 P04 PMP/4001 pump 3 started
03/Mar 22:10:43 P04 PMP/4002 pump 3 stopped after 12s
03/Mar 22:10:44 P04 PMP/4102 setpoint T2 40.0 -> 85.5 by m.okoro from 999.0.2.14
03/Mar 22:10:45 P04 PMP/4102 setpoint T2 hot
03/Mar 22:10:46 P04 PMP/9999 hm
  more of it
31/Feb 22:10:47 P04 PMP/4001 pump 3 started
"""

LINES = r"""
kinglet: 1
parser: lines
version: 1.0.0
product: {vendor: Marram Ferries, name: Test bench}
variants:
  - name: any
    pattern: '%s'
"""


def with_pattern(pattern: str) -> str:
    """A parser of one pattern."""
    return LINES % pattern.replace("'", "''")


class Called(NamedTuple):
    """What a call of the command line gave."""

    status: int
    out: str
    err: str

    def json(self) -> Any:
        """What was printed with `--json`."""
        return json.loads(self.out)


def kinglet(*arguments: str | Path) -> Called:
    """Calls the command line in this process."""
    out, err = io.StringIO(), io.StringIO()
    before = sys.argv
    sys.argv = ["kinglet", *map(str, arguments)]
    status = 0
    try:
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
            main()
    except SystemExit as leaving:
        status = int(leaving.code or 0)
    finally:
        sys.argv = before
        gc.enable()
    return Called(status, out.getvalue(), err.getvalue())


def kinglet_process(*arguments: str | Path, given: bytes = b"") -> subprocess.CompletedProcess[bytes]:
    """Calls the command line as a process of its own."""
    command = [sys.executable, "-m", "kinglet", *map(str, arguments)]
    return subprocess.run(command, input=given, capture_output=True, check=False, timeout=PATIENCE)


def examples(count: int) -> settings:
    """So many random examples of a property, times KINGLET_EXAMPLES of the environment, which is 0.5 unless given."""
    times = float(os.environ.get("KINGLET_EXAMPLES", "0.5"))
    return settings(max_examples=max(1, round(count * times)), deadline=None)


@functools.cache
def _yardstick() -> float:
    """Seconds that this machine, traced or not, needs for a fixed piece of Kinglet's own work; a fraction of one."""
    needed = []
    for _ in range(3):
        begun = time.process_time()
        kinglet_module.load(PUMP).parse(PUMP_LOG.encode() * 2000)
        needed.append(time.process_time() - begun)
    return min(needed)


@contextlib.contextmanager
def soon(case: unittest.TestCase, yardsticks: float, beside: float = 0.0) -> Iterator[None]:
    """Fails where something takes far longer than such a piece of work: what grows with the square, or never ends.

    Args:
        yardsticks: how many times as long it may take; give ten times what it takes.
        beside: seconds by the clock that it may wait, besides.
    """
    limit = yardsticks * _yardstick()
    now = time.monotonic if beside else time.process_time
    begun = now()
    yield
    case.assertLess(now() - begun, limit + beside, f"allowed: {yardsticks} times {_yardstick():.3f} s and {beside} s")


class InFolder(unittest.TestCase):
    """A test with a folder of its own, in which it runs."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.enterContext(_inside(self.folder))

    def write(self, name: str, text: str | bytes) -> Path:
        path = self.folder / name
        path.write_bytes(text.encode() if isinstance(text, str) else text)
        return path


@contextlib.contextmanager
def _inside(folder: Path) -> Iterator[None]:
    before = Path.cwd()
    os.chdir(folder)
    try:
        yield
    finally:
        os.chdir(before)


def suggestion(log: Given) -> str:
    """The parser that `look` prints of a log, without what else it finds: shapes, columns and ready parsers."""
    return beginning("log", facts(open_sources(log), log)).text
