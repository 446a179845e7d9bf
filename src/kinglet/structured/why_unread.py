"""Why a text does not have a structure."""

from __future__ import annotations

from kinglet.structured.by_form import Structure
from kinglet.structured.json_objects import JsonObjects, read_object
from kinglet.structured.unreadable import UnreadableError
from kinglet.structured.xml_elements import XmlElements, read_element

_WORDS = {
    "pairs": "no pairs of keys and values from here on",
    "delimited": "text behind the quotes of a value, or quotes that are not closed",
    "sdata": "no structured data from here on",
}


def unread(structure: Structure, text: str) -> tuple[int, str]:
    """The character at which that shows, and what is wrong there."""
    try:
        if isinstance(structure, JsonObjects):
            what = "no JSON object"
            read_object(text)
        elif isinstance(structure, XmlElements):
            what = "no XML element"
            read_element(text, structure.by)
    except UnreadableError as error:
        return error.at, f"{what}: {error.message} here"
    if isinstance(structure, JsonObjects | XmlElements):
        return 0, what
    if structure.name == "block":
        return 0, "no line with a label, such as `Name: value`"
    low, high = 0, len(text)
    while low < high:  # the shortest beginning after which nothing fits
        middle = (low + high + 1) // 2
        cut = text[:middle].rstrip()
        low, high = (middle, high) if structure.values(cut) is not None else (low, middle - 1)
    return low, _WORDS.get(structure.name, "something else")
