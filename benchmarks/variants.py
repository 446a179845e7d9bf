"""Parses a log of many messages and prints its number of events and the seconds it took, without start-up.

    python benchmarks/variants.py WAY VARIANTS EVENTS

WAY is `kind`, where a number in the event tells which message it is, `unlike`, where it does so too and no two messages
have the same words between their values, `text`, where only its words tell a message, or `parsers`, where each message
is one of a device of its own, which has a parser of its own.
"""

from __future__ import annotations

import random
import sys
import tempfile
import time
from pathlib import Path

import kinglet
from kinglet.calls import run_batches
from kinglet.parser_set import ParserSet
from kinglet.source.logs import open_sources

HEAD = "kinglet: 1\nparser: bench\nversion: 1.0.0\nproduct: {vendor: Brackwater, name: Bench}\n"
TIME = 'time: {from: stamp, format: "%Y-%m-%dT%H:%M:%S%z"}\n'
WORDS = ("valve", "pump", "hatch", "winch", "boom", "gauge", "lamp", "fender", "crane", "ramp")


def message(number: int) -> str:
    """The fixed beginning of a message, different for each."""
    words = [WORDS[number % 10], WORDS[number // 10 % 10], WORDS[number // 100 % 10]]
    return f"{' '.join(words)} changed"


def between(way: str, number: int) -> tuple[str, str, str]:
    """The words between the values of a message."""
    if way != "unlike":
        return "->", "by", "from"
    return WORDS[number % 10], WORDS[number // 10 % 10], "from" if number < 100 else "via"


def parser_file(way: str, variants: int) -> str:
    """A parser of so many variants."""
    kinds = way in ("kind", "unlike")
    envelope = f"{{stamp:time}} {{unit:word}} {'PMP/{code:int} ' if kinds else ''}{{body:rest}}"
    lines = [HEAD, TIME, f"envelope: '{envelope}'\n", "kind: code\n" if kinds else "", "variants:\n"]
    for number in range(variants):
        kind = f"    kind: {4000 + number}\n" if kinds else ""
        to, by, place = between(way, number)
        fields = f"{{old_{number % 7}:num}} {to} {{new_{number % 7}:num}} {by} {{user:word}}[[ {place} {{client:ip}}]]"
        lines.append(f"  - name: v{number}\n{kind}    pattern: '{message(number)} {fields}'\n")
    return "".join(lines)


def log(way: str, variants: int, events: int) -> str:
    """A log in which each message is as frequent as any other."""
    chance = random.Random(7)
    lines = []
    for i in range(events):
        number = chance.randrange(variants)
        code = {"text": "", "parsers": f"DEV{number}/{4000 + number} "}.get(way, f"PMP/{4000 + number} ")
        to, by, at = between(way, number)
        place = f" {at} 192.0.2.{i % 250}" if i % 3 else ""
        stamp = f"2026-03-{1 + i // 86400 % 28:02}T{i // 3600 % 24:02}:{i // 60 % 60:02}:{i % 60:02}Z"
        lines.append(f"{stamp} P0{i % 4} {code}{message(number)} {i % 90}.5 {to} {i % 80}.5 {by} m.okoro{place}\n")
    return "".join(lines)


def device_file(number: int) -> str:
    """The parser of one of many devices."""
    pattern = f"{message(number)} {{old:num}} -> {{new:num}} by {{user:word}}[[ from {{client:ip}}]]"
    return (
        HEAD.replace("bench", f"device-{number}")
        + TIME
        + f"envelope: '{{stamp:time}} {{unit:word}} DEV{number}/{{code:int}} {{body:rest}}'\n"
        + f"variants:\n  - {{name: changed, pattern: '{pattern}'}}\n"
    )


def seconds(parser: kinglet.Parser | ParserSet, path: Path) -> tuple[int, float]:
    """The events of a log that are complete, and how long it took to parse it."""
    started = time.perf_counter()
    batches = run_batches(parser, open_sources(str(path)))
    return sum(batch.counts["complete"] for batch in batches), time.perf_counter() - started


if __name__ == "__main__":
    way, variants, events = sys.argv[1], int(sys.argv[2]), int(sys.argv[3])
    parser: kinglet.Parser | ParserSet
    if way == "parsers":
        some = [kinglet.load(device_file(number)) for number in range(variants)]
        parser = some[0] if variants == 1 else ParserSet(some)
    else:
        parser = kinglet.load(parser_file(way, variants))
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "bench.log"
        path.write_text(log(way, variants, events))
        seconds(parser, path)
        print(*seconds(parser, path))
