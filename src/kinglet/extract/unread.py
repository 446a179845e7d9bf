"""Why a text does not have a structure."""

from __future__ import annotations

from kinglet.extract.forms import Structure
from kinglet.extract.json_objects import JsonObjects, NoJsonError, read_object

_WORDS = {
    "pairs": "no pairs of keys and values from here on",
    "delimited": "text behind the quotes of a value, or quotes that are not closed",
}


def unread(structure: Structure, text: str) -> tuple[int, str]:
    """The character at which that shows, and what is wrong there."""
    if isinstance(structure, JsonObjects):
        try:
            read_object(text)
        except NoJsonError as error:
            return error.at, f"no JSON object: {error.message} here"
        return 0, "no JSON object"
    low, high = 0, len(text)
    while low < high:  # the shortest beginning after which nothing fits
        middle = (low + high + 1) // 2
        cut = text[:middle].rstrip()
        low, high = (middle, high) if structure.values(cut) is not None else (low, middle - 1)
    return low, _WORDS.get(structure.name, "something else")
