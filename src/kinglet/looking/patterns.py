"""The whole pattern of an event: what stands in front of all messages, and the message behind it."""

from __future__ import annotations

import polars as pl

from kinglet.discover.syslog_heads import read_heads
from kinglet.drafting.patterns import Slot, Written, regex_of
from kinglet.drafting.shape import Shape, Variant
from kinglet.patterns.grammar import escaped

_PROBED = 2000
_SURE = 3
"""What so many events of a variant have alike in their heads is fixed text of their shape."""


def whole_pattern(shape: Shape, variant: Variant, events: pl.DataFrame) -> str:
    """A pattern that reads whole events as a draft does: the text of its head, and the variant's pattern.

    events: those that the variant reads, with their fields. A head that cannot be told in one pattern is `{head:text}`.
    """
    raw = events["raw"]
    if shape.syslog is not None:
        probe = raw.unique(maintain_order=True).head(_PROBED)
        found = [head + variant.pattern for head in _syslog(shape.syslog, probe)]
        return next((text for text in found if reads(text, probe)), f"{{head:text}} {variant.pattern}")
    if shape.envelope is None:
        return variant.pattern
    *front, _ = shape.envelope.parts
    own = [_fixed(part, events) if isinstance(part, Slot) and part.type != "time" else part for part in front]
    inner = variant.written.parts if variant.written is not None else []
    return Written([*own, *inner], []).pattern


def _fixed(slot: Slot, events: pl.DataFrame) -> Slot | str:
    """A slot of a head, or the text that it has in all events of a variant."""
    values = events[slot.name].drop_nulls().unique()
    return str(values[0]) if len(values) == 1 and events.height >= _SURE else slot


def _syslog(form: str, probe: pl.Series) -> list[str]:
    """Patterns of the heads of syslog that events have."""
    found = []
    for groups in read_heads(probe, form):
        read = groups.drop_nulls("stamp")
        if not read.height:
            continue
        app = _one(read["app"], "{app}")
        if "msgid" in read.columns:
            data = "{data}" if read["data_text"].str.len_chars().eq(1).all() else "{data:text}"
            ids = [_one(read[name], f"{{{name}}}") for name in ("pid", "msgid")]
            texts = [f"{_one(read['host'], '{host}')} {app} {ids[0]} {ids[1]} {data} "]
            front = "<{priority:int}>1 {stamp:time} "
        else:
            pid = _where(read["pid"], "[{pid}]", read["app"])
            tag = [f"{app}{pid}:{blank}" for blank in (" ", "", "[[ ]]")] if read["app"].null_count() == 0 else [""]
            texts = [f"{_one(read['host'], '{host}')} {one}" for one in tag]
            front = _where(read["priority"], "<{priority:int}>") + "{stamp:time} "
        found += [front + text for text in texts]
    return found


def _one(values: pl.Series, slot: str) -> str:
    """The text that all have, or the slot."""
    return escaped(str(values[0] or "-")) if values.n_unique() == 1 and len(values) >= _SURE else slot


def _where(values: pl.Series, text: str, beside: pl.Series | None = None) -> str:
    """A text that all events have, some, or none."""
    missing = values.null_count() - (beside.null_count() if beside is not None else 0)
    return text if not missing else "" if missing == len(values) else f"[[{text}]]"


def reads(text: str, raw: pl.Series) -> bool:
    """Whether a pattern reads all of these events."""
    regex = regex_of(text)
    return regex is not None and bool(raw.str.contains(regex).all())
