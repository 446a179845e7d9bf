"""The ready parsers: what each reads, and what it makes of it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

from kinglet.errors import OutputError, UsageError, did_you_mean
from kinglet.insight.needs import Rule, needs
from kinglet.parser import Parser, load
from kinglet.spec.ready import Ready, on_shelf

_BETWEEN = ", "


@dataclass(frozen=True)
class OnShelf:
    """A ready parser.

    variants: with the class that each maps to, or the classes. samples: raw events of its cases. origin: the package or
    folder that it comes from. over: files of the same name that it stands over. rules: those that it feeds.
    """

    name: str
    version: str
    about: str
    product: str
    variants: dict[str, str]
    fields: dict[str, str]
    cases: int
    samples: list[str]
    file: str
    origin: str
    over: list[str]
    rules: list[str]

    @property
    def classes(self) -> list[str]:
        """The classes that it maps to, each once."""
        return list(dict.fromkeys(name for names in self.variants.values() for name in names.split(_BETWEEN)))

    def to_dict(self) -> dict[str, Any]:
        """Plain values."""
        return {**asdict(self), "classes": self.classes}

    def has(self, word: str) -> bool:
        """Whether a word stands in what it is called, what it reads, or the classes it maps to."""
        texts = (self.name, self.about, self.product, *self.variants, *self.classes, *self.fields)
        return any(word.casefold() in text.casefold() for text in texts)


def of_parser(parser: Parser, ready: Ready, rules: Sequence[Rule] = ()) -> OnShelf:
    """What is to be said of a parser; rules: of which those are named that it feeds."""
    plan, definition = parser._plan, parser._definition
    return OnShelf(
        plan.parser,
        plan.version,
        definition.about,
        f"{definition.product.vendor} {definition.product.name}",
        {variant.name: _BETWEEN.join(one.class_caption for one in variant.mappings) for variant in plan.variants},
        {name: str(dtype) for name, dtype in plan.fields.items()},
        len(definition.cases),
        [case.raw for case in definition.cases],
        parser._document.name,
        ready.origin,
        [str(file) for file in ready.over],
        [need.rule.name for need in needs(rules, [parser]) if need.fed_by],
    )


def shelf(name: str | None = None, *, search: str | None = None, rules: Sequence[Rule] = ()) -> list[OnShelf]:
    """The ready parsers, or one of them. search: only those that have a word.

    Raises:
        UsageError: there is no parser of that name.
    """
    files = on_shelf()
    if name is not None:
        files = {name: _ready(name)}
    found = [of_parser(load(one.file), one, rules) for one in files.values()]
    return [one for one in found if search is None or one.has(search)]


def one_name(names: Sequence[str]) -> str | None:
    """The name that is given, if any.

    Raises:
        UsageError: there are several.
    """
    if len(names) > 1:
        raise UsageError(f"{', '.join(names)}: one parser is shown or copied at a time", "name one of them")
    return names[0] if names else None


def copied(name: str | None, output: Path) -> None:
    """Writes the file of a ready parser where one can go on from it.

    Raises:
        UsageError: it is not said which, there is none of that name, or the output is there already.
        OutputError: it cannot be written.
    """
    if name is None:
        raise UsageError("which parser is to be copied is not said", "name one: `kinglet library` lists them")
    if output.exists():
        raise UsageError(f"{output}: is there already", "choose another name")
    try:
        output.write_bytes(_ready(name).file.read_bytes())
    except OSError as error:
        raise OutputError(f"{output}: cannot be written: {error.strerror}") from None


def _ready(name: str) -> Ready:
    files = on_shelf()
    if name not in files:
        raise UsageError(
            f"no ready parser is called `{name}`", did_you_mean(name, files, "`kinglet library` lists them")
        )
    return files[name]
