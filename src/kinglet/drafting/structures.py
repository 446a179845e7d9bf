"""What the keys of events tell: their types, which of them tells the messages apart, which holds a text."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

import polars as pl

from kinglet.drafting.patterns import Slot, slot_type
from kinglet.mining.information import shared
from kinglet.mining.parts import Varying

_KINDS = frozenset(
    [
        "event",
        "eventname",
        "event_name",
        "eventtype",
        "event_type",
        "type",
        "action",
        "kind",
        "msgid",
        "msg_id",
        "code",
        "eventid",
        "event_id",
        "op",
        "operation",
        "method",
        "category",
        "subtype",
        "act",
        "verb",
        "activity",
        "command",
    ]
)
_MESSAGES = frozenset(["message", "msg", "text", "log", "body", "description", "detail", "details", "note"])
_MOST_KINDS = 60
_TELLS = 0.75
"""How much of what keys an event has the kind must tell: mutual information over the entropy of the keys."""
_ALWAYS = 0.995
_LEAST = 0.2  # bits, below which all events have the same keys
_SIDES = {"src": "src", "source": "src", "from": "src", "client": "src", "remote": "src", "dst": "dst", "dest": "dst",
          "destination": "dst", "to": "dst", "server": "dst", "target": "dst"}  # fmt: skip


def types_of(texts: Mapping[str, pl.Series], stamp: str | None) -> dict[str, str]:
    """The types of fields by the texts of all events."""
    out: dict[str, str] = {}
    for name, column in texts.items():
        if name == stamp:
            out[name] = "time"
            continue
        distinct = Varying(column.drop_nulls().unique().to_list(), frozenset())
        out[name], _ = slot_type(distinct, name, last=False)
    return out


def kind_of(texts: Mapping[str, pl.Series], stamp: str | None) -> str | None:
    """The field whose value tells which keys an event has, or is called so."""
    if not texts:
        return None
    height = len(next(iter(texts.values())))
    having = [column.is_not_null() for column in texts.values()]
    signs = pl.DataFrame([mask.alias(str(i)) for i, mask in enumerate(having)]).hash_rows() if having else None
    best, most = None, _TELLS
    for name, column in texts.items():
        known = column.drop_nulls()
        distinct = known.n_unique()
        if name == stamp or len(known) < _ALWAYS * height or not 2 <= distinct <= min(_MOST_KINDS, height / 3):
            continue
        called = re.split(r"[._]", name.lower())[-1] in _KINDS or name.lower() in _KINDS
        words = sum(len(text) < 60 for text in known.unique()) == distinct
        told = _told(column, signs) if signs is not None else 0.0
        score = told + 0.6 * called + 0.05 * bool(known.str.contains("[A-Za-z]").all())
        if words and score > most:
            best, most = name, score
    return best


def _told(column: pl.Series, signs: pl.Series) -> float:
    """How much of which keys an event has a column tells."""
    table = pl.DataFrame([column.alias("one"), signs.alias("other")])
    counts = [table.group_by(names).len()["len"].to_list() for names in (["one", "other"], ["one"], ["other"])]
    both, _, other = shared(*counts)
    return both / other if other > _LEAST else 0.0


def message_of(texts: Mapping[str, pl.Series]) -> str | None:
    """The field that holds a text for people, of several words."""
    for name, column in texts.items():
        if re.split(r"[._]", name.lower())[-1] in _MESSAGES:
            known = column.drop_nulls()
            if len(known) >= 0.5 * len(column) and float(known.str.contains(r"\S\s+\S").mean() or 0) > 0.6:  # type: ignore[arg-type]
                return name
    return None


def slots_of(names: Sequence[str], types: Mapping[str, str]) -> list[Slot]:
    """Fields as slots, so called that classes find them: `src_ip` for `request.from.ip`."""
    out = []
    for name in names:
        parts = [part for part in re.split(r"[._]", name.lower()) if part]
        last = parts[-1] if parts else name
        side = next((_SIDES[part] for part in reversed(parts) if part in _SIDES), "")
        alias = last
        if types.get(name) in ("ip", "host", "mac", "port") or last in ("ip", "addr", "address", "port", "host"):
            what = {"addr": "ip", "address": "ip"}.get(
                last, types.get(name, last) if types.get(name) in ("ip", "host", "mac", "port") else last
            )
            alias = f"{side}_{what}" if side else what
        elif last in ("name", "user", "username", "account", "login") and (last != "name" or "user" in parts):
            alias = "user"
        out.append(Slot(name, types.get(name, "text"), [], alias=alias))
    return out
