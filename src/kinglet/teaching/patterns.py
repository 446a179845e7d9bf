"""Patterns that find a value in texts: by the words around it, or by the whole message; a regex where none does."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from types import MappingProxyType
from typing import NamedTuple

import polars as pl

from kinglet.patterns.compiling import to_regexes
from kinglet.patterns.grammar import PatternError, escaped, parse
from kinglet.teaching.fronts import Front
from kinglet.teaching.places import Found, Layout, Place, before, behind, type_of_values

_VALUE = "taught_value"
_MOST_WORDS = 4
_MOST_PATTERNS = 12
_AROUND = re.compile(r"\^(.*)\(\.\*\?\)(.*)\$", re.DOTALL)


class Way(NamedTuple):
    """A way of reading a field from a text: `pattern` or `regex`, what it says, and the name of the field."""

    form: str
    text: str
    name: str = _VALUE


def ways(
    found: Found, texts: Sequence[str], name: str, kind: str | None, known: Mapping[int, str] = MappingProxyType({})
) -> list[Way] | None:
    """Patterns that together read the value of every text, and nothing else; none where there are no such.

    name, kind: of the slot. known: values that texts have already, which may be read again.
    """
    column = pl.Series("text", texts, dtype=pl.String)
    wanted = [found.values.get(row, known.get(row)) for row in range(len(texts))]
    left = {row for row in found.values if row not in known}
    told = sorted(found.places[: found.told], key=lambda one: -len(found.layouts[one.layout].rows))
    out: list[Way] = []
    for i, place in enumerate([*told, *found.places[found.told :]]):
        rows = set(found.layouts[place.layout].rows) & left
        if not rows:
            continue
        taken = next(_fitting(_of_place(found, place, kind), column, wanted, rows), None)
        if taken is None and i < found.told:  # the whole message may well read more: one that differs in a word
            taken = next(_fitting(_wholes(found, place, kind), column, wanted, rows, more=True), None)
        if taken is not None and len(out) < _MOST_PATTERNS:
            out.append(taken[0])
            left -= taken[1]
        elif i < found.told:
            return None
        else:
            left -= rows
    return [Way(way.form, named(way.text, name), name) for way in out]


def way_of_front(front: Front, texts: Sequence[str], name: str, kind: str | None) -> Way | None:
    """The pattern of a value at a place from the start; none where it takes anything else."""
    column = pl.Series("text", texts, dtype=pl.String)
    wanted = [front.values.get(row) for row in range(len(texts))]
    own = kind or type_of_values(list(front.values.values()))
    ends = (f"{escaped(front.behind)}{{:rest}}", "[[ {:rest}]]") if front.behind.strip() else ("[[ {:rest}]]",)
    some = (
        Way("pattern", f"{front.pattern}{_slot(kind)}{end}") for kind in dict.fromkeys((own, "word")) for end in ends
    )
    taken = next(_fitting(some, column, wanted, set(front.values)), None)
    return Way("pattern", named(taken[0].text, name), name) if taken is not None else None


def named(text: str, name: str) -> str:
    """A pattern or regex with a name for the slot of the value, which may be none; text of the log is left alone."""
    text = re.sub(rf"(?<!\{{)\{{{_VALUE}:", f"{{{name}:", text)
    return text.replace(f"(?P<{_VALUE}>", f"(?P<{name}>")


def _fitting(
    some: Iterator[Way], texts: pl.Series, wanted: Sequence[str | None], rows: set[int], *, more: bool = False
) -> Iterator[tuple[Way, set[int]]]:
    """The ways that take nothing but what is wanted, and all of it in these rows; each with the rows that it reads.

    more: they may take something where nothing is known to be wanted.
    """
    for way in some:
        values = read(way, texts)
        if values is None or any(
            value is not None and value != wanted[row] and not (more and wanted[row] is None)
            for row, value in enumerate(values)
        ):
            continue
        covered = {row for row, value in enumerate(values) if value is not None}
        if rows <= covered:
            yield way, covered


def read(way: Way, texts: pl.Series) -> list[str | None] | None:
    """What a way takes of each text; none where it is no way at all."""
    try:
        regexes = to_regexes(parse(way.text), {}) if way.form == "pattern" else (way.text,)
        taken = texts.str.extract_groups(regexes[-1]).struct.field(_VALUE)
    except (PatternError, pl.exceptions.PolarsError, KeyError):
        return None
    return taken.to_list()


def _of_place(found: Found, place: Place, kind: str | None) -> Iterator[Way]:
    """Ways to read the value at a place, the most readable first."""
    layout = found.layouts[place.layout]
    values = [found.values.get(row) for row in layout.rows]
    at_end = place.last == len(layout.cells) - 1
    type_ = kind or type_of_values(values, before(layout, place.first), last=at_end)
    if place.inside:
        yield from _within(layout, place, type_)
        yield from _wholes(found, place, kind)
        return
    for text in _by_words(layout, place, type_):
        yield Way("pattern", text)
    yield from _wholes(found, place, kind)
    left, right = before(layout, place.first), behind(layout, place.last)
    if left.strip():
        yield Way("regex", f"{re.escape(left)}(?P<{_VALUE}>.+?){re.escape(right) or '$'}".replace(r"\ ", " "))


def _wholes(found: Found, place: Place, kind: str | None) -> Iterator[Way]:
    """The whole message as patterns, or all of it up to what stands behind the value."""
    layout = found.layouts[place.layout]
    lead, tail = "", ""
    if place.inside:
        inside = _AROUND.fullmatch(place.inside)
        if inside is None:
            return
        lead, tail = escaped(_plain(inside[1])), escaped(_plain(inside[2]))
    values = [found.values.get(row) for row in layout.rows]
    type_ = type_of_values(values, last=place.last == len(layout.cells) - 1 and not tail)
    for own in (kind,) if kind is not None else dict.fromkeys((type_, "word", "text")):
        for to_end in (False, True):
            yield Way("pattern", whole(layout, place, own, to_end=to_end, lead=lead, tail=tail))


def _slot(kind: str) -> str:
    return f"{{{_VALUE}:{kind}}}"


def _by_words(layout: Layout, place: Place, kind: str) -> Iterator[str]:
    """Patterns with a few words in front of the value, and the sign or word behind it."""
    left, right = before(layout, place.first), behind(layout, place.last)
    at_start = all(cell.fixed is not None for cell in layout.cells[: place.first])
    at_end = place.last == len(layout.cells) - 1
    starts = [match.start() for match in re.finditer(r"\S+", left)][-_MOST_WORDS:]
    if at_start and not left:
        for end in _ends(right, at_end=at_end):
            yield _slot(kind) + end
    for start in reversed(starts):
        words = escaped(left[start:])
        for end in _ends(right, at_end=at_end):
            if start or not at_start:
                blank = " " if start and left[start - 1].isspace() else ""
                yield f"{{:text}}{blank}{words}{_slot(kind)}{end}"
                if blank:
                    yield f"[[{{:text}} ]]{words}{_slot(kind)}{end}"
            else:
                yield f"{words}{_slot(kind)}{end}"
                yield f"[[{{:text}} ]]{words}{_slot(kind)}{end}"


def _ends(right: str, *, at_end: bool) -> Iterator[str]:
    """What may stand behind a value in a pattern."""
    if at_end:
        yield ""
        yield "[[ {:rest}]]"
        return
    if right[:1].isspace():
        yield "[[ {:rest}]]"
        word = re.match(r"\s+\S+", right)
        if word:
            yield f" {escaped(word[0].strip())}{{:rest}}"
    elif right:
        sign = re.match(r"\w+|\W", right)
        assert sign is not None
        yield f"{escaped(sign[0])}{{:rest}}"
        yield f"[[{escaped(sign[0])}{{:rest}}]]"
        yield "[[ {:rest}]]"
    else:
        yield "[[ {:rest}]]"


def whole(layout: Layout, place: Place, kind: str, *, to_end: bool, lead: str = "", tail: str = "") -> str:
    """The message as a pattern, in which the value alone has a name.

    to_end: all of it, rather than up to the fixed text behind the value. lead, tail: what stands around the value in
    its cell, as the pattern has it.
    """
    out = ""
    cells = layout.cells
    lacks = [tuple(value is None for value in cell.values) for cell in cells]
    open_part = False
    for i, cell in enumerate(cells):
        if place.first < i <= place.last:
            continue
        here = lacks[place.first] if place.first <= i <= place.last else lacks[i]
        optional = any(here) and here != lacks[place.first]  # what goes with the value is there wherever it is
        if open_part and (not optional or lacks[i] != lacks[i - 1]):
            out, open_part = out + "]]", False
        if optional and not open_part:
            out, open_part = out + "[[", True
        if i == place.first:
            out += lead + _slot(kind) + tail
        elif cell.fixed is not None:
            out += escaped(cell.fixed)
        else:
            out += f"{{:{type_of_values(cell.values, last=i == len(cells) - 1)}}}"
        if not to_end and i > place.last and not open_part and cell.fixed and re.search(r"\w", cell.fixed):
            return out + "{:rest}"
    return out + ("]]" if open_part else "")


def _within(layout: Layout, place: Place, kind: str) -> Iterator[Way]:
    """Ways to read a value that is part of a cell, or of fixed text."""
    cells = layout.cells[place.first : place.last + 1]
    left, right = before(layout, place.first), behind(layout, place.last)
    fixed = all(cell.fixed is not None for cell in cells)
    inside = _AROUND.fullmatch(place.inside)
    if inside:
        lead, tail = _plain(inside[1]), _plain(inside[2])
        text = left + lead
        start = max((match.start() for match in re.finditer(r"\S+", text)), default=0)
        for end in _ends(tail + right if fixed or tail or right else "", at_end=not tail and not right):
            at_start = all(cell.fixed is not None for cell in layout.cells[: place.first])
            front = "" if at_start and not start else "{:text}"
            blank = " " if start and text[start - 1].isspace() else ""
            yield Way("pattern", f"{front}{blank}{escaped(text[start:])}{_slot(kind)}{end}")
            yield Way("pattern", f"[[{{:text}} ]]{escaped(text[start:])}{_slot(kind)}{end}")
            yield Way("pattern", f"{'' if at_start else '{:text}'}{escaped(text)}{_slot(kind)}{end}")
    grouped = place.inside.replace("(", f"(?P<{_VALUE}>", 1) if place.inside.count("(") == 1 else None
    pieces = re.split(r"(?<!\\)\((?!\?)", place.inside)
    if len(pieces) == 2:
        body = pieces[0].removeprefix("^") + f"(?P<{_VALUE}>" + pieces[1].removesuffix("$")
        word = re.search(r"\S+\s*$", left)
        yield Way("regex", re.escape(word[0] if word else "").replace(r"\ ", " ") + body)
    if grouped is not None:
        yield Way("regex", grouped)


def _plain(regex: str) -> str:
    return re.sub(r"\\(.)", r"\1", regex)
