"""What detections need of parsers: which rules are fed by which messages, and which are blind, and why."""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

import polars as pl

from kinglet.errors import InputError, ModelError, ParserFileError, Problem, parts_of
from kinglet.expressions import evaluating
from kinglet.expressions.compiling import sql
from kinglet.expressions.terms import ExpressionError
from kinglet.ocsf.loading import load_model
from kinglet.ocsf.schema import Model, ModelClass
from kinglet.ocsf.values import BASES
from kinglet.spec.loading import read_other
from kinglet.spec.rule import RuleFile

if TYPE_CHECKING:
    from kinglet.parser import Parser


class Rule(NamedTuple):
    """A rule whose attributes are known to be those of its classes."""

    name: str
    about: str
    classes: tuple[ModelClass, ...]
    reads: tuple[str, ...]
    when: str
    columns: Mapping[str, pl.DataType]
    """The attributes that its condition may read."""

    def found(self, mapped: pl.DataFrame) -> pl.DataFrame:
        """The rows of mapped events, in nested columns, that the rule is true of."""
        return mapped.filter(self.true_of(mapped))

    def true_of(self, mapped: pl.DataFrame) -> pl.Series:
        """For each row of mapped events, in nested columns, whether the rule is true of it."""
        flat = flattened(mapped)
        of_class = flat["class_uid"].is_in([item.uid for item in self.classes])
        known = flat.with_columns(
            pl.lit(None, dtype=dtype).alias(path) for path, dtype in self.columns.items() if path not in flat.columns
        )
        when = sql(self.when, known.schema)
        true, _ = evaluating.column(known, when.value, when.dtype)
        return (of_class & true.fill_null(False)).fill_null(False)


class RuleSource(NamedTuple):
    """A message that maps to a rule's class, and the attributes that it lacks of those that the rule reads."""

    parser: str
    variant: str
    lacks: tuple[str, ...]


class Need(NamedTuple):
    """A rule and the messages of its class."""

    rule: Rule
    sources: tuple[RuleSource, ...]

    @property
    def fed_by(self) -> list[RuleSource]:
        """The messages that have all that it reads."""
        return [item for item in self.sources if not item.lacks]

    @property
    def blind(self) -> bool:
        """Whether no message has all that it reads."""
        return not self.fed_by

    @property
    def lacking(self) -> list[str]:
        """The attributes for want of which it is blind: those that the message lacks that comes nearest."""
        nearest = min(self.sources, key=lambda item: len(item.lacks), default=None)
        return list(nearest.lacks) if self.blind and nearest is not None else []


def load_rules(folder: str | os.PathLike[str], model: Model | None = None) -> list[Rule]:
    """The rules of a folder, by name of file.

    Raises:
        InputError: the folder has no rule file.
        ParserFileError: with every problem of all files.
    """
    folder, model = Path(folder), model or load_model()
    files = sorted(folder.glob("*.yaml")) if folder.is_dir() else [folder]
    if not files:
        raise InputError(f"{folder}: has no rule file", "they end with .yaml")
    rules: list[Rule] = []
    problems: list[Problem] = []
    for file in files:
        try:
            rules.append(_rule(file, model))
        except ParserFileError as error:
            problems += error.problems
    if problems:
        raise ParserFileError(problems)
    return rules


def _rule(file: Path, model: Model) -> Rule:
    definition, document = read_other(file, RuleFile, "rule")
    problems: list[Problem] = []

    def report(path: tuple[str | int, ...], message: str, hint: str = "") -> None:
        problems.append(document.problem(path, message, hint))

    classes: list[ModelClass] = []
    for name in definition.class_:
        try:
            classes.append(model.find_class(name))
        except ModelError as error:
            report(("class",), *parts_of(error))
    columns: dict[str, pl.DataType] = {}
    for item in classes:
        for i, path in enumerate(definition.reads):
            try:
                columns[path] = _dtype(model, item, path)
            except ModelError as error:
                report(("reads", i) if len(definition.reads) > 1 else ("reads",), *parts_of(error))
        always = (
            "class_uid",
            "type_uid",
            "activity_id",
            "activity_name",
            "severity_id",
            "severity",
            "time",
            "status_id",
            "status",
        )
        columns |= {name: _dtype(model, item, name) for name in always if name in item.attributes}
    if not problems:
        try:
            dtype = sql(definition.when, columns).dtype
            if dtype != pl.Boolean():
                report(("when",), f"`{definition.when}` is no condition", "compare something: `status_id = 2`")
        except ExpressionError as error:
            report(("when",), str(error).replace("is no field of this variant", "is not among `reads`"))
    if problems:
        raise ParserFileError(problems)
    return Rule(definition.rule, definition.about, tuple(classes), tuple(definition.reads), definition.when, columns)


def _dtype(model: Model, item: ModelClass, path: str) -> pl.DataType:
    attribute = model.path(item, path)[-1]
    inner = BASES[model.base_type(attribute.type)]
    return pl.List(inner) if attribute.is_list else inner


def needs(rules: Sequence[Rule], parsers: Iterable[Parser]) -> list[Need]:
    """What each rule gets of the messages of parsers."""
    messages = [found for parser in parsers for found in _messages(parser)]
    return [
        Need(
            rule,
            tuple(
                RuleSource(parser, variant, tuple(path for path in rule.reads if path not in filled))
                for parser, variant, caption, filled in messages
                if caption in {item.caption for item in rule.classes}
            ),
        )
        for rule in rules
    ]


def _messages(parser: Parser) -> Iterator[tuple[str, str, str, frozenset[str]]]:
    for variant in parser._plan.variants:
        for mapping in variant.mappings:
            filled = frozenset(leaf.path for leaf in mapping.leaves)
            yield parser.name, variant.name, mapping.class_caption, filled


def flattened(frame: pl.DataFrame) -> pl.DataFrame:
    """Nested columns as columns called by dotted paths; lists stay as they are."""
    columns: list[pl.Series] = []
    for column in frame.get_columns():
        if isinstance(column.dtype, pl.Struct):
            inner = flattened(column.struct.unnest())
            columns += [one.alias(f"{column.name}.{one.name}") for one in inner.get_columns()]
        else:
            columns.append(column)
    return pl.DataFrame(columns)
