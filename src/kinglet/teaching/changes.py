"""The changes that may teach a parser a field, the most readable first."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator, Mapping, Sequence

import polars as pl

from kinglet.discover.yaml_text import quoted, scalar
from kinglet.drafting.editing import inserted, is_listed, node_at, replaced, with_key
from kinglet.drafting.leftovers import bodies
from kinglet.drafting.naming import JOINING, variant_name
from kinglet.errors import UsageError
from kinglet.insight.spans import first_match
from kinglet.names import RESERVED
from kinglet.patterns.grammar import Literal, Optional, Token, escaped, parse
from kinglet.plan.data import Plan, Reading
from kinglet.spec.document import KeyPath
from kinglet.spec.patterns import patterns_of
from kinglet.structured.json_objects import JsonObjects
from kinglet.teaching.fronts import front_of
from kinglet.teaching.patterns import Way, named, way_of_front, ways, whole
from kinglet.teaching.places import Found, Layout, Place, found_in, label_of, one_field, type_of_values
from kinglet.teaching.trial import Change, Trial
from kinglet.teaching.unnamed import Unnamed

_LOOKED_AT = 500
_OPEN = ("rest", "text", "word")


def changes(trial: Trial) -> Iterator[Change]:
    """Files that may do what the marks say, the most readable first."""
    for way in WAYS:
        with contextlib.suppress(UsageError):  # a part of the file is written so that it cannot be changed
            yield from way(trial)


def _marked(trial: Trial) -> dict[int, str]:
    return {row: text for row, text in trial.wanted.items() if text is not None}


def _naming_slots(trial: Trial) -> Iterator[Change]:
    """Gives slots that are read and not kept the field's name."""
    slots = trial.unnamed
    marked = _marked(trial)
    chosen: list[Unnamed] = []
    handled: set[int] = set()
    for slot in sorted(slots, key=lambda one: -sum(one.values[row] == text for row, text in marked.items())):
        rows = {row for row, text in marked.items() if slot.values[row] == text} - handled
        wrong = any(slot.values[row] is not None and slot.values[row] != text for row, text in trial.wanted.items())
        if rows and not wrong:
            chosen.append(slot)
            handled |= rows
    if not chosen:
        return
    others = [slot for slot in slots if slot not in chosen and _is_alike(slot, chosen, trial.wanted)]
    for some in ([*chosen, *others], chosen) if others else (chosen,):
        yield Change(
            _with_pieces(trial.text, [(slot, _named(slot, trial)) for slot in some]),
            f"a slot of {_where(trial, some)} has the name `{trial.field}`",
            frozenset(handled),
        )


def _named(slot: Unnamed, trial: Trial) -> str:
    kind = trial.kind or slot.source[slot.source.index(":") + 1 : -1].strip()
    return f"{{{trial.field}:{kind}}}"


def _is_alike(slot: Unnamed, chosen: Sequence[Unnamed], wanted: Mapping[int, str | None]) -> bool:
    """Whether a slot of another pattern stands behind the same word as one of those that are chosen."""
    if any(slot.path == one.path for one in chosen) or any(slot.values[row] is not None for row in wanted):
        return False
    label, here = label_of(slot.before), set(slot.values.drop_nulls())
    alike = [one for one in chosen if label[0] and label_of(one.before) == label and one.type == slot.type]
    if label[0] not in JOINING or label[1]:
        return bool(alike)  # the parser itself says that both are of one type
    theirs = [set(one.values.drop_nulls()) for one in alike]
    return any(one_field(label, slot.type, there, slot.type, here) for there in theirs if here and there)


def _with_pieces(text: str, pieces: Sequence[tuple[Unnamed, str]]) -> str:
    """A file with other text in place of slots."""
    by_path: dict[KeyPath, list[tuple[Unnamed, str]]] = {}
    for slot, piece in pieces:
        by_path.setdefault(slot.path, []).append((slot, piece))
    for path, own in by_path.items():
        node = node_at(text, path)
        pattern = str(node.value) if node is not None else ""
        for slot, piece in sorted(own, key=lambda item: -item[0].at):
            pattern = pattern[: slot.at] + piece + pattern[slot.at + len(slot.source) :]
        text = replaced(text, path, pattern)
    return text


def _where(trial: Trial, slots: Sequence[Unnamed]) -> str:
    names = [variant["name"] for variant in trial.parser._document.values["variants"]]
    found = [names[slot.variant] if slot.variant is not None else str(slot.path[-1]) for slot in slots]
    return ", ".join(f"`{name}`" for name in dict.fromkeys(found))


def _reading_keys(trial: Trial) -> Iterator[Change]:
    """Keeps a key of the structure that an event has as a field."""
    plan = trial.parser._plan
    index = {variant["name"]: i for i, variant in enumerate(trial.parser._document.values["variants"])}
    keys: dict[KeyPath, str] = {}
    handled: set[int] = set()
    for row, text in _marked(trial).items():
        for section, path, value in _values(plan, str(trial.raw[row]), trial.events["variant"][row], index):
            if value == text and keys.setdefault(section, path) == path:
                handled.add(row)
                break
    if not keys:
        return
    path = next(iter(keys.values()))
    texts: dict[KeyPath, list[str]] = {}
    seen: dict[str | None, int] = {}
    for raw, variant in zip(trial.raw, trial.events["variant"], strict=True):
        seen[variant] = seen.get(variant, 0) + 1
        if seen[variant] <= _LOOKED_AT:
            for section, key, value in _values(plan, str(raw), variant, index):
                if key == keys.get(section, path):
                    texts.setdefault(section, []).append(value)
    changed = trial.text
    for section in {**dict.fromkeys(keys), **texts}:
        if section == ("envelope",) and isinstance(trial.parser._document.values.get("envelope"), str):
            return
        key = keys.get(section, path)
        kind = trial.kind or type_of_values(texts.get(section, []))
        changed = with_key(changed, (*section, "types"), trial.field if key != trial.field else key, kind)
        if key != trial.field:
            changed = with_key(changed, (*section, "keys"), trial.field, scalar(key))
    yield Change(changed, f"the key `{path}` is a field", frozenset(handled))


def _values(plan: Plan, raw: str, variant: str | None, index: Mapping[str, int]) -> Iterator[tuple[KeyPath, str, str]]:
    """The keys of the structure in an event, with their text: the section of the file that reads them, path, text."""
    body: str | None = raw
    if plan.envelope is not None:
        match = first_match(plan.envelope, raw)
        for path, value in _of_reading(plan.envelope, raw):
            yield ("envelope",), path, value
        body = match[plan.body] if match is not None and plan.body is not None else None
    chosen = next((one for one in plan.variants if one.name == variant), None)
    if chosen is not None and body is not None and chosen.source is None:
        for path, value in _of_reading(chosen.reading, body):
            yield ("variants", index[chosen.name]), path, value


def _of_reading(reading: Reading, text: str) -> Iterator[tuple[str, str]]:
    match = first_match(reading, text)
    for plan in reading.structures:
        part = text if plan.source is None else match[plan.source] if match is not None else None
        for item in (plan.structure.values(part) or ()) if part is not None else ():
            yield item.path, _bare(part[item.start : item.end]) if part is not None else ""


def _opening_patterns(trial: Trial) -> Iterator[Change]:
    """Makes a slot of fixed text, or of a part of what a slot without a name takes."""
    marked = _marked(trial)
    for slot in trial.unnamed:
        own = {row: text for row, text in marked.items() if slot.values[row] is not None and text in slot.values[row]}
        if slot.type not in _OPEN or not own:
            continue
        rows = slot.values.is_not_null().arg_true().to_list()
        texts = slot.values.gather(rows).to_list()
        at = {row: i for i, row in enumerate(rows)}
        found = found_in(texts, {at[row]: text for row, text in trial.wanted.items() if row in at})
        if found is None or len(found.layouts) > 1 or found.places[0].inside:
            continue
        kind = trial.kind or type_of_values(list(found.values.values()))
        piece = named(whole(found.layouts[0], found.places[0], kind, to_end=True), trial.field)
        where = _where(trial, [slot])
        yield Change(_with_pieces(trial.text, [(slot, piece)]), f"a slot in {where}", frozenset(own))
    for path, text in patterns_of(trial.parser._document.values):
        if path[0] == "parts":
            continue
        name, own = str(path[0]), marked
        if path[0] == "variants":
            name = trial.parser._document.values["variants"][path[1]]["name"]
            own = {row: mark for row, mark in marked.items() if trial.events["variant"][row] == name}
        for literal in _literals(parse(text)):
            for mark in dict.fromkeys(own.values()):
                written = escaped(mark)
                at_ = text.find(written, literal.offset, literal.offset + len(escaped(literal.text)) + 1)
                if at_ >= 0:
                    kind = trial.kind or type_of_values([mark])
                    piece = f"{{{trial.field}:{kind}}}"
                    changed = replaced(trial.text, path, text[:at_] + piece + text[at_ + len(written) :])
                    yield Change(changed, f"fixed text of `{name}` is a slot", frozenset(own))


def _literals(tokens: Sequence[Token]) -> Iterator[Literal]:
    for token in tokens:
        if isinstance(token, Literal):
            yield token
        elif isinstance(token, Optional):
            yield from _literals(token.tokens)


def _reading_fields(trial: Trial) -> Iterator[Change]:
    """Reads a field, or the whole message, once more, by a step."""
    left = trial.left()
    have = trial.values()
    for name, column in _carriers(trial):
        own = {row: text for row, text in _marked(trial).items() if row in left and text in (column[row] or "")}
        if not own:
            continue
        rows = column.is_not_null().arg_true().to_list()
        at = {row: i for i, row in enumerate(rows)}
        texts = column.gather(rows).to_list()
        known = {at[row]: text for row, text in have.items() if row in at}
        for some in (own, *({row: text} for row, text in own.items())) if len(own) > 1 else (own,):
            shown = {at[row]: text for row, text in trial.wanted.items() if row in at and (row in some or text is None)}
            yield from _steps(trial, name, texts, shown, known, frozenset(some))


def _steps(
    trial: Trial,
    name: str,
    texts: Sequence[str],
    shown: Mapping[int, str | None],
    known: Mapping[int, str],
    own: frozenset[int],
) -> Iterator[Change]:
    """Steps that read a field, or the message, once more.

    texts: those that it has. shown: what is to be taken in some of them; known: what others have already. own: the
    marked events that this is for.
    """
    front = front_of(texts, shown) if not known else None
    way = way_of_front(front, texts, trial.field, trial.kind) if front is not None else None
    if way is not None:
        yield Change(
            trial.with_steps([_step(name, way, "")]), f"the front of `{name}` is read, by a step", frozenset(own)
        )
    found = found_in(texts, shown)
    if found is None:
        return
    made = ways(found, texts, trial.field, trial.kind, known)
    if not made:
        for steps in _json_steps(trial, name, found, shown):
            how = f"a key of the JSON in `{name}` is read, by a step"
            yield Change(trial.with_steps(steps), how, own)
        return
    kind = trial.kind or type_of_values(list(found.values.values()))
    steps = [_step(name, way, kind) for way in made]
    how = f"`{name}` is read once more, by a step" if len(steps) == 1 else f"`{name}` is read by {len(steps)} steps"
    yield Change(trial.with_steps(steps), how, own)


def _json_steps(trial: Trial, carrier: str, found: Found, shown: Mapping[int, str | None]) -> Iterator[list[str]]:
    """Steps that read a key of the JSON that messages have: one for all, or one for each message with this key."""
    marked = {row: text for row, text in shown.items() if text is not None}
    places = found.places[: found.told]
    keys = {_key_inside(found.layouts[place.layout], place, marked) for place in places}
    key = keys.pop()
    if key is None or keys:
        return
    structure = JsonObjects()
    patterns: list[str] = []
    told: list[str] = []
    values: list[str] = []
    for number, layout in enumerate(found.layouts):
        for i, cell in enumerate(layout.cells):
            texts = [text for text in cell.values[:_LOOKED_AT] if text and text.startswith("{")]
            held = [_bare(text[item.start : item.end]) for text in texts for item in structure.values(text) or ()
                    if item.path == key]  # fmt: skip
            if held:
                values += held
                patterns.append(named(whole(layout, Place(number, i, i), "json", to_end=True), ""))
                told += patterns[-1:] if number in {place.layout for place in places} else []
    kind = trial.kind or type_of_values(values)
    more = f", types: {{{scalar(trial.field)}: {'text' if kind == 'rest' else kind}}}"
    more += f", keys: {{{trial.field}: {scalar(key)}}}" if key != trial.field else ""
    for some in (["{:text} {:json}"], patterns, told) if len(patterns) > 1 else (patterns,):
        yield [f"  - parse: {{field: {carrier}, pattern: {quoted(one)}{more}, optional: true}}" for one in some]


def _step(carrier: str, way: Way, kind: str) -> str:
    types = f", types: {{{way.name}: {'text' if kind == 'rest' else kind}}}" if way.form == "regex" else ""
    return f"  - parse: {{field: {carrier}, {way.form}: {quoted(way.text)}{types}, optional: true}}"


def _carriers(trial: Trial) -> Iterator[tuple[str, pl.Series]]:
    """Fields of text that a step can read, the shortest first, and the message."""
    plan = trial.parser._plan
    events = trial.events
    names = [name for name in trial.parser.fields if name in events.columns and name not in (*RESERVED, "more")]
    texts = [name for name in names if events[name].dtype == pl.String and name not in (trial.field, plan.body)]
    lengths = {name: events[name].str.len_chars().mean() or 0 for name in texts}
    for name in sorted(texts, key=lambda name: lengths[name]):
        yield name, events[name]
    if plan.body is not None and plan.envelope is not None:
        yield plan.body, bodies(plan, trial.raw)


def _reading_more_events(trial: Trial) -> Iterator[Change]:
    """Adds variants for events that no variant reads."""
    plan = trial.parser._plan
    unread = trial.events["variant"].is_null()
    own = {row: text for row, text in _marked(trial).items() if unread[row]}
    if not own or not is_listed(trial.text, "variants"):
        return
    column = bodies(plan, trial.raw)
    rows = (unread & column.is_not_null()).arg_true().to_list()
    at = {row: i for i, row in enumerate(rows)}
    shown = {at[row]: text for row, text in trial.wanted.items() if row in at}
    texts = column.gather(rows).to_list()
    found = found_in(texts, shown) if shown else None
    if found is None:
        return
    taken = {variant.name for variant in plan.variants}
    lines: list[str] = []
    for place in found.places:
        layout = found.layouts[place.layout]
        values = [found.values.get(row) for row in layout.rows]
        kind = trial.kind or type_of_values(values, last=place.last == len(layout.cells) - 1)
        pattern = named(whole(layout, place, kind, to_end=True), trial.field)
        keys: list[str] = []
        if place.inside:
            key = _key_inside(layout, place, {row: text for row, text in shown.items() if text is not None})
            if key is None:
                return
            pattern = named(whole(layout, place, "json", to_end=True), "")
            keys = [f"    types: {{{scalar(trial.field)}: {'text' if kind == 'rest' else kind}}}"]
            keys += [f"    keys: {{{trial.field}: {scalar(key)}}}"] if key != trial.field else []
        words = " ".join(cell.fixed for cell in layout.cells if cell.fixed is not None)
        lines.append(f"  - name: {variant_name(trial.variant or words, taken, len(taken) + 1)}")
        if len(plan.kinds) == 1 and plan.kinds[0].slot in trial.events.columns:
            kinds = trial.events[plan.kinds[0].slot].gather([rows[row] for row in layout.rows]).drop_nulls().unique()
            if len(kinds):
                lines.append(f"    kind: {scalar(sorted(kinds) if len(kinds) > 1 else kinds[0])}")
        lines += [f"    pattern: {quoted(pattern)}", *keys]
    yield Change(inserted(trial.text, "variants", lines), "variants for events that none read", frozenset(own))


def _key_inside(layout: Layout, place: Place, marked: Mapping[int, str]) -> str | None:
    """The key of JSON objects that has the marked values, where a cell has such."""
    if place.first != place.last:
        return None
    structure = JsonObjects()
    paths: set[str] | None = None
    for at, row in enumerate(layout.rows):
        text = layout.cells[place.first].values[at]
        if row not in marked or text is None:
            continue
        here = {item.path for item in structure.values(text) or () if _bare(text[item.start : item.end]) == marked[row]}
        paths = here if paths is None else paths & here
    return min(paths) if paths else None


def _bare(text: str) -> str:
    """A value of JSON as a person marks it: without its quotes."""
    text = text.strip()
    return text[1:-1] if len(text) > 1 and text[0] == text[-1] and text[0] in "\"'" else text


WAYS: tuple[Callable[[Trial], Iterator[Change]], ...] = (
    _naming_slots,
    _reading_keys,
    _opening_patterns,
    _reading_more_events,
    _reading_fields,
)
"""The ways to teach a field, in the order in which they are tried."""
