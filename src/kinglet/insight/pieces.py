"""A pattern or regex piece by piece: what each is in words, what it took of a line, and where it gave up."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING, NamedTuple

from kinglet.errors import UsageError, did_you_mean
from kinglet.insight.spans import first_match, within_quotes
from kinglet.patterns.grammar import Slot, parse, slots
from kinglet.patterns.types import TYPES
from kinglet.plan.data import MORE, Reading
from kinglet.regex.atoms import atoms
from kinglet.regex.backtracking import Budget, search

if TYPE_CHECKING:
    from kinglet.parser import Parser

_FLAGS = re.compile(r"\(\?[a-zA-Z]+\)")
_PLAIN = re.compile(r"\\[^A-Za-z0-9]|[^\\()\[\]{}*+?.|^$]")
_QUANTIFIED = re.compile(r"(.*?)(\{\d+(?:,\d*)?\}|[*+?])(\??)$", re.DOTALL)
_SETS = {
    r"\d": "a digit",
    r"\D": "no digit",
    r"\w": "a letter, digit or _",
    r"\W": "no letter, digit or _",
    r"\s": "a blank",
    r"\S": "anything but blanks",
    r"\n": "a line end",
    r"\t": "a tab",
    ".": "any character",
    r"[ \t]": "a blank",
    r"[^\s]": "anything but blanks",
    "[0-9]": "a digit",
    "[A-Za-z]": "a letter",
    "(?s:.)": "any character, of other lines too",
}
_TIMES = {"*": "any number of times", "+": "once or more", "?": "or nothing"}


class Piece(NamedTuple):
    """A piece of a pattern.

    text: as the parser file has it, or as a regex. words: what it is. taken: what it took; none where it took no part.
    start, end: where that stands in the line.
    """

    text: str
    words: str
    taken: str | None
    start: int = -1
    end: int = -1


class Pieces(NamedTuple):
    """The pieces of the envelope or of a variant. matches: whether all of it does. column: where it gave up, from 1."""

    name: str
    matches: bool
    column: int
    pieces: tuple[Piece, ...]


def pieces(parser: Parser, line: str, variant: str | None = None) -> list[Pieces]:
    """What the envelope and a variant take of a raw event, piece by piece.

    variant: the one to show; otherwise the one that reads the event, or where none does the one that gets furthest.

    Raises:
        UsageError: there is no such variant, or it reads nothing.
    """
    plan = parser._plan
    names = [item.name for item in plan.variants]
    if variant is not None and variant not in names:
        raise UsageError(
            f"no variant `{variant}`", did_you_mean(variant, names, "the variants are " + ", ".join(names))
        )
    found: list[Pieces] = []
    base, text = 0, line
    if plan.envelope is not None and plan.envelope.regexes:
        found.append(_pieces("envelope", plan.envelope, line, 0))
        match = first_match(plan.envelope, line)
        if match is None or plan.body is None:
            return found
        base, text = match.start(plan.body), match[plan.body]
    values: dict[str, Piece] = {}
    if plan.envelope is not None and not plan.envelope.regexes and plan.envelope.structures:
        keys = _keys("envelope", plan.envelope, line, 0)
        found.append(keys)
        if not keys.matches:
            return found
        first = plan.envelope.structures[0]
        values = {item.name: piece for key, item in zip(first.keys, first.fields, strict=True)
                  for piece in keys.pieces if piece.text == key and piece.taken is not None}  # fmt: skip
    event = parser.parse([line]).events.row(0, named=True)
    chosen = variant or event["variant"]
    tried: list[Pieces] = []
    for item in plan.variants:
        if chosen is not None and item.name != chosen:
            continue
        held = values.get(item.source or "")
        own, start = (held.taken or "", held.start) if held is not None else (text, base)
        if item.reading.regexes:
            tried.append(_pieces(item.name, item.reading, own, start))
        elif item.reading.structures:
            tried.append(_keys(item.name, item.reading, own, start))
    if variant is not None and not tried:
        raise UsageError(f"`{variant}` reads nothing of its own", "see what it reads with `kinglet explain`")
    if tried:
        found.append(max(tried, key=lambda one: (one.matches, one.column)))
    return found


def _pieces(name: str, reading: Reading, text: str, base: int) -> Pieces:
    regex = reading.regexes[-1]
    every = atoms(regex)
    flags = "".join(one for one in every if _FLAGS.fullmatch(one))
    runs = _runs([one for one in every if not _FLAGS.fullmatch(one)])
    budget = Budget()
    for count in range(len(runs), 0, -1):
        wrapped = "".join(f"(?P<_piece{i}>{run})" for i, run in enumerate(runs[:count]))
        try:
            match = search(flags + wrapped, text, budget.remaining)
        except (TimeoutError, re.error):
            continue
        if match and (count == len(runs) or match.end()):
            out = [_taken(run, reading, match.span(f"_piece{i}"), text, base) for i, run in enumerate(runs[:count])]
            out += [Piece(_source(run, reading), in_words(run, reading), None) for run in runs[count:]]
            return Pieces(name, count == len(runs), base + match.end() + 1, tuple(out))
    nothing = (Piece(_source(run, reading), in_words(run, reading), None) for run in runs)
    return Pieces(name, False, base + 1, tuple(nothing))


def _keys(name: str, reading: Reading, text: str, base: int) -> Pieces:
    """What a structure takes, value by value; of a text that is none of it how far it goes, and what is wrong there."""
    plan = reading.structures[0]
    values = plan.structure.values(text)
    if values is None:
        at, message = plan.structure.unread(text)
        return Pieces(name, False, base + at + 1, (Piece(text[at : at + 20], message, None),))
    fields = dict(zip(plan.keys, plan.fields, strict=True))
    out = []
    for value in values:
        item = fields.get(value.path)
        about = "any text" if item is None or item.type.name == "text" else item.type.about
        words = f"`{item.name}`: {about}" if item is not None else f"kept in `{MORE}`"
        start, end = within_quotes(text, value.start, value.end)
        out.append(Piece(value.path, words, value.text, base + start, base + end))
    return Pieces(name, True, base + len(text) + 1, tuple(out))


def _taken(run: str, reading: Reading, span: tuple[int, int], text: str, base: int) -> Piece:
    start, end = span
    taken = text[start:end] if start >= 0 else None
    return Piece(_source(run, reading), in_words(run, reading), taken, base + start, base + end)


def _runs(every: list[str]) -> list[str]:
    """Pieces, fixed text in one."""
    out: list[str] = []
    plain = False
    for piece in every:
        is_plain = _PLAIN.fullmatch(piece) is not None
        if is_plain and plain:
            out[-1] += piece
        else:
            out.append(piece)
        plain = is_plain
    return out


def _source(run: str, reading: Reading) -> str:
    """A piece as the parser file writes it, where it has another way than a regex."""
    name = re.match(r"\(\?P<(\w+)>", run)
    if name and name[1] in reading.sources:
        return reading.sources[name[1]]
    if run == r"[ \t]+":
        return " "
    if all(_PLAIN.fullmatch(one) for one in atoms(run)):
        return re.sub(r"\\(.)", r"\1", run)
    return run


def in_words(run: str, reading: Reading) -> str:
    """What a piece of a regex is, in words."""
    if run in ("^", "$"):
        return "the start" if run == "^" else "the end"
    if re.fullmatch(r"\[ \\t\][+*]\$?", run):
        return "blanks" if "+" in run else "blanks, if there are any"
    parts = atoms(run)
    if all(_PLAIN.fullmatch(one) for one in parts):
        return "this text"
    name = re.match(r"\(\?P<(\w+)>", run)
    if name and run.endswith(")"):
        return _of_slot(name[1], reading) or f"`{name[1]}`: {in_words(run[name.end() : -1], reading)}"
    if len(parts) > 1:
        return ", then ".join(in_words(one, reading) for one in _runs(parts))
    quantified = _QUANTIFIED.fullmatch(run)
    if quantified and quantified[1]:
        inner = quantified[1]
        if inner.startswith("(?:") and quantified[2] == "?":
            return f"if it is there: {in_words(inner[3:-1], reading)}"
        often = _TIMES.get(quantified[2]) or _often(quantified[2])
        return f"{in_words(inner, reading)}, {often}" + (", as few as can be" if quantified[3] else "")
    if run.startswith("(?:") and run.endswith(")"):
        return in_words(run[3:-1], reading)
    if run in ("(?s:.*)", "(?s:.*?)", "(?s:.+)", "(?s:.+?)"):
        return "anything, of other lines too" + (", as little as can be" if "?)" in run else "")
    if "|" in run and not run.startswith(("[", "(")):
        return "one of " + " or ".join(f"`{one}`" for one in run.split("|"))
    if run in _SETS:
        return _SETS[run]
    if run.startswith("[^"):
        return f"anything but {run[2:-1]}"
    if run.startswith("["):
        return f"one of {run[1:-1]}"
    if run.startswith(("(?=", "(?!", "(?<")):
        return "looks around and takes nothing"
    return "a group" if run.startswith("(") else "this"


def _often(braces: str) -> str:
    least, comma, most = braces[1:-1].partition(",")
    return f"{least} times" if not comma else f"{least} to {most} times" if most else f"{least} times or more"


def _of_slot(name: str, reading: Reading) -> str:
    """What the slot is that a group stands for."""
    source = reading.sources.get(name, "")
    found = slots(parse(source)) if source.startswith("{") else []
    if len(found) != 1 or not isinstance(found[0], Slot):
        return ""
    if found[0].words:
        return f"`{name}`: one of {', '.join(found[0].words)}"
    about = TYPES[found[0].type].about if found[0].type in TYPES else f"a {found[0].type}"
    return f"`{name}`: {about}"
