"""The first parser of a log: what was found, written down, tried on the log, and mended where it is not so."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, NamedTuple

import polars as pl

from kinglet.calls import call_options
from kinglet.discover.facts import Facts, facts
from kinglet.discover.suggestion import file_stem, stamp_format, syslog_head
from kinglet.drafting.agreeing import agree
from kinglet.drafting.naming import Names, variant_name
from kinglet.drafting.patterns import Slot, Written, written
from kinglet.drafting.proving import prove
from kinglet.drafting.report import Doubt, Draft, DraftedMessage
from kinglet.drafting.shape import Shape, Variant
from kinglet.drafting.writing import text_of
from kinglet.errors import UsageError
from kinglet.mining.heads import Head
from kinglet.mining.messages import Message, Mined, mine
from kinglet.parser import Parser, load
from kinglet.plan.syslog import HEADS
from kinglet.source.logs import Given, open_sources
from kinglet.timestamps.formats import parse_format

MOST = 200
"""So many variants unless more are asked for."""
_SAMPLE = 6000
"""So many events are mined at once; the others are read by what came of these, and what is left is mined again."""
_ROUNDS = 4


class Wishes(NamedTuple):
    """What the log does not say, and how much is wanted."""

    vendor: str = "UNKNOWN"
    product: str = "UNKNOWN"
    zone: str | None = None
    at: str | None = None
    most: int = MOST


def draft(
    *logs: Given,
    product: str | None = None,
    zone: str | None = None,
    at: str | None = None,
    encoding: str | None = None,
    most: int = MOST,
    max_unpacked_bytes: int | None = None,
) -> Draft:
    """Drafts a parser for logs of one form.

    product: `VENDOR/NAME` of what wrote them. zone: IANA zone of stamps that carry none. at: a date or moment near which
    stamps without a year lie. most: variants to write; what is left is counted.

    Raises:
        InputError: a log cannot be read, or has nothing in it.
        UsageError: an argument means nothing.
    """
    if not logs:
        raise UsageError("draft needs at least one log")
    if not isinstance(most, int) or not 1 <= most <= 100_000:
        raise UsageError(f"most: {most!r} is no number of variants", "give 1 to 100,000")
    call_options(at, zone)
    vendor, _, name = (product or "UNKNOWN/UNKNOWN").partition("/")
    if not vendor.strip() or not name.strip():
        raise UsageError(f"product: {product!r} does not name a vendor and a product", "write it as VENDOR/NAME")
    found = facts(open_sources(*logs, encoding=encoding, max_unpacked_bytes=max_unpacked_bytes), logs[0])
    return _Drafting(found, Wishes(vendor.strip(), name.strip(), zone, at, most)).draft()


class _Drafting:
    """A draft in the making."""

    def __init__(self, found: Facts, wishes: Wishes) -> None:
        self.found = found
        self.wishes = wishes
        self.raw = found.frame["raw"]
        self.stamp_texts = found.stamps.texts[0] if stamp_format(found.stamps) is not None else None
        self.doubts: list[Doubt] = []
        self.names: set[str] = set()
        self.shape = Shape(
            file_stem(found.name), wishes.vendor, wishes.product, dict(found.boundaries[0].events)
        )
        self.head: Head | None = None
        self.apps: list[str] | None = None

    def draft(self) -> Draft:
        self._time()
        texts = self._bodies()
        self._mine(texts)
        events, parser = self._proved()
        for _ in range(_ROUNDS - 1):
            rest = (events["state"] != "complete").fill_null(True) & events["variant"].is_null()
            rows = rest.arg_true().to_list()
            before = len(self.shape.variants)
            if not rows or before >= self.wishes.most:
                break
            self._more(texts, rows)
            if len(self.shape.variants) == before:
                break
            events, parser = self._proved()
        return self._report(events)

    # what stands in front of the messages

    def _time(self) -> None:
        text = stamp_format(self.found.stamps)
        if text is None:
            return
        time: dict[str, Any] = {"from": "stamp", "format": text}
        fmt = parse_format(text)
        if not fmt.has_date:
            time["date"] = ["previous", "file"]
        place = self.found.stamps.places[0]
        if self.wishes.zone is not None and not fmt.has_zone:
            time["zone"] = self.wishes.zone
        elif not fmt.has_zone and place.zone == "none in the text":
            self.doubts.append(
                Doubt("time", "the stamps carry no zone: read as UTC", "name the zone of the device with --zone")
            )
            self.shape.time_notes.append("the stamps carry no zone: read as UTC until `zone` is given")
        if place.ambiguity:
            self.doubts.append(Doubt("time", place.ambiguity, "look at a log with a day above 12, or ask who made it"))
            self.shape.time_notes.append(place.ambiguity)
        self.shape.time = time

    def _bodies(self) -> list[str]:
        """The first lines of events, without a head of syslog."""
        first = self.raw.str.split("\n").list.first()
        head = syslog_head(self.raw)
        if head is None:
            return [str(text) for text in first]
        self.shape.syslog = head
        formats = {"rfc3164": "rfc3164", "rfc5424": "iso8601", "any": ["rfc3164", "iso8601"]}[head]
        if self.shape.time is not None or head:
            self.shape.time = {**(self.shape.time or {}), "from": "stamp", "format": formats}
        read = [first.str.extract_groups(regex).struct.unnest() for regex in HEADS[head].regexes]
        columns = {}
        for name in ("body", "app"):
            having = [frame[name] for frame in read if name in frame.columns]
            columns[name] = having[0] if len(having) == 1 else having[0].zip_with(having[0].is_not_null(), having[1])
        self.head = Head()
        if columns["app"].null_count() == 0:
            self.apps = columns["app"].to_list()
            self.shape.kind = "app" if columns["app"].n_unique() > 1 else None
        return [text or "" for text in columns["body"]]

    # the messages

    def _sample(self, rows: Sequence[int]) -> list[int]:
        if len(rows) <= _SAMPLE:
            return list(rows)
        lead, step = _SAMPLE // 3, (len(rows) - _SAMPLE // 3) / (_SAMPLE - _SAMPLE // 3)
        return [*rows[:lead], *(rows[lead + int(i * step)] for i in range(_SAMPLE - lead))]

    def _stamps(self) -> list[str]:
        forms = [place.form for place in self.found.stamps.where]
        own = [forms[0].shape] if self.stamp_texts is not None else []
        return [*own, *(form.shape for form in forms if form.clock and form.date and not form.name.startswith("epoch"))]

    def _mined(self, texts: list[str], rows: list[int]) -> Mined:
        kinds = [self.apps[row] for row in rows] if self.apps is not None and self.shape.kind else None
        return mine([texts[row] for row in rows], self._stamps(), self.head, kinds)

    def _mine(self, texts: list[str]) -> None:
        rows = self._sample(range(len(texts)))
        mined = self._mined(texts, rows)
        self.head = mined.begins
        if mined.head:
            kept = [row for i, row in enumerate(rows) if i not in set(mined.lost)]
            self._envelope(mined, kept)
        self._variants(mined, rows)

    def _more(self, texts: list[str], left: list[int]) -> None:
        rows = self._sample(left)
        self._variants(self._mined(texts, rows), rows)

    def _stamp_of(self, rows: Sequence[int]) -> list[str | None] | None:
        return self.stamp_texts.gather(rows).to_list() if self.stamp_texts is not None else None

    def _envelope(self, mined: Mined, rows: list[int]) -> None:
        names = Names()
        head = Message(rows, [*mined.head])
        found = written(head, names, stamp=self._stamp_of(rows))
        last = mined.head[-1]
        parts = list(found.parts)
        if isinstance(parts[-1], str):
            parts[-1] = getattr(last, "text", parts[-1])
        body = Slot("body", "rest", [])
        self.shape.envelope = Written([*parts, body], found.slots, found.maybe)
        if mined.kind is not None:
            slots = [slot for slot in found.slots if slot.values == getattr(mined.head[mined.kind], "values", None)]
            if slots:
                slots[0].words = ()
                self.shape.kind = slots[0].name
                self.shape.kind_is_number = slots[0].type == "int"

    def _variants(self, mined: Mined, rows: list[int]) -> None:
        taken = {slot.name for slot in self.shape.envelope.slots} if self.shape.envelope else set()
        for message in mined.messages:
            if len(self.shape.variants) >= self.wishes.most:
                break
            own = [rows[row] for row in message.rows]
            found = written(message, Names(taken), stamp=self._stamp_of(own) if not mined.head else None)
            name = variant_name(found.words, self.names, len(self.shape.variants) + 1)
            self.shape.variants.append(Variant(name, found, own, message.kinds))
        self.shape.variants.sort(key=lambda variant: -_literal(variant))

    # the proof

    def _proved(self) -> tuple[pl.DataFrame, Parser]:
        """The events as the draft reads them, once it reads them as they were found, or as nearly as may be."""
        for _ in range(4):
            parser = self._loaded()
            events = self._parsed(parser)
            proof = prove(events, self.shape.variants)
            changed = False
            by_name = {variant.name: variant for variant in self.shape.variants}
            for name, slots in proof.wrong.items():
                for slot in slots:
                    changed |= _wider(slot)
            for name, count in proof.missed.items():
                if count:
                    for slot in by_name[name].written.slots:
                        changed |= _wider(slot)
            for (mine_, other), _count in proof.stolen.items():
                if (other, mine_) not in proof.stolen:
                    changed |= self._before(by_name[mine_], by_name[other])
            if not changed:
                break
        return events, parser

    def _before(self, first: Variant, second: Variant) -> bool:
        """Moves a variant in front of another that takes its events."""
        variants = self.shape.variants
        at, to = variants.index(first), variants.index(second)
        if at < to:
            return False
        variants.insert(to, variants.pop(at))
        return True

    def _loaded(self) -> Parser:
        agree(self.shape)
        return load(text_of(self.shape))

    def _parsed(self, parser: Parser) -> pl.DataFrame:
        reference = self.wishes.at if self.wishes.at is not None else self.found.reference
        return parser.parse_column(self.raw, reference_time=reference).events

    # what is said of it

    def _report(self, events: pl.DataFrame) -> Draft:
        counts = events["state"].value_counts(name="n")
        states = dict(counts.iter_rows())
        each = dict(events["variant"].drop_nulls().value_counts(name="n").iter_rows())
        numbers = self.found.frame["number"]
        messages = []
        for variant in self.shape.variants:
            count = each.get(variant.name, 0)
            row = variant.rows[0]
            messages.append(
                DraftedMessage(
                    variant.name,
                    variant.pattern,
                    count,
                    count / events.height,
                    str(self.raw[row])[:1000],
                    int(numbers[row]),
                    [slot.name for slot in variant.written.slots if slot.name],
                )
            )
        messages.sort(key=lambda message: -message.count)
        return Draft(
            self.found.name,
            text_of(self.shape),
            events.height,
            states.get("complete", 0),
            states.get("partial", 0),
            states.get("unmatched", 0),
            messages,
            self.doubts,
            [],
            len(self.shape.cases),
        )


def _literal(variant: Variant) -> int:
    return len(variant.written.words.replace(" ", ""))


def _wider(slot: Slot) -> bool:
    """Gives a slot a type that reads more; says whether there was one."""
    if slot.type in ("rest", "json", "time"):
        return False
    if slot.words:
        slot.words = ()
    elif slot.type == "text":
        return False
    else:
        slot.type = "text" if slot.type == "word" else "word"
    return True
