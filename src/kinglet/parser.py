"""A loaded parser."""

from __future__ import annotations

import os
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import polars as pl

from kinglet.calls import ParseCalls
from kinglet.compiler.passes import build
from kinglet.errors import UsageError
from kinglet.lazy import lazy
from kinglet.ocsf.schema import Model
from kinglet.output.views import View, view
from kinglet.plan.data import Plan
from kinglet.runtime.event_times import needs_order
from kinglet.runtime.pipeline import run
from kinglet.runtime.work import Options
from kinglet.runtime.workers import Then
from kinglet.source.logs import Source
from kinglet.spec import loading
from kinglet.spec.document import Document, from_text
from kinglet.spec.schema import ParserFile


def load(source: str | os.PathLike[str] | dict[str, Any], *, model: Model | None = None) -> Parser:
    """Loads a parser.

    source: the path of a parser file, the name of a ready parser, YAML text, or a mapping.
    model: what its events map onto, from `load_model()`; the one that ships unless given.

    Raises:
        ParserFileError: with every problem of the file, each with file, line and column.
    """
    definition, document = loading.read(source)
    return Parser(definition, document, build(definition, document, model=model), model)


def load_to_parse(source: str | os.PathLike[str], *, model: Model | None = None, maps: bool = True) -> Parser:
    """Loads a parser file without its cases, which takes half as long; other sources as `load` does.

    maps: whether events will be mapped onto the model.
    """
    path = Path(source)
    if not path.is_file():
        return load(source, model=model)
    definition, document = loading.read_without_cases(path)
    return Parser(definition, document, build(definition, document, model=model, maps=maps), model)


def load_text(text: str, name: str, *, model: Model | None = None) -> Parser:
    """Loads a parser from the text of a file that is called `name`, beside which lie the files it names."""
    definition, document = loading.checked(from_text(text, name))
    return Parser(definition, document, build(definition, document, model=model), model)


@dataclass(frozen=True, eq=False)
class Parser(ParseCalls):
    """A parser, compiled once; it holds no state of a run and may be shared between threads."""

    _definition: ParserFile
    _document: Document
    _plan: Plan
    model: Model | None = None
    """What its events map onto, if not the model that ships."""

    def __reduce__(self) -> tuple[Any, ...]:
        """Copies and pickles carry the parser file, which is compiled anew where they arrive."""
        return _compiled, (self._definition, self._document, self.model)

    @property
    def parsers(self) -> Mapping[str, Parser]:
        return {self.name: self}

    @property
    def needs_order(self) -> bool:
        return needs_order(self._plan, None)

    def _view(self, form: str) -> View:
        return view(self._plan, form)

    @property
    def name(self) -> str:
        return self._plan.parser

    @property
    def version(self) -> str:
        return self._plan.version

    @property
    def fields(self) -> dict[str, pl.DataType]:
        """Every field that an event of this parser can have, with its type."""
        return dict(self._plan.fields)

    def read_tables(self) -> None:
        """Reads the tables that steps look things up in, which parsing does otherwise when it needs them.

        Raises:
            ParserFileError: a table cannot be read.
        """
        for step in self._plan.steps:
            step.action.ready()

    def with_steps(self, *, without: Collection[int] = (), until: int | None = None) -> Parser:
        """The same parser with fewer steps, and without its mapping, which may need them.

        without: the numbers of steps, from 1, that are left out. until: the last step that is done; 0 for none.

        Raises:
            UsageError: there is no such step.
            ParserFileError: a step that is left needs what another gave.
        """
        count = len(self._definition.steps)
        for number in (*without, *([until] if until else [])):
            if not 1 <= number <= count:
                steps_there = f"it has steps 1 to {count}" if count else "it has none"
                raise UsageError(f"{self.name} has no step {number}", f"{steps_there}")
        steps = [
            step.model_copy(update={"off": True}) if i in without or (until is not None and i > until) else step
            for i, step in enumerate(self._definition.steps, 1)
        ]
        bare = [variant.model_copy(update={"event": None}) for variant in self._definition.variants]
        definition = self._definition.model_copy(update={"steps": steps, "event": None, "variants": bare})
        # what the mapping alone reads, such as the message, stays a field without it
        plan = build(definition, self._document, model=self.model, like=self._plan)
        return Parser(definition, self._document, plan, self.model)

    def teach(self, log: Any, marks: Sequence[Any], **options: Any) -> Any:
        """Teaches this parser a field by marks on a log; gives a `Lesson`, see `kinglet.teach`."""
        return lazy("kinglet", "teaching.teach:teach")(self, log, marks, **options)

    def __repr__(self) -> str:
        return (
            f"<Parser {self.name} {self.version}: {len(self._plan.variants)} variants, {len(self._plan.fields)} fields>"
        )

    def _run(
        self, sources: Sequence[Source], options: Options, workers: int | None, then: Then | None
    ) -> Iterator[Any]:
        return run(self._plan, sources, options, workers, then)


def _compiled(definition: ParserFile, document: Document, model: Model | None) -> Parser:
    return Parser(definition, document, build(definition, document, model=model), model)
