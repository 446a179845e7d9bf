"""The first parser of a log: what was found, written down, tried on the log, and mended where it is not so."""

from __future__ import annotations

import dataclasses
import shlex
from collections.abc import Mapping, Sequence
from typing import Any, NamedTuple

import polars as pl

from kinglet.calls import call_options
from kinglet.discover.facts import Facts, facts
from kinglet.discover.structured import Structured, structured
from kinglet.discover.suggestion import ACCESS, file_stem, is_access, stamp_format, syslog_head
from kinglet.drafting.agreeing import agree
from kinglet.drafting.cases import case, chosen
from kinglet.drafting.classes import severities, suggested
from kinglet.drafting.devices import Stretch, devices
from kinglet.drafting.masking import Masks
from kinglet.drafting.naming import Names, variant_name
from kinglet.drafting.patterns import Slot, Written, written
from kinglet.drafting.proving import prove
from kinglet.drafting.ready import ready
from kinglet.drafting.report import Doubt, Draft, DraftedMessage
from kinglet.drafting.shape import Shape, Variant
from kinglet.drafting.structures import kind_of, message_of, slots_of, types_of
from kinglet.drafting.writing import text_of
from kinglet.drafting.yaml_text import scalar
from kinglet.errors import ParserFileError, UsageError
from kinglet.insight.cases import check_cases
from kinglet.insight.coverage import coverage
from kinglet.mining.heads import Head
from kinglet.mining.messages import Message, Mined, mine
from kinglet.names import field_of
from kinglet.parser import Parser, load
from kinglet.patterns.grammar import parse
from kinglet.patterns.grammar import slots as in_pattern
from kinglet.plan.syslog import HEADS
from kinglet.source.logs import Given, open_sources
from kinglet.timestamps.formats import parse_format

MOST = 200
"""So many variants unless more are asked for."""
_SAMPLE = 6000
"""So many events are mined at once; the others are read by what came of these, and what is left is mined again."""
_ROUNDS = 4
_PLAIN = 4
_WORDY = 0.5
_SYSLOG = ("priority", "stamp", "host", "app", "pid", "msgid", "data", "data_text")


_OF_ACCESS = {"client": "src_ip", "size": "bytes"}


class Wishes(NamedTuple):
    """What the log does not say, and how much is wanted."""

    vendor: str = "UNKNOWN"
    product: str = "UNKNOWN"
    zone: str | None = None
    at: str | None = None
    most: int = MOST
    mask: bool = False


def draft(
    *logs: Given,
    product: str | None = None,
    zone: str | None = None,
    at: str | None = None,
    encoding: str | None = None,
    most: int = MOST,
    mask: bool = False,
    split: bool = False,
    into: str | None = None,
    max_unpacked_bytes: int | None = None,
) -> Draft:
    """Drafts a parser for logs of one form.

    product: `VENDOR/NAME` of what wrote them. zone: IANA zone of stamps that carry none. at: a date or moment near which
    stamps without a year lie. most: variants to write; what is left is counted. mask: cases have stand-ins for addresses,
    names and mail. split: where the log is of several devices, drafts for all of them, as `others` of the first.

    Raises:
        InputError: a log cannot be read, or has nothing in it.
        UsageError: an argument means nothing.
    """
    if not logs:
        raise UsageError("draft needs at least one log")
    if not isinstance(most, int) or not 1 <= most <= 100_000:
        raise UsageError(f"most: {most!r} is no number of variants", "give 1 to 100,000")
    reference = call_options(at, zone).reference_time
    vendor, _, name = (product or "UNKNOWN/UNKNOWN").partition("/")
    if not vendor.strip() or not name.strip():
        raise UsageError(f"product: {product!r} does not name a vendor and a product", "write it as VENDOR/NAME")
    found = facts(open_sources(*logs, encoding=encoding, max_unpacked_bytes=max_unpacked_bytes), logs[0], reference)
    wishes = Wishes(vendor.strip(), name.strip(), zone, at, most, mask)
    parts = devices(found.sample) if found.records is None else []
    if not parts:
        return _Drafting(found, wishes).draft()
    return _of_several(found, parts, wishes, split)


def _of_several(found: Facts, parts: list[Stretch], wishes: Wishes, split: bool) -> Draft:
    """The draft for the largest part of a log of several devices, and for the others where that is wanted."""
    made = []
    for i, part in enumerate(parts if split else parts[:1]):
        own = facts(open_sources(part.text), found.name, found.reference)._replace(name=found.name)
        number = f"-{i + 1}" if i else ""
        made.append(_Drafting(own, wishes, number, numbered=False).draft())
    mend = "each has a draft" if split else "the largest is drafted; --split drafts all"
    said = ", ".join(f"{part.count:,} are {part.what}" for part in parts)
    doubt = Doubt("events", f"lines of several devices: {said}", mend, [part.line for part in parts])
    return dataclasses.replace(made[0], doubts=[doubt, *made[0].doubts], others=made[1:])


class _Drafting:
    """A draft in the making."""

    def __init__(self, found: Facts, wishes: Wishes, number: str = "", *, numbered: bool = True) -> None:
        self.found = found
        self.wishes = wishes
        self.raw = found.frame["raw"]
        self.stamp_texts = found.stamps.texts[0] if stamp_format(found.stamps) is not None else None
        self.doubts: list[Doubt] = []
        self.names: set[str] = set()
        self.numbered = numbered
        self.shape = Shape(
            file_stem(found.name) + number, wishes.vendor, wishes.product, dict(found.boundaries[0].events)
        )
        self.head: Head | None = None
        self.apps: list[str] | None = None
        self.more: list[str | None] = []

    def draft(self) -> Draft:
        self._time()
        found = self._structure()
        if found is not None:
            return self._structured(found)
        texts = self._bodies()
        if self.shape.syslog is None and is_access(self.raw):
            return self._access()
        self._mine(texts)
        events, parser = self._proved()
        for _ in range(_ROUNDS - 1):
            rest = (events["state"] != "complete").fill_null(True) & events["variant"].is_null()
            rows = rest.arg_true().to_list()
            self._tidied(events)
            before = len(self.shape.variants)
            if not rows or before >= self.wishes.most:
                break
            self._more(texts, rows)
            if len(self.shape.variants) == before:
                break
            events, parser = self._proved()
        self._tidied(events)
        self._map()
        self._cases(events, parser)
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
        split = self.raw.str.splitn("\n", 2).struct.unnest()
        first = split.to_series(0)
        self.more = split.to_series(1).to_list()
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

    # events that are structure

    def _structure(self) -> Structured | None:
        records = self.found.records
        columns = records.container.columns if records is not None else []
        dialect = self.shape.events.get("csv")
        if (
            isinstance(dialect, dict)
            and dialect.get("header") is False
            and self._is_text(dialect.get("delimiter", ","))
        ):
            self.shape.events = {"line": True}
            return None
        text = stamp_format(self.found.stamps)
        found = structured(self.raw, text, self.shape.events, columns, self.stamp_texts)
        if found is not None and found.name == "pairs" and found.stamp is None and text is not None:
            return None  # the pairs stand behind a head
        return found

    def _access(self) -> Draft:
        """A draft for a web server's log of accesses, whose form is known (NCSA common and combined)."""
        assert self.shape.time is not None
        self.shape.time["format"] = "ncsa"
        fixed = Written([], [], [], fixed=ACCESS)
        rows = list(range(len(self.raw)))
        fields = [
            Slot(slot.name, slot.type, [], alias=_OF_ACCESS.get(slot.name, "")) for slot in in_pattern(parse(ACCESS))
        ]
        self.shape.variants = [Variant("request", fixed, rows, fields=fields)]
        parser = self._loaded()
        events = self._parsed(parser)
        self._cases(events, parser)
        return self._report(events)

    def _is_text(self, delimiter: str) -> bool:
        """Whether rows without a header are lines of text whose front happens to be in columns."""
        if self.raw.str.contains("\n", literal=True).any():
            return False
        last = self.raw.head(_SAMPLE).str.split(delimiter).list.last()
        return float(last.str.contains(r"\S[ ]+\S").mean() or 0) > _WORDY  # type: ignore[arg-type]

    def _structured(self, found: Structured) -> Draft:
        """A draft for events that are JSON objects, pairs, rows, elements or blocks."""
        if found.stamp is None:
            self.shape.time = None
            self.shape.time_notes.clear()
            self.doubts.clear()
        elif self.shape.time is not None:
            self.shape.time["from"] = found.stamp
        everything = list(range(len(self.raw)))
        plain = dict.fromkeys(found.types, "text") | ({found.stamp: "time"} if found.stamp else {})
        self.shape.structure = found._replace(types=plain)
        self.shape.variants = [Variant("any", None, everything)]
        events = self._parsed(self._loaded())
        texts = {name: events[field_of(name)] for name in found.types if field_of(name) in events.columns}
        texts = {name: column for name, column in texts.items() if column.dtype == pl.String}
        types = types_of(texts, found.stamp)
        self.shape.structure = found._replace(types={name: types.get(name, "text") for name in found.types})
        kind, message = kind_of(texts, found.stamp), message_of(texts)
        if message is not None and kind is None:
            self._messages_of(message, texts[message])
        elif kind is not None:
            self._kinds(kind, texts)
        else:
            self.shape.variants[0].fields = slots_of(list(found.types), types)
        events, parser = self._proved()
        self._map()
        self._cases(events, parser)
        return self._report(events)

    def _kinds(self, kind: str, texts: Mapping[str, pl.Series]) -> None:
        """A variant for each value of a key."""
        assert self.shape.structure is not None
        types = self.shape.structure.types
        self.shape.kind = kind
        self.shape.kind_is_number = types[kind] in ("int", "port")
        if self.shape.kind_is_number:
            types[kind] = "int"
        self.shape.variants = []
        counts = texts[kind].drop_nulls().value_counts(sort=True, name="n")
        for text in counts.to_series(0).head(self.wishes.most):
            mask = (texts[kind] == text).fill_null(False)
            having = [name for name, column in texts.items() if column.filter(mask).is_not_null().any()]
            name = variant_name(text, self.names, len(self.shape.variants) + 1)
            fields = slots_of(having, types)
            self.shape.variants.append(Variant(name, None, mask.arg_true().to_list(), [text], fields=fields))

    def _messages_of(self, name: str, column: pl.Series) -> None:
        """A variant for each message of a key that holds texts."""
        assert self.shape.structure is not None
        texts = column.fill_null("").to_list()
        rows = self._sample(range(len(texts)))
        types = self.shape.structure.types
        mined = mine([texts[row].split("\n")[0] for row in rows], (), Head())
        self.shape.variants = []
        for message in mined.messages[: self.wishes.most]:
            found = written(message, Names(types))
            called = variant_name(found.words, self.names, len(self.shape.variants) + 1)
            own = [rows[row] for row in message.rows]
            self.shape.variants.append(Variant(called, found, own, field=name, fields=slots_of(list(types), types)))
        self.shape.variants.sort(key=lambda variant: -_literal(variant))

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
        found = written(head, names, stamp=self._stamp_of(rows), open_words=True)
        last = mined.head[-1]
        parts = list(found.parts)
        if isinstance(parts[-1], str):
            parts[-1] = getattr(last, "text", parts[-1])
        _named_in_head(parts)
        body = Slot("body", "rest", [])
        self.shape.envelope = Written([*parts, body], found.slots, found.maybe)
        if mined.kind is not None:
            slots = [slot for slot in found.slots if slot.values == getattr(mined.head[mined.kind], "values", None)]
            if slots:
                slots[0].words = ()
                if slots[0].wanted in ("number", "value", "unit"):
                    slots[0].name = slots[0].wanted = "code"
                self.shape.kind = slots[0].name
                self.shape.kind_is_number = slots[0].type == "int"

    def _variants(self, mined: Mined, rows: list[int]) -> None:
        taken = {slot.name for slot in self._outer()} | (set(_SYSLOG) if self.shape.syslog else set())
        for message in mined.messages:
            if len(self.shape.variants) >= self.wishes.most:
                break
            own = [rows[row] for row in message.rows]
            more = [self.more[row] for row in own]
            found = written(message, Names(taken), stamp=self._stamp_of(own) if not mined.head else None, more=more)
            name = variant_name(found.words, self.names, len(self.shape.variants) + 1)
            self.shape.variants.append(Variant(name, found, own, message.kinds))
        self.shape.variants.sort(key=lambda variant: -_literal(variant))

    # the proof

    def _with_time(self) -> None:
        """Says where the stamp stands where no pattern has a slot for it."""
        slots = [slot.name for variant in self.shape.variants for slot in [*variant.slots, *variant.fields]] + [
            slot.name for slot in self._outer()
        ]
        if self.shape.time is None or self.shape.structure or self.shape.syslog or "stamp" in slots:
            return
        place = self.found.stamps.where[0]
        where = {"find": "start"} if place.order == 0 and not place.before else {"find": "anywhere"}
        self.shape.time.pop("from", None)
        self.shape.time = where | {key: value for key, value in self.shape.time.items() if key != "find"}

    def _tidied(self, events: pl.DataFrame) -> None:
        """Leaves out variants that read no event."""
        read = set(events["variant"].drop_nulls().unique())
        kept = [variant for variant in self.shape.variants if variant.name in read]
        self.shape.variants = kept or self.shape.variants[:1]

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
                    for slot in by_name[name].slots:
                        changed |= _wider(slot)
            for (mine_, other), _count in proof.stolen.items():
                if (other, mine_) not in proof.stolen:
                    changed |= self._before(by_name[mine_], by_name[other])
            if not changed:
                return events, parser
        parser = self._loaded()
        return self._parsed(parser), parser

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
        self._with_time()
        return load(text_of(self.shape))

    def _parsed(self, parser: Parser) -> pl.DataFrame:
        reference = self.wishes.at if self.wishes.at is not None else self.found.reference
        return parser.parse_column(self.raw, reference_time=reference).events

    # the mapping and the cases

    def _outer(self) -> list[Slot]:
        return self.shape.envelope.slots if self.shape.envelope is not None else []

    def _map(self) -> None:
        """Suggests classes; what the model has nothing against and words leave no doubt of is mapped."""
        for slot in self._outer():
            if meant := severities(slot):
                self.shape.event = {"class": "Base Event", "translate": {"severity": {"from": slot.name, "to": meant}}}
        for variant in self.shape.variants:
            for i, one in enumerate(suggested(variant.words, [*variant.slots, *variant.fields], self._outer())):
                if i == 0 and one.score >= _PLAIN:
                    variant.mapping = one.mapping
                    variant.notes.append(f"{one.caption}: {one.reasons}")
                else:
                    variant.suggested.append(
                        (f"or {one.caption}: {one.reasons}" if i else f"{one.caption}: {one.reasons}", one.mapping)
                    )
        try:
            parser = self._loaded()
        except ParserFileError:
            wrong = {variant.name for variant in self.shape.variants}
        else:
            wrong = {item.variant for item in coverage(parser) if item.missing}
        for variant in self.shape.variants:
            if variant.name in wrong and variant.mapping is not None:
                variant.suggested.insert(0, (variant.notes.pop() + "; add what the class requires", variant.mapping))
                variant.mapping = None

    def _cases(self, events: pl.DataFrame, parser: Parser) -> None:
        masks = Masks() if self.wishes.mask else None
        outer = [slot.name for slot in self._outer()]
        rows: list[tuple[int, Variant]] = []
        for variant in self.shape.variants:
            rows += [(row, variant) for row in chosen(variant, events["variant"], self.raw)]
        raws = [str(self.raw[row]) for row, _ in rows]
        found = events[[row for row, _ in rows]].to_dicts()
        if masks is not None:
            named = [{*outer, *(slot.name for slot in [*variant.slots, *variant.fields])} for _, variant in rows]
            raws = [
                masks.text(raw, [(name, text) for name in names if isinstance(text := event.get(name), str)])
                for raw, event, names in zip(raws, found, named, strict=True)
            ]
        moments = [event["time"] for event in found if event["time"] is not None]
        at = moments[0] if moments else self.wishes.at or self.found.reference
        read = parser.parse_column(pl.Series(raws, dtype=pl.String), reference_time=at).events.to_dicts()
        for (_, variant), raw, event in zip(rows, raws, read, strict=True):
            if event["variant"] != variant.name:
                continue
            names = [slot.name for slot in [*variant.slots, *variant.fields] if slot.name]
            self.shape.cases.append(case(self.shape, raw, event, names if self.shape.cases else [*outer[1:], *names]))
        if parser.needs_order:
            self._checked()

    def _checked(self) -> None:
        """Leaves out what a case by itself does not bear out, such as a time that the event before it gives."""
        bad = [outcome for outcome in check_cases(self._loaded()) if not outcome.good]
        for outcome in reversed(bad):
            expect = self.shape.cases[outcome.number - 1]["expect"]
            for difference in outcome.differences:
                expect.pop(difference.name, None)
            if "variant" not in expect:
                del self.shape.cases[outcome.number - 1]

    # what is said of it

    def _report(self, events: pl.DataFrame) -> Draft:
        counts = events["state"].value_counts(name="n")
        states = dict(counts.iter_rows())
        each = dict(events["variant"].drop_nulls().value_counts(name="n").iter_rows())
        numbers = self.found.frame["number"] if self.numbered else pl.zeros(events.height, pl.Int64, eager=True)
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
                    [slot.name for slot in [*variant.slots, *variant.fields] if slot.name],
                    [str(variant.mapping["class"])] if variant.mapping is not None else [],
                )
            )
        messages.sort(key=lambda message: -message.count)
        plain = self.found.name if self.found.name[:1] != "<" else "LOG"
        return Draft(
            self.found.name,
            self.shape.name,
            f"kinglet draft {shlex.quote(plain)}",
            text_of(self.shape),
            scalar(self.shape.events).strip("{}").removesuffix(": true"),
            scalar(self.shape.time).strip("{}") if self.shape.time is not None else "",
            self._front(),
            self.shape.kind or "",
            events.height,
            states.get("complete", 0),
            states.get("partial", 0),
            states.get("unmatched", 0),
            messages,
            self.doubts,
            ready(self.found.sample.text),
            len(self.shape.cases),
            events["variant"].null_count() if len(self.shape.variants) >= self.wishes.most else 0,
        )

    def _front(self) -> str:
        if self.shape.syslog is not None:
            return f"syslog: {self.shape.syslog}"
        return self.shape.envelope.pattern if self.shape.envelope is not None else ""


def _named_in_head(parts: Sequence[object]) -> None:
    """Calls the slots of a head by what they are: level, application and process."""
    taken = {part.name for part in parts if isinstance(part, Slot)}

    def call(slot: Slot, name: str) -> None:
        if name not in taken and slot.wanted.rstrip("_0123456789") in ("value", "number", "text", "host"):
            taken.discard(slot.name)
            taken.add(name)
            slot.name = slot.wanted = name

    for i, part in enumerate(parts):
        if not isinstance(part, Slot):
            continue
        behind = parts[i + 1 : i + 4]
        if severities(part):
            call(part, "level")
        elif len(behind) == 3 and behind[0] == "[" and isinstance(behind[1], Slot) and behind[1].type == "int":
            call(part, "app")
            call(behind[1], "pid")
        elif part.type == "word" and part.wanted.startswith("value"):
            call(part, "unit")


def _literal(variant: Variant) -> int:
    return len(variant.words.replace(" ", ""))


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
