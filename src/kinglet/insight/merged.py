"""A parser file with what it extends, as one file."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

from kinglet.discover.yaml_text import scalar
from kinglet.spec.document import KeyPath

if TYPE_CHECKING:
    from kinglet.parser import Parser

_BY_KEY = ("types", "parts", "templates", "event", "set", "translate")


def merged_text(parser: Parser) -> str:
    """The file as it would be written without `extends`; items say where they were written."""
    lines: list[str] = []
    for key, value in parser._document.values.items():
        lines += _lines(parser, (key,), value, "")
    return "\n".join(lines) + "\n"


def _lines(parser: Parser, path: KeyPath, value: Any, indent: str) -> Iterator[str]:
    key = path[-1]
    if isinstance(value, dict) and value and (key in _BY_KEY or len(path) == 1):
        yield f"{indent}{scalar(key)}:"
        for name, item in value.items():
            yield from _lines(parser, (*path, name), item, indent + "  ")
    elif isinstance(value, list) and value and len(path) == 1 and all(isinstance(item, dict) for item in value):
        yield f"{indent}{key}:"
        for i, item in enumerate(value):
            yield from _item(parser, (*path, i), item)
    else:
        yield f"{indent}{scalar(key)}: {scalar(value)}"


def _item(parser: Parser, path: KeyPath, values: dict[str, Any]) -> Iterator[str]:
    """An item of a list, with the place where it begins."""
    lines = [line for key, value in values.items() for line in _lines(parser, (*path, key), value, "    ")]
    place = parser._document.place(path)
    lines[0] = f"  - {lines[0].lstrip()}    # {place.file}:{place.line}"
    yield from lines
