"""Drafts of logs whose events are pairs behind a head of text."""

from __future__ import annotations

from collections.abc import Sequence

from kinglet.discover.pair_signs import Found, pair_signs
from kinglet.discover.structured import Structured, structure_in
from kinglet.discover.syslog_heads import syslog_head
from kinglet.discover.times import format_of_time
from kinglet.drafting.naming import Names
from kinglet.drafting.patterns import Slot, Written
from kinglet.drafting.text_logs import in_front, of_syslog, stamps_in, with_syslog
from kinglet.drafting.work import Work, sampled
from kinglet.mining.messages import same_head
from kinglet.timestamps.formats import parse_format

_FEW_ORDERS = 4
"""So many different sequences of keys are messages; where there are more, keys come and go."""
_LONG = 0.02
"""So many events may have several lines."""


def headed_pairs(work: Work) -> Structured | None:
    """The pairs that nearly all events are from some place on; what stands in front becomes the envelope.

    Where the same keys stand in nearly the same order each time, patterns say more of them.
    """
    raw = work.raw
    if float(raw.str.contains("\n", literal=True).mean() or 0) > _LONG:  # type: ignore[arg-type]
        return None
    head = syslog_head(raw)
    if head is not None:
        bodies = of_syslog(raw, head, "body").fill_null("").gather(sampled(range(len(raw)))).to_list()
        found = _come_and_go(pair_signs(bodies))
        if found is not None and not found.signs.around:
            with_syslog(work, head)
            return structure_in(found.signs.reader, bodies, work.found.reference)
    texts = raw.to_list()
    found = pair_signs(texts, behind_heads=True)
    told = _come_and_go(found) is not None
    time = format_of_time(work.found.stamps)
    if found is None or (not told and time is not None and parse_format(time).has_date):
        return None
    made = _behind_text(work, texts, found)
    if made is None or (not told and made[1].parted is None):
        return None  # patterns read it; but a date that stands in a pair by itself they would not
    work.shape.envelope, structure = made
    return structure


def _come_and_go(found: Found | None) -> Found | None:
    """Pairs that are not the same in nearly all texts, or are written in a way of their own."""
    if found is None:
        return None
    usual = found.signs.form == "true" and not found.signs.around and not found.mixed and not found.escaped
    return None if usual and len(set(found.keys)) <= _FEW_ORDERS else found


def _behind_text(work: Work, texts: Sequence[str], found: Found) -> tuple[Written, Structured] | None:
    """What stands in front of the pairs as an envelope, where it has one form, and the pairs."""
    around = found.signs.around
    starts = {row: start for row in sampled(range(len(texts))) if (start := found.start(texts[row])) is not None}
    rows = list(starts)
    message = same_head([texts[row][: starts[row]] for row in rows], stamps_in(work)) if any(starts.values()) else None
    if message is None:
        return None
    own = [rows[row] for row in message.rows]
    bodies = [texts[row][starts[row] :].rstrip() for row in own]
    inner = [body[1:-1] for body in bodies] if around else bodies
    structure = structure_in(found.signs.reader, inner, work.found.reference)
    body: list[str | Slot] = [Slot("body", "rest", [])]
    if around:
        body = [around[0], Slot("body", "text", []), around[1]]
    return in_front(message, Names(structure.types), work.stamp_of(own), body), structure
