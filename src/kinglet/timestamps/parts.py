"""Stamps taken apart by a form's regex: a column for each part of the moment.

This reads every form; `kinglet.timestamps.fixed_layouts` reads the common ones of large columns to the same
parts, many times quicker.
"""

from __future__ import annotations

import polars as pl

from kinglet.timestamps.directives import FormatPart
from kinglet.timestamps.formats import FormatForm

MONTHS = ("jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec")
WEEKDAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
_LONG_MONTHS = (
    "january", "february", "march", "april", "may", "june",
    "july", "august", "september", "october", "november", "december", "sept",
)  # fmt: skip
_LONG_WEEKDAYS = ("monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday")
NAMES = {
    "month_name": {name: MONTHS.index(name[:3]) + 1 for name in (*MONTHS, *_LONG_MONTHS)},
    "weekday_name": {name: WEEKDAYS.index(name[:3]) for name in (*WEEKDAYS, *_LONG_WEEKDAYS)},
    "half": {"am": 0, "pm": 12, "a.m.": 0, "p.m.": 12, "a.m": 0, "p.m": 12, "am.": 0, "pm.": 12},
}

Parts = dict[str, pl.Series]
"""Columns by the names in `directives`: whole numbers, offsets in seconds, fractions in nanoseconds, zones as text.

Parts that are put together already are `clock`, microseconds since midnight, `beyond`, nanoseconds
beyond them, and `day_number`, days since 1970-01-01.
"""


def by_regex(text: pl.Series, form: FormatForm) -> tuple[Parts, pl.Series]:
    """The parts of stamps, none where no stamp has this form, and a mask of those that have."""
    frame = text.str.extract_groups(form.regex).struct.unnest()
    always = next((token.directive.part for token in form.tokens if isinstance(token, FormatPart)), None)
    matched = frame[always].is_not_null() if always else text.str.contains(form.regex).fill_null(False)
    if not matched.any():  # as of most of many forms
        frame = frame.clear()
    return {name: number(frame[name], name) for name in frame.columns}, matched


def number(text: pl.Series, part: str) -> pl.Series:
    """The text of a part as its number; null where it is none."""
    if part == "zone":
        return text
    if part == "offset":
        return offset(text)
    if part == "fraction":
        return text.str.pad_end(9, "0").cast(pl.Int32, strict=False)
    if part == "epoch":
        return text.cast(pl.Int64, strict=False)
    if part in NAMES:
        return (
            text.str.to_lowercase()
            .replace_strict(NAMES[part], default=-1, return_dtype=pl.Int32)
            .set(text.is_null(), None)
        )
    return text.str.strip_chars_start(" ").cast(pl.Int32, strict=False)


def offset(text: pl.Series) -> pl.Series:
    """Seconds east of UTC; an offset that no clock has is a day, which is refused later."""
    found = text.unique().drop_nulls()
    values = pl.Series([_seconds(value) for value in found], dtype=pl.Int32)
    return text.replace_strict(found, values, default=None, return_dtype=pl.Int32)


def _seconds(text: str) -> int:
    if text in "Zz":
        return 0
    hours, minutes = int(text[1:3]), int(text[-2:]) if len(text) > 3 else 0
    if hours > 23 or minutes > 59:
        return 86_400
    return (hours * 3600 + minutes * 60) * (-1 if text[0] == "-" else 1)
