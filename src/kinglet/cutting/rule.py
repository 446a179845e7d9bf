"""A cutting rule, and what finds the events that it says."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, NamedTuple

from kinglet.lazy import lazy
from kinglet.source.logs import IDLE_SECONDS
from kinglet.spec.schema import DEFAULT_MAX_BYTES, cut_rules

if TYPE_CHECKING:
    from kinglet.cutting.boundaries.base import Boundary


class CutRule(NamedTuple):
    """What breaks a log into events: the rule by name, its argument, and the limits.

    kind: what parser files call it. value: its regex, separator, name, length or key. csv: delimiter,
    quote and whether the first row is a header. idle: seconds after which what has come of an
    event that is still being written is given out. line_ends: `auto`, `lf` (also CRLF) or `any`
    (also CR). encoding: None where it is told by content. lead, banner: regexes of lines that belong to the event
    behind them, and of lines by themselves before the first event. header_line: regex at the start of lines that name
    the columns of those below.
    """

    kind: str = "line"
    value: str | int | None = None
    max_bytes: int = DEFAULT_MAX_BYTES
    max_lines: int | None = None
    delimiter: str = ","
    quote: str = '"'
    header: bool = True
    idle: float = IDLE_SECONDS
    line_ends: str = "auto"
    encoding: str | None = None
    lead: str | None = None
    banner: str | None = None
    header_line: str | None = None


def boundary_of(rule: CutRule) -> Boundary:
    """What finds the events of a rule: `cut_by` of its row in `Events`, imported when a log needs it."""
    made: Callable[[CutRule], Boundary] = lazy("kinglet.cutting.boundaries", cut_rules()[rule.kind].cut_by)
    return made(rule)
