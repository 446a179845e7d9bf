"""The `steps` of a parser file to a plan's steps, and the fields that events have after them."""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Iterable
from pathlib import Path as FilePath
from typing import NamedTuple

import polars as pl

from kinglet.errors import did_you_mean, parts_of
from kinglet.expressions.compiling import Expression, sql
from kinglet.expressions.terms import ExpressionError, constant
from kinglet.patterns.types import STRUCTURES
from kinglet.plan.data import DTYPES, MORE, FieldPlan, Plan, name_problem, said_type
from kinglet.plan.readings import Context, read_form
from kinglet.plan.steps import ALWAYS, Action, Fields, Json, Needs, StepPlan
from kinglet.spec.document import Path
from kinglet.spec.steps import ParseAgain as ParseForm
from kinglet.spec.steps import Shorten, Step
from kinglet.steps.again import Hand, ParseAgain
from kinglet.steps.fields import Assignment, Remove, Rename, Set
from kinglet.steps.measuring import Measure
from kinglet.steps.privacy import Hash, Mask
from kinglet.steps.shrinking import Drop, Raw, Roll
from kinglet.steps.tables import Lookup, Table, Translate
from kinglet.steps.values import Convert, Join, Replace, Split
from kinglet.structured.by_form import is_within

OtherParser = Callable[[str], Plan]
"""Compiles the parser of a name; raises ValueError where it cannot be had."""

_VALUES = {*DTYPES.values(), pl.List(pl.String())}
_REFERENCE = re.compile(r"\$\$|\$\{(\w+)\}|\$")


class _Here(NamedTuple):
    """Where a step is built: what reports, its place, the fields that there are before it."""

    work: Context
    path: Path
    types: Fields
    json: Json
    other: OtherParser

    def report(self, key: tuple[str | int, ...], message: str, hint: str = "") -> None:
        self.work.report((*self.path, *key), message, hint)

    def known(self, key: tuple[str | int, ...], names: Iterable[str]) -> bool:
        """Whether all these are fields; reports those that are not."""
        good = True
        for name in names:
            if name not in self.types:
                hint = did_you_mean(name, self.types, "the fields here are " + ", ".join(self.types))
                self.report(key, f"there is no field `{name}` before this step", hint)
                good = False
        return good

    def free(self, key: tuple[str | int, ...], name: str, dtype: pl.DataType) -> None:
        """Reports a name that no field can have, or not with this type."""
        before = self.types.get(name)
        inside = next((other for other in self.types if is_within(name, other)), None)
        wrong = name_problem(name)
        if wrong is not None:
            self.report(key, *wrong)
        elif before is not None and before != dtype:
            self.report(
                key, f"`{name}` is {said_type(before)}, and this gives {said_type(dtype)}", "give it another name"
            )
        elif before is None and inside is not None:
            self.report(key, f"`{name}` and `{inside}` cannot both be fields", "give it another name")

    def text(self, key: tuple[str | int, ...], names: Iterable[str]) -> bool:
        """Whether all these are fields of text; reports those that are not."""
        names = list(names)
        if not self.known(key, names):
            return False
        for name in names:
            if self.types[name] != pl.String():
                self.report(key, f"`{name}` is {said_type(self.types[name])}", "this reads text")
                return False
        return True


def build_steps(
    work: Context, steps: Collection[Step], fields: Fields, json: Json, other: OtherParser
) -> tuple[tuple[StepPlan, ...], Fields, Json]:
    """The steps that are on, the types of all fields that there are on the way, and those that are JSON at the end.

    fields: those that events have before; json: those of them whose text is JSON. A field keeps its type but where a
    step gives it another in all events.
    """
    found: list[StepPlan] = []
    types, every = dict(fields), dict(fields)
    dropped = False
    for i, step in enumerate(steps):
        if step.off:
            continue
        here = _Here(work, ("steps", i), types, json, other)
        condition, needs = _condition(here, step)
        action = _BUILDERS[step.operation](here, step)
        if action is None:
            continue
        found.append(StepPlan(i + 1, step.operation, step.note, action, step.when, condition, needs))
        after = action.fields(types, step.when is None and not dropped)
        for name, dtype in after.items():
            if step.when is not None and name in types and types[name] != dtype:
                message = f"`{name}` is {said_type(types[name])}, and would be {said_type(dtype)} in some events only"
                here.report((step.operation,), message, "leave `when` out, or give the result another name")
        # where only some events may get JSON, or keep text that is none, all of the field is text
        sure = step.when is None and not dropped
        json = frozenset(
            name
            for name in action.json(json)
            if name in json or name not in types or (sure and step.roll is not None and name in step.roll.fields)
        )
        types = after
        every |= after
        dropped |= action.about.reason is not None
    return tuple(found), every, json


def after_steps(steps: Collection[StepPlan], before: Fields) -> Fields:
    """The fields that events have after all steps which have these before."""
    dropped = False
    for step in steps:
        before = step.action.fields(before, step.when is None and not dropped)
        dropped |= step.action.about.reason is not None
    return before


def _condition(here: _Here, step: Step) -> tuple[Expression | None, Needs]:
    if step.when is None:
        return None, ()
    found = _expression(here, ("when",), step.when)
    if found is None:
        return None, ()
    expression, needs = found
    if expression.dtype != pl.Boolean():
        here.report(("when",), f"`{step.when}` is no condition", "compare something: `code = 4102`, `user LIKE 'm.%'`")
    return expression, needs


def _expression(here: _Here, key: tuple[str | int, ...], text: str) -> tuple[Expression, Needs] | None:
    """A SQL expression, and the fields it uses."""
    known = {**ALWAYS, **here.types}
    try:
        expression = sql(text, known)
    except ExpressionError as error:
        here.report(key, error.message.replace("of this variant", "before this step"), error.hint)
        return None
    return expression, tuple((name, known[name]) for name in expression.names)


def _set(here: _Here, step: Step) -> Action | None:
    found: list[Assignment] = []
    for name, value in (step.set or {}).items():
        key = ("set", name)
        if isinstance(value, str):
            made = _expression(here, key, value)
            if made is None:
                continue
            expression, needs = made
        else:
            fixed = constant(value)
            expression, needs = Expression(str(value), fixed.value, fixed.dtype, ()), ()
        dtype = expression.dtype
        if dtype == pl.Null():
            dtype = here.types.get(name, pl.String())
            expression = expression._replace(value=pl.lit(None, dtype=dtype), dtype=dtype)
        if dtype not in _VALUES:
            here.report(key, f"`{value}` is {dtype}, which no field can be", "cast it: CAST(… AS VARCHAR)")
            continue
        before = here.types.get(name)
        if name_problem(name) is not None or before is None:
            here.free(key, name, dtype)
        found.append(Assignment(name, expression, needs))
    return Set(tuple(found))


def _rename(here: _Here, step: Step) -> Action | None:
    names = step.rename or step.copy_ or {}
    if not here.known((step.operation,), names):
        return None
    left = here if step.copy_ else here._replace(types={k: v for k, v in here.types.items() if k not in names})
    for old, new in names.items():
        left.free((step.operation, old), new, here.types[old])
    if len(set(names.values())) < len(names):
        here.report((step.operation,), "gives one name to two fields", "each field needs a name of its own")
    return Rename(tuple(names.items()), keeps=step.copy_ is not None)


def _remove(here: _Here, step: Step) -> Action | None:
    names = step.remove or step.keep or []
    here.known((step.operation,), names)
    return Remove(frozenset(names), keeps=step.keep is not None)


def _convert(here: _Here, step: Step) -> Action | None:
    wanted = step.convert or {}
    here.known(("convert",), wanted)
    items: list[FieldPlan] = []
    for name, kind in wanted.items():
        if kind == "list":
            if here.types.get(name) not in (pl.String(), None):
                here.report(
                    ("convert", name), f"`{name}` is {said_type(here.types[name])}", "a list is made of JSON text"
                )
        elif kind not in here.work.types or kind in ("rest", *STRUCTURES):
            here.report(("convert", name), f"no such type `{kind}`", here.work.type_hint(kind))
        else:
            items.append(FieldPlan(name, here.work.types[kind]))
    return Convert(tuple(items), tuple(name for name, kind in wanted.items() if kind == "list"), here.work.bare)


def _replace(here: _Here, step: Step) -> Action | None:
    assert step.replace is not None
    item = step.replace
    groups = here.work.checked_regex((*here.path, "replace", "regex"), item.regex)
    if not here.text(("replace", "field"), [item.field]) or groups is None:
        return None
    numbers = re.compile(item.regex).groups
    for reference in _REFERENCE.finditer(item.with_):
        name = reference[1]
        if reference[0] == "$":
            here.report(
                ("replace", "with"), "has a `$` that names no group", "write ${1} or ${name}, and $$ for a dollar"
            )
        elif name and name not in groups and not (name.isdigit() and int(name) <= numbers):
            here.report(("replace", "with"), f"names the group `{name}`, which the regex lacks", "count from 1")
    return Replace(item.field, item.regex, item.with_)


def _split(here: _Here, step: Step) -> Action | None:
    assert step.split is not None
    item = step.split
    if not here.text(("split", "field"), [item.field]):
        return None
    action = Split(item.field, item.at, tuple(item.into or ()), item.to)
    for name in item.into or ():
        here.free(("split", "into"), name, pl.String())
    if item.to is not None and item.to != item.field:
        here.free(("split", "to"), item.to, pl.List(pl.String()))
    return action


def _join(here: _Here, step: Step) -> Action | None:
    assert step.join is not None
    if not here.known(("join", "fields"), step.join.fields):
        return None
    if step.join.to not in step.join.fields:
        here.free(("join", "to"), step.join.to, pl.String())
    return Join(tuple(step.join.fields), step.join.with_, step.join.to)


def _table(here: _Here, key: tuple[str | int, ...], name: str) -> Table | None:
    """A table by its path, which has to stay within the folder of the parser file."""
    path = FilePath(name)
    if path.is_absolute() or ".." in path.parts or not path.parts:
        here.report(key, f"`{name}` leads out of the folder of the parser file", "put the table beside the parser file")
        return None
    where = here.work.document
    return Table(where.folder / path, where.place((*here.path, *key)), ".".join(map(str, key)), where.folder)


def _translate(here: _Here, step: Step) -> Action | None:
    assert step.translate is not None
    item = step.translate
    table = tuple((key, _word(value)) for key, value in (item.table or {}).items())
    file = _table(here, ("translate", "file"), item.file) if item.file is not None else None
    if not here.known(("translate", "field"), [item.field]) or (item.file is not None and file is None):
        return None
    to = item.to or item.field
    if to != item.field:
        here.free(("translate", "to"), to, pl.String())
    return Translate(item.field, to, file or table, item.otherwise)


def _word(value: object) -> str:
    return str(value).lower() if isinstance(value, bool) else str(value)


def _lookup(here: _Here, step: Step) -> Action | None:
    assert step.lookup is not None
    item = step.lookup
    table = _table(here, ("lookup", "file"), item.file)
    if not here.known(("lookup", "field"), [item.field]) or table is None:
        return None
    for column, name in item.take.items():
        here.free(("lookup", "take", column), name, pl.String())
    return Lookup(item.field, table, item.by, item.key, tuple(item.take.items()))


def _mask(here: _Here, step: Step) -> Action | None:
    assert step.mask is not None
    return Mask(tuple(step.mask.fields), step.mask.show) if here.text(("mask", "fields"), step.mask.fields) else None


def _hash(here: _Here, step: Step) -> Action | None:
    assert step.hash is not None
    label = f"{here.work.document.place(here.path)}: steps[{here.path[1]}].hash:"
    item = step.hash
    return (
        Hash(tuple(item.fields), item.key, item.digits, label) if here.text(("hash", "fields"), item.fields) else None
    )


def _parse(here: _Here, step: Step) -> Action | None:
    assert step.parse is not None
    item: ParseForm = step.parse
    if not here.text(("parse", "field"), [item.field]):
        return None
    if item.parser is not None:
        try:
            plan = here.other(item.parser)
        except ValueError as error:
            here.report(("parse", "parser"), *parts_of(error))
            return None
        hand = Hand(item.field, plan, item.optional)
        for name, dtype in hand.fields({item.field: pl.String()}, True).items():
            if name != item.field:
                here.free(("parse", "parser"), name, dtype)
        return hand
    shared = {name: "a step or variant before" for name in here.types if name != MORE}
    if item.pattern is None and item.regex is None:
        shared = {}
    reading = read_form(here.work, (*here.path, "parse"), item, shared)
    if reading is None:
        return None
    for field in reading.every_field:
        here.free(("parse",), field.name, field.dtype)
    return ParseAgain(item.field, reading, item.optional, here.work.bare)


def _roll(here: _Here, step: Step) -> Action | None:
    assert step.roll is not None
    if not here.known(("roll", "fields"), step.roll.fields):
        return None
    here._replace(types={k: v for k, v in here.types.items() if k not in step.roll.fields}).free(
        ("roll", "to"), step.roll.to, pl.String()
    )
    return Roll(tuple(step.roll.fields), step.roll.to, here.json)


def _raw(here: _Here, step: Step) -> Action | None:
    return Raw(step.raw.shorten if isinstance(step.raw, Shorten) else None)


def _measure(here: _Here, step: Step) -> Action | None:
    assert step.measure is not None
    item = step.measure
    good = here.known(("measure", "values"), item.values.values())
    for name, field in item.values.items():
        dtype = here.types.get(field)
        if dtype is not None and not dtype.is_numeric():
            here.report(("measure", "values", name), f"`{field}` is {said_type(dtype)}", "measure numbers")
            good = False
    good &= here.known(("measure", "labels"), item.labels or ())
    action = Measure(tuple(item.values.items()), tuple(item.labels or ()), item.to)
    for dtype in action.fields(here.types, True).values():
        if good and item.to not in here.types:
            here.free(("measure", "to"), item.to, dtype)
            break
    return action if good else None


def _drop(here: _Here, step: Step) -> Action | None:
    return Drop(step.drop or "")


_BUILDERS: dict[str, Callable[[_Here, Step], Action | None]] = {
    "set": _set,
    "rename": _rename,
    "copy": _rename,
    "keep": _remove,
    "remove": _remove,
    "convert": _convert,
    "replace": _replace,
    "split": _split,
    "join": _join,
    "translate": _translate,
    "lookup": _lookup,
    "mask": _mask,
    "hash": _hash,
    "parse": _parse,
    "roll": _roll,
    "raw": _raw,
    "measure": _measure,
    "drop": _drop,
}
"""The operations by what the parser file calls them."""
