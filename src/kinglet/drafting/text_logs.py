"""Drafts of logs whose events are lines of text: what stands in front of the messages, and the messages."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from typing import Any, NamedTuple

import polars as pl

from kinglet.discover.report import StampPlace
from kinglet.discover.suggestion import access_pattern
from kinglet.discover.syslog_heads import head_formats, read_heads, stamp_of_message, syslog_head
from kinglet.discover.times import format_of_time
from kinglet.drafting.classes import severities
from kinglet.drafting.naming import Names, plain_name, variant_name
from kinglet.drafting.patterns import Slot, Written, slot_type, written
from kinglet.drafting.report import Doubt
from kinglet.drafting.shape import Variant
from kinglet.drafting.sharing import share_names
from kinglet.drafting.work import Work, literal, sampled
from kinglet.mining.heads import Head
from kinglet.mining.messages import Message, Mined, mine
from kinglet.mining.parts import Literal, Varying
from kinglet.parser import Parser
from kinglet.patterns.grammar import parse
from kinglet.patterns.grammar import slots as in_pattern
from kinglet.structured.structured_data import StructuredData
from kinglet.timestamps.formats import parse_format

_ROUNDS = 4
_RARELY = 0.05
_MOST_PARAMETERS = 40
_FEW_LOOKS = 3
OF_SYSLOG = ("priority", "stamp", "host", "app", "pid", "msgid", "data", "data_text")
_OF_ACCESS = {"client": "src_ip", "size": "bytes"}


class Bodies(NamedTuple):
    """The events without a head that is known: their first lines, the lines behind these, and who wrote them."""

    first: list[str]
    more: list[str | None]
    head: Head | None = None
    apps: list[str] | None = None


def messages(work: Work) -> tuple[pl.DataFrame, Parser]:
    """Drafts variants for the messages of a log; gives its events as these read them, and the parser."""
    bodies = _bodies(work)
    access = access_pattern(work.raw) if work.shape.syslog is None else None
    if access is not None:
        return _access(work, access)
    rows = sampled(range(len(bodies.first)))
    mined = _mined(work, bodies, rows, bodies.head)
    if mined.head:
        lost = set(mined.lost)
        _envelope(work, mined, [row for i, row in enumerate(rows) if i not in lost])
    _variants(work, mined, rows, bodies)
    events, parser = work.proved()
    for _ in range(_ROUNDS - 1):
        left = (events["variant"].is_null()).arg_true().to_list()
        work.tidied(events)
        before = len(work.shape.variants)
        if not left or before >= work.wishes.most:
            break
        rows = sampled(left)
        _variants(work, _mined(work, bodies, rows, mined.begins), rows, bodies)
        if len(work.shape.variants) == before:
            break
        events, parser = work.proved()
    work.tidied(events)
    return events, parser


def only(work: Work, variant: Variant) -> tuple[pl.DataFrame, Parser]:
    """Drafts one variant that is known; gives the events as it reads them, and the parser."""
    variant.name = variant_name(variant.words, work.names, 1) if not variant.name else variant.name
    work.shape.variants = [variant]
    return work.proved()


def time_of(work: Work, place: StampPlace | None = None) -> None:
    """Says how the time is read, and what the log leaves open of it; place: other than that first found."""
    text = format_of_time(work.found.stamps) if place is None else place.format
    if text is None:
        return
    place = place or work.found.stamps.places[0]
    work.shape.notes.pop("time", None)
    work.doubts = [doubt for doubt in work.doubts if doubt.about != "time"]
    time: dict[str, Any] = {"from": "stamp", "format": text}
    fmt = parse_format(text)
    if not fmt.has_date:
        time["date"] = ["previous", "file"]
    if work.wishes.zone is not None and not fmt.has_zone:
        time["zone"] = work.wishes.zone
    elif not fmt.has_zone and place.zone == "none in the text":
        work.doubt(
            Doubt("time", "the stamps carry no zone: read as UTC", "name the zone of the device with --zone"),
            "the stamps carry no zone: read as UTC until `zone` is given",
        )
    if place.ambiguity and not place.decided:
        of_day = "look at a log with a day above 12, or ask who made it"
        of_date = "otherwise the days are counted from the file's"
        work.doubt(Doubt("time", place.ambiguity, of_day if fmt.has_date else of_date))
    work.shape.time = time


def _bodies(work: Work) -> Bodies:
    """The first lines of events, without a head of syslog."""
    first, more = first_lines(work.raw)
    head = syslog_head(work.raw)
    if head is None:
        if _says_little(first, more):
            second, more = first_lines(more)
            first = first + ("\n" + second).fill_null("")
        return Bodies(first.to_list(), more.to_list())
    with_syslog(work, head)
    work.shape.parameters = _parameters(first, head)
    columns = {name: of_syslog(first, head, name) for name in ("body", "app")}
    apps = None
    if columns["app"].null_count() == 0 and columns["app"].n_unique() > 1:
        apps = columns["app"].to_list()
        work.shape.kind = "app"
    return Bodies(columns["body"].fill_null("").to_list(), more.to_list(), Head(), apps)


def first_lines(texts: pl.Series) -> tuple[pl.Series, pl.Series]:
    """The first lines of texts, and what is behind them."""
    split = texts.str.splitn("\n", 2).struct.unnest()
    return split.to_series(0), split.to_series(1)


def _says_little(first: pl.Series, more: pl.Series) -> bool:
    """Whether messages stand in second lines: nearly all events have one, and their first lines look alike."""
    if more.null_count() > _RARELY * len(more):
        return False
    looks = (
        first.str.replace_all(r"[A-Za-z_]+", "a").str.replace_all(r"[0-9]+", "9").str.replace_all(r"a(?:[.$]a)+", "a")
    )
    counts = looks.value_counts(sort=True, name="n")["n"].head(_FEW_LOOKS)
    return int(counts.sum()) >= (1 - _RARELY) * len(first)


def with_syslog(work: Work, head: str) -> None:
    """Says that events have a head of syslog, and how its stamps are written."""
    work.shape.syslog = head
    if (own := stamp_of_message(work.raw, head, work.found.stamps)) is not None:
        work.shape.time = {**own, **{key: item for key, item in (work.shape.time or {}).items() if key != "from"}}
        return
    formats = head_formats(work.raw, head)
    work.shape.time = {
        **(work.shape.time or {}), "from": "stamp", "format": formats if len(formats) > 1 else formats[0]
    }  # fmt: skip


def _parameters(lines: pl.Series, head: str) -> list[tuple[Slot, str]]:
    """The parameters of structured data that heads of syslog have, as slots, and their keys."""
    texts = [frame["data_text"] for frame in read_heads(lines, head) if "data_text" in frame.columns]
    reader = StructuredData()
    each = [{one.path: one.text for one in reader.values(text or "") or ()} for text in texts[0]] if texts else []
    counts = Counter(path for values in each for path in values)
    names = Names(OF_SYSLOG)
    found = []
    for path, _ in counts.most_common(_MOST_PARAMETERS):
        column = Varying([values.get(path) for values in each], frozenset())
        own = path.rpartition(".")[2]
        type_, _ = slot_type(column, own, last=False)
        found.append((Slot(names.name("", type_, plain_name(own) or "value"), type_, column.values), path))
    return found


def of_syslog(lines: pl.Series, head: str, name: str) -> pl.Series:
    """A group of the heads of syslog that lines have."""
    read = read_heads(lines, head)
    return pl.select(pl.coalesce([frame[name] for frame in read if name in frame.columns])).to_series()


def _access(work: Work, pattern: str) -> tuple[pl.DataFrame, Parser]:
    """A variant for a web server's log of accesses, whose form is known."""
    work.shape.time = {**(work.shape.time or {}), "from": "stamp", "format": "ncsa"}
    fixed = Written([], [], [], fixed=pattern)
    fields = [
        Slot(slot.name, slot.type, [], alias=_OF_ACCESS.get(slot.name, "")) for slot in in_pattern(parse(pattern))
    ]
    work.shape.variants = [Variant("request", fixed, list(range(len(work.raw))), fields=fields)]
    return work.proved()


def stamps_in(work: Work) -> list[str]:
    """Regexes of the stamps that lines have, that of the event's time first."""
    forms = [place.form for place in work.found.stamps.where]
    own = [forms[0].shape] if work.stamp_texts is not None else []
    return [*own, *(form.shape for form in forms if form.clock and form.date and not form.name.startswith("epoch"))]


def _mined(work: Work, bodies: Bodies, rows: Sequence[int], head: Head | None) -> Mined:
    kinds = [bodies.apps[row] for row in rows] if bodies.apps is not None else None
    return mine([bodies.first[row] for row in rows], stamps_in(work), head, kinds)


def _envelope(work: Work, mined: Mined, rows: list[int]) -> None:
    """Writes what all lines begin with, and which part of it is the kind."""
    found = in_front(Message(rows, [*mined.head]), Names(), work.stamp_of(rows), [Slot("body", "rest", [])])
    work.shape.envelope = found
    if mined.kind is not None:
        slots = [slot for slot in found.slots if slot.values == getattr(mined.head[mined.kind], "values", None)]
        if slots:
            slots[0].words = ()
            if slots[0].wanted.rstrip("_0123456789") in ("number", "value", "unit", "host"):
                slots[0].name = slots[0].wanted = "code" if slots[0].type == "int" else "source"
            work.shape.kind = slots[0].name
            work.shape.kind_is_number = slots[0].type == "int"


def in_front(message: Message, names: Names, stamp: list[str | None] | None, behind: Sequence[str | Slot]) -> Written:
    """What stands in front of the bodies of events, with what is behind it; a blank before these stays."""
    found = written(message, names, stamp=stamp, open_words=True)
    parts = list(found.parts)
    if isinstance(last := message.parts[-1], Literal):
        parts[-1] = last.text
    named_in_head(parts)
    return Written([*parts, *behind], found.slots, found.maybe)


def _variants(work: Work, mined: Mined, rows: Sequence[int], bodies: Bodies) -> None:
    taken = {slot.name for slot in work.outer} | (set(OF_SYSLOG) if work.shape.syslog else set())
    stamped = not any(slot.name == "stamp" for slot in work.outer)
    behind = mined.head[-1].text if mined.head and isinstance(mined.head[-1], Literal) else ""
    for message in mined.messages:
        if len(work.shape.variants) >= work.wishes.most:
            break
        own = [rows[row] for row in message.rows]
        more = [bodies.more[row] for row in own]
        stamp = work.stamp_of(own) if stamped else None
        found = written(message, Names(taken), stamp=stamp, more=more, behind=behind)
        name = variant_name(found.words, work.names, len(work.shape.variants) + 1)
        work.shape.variants.append(Variant(name, found, own, message.kinds))
    patterns = [variant.written for variant in work.shape.variants if variant.written is not None]
    share_names([[slot for slot in one.slots if slot not in one.keys.values()] for one in patterns])
    work.shape.variants.sort(key=lambda variant: -literal(variant))


def named_in_head(parts: Sequence[object]) -> None:
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
        elif parts[:i] == ["<"] and part.type == "int" and behind and str(behind[0]).startswith(">"):
            call(part, "priority")
        elif len(behind) == 3 and behind[0] == "[" and isinstance(behind[1], Slot) and behind[1].type == "int":
            call(part, "app")
            call(behind[1], "pid")
        elif part.type == "word" and part.wanted.startswith("value"):
            call(part, "unit")
