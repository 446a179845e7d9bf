"""`library.lock`: the ready parsers that a project uses, as they were when it was written.

It is JSON: of each parser its version, the SHA-256 of its file, and the lines of the file, so that a change of it shows
what an upgrade changes, and the parsers of both sides can be compared.
"""

from __future__ import annotations

import json
from collections.abc import Mapping
from pathlib import Path
from typing import Any, NamedTuple

from kinglet.errors import OutputError, UsageError
from kinglet.spec.extending import digest

NAME = "library.lock"
_HOW = "write it again with `kinglet library --lock`"


class Locked(NamedTuple):
    """A parser as it was."""

    version: str
    sha256: str
    text: str


def locked(version: str, text: str) -> Locked:
    """A parser file as it is now."""
    return Locked(version, digest(text.encode()), text.replace("\r\n", "\n"))


def read_lock(path: Path) -> dict[str, Locked]:
    """The parsers of a lock file, by name.

    Raises:
        UsageError: it cannot be read, is none, or the text of a parser is not that of its digest.
    """
    try:
        values = json.loads(path.read_bytes())
        found = {str(name): _locked(one) for name, one in values["parsers"].items()}
    except OSError as error:
        raise UsageError(f"{path}: cannot be read: {error.strerror}", _HOW) from None
    except (ValueError, KeyError, TypeError, AttributeError, RecursionError):
        raise UsageError(f"{path}: is no lock file", _HOW) from None
    for name, one in found.items():
        if digest(one.text.encode("utf-8", "surrogatepass")) != one.sha256:
            raise UsageError(f"{path}: the lines of `{name}` are not those that its digest is of", _HOW)
    return found


def _locked(one: Any) -> Locked:
    return Locked(str(one["version"]), str(one["sha256"]), "\n".join(map(str, one["lines"])))


def write_lock(path: Path, parsers: Mapping[str, Locked]) -> None:
    """Writes a lock file.

    Raises:
        OutputError: it cannot be written.
    """
    values = {
        name: {"version": one.version, "sha256": one.sha256, "lines": one.text.split("\n")}
        for name, one in sorted(parsers.items())
    }
    text = json.dumps({"kinglet": 1, "parsers": values}, indent=1, ensure_ascii=False) + "\n"
    try:
        path.write_text(text, encoding="utf-8", newline="")
    except OSError as error:
        raise OutputError(f"{path}: cannot be written: {error.strerror}") from None
