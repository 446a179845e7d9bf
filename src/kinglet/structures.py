"""The structures that text may have, a row each, from which come slot types, faults, and what reads them.

Those with a `slot` are types of slots too. The keys of a parser file that name a structure are rows of
`kinglet.spec.forms.ReadingForm`.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, NamedTuple

from kinglet.lazy import lazy


class InSlot(NamedTuple):
    """A structure as a type of slots.

    shape: a regex of its text; where it is empty, the slot reads on until what follows it begins, and may be empty.
    """

    about: str
    example: str
    shape: str = ""


class StructureRow(NamedTuple):
    """noun: what a text that has the structure is called. reader: what reads it, as `MODULE:CLASS` within
    `kinglet.structured`.
    """

    noun: str
    reader: str
    slot: InSlot | None = None

    def load(self) -> type[Any]:
        """The class that reads it, a `kinglet.structured.by_form.Structure`."""
        found: type[Any] = lazy("kinglet.structured", self.reader)
        return found


STRUCTURES: Mapping[str, StructureRow] = {
    "json": StructureRow(
        "JSON object",
        "json_objects:JsonObjects",
        InSlot("a JSON object (RFC 8259), whose keys become fields", '{"tide": 3.2}', r"\{(?s:.*)\}"),
    ),
    "pairs": StructureRow(
        "list of pairs",
        "pairs:Pairs",
        InSlot("pairs such as `user=m.okoro`, whose keys become fields", "tide=3.2 ok"),
    ),
    "delimited": StructureRow("row of values", "delimited:Delimited"),
    "xml": StructureRow(
        "XML element",
        "xml_elements:XmlElements",
        InSlot("an XML element, whose elements and attributes become fields", "<tide>3.2</tide>", "<(?s:.*)>"),
    ),
    "block": StructureRow(
        "labelled block",
        "blocks:Blocks",
        InSlot("lines such as `Tide: 3.2`, whose labels become fields", "Tide: 3.2", "(?s:.+)"),
    ),
    "fixed": StructureRow("row of columns at fixed places", "fixed:Fixed"),
    "sdata": StructureRow(
        "structured data of RFC 5424",
        "structured_data:StructuredData",
        InSlot(
            "structured data (RFC 5424), whose parameters become fields",
            '[tide@32473 height="3.2"]',
            r"(?:-|(?:\[(?:[^\"\]]|\"(?:[^\"\\]|\\(?s:.))*\")*\])+)",
        ),
    ),
}
"""The structures by what parser files call them."""
