"""Keys that stand more than once in a text: which occurrence is wanted.

`label` is the last one, `label[2]` the second, `label[-1]` the last, `label[]` all of them as a JSON list.
"""

from __future__ import annotations

import functools
import re
from collections.abc import Sequence
from typing import NamedTuple

_ONE_OF = re.compile(r"(?P<key>.+)\[(?P<place>-?[1-9][0-9]*)?\]", re.DOTALL)


class Taken(NamedTuple):
    """What each wanted key means among the keys of a text, by their places there.

    chosen: the place of each wanted key that is there. lists: the places of those of which all are wanted.
    left: keys that nothing took, each with its places. repeated: whether a key was asked for as if it stood once.
    items: of wanted keys that are items of a list, what leads from the list to them; the list stays among those left.
    """

    chosen: dict[str, int]
    lists: dict[str, tuple[int, ...]]
    left: dict[str, tuple[int, ...]]
    repeated: bool
    items: dict[str, str]


def selector(wanted: str) -> tuple[str, int | None]:
    """The key, and which of its occurrences: 0 all, -1 the last, None where it says nothing of it."""
    match = _ONE_OF.fullmatch(wanted)
    return (match["key"], int(match["place"] or 0)) if match else (wanted, None)


@functools.lru_cache(maxsize=4096)
def taken(keys: tuple[str, ...], wanted: tuple[str, ...], has_lists: bool = False) -> Taken:
    """What the wanted keys mean where a text has these, in order.

    has_lists: whether values may be lists, of which `[n]` is an item; elsewhere it is an occurrence of the key.
    """
    places: dict[str, list[int]] = {}
    for place, key in enumerate(keys):
        places.setdefault(key, []).append(place)
    chosen: dict[str, int] = {}
    lists: dict[str, tuple[int, ...]] = {}
    items: dict[str, str] = {}
    used: set[int] = set()
    repeated = False
    for name in wanted:
        if has_lists and "[" in name and name not in places:
            base = name[: name.index("[")]
            if base in places:
                chosen[name] = places[base][-1]
                items[name] = name[len(base) :]
            continue
        key, which = (name, None) if name in places else selector(name)
        here = places.get(key, [])
        if which == 0 and here:
            lists[name] = tuple(here)
            used.update(here)
        elif here and (which is None or abs(which) <= len(here)):
            chosen[name] = here[-1 if which is None else which - (which > 0)]
            repeated |= which is None and len(here) > 1
            used.add(chosen[name])
    rest = {key: tuple(place for place in here if place not in used) for key, here in places.items()}
    return Taken(chosen, lists, {key: here for key, here in rest.items() if here}, repeated, items)


def is_twice(keys: Sequence[str]) -> bool:
    """Whether a key stands more than once."""
    return len(set(keys)) < len(keys)
