"""Writes the demo's logs and parsers where a person can play with them."""

from __future__ import annotations

import importlib.resources
import os
from dataclasses import dataclass
from pathlib import Path

from kinglet.demo.logs import BENCH, LOGS, log_bytes
from kinglet.demo.scenario import STORY, Story
from kinglet.errors import OutputError


@dataclass(frozen=True)
class DemoLog:
    """A log of the demo with its parser."""

    name: str
    log: Path
    parser: Path


def bench(folder: Path) -> DemoLog:
    """A log with lines that are wrong, and the parser that tells which, of a demo in a folder."""
    return DemoLog(BENCH, folder / "bench" / f"{BENCH}.log", folder / "parsers" / "pump-panel.yaml")


def write_demo(folder: Path, story: Story = STORY) -> list[DemoLog]:
    """Writes logs, parsers, rules and an extended model below a folder; files of these names are written anew.

    The log of the bench is written too, and is not among those given back: it is there for its faults.

    Logs bear the time of their last line, for it tells the year that some of them leave out.

    Raises:
        OutputError: the folder cannot be made or written to.
    """
    written = [
        DemoLog(name, folder / "logs" / f"{name}{form.suffix}", folder / "parsers" / f"{name}.yaml")
        for name, form in LOGS.items()
    ]
    shipped = importlib.resources.files("kinglet.demo")
    parsers = shipped / "parsers"
    last = story.end.timestamp()
    try:
        (folder / "out").mkdir(parents=True, exist_ok=True)
        for item in (*written, bench(folder)):
            item.log.parent.mkdir(parents=True, exist_ok=True)
            item.parser.parent.mkdir(parents=True, exist_ok=True)
            item.log.write_bytes(log_bytes(item.name, story=story))
            os.utime(item.log, (last, last))
            item.parser.write_text((parsers / item.parser.name).read_text(encoding="utf-8"), encoding="utf-8")
        for name in ("rules", "model"):
            (folder / name).mkdir(exist_ok=True)
            for file in (shipped / name).iterdir():
                (folder / name / file.name).write_text(file.read_text(encoding="utf-8"), encoding="utf-8")
    except OSError as error:
        raise OutputError(f"{folder}: the demo cannot be written there: {error.strerror}") from None
    return written
