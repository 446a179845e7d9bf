"""Which small changes of a parser its cases notice, and for those that none notices, the event that would."""

from __future__ import annotations

import functools
import json
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any

import polars as pl

from kinglet.compiler.passes import build
from kinglet.drafting.leftovers import bodies
from kinglet.errors import KingletError, Place, UsageError
from kinglet.generating.events import Maker
from kinglet.insight.cases import are_good, check_cases, events_of, said_type_of
from kinglet.ocsf.loading import load_model
from kinglet.output.views import ModelView
from kinglet.parser import Parser
from kinglet.processes import spread
from kinglet.regex.backtracking import why_slow
from kinglet.spec import loading
from kinglet.spec.document import Document, dotted
from kinglet.spec.schema import Case
from kinglet.strength.changes import Change, changed, changes

_MADE = 6
_FIRST = 6
_MOST_VARIANTS = 5
_AT = "2026-03-05"
_OF_NO_EVENT = ("unmapped", "raw_data", "time", "metadata.uid", "metadata.transformation_info_list")


@dataclass(frozen=True)
class Survivor:
    """A change that no case notices, its place, and an event that comes out otherwise, with the difference."""

    place: Place
    key: str
    what: str
    raw: str
    name: str
    before: str
    now: str


@dataclass(frozen=True)
class Strength:
    """How many changes were noticed, those that were not, and how many made no difference to any event."""

    noticed: int
    survivors: list[Survivor]
    without_effect: int

    @property
    def score(self) -> float | None:
        """The share that was noticed of those that make a difference, from 0 to 1; none where nothing does."""
        made = self.noticed + len(self.survivors)
        return self.noticed / made if made else None

    def is_below(self, least: int | None) -> bool:
        """Whether fewer changes are noticed than so many in a hundred."""
        return least is not None and self.score is not None and self.score * 100 < least


def checked_least(least: int | None, *, mutate: bool) -> None:
    """Refuses a score that cannot be.

    Raises:
        UsageError: it is none, or nothing is changed.
    """
    if least is not None and not 0 <= least <= 100:
        raise UsageError(f"{least} is no score", "write a number from 0 to 100")
    if least is not None and not mutate:
        raise UsageError("a least score needs something that is measured", "add --mutate")


def strength(
    parser: Parser,
    *,
    sample: Sequence[str] = (),
    model_files: Sequence[str] = (),
    progress: Callable[[int, int], None] = lambda done, of: None,
) -> Strength:
    """Changes a parser in small ways, one at a time, and asks its cases.

    sample: raw events of logs that may show a difference, besides those that are made. model_files: extensions of the
    model. progress: told how many changes are done, of how many.
    """
    found = changes(parser._document.values)
    noticed = without = 0
    survivors: list[Survivor] = []
    given = (parser._document, tuple(sample), tuple(model_files))
    for done, (change, outcome) in enumerate(zip(found, spread(_judged, found, _begin, given), strict=True), 1):
        progress(done, len(found))
        if outcome is True:
            noticed += 1
        elif outcome is False:
            without += 1
        elif outcome is not None:
            place = parser._document.place(change.path)
            survivors.append(Survivor(place, dotted(change.path), change.what, *outcome))
    return Strength(noticed, survivors, without)


@dataclass
class _Whole:
    """A parser before it is changed, its cases that are good, and events that may show a difference, read by it."""

    values: dict[str, Any]
    parser: Parser
    cases: list[Case]
    raws: list[str]

    @functools.cached_property
    def rows(self) -> list[dict[str, Any]]:
        return _rows(self.parser, self.raws, mapped=False)

    @functools.cached_property
    def mapped_rows(self) -> list[dict[str, Any]]:
        return _rows(self.parser, self.raws, mapped=True)


class _Subject:
    """What a process knows of the parser that it changes: all of it, and each variant by itself, which is quicker."""

    def __init__(self, document: Document, sample: Sequence[str], model_files: Sequence[str]) -> None:
        self.model = load_model(*model_files) if model_files else None
        self.document = document
        bare = {key: value for key, value in document.values.items() if key != "cases"}
        parser = self.built(document.values)
        outcomes = [outcome for outcome in check_cases(parser) if outcome.good]
        good = [outcome.case for outcome in outcomes]
        variants = events_of(parser)["variant"]
        self.by_variant: dict[str | None, list[Case]] = {}
        for case, name in ((outcome.case, variants[outcome.number - 1]) for outcome in outcomes):
            self.by_variant.setdefault(name, []).append(case)
        self.maker = Maker(parser)
        self.sample = list(sample)
        count = len(parser._plan.variants)
        # what all variants share shows in some of them, and each costs time of its own
        some = range(0, count, count // _MOST_VARIANTS + 1)
        shown = {parser._plan.variants[number].name for number in some}
        raws = [case.raw for name, known in self.by_variant.items() if name in shown for case in known]
        raws += [*(raw for number in some for raw in self.made(number)), *self.sample]
        self.whole = _Whole(bare, self.built(bare), good, list(dict.fromkeys(raws)))

    def built(self, values: dict[str, Any]) -> Parser:
        document = Document(self.document.name, values, self.document.keys, self.document.starts)
        definition, _ = loading.checked(document)
        return Parser(definition, document, build(definition, document, model=self.model), self.model)

    def others(self, alone: _Whole) -> pl.Series:
        """What the variants read of the cases of others, as far as it does not tell which variant it is."""
        raws = [case.raw for case in self.whole.cases if case not in alone.cases]
        return bodies(self.whole.parser._plan, pl.Series(raws, dtype=pl.String)).drop_nulls()

    def made(self, number: int) -> list[str]:
        """Events made for a variant."""
        found = [*self.maker.several(number, _MADE), *self.maker.one_by_one(number)]
        return list(dict.fromkeys(one.raw for one in found))

    @functools.cache  # noqa: B019  # as long as the process, which has one of them
    def alone(self, number: int) -> _Whole | None:
        """A variant as the only one of its parser; None where the others are needed."""
        values = {**self.whole.values, "variants": [self.whole.values["variants"][number]]}
        cases = self.by_variant.get(values["variants"][0].get("name"), [])
        try:
            parser = self.built(values)
            if not are_good(parser, cases):
                return None
        except KingletError:
            return None
        return _Whole(values, parser, cases, list(dict.fromkeys([*(case.raw for case in cases), *self.made(number)])))


_state: dict[str, _Subject] = {}


def _begin(document: Document, sample: tuple[str, ...], model_files: tuple[str, ...]) -> None:
    _state["now"] = _Subject(document, sample, model_files)


Outcome = bool | None | tuple[str, str, str, str]


def _judged(change: Change) -> Outcome:
    """True where a case notices it, False where it makes no difference, None where it cannot be loaded any more."""
    subject = _state["now"]
    path = change.path
    try:
        if path[0] == "variants" and len(path) > 2 and isinstance(path[1], int):
            alone = subject.alone(path[1])
            if alone is not None:
                return _of_variant(subject, alone, change, change._replace(path=("variants", 0, *path[2:])))
        return _of_whole(subject.whole, subject.built(changed(subject.whole.values, change)), "event" in path)
    except KingletError:
        return None


def _of_variant(subject: _Subject, alone: _Whole, change: Change, own: Change) -> Outcome:
    """A change of one variant: its own cases, and where it may read others' events now, all of them."""
    parser = subject.built(changed(alone.values, own))
    outcome = _of_whole(alone, parser, "event" in own.path)
    if outcome is True or "event" in own.path:
        return outcome
    others = subject.others(alone)
    if _read(alone.parser, others) != _read(parser, others):
        return _of_whole(subject.whole, subject.built(changed(subject.whole.values, change)), False) or outcome
    return outcome


def _read(parser: Parser, texts: pl.Series) -> list[bool]:
    """Which texts the only variant of a parser reads."""
    reading = parser._plan.variants[0].reading
    if not reading.regexes or any(why_slow(regex) for regex in reading.regexes):
        return [not reading.regexes]
    masks = [texts.str.contains(regex) for regex in reading.regexes]
    return pl.select(pl.any_horizontal(*map(pl.lit, masks))).to_series().to_list()


def _of_whole(whole: _Whole, parser: Parser, mapped: bool) -> Outcome:
    for some in (whole.cases[:_FIRST], whole.cases[_FIRST:]):  # most changes of all of it show in any case
        if not are_good(parser, some):
            return True
    now = _rows(parser, whole.raws, mapped=mapped)
    best: tuple[str, str, str, str] | None = None
    for raw, one, other in zip(whole.raws, whole.mapped_rows if mapped else whole.rows, now, strict=True):
        name = next((key for key in (*one, *other) if one.get(key) != other.get(key)), None)
        if name is not None and (best is None or len(raw) < len(best[0])):
            best = (raw, name, *_two(one.get(name), other.get(name)))
    return best or False


def _rows(parser: Parser, raws: Sequence[str], *, mapped: bool) -> list[dict[str, Any]]:
    """What becomes of events; where a mapping was changed what they become in the model."""
    if not raws:
        return []
    result = parser.parse(list(raws), reference_time=_AT, workers=1)
    names = [
        name for name in result.events.columns if name not in ("id", "version", "parser", "file", "offset", "line")
    ]
    order = ["state", "variant", "time", *(name for name in names if name not in ("state", "variant", "time"))]
    rows = result.events.select(order).to_dicts()
    if mapped:
        view = ModelView(parser._plan)
        lines = iter([json.loads(line) for batch in result.batches for line in view.lines(batch.kept())])
        for row in rows:
            if row["state"] != "dropped":
                row |= dict(_leaves(next(lines)))
    return rows


def _leaves(value: Any, front: str = "") -> Iterator[tuple[str, Any]]:
    for name, inner in value.items():
        if front + name in _OF_NO_EVENT:
            continue
        if isinstance(inner, dict):
            yield from _leaves(inner, f"{front}{name}.")
        else:
            yield f"{front}{name}", inner


def _two(one: Any, other: Any) -> tuple[str, str]:
    """How a value was and is; of those that read the same also their types."""
    before, now = _said(one), _said(other)
    if before != now:
        return before, now
    return f"{before} ({said_type_of(one)})", f"{now} ({said_type_of(other)})"


def _said(value: Any) -> str:
    return (
        "nothing" if value is None else " ".join(map(str, value)) or "none" if isinstance(value, list) else str(value)
    )
