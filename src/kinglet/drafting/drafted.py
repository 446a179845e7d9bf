"""The first parser of a log: what was found, written down, tried on the log, and mended where it is not so."""

from __future__ import annotations

import dataclasses

import polars as pl

from kinglet.calls import ReferenceTime, call_options
from kinglet.discover.facts import Facts, facts
from kinglet.discover.words import percent
from kinglet.drafting.adding import added
from kinglet.drafting.devices import Stretch, devices
from kinglet.drafting.finishing import mapped, report, with_cases, with_encoding
from kinglet.drafting.headed_pairs import headed_pairs
from kinglet.drafting.headed_rows import headed_rows
from kinglet.drafting.patterns import Slot, Written
from kinglet.drafting.recurring import recurring
from kinglet.drafting.report import Doubt, Draft
from kinglet.drafting.shape import Variant
from kinglet.drafting.structured_logs import fields, keys, structure_of
from kinglet.drafting.text_logs import messages, only, time_of
from kinglet.drafting.work import MOST, Wishes, Work
from kinglet.errors import ParserFileError, UsageError
from kinglet.parser import Parser
from kinglet.source.logs import Given, open_sources


def draft(
    *logs: Given,
    product: str | None = None,
    zone: str | None = None,
    at: ReferenceTime = None,
    encoding: str | None = None,
    most: int = MOST,
    mask: bool = False,
    split: bool = False,
    into: str | None = None,
    max_unpacked_bytes: int | None = None,
) -> Draft:
    """Drafts a parser for logs of one form.

    product: `VENDOR/NAME` of what wrote them. zone: IANA zone of stamps that carry none. at: a date or moment near
    which stamps without a year lie, and by which the log was written. most: variants to write; what is left is counted.
    mask: cases have stand-ins for addresses, names and mail. split: where the log is of several devices, drafts for all
    of them, as `others` of the first.
    into: the path of a parser, which says product, zone and encoding itself; the draft is this parser with variants for
    what it does not read.

    Raises:
        InputError: a log cannot be read, or has nothing in it.
        ParserFileError: the parser of `into` cannot be loaded.
        UsageError: an argument means nothing.
    """
    beside = {"product": product, "zone": zone, "encoding": encoding, "split": split}
    if not logs:
        raise UsageError("draft needs at least one log")
    if not isinstance(most, int) or not 1 <= most <= 100_000:
        raise UsageError(f"most: {most!r} is no number of variants", "give 1 to 100,000")
    if into is not None and (given := [name for name, one in beside.items() if one]):
        raise UsageError(f"{given[0]} goes with a new draft", "the parser of `into` says it already: change it there")
    reference = call_options(at, zone).reference_time
    vendor, _, name = (product or "UNKNOWN/UNKNOWN").partition("/")
    if not vendor.strip() or not name.strip():
        raise UsageError(f"product: {product!r} does not name a vendor and a product", "write it as VENDOR/NAME")
    found = facts(open_sources(*logs, encoding=encoding, max_unpacked_bytes=max_unpacked_bytes), logs[0], reference)
    wishes = Wishes(vendor.strip(), name.strip(), zone, at, most, mask, encoding)
    if into is not None:
        return added(into, found, wishes)
    parts = devices(found.sample) if found.records is None and found.headers is None else []
    if not parts:
        return _drafted(Work(found, wishes))
    return _of_several(found, parts, wishes, split)


def _of_several(found: Facts, parts: list[Stretch], wishes: Wishes, split: bool) -> Draft:
    """The draft for the largest part of a log of several devices, and for the others where that is wanted."""
    made = []
    for i, part in enumerate(parts if split else parts[:1]):
        own = facts(open_sources(part.text), found.name, found.reference)
        numbers = part.numbers.gather(own.frame["line"] - 1).alias("number")
        own = own._replace(name=found.name, frame=own.frame.with_columns(numbers))
        made.append(Work(own, wishes, f"-{i + 1}" if i else ""))
    mend = "each has a draft" if split else "the largest is drafted; --split drafts all"
    said = ", ".join(f"{part.lines:,} are {part.what}" for part in parts)
    doubt = Doubt("events", f"lines of several devices: {said}", mend, [int(part.numbers[0]) for part in parts])
    made[0].doubt(doubt)
    first, *others = [_drafted(work) for work in made]
    return dataclasses.replace(first, others=others)


def _drafted(work: Work) -> Draft:
    """The draft of a log in one form."""
    events, parser = as_found(work)
    if work.shape.time is None:
        mend = "where the log has one, say under `time` where it stands and its format"
        work.doubt(Doubt("time", _why_no_time(work), mend))
    with_encoding(work)
    mapped(work)
    work.shape.parts = recurring(variant.pattern for variant in work.shape.variants)
    with_cases(work, events, work.loaded() if work.shape.parts else parser)
    return report(work, events)


def _why_no_time(work: Work) -> str:
    """Why a draft gives events no time: what stamps there are, if any."""
    places = [place for place in work.found.stamps.places if place.format]
    if not places:
        return "no stamp of a known form was found, so events have no time"
    most = max(places, key=lambda place: place.share)
    where = f"`{most.example}`, {most.place}"
    return (
        f"{percent(most.share)} of events have a stamp ({where}); none is clearly the event's time, so events have none"
    )


def as_found(work: Work, *, by_keys: bool = True) -> tuple[pl.DataFrame, Parser]:
    """Drafts the variants of a log; gives its events as these read them, and the parser.

    by_keys: events that are structure are told apart by their keys, not by their text.
    """
    time_of(work)
    try:
        made = _by_structure(work) if by_keys else messages(work)
    except ParserFileError as error:  # nothing is written that does not load
        return _general(work, error.problems[0].message)
    return made if work.shape.variants else _general(work, "none reads an event")


def _by_structure(work: Work) -> tuple[pl.DataFrame, Parser]:
    """Drafts fields for the keys of events that are structure, by themselves or behind text; otherwise messages."""
    found = structure_of(work)
    if found is not None:
        return keys(work, found)
    behind = headed_pairs(work) or headed_rows(work)
    if behind is None:
        return messages(work)
    if isinstance(behind, Variant):
        return only(work, behind)
    if work.shape.envelope is None and work.shape.syslog is None:
        return keys(work, behind)
    return fields(work, behind, told_apart=False)


def _general(work: Work, why: str) -> tuple[pl.DataFrame, Parser]:
    """A parser that has the time of a log and its text, where more of it could not be written."""
    shape = work.shape
    shape.envelope, shape.structure, shape.syslog, shape.kind, shape.types = None, None, None, None, {}
    shape.parameters = []
    if shape.time is not None:  # without fields, there is none to take a date or a zone from
        of_fields = {key for key, item in shape.time.items() if isinstance(item, dict)}
        shape.time = {key: item for key, item in shape.time.items() if key not in of_fields}
        shape.time |= {"date": ["previous", "file"]} if "date" in of_fields else {}
    text = Slot("text", "rest", [])
    shape.variants = [Variant("any", Written([text], [text], []), list(range(len(work.raw))))]
    work.doubt(Doubt("messages", f"no pattern could be written: {why}", "report the log"))
    parser = work.loaded()
    return work.parsed(parser), parser
