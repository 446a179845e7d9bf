"""The `events` of a parser file as a cutting rule."""

from __future__ import annotations

from kinglet.cutting.rule import CutRule
from kinglet.spec.schema import Csv, Events


def cut_rule(events: Events) -> CutRule:
    """The cutting rule of a parser file's `events`."""
    kind, value = next(iter(events.rules.items()), ("line", None))
    csv = value if isinstance(value, Csv) else Csv.model_validate({})
    return CutRule(
        kind,
        value if isinstance(value, str | int) and value is not True else None,
        events.max_bytes,
        events.max_lines,
        csv.delimiter,
        csv.quote,
        csv.header,
        events.idle,
        events.line_ends,
        events.encoding,
        events.lead,
        events.banner,
        events.header,
    )
