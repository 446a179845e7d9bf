"""Ready parsers: those that ship, those of installed packages, and those of folders that the user names.

A package brings parsers by an entry point of the group `kinglet.parsers`, whose value is the dotted path of a folder
of parser files. None of its code is run to find them: the folder is looked up, not imported.
"""

from __future__ import annotations

import importlib.util
import os
from collections.abc import Iterator
from importlib.metadata import entry_points
from pathlib import Path
from typing import NamedTuple

FOLDERS = "KINGLET_PARSERS"
"""The environment variable that names folders of ready parsers."""
GROUP = "kinglet.parsers"
SHIPPED = "kinglet"


class Ready(NamedTuple):
    """The file of a ready parser. origin: the folder or package it comes from; over: files of its name behind it."""

    file: Path
    origin: str
    over: tuple[Path, ...] = ()


def ready_parsers() -> dict[str, Path]:
    """The files of the ready parsers, by name."""
    return {name: found.file for name, found in on_shelf().items()}


def on_shelf() -> dict[str, Ready]:
    """The ready parsers by name: one of a folder stands over one of a package, and this over one that ships."""
    found: dict[str, Ready] = {}
    for origin, folder in _places():
        for path in sorted(folder.glob("*.yaml")):
            first = found.get(path.stem)
            found[path.stem] = first._replace(over=(*first.over, path)) if first else Ready(path, origin)
    return dict(sorted(found.items()))


def ready_parser(name: str) -> Path | None:
    """The file of one of them."""
    found = on_shelf().get(name) if "/" not in name and os.sep not in name else None
    return found.file if found is not None else None


def _places() -> Iterator[tuple[str, Path]]:
    for name in os.environ.get(FOLDERS, "").split(os.pathsep):
        if name:
            yield name, Path(name)
    for point in sorted(entry_points(group=GROUP), key=lambda point: (point.name, point.value)):
        for folder in _folders(point.value):
            yield point.dist.name if point.dist is not None else point.name, folder
    yield SHIPPED, Path(__file__).parent.parent / "library"


def _folders(dotted: str) -> Iterator[Path]:
    """The folders of a dotted path. Only its first name is looked up, since to look up more would import it."""
    first, *rest = dotted.split(":")[0].split(".")
    try:
        found = importlib.util.find_spec(first)
    except (ImportError, ValueError):
        return
    for folder in (found.submodule_search_locations or ()) if found is not None else ():
        yield Path(folder, *rest)
