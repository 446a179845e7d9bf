"""Everything that Kinglet raises.

    KingletError
    ├── ParserFileError   the parser file is wrong; carries every Problem found
    ├── InputError        a log cannot be read as what it is said to be
    ├── OutputError       an output cannot be written
    ├── ModelError        the common model has no such class or attribute
    └── UsageError        the call itself cannot mean anything

The text of each is meant for the person at the terminal: what, where, and how to mend it.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterable, Iterator
from typing import NamedTuple


class KingletError(Exception):
    """Base of all errors that Kinglet raises on purpose: what is wrong, and how to mend it."""

    def __init__(self, message: str = "", hint: str = "") -> None:
        self.message, self.hint = message, hint
        super().__init__(f"{message}; {hint}" if hint else message)


class InvalidError(ValueError):
    """A value that cannot be, before it is known where it stands: what is wrong, and how to mend it."""

    def __init__(self, message: str, hint: str = "") -> None:
        self.message, self.hint = message, hint
        super().__init__(f"{message}; {hint}" if hint else message)


def parts_of(error: Exception) -> tuple[str, str]:
    """What an error says is wrong, and how to mend it, where it says so."""
    return (error.message, error.hint) if isinstance(error, KingletError | InvalidError) else (str(error), "")


class Place(NamedTuple):
    """A place in a text file; line and column count from 1."""

    file: str
    line: int = 0
    column: int = 0

    def __str__(self) -> str:
        if not self.line:
            return self.file
        return f"{self.file}:{self.line}:{self.column}"


class Problem(NamedTuple):
    """One thing that is wrong in a parser file.

    key is the dotted path of the key, hint says how to mend it, excerpt is a text in which
    the fault lies and caret the character in it to point at.
    """

    place: Place
    key: str
    message: str
    hint: str = ""
    excerpt: str = ""
    caret: int = -1

    def __str__(self) -> str:
        key = f" {self.key}:" if self.key else ""
        hint = f"; {self.hint}" if self.hint else ""
        text = f"{self.place}:{key} {self.message}{hint}"
        if self.excerpt:
            line, caret = window(self.excerpt, self.caret)
            text += f"\n    {line}\n    {' ' * caret}^"
        return text


class ParserFileError(KingletError):
    """A parser file that cannot be used. `problems` holds every reason, in file order."""

    def __init__(self, problems: Iterable[Problem]) -> None:
        self.problems = tuple(sorted(problems, key=lambda problem: (problem.place.line, problem.place.column)))
        super().__init__("\n".join(str(problem) for problem in self.problems))

    def __reduce__(self) -> tuple[type[ParserFileError], tuple[tuple[Problem, ...]]]:
        """Between processes it goes with its problems."""
        return ParserFileError, (self.problems,)


class InputError(KingletError):
    """A log that cannot be read."""


class OutputError(KingletError):
    """An output that cannot be written."""


class ModelError(KingletError):
    """A class or attribute that the common model does not have."""


class UsageError(KingletError):
    """A call with arguments that do not go together."""


def did_you_mean(word: str, known: Iterable[str], otherwise: str = "") -> str:
    """A hint with the nearest known words but for the word itself, or `otherwise` where none is near."""
    import difflib  # only where something is wrong already

    choices = {choice.casefold(): choice for choice in known if choice != word}
    near = difflib.get_close_matches(word.casefold(), choices, n=2, cutoff=0.6)
    if not near:
        return otherwise
    return "did you mean " + " or ".join(f"`{choices[name]}`" for name in near) + "?"


def printable(text: str) -> str:
    r"""Text without what a terminal would obey or hide: those characters as escapes, but for line ends.

    >>> printable("a\x1b[2Jb\u202e")
    'a\\x1b[2Jb\\u202e'
    """
    if text.isprintable():
        return text
    return "".join(
        sign if sign.isprintable() or sign == "\n" else sign.encode("unicode_escape", "backslashreplace").decode()
        for sign in text
    )


def window(text: str, caret: int, width: int = 88) -> tuple[str, int]:
    """The part of one line of text around a caret that fits `width`, and the caret in it."""
    before = text[: max(caret, 0)]
    start = before.rfind("\n") + 1
    end = text.find("\n", start)
    line, caret = text[start : end if end >= 0 else None], max(caret, 0) - start
    line = line.replace("\t", " ")
    if caret > width - 8:
        cut = caret - width // 2
        line, caret = "…" + line[cut + 1 :], caret - cut
    if len(line) > width:
        line = line[: width - 1] + "…"
    return line, caret


@contextlib.contextmanager
def needing(extra: str) -> Iterator[None]:
    """Says which extra of the package brings what is not installed.

    Raises:
        UsageError: a package is missing.
    """
    try:
        yield
    except ModuleNotFoundError as error:
        name = "kinglet-logs"
        raise UsageError(f"this needs the package {error.name}", f"`pip install '{name}[{extra}]'` brings it") from None
