"""Rows whose columns a header of their log names: such a header makes a reading of its own of one."""

from __future__ import annotations

from kinglet.plan.data import Plan, Reading
from kinglet.structured.delimited import UnderHeader


def is_under_header(reading: Reading | None) -> bool:
    """Whether the columns of what it reads are named by a header."""
    return reading is not None and bool(reading.structures) and isinstance(reading.structures[0].structure, UnderHeader)


def reads_headers(plan: Plan) -> bool:
    """Whether the columns of what any of its readings reads are named by a header."""
    return is_under_header(plan.envelope) or any(is_under_header(variant.reading) for variant in plan.variants)


def under(reading: Reading, header: str | None) -> Reading:
    """The reading of rows under a header, where it is one of rows that a header names; otherwise the same."""
    first = reading.structures[0] if reading.structures else None
    if header is None or first is None or not isinstance(first.structure, UnderHeader):
        return reading
    named = first._replace(structure=first.structure.under(header))
    return reading._replace(structures=(named, *reading.structures[1:]))


def plan_under(plan: Plan, header: str | None) -> Plan:
    """The same of a plan."""
    if header is None or not reads_headers(plan):
        return plan
    variants = tuple(variant._replace(reading=under(variant.reading, header)) for variant in plan.variants)
    envelope = under(plan.envelope, header) if plan.envelope is not None else None
    return plan._replace(envelope=envelope, variants=variants)
