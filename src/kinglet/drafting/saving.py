"""Where a draft goes."""

from __future__ import annotations

import sys
from pathlib import Path

from kinglet.drafting.report import Draft
from kinglet.errors import OutputError, UsageError


def ready_for(output: str | None, into: str | None) -> str | None:
    """The place of a draft, checked before the work: a new file, `-`, or the parser that is added to.

    Raises:
        UsageError: both are given.
        OutputError: the file is there already, or its folder is not.
    """
    if output is not None and into is not None:
        raise UsageError("both -o and --into are given", "--into writes to the parser that it names")
    if output is None or output == "-":
        return into if output is None else output
    path = Path(output)
    if path.exists():
        raise OutputError(f"{output}: is there already", "name another file, or add to a parser with --into")
    if not path.parent.is_dir():
        raise OutputError(f"{output}: there is no folder {path.parent}", "make it first")
    return output


def save(made: Draft, target: str) -> list[str]:
    """Writes the parser file, and one beside it for each further device; says where they are.

    Raises:
        OutputError: one cannot be written.
    """
    if target == "-":
        sys.stdout.write("---\n".join(one.text for one in (made, *made.others)))
        return ["-"] * (1 + len(made.others))
    path = Path(target)
    places = [path, *(path.with_stem(f"{path.stem}-{i}") for i in range(2, 2 + len(made.others)))]
    for place, one in zip(places, (made, *made.others), strict=True):
        try:
            place.write_text(one.text, encoding="utf-8", newline="\n")
        except OSError as error:
            raise OutputError(f"{place}: cannot be written: {error.strerror}", "name another file") from None
    return [str(place) for place in places]
