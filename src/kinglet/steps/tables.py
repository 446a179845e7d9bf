"""Steps by tables: translate values, look up rows by value, network (CIDR, RFC 4632 and 4291) or longest prefix."""

from __future__ import annotations

import csv
import functools
import ipaddress
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import NamedTuple

import polars as pl

from kinglet.columns.faults import Faults
from kinglet.errors import ParserFileError, Place, Problem, did_you_mean
from kinglet.expressions.compiling import Expression
from kinglet.plan.steps import Action, Fields, Json, Needs
from kinglet.runtime.steps import Asked, computed, placed
from kinglet.spec import steps as forms
from kinglet.steps.context import StepContext
from kinglet.timestamps.stamps import Reference

MOST_BYTES = 256 * 2**20


@dataclass(frozen=True, eq=False)
class Table:
    """A CSV file with a header (RFC 4180), read when it is first needed, once for each parser that is loaded.

    place, key: where the parser file names it. folder: that of the parser file, out of which no link leads.
    """

    path: Path
    place: Place
    key: str
    folder: Path | None = None

    @functools.cached_property
    def columns(self) -> Mapping[str, list[str]]:
        """Its columns by name.

        Raises:
            ParserFileError: it cannot be read.
        """
        try:
            real = self.path.resolve()
            if self.folder is not None and not real.is_relative_to(self.folder.resolve()):
                raise self.problem(f"{self.path}: leads out of the folder of the parser file", "put the table into it")
            if real.exists() and not real.is_file():
                raise self.problem(f"{self.path}: is no file", "a table is a CSV file")
            if self.path.stat().st_size > MOST_BYTES:
                raise self.problem(f"{self.path}: is larger than the {MOST_BYTES // 2**20} MiB a table may have", "")
            with self.path.open(encoding="utf-8-sig", newline="") as file:
                rows = list(csv.reader(file))
        except OSError as error:
            reason = "no such file" if isinstance(error, FileNotFoundError) else error.strerror or str(error)
            raise self.problem(
                f"{self.path}: {reason}", "the file stands beside the parser file, or below it"
            ) from None
        except (UnicodeDecodeError, csv.Error) as error:
            raise self.problem(f"{self.path}: is no CSV in UTF-8: {error}", "save it as CSV with a header") from None
        header = rows[0] if rows else []
        if not header or len(set(header)) < len(header):
            what = "has no header" if not header else "names a column twice"
            raise self.problem(f"{self.path}: {what}", "its first row names its columns, each once")
        for number, row in enumerate(rows[1:], 2):
            if row and len(row) != len(header):
                what = f"{self.path}:{number}: has {len(row)} columns, the header {len(header)}"
                raise self.problem(what, "quote values that hold commas")
        kept = [row for row in rows[1:] if row]
        return {name: [row[i] for row in kept] for i, name in enumerate(header)}

    def column(self, name: str | None, place: int = 0) -> list[str]:
        """A column by name, or by its place.

        Raises:
            ParserFileError: there is none.
        """
        names = list(self.columns)
        if name is None:
            if place >= len(names):
                raise self.problem(
                    f"{self.path}: has no column {place + 1}", "a table has a column of keys and one of values"
                )
            return self.columns[names[place]]
        if name not in self.columns:
            hint = did_you_mean(name, names, "its columns are " + ", ".join(names))
            raise self.problem(f"{self.path}: has no column `{name}`", hint)
        return self.columns[name]

    def problem(self, message: str, hint: str) -> ParserFileError:
        """What is wrong with it, said with the place in the parser file."""
        return ParserFileError([Problem(self.place, self.key, message, hint)])


class Translation(NamedTuple):
    """What a field becomes: the text of an expression by a table.

    otherwise: what the table lacks becomes; where it is None that is null, or stays as it is where the field is `kept`.
    """

    name: str
    expression: Expression
    needs: Needs
    table: tuple[tuple[str, str], ...] | Table
    otherwise: str | None
    kept: bool

    def pairs(self) -> Mapping[str, str]:
        """Words and what they become; of a word that stands twice the first row counts."""
        if not isinstance(self.table, Table):
            return dict(self.table)
        keys, values = self.table.column(None, 0), self.table.column(None, 1)
        return dict(zip(reversed(keys), reversed(values), strict=True))


@dataclass(frozen=True)
class Translate(Action):
    """Fields by tables, all of which see the event as it was before the step."""

    items: tuple[Translation, ...]

    def act(self, frame: pl.DataFrame, where: pl.Series | None, reference: Reference) -> tuple[pl.DataFrame, Faults]:
        """See `Action`."""
        before, faults = frame, []
        items = [item for item in self.items if any(name in before.columns for name, _ in item.needs)]
        asked = [Asked(item.expression, item.needs, item.name) for item in items]
        for item, (value, bad) in zip(items, computed(before, where, asked), strict=True):
            text = value.cast(pl.String)
            pairs = item.pairs()
            default = item.otherwise if item.otherwise is not None else text if item.kept else None
            found = text.replace_strict(list(pairs), list(pairs.values()), default=default, return_dtype=pl.String)
            frame = placed(frame, item.name, found.set(text.is_null(), None), where)
            faults += bad
        return frame, faults

    def fields(self, before: Fields, always: bool) -> Fields:
        """See `Action`."""
        found = [item.name for item in self.items if any(name in before for name, _ in item.needs)]
        return before | dict.fromkeys(found, pl.String())

    @property
    def uses(self) -> tuple[str, ...]:
        """See `Action`."""
        return tuple(name for item in self.items for name, _ in item.needs)

    @property
    def gives(self) -> tuple[str, ...]:
        """See `Action`."""
        return tuple(item.name for item in self.items)

    def json(self, before: Json) -> Json:
        """See `Action`."""
        return before - {*self.gives}

    def ready(self) -> None:
        """Reads the tables that are files."""
        for item in self.items:
            item.pairs()


@dataclass(frozen=True)
class Lookup(Action):
    """Columns of the row that goes with a field's value; null where none does."""

    name: str
    table: Table
    by: str
    key: str | None
    take: tuple[tuple[str, str], ...]

    def act(self, frame: pl.DataFrame, where: pl.Series | None, reference: Reference) -> tuple[pl.DataFrame, Faults]:
        """See `Action`."""
        if self.name not in frame.columns:
            return frame, []
        text = frame[self.name].cast(pl.String)
        find = FINDERS[self.by](self.table, self.key)
        known = {value: find(value) for value in text.drop_nulls().unique().to_list()}
        numbers = text.replace_strict(list(known), list(known.values()), default=None, return_dtype=pl.UInt32)
        for column, field in self.take:
            values = pl.Series(self.table.column(column), dtype=pl.String)
            values = values.set(values == "", None)
            frame = placed(frame, field, values[numbers], where)
        return frame, []

    def fields(self, before: Fields, always: bool) -> Fields:
        """See `Action`."""
        return before | (dict.fromkeys((field for _, field in self.take), pl.String()) if self.name in before else {})

    @property
    def uses(self) -> tuple[str, ...]:
        """See `Action`."""
        return (self.name,)

    @property
    def gives(self) -> tuple[str, ...]:
        """See `Action`."""
        return tuple(field for _, field in self.take)

    def json(self, before: Json) -> Json:
        """See `Action`."""
        return before - {*self.gives}

    def ready(self) -> None:
        """Reads the table."""
        FINDERS[self.by](self.table, self.key)
        for column, _ in self.take:
            self.table.column(column)


Finder = Callable[[str], "int | None"]
"""The number of the row that goes with a value."""


@functools.lru_cache(maxsize=64)
def _by_value(table: Table, key: str | None) -> Finder:
    keys = table.column(key)
    rows = {text: row for row, text in reversed(list(enumerate(keys)))}
    return rows.get


@functools.lru_cache(maxsize=64)
def _by_network(table: Table, key: str | None) -> Finder:
    """The smallest network that an address lies in; an address in a table is a network of one."""
    networks: dict[int, dict[int, dict[int, int]]] = {4: {}, 6: {}}
    for row, text in enumerate(table.column(key)):
        try:
            network = ipaddress.ip_network(text.strip(), strict=False)
        except ValueError:
            what = f"{table.path}: row {row + 1}: `{text}` is no network"
            raise table.problem(what, "write it like 192.0.2.0/24 or 2001:db8::/32") from None
        of_length = networks[network.version].setdefault(network.prefixlen, {})
        of_length.setdefault(int(network.network_address) >> (network.max_prefixlen - network.prefixlen), row)
    sorted_ = {version: sorted(lengths.items(), reverse=True) for version, lengths in networks.items()}

    def find(text: str) -> int | None:
        try:
            address = ipaddress.ip_address(text.partition("%")[0])
        except ValueError:
            return None
        number = int(address)
        for length, rows in sorted_[address.version]:
            row = rows.get(number >> (address.max_prefixlen - length))
            if row is not None:
                return row
        return None

    return find


@functools.lru_cache(maxsize=64)
def _by_prefix(table: Table, key: str | None) -> Finder:
    rows = {text: row for row, text in reversed(list(enumerate(table.column(key))))}
    lengths = sorted({len(text) for text in rows}, reverse=True)

    def find(text: str) -> int | None:
        return next((rows[text[:length]] for length in lengths if length <= len(text) and text[:length] in rows), None)

    return find


FINDERS: Mapping[str, Callable[[Table, str | None], Finder]] = {
    "value": _by_value,
    "network": _by_network,
    "prefix": _by_prefix,
}


def translate(context: StepContext, form: dict[str, forms.Translate]) -> Action | None:
    """`translate`: fields by tables."""
    items: list[Translation] = []
    for name, item in form.items():
        key = ("translate", name)
        if item.from_ is None and not context.known(key, [name]):
            continue
        made = context.expression((*key, "from"), f'"{name}"' if item.from_ is None else item.from_)
        table = _table(context, (*key, "file"), item.file) if item.file is not None else None
        if made is None or (item.file is not None and table is None):
            continue
        expression, needs = made
        kept = expression.names == (name,) and item.from_ in (None, name)
        if not kept:
            context.free(key, name, pl.String())
        words = tuple((_word(word), _word(value)) for word, value in (item.to or {}).items())
        items.append(Translation(name, expression, needs, table or words, item.otherwise, kept))
    return Translate(tuple(items)) if len(items) == len(form) else None


def lookup(context: StepContext, form: forms.Lookup) -> Action | None:
    """`lookup`: columns of a table."""
    table = _table(context, ("lookup", "file"), form.file)
    if not context.known(("lookup", "field"), [form.field]) or table is None:
        return None
    for column, name in form.take.items():
        context.free(("lookup", "take", column), name, pl.String())
    return Lookup(form.field, table, form.by, form.key, tuple(form.take.items()))


def _table(context: StepContext, key: tuple[str | int, ...], name: str) -> Table | None:
    """A table by its path, which has to stay within the folder of the parser file."""
    path = Path(name)
    if path.is_absolute() or ".." in path.parts or not path.parts:
        message = f"`{name}` leads out of the folder of the parser file"
        context.report(key, message, "put the table beside the parser file")
        return None
    where = context.work.document
    at = (*context.path, *key)
    folder = where.folder_of(at)
    return Table(folder / path, where.place(at), ".".join(map(str, key)), folder)


def _word(value: object) -> str:
    return str(value).lower() if isinstance(value, bool) else str(value)
