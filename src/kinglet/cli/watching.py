"""`try --watch`: the same view again after each save of the parser, and when the log grows."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator, Sequence
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

from kinglet.errors import KingletError, UsageError, printable

if TYPE_CHECKING:
    from rich.console import Console

    from kinglet.result import Result

Results = list[tuple[str, "Result"]]
_SETTLED = 60
"""Milliseconds without a change after which files are read: editors save in several steps."""
_LOOKS = 400
"""Milliseconds after which files are looked at without being told of a change."""


def follow(
    out: Console, files: Sequence[str], parse: Callable[[], Results], show: Callable[[str, Result], None]
) -> None:
    """Parses and shows again and again, until it is interrupted; then says what came of it.

    files: those whose changes count. A parser that cannot be loaded is told of, and the last good picture stays.

    Raises:
        UsageError: the package that watches files is not there.
    """
    import polars as pl

    from kinglet.insight.rounds import Rounds

    changes = _changes(files)
    rounds = Rounds()
    good: Results | None = None
    with contextlib.suppress(KeyboardInterrupt):
        for _ in changes:
            error = ""
            try:
                good = parse()
            except KingletError as problem:
                error = str(problem)
            if out.is_terminal:
                out.clear()
            news: list[str] = []
            if not error and good is not None:
                events = pl.concat([result.events for _, result in good], how="diagonal_relaxed")
                found = rounds.took(events)
                news = [f"since the last save: {'; '.join(found.last)}"] if found.last else []
                news += [f"since the start: {'; '.join(found.start)}"] if found.start else []
            for name, result in good or ():
                show(name, result)
            _say(out, rounds.number, news, error)
    out.print()
    counts = good[0][1].counts if good else {}
    complete = f", {counts['complete']:,} of {counts['events']:,} events complete" if len(good or ()) == 1 else ""
    out.print(
        f"{rounds.number} rounds{complete}: {'; '.join(rounds.all_in_all()) or 'nothing was read'}", highlight=False
    )


def _say(out: Console, number: int, said: Sequence[str], error: str) -> None:
    """What this round changed stands last, next to the prompt, where the eye is."""
    from rich.text import Text

    from kinglet.cli.render import state_colours

    out.print()
    out.print(Text(f"round {number}", style="bold").append(f"  {datetime.now():%H:%M:%S}; Ctrl-C ends", "not bold dim"))
    for line in said:
        for i, piece in enumerate(Text(printable(line)).wrap(out, out.width - 4)):
            piece.rstrip()
            out.print(Text("  " if i == 0 else "    ").append_text(piece))
    if error:
        out.print(Text(printable(error), style=state_colours(out)["unmatched"]), soft_wrap=True)
        out.print(Text("  what is shown is the last that could be read", style="dim"))


def _changes(files: Sequence[str]) -> Iterator[object]:
    """Once at the start, and whenever one of the files has changed."""
    try:
        from watchfiles import watch
    except ImportError:
        raise UsageError("--watch needs the package watchfiles", "pip install 'kinglet-logs[watch]'") from None
    paths = [Path(name).resolve() for name in files if Path(name).exists()]
    folders = {path if path.is_dir() else path.parent for path in paths}

    def rounds() -> Iterator[object]:
        seen = _signs(paths)
        yield seen
        # a save before the watch has begun, or on a disk that tells of none, is seen at the next look
        for _ in watch(
            *folders, debounce=4 * _SETTLED, step=_SETTLED, rust_timeout=_LOOKS, yield_on_timeout=True,
            recursive=any(path.is_dir() for path in paths),
        ):  # fmt: skip
            now = _signs(paths)
            if now != seen:
                seen = now
                yield seen

    return rounds()


def _signs(paths: Sequence[Path]) -> dict[Path, tuple[int, int]]:
    """What tells that files have changed: when they were written, and their size."""
    found: dict[Path, tuple[int, int]] = {}
    for path in paths:
        for file in [*path.rglob("*")] if path.is_dir() else [path]:
            with contextlib.suppress(OSError):
                state = file.stat()
                found[file] = (state.st_mtime_ns, state.st_size)
    return found
