"""A way of reading text, as the parser file has it, to a reading of the plan: patterns, regexes, structure."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, NamedTuple

from kinglet.errors import Problem, did_you_mean
from kinglet.names import field_of, key_of_own
from kinglet.patterns.compiling import to_regexes, to_search
from kinglet.patterns.grammar import MOST_TEXT, TEXT_OF, Optional, PatternError, Slot, Token, check_size, parse, slots
from kinglet.patterns.literal_prefix import literal_prefix_of
from kinglet.patterns.parts import expanded, references, size
from kinglet.patterns.types import FLAG, OF_PATTERNS, STRUCTURES, TYPES, SlotType
from kinglet.patterns.words import words_type
from kinglet.plan.data import BODY, MORE, FieldPlan, Reading, StructurePlan, name_problem
from kinglet.plan.structures import structure_of, structure_of_slot
from kinglet.plan.syslog import head_of
from kinglet.regex.backtracking import BUDGET, why_slow
from kinglet.regex.dialect import RegexError, check_regex, is_too_large
from kinglet.spec.document import Document, KeyPath
from kinglet.spec.forms import ReadingForm
from kinglet.spec.schema import Envelope
from kinglet.timestamps.formats import parse_format
from kinglet.timestamps.reading import ISO, TimeReading

if TYPE_CHECKING:
    from kinglet.structured.by_form import Structure


@dataclass
class Context:
    """What readings are built in: the document they stand in, and the types that slots may have."""

    document: Document
    problems: list[Problem] = field(default_factory=list)
    types: dict[str, SlotType] = field(default_factory=lambda: dict(TYPES))
    bare: TimeReading = ISO
    """How stamps in slots are read for which there is no rule."""
    shapes: dict[str, str] = field(default_factory=dict)
    """The regex of stamps by the slot that holds them."""
    parts: dict[str, tuple[Token, ...] | None] = field(default_factory=dict)
    """The named pieces of pattern so far; None for one with something wrong, which has been reported."""
    part_names: tuple[str, ...] = ()
    """All of them, those too that are not known yet."""

    def report(self, path: KeyPath, message: str, hint: str = "", *, offset: int = -1, excerpt: str = "") -> None:
        self.problems.append(self.document.problem(path, message, hint, offset=offset, excerpt=excerpt))

    def checked_regex(self, path: KeyPath, regex: str, *, slow: bool = False) -> tuple[str, ...] | None:
        """The groups of a regex; None where it cannot be used. slow: whether it may need a budget."""
        try:
            return check_regex(regex, slow=slow)
        except RegexError as error:
            self.report(path, error.message, error.hint, offset=max(error.offset, 0), excerpt=regex)
            return None

    def type_of(self, name: str, kind: str) -> SlotType:
        """The type of a field; a stamp that a time rule reads stays text beside the time."""
        if name in self.shapes:
            return TYPES["text"]
        return self.types.get(kind, TYPES["text"])

    def type_hint(self, kind: str) -> str:
        named = [name for name in self.types if "|" not in name]
        return did_you_mean(kind, named, "the types are " + ", ".join(named))


_NAMED_HERE = ("delimited", "fixed")
"""Structures whose columns have the names that the parser file gives them."""


class _Part(NamedTuple):
    """Structure to be read: where it stands, what stands before its keys, the fields and their types."""

    structure: Structure
    source: str | None
    prefix: str
    types: Mapping[str, str]


def read_form(
    work: Context, path: KeyPath, form: ReadingForm, shared: Mapping[str, str], onward: Collection[str] = ()
) -> Reading | None:
    """The reading of a form; None where something is wrong with it, which is reported.

    shared: names that are taken, and by what. onward: slots from which on the text is kept too.
    """
    if form.pattern is not None:
        return read_pattern(work, (*path, "pattern"), form.pattern, shared, onward, form, path)
    if form.regex is not None:
        return _regex(work, path, form, shared)
    if isinstance(form, Envelope) and form.syslog is not None:
        return _syslog(work, path, form, shared)
    if not form.forms:
        return Reading((), ())
    plan = _structure(work, path, form, _Part(structure_of(form), None, "", _types_of(form)), shared)
    _check_needs(work, path, form)
    return Reading((), (), structures=(plan,))


def _check_needs(work: Context, path: KeyPath, form: ReadingForm) -> None:
    known = _types_of(form)
    for i, name in enumerate(form.needs or ()):
        if name not in known:
            hint = did_you_mean(name, known, f"give it a type: `types: {{{name}: text}}`")
            work.report((*path, "needs", i), f"`{name}` is no field of this structure", hint)


def _types_of(form: ReadingForm) -> dict[str, str]:
    """The keys of a structure that become fields, and their types; the columns of a row all do."""
    return {name: form.types.get(written, "text") for name, written in form.written.items()}


def _structure(
    work: Context, path: KeyPath, form: ReadingForm, part: _Part, shared: Mapping[str, str]
) -> StructurePlan:
    """A structure whose keys become fields by the names and types that are given."""
    keys: list[str] = []
    items: list[FieldPlan] = []
    for name, kind in part.types.items():
        written = form.written[name]
        where: KeyPath = (*path, "types" if written in form.types else "keys", written)
        wrong = name_problem(name)
        if name == MORE:
            work.report(where, f"`{name}` is the field of keys that have no name", "leave it out")
        elif wrong is not None:
            work.report(where, *wrong)
        elif name in shared:
            work.report(where, f"`{name}` is a slot of {shared[name]}", "leave it out")
        elif (own := key_of_own(written)) and written not in form.keys and part.structure.name not in _NAMED_HERE:
            hint = f"write `{own}`; a key that is called `{written}` needs another name: `keys: {{other: {written}}}`"
            work.report(where, f"`{written}` is what the field of the key `{own}` is called", hint)
        elif kind not in work.types or kind in OF_PATTERNS:
            work.report(where, f"no such type `{kind}`", work.type_hint(kind))
        else:
            key = form.keys.get(written, written).removeprefix(part.prefix)
            if part.structure.name == "block":
                from kinglet.structured.blocks import path_of

                key = path_of(key)
            keys.append(key)
            items.append(FieldPlan(name, work.type_of(name, kind)))
    names = [item.name for item in items]
    mine = [name for name in form.needs or () if name in names]
    needs = tuple(keys[names.index(name)] for name in mine)
    return StructurePlan(part.structure, part.source, part.prefix, tuple(keys), tuple(items), needs)


def _regex(work: Context, path: KeyPath, form: ReadingForm, shared: Mapping[str, str]) -> Reading | None:
    assert form.regex is not None
    groups = work.checked_regex((*path, "regex"), form.regex, slow=True)
    if groups is None:
        return None
    regex = form.regex
    for written in groups:
        name = field_of(written)
        if name != written:  # a log's own `id` is read as what its field is called
            regex = regex.replace(f"(?P<{written}>", f"(?P<{name}>").replace(f"(?P={written})", f"(?P={name})")
        if name_problem(name) is not None or name in shared:
            _refuse_name(work, (*path, "regex"), name, shared, form.regex.index(f"(?P<{written}>") + 4, form.regex)
    for name, kind in form.types.items():
        if name not in groups:
            hint = did_you_mean(name, groups, "the groups are " + ", ".join(groups))
            work.report((*path, "types", name), f"the regex has no group `{name}`", hint)
        elif kind not in work.types:
            work.report((*path, "types", name), f"no such type `{kind}`", work.type_hint(kind))
    for name in form.keys:
        work.report((*path, "keys", name), "a regex has no keys", "call its groups what the fields are to be called")
    items = tuple(
        FieldPlan(field_of(name), work.type_of(field_of(name), form.types.get(name, "text"))) for name in groups
    )
    budget = BUDGET if why_slow(regex) is not None else None
    return Reading((regex,), items, budget=budget)


def _syslog(work: Context, path: KeyPath, form: Envelope, shared: Mapping[str, str]) -> Reading:
    """The head of a syslog message, with the parameters of its structured data."""
    assert form.syslog is not None
    head = head_of(form.syslog, form.app or ())
    own = {name: kind for name, kind in form.types.items() if name in head.types}
    for name, kind in own.items():
        if kind not in work.types or kind in OF_PATTERNS:
            work.report((*path, "types", name), f"no such type `{kind}`", work.type_hint(kind))
    form = form.model_copy(update={"types": {name: form.types[name] for name in form.types if name not in own}})
    taken = dict(shared) | dict.fromkeys(head.types, "the head")
    structures: tuple[StructurePlan, ...] = ()
    if head.data is not None:
        from kinglet.structured.structured_data import StructuredData

        part = _Part(StructuredData(), head.data, "", _types_of(form))
        structures = (_structure(work, path, form, part, taken),)
    elif form.types or form.keys:
        work.report((*path, "types" if form.types else "keys"), "this head has no structured data", "leave it out")
    items = tuple(FieldPlan(name, work.type_of(name, kind)) for name, kind in (dict(head.types) | own).items())
    return Reading(head.regexes, items, "stamp", structures=structures)


def read_pattern(
    work: Context,
    path: KeyPath,
    text: str,
    shared: Mapping[str, str],
    onward: Collection[str] = (),
    form: ReadingForm | None = None,
    whole: KeyPath = (),
) -> Reading | None:
    """The reading of a pattern, and of the structure in its slots; form: what says the types of its keys."""
    tokens = _tokens(work, path, text, shared)
    if tokens is None:
        return None
    reading = _of_tokens(work, tokens, onward)
    if _is_too_large(work, path, text, reading.regexes):
        return None
    form = form or ReadingForm.model_construct(types={}, keys={}, needs=None)
    _check_needs(work, whole, form)
    unclaimed = _types_of(form)
    taken = dict(shared) | {item.name: "this pattern" for item in reading.fields}
    plans: list[StructurePlan] = []
    structured = [slot for slot in slots(tokens) if slot.type in STRUCTURES]
    for slot in structured:
        name = slot.name.removesuffix(TEXT_OF)
        prefix = "" if slot.source.startswith("{:") else f"{name}."
        mine = {name: kind for name, kind in unclaimed.items()
                if form.keys.get(form.written[name], form.written[name]).startswith(prefix)}  # fmt: skip
        unclaimed = {name: kind for name, kind in unclaimed.items() if name not in mine}
        part = _Part(structure_of_slot(slot.type), slot.name, prefix, mine)
        plans.append(_structure(work, whole, form, part, taken))
    for name in unclaimed:
        known = ", ".join(f"`{slot.name.removesuffix(TEXT_OF)}.`" for slot in structured)
        hint = f"its name begins with that of a slot: {known}" if structured else "in a pattern write {name:type}"
        written = form.written[name]
        where = "types" if written in form.types else "keys"
        work.report((*whole, where, written), "is no key of a slot of structure", hint)
    return reading._replace(structures=tuple(plans))


def read_part(work: Context, path: KeyPath, text: str) -> tuple[Token, ...] | None:
    """The tokens of a part, which may refer to parts before it; None where something is wrong, which is reported."""
    return _tokens(work, path, text, {}, whole=False)


def read_search(work: Context, path: KeyPath, text: str) -> tuple[str, tuple[FieldPlan, ...]] | None:
    """The regex that finds a pattern anywhere, and what each match holds; None where something is wrong with it."""
    tokens = _tokens(work, path, text, {}, whole=False)
    if tokens is None:
        return None
    named = [slot for slot in slots(tokens) if slot.name]
    last = _last_slot(tokens)
    odd = next((slot for slot in slots(tokens) if slot.type in (*OF_PATTERNS, "time")), None)
    if odd is not None:
        work.report(path, f"`{odd.source}` cannot be looked for", "read it with the step `parse`", offset=odd.offset,
                    excerpt=text)  # fmt: skip
    elif not named:
        work.report(path, "has no slot that is kept", "write {name:type}", excerpt=text)
    elif isinstance(last, Slot) and work.types[last.type].may_be_empty:
        hint = "write what follows it, or a type such as `word`"
        work.report(path, f"`{last.source}` has no end here", hint, offset=last.offset, excerpt=text)
    else:
        fields = tuple(plan for slot in slots(tokens) for plan in _fields_of(work, slot))
        regex = to_search(tokens, work.types)
        return None if _is_too_large(work, path, text, (regex,)) else (regex, fields)
    return None


def _is_too_large(work: Context, path: KeyPath, text: str, regexes: Iterable[str]) -> bool:
    """Whether a pattern is more than the engine can hold, which is reported."""
    if any(map(is_too_large, regexes)):
        work.report(path, "is too large for the engine", "read the rest with a second pattern: the step `parse`",
                    excerpt=text)  # fmt: skip
        return True
    return False


def message_slot(work: Context, text: str) -> str | None:
    """The slot of the message: the one for all the rest that a pattern ends with, or else the one called `body`."""
    try:
        tokens = _with_parts(work, parse(text))
    except PatternError:
        return None
    last = tokens[-1] if tokens else None
    if isinstance(last, Slot) and last.type in ("rest", "text") and last.name:
        return last.name
    return next((BODY for token in tokens or () if isinstance(token, Slot) and token[:2] == (BODY, "text")), None)


def _with_parts(work: Context, tokens: tuple[Token, ...]) -> tuple[Token, ...] | None:
    """Tokens with parts in place; None where there is no such part, or one with something wrong.

    Raises:
        PatternError: there is no such part.
    """
    known: dict[str, tuple[Token, ...]] = {}
    total = 0
    for reference in references(tokens):
        if reference.name not in work.parts:
            if reference.name in work.part_names:
                message = f"the part `{reference.name}` is not known yet here"
                raise PatternError(message, "a part refers to parts above it", reference.offset)
            hint = did_you_mean(reference.name, work.parts, "`parts` names none" if not work.parts else
                                "the parts are " + ", ".join(work.parts))  # fmt: skip
            raise PatternError(f"no such part `{reference.name}`", hint, reference.offset)
        part = work.parts[reference.name]
        if part is None:
            return None
        known[reference.name] = part
        total += size(part)
        if total > MOST_TEXT:  # parts of parts could double for ever: found before they are put in place
            raise PatternError(f"more than {MOST_TEXT:,} characters, parts written out", "use less of them", 0)
    tokens = expanded(tokens, known)
    check_size(tokens)
    return tokens


def _tokens(
    work: Context, path: KeyPath, text: str, shared: Mapping[str, str], *, whole: bool = True
) -> tuple[Token, ...] | None:
    """The tokens of a pattern whose slots are all good; whole: whether it is all that an event is read by."""
    try:
        found = _with_parts(work, parse(text))
    except PatternError as error:
        work.report(path, error.message, error.hint, offset=error.offset, excerpt=text)
        return None
    if found is None:
        return None
    tokens = _named(found) if whole else found
    before = len(work.problems)
    seen: dict[str, str] = dict(shared)
    sure = [token for token in tokens if isinstance(token, Slot)]
    for slot in slots(tokens):

        def wrong(message: str, hint: str, at: int = slot.offset) -> None:
            work.report(path, message, hint, offset=at, excerpt=text)

        if slot.words:
            if clash := [word for word in slot.words if word in work.types]:
                wrong(f"`{clash[0]}` is a type, and here a word", f'write the word in double quotes: "{clash[0]}"')
            work.types.setdefault(slot.type, words_type(slot.type, slot.words))
        if slot.type not in work.types:
            at = slot.offset + (slot.source.rindex(slot.type) if slot.source in text else 0)
            wrong(f"no such type `{slot.type}`", work.type_hint(slot.type), at)
        if slot.type == "rest" and slot is not _last_slot(tokens) and whole:
            wrong(f"`{slot.source}` reads to the end, but something follows it", "use {name:text} here")
        if slot.type == FLAG and (not slot.name or (slot in sure and whole)):
            wrong(f"`{slot.source}` stands in no optional part" if slot.name else "a flag without a name",
                  "write [[{name:flag} the part]]")  # fmt: skip
        if slot.keeps_text and slot.type in work.types and work.types[slot.type].is_plain:
            wrong(f"`{slot.source}` is text already", f"write {{{slot.name}:{slot.type}}}")
        for name in (slot.name, *([slot.name + TEXT_OF] if slot.keeps_text else [])):
            if name and (name_problem(field_of(name)) is not None or name in seen):
                _refuse_name(work, path, name, seen, slot.offset + (slot.source in text), text)
            elif name:
                seen[name] = "this pattern"
    return tokens if len(work.problems) == before else None


def _named(tokens: tuple[Token, ...]) -> tuple[Token, ...]:
    """Tokens whose slots are called what their fields are; those of structure, what keeps text that cannot be read."""

    def named(token: Token) -> Token:
        if isinstance(token, Optional):
            return token._replace(tokens=_named(token.tokens))
        if isinstance(token, Slot) and token.type in STRUCTURES:
            return token._replace(name=f"{token.name or token.type}{TEXT_OF}")
        if isinstance(token, Slot) and token.name:
            return token._replace(name=field_of(token.name))
        return token

    return tuple(named(token) for token in tokens)


def _last_slot(tokens: tuple[Token, ...]) -> Token | None:
    """The slot that a pattern ends with, be it in an optional part."""
    last = tokens[-1] if tokens else None
    return _last_slot(last.tokens) if isinstance(last, Optional) else last


def _refuse_name(work: Context, path: KeyPath, name: str, seen: Mapping[str, str], offset: int, text: str) -> None:
    wrong = name_problem(name)
    if wrong is not None:
        work.report(path, *wrong, offset=offset, excerpt=text)
    else:
        where = seen[name]
        message = (
            f"the slot `{name}` stands here twice" if where == "this pattern" else f"`{name}` is a slot of {where}"
        )
        work.report(path, message, f"call this one `{name}_2`", offset=offset, excerpt=text)


def _fields_of(work: Context, slot: Slot) -> Iterator[FieldPlan]:
    if slot.name:
        yield FieldPlan(slot.name, work.type_of(slot.name, slot.type))
    if slot.keeps_text:
        yield FieldPlan(slot.name + TEXT_OF, TYPES["text"])


def _of_tokens(work: Context, tokens: tuple[Token, ...], onward: Collection[str]) -> Reading:
    found = slots(tokens)
    iso = parse_format("iso8601").shape
    shapes = {slot.name: work.shapes.get(slot.name, iso) for slot in found if slot.type == "time"}
    fixed = [token for token in tokens if isinstance(token, Slot) and token.name]
    kept_from = tuple(slot.name for slot in fixed if slot.name in onward)
    return Reading(
        to_regexes(tokens, shapes, work.types, kept_from),
        tuple(plan for slot in found for plan in _fields_of(work, slot)),
        fixed[0].name if fixed else None,
        {slot.name: slot.source for slot in found if slot.name},
        onward=kept_from,
        literal_prefix=literal_prefix_of(tokens, shapes, work.types) if fixed and not kept_from else None,
    )
