"""Reads a log of structured lines one way and prints its number of events and the seconds it took, without start-up.

    python benchmarks/structures.py WAY KIND COUNT
    python benchmarks/structures.py lines KIND LOG OUT

WAY is kinglet or loop, the plain Python that anybody would write; both give a frame with the same
columns: the named keys with their types, and the others as a JSON object. KIND is one of LOGS.
`lines` is that loop over a log that is there, which writes an event a line as JSON.
"""

from __future__ import annotations

import csv
import json
import random
import re
import sys
import tempfile
import time
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path
from typing import Any, NamedTuple

import polars as pl

import kinglet

HEAD = "kinglet: 1\nparser: bench\nversion: 1.0.0\nproduct: {vendor: Brackwater, name: Bench}\n"
PAIR = re.compile(r'([^\s="]+)=("(?:[^"\\]|\\.)*"|\S*)')


class Log(NamedTuple):
    """How a line is written, how the parser reads it, and the types of its named keys."""

    write: Callable[[int, random.Random], str]
    form: str
    types: dict[str, str]


def _manifest(number: int, chance: random.Random) -> str:
    return json.dumps(
        {
            "time": f"2026-03-02T{number // 3600 % 24:02}:{number // 60 % 60:02}:{number % 60:02}.117Z",
            "request": {"id": f"r-{number}", "action": chance.choice(["read", "write", "list"])},
            "user": {"name": chance.choice(["s.amadi", "m.okoro"]), "roles": ["crew"]},
            "client": {"ip": f"192.0.2.{number % 250}", "port": 40_000 + number % 999},
            "status": chance.choice([200, 403]),
            "bytes": number * 7 % 65_536,
        }
    )


def _sets(number: int, chance: random.Random) -> str:
    keys = {"time": number, "user": "m.okoro", "act": f"a{number % 40}"}
    return json.dumps(keys | {f"k{(number % 40) * 3 + i}": chance.randrange(1000) for i in range(6)})


def _vpn(number: int, chance: random.Random) -> str:
    place = ' place="Sandwick Quay"' if chance.random() < 0.5 else ""
    return (
        f"ts={1792650407994 + number} dev=slipway-{number % 3} event=login "
        f'user="t.varela" src=198.51.100.{number % 250}{place} result=ok bytes={number * 7}'
    )


def _resolver(number: int, chance: random.Random) -> str:
    answer = chance.choice(["192.0.2.13", "NXDOMAIN", '"""v=1, host=quay.marram.example"""'])
    return f"{1772438119 + number}.541,198.51.100.{number % 250},store.marram.example,A,{answer},{number % 99 + 0.5}"


def _winch(number: int, chance: random.Random) -> str:
    address = f"\n\tAddress:\t198.51.100.{number % 250}" if chance.random() < 0.3 else ""
    return (
        f"Time:\t\t02/03/2026 {number // 3600 % 24:02}:{number // 60 % 60:02}:{number % 60:02}\n"
        f"Winch:\t\tW{number % 4}\n"
        f"Operator:\n\tName:\t\tj.lindqvist\n\tStation:\tdeck{address}\n"
        f"Before:\n\tTension:\t{number % 60} kN\nAfter:\n\tTension:\t{number % 80} kN\n"
    )


NAMES = ("stamp", "client", "host", "record", "answer", "milliseconds")
LOGS = {
    "JSON": Log(_manifest, "json", {"log_time": "text", "request.id": "word", "user.name": "word", "client.ip": "ip",
                                    "client.port": "port", "status": "int", "bytes": "int"}),
    "JSON, 40 sets of keys": Log(_sets, "json", {"log_time": "int", "user": "word", "act": "word"}),
    "pairs": Log(_vpn, "pairs", {"ts": "int", "dev": "host", "event": "word", "user": "word", "src": "ip",
                                 "result": "word", "bytes": "int"}),
    "delimited": Log(_resolver, "delimited", dict(zip(NAMES, ("text", "ip", "host", "word", "text", "num"),
                                                      strict=True))),
    "block": Log(_winch, "block", {"winch": "word", "operator.name": "word", "operator.address": "ip",
                                   "before.tension": "text", "after.tension": "text"}),
}  # fmt: skip
KINDS: dict[str, Callable[[str], Any]] = {"int": int, "port": int, "num": float}


def parser_file(log: Log) -> str:
    """The parser that reads a log."""
    types = ", ".join(f"{name.removeprefix('log_')}: {kind}" for name, kind in log.types.items())
    form = f"delimited: {{names: [{', '.join(NAMES)}]}}" if log.form == "delimited" else f"{log.form}: true"
    events = "events: blank-line\n" if log.form == "block" else ""
    return f"{HEAD}{events}variants:\n  - {{name: all, {form}, types: {{{types}}}}}\n"


def write_log(path: Path, log: Log, count: int) -> None:
    """Makes a log of so many events; the same for the same count."""
    chance = random.Random(20260302)
    path.write_text("".join(f"{log.write(number, chance)}\n" for number in range(count)))


def by_kinglet(path: Path, log: Log) -> pl.DataFrame:
    parser = kinglet.load(parser_file(log))
    return pl.concat(result.events.select(*log.types, "more") for result in parser.parse_batches(path))


def by_loop(path: Path, log: Log) -> pl.DataFrame:
    columns: dict[str, list[Any]] = {name: [] for name in (*log.types, "more")}
    for _, values, others in _events(path, log):
        for name, value in values.items():
            columns[name].append(value)
        columns["more"].append(json.dumps(others, separators=(",", ":")) if others else None)
    return pl.DataFrame(columns)


def write_lines(path: Path, log: Log, out: Path) -> None:
    """What the loop reads, an event a line."""
    with out.open("w", encoding="utf-8") as lines:
        for number, (raw, values, others) in enumerate(_events(path, log), 1):
            there = {name: value for name, value in values.items() if value is not None}
            event = {"line": number, "raw": raw, **there, **({"more": others} if others else {})}
            lines.write(json.dumps(event, ensure_ascii=False, separators=(",", ":")) + "\n")


def _events(path: Path, log: Log) -> Iterator[tuple[str, dict[str, Any], dict[str, Any]]]:
    """Of each event its text, the named keys and the others."""
    with path.open(encoding="utf-8") as lines:
        for line in _records(lines) if log.form == "block" else lines:
            others: dict[str, Any] = {}
            if log.form == "json":
                _flatten(json.loads(line), "", others)
            elif log.form == "delimited":
                others = dict(zip(NAMES, next(csv.reader([line.rstrip("\n")])), strict=True))
            elif log.form == "block":
                others = _labels(line)
            else:
                others = {key: value.strip('"') for key, value in PAIR.findall(line)}
            values: dict[str, Any] = {}
            for name, kind in log.types.items():
                value = others.pop(name.removeprefix("log_"), None)
                values[name] = None if value is None else KINDS.get(kind, str)(value)
            yield line.rstrip("\n"), values, others


def _records(lines: Iterable[str]) -> Iterator[str]:
    some: list[str] = []
    for line in lines:
        if line.strip():
            some.append(line)
        elif some:
            yield "".join(some)
            some = []
    if some:
        yield "".join(some)


def _labels(record: str) -> dict[str, Any]:
    values: dict[str, Any] = {}
    section = ""
    for line in record.splitlines():
        label, _, value = line.partition(":")
        key = label.strip().lower().replace(" ", "_")
        if not line.startswith("\t"):
            section = ""
        if value.strip():
            values[f"{section}{key}"] = value.strip()
        else:
            section = f"{key}."
    return values


def _flatten(value: dict[str, Any], above: str, into: dict[str, Any]) -> None:
    for key, inner in value.items():
        if isinstance(inner, dict):
            _flatten(inner, f"{above}{key}.", into)
        elif inner is not None:
            into[above + key] = inner


WAYS = {"kinglet": by_kinglet, "loop": by_loop}


def main() -> None:
    if sys.argv[1] == "lines":
        write_lines(Path(sys.argv[3]), LOGS[sys.argv[2]], Path(sys.argv[4]))
        return
    way, name, count = sys.argv[1], sys.argv[2], int(sys.argv[3])
    log = LOGS[name]
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "bench.log"
        write_log(path, log, count)
        WAYS[way](path, log)
        started = time.perf_counter()
        found = WAYS[way](path, log)
        print(found.height, time.perf_counter() - started)


if __name__ == "__main__":
    main()
