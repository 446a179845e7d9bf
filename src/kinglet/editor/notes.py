"""What is wrong in a parser file, and what may go wrong: each at its place, with how to mend it."""

from __future__ import annotations

import re
from dataclasses import dataclass

from kinglet.errors import KingletError, ParserFileError, Place, did_you_mean
from kinglet.insight.cases import check_cases
from kinglet.lint.linting import lint
from kinglet.parser import Parser, load_text

_MEANT = re.compile(r"did you mean `([^`]+)`")
_WRONG = re.compile(r"`([^`]+)`")
_WEIGHTS = {"error": "error", "warning": "warning", "note": "advice"}


@dataclass(frozen=True)
class Note:
    """A note on a place of a file: line and column from 0. mend: a word of the line and what it is to be, if known.

    weight: `error`, `warning` or `advice`.
    """

    line: int
    column: int
    length: int
    weight: str
    message: str
    hint: str
    mend: tuple[str, str] | None = None


def notes(text: str, name: str) -> tuple[Parser | None, list[Note]]:
    """The parser, where the file can be loaded, and all that is to be said of it."""
    parser, found = first_notes(text, name)
    return parser, [*found, *(case_notes(text, parser) if parser is not None else ())]


def first_notes(text: str, name: str) -> tuple[Parser | None, list[Note]]:
    """The parser, where the file can be loaded, and what is wrong with the file where it cannot."""
    try:
        parser = load_text(text, name)
    except ParserFileError as error:
        return None, [_note(text, problem.place, "error", problem.message, problem.hint) for problem in error.problems]
    return parser, []


def case_notes(text: str, parser: Parser) -> list[Note]:
    """What the cases of a parser show, and what is to be thought about."""
    found: list[Note] = []
    try:
        for one in lint(parser, text=text):
            found.append(_note(text, one.place, _WEIGHTS[one.severity], one.message, one.mend))
        for outcome in check_cases(parser):
            for other in outcome.differences[:1]:
                said = f"{other.name}: {other.got!r} instead of {other.expected!r}"
                found.append(_note(text, outcome.place, "error", said, other.hint))
    except KingletError:  # a case that cannot even be read says so where it is checked
        pass
    return found


def _note(text: str, place: Place, weight: str, message: str, hint: str) -> Note:
    lines = text.split("\n")
    line, column = max(place.line - 1, 0), max(place.column - 1, 0)
    here = lines[line] if line < len(lines) else ""
    word = re.match(r"[\w.%/+-]+|\S+", here[column:])
    length = len(word[0]) if word else max(len(here) - column, 1)
    meant, wrong = _MEANT.search(hint), _WRONG.search(message)
    mend = None
    if meant is not None:
        written = wrong[1] if wrong is not None and wrong[1] in here else _nearest(here[column:], meant[1])
        front = meant[1].rpartition(".")[0] + "."
        written = front + written if front + written in here else written
        mend = (written, meant[1]) if written else None
    return Note(line, column, length, weight, message, hint, mend)


def _nearest(text: str, meant: str) -> str:
    """The word of a text that is likest to what is meant."""
    words = re.findall(r"[\w.%/+-]+", text)
    near = next((word for word in words if meant in did_you_mean(word, [meant])), "")
    return near if near != meant else ""
