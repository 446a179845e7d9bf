"""Drafts of logs whose events are structure: the keys, and what tells the messages apart."""

from __future__ import annotations

import re
from collections.abc import Mapping

import polars as pl

from kinglet.discover.date_and_time import Parted, parted
from kinglet.discover.header_lines import DIRECTIVE
from kinglet.discover.structured import Structured, named_apart, structured
from kinglet.discover.times import format_of_time, search_of
from kinglet.drafting.naming import Names, variant_name
from kinglet.drafting.patterns import written
from kinglet.drafting.shape import Aside, Variant
from kinglet.drafting.structures import kind_of, message_of, slots_of, types_of
from kinglet.drafting.text_logs import OF_SYSLOG, first_lines, stamps_in, time_of
from kinglet.drafting.work import SAMPLE, Work, literal, sampled
from kinglet.mining.heads import Head
from kinglet.mining.messages import mine
from kinglet.names import field_of
from kinglet.parser import Parser
from kinglet.runtime.extraction.line_ends import as_read

_WORDY = 0.5
_GAPS = 0.02


def structure_of(work: Work) -> Structured | None:
    """The structure that the events of a log are, where they are one."""
    records = work.found.records
    columns = records.container.columns if records is not None else []
    dialect = work.shape.events.get("csv")
    headless = isinstance(dialect, dict) and dialect.get("header") is False
    dialect = dialect if isinstance(dialect, dict) else {}
    if headless and (_is_text(work, dialect.get("delimiter", ",")) or _has_front(work, dialect.get("delimiter", ","))):
        work.shape.events = {"line": True}
        return None
    found = structured(
        work.raw, work.found.stamps, work.shape.events, columns, work.found.reference, work.found.headers
    )
    timed = format_of_time(work.found.stamps) is not None
    if found is not None and found.name == "pairs" and found.stamp is None and timed:
        return None  # the pairs stand behind a head
    return found


def _is_text(work: Work, delimiter: str) -> bool:
    """Whether rows without a header are lines of text whose front happens to be in columns."""
    if work.raw.str.contains("\n", literal=True).any():
        return False
    sign = re.escape(delimiter)
    quoted = work.raw.head(SAMPLE).str.contains(rf'(?:^|{sign})"(?:[^"]|"")*"(?:{sign}|$)')
    if float(quoted.mean() or 0) > _WORDY:  # type: ignore[arg-type]
        return False
    probe = work.raw.head(SAMPLE)
    if float(probe.str.contains(f"(?:^|{sign}){sign}").mean() or 0) > _GAPS:  # type: ignore[arg-type]
        return False  # the front of a message lacks nothing
    last = probe.str.split(delimiter).list.last()
    if work.stamp_texts is not None:
        last = last.filter((last != work.stamp_texts.head(SAMPLE)).fill_null(True))
    return float(last.str.contains(r"\S[ ]+\S").mean() or 0) > _WORDY  # type: ignore[arg-type]


def _has_front(work: Work, delimiter: str) -> bool:
    """Whether a stamp and more stand in front of the first value of rows without a header."""
    if work.stamp_texts is None or work.raw.str.contains("\n", literal=True).any():
        return False
    first = work.raw.head(SAMPLE).str.split(delimiter).list.first().str.strip_chars('" ')
    stamps = work.stamp_texts.head(SAMPLE)
    return float((first.str.starts_with(stamps) & (first != stamps)).mean() or 0) > _WORDY  # type: ignore[arg-type]


def keys(work: Work, found: Structured) -> tuple[pl.DataFrame, Parser]:
    """Drafts fields for the keys of events, and variants for what tells them apart."""
    where = search_of(work.found.stamps, work.raw) if found.stamp is None else None
    if where is not None and work.shape.time is not None:
        work.shape.time = where | {key: item for key, item in work.shape.time.items() if key != "from"}
    elif found.stamp is None:
        work.shape.time = None
        work.shape.notes.pop("time", None)
        work.doubts = [doubt for doubt in work.doubts if doubt.about != "time"]
    elif work.shape.time is not None:
        work.shape.time["from"] = found.stamp
    return fields(work, found)


def fields(work: Work, found: Structured, *, told_apart: bool = True) -> tuple[pl.DataFrame, Parser]:
    """Drafts fields for the keys of a structure; told_apart: a variant for each value of the key that tells."""
    found = named_apart(found, OF_SYSLOG) if work.shape.syslog is not None else found
    if found.parted is not None:
        _by_halves(work, found.parted)
    everything = list(range(len(work.raw)))
    if found.directives:
        everything = (~work.raw.str.starts_with("#")).arg_true().to_list()
        others = work.raw.filter(work.raw.str.starts_with("#"))
        if len(others):
            work.shape.aside = [Aside("directive", DIRECTIVE, str(others[0]))]
    everything = [row for row in everything if str(work.raw[row]) not in {aside.line for aside in work.shape.aside}]
    plain = dict.fromkeys(found.types, "text") | ({found.stamp: "time"} if found.stamp else {})
    work.shape.structure = found._replace(types=plain)
    work.shape.variants = [Variant("any", None, everything)]
    events = work.parsed(work.loaded())
    listed = isinstance(found.form, dict) and found.name == "delimited" and not found.directives
    columns = found.form["names"] if listed and isinstance(found.form, dict) else list(found.types)
    whole = {name: events[field_of(name)] for name in columns if field_of(name) in events.columns}
    whole = {name: column for name, column in whole.items() if column.dtype == pl.String}
    if found.parted is not None:
        halves = parted(whole, work.found.reference) or found.parted
        _by_halves(work, halves._replace(standard=found.parted.standard))
    if isinstance(found.form, dict) and found.name == "delimited" and "nothing" not in found.form:
        found, whole = _without_stand_ins(found, whole)
    texts = {name: whole[name] for name in found.types if name in whole}
    types = types_of(texts, found.stamp)
    if found.directives:  # what other columns hold later is not known
        types = {name: "text" if kind == "word" else kind for name, kind in types.items()}
    work.shape.structure = found._replace(types={name: types.get(name, "text") for name in found.types})
    kind, message = (kind_of(texts, found.stamp), message_of(whole)) if told_apart else (None, None)
    if message is not None and kind is None:
        work.shape.structure.types.setdefault(message, "text")
        _messages_of(work, message, whole[message])
    elif kind is not None:
        _kinds(work, kind, texts)
    else:
        work.shape.variants[0].fields = slots_of(list(found.types), types)
    return work.proved()


_STAND_INS = ("-", "--", "N/A", "n/a", "NULL", "null", "(null)", "None", "nil")
_VALUES = ("ip", "int", "num", "port", "mac", "host", "hex", "uuid", "email", "url")


def _without_stand_ins(found: Structured, texts: dict[str, pl.Series]) -> tuple[Structured, dict[str, pl.Series]]:
    """The structure, and its texts, without a text that stands for no value: a column has a type but for it."""
    for text in _STAND_INS:
        having = {name: column.replace(text, None) for name, column in texts.items() if (column == text).any()}
        typed = {name: kind for name, kind in types_of(having, None).items() if kind in _VALUES}
        if typed:
            assert isinstance(found.form, dict)
            made = found._replace(form={**found.form, "nothing": text}, types={**found.types, **typed})
            return made, {**texts, **having}
    return found, texts


def _by_halves(work: Work, halves: Parted) -> None:
    """Says that date and time of day stand in two fields."""
    time_of(work, halves.told)
    work.shape.time = {**(work.shape.time or {}), **halves.rule}
    work.stamp_texts = None


def _kinds(work: Work, kind: str, texts: Mapping[str, pl.Series]) -> None:
    """A variant for each value of a key."""
    assert work.shape.structure is not None
    types = work.shape.structure.types
    work.shape.kind = kind
    work.shape.kind_is_number = types[kind] in ("int", "port")
    if work.shape.kind_is_number:
        types[kind] = "int"
    work.shape.variants = []
    counts = texts[kind].drop_nulls().value_counts(sort=True, name="n")
    for text in counts.to_series(0).head(work.wishes.most):
        mask = (texts[kind] == text).fill_null(False)
        having = [name for name, column in texts.items() if column.filter(mask).is_not_null().any()]
        name = variant_name(text, work.names, len(work.shape.variants) + 1)
        fields = slots_of(having, types)
        work.shape.variants.append(Variant(name, None, mask.arg_true().to_list(), [text], fields=fields))


def _messages_of(work: Work, name: str, column: pl.Series) -> None:
    """A variant for each message of a key that holds texts."""
    assert work.shape.structure is not None
    first, more = first_lines(as_read(column))
    rows = sampled(column.is_not_null().arg_true().to_list())
    types = work.shape.structure.types
    mined = mine([first[row] for row in rows], stamps_in(work), Head())
    slots = slots_of(list(types), types)
    work.shape.variants = []
    for message in mined.messages[: work.wishes.most]:
        own = [rows[row] for row in message.rows]
        found = written(message, Names(types), more=[more[row] for row in own])
        called = variant_name(found.words, work.names, len(work.shape.variants) + 1)
        work.shape.variants.append(Variant(called, found, own, field=name, fields=slots))
    work.shape.variants.sort(key=lambda variant: -literal(variant))
    if without := column.is_null().arg_true().to_list():
        called = variant_name("other", work.names, len(work.shape.variants) + 1)
        note = f"Events without `{name}`, and those whose `{name}` no variant above reads"
        work.shape.variants.append(Variant(called, None, without, notes=[note], fields=slots))
