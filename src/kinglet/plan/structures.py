"""The structure that a form, or a slot of a pattern, is read as."""

from __future__ import annotations

from kinglet.lazy import lazy
from kinglet.spec.forms import ReadingForm
from kinglet.spec.section import Section
from kinglet.structured.by_form import Structure
from kinglet.structures import STRUCTURES


def structure_of_slot(kind: str) -> Structure:
    """The structure of slots of a type, with what is usual for it."""
    found: Structure = STRUCTURES[kind].load()()
    return found


def structure_of(form: ReadingForm) -> Structure:
    """The structure that a text of a form is, by what the form says of it: a section's keys are its arguments."""
    name, given = next((name, given) for name, given in form.given_forms.items() if name in STRUCTURES)
    reader = STRUCTURES[name].load()
    arguments = dict(given) if isinstance(given, Section) else {}
    if form.has_header:
        reader = lazy("kinglet.structured", "delimited:UnderHeader")
        del arguments["names"]
    found: Structure = reader(**arguments) if arguments or given is True else reader(given)
    return found
