"""What is compared: a parser file, a folder of them, or either as it was in a revision of git."""

from __future__ import annotations

from pathlib import Path

from kinglet.calls import ParseCalls
from kinglet.errors import ParserFileError, Place, Problem
from kinglet.ocsf.schema import Model
from kinglet.parser import Parser, load, load_text
from kinglet.parser_set import ParserSet, load_set
from kinglet.revisions import files_at, text_at


def load_version(name: str, *, model: Model | None = None) -> ParseCalls:
    """A parser, or the parsers of a folder. `REV:PATH` is a file or folder of a revision of git.

    Tables that a parser of a revision names are read as they are now.

    Raises:
        ParserFileError: it cannot be loaded.
        UsageError: there is no such revision, or no such file in it.
    """
    if Path(name).is_dir():
        return load_set(name, model=model)
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
