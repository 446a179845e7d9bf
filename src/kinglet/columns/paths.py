"""Dotted paths of attributes, and the trees that they make: `resources[2].name` is the name of the second resource."""

from __future__ import annotations

import functools
import re
from collections.abc import Iterable, Iterator
from typing import Any

from kinglet.errors import InvalidError

_PART = re.compile(r"([^.\[\]]+)(?:\[([1-9][0-9]?)\])?")
Tree = dict[str, Any]
"""Names to values, to further trees, or to the items of a list."""


class Items(dict[int, Tree]):
    """The objects of a list, by their number from 1."""


def parts(path: str) -> Iterator[tuple[str, int | None]]:
    """The names along a path, each with the number of the object in its list, or None.

    Raises:
        ValueError: it is not a path.
    """
    for piece in path.split("."):
        match = _PART.fullmatch(piece)
        if match is None:
            raise InvalidError(
                f"`{path}` is not a path of attributes",
                "write `user.name`, or `resources[1].name` for a list, up to 99",
            )
        yield match[1], int(match[2]) if match[2] else None


def tree(leaves: Iterable[tuple[str, Any]]) -> Tree:
    """Leaves under the objects in which they stand."""
    root: Tree = {}
    for path, value in leaves:
        node = root
        *above, (name, _) = _split(path)
        for part, number in above:
            inner = node.setdefault(part, Items() if number else {})
            node = inner.setdefault(number or 1, {}) if isinstance(inner, Items) else inner
        node[name] = value
    return root


@functools.lru_cache(4096)
def _split(path: str) -> tuple[tuple[str, int | None], ...]:
    """The parts of a path; one of a field of the log may have brackets of its own, which mean nothing."""
    try:
        return tuple(parts(path))
    except ValueError:
        return tuple((piece, None) for piece in path.split("."))
