"""Runs the benchmarks and prints their tables; with --write also into docs/benchmarks.md.

    python benchmarks/run.py [--lines N] [--rounds N] [--write]

Every figure is one of whole processes, run in turn with what they are compared to; a ratio is the
median of the ratios of the rounds, so that a machine that is now quick and now slow does no harm.
"""

from __future__ import annotations

import argparse
import os
import platform
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from dataclasses import dataclass
from datetime import date
from pathlib import Path

from access_log import access_log
from stamps import FORMS
from structures import LOGS, parser_file, write_log

HERE = Path(__file__).parent
PAGE = HERE.parent / "docs" / "benchmarks.md"
KINGLET = [sys.executable, "-m", "kinglet"]
PARSER = str(HERE / "web-access.yaml")


@dataclass(frozen=True)
class Measured:
    """What one process took: seconds, and the most memory it held, in MiB."""

    seconds: float
    memory: float


def measure(command: list[str]) -> Measured:
    """A whole process, which writes to a new file: to take the last one away costs the system up to a second.

    What the process before it wrote is on the disk before it begins.
    """
    for word in command:
        if word.endswith((".ndjson", ".parquet")):
            Path(word).unlink(missing_ok=True)
    os.sync()
    started = time.perf_counter()
    process = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)
    assert process.stderr is not None
    complaint = process.stderr.read()
    _, status, usage = os.wait4(process.pid, 0)
    process.returncode = os.waitstatus_to_exitcode(status)
    if process.returncode:
        raise SystemExit(f"{' '.join(command)} failed:\n{complaint.decode()}")
    return Measured(time.perf_counter() - started, usage.ru_maxrss / 1024)


def in_turn(rounds: int, *commands: list[str]) -> list[list[Measured]]:
    """Each command once a round; the results by command."""
    found: list[list[Measured]] = [[] for _ in commands]
    for _ in range(rounds):
        for i, command in enumerate(commands):
            found[i].append(measure(command))
    return found


def ratio(above: list[Measured], below: list[Measured], of: Callable[[Measured], float]) -> float:
    return statistics.median(of(a) / of(b) for a, b in zip(above, below, strict=True))


def seconds(runs: list[Measured]) -> float:
    return statistics.median(run.seconds for run in runs)


def kinglet(log: Path, out: Path) -> list[str]:
    return [*KINGLET, "run", "-p", PARSER, str(log), "-o", str(out), "--as", "model"]


def baseline(name: str, log: Path, out: Path) -> list[str]:
    return [sys.executable, str(HERE / f"baseline_{name}.py"), str(log), str(out)]


Row = tuple[str, ...]


def throughput(lines: int, rounds: int, folder: Path) -> list[Row]:
    """Kinglet against both baselines, for both formats."""
    log = access_log(lines)
    rows: list[Row] = []
    for suffix, times, factor in ((".ndjson", 25, 0.5), (".parquet", 25, 0.9)):
        commands = (
            kinglet(log, folder / f"k{suffix}"),
            baseline("polars", log, folder / f"b{suffix}"),
            baseline("python", log, folder / f"a{suffix}"),
        )
        measure(commands[0])
        measure(commands[1])
        python, beside = in_turn(2, commands[2], commands[0])
        ours, polars = in_turn(rounds, *commands[:2])
        faster = ratio(python, beside, lambda run: run.seconds)
        slower = ratio(ours, polars, lambda run: run.seconds)
        rows.append(
            (
                f"to model {suffix}",
                f"{seconds(ours):.2f} s",
                f"{seconds(python):.1f} s",
                f"{seconds(polars):.2f} s",
                f"{lines / seconds(ours):,.0f}",
                f"{faster:.1f} (goal: at least {times})",
                f"{slower:.2f} (goal: at most {factor})",
            )
        )
    return rows


def cutting(lines: int, rounds: int) -> list[Row]:
    """The cutter alone, in turn with what a script would do; seconds without start-up."""
    log = access_log(lines)
    found: dict[str, list[float]] = {}
    for _ in range(rounds):
        for way in ("kinglet-line", "splitlines", "kinglet-start", "loop"):
            command = [sys.executable, str(HERE / "cutting.py"), way, str(log)]
            done = subprocess.run(command, capture_output=True, text=True, check=True)
            count, taken = done.stdout.split()
            assert int(count) == lines, f"{way}: {count} events"
            found.setdefault(way, []).append(float(taken))
    rows: list[Row] = []
    for ours, theirs, least in (("kinglet-line", "splitlines", 1_500_000), ("kinglet-start", "loop", 500_000)):
        ratios = statistics.median(b / a for a, b in zip(found[ours], found[theirs], strict=True))
        speeds = [f"{lines / statistics.median(found[way]):,.0f}" for way in (ours, theirs)]
        rows.append(
            (ours.removeprefix("kinglet-"), f"{speeds[0]} (at least {least:,})", theirs, speeds[1], f"{ratios:.1f}")
        )
    return rows


def structures(count: int, rounds: int) -> list[Row]:
    """Logs of structured lines, in turn with a plain loop to the same columns; seconds without start-up."""

    def taken(way: str, name: str) -> float:
        command = [sys.executable, str(HERE / "structures.py"), way, name, str(count)]
        read, seconds = subprocess.run(command, capture_output=True, text=True, check=True).stdout.split()
        assert int(read) == count, f"{way}, {name}: {read} of {count}"
        return float(seconds)

    rows: list[Row] = []
    for name in LOGS:
        ours: list[float] = []
        ratios: list[float] = []
        for _ in range(rounds):
            ours.append(taken("kinglet", name))
            ratios.append(taken("loop", name) / ours[-1])
        speed = f"{count / statistics.median(ours):,.0f}"
        rows.append((name, speed, f"{statistics.median(ratios):.3g} (at least 3)"))
    return rows


def lines_of_structures(count: int, rounds: int, folder: Path) -> list[Row]:
    """Whole processes to NDJSON, in turn with the loop that writes the same."""
    rows: list[Row] = []
    for name, log in LOGS.items():
        path, parser, out = folder / "lines.log", folder / "lines.yaml", folder / "lines.ndjson"
        write_log(path, log, count)
        parser.write_text(parser_file(log))
        ours = [*KINGLET, "run", "-p", str(parser), str(path), "-o", str(out)]
        theirs = [sys.executable, str(HERE / "structures.py"), "lines", name, str(path), str(out)]
        measure(ours)
        kinglet_runs, loop_runs = in_turn(rounds, ours, theirs)
        faster = ratio(loop_runs, kinglet_runs, lambda run: run.seconds)
        least = 8 if log.form == "block" else 20
        rows.append(
            (
                name,
                f"{seconds(kinglet_runs):.2f} s",
                f"{seconds(loop_runs):.1f} s",
                f"{faster:.1f} (goal: at least {least})",
            )
        )
    return rows


def bound(lines: int, rounds: int) -> list[Row]:
    """What it takes to copy a log's bytes and count its lines, in one process."""
    data = access_log(lines).read_bytes()
    taken = []
    for _ in range(3 * rounds):
        begun = time.process_time()
        bytearray(data).count(b"\n")
        taken.append(time.process_time() - begun)
    return [("copy and count", f"{statistics.median(taken) / lines * 1e6:.2f} µs")]


def variants(count: int, rounds: int) -> list[Row]:
    """Many messages or many parsers over a log, in turn with one; seconds without start-up."""

    def taken(way: str, some: int) -> float:
        command = [sys.executable, str(HERE / "variants.py"), way, str(some), str(count)]
        read, seconds = subprocess.run(command, capture_output=True, text=True, check=True).stdout.split()
        assert int(read) == count, f"{way}, {some}: {read} of {count}"
        return float(seconds)

    rows: list[Row] = []
    for name, way, some, most in (
        ("200 variants by kind", "kind", 200, 1.2),
        ("200 variants by kind, no two alike", "unlike", 200, 1.2),
        ("200 variants by their text", "text", 200, 3),
        ("500 parsers", "parsers", 500, 3),
    ):
        one: list[float] = []
        ratios: list[float] = []
        for _ in range(rounds):
            one.append(taken(way, 1))
            ratios.append(taken(way, some) / one[-1])
        rows.append(
            (name, f"{count / statistics.median(one):,.0f}", f"{statistics.median(ratios):.2f} (at most {most})")
        )
    return rows


def hostile() -> list[Row]:
    """Regexes and texts made to hurt; seconds for all of them, against texts that do not."""
    from hostile import CORPUS, measure

    found = measure()
    allowed = 2 * found.harmless + found.budgets
    return [
        (
            f"{len(CORPUS) - found.refused} regexes, and {found.refused} that are refused",
            f"{found.hostile:.1f} s (at most {allowed:.1f})",
            f"{found.harmless:.2f} s",
            str(found.late),
        )
    ]


def reading_stamps(count: int, rounds: int) -> list[Row]:
    """Columns of stamps, in turn with what reads them elsewhere; seconds without start-up."""

    def taken(way: str, name: str, some: int) -> float:
        command = [sys.executable, str(HERE / "stamps.py"), way, name, str(some)]
        read, seconds = subprocess.run(command, capture_output=True, text=True, check=True).stdout.split()
        assert int(read) == some, f"{way}, {name}: {read} of {some}"
        return float(seconds) / some

    rows: list[Row] = []
    plain: list[float] = []
    for name, form in FORMS.items():
        ours: list[float] = []
        against: dict[str, list[float]] = {"strptime": [], "pandas": [], "polars": []}
        for i in range(rounds):
            ours.append(taken("kinglet", name, count))
            if form.strptime:
                against["strptime"].append(taken("strptime", name, count // 10) / ours[-1])
                against["pandas"].append(taken("pandas", name, count) / ours[-1])
            if form.polars:
                against["polars"].append(ours[-1] / taken("polars", name, count))
            elif name != "five mixed":
                against["polars"].append(ours[-1] / taken("polars", "milliseconds", count))
            if name == "milliseconds":
                plain = ours
            if name == "five mixed":
                against["polars"].append(ours[-1] / plain[i])
        shown = {way: f"{statistics.median(found):.3g}" if found else "-" for way, found in against.items()}
        limit = "at most 2, against milliseconds" if name == "five mixed" else f"at most {1.5 if form.polars else 4}"
        rows.append(
            (
                name,
                f"{1 / statistics.median(ours):,.0f}",
                shown["strptime"] + (" (at least 25)" if form.strptime else ""),
                shown["pandas"] + (" (at least 1.2)" if form.strptime else ""),
                f"{shown['polars']} ({limit})",
            )
        )
    return rows


def growth(lines: int, rounds: int, folder: Path) -> list[Row]:
    """Four times the lines: the time and the memory."""
    small, large = access_log(lines), access_log(lines * 4)
    rows: list[Row] = []
    for suffix in (".ndjson", ".parquet"):
        few, many = in_turn(rounds, kinglet(small, folder / f"s{suffix}"), kinglet(large, folder / f"l{suffix}"))
        peak = max(run.memory for run in few)
        rows.append(
            (
                f"to model {suffix}",
                f"{ratio(many, few, lambda run: run.seconds):.2f} (at most 4.3)",
                f"{peak:.0f} MiB (under 572)",
                f"{ratio(many, few, lambda run: run.memory):.2f} (at most 1.15)",
            )
        )
    return rows


def start_up(rounds: int, folder: Path) -> list[Row]:
    """Commands that should answer at once, against the bare import of the column engine."""
    log = access_log(100)
    measure([*KINGLET, "try", PARSER, str(log)])
    script = "import time\nt = time.perf_counter()\nimport polars\nprint(time.perf_counter() - t)"
    imports: list[float] = []
    helps: list[Measured] = []
    tries: list[Measured] = []
    for _ in range(3 * rounds):
        done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True)
        imports.append(float(done.stdout))
        helps.append(measure([*KINGLET, "--help"]))
        tries.append(measure([*KINGLET, "try", PARSER, str(log)]))
    limit = statistics.median(1.5 * bare + 0.3 for bare in imports)
    return [
        ("kinglet --help", f"{seconds(helps):.2f} s", "under 0.25 s"),
        ("kinglet try, 100 lines", f"{seconds(tries):.2f} s", f"under {limit:.2f} s"),
        ("import polars alone", f"{statistics.median(imports):.2f} s", ""),
    ]


def table(heads: Row, rows: list[Row]) -> str:
    lines = [heads, tuple("---" for _ in heads), *rows]
    return "\n".join("| " + " | ".join(row) + " |" for row in lines) + "\n"


TABLES = ("logs", "growth", "bound", "lines", "cutting", "stamps", "structures", "variants", "hostile", "start")


def main() -> None:
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("--lines", type=int, default=1_000_000)
    options.add_argument("--rounds", type=int, default=5)
    options.add_argument("--write", action="store_true", help="write the tables into docs/benchmarks.md")
    options.add_argument("--only", choices=TABLES)
    given = options.parse_args()
    if given.only and given.write:
        options.error("--write wants all tables; leave --only out")
    lines, rounds = given.lines, given.rounds
    folder = Path(tempfile.mkdtemp(prefix="kinglet-bench-"))
    # as with an installed package, modules are compiled once and not at every start
    os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
    os.environ["PYTHONPYCACHEPREFIX"] = str(folder / "compiled")
    against = ("times as fast as (a)", "time against (b)")
    tables: dict[str, tuple[Row, Callable[[], list[Row]]]] = {
        "logs": (
            ("web access log", "Kinglet", "(a) script", "(b) Polars", "events/s", *against),
            lambda: throughput(lines, rounds, folder),
        ),
        # before what fills the memory of this process, which counts as that of those it starts
        "growth": (
            ("four times the lines", "time", "most memory", "memory against"),
            lambda: growth(lines, max(rounds // 2, 1), folder),
        ),
        "bound": (("the bound", "processor time a line"), lambda: bound(lines, rounds)),
        "lines": (
            ("structured text to NDJSON", "Kinglet", "loop", "times as fast"),
            lambda: lines_of_structures(lines, rounds, folder),
        ),
        "cutting": (
            ("cutting", "Kinglet, lines/s", "beside it", "lines/s", "times as fast"),
            lambda: cutting(lines, rounds),
        ),
        "stamps": (
            ("stamps", "Kinglet, stamps/s", "times as fast as strptime", "as pandas", "time against Polars"),
            lambda: reading_stamps(min(lines, 300_000), rounds),
        ),
        "structures": (
            ("structures", "Kinglet, events/s", "times as fast as a loop"),
            lambda: structures(min(lines, 300_000), rounds),
        ),
        "variants": (
            ("many at once", "one, events/s", "time an event against one"),
            lambda: variants(min(lines, 500_000), rounds),
        ),
        "hostile": (("made to hurt", "time", "texts that do not hurt", "events too slow"), hostile),
        "start": (("start", "time", "limit"), lambda: start_up(rounds, folder)),
    }
    try:
        text = "\n".join(
            [
                f"Measured on {date.today().isoformat()}: {lines:,} lines, {rounds} rounds, "
                f"{os.cpu_count()} processors, Python {platform.python_version()}.\n",
                *(table(head, rows()) for name, (head, rows) in tables.items() if given.only in (None, name)),
            ]
        )
    finally:
        shutil.rmtree(folder)
    print(text)
    if given.write:
        before = PAGE.read_text(encoding="utf-8").split("<!-- tables -->")[0]
        PAGE.write_text(f"{before}<!-- tables -->\n\n{text}", encoding="utf-8")


if __name__ == "__main__":
    main()
