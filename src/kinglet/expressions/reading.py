"""The text of an expression to a tree. SQL is read by a general parser of it; what may stand there is decided here."""

from __future__ import annotations

import functools
import re
from collections.abc import Collection

import sqlglot
from sqlglot import parser
from sqlglot.dialects.dialect import Dialect
from sqlglot.errors import SqlglotError

from kinglet.expressions.pieces import MOST_CHARACTERS, QUOTED, WORD
from kinglet.expressions.terms import ExpressionError

WORDS = frozenset(
    (
        *("AND", "AS", "BETWEEN", "CASE", "CAST", "ELSE", "END", "ESCAPE", "EXTRACT", "FALSE", "FROM", "ILIKE", "IN"),
        *("IS", "LIKE", "NOT", "NULL", "OR", "THEN", "TRUE", "TRY_CAST", "WHEN"),
    )
)
"""Words of the language; a field of such a name is written in double quotes."""
_PIECE = re.compile(rf"{QUOTED}|(?P<word>{WORD})(?P<call>\s*\()?|.", re.DOTALL)


class _Expressions(Dialect):
    """SQL in which functions are calls by name and nothing more, whose meaning the table of functions gives."""

    class Parser(parser.Parser):
        FUNCTIONS = {}  # noqa: RUF012
        FUNCTION_PARSERS = {  # noqa: RUF012
            name: parser.Parser.FUNCTION_PARSERS[name] for name in ("CAST", "TRY_CAST", "EXTRACT")
        }
        NO_PAREN_FUNCTIONS = {}  # noqa: RUF012
        NO_PAREN_FUNCTION_PARSERS = {"CASE": parser.Parser.NO_PAREN_FUNCTION_PARSERS["CASE"]}  # noqa: RUF012


@functools.lru_cache(maxsize=1024)
def _tree(text: str) -> object:
    found = sqlglot.parse(text, dialect=_Expressions)
    if len(found) != 1 or found[0] is None:
        raise ExpressionError("it is not one expression")
    return found[0]


def tree(text: str, fields: Collection[str]) -> object:
    """The tree of an expression in which words that are fields stand for them.

    Raises:
        ExpressionError: it is no SQL expression.
    """
    if len(text) > MOST_CHARACTERS:
        raise ExpressionError(f"it has more than {MOST_CHARACTERS:,} characters", "make several steps of it")
    try:
        return _tree(_quoted(text, fields))
    except SqlglotError as error:
        first = re.sub(r"\x1b\[\d*m", "", str(error)).splitlines()[0].strip().rstrip(".")
        words = (piece["word"] for piece in _PIECE.finditer(text))
        word = next((piece for piece in words if piece in fields and piece.upper() in WORDS), None)
        hint = f'`{word}` is a word of SQL; write "{word}" for the field' if word is not None else ""
        first = "it is not complete" if "Required keyword" in first else first[:1].lower() + first[1:]
        raise ExpressionError(first, hint) from None
    except RecursionError:
        raise ExpressionError("it is nested too deeply", "make several steps of it") from None


def _quoted(text: str, fields: Collection[str]) -> str:
    """SQL whose field names are quoted, so that a field may be called `user` or `order`."""

    def piece(found: re.Match[str]) -> str:
        word = found["word"]
        if word is None or word.upper() in WORDS or not (word in fields or "." in word):
            return found[0]
        if found["call"] and "." not in word:
            return found[0]
        return f'"{word}"{found["call"] or ""}'

    return _PIECE.sub(piece, text)
