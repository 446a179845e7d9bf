"""Builds the table of zone abbreviations from the IANA time zone database of this machine.

An abbreviation that has meant one offset since 2000, in every zone that uses it, has that offset;
one that has meant several is ambiguous. Run `python tools/build_abbreviations.py` and commit the
file when the database has changed.
"""

from __future__ import annotations

import pathlib
import zoneinfo
from collections import defaultdict
from datetime import UTC, datetime, timedelta

FIRST, LAST = 2000, 2026
ALSO = {"AST": 180, "BST": 360, "GST": 240, "UT": 0, "Z": 0}
"""Meanings in use that the database writes as numbers: Arabia, Bangladesh, the Gulf; and those of RFC 5322."""
TARGET = pathlib.Path(__file__).parents[1] / "src" / "kinglet" / "timestamps" / "abbreviations.py"


def offsets_of_names() -> dict[str, set[int]]:
    """The offsets, in minutes, that each abbreviation of letters has meant."""
    found: dict[str, set[int]] = defaultdict(set)
    moments = [
        datetime(year, month, day, 12, tzinfo=UTC)
        for year in range(FIRST, LAST + 1)
        for month in range(1, 13)
        for day in (1, 15)
    ]
    for name in zoneinfo.available_timezones():
        zone = zoneinfo.ZoneInfo(name)
        for moment in moments:
            local = moment.astimezone(zone)
            word, offset = local.tzname() or "", local.utcoffset() or timedelta()
            if word.isalpha():
                found[word.upper()].add(int(offset.total_seconds()) // 60)
    for name, minutes in ALSO.items():
        found[name].add(minutes)
    return found


def main() -> None:
    found = offsets_of_names()
    plain = {name: next(iter(offsets)) for name, offsets in sorted(found.items()) if len(offsets) == 1}
    several = {name: tuple(sorted(offsets)) for name, offsets in sorted(found.items()) if len(offsets) > 1}
    lines = [
        '"""Zone abbreviations, built by tools/build_abbreviations.py from the IANA time zone database."""',
        "",
        "# fmt: off",
        "OFFSETS: dict[str, int] = {",
        *(f'    "{name}": {minutes},' for name, minutes in plain.items()),
        "}",
        f'"""Minutes east of UTC of abbreviations that have meant one offset since {FIRST}."""',
        "",
        "SEVERAL: dict[str, tuple[int, ...]] = {",
        *(f'    "{name}": {offsets},' for name, offsets in several.items()),
        "}",
        '"""Those that have meant several; a parser has to say which."""',
    ]
    TARGET.write_text("\n".join(lines) + "\n", encoding="utf-8")


if __name__ == "__main__":
    main()
