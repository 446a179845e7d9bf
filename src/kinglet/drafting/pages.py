"""A result written as a page, with what is left to do."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING

from kinglet.drafting.leftovers import leftovers
from kinglet.errors import OutputError, UsageError
from kinglet.notebook.report import page

if TYPE_CHECKING:
    from kinglet.result import Result


def check_page(output: str, files: Sequence[str]) -> None:
    """Checks the place of a page before the work.

    Raises:
        UsageError: it is no page, or it would be one of several logs.
        OutputError: its folder is not there.
    """
    if len(files) > 1:
        raise UsageError("a page is of one log", "call it for each, or give a folder")
    if Path(output).suffix.lower() not in (".html", ".htm"):
        raise UsageError(f"{output}: is no name of a page", "end it with .html")
    if not Path(output).parent.is_dir():
        raise OutputError(f"{output}: there is no folder {Path(output).parent}", "make it first")


def write_page(output: str, name: str, result: Result) -> None:
    """Writes a page of a result.

    Raises:
        OutputError: it cannot be written.
    """
    left = [*leftovers(result, "unmatched"), *leftovers(result, "partial")]
    left.sort(key=lambda group: -group.count)
    text = page(result, name, left, datetime.now(UTC))
    try:
        Path(output).write_text(text, encoding="utf-8", newline="\n")
    except OSError as error:
        raise OutputError(f"{output}: cannot be written: {error.strerror}", "name another file") from None
