"""What the first lines of events have at their beginning: a stamp, and what stands before it."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from typing import NamedTuple

import polars as pl

from kinglet.discover.labels import is_label
from kinglet.timestamps.formats import parse_format
from kinglet.timestamps.known_forms import Findable
from kinglet.timestamps.reading import TimeReading, instants
from kinglet.timestamps.stamps_in_text import format_of, stamps

_PROBE = 4000
_MOST_HEADS = 4  # forms of stamps that first lines of one log may begin with
_REACH = 100  # characters of a line within which the stamp of a first line stands
_MOST_WORDS = 6
_DAY = timedelta(days=1)
_TIMES = 500
_MORE_WORDS = 2  # that another form of first lines may have before its stamp
_MOST_PARTS = 5
_ADDRESS = re.compile(r"\d{1,3}(?:\.\d{1,3}){3}(?::\d+)?|[0-9A-Fa-f]*:[0-9A-Fa-f:]*:[0-9A-Fa-f:]*")
HEADS_BETWEEN = "|(?:)"  # stands between two forms of first lines, and nowhere else


class Heads(NamedTuple):
    """What lines that begin an event have at their beginning: a stamp.

    start: a regex of the stamp that most begin with, and of what stands before it. any: where a sign opens the stamp,
    such as `[`, also of a line in which more stands before it; such a line is no continuation either.
    """

    start: str
    any: str
    is_labelled: bool = False


class _Head(NamedTuple):
    """What stands before the stamp of a line: words between blanks, and signs directly before it.

    words: those that are labels or signs only; the others are None. of_address: whether the first is an address, as
    no text begins that goes on with an event.
    """

    outline: str
    indented: bool
    words: tuple[str | None, ...]
    glue: str
    of_address: bool = False

    @property
    def is_labelled(self) -> bool:
        """Whether a label stands directly before the stamp."""
        return is_label(self.glue or (self.words[-1] if self.words else None))

    def may_begin_beside(self, first: _Head) -> bool:
        """Whether it may begin events where most begin with another head.

        `End-Date: …` goes on with an event, and so does a line with more words before its stamp, or an indented one.
        """
        if any(map(is_label, (*self.words, self.glue))) or self.indented > first.indented:
            return False
        return self.of_address or len(self.words) <= len(first.words) + _MORE_WORDS


def stamp_heads(lines: pl.Series) -> Heads | None:
    """The stamp that most events begin with."""
    step = max(1, len(lines) // _PROBE)
    probe = lines.gather_every(step).head(_PROBE)
    found = [(line, at[0]) for line in probe if (at := stamps(line[:_REACH]))]
    groups: dict[_Head, list[list[str]]] = {}
    said: dict[_Head, list[tuple[Findable, str]]] = {}
    for line, stamp in found:
        head, words = _head_of(line[: stamp.start], stamp.form.outline)
        groups.setdefault(head, []).append(words)
        said.setdefault(head, []).append((stamp.form, line[stamp.start : stamp.end]))
    forms: Counter[str] = Counter()
    heads: dict[str, _Head] = {}
    for head, members in groups.items():
        prefix = _prefix_regex(head, members, step == 1)
        if prefix is not None:
            forms[f"^{prefix}{head.outline}"] += len(members)
            heads[f"^{prefix}{head.outline}"] = head
    usual = [form for form, count in forms.most_common(_MOST_HEADS) if count >= max(2, 0.02 * len(probe))]
    if not usual:
        return None
    if heads[usual[0]].is_labelled:
        return Heads(usual[0], usual[0], True)
    first = heads[usual[0]]
    usual = [
        usual[0],
        *(
            form
            for form in usual[1:]
            if heads[form].may_begin_beside(first) and may_be_times(said[heads[form]], said[first])
        ),
    ]
    start = usual[0] if len(usual) == 1 else f"^(?:{HEADS_BETWEEN.join(form.removeprefix('^') for form in usual)})"
    opened = [rf"^\S.{{0,{_REACH}}}?{heads[form].glue}{heads[form].outline}" for form in usual if heads[form].glue]
    return Heads(start, "|".join([start, *dict.fromkeys(opened)]))


def may_be_times(stamps_: Sequence[tuple[Findable, str]], usual: Sequence[tuple[Findable, str]]) -> bool:
    """Whether stamps may be times of events beside the usual ones.

    They are none where they have no time of day, are all of one moment, or lie elsewhere: `Valid until 2027-01-01` goes
    on with an event.
    """
    if usual[0][0].clock and not stamps_[0][0].clock:
        return False
    if len(stamps_) > 2 and len({text for _, text in stamps_}) == 1 < len({text for _, text in usual}):
        return False
    times, others = _instants(stamps_), _instants(usual)
    if not times or not others:
        return True
    since = min(found.min() for found in others) - _DAY  # type: ignore[operator, type-var]
    until = max(found.max() for found in others) + _DAY  # type: ignore[operator, type-var]
    return any(float(found.is_between(since, until).mean() or 0) >= 0.5 for found in times)  # type: ignore[arg-type]


def _instants(stamps_: Sequence[tuple[Findable, str]]) -> list[pl.Series]:
    """What stamps say that have a date with its year, in each order that day and month may have."""
    form, example = stamps_[0]
    texts = pl.Series([text for _, text in stamps_[:_TIMES]], dtype=pl.String)
    out = []
    for swapped in (False, True) if form.swapped else (False,):
        spec = parse_format(format_of(form, example, swapped=swapped)) if form.date and form.format else None
        if spec is None or not spec.has_year:
            return []
        out.append(instants(texts, TimeReading((spec,)), datetime.now(UTC)).drop_nulls())
    return [found for found in out if len(found)]


def _head_of(before: str, outline: str) -> tuple[_Head, list[str]]:
    """The form of what stands before a stamp, and its words."""
    words = before.split()
    glue = words.pop() if before and not before[-1].isspace() else ""
    kept = tuple(word if word != "-" and (is_label(word) or not re.search(r"[^\W_]", word)) else None for word in words)
    is_fixed = glue[-1:] in (":", "=") and not glue[:-1].isdigit()  # a label is what it is
    open_glue = None if is_fixed else _token_regex(glue)
    if open_glue is None and not is_fixed and any(map(str.isdigit, glue)):
        open_glue = r"\S*"  # of many parts, of which some are numbers that differ
    of_address = len(words) > 1 and _ADDRESS.fullmatch(words[0]) is not None
    return _Head(outline, before[:1].isspace(), kept, open_glue or escaped(glue), of_address), words


def _prefix_regex(head: _Head, members: Sequence[Sequence[str]], every: bool) -> str | None:
    """What stands before a stamp, words that differ left open; nothing where it is too much.

    every: whether these are all lines; of some of them a name may seem to be the same everywhere.
    """
    if len(head.words) > _MOST_WORDS:
        return None
    out = r"\s+" if head.indented else ""
    for i, kept in enumerate(head.words):
        texts = Counter(words[i] for words in members)
        text = next(iter(texts))
        if kept is not None or (len(texts) == 1 and (every or text.isalpha()) and not _ADDRESS.fullmatch(text)):
            out += escaped(text)
        else:
            shapes = {_token_regex(one) for one in texts}
            out += (shapes.pop() if len(shapes) == 1 else None) or r"\S+"
        out += r"\s+"
    return out + head.glue


def _token_regex(text: str) -> str | None:
    """A word with its letters and digits left open; nothing where it is of many parts."""
    parts = re.findall(r"[^\W_](?:[\w.-]*[^\W_])?|.", text)
    if len(parts) > _MOST_PARTS:
        return None
    out = ""
    for part in parts:
        if part.isascii() and part.isalpha():
            out += "[A-Za-z]+"
        elif part.isascii() and part.isdigit():
            out += "[0-9]+"
        else:
            out += r"[\w.-]+" if part[0].isalnum() else escaped(part)
    return out


def escaped(text: str) -> str:
    """A text as a regex of itself, for people to read."""
    return re.sub(r"([\\.^$*+?{}\[\]()|#])", r"\\\1", text)
