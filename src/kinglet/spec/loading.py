"""A parser file from a path, a text or a mapping, with every problem it has."""

from __future__ import annotations

import os
import types
import typing
from collections.abc import Iterator
from pathlib import Path
from typing import Any, TypeVar

from pydantic import BaseModel, ValidationError
from pydantic_core import ErrorDetails

from kinglet.errors import ParserFileError, Place, Problem, did_you_mean, parts_of
from kinglet.spec import document
from kinglet.spec.document import Document, KeyPath
from kinglet.spec.extending import extended
from kinglet.spec.ready import ready_parser, ready_parsers
from kinglet.spec.schema import ParserFile

_OTHER_WORDS = {
    "field": "from", "slot": "from", "source": "from", "tz": "zone", "timezone": "zone", "time_zone": "zone",
    "fmt": "format", "formats": "format", "layout": "format", "target": "to", "output": "to", "prefix": "after",
    "behind": "after", "epoch": "since", "origin": "since", "condition": "when", "if": "when", "mapping": "event",
    "match": "pattern", "tests": "cases",
}  # fmt: skip
"""Keys as others would call them, and what they are called here."""
_WANTED = {
    "string_type": "must be text",
    "int_type": "must be a whole number",
    "float_type": "must be a number",
    "bool_type": "must be true or false",
    "list_type": "must be a list",
    "dict_type": "must be a mapping of keys to values",
    "model_type": "must be a mapping of keys to values",
    "model_attributes_type": "must be a mapping of keys to values",
    "too_short": "must not be empty",
}


_TYPES = ("str", "int", "float", "bool")


def read(source: str | os.PathLike[str] | dict[str, Any]) -> tuple[ParserFile, Document]:
    """Loads a parser file and checks it key by key.

    source is a path, the name of a ready parser, YAML text (with a line break) or a mapping.

    Raises:
        ParserFileError: with all problems at once, each with file, line and column.
    """
    return checked(_document(source))


def read_without_cases(path: str | os.PathLike[str]) -> tuple[ParserFile, Document]:
    """Loads a parser file but for its cases, which are most of it and are not needed to parse; the errors of `read`."""
    try:
        return checked(document.from_file(Path(path), cases=False), cases=False)
    except ParserFileError:
        return checked(document.from_file(Path(path)))


def checked(found: Document, *, cases: bool = True) -> tuple[ParserFile, Document]:
    """Checks the text of a parser file key by key, with what it extends; the errors of `read`.

    cases: whether those of what it extends are wanted.
    """
    found = extended(found, cases=cases)
    try:
        return _whole(found.values).model_validate(found.values), found
    except ValidationError as error:
        raise ParserFileError(_problems(error, found)) from None


S = TypeVar("S", bound=BaseModel)


def read_other(path: Path, section: type[S], what: str) -> tuple[S, Document]:
    """Loads a file of another kind than a parser and checks it key by key; what: its kind in words, such as `rule`.

    Raises:
        ParserFileError: with all problems at once, each with file, line and column.
    """
    found = document.from_file(path, what)
    try:
        return section.model_validate(found.values), found
    except ValidationError as error:
        raise ParserFileError(_problems(error, found, section)) from None


def _whole(values: Any) -> type[ParserFile]:
    """The section that a file is; few have steps, whose sections take their time to get ready."""
    if not isinstance(values, dict) or "steps" not in values:
        return ParserFile
    from kinglet.spec.steps import FileWithSteps

    return FileWithSteps


def _document(source: str | os.PathLike[str] | dict[str, Any]) -> Document:
    if isinstance(source, dict):
        return document.from_mapping(source, "<mapping>")
    if isinstance(source, str) and "\n" in source:
        return document.from_text(source, "<text>")
    path = Path(source)
    ready = ready_parser(str(source)) if not path.exists() else None
    if ready is not None:
        path = ready
    elif not path.exists() and path.suffix == "":
        hint = did_you_mean(
            str(source), ready_parsers(), "check the path, or name a ready parser: " + ", ".join(ready_parsers())
        )
        raise ParserFileError([Problem(Place(str(source)), "", "no such parser file", hint)])
    return document.from_file(path)


def _problems(error: ValidationError, found: Document, section: type[BaseModel] | None = None) -> Iterator[Problem]:
    """One problem for each place: a value that fits none of several types is said once."""
    seen: set[tuple[Any, str]] = set()
    details = error.errors(include_url=False)
    for detail in details:
        above = detail["loc"][:-1]
        if _is_of_other_type(detail) and any(
            other is not detail and other["loc"][: len(above)] == above for other in details
        ):
            continue
        problem = _problem(detail, found, section)
        if (problem.place, problem.key) not in seen:
            seen.add((problem.place, problem.key))
            yield problem


def _is_of_other_type(detail: ErrorDetails) -> bool:
    """Whether a value is judged as what it was not meant to be, such as a mapping as text."""
    return detail["type"] in ("string_type", "literal_error") and isinstance(detail["input"], dict)


def _problem(detail: ErrorDetails, found: Document, section: type[BaseModel] | None) -> Problem:
    path, value = _real_path(detail["loc"], found.values)
    kind, context = detail["type"], detail.get("ctx", {})
    if kind == "missing":
        parent = path if path in found.starts else path[:-1]
        problem = found.problem(parent, f"the key `{detail['loc'][-1]}` is missing", key=True)
        return Problem(problem.place, document.dotted(path), problem.message, _missing_hint(detail["loc"]))
    if kind == "extra_forbidden":
        known = _known_keys(path[:-1], section)
        same = _OTHER_WORDS.get(str(path[-1]))
        if same in known:
            return found.problem(path, "no such key", f"write `{same}`", key=True)
        hint = did_you_mean(str(path[-1]), known, "known here: " + ", ".join(sorted(known)))
        return found.problem(path, "no such key", hint, key=True)
    if kind == "literal_error":
        return found.problem(path, f"is {value!r}", f"must be {context['expected']}")
    if kind == "string_pattern_mismatch":
        wanted = {"version": "1.2.0", "xml": "Event"}.get(str(path[-1]), "pump-panel")
        return found.problem(path, f"{value!r} is not in the right form", f"write it like `{wanted}`")
    if kind == "value_error":
        message, hint = parts_of(context["error"])
        return found.problem(path, message, hint, key=isinstance(value, dict))
    if kind == "greater_than_equal":
        return found.problem(path, f"is {value!r}", f"must be at least {context['ge']}")
    hint = _WANTED.get(kind, detail["msg"])
    if kind == "string_type" and isinstance(value, int | float):
        hint += f': put it in quotes, "{found.numbers.get(path, value)}"'
    return found.problem(path, f"is {_shown(value)}", hint)


def _missing_hint(loc: tuple[str | int, ...]) -> str:
    examples = {
        "kinglet": "kinglet: 1",
        "parser": "parser: pump-panel",
        "version": "version: 1.0.0",
        "variants": "variants: [{name: any, pattern: '{body:rest}'}]",
        "product": "product: {vendor: Brackwater, name: PumpPanel}",
    }
    example = examples.get(str(loc[-1]))
    return f"add `{example}`" if example else ""


def _shown(value: Any) -> str:
    if value is None:
        return "empty"
    names = {dict: "a mapping", list: "a list", str: "the text", bool: "the value"}
    name = names.get(type(value), "the number")
    return name if isinstance(value, (dict, list)) else f"{name} {value!r}"


def _real_path(loc: tuple[str | int, ...], values: Any) -> tuple[KeyPath, Any]:
    """The location without the names of types that the validator puts between the keys."""
    path: list[str | int] = []
    here = values
    for part in loc:
        if isinstance(part, str) and (part in _TYPES or "[" in part):
            continue
        inside = part < len(here) if isinstance(here, list) and isinstance(part, int) else False
        if inside or (isinstance(here, dict) and part in here):
            here = here[part]
        elif isinstance(here, dict) and part == loc[-1]:
            here = None
        else:
            continue
        path.append(part)
    return tuple(path), here


def _known_keys(path: KeyPath, whole: type[BaseModel] | None) -> list[str]:
    """The keys that the section at a path knows; whole: what the file is, where it is no parser."""
    section: type[BaseModel] = whole or _whole(dict.fromkeys(path))
    for part in path:
        if isinstance(part, int):
            continue
        for name, info in section.model_fields.items():
            if (info.alias or name) == part:
                section = _section(info.annotation) or section
    return [info.alias or name for name, info in section.model_fields.items()]


def _section(annotation: Any) -> type[BaseModel] | None:
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return annotation
    if typing.get_origin(annotation) in (list, types.UnionType, typing.Union, typing.Annotated):
        for argument in typing.get_args(annotation):
            if found := _section(argument):
                return found
    return None
