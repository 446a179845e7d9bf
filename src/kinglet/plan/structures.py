"""The structure that a form, or a slot of a pattern, is read as."""

from __future__ import annotations

from collections.abc import Mapping

from kinglet.spec.forms import ReadingForm, XmlForm
from kinglet.structured.blocks import Blocks
from kinglet.structured.by_form import Structure
from kinglet.structured.delimited import Delimited
from kinglet.structured.fixed import Fixed
from kinglet.structured.json_objects import JsonObjects
from kinglet.structured.pairs import Pairs
from kinglet.structured.structured_data import StructuredData
from kinglet.structured.xml_elements import XmlElements

IN_SLOTS: Mapping[str, type[Structure]] = {
    "json": JsonObjects,
    "pairs": Pairs,
    "xml": XmlElements,
    "block": Blocks,
    "sdata": StructuredData,
}
"""The structures that slots can have, by their types."""


def structure_of(form: ReadingForm) -> Structure:
    """The structure that a text of a form is; of one that names no structure, columns at fixed positions."""
    if form.json_ is not None:
        return JsonObjects()
    if form.pairs is not None:
        return (
            Pairs()
            if form.pairs is True
            else Pairs(
                form.pairs.between,
                form.pairs.equals,
                form.pairs.quote,
                open_values=form.pairs.open_values,
                escapes=form.pairs.escapes,
            )
        )
    if form.delimited is not None:
        return Delimited(form.delimited.names, form.delimited.delimiter, form.delimited.quote)
    if form.xml is not None:
        return XmlElements(form.xml.by if isinstance(form.xml, XmlForm) else None)
    if form.block is not None:
        return Blocks() if form.block is True else Blocks(form.block.equals, form.block.labels)
    return Fixed(form.fixed or {})
