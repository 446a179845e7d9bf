"""Cuts one log into events, by one of four ways; prints events and seconds.

    python benchmarks/cutting.py WAY LOG

kinglet-line and kinglet-start are Kinglet's cutter alone, by the rules `line` and `start`; splitlines
is `str.splitlines` over the whole text, loop a Python loop with `re.match` that joins lines.
"""

from __future__ import annotations

import re
import sys
import time
from collections.abc import Callable
from pathlib import Path

START = r"^\d{1,3}\."


def kinglet_line(log: Path) -> int:
    return _cut(log, "line")


def kinglet_start(log: Path) -> int:
    return _cut(log, "start")


def _cut(log: Path, kind: str) -> int:
    from kinglet.cutting.cutter import cut
    from kinglet.cutting.rule import CutRule
    from kinglet.source.logs import open_sources

    return sum(len(batch) for batch in cut(open_sources(log)[0], CutRule(kind, START if kind == "start" else None)))


def splitlines(log: Path) -> int:
    return len(log.read_bytes().decode().splitlines())


def loop(log: Path) -> int:
    begins = re.compile(START).match
    events: list[str] = []
    lines: list[str] = []
    with log.open(encoding="utf-8") as stream:
        for line in stream:
            if begins(line) and lines:
                events.append("".join(lines))
                lines = []
            lines.append(line)
    events.append("".join(lines))
    return len(events)


WAYS: dict[str, Callable[[Path], int]] = {
    "kinglet-line": kinglet_line,
    "splitlines": splitlines,
    "kinglet-start": kinglet_start,
    "loop": loop,
}


def main() -> None:
    way, log = WAYS[sys.argv[1]], Path(sys.argv[2])
    if sys.argv[1].startswith("kinglet"):
        import numpy  # noqa: F401 - imports are not what is measured here
        import polars  # noqa: F401

        import kinglet.cutting.cutter  # noqa: F401
    started = time.perf_counter()
    count = way(log)
    print(count, time.perf_counter() - started)


if __name__ == "__main__":
    main()
