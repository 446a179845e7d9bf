"""What a parser file becomes: everything decided that does not depend on a log.

A plan holds no state of a run, so that one plan serves any number of threads.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime, timedelta
from types import MappingProxyType
from typing import TYPE_CHECKING, NamedTuple

import polars as pl

from kinglet.cutting.rule import CutRule
from kinglet.names import RESERVED
from kinglet.ocsf.mapping import OWN_KEYS, MappingPlan
from kinglet.patterns.types import TYPES, SlotType
from kinglet.timestamps.reading import TimeReading
from kinglet.timestamps.search import Search

if TYPE_CHECKING:
    from kinglet.patterns.literal_prefix import LiteralPrefix
    from kinglet.plan.steps import StepPlan
    from kinglet.structured.by_form import Structure

ROW = "#row"
"""A column beside the fields: the event's place in its batch."""
STAMP = "#stamp"
"""A column beside the fields: the text that gave the event's time."""
BODY = "body"
"""The slot of what follows the head of a syslog message."""
ONWARD = "_onward_"
"""What the groups are called that hold an event from a slot on."""
MORE = "more"
"""The field of the keys that a parser does not name, as a JSON object."""
DROPPED = "dropped:"
"""What stands before the reason for which a step dropped an event, among its faults."""
STATES = ("complete", "partial", "unmatched", "dropped")

DTYPES: Mapping[str, pl.DataType] = {
    "text": pl.String(),
    "int": pl.Int64(),
    "float": pl.Float64(),
    "bool": pl.Boolean(),
    "time": pl.Datetime("us", "UTC"),
}


def said_type(dtype: pl.DataType) -> str:
    """What values of a type are called."""
    names = {pl.String: "text", pl.Int64: "a whole number", pl.Float64: "a number", pl.Boolean: "true or false"}
    if isinstance(dtype, pl.List):
        return "a list"
    return names.get(type(dtype), "a time" if isinstance(dtype, pl.Datetime) else str(dtype))


def name_problem(name: str) -> tuple[str, str] | None:
    """What is wrong with the name of a field, and how to mend it; None where it may have it."""
    if name in RESERVED:
        return f"`{name}` is a column of every event", f"call the field `log_{name}`"
    if name in OWN_KEYS or name.startswith(ONWARD):
        return f"`{name}` is a name that Kinglet keeps for itself", f"call the field `log_{name.lstrip('_')}`"
    if not name or name.startswith("#") or name == "*" or (name.startswith("^") and name.endswith("$")):
        return f"`{name}` is no name of a field", "give it another, such as `keys: {number: '#'}` for a key called #"
    return None


class FieldPlan(NamedTuple):
    """A field and the type that its text must have."""

    name: str
    type: SlotType

    @property
    def dtype(self) -> pl.DataType:
        return DTYPES[self.type.value]


MORE_FIELD = FieldPlan(MORE, TYPES["text"])


class StructurePlan(NamedTuple):
    """Structure that becomes fields.

    source: the field that holds it; None where it is all that is read. keys: those that become fields,
    in the order of `fields`; the others go to the field MORE, with the prefix.
    """

    structure: Structure
    source: str | None
    prefix: str
    keys: tuple[str, ...]
    fields: tuple[FieldPlan, ...]
    needs: tuple[str, ...] = ()
    """Those of the keys without which a text is none of this structure."""

    @property
    def fault(self) -> str:
        return f"bad-{self.structure.name}" + (f":{self.source}" if self.source else "")


class Reading(NamedTuple):
    """How one text gives fields: regexes tried in order, of which the first that matches counts.

    always is a group that takes part in every match, where there is one; sources says for each
    group how the parser file writes it. Without a regex every text matches that has the structure
    which is read from it. fields are those of the groups. onward: slots from which on the text is
    kept too, for variants that read it from there.
    """

    regexes: tuple[str, ...]
    fields: tuple[FieldPlan, ...]
    always: str | None = None
    sources: Mapping[str, str] = MappingProxyType({})
    structures: tuple[StructurePlan, ...] = ()
    onward: tuple[str, ...] = ()
    budget: float | None = None
    """Seconds for each event, where the regex is one that needs them."""
    literal_prefix: LiteralPrefix | None = None
    """The fixed text that a pattern begins with, and the regex of what follows it."""

    @property
    def groups(self) -> list[str]:
        """The groups whose text is taken."""
        return [*(item.name for item in self.fields), *(ONWARD + name for name in self.onward)]

    @property
    def behind_prefix(self) -> Reading:
        """The reading of what follows the opening."""
        return (
            self
            if self.literal_prefix is None
            else self._replace(regexes=(self.literal_prefix.regex,), literal_prefix=None)
        )

    @property
    def every_field(self) -> tuple[FieldPlan, ...]:
        """The fields of groups, then those of structure."""
        found = [*self.fields, *(item for plan in self.structures for item in plan.fields)]
        return (*found, MORE_FIELD) if self.structures else tuple(found)


class VariantPlan(NamedTuple):
    """source: the field or group that it reads; None for the end of the envelope, or the whole event.

    keeps_body: whether the message that it reads stays a field all the same, since a step or a mapping names it.
    """

    name: str
    reading: Reading
    kinds: Mapping[str, tuple[str | int, ...]]
    """The values that mean it, by the slots that have them."""
    mappings: tuple[MappingPlan, ...]
    """One for each class that its events may have."""
    source: str | None = None
    keeps_body: bool = False
    class_number: pl.Expr | None = None
    """Which of the mappings an event has, where there are several."""

    @property
    def consumes_body(self) -> bool:
        """Whether the slot of the message is no field of its events, as they have all that it holds."""
        to_end = self.source is None or self.source.startswith(ONWARD)
        return to_end and bool(self.reading.regexes or self.reading.structures) and not self.keeps_body


class TimeRulePlan(NamedTuple):
    """A place where a stamp may stand.

    label: what it is called in results. slot: the field that holds it; None for the raw event.
    searches: how to find it there, where it is not all of it; the later ones, for fewer formats,
    where what the earlier ones find cannot be read. zone_slot: the field that holds its
    zone. field: the field that it becomes; None for the event's time, of which the first rule
    that gives an instant wins. nanos: a field for its nanoseconds since 1970.
    """

    label: str
    slot: str | None
    reading: TimeReading
    searches: tuple[Search, ...] = ()
    zone_slot: str | None = None
    date_slot: str | None = None
    slot_shapes: tuple[tuple[str, str], ...] = ()
    """The regexes of slots that hold a part of the stamp each."""
    year_of_name: bool = False
    of_previous: bool = False
    of_log: bool = False
    field: str | None = None
    nanos: str | None = None

    @property
    def slots(self) -> tuple[str | None, ...]:
        """The slots whose text it needs."""
        return self.slot, self.zone_slot, self.date_slot

    @property
    def is_dated(self) -> bool:
        return all(fmt.has_date for fmt in self.reading.formats)


class Limits(NamedTuple):
    """The moments between which stamps are believed; latest may be a span after the reference."""

    earliest: datetime
    latest: datetime | timedelta


class KindPlan(NamedTuple):
    """A slot whose value tells which variants come into question: by value, and `otherwise` for any other value."""

    slot: str
    routes: Mapping[str | int, tuple[int, ...]]
    otherwise: tuple[int, ...]


class Plan(NamedTuple):
    """A compiled parser.

    body is the envelope's slot that the variants read, kinds are those whose values choose them, fields the type of
    every field that any variant has.
    """

    parser: str
    version: str
    cut: CutRule
    envelope: Reading | None
    body: str | None
    kinds: tuple[KindPlan, ...]
    variants: tuple[VariantPlan, ...]
    times: tuple[TimeRulePlan, ...]
    limits: Limits
    missing: str
    fields: Mapping[str, pl.DataType]
    unread: MappingPlan | None
    """The mapping of events that no variant matched."""
    steps: tuple[StepPlan, ...] = ()
    all_fields: Mapping[str, pl.DataType] = MappingProxyType({})
    """The fields that there are at any time before, between or after steps."""
    bare: TimeReading = TimeReading(())
    """How stamps in slots are read for which there is no rule."""
    json: frozenset[str] = frozenset()
    """The fields whose text is JSON, after all steps."""
    alike: tuple[int, ...] = ()
    """A number for each variant, the same for those that differ in nothing but the text they open with."""

    @property
    def has_routes(self) -> bool:
        """Whether a value chooses variants."""
        return any(kind.routes for kind in self.kinds)

    @property
    def without_kind(self) -> tuple[int, ...]:
        """The variants that come into question for all events."""
        return tuple(i for i, variant in enumerate(self.variants) if not variant.kinds)

    def candidates(self, routes: Sequence[tuple[int, ...]]) -> tuple[int, ...]:
        """The variants that the values of all kinds leave, in the order of the file."""
        first, *others = routes
        return tuple(i for i in first if all(i in route for route in others))

    @property
    def texts_later(self) -> frozenset[str]:
        """The fields of the envelope whose text is asked for once more: by variants and for times."""
        wanted = {MORE, *(variant.source for variant in self.variants)}
        wanted |= {name for rule in self.times for name in rule.slots}
        return frozenset(name for name in wanted if name is not None)

    @property
    def year_of_name(self) -> bool:
        """Whether the name of a log tells the year of its stamps."""
        return any(rule.year_of_name for rule in self.times)

    @property
    def remembers(self) -> bool:
        """Whether a step looks at events together, in the order of their log."""
        from kinglet.plan.steps import ActsAcross

        return any(isinstance(step.action, ActsAcross) for step in self.steps)

    @property
    def rules(self) -> list[str]:
        """What the rules for the event's time are called, in order."""
        return [rule.label for rule in self.times if rule.field is None]

    @property
    def schema(self) -> dict[str, pl.DataType]:
        """The columns of parsed events, in order."""
        return {
            "line": pl.Int64(),
            "raw": pl.String(),
            "state": pl.Enum(STATES),
            "faults": pl.List(pl.String()),
            "variant": pl.String(),
            "time": pl.Datetime("us", "UTC"),
            **self.fields,
            "time_rule": pl.Enum(self.rules),
            "time_notes": pl.List(pl.String()),
            "file": pl.String(),
            "offset": pl.Int64(),
            "parser": pl.String(),
            "version": pl.String(),
            "id": pl.String(),
        }
