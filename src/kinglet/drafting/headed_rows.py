"""Drafts of logs whose events are rows of values between signs, behind a head of text or by themselves."""

from __future__ import annotations

import re
from collections.abc import Sequence

from kinglet.discover.row_signs import ALIGNED, DRAWN_LINE, PROBE, Rows, rows_in, values_of
from kinglet.discover.structured import Structured, structure_in
from kinglet.discover.syslog_heads import syslog_head
from kinglet.discover.times import format_of_time
from kinglet.drafting.naming import Names, plain_name
from kinglet.drafting.patterns import Slot, written
from kinglet.drafting.shape import Aside, Variant
from kinglet.drafting.text_logs import OF_SYSLOG, in_front, named_in_head, of_syslog, stamps_in, with_syslog
from kinglet.drafting.work import Work, sampled
from kinglet.mining.messages import Message, same_head
from kinglet.mining.parts import Literal, Part, Varying
from kinglet.patterns.grammar import escaped
from kinglet.structured.delimited import Delimited

_LONG = 0.02
"""So many events may have several lines."""


def headed_rows(work: Work) -> Structured | Variant | None:
    """The rows of values that nearly all events are; what stands in front of the first value becomes the envelope.

    A structure where one sign parts the values, a variant with a pattern where several do.
    """
    raw = work.raw
    if float(raw.str.contains("\n", literal=True).mean() or 0) > _LONG:  # type: ignore[arg-type]
        return None
    numbers = sampled(range(len(raw)))
    texts = [str(raw[row]) for row in numbers]
    head = syslog_head(raw)
    if head is not None:
        bodies = of_syslog(raw, head, "body").fill_null("").gather(numbers).to_list()
        rows = rows_in(bodies, stamps_in(work))
        if rows is not None and not _end_of_front(rows.masked[0].split(rows.sign)[0]):
            with_syslog(work, head)
            return _by_columns(work, numbers, rows)
    rows = rows_in(texts, stamps_in(work))
    return _by_columns(work, numbers, rows) if rows is not None else None


def _by_columns(work: Work, numbers: Sequence[int], rows: Rows) -> Structured | Variant | None:
    texts, sign = rows.texts, " " if rows.sign == ALIGNED else rows.sign
    own = [i for i, text in enumerate(rows.masked) if text.count(rows.sign) == rows.width]
    header = _header(work, rows) if own[0] == 0 and numbers[0] == 0 else []
    own = own[1:] if header else own
    starts = [_end_of_front(rows.masked[i].split(rows.sign)[0]) for i in own]
    message = None
    if any(starts):
        message = same_head([texts[i][:start] for i, start in zip(own, starts, strict=True)], stamps_in(work))
        own = own if message is None else [own[i] for i in message.rows]
        starts = [0] * len(own) if message is None else [starts[i] for i in message.rows]
    bodies = [texts[i][start:] for i, start in zip(own, starts, strict=True)]
    hidden = [rows.masked[i][start:] for i, start in zip(own, starts, strict=True)]
    at = [numbers[i] for i in own]
    if len(sign) == 1 and sign != " ":
        return _as_structure(work, message, at, bodies, Delimited(header or _numbered(rows.width + 1), sign))
    values = [values_of(body, mask, rows.sign) for body, mask in zip(bodies, hidden, strict=True)]
    parts: list[Part] = [*message.parts] if message is not None else []
    for i, column in enumerate(zip(*values, strict=True)):
        parts += [*([Literal(sign)] if i else []), Varying(list(column), frozenset())]
    return _as_variant(work, Message(at, parts), header, blanks=sign == " ")


def _numbered(count: int) -> list[str]:
    return [f"column_{i + 1}" for i in range(count)]


def _as_structure(
    work: Work, message: Message | None, at: Sequence[int], bodies: Sequence[str], reader: Delimited
) -> Structured:
    """Rows that the parser reads as such; what stands in front becomes the envelope."""
    inside = message is None and work.shape.syslog is None
    stamps = work.stamp_texts.gather(list(at)) if inside and work.stamp_texts is not None else None
    text = format_of_time(work.found.stamps) if stamps is not None else None
    if message is not None:
        body = Slot("body", "rest", [])
        work.shape.envelope = in_front(message, Names(reader.names), work.stamp_of(at), [body])
    return structure_in(reader, bodies, work.found.reference, text, stamps)


def _as_variant(work: Work, row: Message, header: Sequence[str], *, blanks: bool) -> Variant:
    """Rows as a pattern with a slot for each value; header: what the values are called."""
    stamp, taken = (work.stamp_of(row.rows), ()) if work.shape.syslog is None else (None, OF_SYSLOG)
    pattern = written(row, Names(taken), stamp=stamp, open_words=True)
    given = Names((*taken, *(slot.name for slot in pattern.slots[: -len(header) or None]), "stamp"))
    for slot, name in zip(pattern.slots[-len(header) :], header, strict=False):
        if slot.name != "stamp":
            slot.name = slot.wanted = given.name("", slot.type, name)
    for slot in pattern.slots:
        # one more sign than values would be in the first word otherwise, and not in the last value
        slot.type = "text" if slot.type == "word" and not blanks else slot.type
    named_in_head(pattern.parts)
    return Variant("row", pattern, row.rows)


_NAME = re.compile(r"[^\W\d][\w ()%/#.-]{0,30}")


def _end_of_front(first: str) -> int:
    """Where the last word of a row's first value begins."""
    return max(first.rfind(" "), first.rfind("\t")) + 1


def _header(work: Work, rows: Rows) -> list[str]:
    """The names of the columns, where the first row says them; it and a line drawn below it are no events."""
    cells = [text.strip() for text in rows.masked[0].split(rows.sign)]
    others = {text.strip() for row in rows.masked[1:PROBE] for text in row.split(rows.sign)}
    stamped = work.stamp_texts is not None and work.stamp_texts[0] is None
    if not stamped or len(set(cells)) < len(cells) or not all(map(_NAME.fullmatch, cells)) or others & set(cells):
        return []
    first, second = str(work.raw[0]), str(work.raw[1])
    work.shape.aside = [Aside("header", escaped(re.sub(r"[ \t]+", " ", first.strip())), first)]
    if DRAWN_LINE.fullmatch(second):
        work.shape.aside.append(Aside("line", escaped(re.sub(r"[ \t]+", " ", second.strip())), second))
    return [plain_name(cell) or number for cell, number in zip(cells, _numbered(len(cells)), strict=True)]
