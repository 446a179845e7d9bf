"""Names of fields: which ones every event has already, and what a log's own value of such a name is called."""

from __future__ import annotations

import re

RESERVED = (
    "line",
    "raw",
    "state",
    "faults",
    "variant",
    "time",
    "time_rule",
    "time_notes",
    "file",
    "offset",
    "parser",
    "version",
    "id",
)
"""The columns of every event that are no fields."""
_OWN = "log_"


def field_of(name: str) -> str:
    """The field of a slot, a group or a key: called as the log calls it, but `log_id` for `id` and the like.

    >>> field_of("user"), field_of("id")
    ('user', 'log_id')
    """
    return f"{_OWN}{name}" if name in RESERVED else name


def key_of_own(name: str) -> str | None:
    """The key whose field has this name, where that is another: `id` of `log_id`; None for all other names."""
    bare = name.removeprefix(_OWN)
    return bare if bare != name and bare in RESERVED else None


def name_alike(name: str) -> str:
    """What is the same of names that differ in capitals and signs alone.

    >>> name_alike("Source IP") == name_alike("source_ip")
    True
    """
    return re.sub(r"\W+", "_", name).strip("_").casefold()
