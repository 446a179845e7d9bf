"""Variants that others keep from ever being reached. Each finding is proved by events made from the patterns."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator

from kinglet.generating.events import Made
from kinglet.lint.rule import Found, LintRule, Subject, short
from kinglet.plan.data import VariantPlan
from kinglet.regex.backtracking import search

_SHARE = 0.99


def _takers(subject: Subject) -> dict[int, tuple[list[Made], dict[int, list[Made]]]]:
    """For each variant the events made for it, and those of them that an earlier variant reads."""
    made: dict[int, list[Made]] = defaultdict(list)
    taken: dict[int, dict[int, list[Made]]] = defaultdict(lambda: defaultdict(list))
    for one in subject.made:
        if not one.made.sure:
            continue
        made[one.made.variant].append(one.made)
        if one.variant is not None and one.variant < one.made.variant:
            taken[one.made.variant][one.variant].append(one.made)
    return {number: (made[number], taken[number]) for number in made}


def _reads(subject: Subject, by: int, events: list[Made]) -> bool:
    """Whether a variant alone reads events that were made for another."""
    reading = subject.plan.variants[by].reading
    if not reading.regexes:
        return True
    bodies = [event.body for event in events]
    try:
        return all(any(search(regex, body) for regex in reading.regexes) for body in bodies)
    except TimeoutError:
        return False


def _of(subject: Subject, number: int) -> list[Made]:
    return [one.made for one in subject.made if one.made.variant == number and one.made.sure]


def _alike(one: VariantPlan, other: VariantPlan) -> bool:
    return (one.reading.regexes, one.reading.structures, one.source) == (
        other.reading.regexes,
        other.reading.structures,
        other.source,
    )


def _kinds_part(one: VariantPlan, other: VariantPlan) -> bool:
    """Whether values of kind keep two variants apart for some events."""
    return any(set(values) - set(one.kinds.get(slot, values)) for slot, values in other.kinds.items())


def never_reached(subject: Subject) -> Iterator[Found]:
    """A variant all of whose events earlier ones read, the more general of them said by another rule."""
    for number, (made, by) in _takers(subject).items():
        count = sum(map(len, by.values()))
        if count < len(made) or any(one(subject, number, by) is not None for one in (_general, _twin)):
            continue
        names = ", ".join(f"`{subject.plan.variants[i].name}`" for i in by)
        yield Found(
            ("variants", number),
            f"is never reached: all {len(made)} events made for it are read by {names}, such as {short(made[0].raw)}",
            "move it in front, or let the earlier ones demand more",
        )


def generic_first(subject: Subject) -> Iterator[Found]:
    """A variant behind one that reads all that it reads, and more."""
    for number, (made, by) in _takers(subject).items():
        general = _general(subject, number, by)
        if general is not None and _twin(subject, number, by) is None:
            name = subject.plan.variants[general].name
            yield Found(
                ("variants", number),
                f"stands behind the more general `{name}`, which reads all that it reads, such as {short(made[0].raw)}",
                f"move it in front of `{name}`",
            )


def _general(subject: Subject, number: int, by: dict[int, list[Made]]) -> int | None:
    """An earlier variant that alone takes all events of this one, and reads others too."""
    made = _of(subject, number)
    for earlier, events in by.items():
        if len(events) == len(made) and not _reads(subject, number, _of(subject, earlier)):
            return earlier
    return None


def _twin(subject: Subject, number: int, by: dict[int, list[Made]]) -> int | None:
    """An earlier variant that is the same."""
    one = subject.plan.variants[number]
    return next(
        (i for i in by if _alike(subject.plan.variants[i], one) and not _kinds_part(subject.plan.variants[i], one)),
        None,
    )


def partly_reached(subject: Subject) -> Iterator[Found]:
    """A variant some of whose events an earlier one takes that is no special case of it."""
    for number, (made, by) in _takers(subject).items():
        if sum(map(len, by.values())) >= len(made):
            continue
        for earlier, events in by.items():
            if _reads(subject, number, _of(subject, earlier)):
                continue  # the special case before the general one, as it should be
            name = subject.plan.variants[earlier].name
            yield Found(
                ("variants", number),
                f"loses some of its events to `{name}`, which reads {short(events[0].raw)} too",
                f"let `{name}` demand more, or move this one in front of it",
            )


def twice(subject: Subject) -> Iterator[Found]:
    """Two variants of the same kind that read the same, or a value of kind that stands twice."""
    for number, (_, by) in _takers(subject).items():
        twin = _twin(subject, number, by)
        if twin is not None:
            name = subject.plan.variants[twin].name
            yield Found(
                ("variants", number),
                f"reads the same events as `{name}`, so it is never reached",
                "remove one of the two, or give them different kinds",
            )
    for number, variant in enumerate(subject.plan.variants):
        for slot, values in variant.kinds.items():
            again = next((value for i, value in enumerate(values) if value in values[:i]), None)
            if again is not None:
                yield Found(("variants", number, "kind"), f"has the {slot} {again} twice", "leave one of them out")
            yield from _kind_of_another(subject, number, slot, values)


def _kind_of_another(subject: Subject, number: int, slot: str, values: tuple[str | int, ...]) -> Iterator[Found]:
    """A value of kind, one of several, all of whose events an earlier variant reads."""
    made = [one for one in subject.made if one.made.variant == number and one.made.sure]
    for value in dict.fromkeys(values) if len(set(values)) > 1 else ():
        of_kind = [one for one in made if one.made.values.get(slot) == str(value)]
        takers = {one.variant for one in of_kind}
        taker = next(iter(takers)) if len(takers) == 1 else None
        if taker is not None and taker < number and any(one.variant == number for one in made):
            name = subject.plan.variants[taker].name
            yield Found(
                ("variants", number, "kind"),
                f"has the {slot} {value}, whose events `{name}` reads already",
                "leave it out in one of the two",
            )


RULES = (
    LintRule(
        "V01", "variant never reached", "error",
        "a variant all of whose events earlier variants read; events made from its own pattern prove it",
        "move it in front of them, or let them demand more",
        never_reached,
    ),
    LintRule(
        "V02", "general variant first", "error",
        "a variant behind a more general one, which reads all of its events and others; events made from both patterns "
        "prove it",
        "put the special one first: the first variant that matches counts",
        generic_first,
    ),
    LintRule(
        "V03", "variant partly reached", "warning",
        "a variant that loses some of its events to an earlier one, which is no special case of it; an event that both "
        "read is shown",
        "let the earlier one demand more, or change their order",
        partly_reached,
    ),
    LintRule(
        "V04", "variant twice", "error",
        "two variants of one kind that read the same events, or a value of `kind` that stands twice in a variant",
        "remove one of the two",
        twice,
    ),
)  # fmt: skip
