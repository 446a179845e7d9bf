"""A case or a variant for a raw event that was chosen in an editor."""

from __future__ import annotations

from kinglet.drafting.cases import whole_case
from kinglet.drafting.editing import inserted
from kinglet.drafting.leftovers import leftovers
from kinglet.drafting.writing import case_lines
from kinglet.errors import UsageError
from kinglet.parser import load_text


def with_case(text: str, name: str, raw: str) -> str:
    """The file with a case for an event, which expects what the parser reads of it now.

    Raises:
        ParserFileError: the file cannot be loaded.
    """
    parser = load_text(text, name)
    case = whole_case(parser, parser.parse([raw]).events.row(0, named=True))
    return inserted(text, "cases", list(case_lines(case)))


def with_variant(text: str, name: str, raw: str) -> str:
    """The file with a variant that reads an event.

    Raises:
        ParserFileError: the file cannot be loaded.
        UsageError: a variant reads the event already, or the envelope does not.
    """
    result = load_text(text, name).parse([raw])
    state = str(result.events["state"][0])
    if result.events["variant"][0] is not None:
        raise UsageError(f"`{result.events['variant'][0]}` reads this event already", "add a case for it")
    found = [one.variant for one in leftovers(result, state) if one.variant]
    if not found:
        raise UsageError("the envelope does not match this event", "change the envelope first")
    return inserted(text, "variants", found[0].splitlines(), before="cases")
