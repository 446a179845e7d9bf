"""Drafts of logs whose events are rows of values between signs, behind a head of text or by themselves."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from typing import NamedTuple

from kinglet.discover.structured import Structured, structure_in
from kinglet.discover.suggestion import syslog_head
from kinglet.discover.times import format_of_time
from kinglet.drafting.naming import Names, plain_name
from kinglet.drafting.patterns import Slot, Written, written
from kinglet.drafting.shape import Aside, Variant
from kinglet.drafting.text_logs import OF_SYSLOG, named_in_head, of_syslog, stamps_in, with_syslog
from kinglet.drafting.work import Work, sampled
from kinglet.mining.messages import Message, same_head
from kinglet.mining.parts import Literal, Part, Varying
from kinglet.patterns.grammar import escaped
from kinglet.structured.blocks import DRAWN
from kinglet.structured.delimited import Delimited

_ALIGNED = "\x04"
"""Stands for two blanks or more, by which values are put below each other."""
_SEVERAL = ("::", "||", " | ", " - ", " -- ", " ; ", ", ", "; ")
_SINGLE = ("|", "^", "~", ";", "\t", ",", "¦", "§", "\x1f", "\x01")
_SIGNS = (_ALIGNED, *_SEVERAL, *_SINGLE)
_OF_PROSE = ("|", " | ", ";", "; ", " ; ", "\t", " - ", " -- ", ", ")
"""Signs that stand in front of messages too; what is behind the last of them is told apart by its words."""
_IN_PROSE = (", ", "; ", " - ", " -- ", ",", ";")
_ALL = 0.98
_LEAST = 10
_PROBE = 500
_LONGEST = 20_000
_MASK = "\x02"
_FILLED = re.compile("[ \t]{2,}")
_DRAWN = re.compile(f"[ \t]*(?:{DRAWN}[ \t]*)+")
_BLANK = re.compile(r"[ \t]")


class Rows(NamedTuple):
    """Rows of values: the sign between them, their texts, these with stamps hidden, and how many signs each has."""

    sign: str
    texts: Sequence[str]
    masked: Sequence[str]
    width: int


def rows_in(texts: Sequence[str], stamps: Sequence[str]) -> Rows | None:
    """The sign that stands equally often in nearly all texts, and parts values rather than words."""
    if (
        len(texts) < _LEAST
        or any(len(text) > _LONGEST for text in texts)
        or sum('{"' in text for text in texts) > 0.5 * len(texts)
    ):
        return None
    hidden = re.compile("|".join(stamps)) if stamps else None
    given = texts
    for sign in _SIGNS:
        plain = [_without(sign, text, hidden) for text in given]
        texts = [_closed_up(text, by) for text, by in zip(given, plain, strict=True)] if sign == _ALIGNED else given
        masked = [_closed_up(text, text) for text in plain] if sign == _ALIGNED else plain
        masked = [_hidden_quotes(text, sign) for text in masked] if len(sign) == 1 else masked
        probe = [text for text in masked[:_PROBE] if not _DRAWN.fullmatch(text)]
        if not probe:
            return None
        count, many = Counter(text.count(sign) for text in probe).most_common(1)[0]
        if many < _ALL * len(probe) or count < (3 if sign in _IN_PROSE else 2):
            continue
        whole = [text.split(sign) for text in probe if text.count(sign) == count]
        if _are_values(whole, sign):
            return Rows(sign, texts, masked, count)
    return None


def _without(sign: str, text: str, stamps: re.Pattern[str] | None) -> str:
    """A text with its stamps hidden; but a sign between a date and a time of day stays: these are two values then."""
    if stamps is None:
        return text
    several = len(sign) > 1
    inner = re.compile(rf"[^{re.escape(sign)}]|(?<=:[0-9]{{2}}){re.escape(sign)}" if not several else "(?s:.)")
    return stamps.sub(lambda found: inner.sub(_MASK, found[0]), text)


def _closed_up(text: str, by: str) -> str:
    """A text with one sign for blanks that fill up, where these stand in another text of the same length."""
    out, at = "", 0
    for found in _FILLED.finditer(by.rstrip()):
        out += text[at : found.start()] + _ALIGNED
        at = found.end()
    return out + text[at:].rstrip()


def _hidden_quotes(text: str, sign: str) -> str:
    """A row with what stands in quotes between signs hidden."""
    if '"' not in text:
        return text
    around = re.escape(sign)
    return re.sub(rf'(?<={around})"(?:[^"]|"")*"(?={around}|$)', lambda found: _MASK * len(found[0]), text)


def _are_values(rows: Sequence[Sequence[str]], sign: str) -> bool:
    """Whether most columns hold single values, none of them between blanks, and the last one no message.

    Where values are missing it may be one: a column may be empty, and the front of a message is not.
    """
    columns = [list(column) for column in list(zip(*rows, strict=True))[1:]]
    around = sum(text != text.strip(" ") for column in columns for text in column)
    if around > 0.02 * len(rows) * len(columns):
        return False
    wordy = [sum(_BLANK.search(text) is not None for text in column) > 0.1 * len(column) for column in columns]
    if sum(wordy) > (0 if sign == _ALIGNED else 0.5) * len(columns):
        return False
    empty = sum(not text for column in columns[:-1] for text in column) > 0.01 * len(rows) * len(columns)
    return empty or not (sign in _OF_PROSE and wordy[-1])


def headed_rows(work: Work) -> Structured | Variant | None:
    """The rows of values that nearly all events are; what stands in front of the first value becomes the envelope.

    A structure where one sign parts the values, a variant with a pattern where several do.
    """
    raw = work.raw
    if float(raw.str.contains("\n", literal=True).mean() or 0) > 1 - _ALL:  # type: ignore[arg-type]
        return None
    numbers = sampled(range(len(raw)))
    texts = [str(raw[row]) for row in numbers]
    head = syslog_head(raw)
    if head is not None:
        bodies = of_syslog(raw, head, "body").fill_null("").gather(numbers).to_list()
        rows = rows_in(bodies, stamps_in(work))
        if rows is not None and not _BLANK.search(rows.masked[0].split(rows.sign)[0]):
            with_syslog(work, head)
            return _by_columns(work, numbers, rows)
    rows = rows_in(texts, stamps_in(work))
    return _by_columns(work, numbers, rows) if rows is not None else None


def _by_columns(work: Work, numbers: Sequence[int], rows: Rows) -> Structured | Variant | None:
    texts, sign = rows.texts, " " if rows.sign == _ALIGNED else rows.sign
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
    values = [_values(body, mask, rows.sign) for body, mask in zip(bodies, hidden, strict=True)]
    at = [numbers[i] for i in own]
    if len(sign) == 1 and sign != " ":
        names = header or [f"column_{i + 1}" for i in range(rows.width + 1)]
        reader = Delimited(names, rows.sign)
        inside = message is None and work.shape.syslog is None and work.stamp_texts is not None
        stamps = work.stamp_texts.gather(at) if inside and work.stamp_texts is not None else None
        found = structure_in(
            reader, bodies, work.found.reference, format_of_time(work.found.stamps) if inside else None, stamps
        )
        if message is not None:
            work.shape.envelope = _front(work, message, at, names)
        return found
    parts: list[Part] = []
    for i, column in enumerate(zip(*values, strict=True)):
        parts += [*([Literal(sign)] if i else []), Varying(list(column), frozenset())]
    whole = Message(at, [*(message.parts if message is not None else []), *parts])
    stamp, taken = (work.stamp_of(at), ()) if work.shape.syslog is None else (None, OF_SYSLOG)
    pattern = written(whole, Names(taken), stamp=stamp, open_words=True)
    if header:
        given = Names((*taken, "stamp"))
        for slot, name in zip(pattern.slots, header, strict=False):
            if slot.name != "stamp":
                slot.name = slot.wanted = given.name("", slot.type, name)
    for slot in pattern.slots:
        slot.type = "text" if slot.type == "word" and sign != " " else slot.type
    named_in_head(pattern.parts)
    return Variant("row", pattern, at)


_NAME = re.compile(r"[^\W\d][\w ()%/#.-]{0,30}")


def _header(work: Work, rows: Rows) -> list[str]:
    """The names of the columns, where the first row says them; it and a line drawn below it are no events."""
    cells = [text.strip() for text in rows.masked[0].split(rows.sign)]
    others = {text.strip() for row in rows.masked[1:_PROBE] for text in row.split(rows.sign)}
    stamped = work.stamp_texts is not None and work.stamp_texts[0] is None
    if not stamped or len(set(cells)) < len(cells) or not all(map(_NAME.fullmatch, cells)) or others & set(cells):
        return []
    first, second = str(work.raw[0]), str(work.raw[1])
    work.shape.aside = [Aside("header", escaped(re.sub(r"[ \t]+", " ", first.strip())), first)]
    if _DRAWN.fullmatch(second):
        work.shape.aside.append(Aside("line", escaped(re.sub(r"[ \t]+", " ", second.strip())), second))
    return [plain_name(cell) or f"column_{i + 1}" for i, cell in enumerate(cells)]


def _end_of_front(first: str) -> int:
    """Where the last word of a row's first value begins."""
    return max(first.rfind(" "), first.rfind("\t")) + 1


def _values(text: str, masked: str, sign: str) -> list[str]:
    """The values of a row; signs within a stamp part none."""
    out, start = [], 0
    for part in masked.split(sign):
        out.append(text[start : start + len(part)])
        start += len(part) + len(sign)
    return out


def _front(work: Work, message: Message, at: Sequence[int], names: Sequence[str]) -> Written:
    head = written(message, Names(names), stamp=work.stamp_of(at), open_words=True)
    front = list(head.parts)
    if isinstance(last := message.parts[-1], Literal):
        front[-1] = last.text
    named_in_head(front)
    return Written([*front, Slot("body", "rest", [])], head.slots, head.maybe)
