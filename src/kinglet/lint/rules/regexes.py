"""Regexes and patterns that read more than they should, or other than they seem to."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any, NamedTuple

from kinglet.generating.events import Made
from kinglet.generating.walk import optional_parts
from kinglet.lint.rule import Found, LintRule, Subject, short
from kinglet.names import field_of
from kinglet.patterns.grammar import TEXT_OF
from kinglet.patterns.types import STRUCTURES, TYPES
from kinglet.regex.syntax_tree import tree_of
from kinglet.spec.document import KeyPath

_ANY = 1000
_NARROW = ("ipv4", "ip", "network", "mac", "uuid", "email", "url")
"""Types whose texts cannot be taken for anything else, the narrowest first."""
_WIDE = ("word", "text", "rest")
_SIGNS = frozenset(" ,;:|=\t\"'[](){}<>/-")
_WRONG = "?!"
_TRIES = 3
_FEW_TEXTS = 2
"""Of one text of several words it cannot be told whether others are like it."""


class Written(NamedTuple):
    """A regex of the parser file. whole: whether it reads a text from its first character to its last."""

    path: KeyPath
    text: str
    whole: bool
    end: bool = True


def written(subject: Subject) -> Iterator[Written]:
    """The regexes that the file itself has."""
    definition = subject.definition
    envelope = definition.envelope
    if envelope is not None and not isinstance(envelope, str) and envelope.regex is not None:
        yield Written(("envelope", "regex"), envelope.regex, True)
    for i, variant in enumerate(definition.variants):
        if variant.regex is not None:
            yield Written(("variants", i, "regex"), variant.regex, True)
    for name, own in definition.types.items():
        yield Written(("types", name, "regex"), own.regex, False)
    for key in ("start", "end", "lead", "banner", "header"):
        if (text := getattr(definition.events, key)) is not None:
            yield Written(("events", key), text, key == "start", False)


def _ends(regex: str) -> tuple[bool, bool]:
    """Whether a regex begins and ends where its text does, in each of its alternatives."""
    tree = list(tree_of(regex))
    while len(tree) == 1 and str(tree[0][0]) == "SUBPATTERN":
        tree = list(tree[0][1][3])
    if len(tree) == 1 and str(tree[0][0]) == "BRANCH":
        found = [(_at(list(inner), 0), _at(list(inner), -1)) for inner in tree[0][1][1]]
        return all(first for first, _ in found), all(last for _, last in found)
    return _at(tree, 0), _at(tree, -1)


def _at(items: list[Any], place: int) -> bool:
    if not items:
        return False
    operation, value = items[place]
    if str(operation) == "AT":
        return str(value) in (("AT_BEGINNING", "AT_BEGINNING_STRING") if place == 0 else ("AT_END", "AT_END_STRING"))
    if str(operation) == "SUBPATTERN":
        return _at(list(value[3]), place)
    if str(operation) == "BRANCH":
        return all(_at(list(inner), place) for inner in value[1])
    if str(operation) in ("MAX_REPEAT", "MIN_REPEAT") and place == -1:
        least, most, inner = value  # a tail of anything reads to the end as well
        return least == 0 and most > _ANY and len(inner) == 1 and str(inner[0][0]) == "ANY"
    return False


def no_anchors(subject: Subject) -> Iterator[Found]:
    for regex in written(subject):
        if not regex.whole:
            continue
        first, last = _ends(regex.text)
        lacks = [sign for sign, there in (("^", first), ("$", last or not regex.end)) if not there]
        if lacks:
            where = " and ".join({"^": "at the beginning", "$": "at the end"}[sign] for sign in lacks)
            what = "lines that only contain it begin an event" if not regex.end else "it reads texts that go on there"
            yield Found(regex.path, f"has no anchor {where}: {what}", f"add {' and '.join(f'`{s}`' for s in lacks)}")


def bare_dot(subject: Subject) -> Iterator[Found]:
    for regex in written(subject):
        if (place := _bare_dot(regex.text)) is not None:
            around = short(regex.text[max(place - 8, 0) : place + 8])
            yield Found(
                regex.path,
                f"has a dot between digits that stands for any character: {around}",
                r"write `\.`",
                place,
            )


_DIGITS = r"(?:\\d|\[0-9\]|[0-9])(?:[+*?]|\{[0-9,]+\})?\)*"
_DOT = re.compile(rf"(?<!\\)(?:{_DIGITS})(\.)(?![*+?{{])\(*(?:\?:|\?P<\w+>)?(?:\\d|\[0-9\]|[0-9])")


def _bare_dot(regex: str) -> int | None:
    for match in _DOT.finditer(regex):
        before = regex[: match.start(1)]
        if before.count("[") - before.count(r"\[") <= before.count("]") - before.count(r"\]"):
            return match.start(1)
    return None


def greedy_middle(subject: Subject) -> Iterator[Found]:
    for regex in written(subject):
        sign = _greedy(list(tree_of(regex.text)))
        if sign is not None:
            yield Found(
                regex.path,
                f"has `.*` or `.+` with {short(sign)} behind it: it reads on to the last one, over any before it",
                f"name what it reads, such as `[^{sign if sign not in ']^-' else chr(92) + sign}]*`, or let it be "
                "lazy: `.*?`",
            )


def _greedy(items: list[Any]) -> str | None:
    """The sign behind a greedy run of anything."""
    for i, (operation, value) in enumerate(items):
        name = str(operation)
        if name in ("SUBPATTERN", "ATOMIC_GROUP"):
            inner = list(value[3] if name == "SUBPATTERN" else value)
            if (found := _greedy(inner)) is not None:
                return found
            if _is_greedy_any(inner[-1:]) and (sign := _sign(items[i + 1 :])) is not None:
                return sign
        elif name == "BRANCH":
            for inner in value[1]:
                if (found := _greedy(list(inner))) is not None:
                    return found
        elif name == "MAX_REPEAT" and not _is_greedy_any(items[i : i + 1]) and (found := _greedy(list(value[2]))):
            return found
        if _is_greedy_any(items[i : i + 1]) and (sign := _sign(items[i + 1 :])) is not None:
            return sign
    return None


def _is_greedy_any(items: list[Any]) -> bool:
    if len(items) != 1 or str(items[0][0]) != "MAX_REPEAT":
        return False
    _, most, inner = items[0][1]
    return most > _ANY and len(inner) == 1 and str(inner[0][0]) == "ANY"


def _sign(items: list[Any]) -> str | None:
    """The separator that the rest of a regex begins with, where what follows it may stand in a text again."""
    for operation, value in items:
        if str(operation) == "LITERAL":
            return chr(value) if chr(value) in _SIGNS else None
        if str(operation) == "IN" and all(str(kind) == "LITERAL" for kind, _ in value):
            return " "
        if str(operation) == "IN" and any("SPACE" in str(item) and "NOT" not in str(item) for _, item in value):
            return " "
        if str(operation) in ("MAX_REPEAT", "MIN_REPEAT") and (value[0] > 0 or value[1] == 1):
            return _sign(list(value[2]))
        if str(operation) == "SUBPATTERN":
            return _sign(list(value[3]))
        return None
    return None


def hides_wrong(subject: Subject) -> Iterator[Found]:
    """An optional part that, where it is wrong, is passed over by a variant that says all is well."""
    wrong = [one for number in range(len(subject.plan.variants)) for one in _wrong(subject, number)]
    said: set[int] = set()
    for (name, made), one in zip(wrong, subject.read([made for _, made in wrong]), strict=True):
        number = made.variant
        if number in said or one.variant != number or one.state != "complete" or one.event.get(name) is not None:
            continue
        said.add(number)
        key = "pattern" if subject.definition.variants[number].pattern is not None else "regex"
        yield Found(
            ("variants", number, key),
            f"passes over a wrong `{name}`: {short(made.body)} is complete, without a value",
            "give what stands around the optional part a narrower type, so that it cannot take it in",
        )


_UNSURE = (*_WIDE, "quoted", "time", "path", "host", "flag", "hex", *STRUCTURES)
"""Types that a text of wrong signs may be of."""


def _wrong(subject: Subject, number: int) -> Iterator[tuple[str, Made]]:
    """An event of a variant for each of its fields, with signs in its place that no value has."""
    reading = subject.plan.variants[number].reading
    if not reading.regexes or not optional_parts(reading.regexes[-1]):
        return
    made = [one for _ in range(_TRIES) if (one := subject.maker.make(number)) is not None]
    for item in reading.fields:
        for whole in made if item.type.name not in _UNSURE else ():
            text = whole.values.get(item.name)
            if text and whole.body.count(text) == whole.raw.count(whole.body) == 1:
                yield item.name, whole.with_body(whole.body.replace(text, _WRONG))
                break


def never_taken(subject: Subject) -> Iterator[Found]:
    """A group that is empty in all events that were made for it."""
    for number, variant in enumerate(subject.plan.variants):
        filled: dict[str, list[bool]] = {}
        sample: dict[str, str] = {}
        names = {item.name for item in variant.reading.fields if not item.name.endswith(TEXT_OF)}
        texts = [one for one in subject.made if one.made.variant == number and one.variant == number]
        for one in texts:
            for name in names & one.made.values.keys():
                if one.made.values[name] and one.event.get("state") == "complete" and name in one.event:
                    filled.setdefault(name, []).append(one.event[name] is not None)
                    sample[name] = one.made.body
        for name, found in filled.items():
            if not any(found):
                form = subject.definition.variants[number]
                key = "pattern" if form.pattern is not None else "regex"
                yield Found(
                    ("variants", number, key),
                    f"never takes `{name}`: what stands before it reads its text, as in {short(sample[name])}",
                    "let what stands before it stop: give it a narrower type",
                )


def too_wide(subject: Subject) -> Iterator[Found]:
    for path, name, kind, texts in _fields(subject):
        if kind not in _WIDE or len(set(texts)) < _enough(name, kind):
            continue
        narrow = next((one for one in _NARROW if all(_is(one, text) for text in texts)), None)
        if narrow is not None:
            yield Found(
                path,
                f"`{name}` is of type `{kind}`, and all of its values in cases are of type `{narrow}`, such as "
                f"{short(texts[0])}",
                f"write `{{{name}:{narrow}}}`"
                if path[-1] == "pattern" or path == ("envelope",)
                else f"give it the type: `types: {{{name}: {narrow}}}`",
            )


_ADDRESS_NAME = re.compile(
    r"(?:^|[._])(?:ip|addr|address|src|dst|client|peer|remote|source|destination)(?:$|_ip|_addr)"
)


def _enough(name: str, kind: str) -> int:
    """How many different texts tell that all are of a narrower type."""
    return 1 if kind == "word" or _ADDRESS_NAME.search(name.lower()) else _FEW_TEXTS


def untyped_number(subject: Subject) -> Iterator[Found]:
    for number, variant in enumerate(subject.definition.variants):
        if variant.regex is None:
            continue
        for name, body in _digit_groups(variant.regex):
            texts = [str(value) for value in subject.values(variant.name, field_of(name))]
            if name in variant.types or any(len(text) > 1 and text[0] == "0" for text in texts):
                continue
            if field_of(name) in {*variant_kinds(subject, number), *(rule.slot for rule in subject.plan.times)}:
                continue
            kind = "num" if "." in body else "int"
            yield Found(
                ("variants", number, "regex"),
                f"the group `{name}` reads digits only, and stays text",
                f"add `types: {{{name}: {kind}}}`, or `{name}: text` where it is no number",
                variant.regex.index(f"<{name}>") + 1,
            )

    yield from _numbers_in_words(subject)


_NUMBER = re.compile(r"[+-]?(?:0|[1-9]\d*)(?:\.\d+)?")
_NO_QUANTITY = re.compile(
    r"(?:^|_)(?:u?id|code|no|nr|num|number|ref|serial|ticket|session|tty|slot|unit|version|name)$", re.IGNORECASE
)
_SURE = 3


def _numbers_in_words(subject: Subject) -> Iterator[Found]:
    """Slots of words that hold numbers in all cases, but for names of what is no quantity."""
    for path, name, kind, texts in _fields(subject):
        if kind not in _WIDE or len(set(texts)) < _SURE or _NO_QUANTITY.search(name):
            continue
        if all(_NUMBER.fullmatch(text) for text in texts):
            to = "num" if any("." in text for text in texts) else "int"
            said = (
                f"`{name}` is of type `{kind}`, and all of its values in cases are numbers, such as {short(texts[0])}"
            )
            yield Found(path, said, f"give it the type `{to}`")


def variant_kinds(subject: Subject, number: int) -> tuple[str, ...]:
    return tuple(subject.plan.variants[number].kinds)


_DIGIT_GROUP = re.compile(
    r"\(\?P<(\w+)>((?:[+-]\?|\[\+-\]\?)?(?:\\d|\[0-9\])(?:\+|\{\d+,?\d*\})(?:\\\.(?:\\d|\[0-9\])\+)?)\)"
)


def _digit_groups(regex: str) -> list[tuple[str, str]]:
    return _DIGIT_GROUP.findall(regex)


def _is(kind: str, text: str) -> bool:
    type_ = TYPES[kind]
    if kind == "url" and "://" not in text:  # a path with a drive looks like one
        return False
    return all(re.fullmatch(regex, text) is not None for regex in type_.checks or (type_.shape,))


def _fields(subject: Subject) -> Iterator[tuple[KeyPath, str, str, list[str]]]:
    """The fields of all readings: where they stand, their names, types, and texts in cases."""
    rules = {slot for rule in subject.plan.times for slot in rule.slots}
    kinds = {kind.slot for kind in subject.plan.kinds}
    envelope = subject.plan.envelope
    if envelope is not None:
        form = subject.definition.envelope
        path: KeyPath = ("envelope",) if isinstance(form, str) else ("envelope", *_key(form))
        for item in envelope.every_field:
            if item.name not in (*rules, *kinds, subject.plan.body, "more"):
                texts = [event[item.name] for event in subject.cases if isinstance(event.get(item.name), str)]
                yield path, item.name, item.type.name, texts
    for i, variant in enumerate(subject.plan.variants):
        for item in variant.reading.every_field:
            if item.name not in (*rules, "more") and not item.name.endswith(TEXT_OF):
                texts = [value for value in subject.values(variant.name, item.name) if isinstance(value, str)]
                yield ("variants", i, *_key(subject.definition.variants[i])), item.name, item.type.name, texts


def _key(form: Any) -> tuple[str, ...]:
    given = list(form.given_forms)
    return (given[0],) if given and given[0] in ("pattern", "regex") else ("types",)


RULES = (
    LintRule(
        "R01", "regex without anchors", "warning",
        "a regex of a variant, envelope or `events: start` that does not say where its text begins or ends",
        "add `^` and `$`",
        no_anchors,
    ),
    LintRule(
        "R02", "unescaped dot between digits", "warning",
        "a dot between digits in a regex, which there stands for any character: `192.0` reads `19200` too",
        r"write `\.`",
        bare_dot,
    ),
    LintRule(
        "R03", "greedy run over a separator", "warning",
        "`.*` or `.+` in front of a separator: it reads on to the last separator of the text, over those before it",
        "say what it may read, such as `[^,]*`, or make it lazy",
        greedy_middle,
    ),
    LintRule(
        "R04", "optional part hides a wrong line", "warning",
        "an optional part whose value can be wrong without a fault, since what stands around it reads the text "
        "instead; an event with such a value, and the state `complete`, proves it",
        "give the parts around it narrower types",
        hides_wrong,
    ),
    LintRule(
        "R05", "group never taken", "error",
        "a slot or group that is empty in every event made for it, since what stands before it takes its text",
        "let what stands before it stop earlier",
        never_taken,
    ),
    LintRule(
        "R06", "type wider than its values", "warning",
        "a slot of type `word`, `text` or `rest` whose values in cases are all addresses, UUIDs, URLs or the like",
        "give it the narrower type: a wrong value is then a fault",
        too_wide,
    ),
    LintRule(
        "R07", "digits that stay text", "warning",
        "a group of a regex that reads digits only, and has no type that makes a number of it",
        "name its type under `types`; `text`, where it is no number",
        untyped_number,
    ),
)  # fmt: skip
