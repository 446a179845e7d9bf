"""What a project uses of the ready parsers, held against what they are now."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import NamedTuple

from kinglet.errors import ParserFileError, UsageError, did_you_mean
from kinglet.parser import load
from kinglet.parser_set import LIBRARY
from kinglet.spec import document, lock
from kinglet.spec.extending import extended
from kinglet.spec.ready import ready_parsers


class Difference(NamedTuple):
    """A parser that is another than its lock says; now: nothing where there is no such parser any more."""

    name: str
    before: str
    now: str | None

    def __str__(self) -> str:
        if self.now is None:
            return f"{self.name} {self.before} is no longer there"
        if self.now == self.before:
            return f"{self.name} {self.before} has another file of the same version"
        return f"{self.name} {self.before} is now {self.now}"


def locked_parsers(names: Sequence[str], path: Path) -> list[Difference]:
    """Writes a lock file for ready parsers, and what has changed since it was written before.

    names: ready parsers, or `library` for all; those of the lock that is there, and those that parsers beside it
    extend, are taken besides.

    Raises:
        UsageError: there is no such parser, or nothing to lock.
        ParserFileError: a parser beside it cannot be read.
        OutputError: the file cannot be written.
    """
    before = lock.read_lock(path) if path.exists() else {}
    ready = ready_parsers()
    wanted = {*before, *_extended_beside(path)} & set(ready)
    for name in names:
        if name != LIBRARY and name not in ready:
            hint = did_you_mean(name, ready, "`kinglet library` lists them")
            raise UsageError(f"no ready parser is called `{name}`", hint)
        wanted |= set(ready) if name == LIBRARY else {name}
    if not wanted:
        raise UsageError(f"{path}: there is nothing to lock", "name ready parsers, or `library` for all of them")
    changed = differences(path) if before else []
    lock.write_lock(path, {name: _now(ready[name]) for name in wanted})
    return changed


def differences(path: Path) -> list[Difference]:
    """The parsers of a lock file that are no longer as it says.

    Raises:
        UsageError: it is no lock file.
    """
    ready = ready_parsers()
    found = []
    for name, one in lock.read_lock(path).items():
        now = _now(ready[name]) if name in ready else None
        if now is None or now.sha256 != one.sha256:
            found.append(Difference(name, one.version, now.version if now is not None else None))
    return found


def _now(file: Path) -> lock.Locked:
    return lock.locked(load(file).version, file.read_bytes().decode("utf-8-sig"))


def _extended_beside(path: Path) -> set[str]:
    """The parsers that files beside a lock file extend, and those that these extend."""
    found = set()
    for file in sorted(path.absolute().parent.glob("*.yaml")):
        try:
            read = document.from_file(file)
        except ParserFileError:
            continue  # another kind of file
        base = extended(read).base if isinstance(read.values, dict) and "extends" in read.values else None
        while base is not None:
            found.add(Path(base.file).stem)
            base = base.base
    return found
