"""Every reason for which an event is not complete: one row a fault, from which messages and documents are made.

A fault of an event that concerns a field, a time rule or a step has its name behind a colon: `bad-value:port`.
"""

from __future__ import annotations

from typing import Literal, NamedTuple

from kinglet.structures import STRUCTURES

Of = Literal["", "FIELD", "RULE", "REASON"]


class Fault(NamedTuple):
    """stage: where it arises; of: what stands behind the colon. words: what is said of an event that has it.

    about: what the documents say, where that is more.
    """

    stage: str
    of: Of
    words: str
    about: str = ""


def _structure(name: str) -> Fault:
    return Fault("extract", "FIELD", f"is no {name}", f"the text of a slot is no {name}; see [structure](#structure)")


FAULTS: dict[str, Fault] = {
    "no-start": Fault("cut", "", "these lines stand before the first line that starts an event"),
    "too-long": Fault("cut", "", "longer than `events.max_bytes`; cut into pieces"),
    "too-many-lines": Fault("cut", "", "of more lines than `events.max_lines`; cut into pieces"),
    "cut-off": Fault("cut", "", "its end is missing"),
    "stray-text": Fault("cut", "", "stands between records and belongs to none"),
    "bad-count": Fault("cut", "", "the count of bytes before it is missing or wrong"),
    "after-pause": Fault("cut", "", "goes on with a line that was given out before its end had come"),
    "bad-bytes": Fault("cut", "", "has bytes that the encoding of the log does not know; they show as \ufffd"),
    "mixed-encoding": Fault("cut", "", "looks like UTF-8, in a log that was told as cp1252; name the encoding"),
    "damaged": Fault("cut", "", "the packed log is damaged behind it; what follows could not be read"),
    "no-match": Fault(
        "extract", "", "no pattern matches", "neither the envelope nor, without one, any variant matched"
    ),
    "unknown-kind": Fault(
        "extract", "", "no variant has its kind", "no variant has this value of the kind slot, or these of several"
    ),
    "no-variant": Fault(
        "extract", "", "no variant of its kind matches", "there are variants of this kind, none matched"
    ),
    "too-slow": Fault("extract", "", "a regex with look-around or the like took longer over it than it may"),
    **{f"bad-{name}": _structure(row.noun) for name, row in STRUCTURES.items()},
    "repeated-key": Fault("extract", "FIELD", "a key stands in it more than once; the last one counts"),
    "no-header": Fault(
        "extract", "", "is a row whose header is not known", "a row of `names: header` of which no header is known"
    ),
    "other-columns": Fault(
        "extract",
        "",
        "stands under a header that has other columns, or these in another order",
        "a row below a header that names none of the columns that are fields, or in which two "
        "or more of the `names` stand at other places; `names: header` reads the latter",
    ),
    "renamed-column": Fault(
        "extract",
        "FIELD",
        "its column is called by a similar name in the header; `keys` may say that",
        "a row of `names: header` below a header that has the column of a field under a name with other capitals, "
        "blanks or signs; `keys` may say that, and `COALESCE` in a step take what is there",
    ),
    "few-columns": Fault("extract", "FIELD", "has fewer columns than there are names"),
    "many-columns": Fault("extract", "FIELD", "has more columns than there are names; those are kept in `more`"),
    "bad-value": Fault("convert", "FIELD", "is no value of its type", "the text of a field is not valid for its type"),
    "no-time": Fault("time", "", "no stamp where the time rules look for one"),
    "bad-time": Fault("time", "RULE", "its stamp cannot be read"),
    "implausible-time": Fault("time", "RULE", "its stamp lies outside of `clock.earliest` and `latest`"),
    "no-date": Fault("time", "RULE", "its stamp has no date, and no event before it has one"),
    "not-read": Fault("steps", "FIELD", "a step `parse` cannot read the field"),
    "dropped": Fault("steps", "REASON", "a step dropped it"),
    "no-parser": Fault("several", "", "none of the parsers reads it", "none of [several parsers](several.md) reads it"),
}
"""The faults in the order of the stages; `too-long` has a field behind it where a step made that too long."""


def table() -> str:
    """The table of the documents."""
    rows = ["| fault | arises in | means |", "|---|---|---|"]
    for code, fault in FAULTS.items():
        rows.append(f"| `{code}{':' if fault.of else ''}{fault.of}` | {fault.stage} | {fault.about or fault.words} |")
    return "\n".join(rows)
