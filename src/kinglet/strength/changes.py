"""Small changes of a parser file, such as a hand could make by mistake: a row of `KINDS` each."""

from __future__ import annotations

import itertools
import re
from collections.abc import Callable, Iterator, Mapping
from typing import Any, NamedTuple

from kinglet.patterns.grammar import Blank, Literal, Optional, PartRef, PatternError, Slot, Token, escaped, parse
from kinglet.patterns.grammar import slots as slots_of
from kinglet.spec.document import KeyPath
from kinglet.spec.patterns import patterns_of

_WIDER = {
    "int": "word", "num": "word", "ip": "word", "ipv4": "ip", "ipv6": "ip", "port": "int", "mac": "word",
    "uuid": "word",
    "host": "word", "hex": "word", "email": "word", "url": "word", "word": "text", "quoted": "text", "bool": "word",
    "percent": "text", "size": "text", "count": "word", "duration": "text", "path": "word",
}  # fmt: skip
_NARROWER = {"word": "int", "num": "int", "ip": "ipv4", "host": "ip", "text": "word"}
_ZONES = ("Asia/Kathmandu", "America/St_Johns")


class Change(NamedTuple):
    """A change: the path of the value that is another one, the new value (None takes the key out), and what it is."""

    path: KeyPath
    value: Any
    what: str


_GONE = None
Values = Mapping[str, Any]


def changes(values: Values) -> list[Change]:
    """All small changes of a parser file, each once."""
    found = [change for kind in KINDS for change in kind(values)]
    return list({(change.path, repr(change.value)): change for change in found}.values())


def changed(values: Values, change: Change) -> dict[str, Any]:
    """The values of a file with a change; what is not changed is shared."""
    whole = dict(values)
    inner: Any = whole
    for part in change.path[:-1]:
        below = inner[part]
        inner[part] = list(below) if isinstance(below, list) else dict(below)
        inner = inner[part]
    if change.value is None:
        del inner[change.path[-1]]
    else:
        inner[change.path[-1]] = change.value
    return whole


def written(tokens: tuple[Token, ...]) -> str:
    """Tokens as a pattern."""
    out = ""
    for token in tokens:
        match token:
            case Literal(text=text):
                out += escaped(text)
            case Blank():
                out += " "
            case Optional(tokens=inner):
                out += f"[[{written(inner)}]]"
            case PartRef(name=name):
                out += f"{{@{name}}}"
            case Slot():
                text = "+text" if token.keeps_text else ""
                out += f"{{{token.name}:{token.type}{text}}}" if token.name or token.type else "{}"
    return out


def _variations(tokens: tuple[Token, ...]) -> Iterator[tuple[tuple[Token, ...], str]]:
    """A pattern with one thing changed, and what."""
    for i, token in enumerate(tokens):

        def put(*instead: Token, at: int = i) -> tuple[Token, ...]:
            return (*tokens[:at], *instead, *tokens[at + 1 :])

        if isinstance(token, Optional):
            yield put(), f"without the optional part `[[{written(token.tokens)}]]`"
            yield put(*token.tokens), f"with `{written(token.tokens)}` no longer optional"
            for inner, what in _variations(token.tokens):
                if inner:
                    yield put(token._replace(tokens=inner)), what
        elif isinstance(token, Slot) and token.words:
            for word in token.words if len(token.words) > 2 else token.words[:2]:
                left = tuple(one for one in token.words if one != word)
                if len(left) > 1:
                    yield put(token._replace(words=left, type="|".join(left))), f"`{token.name}` cannot be `{word}`"
            yield put(token._replace(words=(), type="word")), f"`{token.name}` of type `word`, not of its words"
        elif isinstance(token, Slot) and token.name:
            for table, how in ((_WIDER, "wider"), (_NARROWER, "narrower")):
                kind = table.get(token.type)
                if kind is not None:
                    yield (
                        put(token._replace(type=kind)),
                        f"`{token.name}` of the {how} type `{kind}`, not `{token.type}`",
                    )


def pattern_parts(values: Values) -> Iterator[Change]:
    """Optional parts left out or made to stand always; types wider and narrower; words left out."""
    for path, text in patterns_of(values):
        try:
            tokens = parse(text)
        except PatternError:
            continue
        for other, what in _variations(tokens):
            if other:
                yield Change(path, written(other), what)


def swapped_slots(values: Values) -> Iterator[Change]:
    """Two slots of one type that change places."""
    for path, text in patterns_of(values):
        try:
            slots = [token for token in slots_of(parse(text)) if token.name]
        except PatternError:
            continue
        for one, other in itertools.pairwise(slots):
            if one.type == other.type:
                sources = {one.source: one, other.source: other}
                pieces = re.split("(" + "|".join(map(re.escape, sources)) + ")", text)
                turned = {
                    one.source: one.source.replace(one.name, other.name, 1),
                    other.source: other.source.replace(other.name, one.name, 1),
                }
                yield Change(
                    path,
                    "".join(turned.get(piece, piece) for piece in pieces),
                    f"`{one.name}` and `{other.name}` swapped",
                )


def regexes(values: Values) -> Iterator[Change]:
    """Optional groups of regexes made to stand always, digits that are anything, groups that change places."""
    for i, variant in enumerate(values.get("variants") or []):
        regex = variant.get("regex")
        if not isinstance(regex, str):
            continue
        path: KeyPath = ("variants", i, "regex")
        for match in re.finditer(r"\)\?(?!\?)", regex):
            yield Change(path, regex[: match.end() - 1] + regex[match.end() :], "a part that is no longer optional")
        for match in re.finditer(r"\\d\+|\[0-9\]\+", regex):
            yield Change(
                path, regex[: match.start()] + r"\S+" + regex[match.end() :], "any characters in place of digits"
            )
        for match in re.finditer(r"\(\?P<\w+>(\w+(?:\|\w+)+)\)", regex):
            for word in match[1].split("|"):
                left = "|".join(one for one in match[1].split("|") if one != word)
                yield Change(
                    path, regex[: match.start(1)] + left + regex[match.end(1) :], f"`{word}` cannot stand there"
                )
        names = re.findall(r"\(\?P<(\w+)>", regex)
        for one, other in itertools.pairwise(names):
            turned = re.sub(rf"<({one}|{other})>", lambda m, a=one, b=other: f"<{b if m[1] == a else a}>", regex)  # type: ignore[misc]
            yield Change(path, turned, f"`{one}` and `{other}` swapped")


def declared_types(values: Values) -> Iterator[Change]:
    """Types of groups and keys that are others, or left out."""
    own = values.get("types") or {}
    holders: list[tuple[KeyPath, Any]] = [
        (("variants", i), variant) for i, variant in enumerate(values.get("variants") or [])
    ]
    holders.append((("envelope",), values.get("envelope")))
    for path, holder in holders:
        types = holder.get("types") if isinstance(holder, dict) else None
        for name, kind in (types or {}).items():
            here: KeyPath = (*path, "types", name)
            if "regex" not in holder:
                yield Change(here, _GONE, f"without the key `{name}`")
            for table, how in ((_WIDER, "wider"), (_NARROWER, "narrower")):
                if (other := table.get(kind)) is not None and kind not in own:
                    yield Change(here, other, f"`{name}` of the {how} type `{other}`, not `{kind}`")


def kinds(values: Values) -> Iterator[Change]:
    """Values of kind left out."""
    for i, variant in enumerate(values.get("variants") or []):
        kind = variant.get("kind")
        lists: dict[KeyPath, Any] = {("variants", i, "kind"): kind} if isinstance(kind, list) else {}
        if isinstance(kind, dict):
            lists = {("variants", i, "kind", slot): value for slot, value in kind.items() if isinstance(value, list)}
        for path, known in lists.items():
            for value in known if len(known) > 1 else []:
                yield Change(path, [one for one in known if one != value], f"`{value}` is no longer its kind")


def times(values: Values) -> Iterator[Change]:
    """Another zone, a format or a rule left out, another order of day and month, seconds for milliseconds."""
    rules = values.get("time")
    listed = isinstance(rules, list)
    for i, rule in enumerate(rules if isinstance(rules, list) else [rules] if isinstance(rules, dict) else []):
        path: KeyPath = ("time", i) if listed else ("time",)
        if isinstance(rule.get("zone"), str):
            yield _other_zone((*path, "zone"), rule["zone"])
        if listed and len(values["time"]) > 1:
            yield Change(path, _GONE, "without this rule")
        formats = rule.get("format")
        for k, text in enumerate(
            formats if isinstance(formats, list) else [formats] if isinstance(formats, str) else []
        ):
            here: KeyPath = (*path, "format", k) if isinstance(formats, list) else (*path, "format")
            if isinstance(formats, list) and len(formats) > 1:
                yield Change(here, _GONE, f"without the format `{text}`")
            other = _other_order(text)
            if other != text:
                yield Change(here, other, f"`{other}`, not `{text}`")
    if isinstance((values.get("clock") or {}).get("zone"), str):
        yield _other_zone(("clock", "zone"), values["clock"]["zone"])
    for name, meaning in ((values.get("clock") or {}).get("zones") or {}).items():
        yield _other_zone(("clock", "zones", name), meaning)


def _other_zone(path: KeyPath, zone: str) -> Change:
    other = next(one for one in _ZONES if one != zone)
    return Change(path, other, f"the zone {other}, not {zone}")


def _other_order(text: str) -> str:
    if "%d" in text and "%m" in text:
        return text.replace("%d", "\0").replace("%m", "%d").replace("\0", "%m")
    return {"epoch": "epoch_ms", "epoch_ms": "epoch"}.get(text, text.replace("%H", "%I") if "%p" not in text else text)


def steps(values: Values) -> Iterator[Change]:
    """A step left out, or done to all events; a word of its table left out."""
    for i, step in enumerate(values.get("steps") or []):
        path: KeyPath = ("steps", i)
        yield Change((*path, "off"), True, "without this step")
        if "when" in step:
            yield Change((*path, "when"), _GONE, "done to all events")
        yield from _words((*path, "translate"), step.get("translate"))


def mappings(values: Values) -> Iterator[Change]:
    """Attributes left out, words of tables left out, another activity, status or severity."""
    events: list[tuple[KeyPath, Any]] = [(("event",), values.get("event"))]
    events += [
        (("variants", i, "event"), variant.get("event")) for i, variant in enumerate(values.get("variants") or [])
    ]
    for path, event in events:
        if not isinstance(event, dict):
            continue
        for name in event.get("set") or {}:
            yield Change((*path, "set", name), _GONE, f"`{name}` is not filled")
        yield from _words((*path, "translate"), event.get("translate"))
        for key, others in (
            ("status", ("Success", "Failure")),
            ("severity", ("High", "Low")),
            ("activity", ("Other", "Unknown")),
        ):
            if key in event:
                other = next(one for one in others if one != event[key])
                yield Change((*path, key), other, f"{key} {other}, not {event[key]}")


def _words(path: KeyPath, tables: Any) -> Iterator[Change]:
    for name, table in (tables if isinstance(tables, dict) else {}).items():
        words = table.get("to") if isinstance(table, dict) else None
        for word in words if isinstance(words, dict) and len(words) > 1 else ():
            yield Change((*path, name, "to", word), _GONE, f"`{word}` is not translated")


def order(values: Values) -> Iterator[Change]:
    """Variants left out, or one in front of the one before it."""
    variants = values.get("variants") or []
    for i, variant in enumerate(variants):
        if len(variants) > 1:
            yield Change(("variants", i), _GONE, f"without the variant `{variant.get('name')}`")


KINDS: tuple[Callable[[Values], Iterator[Change]], ...] = (
    pattern_parts,
    swapped_slots,
    regexes,
    declared_types,
    kinds,
    times,
    steps,
    mappings,
    order,
)
