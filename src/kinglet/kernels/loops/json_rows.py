"""Columns to JSON objects, a line a row: the loop. How its tables are made: `kinglet.columns.json_rows`."""

from __future__ import annotations

from typing import Any

from kinglet.kernels.loops.pointers import bytes_at, loop, move_16, numbers_at, small_numbers_at
from kinglet.kernels.loops.texts import is_valid, put_escaped, put_raw, source_of

# operations, each of OP numbers: what, where its key stands among the literals, how long it is, whether it begins with
# a comma that may have to go, a column; the key of a text or an instant ends with the opening quote
OP = 5
LITERAL, OPEN, CLOSE_OBJECT, CLOSE_LIST, RAW, TEXT, NUMBER, INSTANT = range(8)
# of a column: views, buffers of long text, validity, first row
COLUMN = 4
_QUOTE, _BRACE, _BRACKET = 34, 123, 91


@loop
def _literal(at: int, literals: int, start: int, length: int, may_be_first: int) -> int:
    """Fixed text; its comma is left out behind an opening brace or bracket.

    Up to 16 bytes more are written than it has, which what comes next covers.
    """
    if may_be_first != 0:
        before = bytes_at(at - 1)[0]
        if before in (_BRACE, _BRACKET):
            start += 1
            length -= 1
    for i in range(0, length, 16):
        move_16(at + i, literals + start + i)
    return at + length


@loop
def _number(at: int, value: int) -> int:
    out = bytes_at(at)
    start = 0
    if value < 0:
        out[0] = 45
        start = 1
        # the lowest number has no opposite
        if value == -9223372036854775808:
            out[1] = 57
            start = 2
            value = 223372036854775808
        else:
            value = -value
    digits = 1
    above = 10
    while digits < 19 and value >= above:
        digits += 1
        above *= 10
    for i in range(start + digits - 1, start - 1, -1):
        rest = value // 10
        out[i] = 48 + value - 10 * rest
        value = rest
    return at + start + digits


@loop
def _padded(at: int, value: int, digits: int, behind: int) -> int:
    """A number with zeros before it, and a sign behind it."""
    out = bytes_at(at)
    for i in range(digits - 1, -1, -1):
        rest = value // 10
        out[i] = 48 + value - 10 * rest
        value = rest
    out[digits] = behind
    return at + digits + 1


@loop
def _instant(at: int, value: int) -> int:
    """Microseconds since 1970 as RFC 3339 text in UTC; days to dates by the Gregorian cycle of 400 years."""
    seconds = value // 1_000_000
    fraction = value - seconds * 1_000_000
    days = seconds // 86_400
    left = seconds - days * 86_400
    days += 719_468
    era = days // 146_097
    of_era = days - era * 146_097
    year_of_era = (of_era - of_era // 1_460 + of_era // 36_524 - of_era // 146_096) // 365
    of_year = of_era - (365 * year_of_era + year_of_era // 4 - year_of_era // 100)
    from_march = (5 * of_year + 2) // 153
    day = of_year - (153 * from_march + 2) // 5 + 1
    month = from_march + 3 if from_march < 10 else from_march - 9
    year = year_of_era + era * 400 + (1 if month <= 2 else 0)
    at = _padded(at, year, 4, 45)
    at = _padded(at, month, 2, 45)
    at = _padded(at, day, 2, 84)
    hour = left // 3600
    minute = left // 60 - 60 * hour
    at = _padded(at, hour, 2, 58)
    at = _padded(at, minute, 2, 58)
    if fraction == 0:
        return _padded(at, left - 3600 * hour - 60 * minute, 2, 90)
    at = _padded(at, left - 3600 * hour - 60 * minute, 2, 46)
    return _padded(at, fraction, 6, 90)


def run(given: Any) -> int:
    """Writes rows until the last, or the first that may not fit; returns it.

    given, numbers and addresses: the number of rows, the first of them to write, the output, its end, where to begin in
    it (and afterwards where it ended), the piece and the place in it of each row (0 where there is one piece),
    operations, where those of each piece begin and end, the most bytes of a row beside its texts, literals, escapes,
    columns, memory for what is open. Behind literals are 16 bytes more.
    """
    rows, first = given[0], given[1]
    end = given[3]
    at = given[4]
    pieces, places = given[5], given[6]
    operations = numbers_at(given[7])
    programs = numbers_at(given[8])
    margin = given[9]
    literals = given[10]
    escapes = given[11]
    columns = numbers_at(given[12])
    # of each object or list that is open: where its key begins, and where its inside does
    opened = numbers_at(given[13])
    for row in range(first, rows):
        begun = at
        depth = 0
        place = row
        piece = 0
        if pieces != 0:
            piece = numbers_at(pieces)[row]
            place = numbers_at(places)[row]
        if end - at < margin:
            given[4] = begun
            return row
        for step in range(OP * programs[piece], OP * programs[piece + 1], OP):
            what = operations[step]
            key = operations[step + 1]
            length = operations[step + 2]
            flag = operations[step + 3]
            if what == LITERAL:
                at = _literal(at, literals, key, length, flag)
                continue
            if what == OPEN:
                opened[2 * depth] = at
                at = _literal(at, literals, key, length, flag)
                opened[2 * depth + 1] = at
                depth += 1
                continue
            if what in (CLOSE_OBJECT, CLOSE_LIST):
                depth -= 1
                if at == opened[2 * depth + 1]:
                    at = opened[2 * depth]
                else:
                    bytes_at(at)[0] = 125 if what == CLOSE_OBJECT else 93
                    at += 1
                continue
            column = COLUMN * operations[step + 4]
            number = place + columns[column + 3]
            if not is_valid(columns[column + 2], number):
                continue
            if what == NUMBER:
                at = _literal(at, literals, key, length, flag)
                at = _number(at, numbers_at(columns[column])[number])
                continue
            if what == INSTANT:
                at = _literal(at, literals, key, length, flag)
                at = _instant(at, numbers_at(columns[column])[number])
                bytes_at(at)[0] = _QUOTE
                at += 1
                continue
            view = columns[column] + 16 * number
            count = small_numbers_at(view)[0]
            source = source_of(view, columns[column + 1])
            # the most that escapes make of a byte is six
            if end - at < (6 * count if what == TEXT else count) + margin:
                given[4] = begun
                return row
            at = _literal(at, literals, key, length, flag)
            if what == TEXT:
                at = put_escaped(at, source, count, escapes)
                bytes_at(at)[0] = _QUOTE
                at += 1
            else:
                at = put_raw(at, source, count)
    given[4] = at
    return rows
