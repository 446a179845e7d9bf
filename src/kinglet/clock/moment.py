"""A moment given by a person: a case's `at`, a call's `at=`."""

from __future__ import annotations

from datetime import UTC, date, datetime


def as_moment(value: str | date | datetime) -> datetime:
    """An aware instant in UTC; a date alone means its noon, a stamp without zone means UTC.

    Raises:
        ValueError: the text is not an ISO 8601 date or timestamp.
    """
    if isinstance(value, str):
        try:
            value = date.fromisoformat(value) if len(value) == 10 else datetime.fromisoformat(value)
        except ValueError:
            raise ValueError(f"{value!r} is not a date; write it like `2026-03-05` or `2026-03-05T12:00:00Z`") from None
    if not isinstance(value, datetime):
        value = datetime(value.year, value.month, value.day, 12)
    return value.replace(tzinfo=UTC) if value.tzinfo is None else value.astimezone(UTC)
