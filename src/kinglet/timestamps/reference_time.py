"""Moments and spans given by a person: a case's `at`, a call's `at=`, limits in a parser."""

from __future__ import annotations

import re
from datetime import UTC, date, datetime, timedelta

from kinglet.errors import InvalidError

_SPAN = re.compile(r"([0-9]+(?:\.[0-9]+)?) *(ms|seconds?|s|minutes?|min|hours?|h|days?|d)")
_SECONDS = {"ms": 0.001, "s": 1, "m": 60, "h": 3600, "d": 86_400}
"""By a unit, or its first letter."""

_LONGEST = 365_250 * 86_400

_LIKE = "write it like `2026-03-05` or `2026-03-05T12:00:00Z`"


def as_moment(value: str | date | datetime) -> datetime:
    """An aware instant in UTC; a date alone means its noon, a stamp without zone means UTC.

    Raises:
        ValueError: the text is not an ISO 8601 date or timestamp.
    """
    if isinstance(value, str):
        try:
            value = date.fromisoformat(value) if len(value) == 10 else datetime.fromisoformat(value)
        except ValueError:
            raise InvalidError(f"{value!r} is not a date", _LIKE) from None
    if not isinstance(value, date):
        raise InvalidError(f"{value!r} is not a date", _LIKE)
    if not isinstance(value, datetime):
        value = datetime(value.year, value.month, value.day, 12)
    return value.replace(tzinfo=UTC) if value.tzinfo is None else value.astimezone(UTC)


def is_moment(value: str) -> bool:
    """Whether a text is a date or a stamp of ISO 8601."""
    try:
        as_moment(value)
    except ValueError:
        return False
    return True


def as_span(value: str) -> timedelta | None:
    """A length of time such as `2 days`, `3 hours`, `90 min` or `30 s`; None where the text is none."""
    match = _SPAN.fullmatch(value.strip())
    if match is None:
        return None
    seconds = float(match[1]) * _SECONDS.get(match[2], _SECONDS[match[2][0]])
    if seconds > _LONGEST:
        raise InvalidError(f"{value!r} is longer than the 1,000 years that a span may be", "write a date")
    return timedelta(seconds=seconds)
