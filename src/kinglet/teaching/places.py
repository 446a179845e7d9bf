"""Where a value stands in texts: the messages they are, laid under each other, and the place of the value in each."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

from kinglet.drafting.naming import JOINING
from kinglet.drafting.patterns import slot_type
from kinglet.mining.messages import mine
from kinglet.mining.parts import Literal, Part, Varying

_LABEL = re.compile(r"([^\W\d_][\w-]*)[^\w]*$")
_COMMON = 0.3
"""So much of the values at two places is to be the same where the word in front of them says little."""


class Cell(NamedTuple):
    """Text that does not vary, or one value for each text of a message; null where a text lacks it."""

    fixed: str | None
    values: list[str | None]


@dataclass
class Layout:
    """Texts of one message: their numbers, and their cells, which put together are the texts."""

    rows: list[int]
    cells: list[Cell]

    def texts(self, position: int) -> list[str]:
        """The cells of one text."""
        return [cell.values[position] or "" for cell in self.cells]


class Place(NamedTuple):
    """A place in a message: cells from first up to last, both counted in, and what of their text is the value.

    inside: a regex whose one group is the value, where it is not all of the text.
    """

    layout: int
    first: int
    last: int
    inside: str = ""


@dataclass
class Found:
    """Places of a value and, for each text, the value there. told: the places that marks stand at."""

    layouts: list[Layout]
    places: list[Place]
    told: int
    values: dict[int, str] = field(default_factory=dict)


def layouts(texts: Sequence[str]) -> list[Layout]:
    """The messages of texts, each with what all texts begin with."""
    split = [text.partition("\n") for text in texts]
    found = _of_lines([first for first, _, _ in split])
    for layout in found:
        more = [split[row] for row in layout.rows]
        if any(sign for _, sign, _ in more):  # lines behind the first are one cell
            layout.cells.append(Cell("\n", [sign or None for _, sign, _ in more]))
            layout.cells.append(Cell(None, [rest if sign else None for _, sign, rest in more]))
    return found


def _of_lines(texts: Sequence[str]) -> list[Layout]:
    mined = mine(texts)
    lost = set(mined.lost)
    kept = [row for row in range(len(texts)) if row not in lost]
    position = {row: i for i, row in enumerate(kept)}
    found = []
    for message in mined.messages:
        here = [position[row] for row in message.rows]
        head = [cell for part in mined.head for cell in _cells(part, here)]
        own = [cell for part in message.parts for cell in _cells(part, range(len(here)))]
        found.append(Layout(message.rows, [*head, *own]))
    if lost:
        rest = mine([texts[row] for row in mined.lost])
        if not rest.lost:
            for message in rest.messages:
                rows = [mined.lost[row] for row in message.rows]
                head = [cell for part in rest.head for cell in _cells(part, message.rows)]
                own = [cell for part in message.parts for cell in _cells(part, range(len(rows)))]
                found.append(Layout(rows, [*head, *own]))
    return found


def _cells(part: Part, rows: Sequence[int]) -> list[Cell]:
    if isinstance(part, Literal):
        return [Cell(part.text, [part.text] * len(rows))]
    if isinstance(part, Varying):
        return [Cell(None, [part.values[row] for row in rows])]
    having = set(part.rows)
    out = []
    for inner in part.parts:
        (cell,) = _cells(inner, rows)
        out.append(
            Cell(cell.fixed, [text if row in having else None for row, text in zip(rows, cell.values, strict=True)])
        )
    return out


def found_in(texts: Sequence[str], marks: Mapping[int, str | None]) -> Found | None:
    """The places of a value, and the values of all texts, by what it is in some of them; none where that fits no place.

    marks: the value in texts, by their numbers; null where a text has none.
    """
    laid = layouts(texts)
    of_row = {row: (i, at) for i, layout in enumerate(laid) for at, row in enumerate(layout.rows)}
    told: dict[int, list[Place]] = {}
    for row, text in marks.items():
        if text is None:
            continue
        if row not in of_row:
            return None
        number, at = of_row[row]
        here = list(_places(laid[number], number, at, text))
        known = told.get(number)
        told[number] = here if known is None else [place for place in known if _value(laid, place, at) == text]
        if not told[number]:
            told[number] = [place for place in here if _fits(laid, place, of_row, marks)]
        if not told[number]:
            return None
    nothing = [of_row[row] for row, text in marks.items() if text is None and row in of_row]
    for number, places in told.items():
        at_none = [at for own, at in nothing if own == number]
        told[number] = [place for place in places if all(_value(laid, place, at) is None for at in at_none)]
        if not told[number]:
            return None
    chosen = [places[0] for places in told.values()]
    out = Found(laid, [*chosen, *_alike(laid, chosen)], len(chosen))
    refused = {of_row[row][0] for row, text in marks.items() if text is None and row in of_row}
    out.places = [place for i, place in enumerate(out.places) if i < out.told or place.layout not in refused]
    for place in out.places:
        for at, row in enumerate(laid[place.layout].rows):
            if (value := _value(laid, place, at)) is not None and marks.get(row, "") is not None:
                out.values[row] = value
    return out


def _fits(
    laid: list[Layout], place: Place, of_row: Mapping[int, tuple[int, int]], marks: Mapping[int, str | None]
) -> bool:
    return all(_value(laid, place, of_row[row][1]) == text
               for row, text in marks.items() if row in of_row and of_row[row][0] == place.layout)  # fmt: skip


def _places(layout: Layout, number: int, at: int, text: str) -> list[Place]:
    """The places at which a text of a message has a value, the plainest first."""
    pieces = layout.texts(at)
    starts, whole = [0], ""
    for piece in pieces:
        whole += piece
        starts.append(len(whole))
    exact: list[Place] = []
    others: list[Place] = []
    for match in re.finditer(f"(?={re.escape(text)})", whole):
        start, end = match.start(), match.start() + len(text)
        first = max(i for i in range(len(pieces)) if starts[i] <= start and pieces[i])
        last = min(i for i in range(len(pieces)) if starts[i + 1] >= end and pieces[i])
        if starts[first] == start and starts[last + 1] == end:
            exact.append(Place(number, first, last))
            continue
        if start > starts[first] and _is_within(whole[start - 1], text[0]):
            continue  # the middle of a word
        before, behind = whole[starts[first] : start], whole[end : starts[last + 1]]
        others += [Place(number, first, last, inside) for inside in _insides(before, behind, text)]
    plain = [place for place in exact if layout.cells[place.first].fixed is None]
    usable = [place for place in others if _value([layout], place._replace(layout=0), at) == text]
    return [*plain, *(place for place in exact if place not in plain), *_widest(layout, usable)]


def _is_within(one: str, other: str) -> bool:
    """Whether no word or number ends between two characters."""
    return (one.isalpha() and other.isalpha()) or (one.isdigit() and other.isdigit())


def _insides(before: str, behind: str, text: str) -> list[str]:
    """Regexes that find a value within the text of a cell: by what is always around it, or by signs."""
    found = [f"^{re.escape(before)}(.*?){re.escape(behind)}$"]
    left = re.search(r"([^\w])$", before)
    right = re.match(r"[^\w]", behind)
    stop = re.escape(right[0]) if right else ""
    taken = f"([^{stop}]*?)" if stop else "(.*?)"
    end = f"(?:{stop}.*)?$" if stop else "$"
    if left:
        sign, count = re.escape(left[1]), before.count(left[1])
        found.append(f"^(?:[^{sign}]*{sign}){{{count}}}{taken}{end}")
    elif not before:
        found.append(f"^{taken}{end}")
    line = before.rpartition("\n")[2]
    if line.strip():
        end = re.escape(behind.partition("\n")[0])
        found.append(rf"(?:^|\n){re.escape(line)}([^\n]*?){end}(?:\n|$)")
    if re.fullmatch(r"[0-9]+", text):
        found.append(r"^[^0-9]*([0-9]+)[^0-9]*$")
    return found


def _widest(layout: Layout, places: Sequence[Place]) -> list[Place]:
    """Places within cells, those first that find something in most texts of the message."""

    def reach(place: Place) -> int:
        return sum(
            _value([layout], place._replace(layout=0), at) is not None for at in range(min(len(layout.rows), 300))
        )

    return sorted(places, key=lambda place: -reach(place))


def _value(laid: list[Layout], place: Place, at: int) -> str | None:
    """The value at a place of one text; none where it has nothing there."""
    values = [cell.values[at] for cell in laid[place.layout].cells[place.first : place.last + 1]]
    if all(value is None for value in values):
        return None
    text = "".join(value or "" for value in values)
    if not place.inside:
        return text
    match = re.search(place.inside, text, re.DOTALL)
    return match[1] if match and match[1] else None


def before(layout: Layout, first: int) -> str:
    """The fixed text in front of a cell."""
    text = ""
    for cell in reversed(layout.cells[:first]):
        if cell.fixed is None:
            break
        text = cell.fixed + text
    return text


def behind(layout: Layout, last: int) -> str:
    """The fixed text behind a cell."""
    text = ""
    for cell in layout.cells[last + 1 :]:
        if cell.fixed is None:
            break
        text += cell.fixed
    return text


def label_of(text: str) -> tuple[str, bool]:
    """The word in front of a value, and whether a sign says that it names it: `user=`, `user: `."""
    match = _LABEL.search(text[-80:])
    return (match[1].lower(), bool(re.search(r"[=:][\"'(\[<]*\s*$", text))) if match else ("", False)


def type_of_values(values: Sequence[str | None], text_before: str = "", *, last: bool = False) -> str:
    """The slot type of values: a general one where a parser file has no name for the narrow one."""
    kind, _ = slot_type(Varying(list(values), frozenset()), text_before, last=last)
    return "text" if kind.startswith("/") or kind in ("json", "time") else kind


def _alike(laid: list[Layout], told: Sequence[Place]) -> list[Place]:
    """Places in other messages that look like those of marks: the same word in front of values of the same type."""
    marked = {place.layout for place in told}
    known: dict[tuple[str, bool], tuple[str, set[str]]] = {}
    for place in told:
        if place.inside:
            continue
        label = label_of(before(laid[place.layout], place.first))
        values = {text for at in range(len(laid[place.layout].rows)) if (text := _value(laid, place, at)) is not None}
        kind, other = known.get(label, (type_of_values(sorted(values)), set()))
        known[label] = (kind, other | values)
    out = []
    for number, layout in enumerate(laid):
        if number in marked:
            continue
        for i, cell in enumerate(layout.cells):
            if cell.fixed is not None:
                continue
            label = label_of(before(layout, i))
            if label not in known or not label[0]:
                continue
            kind, values = known[label]
            here = {text for text in cell.values if text is not None}
            if here and one_field(label, kind, values, type_of_values(sorted(here)), here):
                out.append(Place(number, i, i))
                break
    return out


def _forms(values: set[str]) -> set[str]:
    """What values look like: letters and digits, however many, and signs."""
    return {re.sub("[0-9]+", "9", re.sub(r"[^\W\d_]+", "a", text)) for text in list(values)[:200]}


def one_field(label: tuple[str, bool], kind: str, values: set[str], other: str, here: set[str]) -> bool:
    """Whether values behind the same word are of one field."""
    common = len(values & here) / min(len(values), len(here))
    if kind in ("word", "text") and not common and not _forms(values) & _forms(here):
        return False
    if label[0] in JOINING and not label[1]:
        return kind == other and common >= _COMMON
    return kind == other or (common > 0 and {kind, other} <= {"word", "text", "host", "rest"})
