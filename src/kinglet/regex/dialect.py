"""The dialect of regular expressions: what the linear-time engine and Python's `re` both read.

The linear-time engine decides what a parser matches; Python's `re` is used to show where in a
line a field was found. A regex must compile in both.
"""

from __future__ import annotations

import re
import warnings
from dataclasses import dataclass

import polars as pl

from kinglet.regex.backtracking import why_slow
from kinglet.regex.literals import known

_HINTS = (
    ("look-around", "match the text and leave it out of the named group instead"),
    ("backreferences", "match both places and compare them in a condition instead"),
    ("unrecognized escape", "in this dialect use \\d \\w \\s \\b ^ $ and escapes of punctuation"),
    ("unrecognized flag", "in this dialect flags are (?i) (?m) (?s) (?x)"),
    ("unclosed group", "close the group with `)`"),
    ("unterminated subpattern", "close the group with `)`"),
    ("unterminated character set", "close the class with `]`"),
    ("unbalanced parenthesis", "write `\\)` for a bracket in the log"),
    ("multiple repeat", "one quantifier at a time; write `\\+`, `\\*` for the characters"),
    ("nothing to repeat", "put something before it, or write `\\+`, `\\*`, `\\?` for the character"),
    ("size limit", "make the counted repeats smaller"),
    ("redefinition of group name", "give each group a name of its own"),
    ("duplicate capture group", "give each group a name of its own"),
    ("range, the start", "write the smaller one first"),
    ("bad character range", "write the smaller one first"),
)


@dataclass
class RegexError(ValueError):
    """A regex that does not compile; offset is the character at fault, -1 where none is."""

    message: str
    hint: str = ""
    offset: int = -1


_SURELY_SMALL = 8000  # speed


def check_regex(regex: str, *, slow: bool = False) -> tuple[str, ...]:
    """The names of the groups of a regex, in order.

    slow: whether it may have what the linear-time engine cannot run.

    Raises:
        RegexError: it does not compile in one of the two engines.
    """
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            compiled = re.compile(regex)
    except re.error as error:
        offset = error.pos if error.pos is not None else -1
        raise RegexError(f"does not compile: {error.msg}", _hint(error.msg), offset) from None
    except (OverflowError, RecursionError):
        raise RegexError("does not compile: it is nested or repeated too often", "make it smaller") from None
    _refuse_sets(regex)
    why = why_slow(regex)
    if why is not None and slow:
        return tuple(compiled.groupindex)
    if why == "a possessive repeat":
        raise RegexError(f"does not compile: {why} is not supported", "leave the second `+` out")
    try:
        pl.Series([""]).str.contains(regex)
    except pl.exceptions.ComputeError as error:
        raise _from_engine(str(error)) from None
    if known(regex).keeps_vague:
        raise RegexError("repeats a group that may be nothing", "let each repetition read something: `+` for `*` in it")
    return tuple(compiled.groupindex)


def _refuse_sets(regex: str) -> None:
    """Refuses what the two engines read otherwise within a class of characters: classes in it, and sets.

    Raises:
        RegexError: there is such.
    """
    inside = False
    i = 0
    while i < len(regex):
        sign = regex[i]
        if sign == "\\":
            i += 2
            continue
        if not inside:
            inside = sign == "["
            # a bracket that stands first is one of the characters
            i += 1 + (inside and regex[i + 1 : i + 2] == "^")
            i += inside and regex[i : i + 1] == "]"
            continue
        if sign == "[":
            hint = "write `\\[` for the sign, or the characters themselves, as in `[A-Z0-9]`"
            raise RegexError("has a class within a class", hint, i)
        if regex[i : i + 2] in _SETS:
            hint = f"write `{sign}\\{sign}` for the signs, or the characters themselves"
            raise RegexError(f"has `{regex[i : i + 2]}` within a class", hint, i)
        inside = sign != "]"
        i += 1


_SETS = ("&&", "~~", "--")


def is_too_large(regex: str) -> bool:
    """Whether a regex that is well-formed takes more than the engine allows when it is compiled."""
    if len(regex) < _SURELY_SMALL:
        return False
    try:
        pl.Series([""]).str.contains(regex)
    except pl.exceptions.ComputeError:
        return True
    return False


def _from_engine(text: str) -> RegexError:
    """The engine shows the regex with carets under it; the caret's column is the offset."""
    lines = text.splitlines()
    reason = next((line.partition("error: ")[2] for line in lines if line.startswith("error: ")), "")
    if not reason:
        reason = lines[0].removeprefix("regex error: ").rstrip(".")
    carets = [line for line in lines if line.strip() and not line.strip(" ^")]
    offset = carets[0].index("^") - 4 if carets else -1
    return RegexError(f"does not compile: {reason}", _hint(reason), offset)


def _hint(reason: str) -> str:
    return next((hint for part, hint in _HINTS if part in reason), "")
