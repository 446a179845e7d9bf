"""What is compared: a parser file, a folder of them, or either as it was in a revision of git."""

from __future__ import annotations

from pathlib import Path

from kinglet.calls import ParseCalls
from kinglet.errors import ParserFileError, Place, Problem
from kinglet.ocsf.schema import Model
from kinglet.parser import Parser, load, load_text
from kinglet.parser_set import LIBRARY, ParserSet, load_set_to_parse
from kinglet.revisions import files_at, text_at
from kinglet.spec.lock import NAME, read_lock
from kinglet.spec.ready import ready_parsers


def load_versions(old: str, new: str, *, model: Model | None = None) -> tuple[ParseCalls, ParseCalls]:
    """The two that are compared; `library` beside a lock file means the parsers that it keeps.

    Raises:
        ParserFileError: one cannot be loaded.
        UsageError: there is no such revision, no such file in it, or a lock file is none.
    """
    versions = [load_version(name, model=model) for name in (old, new) if name != LIBRARY or Path(name).exists()]
    if len(versions) == 2:
        return versions[0], versions[1]
    kept = _kept(old if new == LIBRARY else new)
    ready = ready_parsers()
    names = [name for name in ready if kept is None or name in kept]
    files: list[str | Path] = [ready[name] for name in names] or [LIBRARY]
    now = load_set_to_parse(*files, model=model)
    return (versions[0], now) if new == LIBRARY and versions else (now, versions[0] if versions else now)


def _kept(name: str) -> list[str] | None:
    """The names of the parsers of a lock file."""
    return list(read_lock(Path(name))) if _is_lock(name) else None


def _is_lock(name: str) -> bool:
    return Path(name).suffix == Path(NAME).suffix and Path(name).is_file()


def load_version(name: str, *, model: Model | None = None) -> ParseCalls:
    """A parser, or the parsers of a folder or a lock file. `REV:PATH` is a file or folder of a revision of git.

    Tables that a parser of a revision names are read as they are now.

    Raises:
        ParserFileError: it cannot be loaded.
        UsageError: there is no such revision, or no such file in it.
    """
    if Path(name).is_dir():
        return load_set_to_parse(name, model=model)
    if _is_lock(name):
        kept = read_lock(Path(name))
        return ParserSet([_loaded(one.text, f"{key}.yaml", name, model) for key, one in kept.items()])
    revision, colon, path = name.partition(":")
    if not colon or Path(name).exists() or "\n" in name:
        return load(name, model=model)
    files = files_at(revision, path)
    if files:
        return ParserSet([_loaded(text_at(revision, file), file, revision, model) for file in files])
    return _loaded(text_at(revision, path), path, revision, model)


def _loaded(text: str, path: str, revision: str, model: Model | None) -> Parser:
    """A parser of a revision; what is wrong with it is said of the revision's file."""
    try:
        return load_text(text, path, model=model)
    except ParserFileError as error:
        raise ParserFileError(_of_revision(problem, revision) for problem in error.problems) from None


def _of_revision(problem: Problem, revision: str) -> Problem:
    place = problem.place
    return problem._replace(place=Place(f"{revision}:{place.file}", place.line, place.column))
