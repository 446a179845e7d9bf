"""Mappings that leave out what matters, or say what cannot be."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator
from typing import Any

from kinglet.errors import ModelError
from kinglet.insight.cases import case_batches, mapped_case
from kinglet.lint.rule import Found, LintRule, Subject, alternatives
from kinglet.ocsf.identity import BY_NAME
from kinglet.ocsf.loading import load_model
from kinglet.ocsf.mapping import MappingPlan
from kinglet.ocsf.schema import Attribute, Model, ModelClass, enum_value
from kinglet.ocsf.validation import Complaint, complaints
from kinglet.output.views import ModelView
from kinglet.patterns.grammar import Literal, parse
from kinglet.spec.document import KeyPath
from kinglet.spec.schema import EventMapping
from kinglet.spec.section import FixedText

_WHO = {
    "ip": "src_endpoint.ip", "ipv4": "src_endpoint.ip", "ipv6": "src_endpoint.ip", "mac": "src_endpoint.mac",
    "email": "user.email_addr", "host": "src_endpoint.hostname", "url": "url.url_string",
}  # fmt: skip
_NAMES = {
    "user": "user.name", "username": "user.name", "user_name": "user.name", "account": "user.name",
    "login": "user.name", "src": "src_endpoint.ip", "src_ip": "src_endpoint.ip", "dst": "dst_endpoint.ip",
    "dst_ip": "dst_endpoint.ip", "client_ip": "src_endpoint.ip", "src_port": "src_endpoint.port",
    "dst_port": "dst_endpoint.port", "hostname": "device.hostname",
}  # fmt: skip
_MEANS = {
    "Logon": ("logon", "login", "logged in", "signed in"), "Logoff": ("logoff", "logout", "logged out", "signed out"),
    "Open": ("open", "opened"), "Close": ("close", "closed"), "Create": ("create", "created", "add", "added", "new"),
    "Delete": ("delete", "deleted", "remove", "removed"),
    "Update": ("update", "updated", "change", "changed", "modified"),
    "Read": ("read", "viewed"), "Start": ("start", "started"), "Stop": ("stop", "stopped"),
    "Install": ("install", "installed"), "Enable": ("enable", "enabled"), "Disable": ("disable", "disabled"),
    "Lock": ("lock", "locked"), "Unlock": ("unlock", "unlocked"), "Launch": ("launch", "launched", "exec"),
    "Terminate": ("terminate", "terminated", "exit", "exited"), "Rename": ("rename", "renamed"),
    "Traffic": ("allow", "allowed"), "Refuse": ("deny", "denied", "refuse", "refused", "block", "blocked"),
    "Success": ("success", "succeeded", "ok", "accepted", "granted", "pass", "passed"),
    "Failure": ("failure", "failed", "fail", "rejected", "no", "denied", "deny", "refused", "error", "bad"),
}  # fmt: skip


def _model(subject: Subject) -> Model:
    return subject.parser.model or load_model()


def _variants(subject: Subject) -> Iterator[tuple[int, str, MappingPlan]]:
    for i, variant in enumerate(subject.plan.variants):
        for mapping in variant.mappings:
            yield i, variant.name, mapping


def required(subject: Subject) -> Iterator[Found]:
    for i, _, mapping in _variants(subject):
        if mapping.missing:
            yield Found(
                ("variants", i, "event"),
                f"{mapping.class_caption} requires {'; '.join(mapping.missing)}, which nothing fills",
                "fill it under `set`, or choose another class",
            )


def recommended(subject: Subject) -> Iterator[Found]:
    for i, _, mapping in _variants(subject):
        filled = {leaf.path for leaf in mapping.leaves}
        lacks = [
            [path for path in rule.reads if path not in filled]
            for rule in subject.rules
            if mapping.class_caption in {item.caption for item in rule.classes}
        ]
        # where a rule lacks more, this message is none that it is for
        readers = Counter(paths[0] for paths in lacks if len(paths) == 1)
        if readers:
            names = ", ".join(f"`{path}` ({_rules(count)})" for path, count in readers.most_common())
            yield Found(
                ("variants", i, "event"),
                f"would feed more rules for {mapping.class_caption} if it filled {names}",
                "fill it, if the log has it",
            )


def _rules(count: int) -> str:
    return "1 rule" if count == 1 else f"{count} rules"


def mapped_nowhere(subject: Subject) -> Iterator[Found]:
    if not subject.definition.maps:
        return  # a parser without a mapping leaves it out on purpose
    types = {
        item.name: item.type.name
        for reading in (subject.plan.envelope, *(variant.reading for variant in subject.plan.variants))
        if reading is not None
        for item in reading.every_field
    }
    mapped = {name for _, _, mapping in _variants(subject) for name in mapping.used}
    said: set[str] = set()
    for i, _, mapping in _variants(subject):
        own = {item.name for item in subject.plan.variants[i].reading.every_field}
        # a variant of several classes need not have it in each
        here = {name for one in subject.plan.variants[i].mappings for name in one.used}
        for leaf in mapping.leaves:
            name = leaf.path.removeprefix("unmapped.")
            # what the envelope has for all of them need not be of use to each
            known = name in here if name in own else name in mapped
            if name == leaf.path or known or name in said or name.startswith("not_mapped."):
                continue
            fits = _fits(name, types.get(name, ""))
            if fits is not None:
                said.add(name)
                path: KeyPath = ("variants", i) if name in own else ("envelope",)
                what = "tells who or where"
                if types.get(name) in _WHO:
                    what += f", as type `{types[name]}`"
                nowhere = (
                    "no attribute takes it here, as in other variants" if name in mapped else "no attribute takes it"
                )
                yield Found(path, f"`{name}` {what}, and {nowhere}", f"map it under `set`, such as `{fits}: {name}`")


_PERSON = re.compile(r"(?:^|[._])(?:(?:user|account|login)(?:[._]?name)?|(?:who|actor|operator|person)[._]name)$")


def _fits(name: str, kind: str) -> str | None:
    """The attribute that a field most likely is, where it tells who or where."""
    lower = name.lower()
    return _NAMES.get(lower) or _WHO.get(kind) or ("user.name" if _PERSON.search(lower) else None)


def contradictions(subject: Subject) -> Iterator[Found]:
    shared = subject.definition.event
    model = _model(subject)
    seen: set[KeyPath] = set()
    for i, variant in enumerate(subject.definition.variants):
        for mapping in subject.plan.variants[i].mappings[:1]:
            try:
                model_class = model.find_class(mapping.class_caption)
            except ModelError:
                continue
            for one in _contradicts(model, model_class, variant.event, shared, ("variants", i, "event")):
                if one.path not in seen:
                    seen.add(one.path)
                    yield one
    product = subject.definition.product
    for path, event in _events(subject):
        for key, value in (("vendor_name", product.vendor), ("name", product.name), ("version", product.version)):
            said = _text(event.set.get(f"metadata.product.{key}")) if event is not None else None
            if said is not None and value is not None and said != value:
                yield Found(
                    (*path, "set", f"metadata.product.{key}"),
                    f"is {said!r} here and {value!r} under `product`",
                    "say it once, under `product`",
                )


def _events(subject: Subject) -> Iterator[tuple[KeyPath, EventMapping | None]]:
    yield ("event",), subject.definition.event
    for i, variant in enumerate(subject.definition.variants):
        yield ("variants", i, "event"), variant.event


def _contradicts(
    model: Model, model_class: ModelClass, own: EventMapping | None, shared: EventMapping | None, path: KeyPath
) -> Iterator[Found]:
    """Constants of one mapping that do not go together: an id and another's caption."""
    given: dict[str, tuple[KeyPath, Any]] = {}
    for event, where in ((shared, ("event",)), (own, path)):
        if event is None:
            continue
        for key in BY_NAME:
            if (value := getattr(event, key)) is not None:
                given[key] = ((*where, key), value)
        for name, value in event.set.items():
            if value is None:
                given.pop(name, None)
            else:
                given[name] = ((*where, "set", name), value)
    for name, (where, value) in given.items():
        attribute = _attribute(model, model_class, name)
        if attribute is None or not attribute.enum:
            continue
        number = _number(value)
        caption = attribute.enum.get(number) if number is not None else None
        if number is not None and caption is None:
            yield Found(
                where, f"{number} is no value of `{name}`", f"`kinglet model {model_class.caption!r}` lists them"
            )
            continue
        front = name.rpartition(".")[0]
        siblings = [attribute.sibling, *(key for key, full in BY_NAME.items() if full == name)]
        for sibling in filter(None, siblings):
            key = f"{front}.{sibling}".lstrip(".")
            if caption is None or key not in given:
                continue
            meant = _meant(attribute, given[key][1])
            if meant is not None and meant != caption:
                yield Found(
                    where, f"`{name}: {number}` is {caption}, and `{key}` says {meant}", "say it once, by caption"
                )


def _attribute(model: Model, model_class: ModelClass, path: str) -> Attribute | None:
    return model.path(model_class, path)[-1] if model.has(model_class, path) else None


def _meant(attribute: Attribute, value: Any) -> str | None:
    """The caption that a constant is, where it is one."""
    number = _number(value)
    if number is not None:
        return attribute.enum.get(number)
    text = _text(value) if not isinstance(value, str) or value[:1] == "'" else value
    if text is None:
        return None
    try:
        return attribute.enum.get(enum_value(attribute, text))
    except ModelError:
        return text if isinstance(value, FixedText) else None


def _number(value: Any) -> int | None:
    if isinstance(value, int) and not isinstance(value, bool):
        return value
    return int(value) if isinstance(value, str) and re.fullmatch(r"\d{1,6}", value) else None


def _text(value: Any) -> str | None:
    """The text of a constant: fixed text, or an SQL literal."""
    if isinstance(value, FixedText):
        return value.text
    match = re.fullmatch(r"'((?:[^']|'')*)'", value) if isinstance(value, str) else None
    return match[1].replace("''", "'") if match else None


def activity_fixed(subject: Subject) -> Iterator[Found]:
    shared = subject.definition.event
    for i, variant in enumerate(subject.definition.variants):
        own = variant.event
        plan = subject.plan.variants[i]
        if len(plan.mappings) != 1:
            continue
        for key in ("activity", "status"):
            fixed = getattr(own, key, None) if getattr(own, key, None) is not None else getattr(shared, key, None)
            if fixed is None or _varies(own, key) or _varies(shared, key):
                continue
            told = _told(subject, i, plan.mappings[0].class_caption, key)
            if told is None or str(fixed) == "Other":
                continue
            name, (one, first), (two, second) = told
            is_own = own is not None and getattr(own, key) is not None
            yield Found(
                ("variants", i, "event", key) if is_own else ("event", key),
                f"is always {fixed}, though `{name}` tells {first} ({one}) from {second} ({two})",
                f"write `translate: {{{key}: {{from: {name}, to: {{{one}: {first}, {two}: {second}}}}}}}`",
            )


def _varies(event: EventMapping | None, key: str) -> bool:
    """Whether a mapping takes it from the event."""
    if event is None:
        return False
    return key in event.translate or any(name in event.set for name in (f"{key}_id", f"{key}_name"))


_OUTCOME = re.compile(r"(?:^|[._])(?:ok|success|succeeded|passed|allowed|granted|accepted)$")


def _told(
    subject: Subject, number: int, class_caption: str, key: str
) -> tuple[str, tuple[str, str], tuple[str, str]] | None:
    """A slot of words that mean different activities (or a status) of the class, and two of them."""
    try:
        attribute = _model(subject).find_class(class_caption).attributes.get(f"{key}_id")
    except ModelError:
        return None
    captions = {str(caption) for caption in attribute.enum.values()} if attribute is not None else set()
    envelope = subject.plan.envelope.every_field if subject.plan.envelope is not None else ()
    for item in (*subject.plan.variants[number].reading.every_field, *envelope):
        words = item.type.name.split("|") if "|" in item.type.name else []
        words = words or alternatives(subject.definition.variants[number].regex, item.name)
        listed = bool(words)
        words = words or list(dict.fromkeys(map(str, subject.values(subject.plan.variants[number].name, item.name))))
        found: dict[str, str] = {}
        for word in words:
            plain = word.strip('"').lower()
            known_words = (c for c, known in _MEANS.items() if c in captions and plain in known)
            means = next(known_words, None)
            if means is None and item.type.value == "bool" and _OUTCOME.search(item.name.lower()):
                means = {"true": "Success", "false": "Failure"}.get(plain) if "Success" in captions else None
            if means is not None:
                found.setdefault(means, word.strip('"'))
        if len(found) > 1 and (listed or item.type.name not in ("text", "rest")):
            (a, one), (b, two) = list(found.items())[:2]
            return item.name, (one, a), (two, b)
    return None


_BAD = frozenset(("failed", "failure", "denied", "refused", "rejected", "invalid", "incorrect", "unauthorized"))
_GOOD = frozenset(("accepted", "succeeded", "successful", "successfully", "granted", "ok"))


def status_against_words(subject: Subject) -> Iterator[Found]:
    shared = subject.definition.event
    for i, variant in enumerate(subject.definition.variants):
        own = variant.event.status if variant.event is not None else None
        status = own if own is not None else shared.status if shared is not None else None
        if status is None:
            continue
        words = set(re.findall(r"[a-z]+", _fixed(subject, i).lower()))
        says = (
            "Failure"
            if words & _BAD and not words & _GOOD
            else "Success"
            if words & _GOOD and not words & _BAD
            else None
        )
        said = {1: "Success", 2: "Failure"}.get(status, status) if isinstance(status, int) else status
        if says is not None and said in ("Success", "Failure") and said != says:
            word = min(words & (_BAD | _GOOD))
            path: KeyPath = ("variants", i, "event", "status") if own is not None else ("event", "status")
            yield Found(path, f"is {said}, though the message says `{word}`", f"write `status: {says}`")


def _fixed(subject: Subject, number: int) -> str:
    """The fixed text of a variant that every event of it has."""
    variant = subject.definition.variants[number]
    if variant.pattern is not None:
        return " ".join(token.text for token in parse(variant.pattern) if isinstance(token, Literal))
    return re.sub(r"\((?:[^()]|\([^()]*\))*\)|\\.", " ", variant.regex or "")


def out_of_range(subject: Subject) -> Iterator[Found]:
    """Numbers of the log that are taken for ids of the model."""
    seen: set[KeyPath] = set()
    model = _model(subject)
    for i, _, mapping in _variants(subject):
        try:
            model_class = model.find_class(mapping.class_caption)
        except ModelError:
            continue
        for path, event in (
            (("event",), subject.definition.event),
            (("variants", i, "event"), subject.definition.variants[i].event),
        ):
            for name, value in (event.set if event is not None else {}).items():
                attribute = _attribute(model, model_class, name)
                where: KeyPath = (*path, "set", name)
                if where in seen or attribute is None or not attribute.enum or not isinstance(value, str):
                    continue
                field = re.fullmatch(r"(?:CAST\()?\s*\"?(\w+)\"?\s*(?:AS \w+\))?", value.strip(), re.IGNORECASE)
                if field is None or field[1] not in subject.plan.all_fields or not _is_number(attribute):
                    continue
                seen.add(where)
                ids = ", ".join(map(str, sorted(attribute.enum)[:8]))
                yield Found(
                    where,
                    f"takes numbers of the log for ids of `{name}`, which are {ids}: what the log means by them is "
                    "another thing",
                    f"say what each means: `translate: {{{_translated(name)}: {{from: {field[1]}, to: {{…}}}}}}`",
                )


def _is_number(attribute: Attribute) -> bool:
    return all(isinstance(value, int) for value in attribute.enum)


def _translated(name: str) -> str:
    return next((key for key, full in BY_NAME.items() if full == name), name)


def not_valid(subject: Subject) -> Iterator[Found]:
    """Mapped events of cases that the model does not allow, and values that had to be left out."""
    for batch in case_batches(subject.parser):
        view = ModelView(subject.plan)
        view.judge(batch.parsed)
        for number, case in sorted(zip(batch.numbers, batch.cases, strict=True), key=lambda item: item[0]):
            if any(part.variant in view.counted_of for part in case.parts):
                yield from _wrong_case(subject, number)


def _wrong_case(subject: Subject, number: int) -> Iterator[Found]:
    case = subject.definition.cases[number]
    events, counted = mapped_case(subject.parser, case)
    lacking = {text for _, _, mapping in _variants(subject) for text in mapping.missing}

    def is_said(what: str) -> bool:
        """Whether it is missing from all events of a variant, of which that is said."""
        return any(text in what or what in text for text in lacking)

    for event in events:
        for complaint in complaints(event, _model(subject)):
            bare = complaint.path if "is missing" in complaint.message else complaint.message.removeprefix("must have ")
            if not is_said(bare) and not _is_within(complaint, lacking):
                yield Found(("cases", number), f"its event is not valid: {complaint}", "mend the mapping")
    is_meant = any(path.startswith("unmapped.") for path in case.model)
    if case.expect.get("state", "complete") == "complete" and not is_meant:
        for name, count in counted.items():
            if name.startswith("bad-value:") or "=" in name:
                yield Found(
                    ("cases", number),
                    f"its event has a value that does not fit its attribute: {name}" + (f" {count}" * (count > 1)),
                    "translate the word, or map it to an attribute of its type",
                )


def _is_within(complaint: Complaint, lacking: set[str]) -> bool:
    """Whether a constraint is one of those that are lacking, with the object's name before each of its attributes."""
    names = complaint.message.partition(" one of ")[2].split(", ")
    full = ", ".join(f"{complaint.path}.{name}" for name in names)
    return bool(names[0]) and any(full in text for text in lacking)


RULES = (
    LintRule(
        "M01", "required attribute missing", "error",
        "a mapping that leaves open what its class requires, or a constraint of the class",
        "fill it under `set`, or choose another class",
        required,
    ),
    LintRule(
        "M02", "attribute that rules read", "note",
        "an attribute for want of which alone detections of `--rules` are not fed by a variant; for how many",
        "fill it, if the log has it",
        recommended,
    ),
    LintRule(
        "M03", "who or where mapped nowhere", "warning",
        "a field of a type or name that tells who or where (address, host, user, URL), which no attribute takes",
        "map it under `set`",
        mapped_nowhere,
    ),
    LintRule(
        "M04", "constants that contradict", "error",
        "an id and a caption, or `product` and an attribute, that say two things; an id that the model does not have",
        "say it once, by caption",
        contradictions,
    ),
    LintRule(
        "M05", "activity or status that never varies", "warning",
        "a fixed activity or status of a variant with a slot whose words tell two of them apart",
        "take it from the word with `translate`",
        activity_fixed,
    ),
    LintRule(
        "M06", "numbers taken for ids", "warning",
        "a number of the log that is written into an enumeration of the model, such as a severity from 0 to 7",
        "say what each number means with `translate`",
        out_of_range,
    ),
    LintRule(
        "M07", "event not valid", "error",
        "a case whose mapped event the model does not allow, or whose value does not fit its attribute",
        "mend the mapping",
        not_valid,
    ),
    LintRule(
        "M08", "status against the message", "warning",
        "a fixed status of Success where the fixed text of the message says failed, denied or the like, or the other "
        "way round",
        "write the status that the message tells",
        status_against_words,
    ),
)  # fmt: skip
