"""`extends`: a parser file that says only what it has other than another.

The two are put together before anything else looks at them, value by value, and each value keeps the place where it was
written: a problem is shown in the file that it stands in.
"""

from __future__ import annotations

import codecs
import hashlib
import re
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any, NamedTuple

from kinglet.errors import ParserFileError, Problem, did_you_mean
from kinglet.spec import document
from kinglet.spec.document import Base, Document, KeyPath
from kinglet.spec.ready import ready_parser, ready_parsers
from kinglet.structures import STRUCTURES

MOST_BASES = 8
_NAME = re.compile(r"(?P<name>[A-Za-z0-9][A-Za-z0-9_.-]*)@(?P<version>\d+(?:\.\d+){0,2})")
_FORMS = ("pattern", "regex", *STRUCTURES)
_OF_FORM = (*_FORMS, "types", "keys", "needs")
"""What a variant says of how it reads, which goes together."""
_PLACING = ("off", "before", "after", "tail")
"""What the entry of a variant says of the base's, and not of itself."""


class _Spot(NamedTuple):
    """A value of a document."""

    document: Document
    path: KeyPath

    @property
    def value(self) -> Any:
        found = self.document.values
        for part in self.path:
            found = found[part]
        return found

    def at(self, *parts: str | int) -> _Spot:
        return _Spot(self.document, (*self.path, *parts))

    def items(self) -> list[_Spot]:
        """The items of a list; one that is written without it is its only one."""
        return [self.at(i) for i in range(len(self.value))] if isinstance(self.value, list) else [self]

    def get(self, key: str) -> Any:
        return self.value.get(key) if isinstance(self.value, dict) else None


def extended(own: Document, above: Sequence[str] = (), *, cases: bool = True) -> Document:
    """A document with what it has of the parser that it extends; one that extends none as it is.

    above: the files that extend this one. cases: whether those of the base are wanted.

    Raises:
        ParserFileError: there is no such parser, it has another version, or a variant is named that it has not.
    """
    if not isinstance(own.values, dict) or "extends" not in own.values:
        return own
    file, version = _base_of(own, above)
    found = document.from_file(file, cases=cases)
    base = extended(found, (*above, own.name), cases=cases)
    if not isinstance(base.values, dict):
        return own
    is_version = str(base.values.get("version", ""))
    if is_version.split(".")[: len(version)] != version:
        wanted = f"the parser that it extends has version {is_version}, and not {'.'.join(version)}"
        hint = f"look what is new in it (`kinglet compare`), then write @{is_version.split('.')[0]}"
        raise ParserFileError([own.problem(("extends",), wanted, hint)])
    return _Merger(own, base).merged(found)


def digest(text: bytes) -> str:
    """SHA-256 of a parser file, whatever the line ends of the system, with a mark of UTF-8 before it or none."""
    return hashlib.sha256(text.removeprefix(codecs.BOM_UTF8).replace(b"\r\n", b"\n")).hexdigest()


def _base_of(own: Document, above: Sequence[str]) -> tuple[Path, list[str]]:
    """The file that a document extends, and the version that it names: beside it, or a ready parser."""
    written = own.values["extends"]
    match = _NAME.fullmatch(written) if isinstance(written, str) else None
    if match is None:
        raise ParserFileError([own.problem(("extends",), "is no parser and its version", "write it like `openssh@1`")])
    name = match["name"]
    beside = own.folder / f"{name}.yaml"
    itself = {Path(file).absolute() for file in (*above, own.name)}
    is_new = beside.is_file() and beside.absolute() not in itself
    # a file may be called as the ready parser that it extends
    file = beside if is_new else ready_parser(name) or (beside if beside.absolute() in itself else None)
    if file is None:
        hint = did_you_mean(name, ready_parsers(), f"put {name}.yaml beside this file")
        raise ParserFileError([own.problem(("extends",), f"there is no parser `{name}`", hint)])
    if file.absolute() in itself:
        raise ParserFileError([own.problem(("extends",), f"`{name}` extends this parser itself", "extend another")])
    if len(above) >= MOST_BASES:
        raise ParserFileError(
            [own.problem(("extends",), f"more than {MOST_BASES} parsers one upon another", "copy one")]
        )
    return file, match["version"].split(".")


class _Merger:
    """Two documents, put together in a third."""

    def __init__(self, own: Document, base: Document) -> None:
        self.own, self.base = own, base
        self.out = Document(own.name, {}, starts={(): own.place(()), ("extends",): own.place(("extends",))})
        self.problems: list[Problem] = []
        self.added: list[str] = []
        self.changed: list[str] = []
        self.off: list[str] = []
        self.replaced_cases = 0

    def merged(self, found: Document) -> Document:
        """The document; found: that of the base's file, before what this itself extends."""
        own, base = _Spot(self.own, ()), _Spot(self.base, ())
        without = self._without()
        taken = [key for key in self.base.values if key not in without]
        for key in (*(key for key in taken if key not in self.own.values), *self.own.values):
            if key in ("extends", "without"):
                continue
            mine = own.at(key) if key in self.own.values else None
            theirs = base.at(key) if key in taken else None
            if mine is None or theirs is None or not self._both(key, mine, theirs):
                self._put((key,), mine or theirs or own)
        if self.problems:
            raise ParserFileError(self.problems)
        if any(key in self.own.values for key in ("clock", "time")):
            self._without_times()
        self._order_of_keys()
        self.out.base = Base(
            name=str(self.base.values.get("parser")),
            version=str(self.base.values.get("version")),
            file=found.name,
            digest=digest(Path(found.name).read_bytes()),
            keys=tuple(key for key in self.own.values if key not in _OF_ITSELF and key in taken),
            without=tuple(without),
            added=tuple(self.added),
            changed=tuple(self.changed),
            off=tuple(self.off),
            cases=len(self.out.values.get("cases") or ()) - len(self.own.values.get("cases") or ()),
            replaced_cases=self.replaced_cases,
            written=self.own.values,
            base=self.base.base,
        )
        return self.out

    def _without(self) -> list[str]:
        """The sections of the base that are not taken."""
        written = self.own.values.get("without", [])
        sections = {**self.base.values, "cases": None}  # there are none where cases are not wanted
        names = written if isinstance(written, list) else [written]
        for i, name in enumerate(names):
            path = ("without", i) if isinstance(written, list) else ("without",)
            if name in ("kinglet", "parser", "version") or name not in sections:
                hint = did_you_mean(str(name), sections, "sections are such as `cases`, `steps`, `claims`")
                self.problems.append(self.own.problem(path, f"{self._base} has no section `{name}`", hint))
        return [str(name) for name in names]

    def _both(self, key: str, mine: _Spot, theirs: _Spot) -> bool:
        """A key that both have; whether it is put together, and not only one's own."""
        merge = _MERGED.get(key)
        kind = list if key in _LISTS else dict | list
        if merge is None or not isinstance(mine.value, kind) or not isinstance(theirs.value, dict | list):
            return False
        merge(self, (key,), mine, theirs)
        return True

    def _order_of_keys(self) -> None:
        order = [*self.base.values, *(key for key in self.own.values if key not in self.base.values)]
        self.out.values = {key: self.out.values[key] for key in order if key in self.out.values}

    def _put(self, path: KeyPath, spot: _Spot) -> None:
        """A value, with all below it and their places."""
        self._hang(path, self._copy(path, spot))

    def _hang(self, path: KeyPath, value: Any) -> None:
        parent = self.out.values
        for part in path[:-1]:
            parent = parent[part]
        if isinstance(parent, list):
            parent.append(value)
        else:
            parent[path[-1]] = value

    def _copy(self, path: KeyPath, spot: _Spot) -> Any:
        self._places(path, spot)
        value = spot.value
        if isinstance(value, dict):
            return {key: self._copy((*path, key), spot.at(key)) for key in value}
        if isinstance(value, list):
            return [self._copy((*path, i), spot.at(i)) for i in range(len(value))]
        return value

    def _places(self, path: KeyPath, spot: _Spot) -> None:
        source, out = spot.document, self.out
        if spot.path in source.keys:
            out.keys[path] = source.keys[spot.path]
        out.starts[path] = source.starts.get(spot.path, source.place(spot.path))
        if spot.path in source.numbers:
            out.numbers[path] = source.numbers[spot.path]
        for marks, own in ((source.quoted, out.quoted), (source.multiline, out.multiline)):
            if spot.path in marks:
                own.add(path)

    def _open(self, path: KeyPath, spot: _Spot, value: Any) -> None:
        """An empty mapping or list where one's own stands."""
        self._places(path, spot)
        self._hang(path, value)

    def by_key(
        self, path: KeyPath, mine: _Spot, theirs: _Spot, *, empty: bool = False, inner: Sequence[str] = ()
    ) -> None:
        """Mappings key by key. empty: whether a value of nothing takes a key out. inner: keys that are mappings too."""
        if not isinstance(mine.value, dict) or not isinstance(theirs.value, dict):
            self._put(path, mine)
            return
        self._open(path, mine, {})
        for key in dict.fromkeys([*theirs.value, *mine.value]):
            here = (*path, key)
            if key not in mine.value:
                self._put(here, theirs.at(key))
            elif empty and mine.value[key] is None:
                continue
            elif key in inner and key in theirs.value and isinstance(mine.value[key], dict):
                self.by_key(here, mine.at(key), theirs.at(key))
            else:
                self._put(here, mine.at(key))

    def names(self, path: KeyPath, mine: _Spot, theirs: _Spot) -> None:
        """Types, parts and templates by their names; nothing takes one out."""
        self.by_key(path, mine, theirs, empty=True)

    def keys(self, path: KeyPath, mine: _Spot, theirs: _Spot) -> None:
        """Sections of constants."""
        self.by_key(path, mine, theirs)

    def event(self, path: KeyPath, mine: _Spot, theirs: _Spot) -> None:
        """Mappings of events, by attribute."""
        self.by_key(path, mine, theirs, inner=("set", "translate"))

    def times(self, path: KeyPath, mine: _Spot, theirs: _Spot) -> None:
        """Time rules: those of one's own stand for all of the base that give the same stamp, or for none if off."""
        given = {rule.get("to") for rule in mine.items()}
        self._open(path, mine, [])
        kept = [rule for rule in theirs.items() if rule.get("to") not in given]
        for rule in (*kept, *(rule for rule in mine.items() if rule.get("off") is not True)):
            self._put((*path, len(self.out.values[path[0]])), rule)

    def steps(self, path: KeyPath, mine: _Spot, theirs: _Spot) -> None:
        """Steps: one that has the name of one of the base stands in its place, others behind them."""
        named = {step.get("name"): step for step in mine.items() if step.get("name") is not None}
        known = {step.get("name") for step in theirs.items()}
        self._open(path, mine, [])
        behind = [step for step in mine.items() if step.get("name") is None or step.get("name") not in known]
        for step in (*(named.get(step.get("name"), step) for step in theirs.items()), *behind):
            self._put((*path, len(self.out.values[path[0]])), step)

    def cases(self, path: KeyPath, mine: _Spot, theirs: _Spot) -> None:
        """Cases: one's own, then those of the base but for the same events."""
        given = {_event_of(case) for case in mine.items()}
        self._open(path, mine, [])
        for case in mine.items():
            self._put((*path, len(self.out.values[path[0]])), case)
        for case in theirs.items():
            if _event_of(case) in given:
                self.replaced_cases += 1
                continue
            self._put((*path, len(self.out.values[path[0]])), case)

    def _without_times(self) -> None:
        """Cases of the base without times, which are not the base's where clock or time rules are one's own."""
        stamps = {"time", *(str(rule["to"]) for rule in self.out.values.get("time") or () if "to" in rule)}
        cases = self.out.values.get("cases")
        for case in cases[len(self.own.values.get("cases") or ()) :] if isinstance(cases, list) else ():
            for section in ("expect", "model") if isinstance(case, dict) else ():
                if isinstance(case.get(section), dict):
                    case[section] = {name: value for name, value in case[section].items() if name not in stamps}

    def variants(self, path: KeyPath, mine: _Spot, theirs: _Spot) -> None:
        """Variants by their names: changed where they stand, switched off, moved, or added before those of the base."""
        order: list[str] = [str(variant.get("name")) for variant in theirs.items()]
        known = dict(zip(order, theirs.items(), strict=True))
        entries = {str(entry.get("name")): entry for entry in mine.items()}
        front: list[str] = []
        for name, entry in entries.items():
            if not self._fits(entry, known, entries):
                continue
            if entry.get("off") is True:
                order.remove(name)
                self.off.append(name)
                continue
            (self.changed if name in known else self.added).append(name)
            where = next((key for key in ("before", "after") if entry.get(key) is not None), None)
            if where is None:
                if name not in known:
                    front.append(name)
                continue
            beside = str(entry.get(where))
            if name in known:
                order.remove(name)
            names = order if beside in order else front
            names.insert(names.index(beside) + (where == "after"), name)
        if len(entries) < len(mine.items()):
            self._twice(mine)
        if self.problems:
            self._put(path, theirs)
            return
        self._open(path, mine, [])
        for name in (*front, *order):
            here = (*path, len(self.out.values[path[0]]))
            self._variant(here, entries.get(name), known.get(name))

    def _fits(self, entry: _Spot, known: dict[str, _Spot], entries: dict[str, _Spot]) -> bool:
        """Whether an entry says of the base's variants what can be."""
        name, off = str(entry.get("name")), entry.get("off")
        before, after = entry.get("before"), entry.get("after")
        there = [one for one, its in {**known, **entries}.items() if its.get("off") is not True and one != name]
        wrong: tuple[str, str, str] | None = None
        if off not in (None, True):
            wrong = "off", "is not `true`", "leave it out where the variant stays"
        elif off and name not in known:
            wrong = "off", f"there is no variant `{name}` in {self._base}", did_you_mean(name, known, "")
        elif off and (before is not None or after is not None):
            wrong = "off", "goes with no place", "leave `before` and `after` out"
        elif before is not None and after is not None:
            wrong = "after", "goes with no `before`", "leave one of them out"
        elif entry.get("tail") is not None and (hint := _no_tail(entry, known.get(name))):
            wrong = "tail", "has nothing that it could stand behind", hint
        else:
            for key, beside in (("before", before), ("after", after)):
                if beside is not None and (beside not in there or self._is_later(str(beside), name, known, entries)):
                    wrong = key, f"there is no variant `{beside}` to stand {key}", did_you_mean(str(beside), there, "")
        if wrong is not None:
            self.problems.append(self.own.problem((*entry.path, wrong[0]), wrong[1], wrong[2]))
        return wrong is None

    def _is_later(self, beside: str, name: str, known: dict[str, _Spot], entries: dict[str, _Spot]) -> bool:
        """Whether a variant of one's own is named before it is there."""
        own = [one for one in entries if one not in known]
        return beside in own and (list(entries).index(beside) > list(entries).index(name))

    def _twice(self, mine: _Spot) -> None:
        names = [entry.get("name") for entry in mine.items()]
        again = next(i for i, name in enumerate(names) if name in names[:i])
        path = (*mine.at(again).path, "name")
        self.problems.append(self.own.problem(path, f"a second variant `{names[again]}`", "put the two together"))

    @property
    def _base(self) -> str:
        return f"{self.base.values.get('parser')}"

    def _variant(self, path: KeyPath, mine: _Spot | None, theirs: _Spot | None) -> None:
        """A variant of one of the two, or of both: a form of one's own stands for all that the base says of reading."""
        if mine is None or not isinstance(mine.value, dict):
            self._put(path, mine or theirs or _Spot(self.base, ()))
            return
        spot = theirs or mine
        self._open(path, mine, {})
        reads = any(form in mine.value for form in _FORMS)
        for key in dict.fromkeys([*(spot.value if theirs else ()), *mine.value]):
            here = (*path, key)
            both = theirs is not None and key in theirs.value and key in mine.value
            if key in _PLACING or (key not in mine.value and reads and key in _OF_FORM):
                continue
            if key not in mine.value:
                self._put(here, spot.at(key))
            elif both and key == "event":
                self.event(here, mine.at(key), spot.at(key))
            elif both and key in ("types", "keys") and not reads:
                self.names(here, mine.at(key), spot.at(key))
            else:
                self._put(here, mine.at(key))
        if mine.get("tail") is not None:
            self._tail(path, mine.at("tail"))

    def _tail(self, path: KeyPath, tail: _Spot) -> None:
        """Text behind what the base reads, before the sign for the end that a regex may have."""
        variant = self.out.values[path[0]][path[1]]
        form = next(name for name in ("pattern", "regex") if name in variant)
        written = variant[form]
        end = "$" if form == "regex" and written.endswith("$") and not written.endswith("\\$") else ""
        variant[form] = written.removesuffix(end) + tail.value + end
        self._places((*path, form), tail)
        self.out.multiline.add((*path, form))


def _event_of(case: _Spot) -> tuple[str, str]:
    before = case.get("before")
    return str(case.get("raw")), "\n".join(map(str, before if isinstance(before, list) else [before]))


def _no_tail(entry: _Spot, base: _Spot | None) -> str:
    """Why a variant can have no text behind what the base reads; empty where it can."""
    if not isinstance(entry.get("tail"), str):
        return "write it as text"
    if base is None or any(form in entry.value for form in _FORMS):
        return "write it into the pattern"
    return "" if isinstance(base.get("pattern") or base.get("regex"), str) else "give the variant a form of its own"


_OF_ITSELF = ("kinglet", "parser", "version", "extends", "without", "variants", "cases", "about")
"""Keys of which it goes without saying that they differ, or of which it is said how."""
_LISTS = ("steps", "variants", "cases")
_MERGED: dict[str, Callable[[_Merger, KeyPath, _Spot, _Spot], None]] = {
    "product": _Merger.keys,
    "clock": _Merger.keys,
    "types": _Merger.names,
    "parts": _Merger.names,
    "templates": _Merger.names,
    "time": _Merger.times,
    "event": _Merger.event,
    "steps": _Merger.steps,
    "variants": _Merger.variants,
    "cases": _Merger.cases,
}
"""How a key that both have is put together; any other is one's own."""
