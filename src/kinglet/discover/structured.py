"""Whether events are JSON objects, pairs, rows, XML or blocks, and which keys of them should be fields."""

from __future__ import annotations

import itertools
import re
from collections import Counter
from collections.abc import Collection, Mapping, Sequence
from datetime import datetime
from types import MappingProxyType
from typing import Any, NamedTuple

import polars as pl

from kinglet.discover.columns import type_of
from kinglet.discover.date_and_time import Parted, parted
from kinglet.discover.header_lines import under_one
from kinglet.discover.pair_signs import Signs, pair_signs
from kinglet.discover.times import Times, format_of_time
from kinglet.names import field_of, key_of_own
from kinglet.plan.data import MORE, name_problem
from kinglet.structured.blocks import Blocks
from kinglet.structured.by_form import Structure, Value, is_within, read
from kinglet.structured.delimited import Delimited
from kinglet.structured.json_objects import JsonObjects
from kinglet.structured.pairs import Pairs
from kinglet.structured.xml_elements import XmlElements
from kinglet.timestamps.formats import parse_format
from kinglet.timestamps.reading import TimeReading, is_read

_PROBE = 300
_MOST_KEYS = 40
_ENOUGH = 0.9
_RARE = 0.02
_WIDER = {"empty": "text", "ipv4": "ip", "ipv6": "ip"}
"""A sample may be of one sort only."""
_ISO = TimeReading((parse_format("iso8601"),))


class Structured(NamedTuple):
    """A structure that nearly all events have.

    name: the key of a parser file, and form what stands behind it. types: the fields and their types, the
    commonest keys first. stamp: the field that holds the event's time. keys: those of fields that are called otherwise.
    """

    name: str
    form: str | dict[str, Any]
    types: dict[str, str]
    stamp: str | None
    parted: Parted | None = None
    """The date and the time of day, where these stand in two of the fields."""
    directives: bool = False
    """Whether lines such as `#Fields: date time` stand between the events (W3C, Extended Log File Format)."""
    keys: Mapping[str, str] = MappingProxyType({})


def structured(
    raw: pl.Series,
    stamps: Times,
    events: dict[str, Any],
    columns: Sequence[str],
    reference: datetime,
    headers: pl.Series | None = None,
) -> Structured | None:
    """The structure of a log's events; stamps: those found; columns: those of a CSV file.

    headers: what lines of the log say above each event, where such name the columns.
    """
    stamp_format = format_of_time(stamps)
    found = stamps.texts[0] if stamp_format is not None else None
    if headers is not None:
        return _below_headers(raw, headers, reference)
    probe = raw.head(_PROBE)
    pairs = pair_signs(probe.to_list())
    structures: list[Structure] = [JsonObjects()]
    if probe.str.contains("\n", literal=True).any():
        structures += [Blocks(equals) for equals in (":", "=")]
    if pairs is not None and not pairs.signs.around:
        structures.append(pairs.signs.reader)
    if probe.str.contains(r"^\s*<").mean() == 1:
        structures = [XmlElements(by) for by in (*_naming(probe), None)]
    if columns and "csv" in events:
        dialect = events["csv"] if isinstance(events["csv"], dict) else {}
        structures = [Delimited(_names(columns), dialect.get("delimiter", ","), dialect.get("quote", '"'))]
    for structure in structures:
        each = [structure.values(text) for text in probe]
        values = [item for item in each if item and _is_one(structure, item)]
        if len(values) >= _ENOUGH * len(probe) and (structure.name != "block" or _are_blocks(values)):
            if isinstance(structure, Blocks) and _are_quoted(values):
                structure = Blocks(structure.equals, quote='"')
                values = [item for text in probe if (item := structure.values(text))]
            return _of(structure, probe, values, stamp_format, found, reference)
    return None


def _below_headers(raw: pl.Series, headers: pl.Series, reference: datetime) -> Structured | None:
    """The rows whose columns lines of the log name; the times of such logs are UTC (W3C, Extended Log File Format)."""
    rows = pl.DataFrame([raw.alias("raw"), headers.alias("said")]).filter(~raw.str.starts_with("#"))
    rows = rows.gather_every(max(1, rows.height // _PROBE))
    texts, columns, sign = under_one(rows["raw"].to_list(), rows["said"].to_list())
    reader = Delimited(_names(columns), sign, '"', "-")
    values = [item for text in texts if (item := reader.values(text)) is not None]
    if not values:
        return None
    made = _of(reader, pl.Series(texts, dtype=pl.String), values, None, None, reference)
    assert isinstance(made.form, dict)
    names = made.form["names"]
    halves = made.parted._replace(standard="UTC") if made.parted is not None else None
    return made._replace(
        directives=True,
        form={**made.form, "names": "header"},
        types={name: made.types.get(name, "text") for name in names},
        keys={name: column for name, column in zip(names, columns, strict=True) if name != column},
        parted=halves,
    )


def structure_in(
    structure: Structure,
    texts: Sequence[str],
    reference: datetime,
    stamp_format: str | None = None,
    found: pl.Series | None = None,
) -> Structured:
    """What the keys of texts are that have this structure.

    stamp_format: of the event's time, and found its texts, where that is one of the keys.
    """
    values = [item for text in texts if (item := structure.values(text))]
    return _of(structure, pl.Series(texts, dtype=pl.String), values, stamp_format, found, reference)


def _naming(probe: pl.Series) -> list[str]:
    """The attribute whose value names its element, where elements stand several times and all have it."""
    keys = [value.path for text in probe.head(9) for value in XmlElements().values(text) or []]
    counts = Counter(keys)
    found = [key for key, count in counts.items() if count > 9 and count >= counts[key.rpartition(".")[0]] > 0]
    return list(dict.fromkeys(key.rpartition(".")[2] for key in found))[:1]


def _names(columns: Sequence[str]) -> list[str]:
    """Names for columns, of which none is that of a column of every event."""
    names: list[str] = []
    for i, column in enumerate(columns):
        name = re.sub(r"\W+", "_", column).strip("_") or f"column_{i + 1}"
        name = f"log_{name}" if name == MORE or name_problem(field_of(name)) is not None else name
        names.append(f"{name}_{i + 1}" if name in names else name)
    return names


def _is_one(structure: Structure, values: list[Value]) -> bool:
    """Words between blanks could all be keys without a value; that is no structure."""
    if isinstance(structure, Delimited):
        return len(values) == len(structure.names)
    if structure.name == "block":
        return sum(value.kind != "text" and value.text is not None for value in values) >= max(3, 0.5 * len(values))
    alone = structure.name in ("json", "xml")
    return sum(bool(value.kind) for value in values) >= (1 if alone else max(3, 0.75 * len(values)))


def _are_quoted(values: Sequence[Sequence[Value]]) -> bool:
    """Whether all values of some label are in double quotes."""
    each: dict[str, list[str]] = {}
    for item in values:
        for value in item:
            if value.text is not None and value.kind != "text":
                each.setdefault(value.path, []).append(value.text)
    return any(all(re.fullmatch('(?s)".*"', text) for text in texts) for texts in each.values())


def _are_blocks(values: Sequence[Sequence[Value]]) -> bool:
    """Whether the labels of blocks recur, and no more than one line of each has none.

    Below a title that is another in each event, such as `[event 17]`, none recurs.
    """
    bare = sum(sum(value.path == "text" for value in item) > 1 for item in values)
    if 2 * bare > len(values) and not _only_marks(values):
        return False
    counts = Counter(path for item in values for path in {value.path for value in item if value.text is not None})
    return 2 * sum(count > max(1, _RARE * len(values)) for count in counts.values()) >= len(counts)


def _only_marks(values: Sequence[Sequence[Value]]) -> bool:
    """Whether the lines of blocks that have no label are the same in all: where one begins, and where it ends."""
    each = [tuple(value.text for value in item if value.path == "text") for item in values]
    return len(each) > 1 and len(set(each)) == 1


def _of(
    structure: Structure,
    probe: pl.Series,
    values: list[list[Value]],
    stamp_format: str | None,
    found: pl.Series | None,
    reference: datetime,
) -> Structured:
    counts: dict[str, int] = {}
    for item in values:
        for value in item:
            if value.text is not None or structure.name != "block":  # the head of a section is no value
                counts[value.path] = counts.get(value.path, 0) + 1
    if structure.name == "block" and _only_marks(values):
        counts.pop("text", None)
    keys: list[str] = []
    for key in sorted(counts, key=lambda key: -counts[key]):
        if len(keys) < _MOST_KEYS and not any(is_within(key, other) for other in keys) and key not in ("", MORE):
            keys.append(key)
    keys.sort(key=list(counts).index)
    found_in = read(probe, structure, keys)
    columns = {key: found_in.column(key) for key in keys}
    types: dict[str, str] = {}
    stamp = None
    reading = TimeReading((parse_format(stamp_format),)) if stamp_format else None
    for key in keys:
        name = key
        if name_problem(field_of(name)) is not None or is_within(name, MORE):
            continue  # it stays among the keys without a type
        texts = columns[key].drop_nulls()
        kind = type_of(texts)
        is_it = reading is not None and stamp is None and len(texts) > 0 and is_read(texts[0], reading)
        if is_it and found is not None:  # of several keys that hold such a stamp the one that was found
            here = (columns[key] == found.head(len(columns[key]))).fill_null(False)
            is_it = bool(here.mean() or 0) and float(here.mean() or 0) > 0.5  # type: ignore[arg-type]
        if is_it:
            stamp, kind = name, "time"
        elif kind == "time" and not all(is_read(text, _ISO) for text in texts.head(3)):
            kind = "word" if not texts.str.contains(r"\s").any() else "text"
        types[name] = "text" if texts.str.starts_with("[").any() else _WIDER.get(kind, kind)
    halves = None
    if stamp is None or (stamp_format is not None and not parse_format(stamp_format).has_date):
        halves = parted({key: columns[key] for key in keys if key in types}, reference)
        if halves is not None:
            if stamp is not None:
                types[stamp] = "word"
            stamp = halves.clock
            types |= {halves.clock: "time", halves.date: "text"}
    form: str | dict[str, Any] = "true"
    if isinstance(structure, Delimited):
        form = {"names": list(structure.names)}
        form |= {"delimiter": structure.delimiter} if structure.delimiter != "," else {}
        form |= {"quote": structure.quote} if structure.quote != '"' else {}
        form |= {"nothing": structure.none} if structure.none is not None else {}
        types = {name: kind for name, kind in types.items() if kind not in ("text", "word")}
    if isinstance(structure, XmlElements) and structure.by:
        form = {"by": structure.by}
    if isinstance(structure, Blocks) and (structure.equals != ":" or structure.quote is not None):
        form = {"equals": structure.equals} if structure.equals != ":" else {}
        form |= {"quote": structure.quote} if structure.quote is not None else {}
    if isinstance(structure, Pairs):
        form = Signs(structure.between, structure.equals, structure.quote, open_values=structure.open_values).form
    return named_apart(Structured(structure.name, form, types, stamp, halves))


def named_apart(found: Structured, taken: Collection[str] = ()) -> Structured:
    """The structure; a key that is called like a field which there is already has a field of another name.

    Such is a key `log_id`, as the field of a key `id` would be called. taken: the fields of what stands in front.
    """
    names = found.form.get("names", []) if isinstance(found.form, dict) else []
    names = [] if names == "header" else names
    used, new = {*found.types, *names, *taken}, dict[str, str]()
    for name in dict.fromkeys((*found.types, *names)):
        bare = key_of_own(name) or name
        if bare != name or name in taken:
            new[name] = next(free for i in itertools.count(2) if (free := f"{bare}_{i}") not in used)
            used.add(new[name])
    if not new:
        return found

    def called(name: str | None) -> str | None:
        return new.get(name, name) if name is not None else None

    types = {new.get(name, name): kind for name, kind in found.types.items()}
    halves = found.parted
    if halves is not None:
        date, clock = new.get(halves.date, halves.date), new.get(halves.clock, halves.clock)
        halves = halves._replace(date=date, clock=clock, zone=called(halves.zone))
    found = found._replace(types=types, stamp=called(found.stamp), parted=halves)
    if isinstance(found.form, dict) and names:
        return found._replace(form={**found.form, "names": [new.get(name, name) for name in names]})
    keys = {new.get(name, name): key for name, key in found.keys.items()}
    return found._replace(keys=keys | {field: found.keys.get(name, name) for name, field in new.items()})
