"""From the `event` section of a parser to the columns of a mapped event.

A mapping is a flat table of leaves: the dotted path of an attribute, and either a constant or an
expression over the fields. Nesting is made of the paths only where something is written.
"""

from __future__ import annotations

import functools
from collections.abc import Callable, Mapping, Sequence
from types import MappingProxyType
from typing import Any, NamedTuple

import polars as pl

from kinglet.columns.paths import parts, tree
from kinglet.errors import InvalidError, ModelError, parts_of
from kinglet.expressions import evaluating
from kinglet.ocsf.completeness import unfilled, unmet
from kinglet.ocsf.identity import BY_NAME, Leaf, Report, constant, identity, typed_by_activity
from kinglet.ocsf.judging import Judgement, judgements
from kinglet.ocsf.schema import Attribute, Model, ModelClass, enum_value
from kinglet.ocsf.values import Fields, Value, value_of
from kinglet.spec.document import KeyPath
from kinglet.spec.schema import EventMapping, ParserFile, Translation
from kinglet.spec.section import FixedText, Scalar
from kinglet.structured.by_form import is_within
from kinglet.timestamps.stamps import INSTANT, Reference, microseconds

SetValue = Scalar | FixedText
ALWAYS: dict[str, pl.DataType] = {
    "raw": pl.String(),
    "time": pl.Datetime("us", "UTC"),
    "line": pl.Int64(),
    "file": pl.String(),
}
TIME_FROM = "#time_from"
BAD_VALUE = "bad-value:"
"""What faults and counts of values begin with that do not fit their attribute, before its path."""
REFUSED = "unmapped.not_mapped"
"""Where values are kept that do not fit their attribute."""


OWN_KEYS = ("not_mapped", "time_from")
"""What is put under `unmapped` beside the fields that no attribute takes, and is no column of every event."""


class MappingPlan(NamedTuple):
    """What events of one variant become.

    missing: required attributes that nothing fills, and constraints that cannot be met. recommended: attributes that
    nothing fills, the most useful first. counted: what is worth a count, and which events it is true of. fills: the
    attributes that the parser file gives a value.
    """

    class_caption: str
    leaves: tuple[Leaf, ...]
    used: frozenset[str]
    missing: tuple[str, ...]
    recommended: tuple[str, ...] = ()
    counted: tuple[tuple[str, pl.Expr], ...] = ()
    fills: tuple[str, ...] = ()
    judged: tuple[Judgement, ...] = ()
    """What may be missing from events, over their columns."""
    left_out: Mapping[str, str] = MappingProxyType({})
    """Keys that variants share and that do not hold for this one, and why."""

    def apply(self, frame: pl.DataFrame, reference: Reference, has_bad: bool = True) -> pl.DataFrame:
        """The columns of the mapped events, by dotted path; constants are left to the writer.

        has_bad: whether any event may have a value that does not fit; see `counts`.
        """
        known = frame.with_columns_seq(_time_or(reference))
        leaves = [leaf for leaf in self.leaves if not leaf.is_constant]
        if not has_bad:
            leaves = [_FAULTS if leaf.path == _FAULTS.path else leaf for leaf in leaves]
        found, _ = evaluating.columns(known, [(leaf.path, leaf.value, leaf.dtype) for leaf in leaves])
        return found

    def invalid(self, mapped: pl.DataFrame) -> tuple[int, dict[str, int]]:
        """How many mapped events lack what their class requires, and for which reasons."""
        if not self.judged or not mapped.height:
            return 0, {}
        tests, _ = evaluating.columns(mapped, [(item.reason, item.test, pl.Boolean()) for item in self.judged])
        whole = [test if len(test) == mapped.height else test.new_from_index(0, mapped.height) for test in tests]
        found = {test.name: int(test.sum()) for test in whole}
        any_ = pl.DataFrame(whole).select_seq(pl.any_horizontal(pl.all())).to_series()
        return int(any_.sum()), {name: count for name, count in found.items() if count}

    def counts(self, frame: pl.DataFrame) -> dict[str, int]:
        """How many events have a value that does not fit its attribute, or a word that its enumeration lacks."""
        if not self.counted:
            return {}
        tests, _ = evaluating.columns(frame, [(name, test, pl.Boolean()) for name, test in self.counted])
        return {test.name: int(test.sum()) for test in tests if test.any()}


def _time_or(reference: Reference) -> list[pl.Expr]:
    """An event without a time gets the reference of its log, and says so."""
    unknown = pl.col("time").is_null()
    # speed: a moment takes the engine a hundred times as long as a number
    return [
        pl.col("time").fill_null(pl.lit(microseconds(reference)).cast(INSTANT)),
        pl.when(unknown).then(pl.lit("reference")).alias(TIME_FROM),
    ]


class Columns(NamedTuple):
    """What a mapping may read: fields with their types, the slot types of those that one made sure of.

    stamps: fields that hold the event's time as text. original: the column of the text that gave it. json: fields whose
    text is JSON.
    """

    fields: Mapping[str, pl.DataType]
    slots: Mapping[str, str] = {}
    stamps: Sequence[str] = ()
    original: str | None = None
    json: frozenset[str] = frozenset()
    offset: pl.Expr | None = None
    """The minutes that the zone of the event's stamp was ahead of UTC."""


def build_mapping(
    definition: ParserFile,
    event: EventMapping | None,
    columns: Columns,
    model: Model,
    report: Report,
    source_path: Callable[[str], KeyPath],
) -> MappingPlan | None:
    """Compiles a mapping for events that have these fields.

    report is told of every fault, with the path in the parser file that `source_path` gives for a key of the section.
    Returns None where the class itself is not known.
    """
    # no mapping at all is one, too: nothing of the event may be lost
    event = event or EventMapping.model_validate({"class": "Base Event"})
    if event.class_ is None:
        report(source_path("class"), "the mapping names no class", "add `class:` (`kinglet model` lists them)")
        return None
    try:
        model_class = model.find_class(event.class_)
    except ModelError as error:
        report(source_path("class"), *parts_of(error))
        return None
    work = _Work(definition, event, columns, model, model_class, report, source_path, {}, {}, {}, [], set())
    for step in _STEPS:
        step(work)
    filled = tree((path, None) for path in work.leaves if not path.startswith("unmapped."))
    # `unmapped` is ours, and no attribute that the standard asks for
    missing = [item.path for item in unfilled(model, model_class, filled, "required")]
    wanted = sorted(unfilled(model, model_class, filled, "recommended"), key=lambda item: -item.worth)
    return MappingPlan(
        model_class.caption,
        tuple(work.leaves.values()),
        frozenset(work.used),
        (*missing, *unmet(model, model_class, filled)),
        tuple(item.path for item in wanted),
        tuple(work.counted),
        tuple(work.values),
        tuple(judgements(model, model_class, list(work.leaves.values()))),
    )


class _Work(NamedTuple):
    """A mapping while it is built; given: the attributes along each path that the parser file fills."""

    definition: ParserFile
    event: EventMapping
    columns: Columns
    model: Model
    model_class: ModelClass
    report: Report
    source_path: Callable[[str], KeyPath]
    leaves: dict[str, Leaf]
    given: dict[str, tuple[Attribute, ...]]
    values: dict[str, Value]
    counted: list[tuple[str, pl.Expr]]
    used: set[str]

    def add(self, leaf: Leaf) -> None:
        self.leaves[leaf.path] = leaf


def _identify(work: _Work) -> None:
    for leaf in identity(work.definition, work.event, work.model, work.model_class, work.report, work.source_path):
        work.add(leaf)
    work.used.update(name for name in work.columns.stamps if name in work.columns.fields)
    if work.columns.offset is not None and "timezone_offset" in work.model_class.attributes:
        work.add(Leaf("timezone_offset", work.columns.offset, pl.Int64()))
    if work.columns.original is not None:
        work.add(Leaf("metadata.original_time", pl.col(work.columns.original), pl.String()))


def _set(work: _Work) -> None:
    for path, value in work.event.set.items():
        if value is not None:
            _fill(work, path, path, functools.partial(_by_expression, work.model, value))


def _translate(work: _Work) -> None:
    for key, table in work.event.translate.items():
        if table is not None:
            path = BY_NAME.get(key) or _enumeration(work, key)
            _fill(work, key, path, functools.partial(_by_table, work.model, table))


def _enumeration(work: _Work, path: str) -> str:
    """The path of an enumeration, which may be named by its caption's: `status` for `status_id`."""
    try:
        *above, last = work.model.path(work.model_class, path)
    except ModelError:
        return path
    owner = work.model.object(above[-1].type) if above else work.model_class
    found = next((one.name for one in owner.attributes.values() if one.sibling == last.name and one.enum), last.name)
    return path.removesuffix(last.name) + found


def _by_expression(model: Model, value: SetValue | list[SetValue], attribute: Attribute, fields: Fields) -> Value:
    return value_of(value, attribute, model, fields)


def _by_table(model: Model, table: Translation, attribute: Attribute, fields: Fields) -> Value:
    if not attribute.enum:
        raise InvalidError(f"`{attribute.name}` is no enumeration", "give it a value with `set`")
    words = {word: enum_value(attribute, value) for word, value in table.words.items()}
    return value_of(table.from_, attribute, model, fields, words)


def _fill(work: _Work, key: str, path: str, value_for: Callable[[Attribute, Fields], Value]) -> None:
    """Fills an attribute, says what is wrong where it cannot be, and fills the caption that goes with it."""
    fields = Fields({**ALWAYS, **work.columns.fields}, work.columns.slots)
    try:
        attributes = work.model.path(work.model_class, path)
        value = value_for(attributes[-1], fields)
    except (ModelError, ValueError) as error:
        work.report(work.source_path(key), *parts_of(error))
        return
    work.given[path] = attributes
    work.values[path] = value
    work.add(Leaf(path, value.expression, value.dtype))
    work.used.update(value.names)
    sibling = attributes[-1].sibling
    beside = f"{path.rpartition('.')[0]}.{sibling}".lstrip(".") if sibling else None
    # a caption that the file sets itself stands
    if beside is not None and value.caption is not None and work.event.set.get(beside) is None:
        if attributes[-1].is_list:
            captions = pl.when(value.caption.is_not_null()).then(pl.concat_list(value.caption))
            work.add(Leaf(beside, captions, pl.List(pl.String())))
        else:
            work.add(Leaf(beside, value.caption, pl.String()))
    if value.bad is not None:
        work.add(Leaf(f"{REFUSED}.{path}", pl.when(value.bad).then(value.text), pl.String()))
        work.counted.append((f"{BAD_VALUE}{path}", value.bad))
    if value.other is not None:
        work.counted.append((f"other:{path}", value.other))


def _activity(work: _Work) -> None:
    """Where the activity differs from event to event, so do the identifiers that are made of it."""
    activity = work.leaves.get("activity_id")
    if activity is not None and not activity.is_constant:
        for leaf in typed_by_activity(work.model_class, activity):
            work.add(leaf)


def _unknowns(work: _Work) -> None:
    """Enumerations that are required, that nothing fills, and that have a value for what is not known."""
    filled = tree((path, None) for path in work.leaves if not path.startswith("unmapped."))
    for wanted in list(unfilled(work.model, work.model_class, filled, "required")):
        above = wanted.path.rpartition(".")[0]
        try:
            attribute = work.model.path(work.model_class, wanted.path)[-1]
        except ModelError:
            continue
        if 0 not in attribute.enum:
            continue
        beside = [leaf for path, leaf in work.leaves.items() if above and path.startswith(f"{above}.")]
        sibling = f"{above}.{attribute.sibling}".lstrip(".") if attribute.sibling else None
        kinds: tuple[tuple[str | None, Any, pl.DataType], ...] = (
            (wanted.path, 0, pl.Int64()),
            (sibling, attribute.enum[0], pl.String()),
        )
        for path, value, dtype in kinds:
            if path is None or path in work.leaves:
                continue
            if attribute.is_list:
                value, dtype = [value], pl.List(dtype)
            # within an object that may be missing, the value stands only where the object does
            if not above or any(leaf.is_constant for leaf in beside):
                work.add(constant(path, value, dtype))
            else:
                there = pl.any_horizontal([leaf.value.is_not_null() for leaf in beside])
                work.add(Leaf(path, pl.when(there).then(pl.lit(value, dtype=dtype)), dtype))


def _alone(work: _Work) -> None:
    """Enumerations whose value is not known, and that make no object by themselves."""
    for path, leaf in list(work.leaves.items()):
        above = path.rpartition(".")[0]
        if not above or leaf.is_constant or leaf.dtype != pl.Int64 or path.startswith("unmapped."):
            continue
        try:
            attribute = work.model.path(work.model_class, path)[-1]
        except ModelError:
            continue
        if attribute.requirement != "required" or 0 not in attribute.enum:
            continue
        sibling = f"{above}.{attribute.sibling}" if attribute.sibling else None
        beside = [
            one for name, one in work.leaves.items() if name.startswith(f"{above}.") and name not in (path, sibling)
        ]
        if any(one.is_constant for one in beside):
            continue
        known = pl.any_horizontal([leaf.value != 0, *(one.value.is_not_null() for one in beside)]).fill_null(False)
        for name in (path, sibling):
            if name is not None and name in work.leaves:
                mine = work.leaves[name]
                work.leaves[name] = mine._replace(value=pl.when(known).then(mine.value))


def _profiles(work: _Work) -> None:
    """The profiles that an event must declare for the attributes that it has."""
    found: set[str] = set()
    for attributes in work.given.values():
        for attribute in attributes:
            # one profile is enough where an attribute belongs to several
            if attribute.profiles and not found & set(attribute.profiles):
                found.add(attribute.profiles[0])
    if found:
        work.add(constant("metadata.profiles", sorted(found), pl.List(pl.String())))


def _observables(work: _Work) -> None:
    """The values that are observables, each with its path and kind, as the standard lists them."""
    if not work.event.observables:
        return
    kinds = work.model.observables
    number = max(
        (step for path in work.given for name, step in parts(path) if name == "observables" and step), default=0
    )
    for path, attributes in work.given.items():
        kind = kinds.kind(attributes[-1])
        value = work.values[path]
        # the standard lists single values
        if kind is None or isinstance(value.dtype, pl.List):
            continue
        number += 1
        there = value.expression.is_not_null()
        for name, given, dtype in (
            ("name", pl.lit(path), pl.String()),
            ("type_id", pl.lit(kind, dtype=pl.Int64), pl.Int64()),
            ("type", pl.lit(kinds.captions[kind]), pl.String()),
        ):
            work.add(Leaf(f"observables[{number}].{name}", pl.when(there).then(given), dtype))
        work.add(Leaf(f"observables[{number}].value", value.expression.cast(pl.String), pl.String()))


def _keep(work: _Work) -> None:
    """Fields that no attribute took go to `unmapped`, with what was wrong with the event."""
    for path in work.values:
        if path.startswith("unmapped.") and path.split(".")[1] in ("faults", "time_notes", *OWN_KEYS):
            work.report(work.source_path(path), f"`{path}` is what Kinglet itself fills", "give it another name")
    for name, dtype in work.columns.fields.items():
        if name in work.used:
            continue
        own = f"unmapped.{name}"
        there = next((path for path in work.values if path == own or is_within(path, own)), None)
        if there is not None:
            work.report(work.source_path(there), f"the field `{name}` goes to `{own}` by itself", "leave it out")
            continue
        if isinstance(dtype, pl.Datetime):
            work.add(Leaf(f"unmapped.{name}", pl.col(name).dt.strftime("%Y-%m-%dT%H:%M:%S%.6fZ"), pl.String()))
        else:
            work.add(Leaf(f"unmapped.{name}", pl.col(name), dtype, is_json=name in work.columns.json))
    bad = [
        pl.when(value.bad).then(pl.lit(f"{BAD_VALUE}{path}"))
        for path, value in work.values.items()
        if value.bad is not None
    ]
    work.add(_faults(pl.col("faults").list.concat(pl.concat_list(bad).list.drop_nulls())) if bad else _FAULTS)
    work.add(Leaf("unmapped.time_from", pl.col(TIME_FROM), pl.String()))
    work.add(Leaf("unmapped.time_notes", pl.col("time_notes"), pl.List(pl.String())))


def _faults(faults: pl.Expr) -> Leaf:
    """What was wrong with an event, where anything was."""
    return Leaf("unmapped.faults", pl.when(faults.list.len() > 0).then(faults), pl.List(pl.String()))


_FAULTS = _faults(pl.col("faults"))
"""The leaf where no value misfits: to put together lists takes the engine longer than all other leaves."""

_STEPS: tuple[Callable[[_Work], None], ...] = (
    _identify,
    _set,
    _translate,
    _activity,
    _unknowns,
    _alone,
    _profiles,
    _observables,
    _keep,
)
