"""Several parsers for logs in which the events of many devices stand together."""

from __future__ import annotations

import os
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

from kinglet.calls import ParseCalls
from kinglet.errors import ParserFileError, Place, Problem, UsageError
from kinglet.ocsf.schema import Model
from kinglet.output.mixed_view import MixedView
from kinglet.parser import Parser, load, load_to_parse
from kinglet.runtime.candidate_parsers import Claimed
from kinglet.runtime.several import UNCLAIMED, Mixer
from kinglet.runtime.shared_batches import NO_PARSER
from kinglet.runtime.work import Options
from kinglet.runtime.workers import Then
from kinglet.source.logs import Source
from kinglet.spec.ready import ready_parsers

LIBRARY = "library"
"""What all ready parsers together are called."""
_NOBODY: dict[str, Any] = {
    "kinglet": 1,
    "parser": UNCLAIMED,
    "version": "0",
    "product": {"vendor": "Unknown", "name": "Unknown"},
    "variants": [{"name": NO_PARSER, "regex": r"[^\s\S]"}],
}


def load_set(*sources: str | os.PathLike[str], model: Model | None = None) -> ParserSet:
    """Loads parsers to be used together: files, names of ready parsers, and folders of parser files.

    Raises:
        ParserFileError: a file has problems, a folder has no parser file, or two parsers have one name.
    """
    return ParserSet([load(file, model=model) for file in parser_files(*sources)])


def load_set_to_parse(*sources: str | os.PathLike[str], model: Model | None = None, maps: bool = True) -> ParserSet:
    """The same without their cases, which parsing does not need.

    maps: whether events will be mapped onto the model, which must be so for parsers not known to be good: a mapping
    that is not compiled is not checked.
    """
    return ParserSet([load_to_parse(file, model=model, maps=maps) for file in parser_files(*sources)])


def is_several(source: str | os.PathLike[str]) -> bool:
    """Whether a name is that of several parsers: a folder, or all ready ones."""
    return Path(source).is_dir() or is_library(source)


def is_library(source: str | os.PathLike[str]) -> bool:
    """Whether a name is that of all ready parsers."""
    return source == LIBRARY and not Path(source).exists()


def parser_files(*sources: str | os.PathLike[str]) -> list[str | os.PathLike[str]]:
    """What is named, with the parser files of folders in their place, by name; `library` is all ready parsers.

    Raises:
        ParserFileError: a folder has no parser file.
    """
    files: list[str | os.PathLike[str]] = []
    for source in sources:
        if is_library(source):
            files += ready_parsers().values()
        elif Path(source).is_dir():
            found = sorted(Path(source).glob("*.yaml"))
            if not found:
                raise ParserFileError([Problem(Place(str(source)), "", "has no parser file", "they end with .yaml")])
            files += found
        else:
            files.append(source)
    return files


class ParserSet(ParseCalls):
    """Parsers that read logs together: each event goes to the one that reads it best.

    Which come into question for a log its path says, where one claims it; otherwise all do, those first that claim text
    which it contains. The log is cut by the rule of one of them, under which most of its beginning is complete. For an
    event its text says.
    """

    def __init__(self, parsers: Sequence[Parser]) -> None:
        if not parsers:
            raise UsageError("a set needs at least one parser")
        self._by_name = {parser.name: parser for parser in parsers}
        if len(self._by_name) < len(parsers):
            names = [parser.name for parser in parsers]
            twice = next(parser for i, parser in enumerate(parsers) if parser.name in names[:i])
            first = self._by_name[twice.name] is twice and next(p for p in parsers if p.name == twice.name)
            where = first._document.name if first else twice._document.name
            problem = Problem(
                twice._document.place(("parser",)), "parser", f"a second parser `{twice.name}`", f"the first is {where}"
            )
            raise ParserFileError([problem])
        self._nobody = load(_NOBODY)
        self.mixer = Mixer([_claimed(parser) for parser in parsers], self._nobody._plan)

    def __reduce__(self) -> tuple[Any, ...]:
        """Copies and pickles carry the parsers."""
        return ParserSet, (list(self.parsers.values()),)

    @property
    def parsers(self) -> Mapping[str, Parser]:
        return self._by_name

    @property
    def needs_order(self) -> bool:
        return any(parser.needs_order for parser in self.parsers.values())

    def _view(self, form: str) -> MixedView:
        return MixedView([*(parser._plan for parser in self.parsers.values()), self._nobody._plan], form)

    def _run(
        self, sources: Sequence[Source], options: Options, workers: int | None, then: Then | None
    ) -> Iterator[Any]:
        return self.mixer.run(sources, options, workers, then)

    def __repr__(self) -> str:
        return f"<ParserSet of {', '.join(self.parsers)}>"


def _claimed(parser: Parser) -> Claimed:
    claims = parser._definition.claims
    if claims is None:
        return Claimed(parser._plan)
    return Claimed(parser._plan, tuple(claims.path or ()), tuple(claims.contains or ()))
