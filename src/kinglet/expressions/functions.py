"""The functions that expressions may call: each sees one event, reads nothing else, and makes no text without bound.

The table is the list of docs/expressions.md. Names and meanings are those of SQL (ISO/IEC 9075), as most databases
have them; positions count from 1.
"""

from __future__ import annotations

import functools
import operator
from collections.abc import Callable, Mapping, Sequence
from typing import NamedTuple

import polars as pl

from kinglet.expressions.terms import (
    BOOL,
    INT,
    NULL,
    NUMBER,
    TEXT,
    TIME,
    ExpressionError,
    Term,
    as_text,
    combined,
    kind_of,
    whole,
)

MOST_GROWTH = 64.0
"""How many times longer than the texts that it reads the text of an expression may become."""
_FIXED = 1024
"""Characters of fixed text that count as one time the text of a field."""


class Function(NamedTuple):
    """A function: what it takes, as documents show it, an example with its result, and what makes a term of it.

    takes: a letter for each argument: t text, n number, i whole number, b condition, d time, l list, v any value,
    T a fixed text, I a fixed whole number; those behind `?` may be left out, the last one before `*` may be repeated.
    """

    takes: str
    shown: str
    example: str
    gives: str
    make: Callable[[Sequence[Term]], Term]


_KINDS: Mapping[str, tuple[tuple[pl.DataType, ...], str]] = {
    "t": ((TEXT,), "text"),
    "n": ((INT, NUMBER), "a number"),
    "i": ((INT,), "a whole number"),
    "b": ((BOOL,), "a condition"),
    "d": ((TIME,), "a time"),
    "T": ((TEXT,), "a fixed text"),
    "I": ((INT,), "a fixed whole number"),
}


def call(name: str, given: Sequence[Term]) -> Term:
    """A call of a function of the table.

    Raises:
        ExpressionError: the arguments do not fit.
    """
    function = FUNCTIONS[name]
    required, _, more = function.takes.partition("?")
    repeated = function.takes.endswith("*")
    kinds = (required + more).rstrip("*")
    least = len(required.rstrip("*"))
    if len(given) < least or (len(given) > len(kinds) and not repeated):
        raise ExpressionError(f"`{name}` is given {len(given)} values", f"write {name}({function.shown})")
    kinds += kinds[-1:] * (len(given) - len(kinds))
    taken = [_argument(name, function, i, kind, term) for i, (kind, term) in enumerate(zip(kinds, given, strict=False))]
    made = function.make(taken)
    if made.growth > MOST_GROWTH:
        raise ExpressionError(f"`{name}` may make a text that is {made.growth:.0f} times as long", "shorten it")
    return made


def _argument(name: str, function: Function, place: int, kind: str, term: Term) -> Term:
    if kind == "v":
        return term
    if kind == "l":
        if not isinstance(term.dtype, pl.List):
            raise ExpressionError(f"`{name}` wants a list, and `{term.source}` is {kind_of(term.dtype)}")
        return term
    types, words = _KINDS[kind]
    if kind in "TI" and (not term.is_constant or term.dtype not in types):
        raise ExpressionError(f"`{name}` wants {words} as value {place + 1}", f"write {name}({function.shown})")
    if term.dtype in types:
        return term
    if term.dtype == NULL:
        return term._replace(value=pl.lit(None, dtype=types[0]), dtype=types[0])
    if kind == "t":
        return as_text(term)
    hint = f"write CAST({term.source} AS {'INT' if kind == 'i' else 'DOUBLE'})" if kind in "in" else ""
    raise ExpressionError(f"`{name}` wants {words}, and `{term.source}` is {kind_of(term.dtype)}", hint)


def _simple(change: Callable[[pl.Expr], pl.Expr], dtype: pl.DataType) -> Callable[[Sequence[Term]], Term]:
    """A function of one value that keeps nulls."""
    return lambda given: combined(change(given[0].value), dtype, given)


def _same(change: Callable[[pl.Expr], pl.Expr]) -> Callable[[Sequence[Term]], Term]:
    """The same, where the result has the type of the value."""
    return lambda given: combined(change(given[0].value), given[0].dtype, given)


def _length(given: Sequence[Term]) -> Term:
    return combined(given[0].value.str.len_chars().cast(pl.Int64), INT, given)


def _trim(side: str) -> Callable[[Sequence[Term]], Term]:
    def make(given: Sequence[Term]) -> Term:
        signs = given[1].constant if len(given) > 1 else None
        change = {"both": "strip_chars", "left": "strip_chars_start", "right": "strip_chars_end"}[side]
        return combined(getattr(given[0].value.str, change)(signs if signs is not None else " "), TEXT, given)

    return make


def _substr(given: Sequence[Term]) -> Term:
    text, start = given[0].value, given[1].value
    if len(given) < 3:
        return combined(text.str.slice((start - 1).clip(0)), TEXT, given, given[0].growth)
    # what stands before the first character counts as part of the length
    end = whole(start.cast(pl.Int128) + given[2].value.cast(pl.Int128)).fill_null(2**40)
    first = (start - 1).clip(0)
    length = (end.clip(0, 2**40) - 1 - first).clip(0)
    found = combined(text.str.slice(first, length), TEXT, given, given[0].growth)
    return found.failing(given[2].value < 0)._replace(value=pl.when(given[2].value >= 0).then(found.value))


def _left(given: Sequence[Term]) -> Term:
    return combined(given[0].value.str.head(given[1].value), TEXT, given, given[0].growth)


def _right(given: Sequence[Term]) -> Term:
    return combined(given[0].value.str.tail(given[1].value), TEXT, given, given[0].growth)


def _grown(old: str, new: str) -> float:
    """How many times longer a text may become where each `old` in it becomes `new`."""
    return max(1.0, len(new) / max(1, len(old)))


def _replace(given: Sequence[Term]) -> Term:
    text, old, new = given
    if old.constant == "":
        raise ExpressionError("`REPLACE` is given nothing to look for", "name the text that is replaced")
    growth = text.growth * _grown(old.constant, new.constant)
    value = text.value.str.replace_all(old.constant, new.constant, literal=True)
    return combined(value, TEXT, given, growth)


def concatenated(given: Sequence[Term], *, skip: bool = False, between: str = "") -> Term:
    """Values one after the other as one text; null where one is, unless those are skipped."""
    texts = [as_text(term) for term in given]
    value = pl.concat_str([text.value for text in texts], separator=between, ignore_nulls=skip)
    growth = sum(text.growth if not text.is_constant else len(str(text.constant or "")) / _FIXED for text in texts)
    return combined(value, TEXT, texts, max(1.0, growth))


def _concat(given: Sequence[Term]) -> Term:
    return concatenated(given, skip=True)


def _concat_ws(given: Sequence[Term]) -> Term:
    return concatenated(given[1:], skip=True, between=given[0].constant)


def _split_part(given: Sequence[Term]) -> Term:
    text, at, number = given
    if at.constant == "" or number.constant == 0:
        raise ExpressionError("`SPLIT_PART` wants a text to split at, and the number of a part from 1, or from -1")
    place = number.constant - 1 if number.constant > 0 else number.constant
    part = text.value.str.split(at.constant).list.get(place, null_on_oob=True)
    return combined(pl.when(text.value.is_not_null()).then(part.fill_null("")), TEXT, given, text.growth)


def _strpos(given: Sequence[Term]) -> Term:
    text, part = given
    found = text.value.str.find(part.constant, literal=True)
    # the engine counts bytes, SQL characters
    before = text.value.str.head(0) if part.constant == "" else text.value.str.split(part.constant).list.first()
    place = pl.when(found.is_null()).then(0).otherwise(before.str.len_chars().cast(pl.Int64) + 1)
    return combined(pl.when(text.value.is_not_null()).then(place), INT, given)


def checked_regex(regex: str) -> str:
    """A regex that is read as it is in patterns.

    Raises:
        ExpressionError: it cannot be used.
    """
    from kinglet.regex.dialect import RegexError, check_regex

    try:
        check_regex(regex)
    except RegexError as error:
        raise ExpressionError(f"the regex `{regex}` {error.message}", error.hint) from None
    return regex


def _regexp_like(given: Sequence[Term]) -> Term:
    return combined(given[0].value.str.contains(checked_regex(given[1].constant)), BOOL, given)


def _regexp_substr(given: Sequence[Term]) -> Term:
    import re

    regex = checked_regex(given[1].constant)
    group = given[2].constant if len(given) > 2 else 0
    if not 0 <= group <= re.compile(regex).groups:
        raise ExpressionError(f"the regex `{regex}` has no group {group}", "count from 1; 0 is all of the match")
    return combined(given[0].value.str.extract(regex, group), TEXT, given, given[0].growth)


def _regexp_replace(given: Sequence[Term]) -> Term:
    text, regex, new = given
    if "$" in new.constant.replace("$$", ""):
        raise ExpressionError("`REGEXP_REPLACE` puts fixed text in place", "write $$ for a dollar")
    checked_regex(regex.constant)
    growth = text.growth * max(1.0, 1.0 + len(new.constant))
    return combined(text.value.str.replace_all(regex.constant, new.constant), TEXT, given, growth)


def _round(given: Sequence[Term]) -> Term:
    digits = given[1].constant if len(given) > 1 else 0
    if not 0 <= digits <= 15:
        raise ExpressionError(f"`ROUND` is given {digits} digits", "write 0 to 15")
    if given[0].dtype == INT:
        return given[0]
    return combined(given[0].value.round(digits), NUMBER, given)


def _abs(given: Sequence[Term]) -> Term:
    if given[0].dtype == NUMBER:
        return combined(given[0].value.abs(), NUMBER, given)
    value = whole(given[0].value.cast(pl.Int128).abs())
    return combined(value, INT, given).failing(value.is_null() & given[0].value.is_not_null())


def arithmetic(sign: str, left: Term, right: Term) -> Term:
    """A sum, difference, product, quotient or remainder; null, and a failure, where there is none that 64 bits hold."""
    given = (left, right)
    made: pl.Expr
    if left.dtype == INT and right.dtype == INT and sign != "/":
        if sign == "%":
            # the engine gives a remainder the sign of the divisor, SQL that of the dividend
            divisor = pl.when(right.value != 0).then(right.value)
            rest = left.value % divisor
            other = (rest != 0) & ((left.value < 0) != (divisor < 0))
            made = pl.when(other).then(rest - divisor).otherwise(rest)
        else:
            wide = left.value.cast(pl.Int128), right.value.cast(pl.Int128)
            made = whole({"+": operator.add, "-": operator.sub, "*": operator.mul}[sign](*wide))
        dtype: pl.DataType = INT
    else:
        one, two = left.value.cast(pl.Float64), right.value.cast(pl.Float64)
        if sign == "%":
            rest = one.abs() % two.abs()
            result = pl.when(one < 0).then(-rest).otherwise(rest)
        else:
            operations = {"+": operator.add, "-": operator.sub, "*": operator.mul, "/": operator.truediv}
            result = operations[sign](one, two)
        made, dtype = pl.when(result.is_finite()).then(result), NUMBER
    there = left.value.is_not_null() & right.value.is_not_null()
    return combined(made, dtype, given).failing(there & made.is_null())


def _mod(given: Sequence[Term]) -> Term:
    return arithmetic("%", given[0], given[1])


def _sqrt(given: Sequence[Term]) -> Term:
    value = given[0].value.cast(pl.Float64)
    return combined(pl.when(value >= 0).then(value.sqrt()), NUMBER, given).failing(value < 0)


def _to_whole(change: str) -> Callable[[Sequence[Term]], Term]:
    def make(given: Sequence[Term]) -> Term:
        value = given[0].value
        return combined(getattr(value, change)(), given[0].dtype, given) if given[0].dtype == NUMBER else given[0]

    return make


def common(name: str, given: Sequence[Term]) -> list[Term]:
    """Values of one type: numbers become the wider one, NULL becomes any.

    Raises:
        ExpressionError: they have none in common.
    """
    types = list(dict.fromkeys(str(term.dtype) for term in given if term.dtype != NULL))
    if not types:
        return list(given)
    first = next(term for term in given if term.dtype != NULL)
    numbers = all(term.is_number or term.dtype == NULL for term in given)
    if len(types) > 1 and not numbers:
        other = next(term for term in given if term.dtype not in (NULL, first.dtype))
        raise ExpressionError(
            f"{name} mixes `{first.source}`, {kind_of(first.dtype)}, and `{other.source}`, {kind_of(other.dtype)}",
            "make one of the other with CAST",
        )
    target = NUMBER if len(types) > 1 else first.dtype
    return [
        term if term.dtype == target else term._replace(value=term.value.cast(target), dtype=target) for term in given
    ]


def _coalesce(given: Sequence[Term]) -> Term:
    terms = common("COALESCE", given)
    fails = list(terms[0].fails)
    for i, term in enumerate(terms[1:], 1):
        fails += term.guarded(pl.all_horizontal([before.value.is_null() for before in terms[:i]]))
    made = combined(pl.coalesce([term.value for term in terms]), terms[0].dtype, terms)
    return made._replace(fails=tuple(fails))


def _nullif(given: Sequence[Term]) -> Term:
    one, two = common("NULLIF", given)
    same = (one.value == two.value).fill_null(False)
    return combined(pl.when(~same).then(one.value), one.dtype, given, one.growth)


def _extreme(name: str, choose: Callable[[Sequence[pl.Expr]], pl.Expr]) -> Callable[[Sequence[Term]], Term]:
    def make(given: Sequence[Term]) -> Term:
        terms = common(name, given)
        if not all(term.is_number or term.dtype in (TIME, NULL) for term in terms):
            raise ExpressionError(f"`{name}` compares numbers or times, and `{terms[0].source}` is neither")
        return combined(choose([term.value for term in terms]), terms[0].dtype, terms)

    return make


PARTS: Mapping[str, Callable[[pl.Expr], pl.Expr]] = {
    "YEAR": lambda time: time.dt.year(),
    "QUARTER": lambda time: time.dt.quarter(),
    "MONTH": lambda time: time.dt.month(),
    "WEEK": lambda time: time.dt.week(),
    "DAY": lambda time: time.dt.day(),
    "DOY": lambda time: time.dt.ordinal_day(),
    "ISODOW": lambda time: time.dt.weekday(),
    "HOUR": lambda time: time.dt.hour(),
    "MINUTE": lambda time: time.dt.minute(),
    "SECOND": lambda time: time.dt.second(),
    "MILLISECOND": lambda time: time.dt.millisecond(),
    "MICROSECOND": lambda time: time.dt.microsecond(),
    "EPOCH": lambda time: time.dt.epoch("s"),
}
"""The parts of a time, in UTC."""


def part_of_time(part: str, time: Term) -> Term:
    """A part of a time as a whole number.

    Raises:
        ExpressionError: there is no such part, or it is no time.
    """
    from kinglet.errors import did_you_mean

    if part.upper() not in PARTS:
        raise ExpressionError(
            f"a time has no part `{part}`", did_you_mean(part, PARTS, "the parts are " + ", ".join(PARTS))
        )
    if not isinstance(time.dtype, pl.Datetime):
        raise ExpressionError(f"`{time.source}` is {kind_of(time.dtype)}, and a part is taken of a time")
    return combined(PARTS[part.upper()](time.value).cast(pl.Int64), INT, [time])


def _date_part(given: Sequence[Term]) -> Term:
    return part_of_time(given[0].constant, given[1])


def _array_length(given: Sequence[Term]) -> Term:
    return combined(given[0].value.list.len().cast(pl.Int64), INT, given)


def _array_contains(given: Sequence[Term]) -> Term:
    inner = getattr(given[0].dtype, "inner", TEXT)
    item = as_text(given[1]) if inner == TEXT else given[1]
    if item.dtype != inner:
        raise ExpressionError(f"`{given[0].source}` is a list of other values than `{given[1].source}`")
    return combined(given[0].value.list.contains(item.value), BOOL, given)


def _array_get(given: Sequence[Term]) -> Term:
    number = given[1].constant
    if number == 0:
        raise ExpressionError("`ARRAY_GET` counts from 1, or from -1 at the end")
    inner = getattr(given[0].dtype, "inner", TEXT)
    value = given[0].value.list.get(number - 1 if number > 0 else number, null_on_oob=True)
    return combined(value, inner, given)


def _array_to_string(given: Sequence[Term]) -> Term:
    value = given[0].value.cast(pl.List(pl.String)).list.join(given[1].constant, ignore_nulls=True)
    return combined(value, TEXT, given, 2.0 + len(given[1].constant))


_MAX: Callable[[Sequence[pl.Expr]], pl.Expr] = functools.partial(pl.max_horizontal)
_MIN: Callable[[Sequence[pl.Expr]], pl.Expr] = functools.partial(pl.min_horizontal)

FUNCTIONS: Mapping[str, Function] = {
    "ABS": Function("n", "number", "ABS(-3)", "3", _abs),
    "ARRAY_CONTAINS": Function("lv", "list, value", "ARRAY_CONTAINS(tags, 'a')", "true", _array_contains),
    "ARRAY_GET": Function("lI", "list, 1", "ARRAY_GET(tags, -1)", "b", _array_get),
    "ARRAY_LENGTH": Function("l", "list", "ARRAY_LENGTH(tags)", "2", _array_length),
    "ARRAY_TO_STRING": Function("lT", "list, 'between'", "ARRAY_TO_STRING(tags, '+')", "a+b", _array_to_string),
    "CEIL": Function("n", "number", "CEIL(2.1)", "3.0", _to_whole("ceil")),
    "COALESCE": Function("vv*", "value, value, …", "COALESCE(NULL, 'x')", "x", _coalesce),
    "CONCAT": Function("v*", "value, …", "CONCAT('a', NULL, 1)", "a1", _concat),
    "CONCAT_WS": Function("Tv*", "'between', value, …", "CONCAT_WS('-', 'a', NULL, 'b')", "a-b", _concat_ws),
    "DATE_PART": Function("Td", "'part', time", "DATE_PART('hour', time)", "23", _date_part),
    "ENDS_WITH": Function(
        "tT", "text, 'end'", "ENDS_WITH('pump', 'mp')", "true",
        lambda given: combined(given[0].value.str.ends_with(given[1].constant), BOOL, given),
    ),
    "FLOOR": Function("n", "number", "FLOOR(2.9)", "2.0", _to_whole("floor")),
    "GREATEST": Function("vv*", "value, value, …", "GREATEST(1, 3, 2)", "3", _extreme("GREATEST", _MAX)),
    "LEAST": Function("vv*", "value, value, …", "LEAST(1, 3, 2)", "1", _extreme("LEAST", _MIN)),
    "LEFT": Function("tI", "text, 2", "LEFT('pump', 2)", "pu", _left),
    "LENGTH": Function("t", "text", "LENGTH('pump')", "4", _length),
    "LOWER": Function("t", "text", "LOWER('Pump')", "pump", _simple(lambda text: text.str.to_lowercase(), TEXT)),
    "LTRIM": Function("t?T", "text, 'signs'", "LTRIM('00417', '0')", "417", _trim("left")),
    "MOD": Function("nn", "number, number", "MOD(7, 3)", "1", _mod),
    "NULLIF": Function("vv", "value, value", "NULLIF('-', '-')", "NULL", _nullif),
    "REGEXP_LIKE": Function("tT", "text, 'regex'", r"REGEXP_LIKE('P04', '^P\d+$')", "true", _regexp_like),
    "REGEXP_REPLACE": Function(
        "tTT", "text, 'regex', 'new'", r"REGEXP_REPLACE('a1b22', '\d+', '#')", "a#b#", _regexp_replace
    ),
    "REGEXP_SUBSTR": Function(
        "tT?I", "text, 'regex', group", r"REGEXP_SUBSTR('pump P04', 'P(\d+)', 1)", "04", _regexp_substr
    ),
    "REPLACE": Function("tTT", "text, 'old', 'new'", "REPLACE('P04', 'P0', 'P')", "P4", _replace),
    "REVERSE": Function("t", "text", "REVERSE('pump')", "pmup", _simple(lambda text: text.str.reverse(), TEXT)),
    "RIGHT": Function("tI", "text, 2", "RIGHT('pump', 2)", "mp", _right),
    "ROUND": Function("n?I", "number, digits", "ROUND(2.345, 1)", "2.3", _round),
    "RTRIM": Function("t?T", "text, 'signs'", "RTRIM('pump..', '.')", "pump", _trim("right")),
    "SIGN": Function("n", "number", "SIGN(-4)", "-1", _same(lambda number: number.sign())),
    "SPLIT_PART": Function("tTI", "text, 'at', 2", "SPLIT_PART('a/b/c', '/', 2)", "b", _split_part),
    "SQRT": Function("n", "number", "SQRT(9)", "3.0", _sqrt),
    "STARTS_WITH": Function(
        "tT", "text, 'beginning'", "STARTS_WITH('pump', 'pu')", "true",
        lambda given: combined(given[0].value.str.starts_with(given[1].constant), BOOL, given),
    ),
    "STRPOS": Function("tT", "text, 'part'", "STRPOS('pump', 'm')", "3", _strpos),
    "SUBSTR": Function("ti?i", "text, start, length", "SUBSTR('pump', 2, 2)", "um", _substr),
    "TRIM": Function("t?T", "text, 'signs'", "TRIM('  pump ')", "pump", _trim("both")),
    "UPPER": Function("t", "text", "UPPER('pump')", "PUMP", _simple(lambda text: text.str.to_uppercase(), TEXT)),
}  # fmt: skip
ALIASES: Mapping[str, str] = {
    "CEILING": "CEIL", "CHAR_LENGTH": "LENGTH", "CHARACTER_LENGTH": "LENGTH", "IFNULL": "COALESCE",
    "SUBSTRING": "SUBSTR",
}  # fmt: skip
"""Other names that SQL has for the same."""
WIDER = frozenset(
    (
        *("ANY_VALUE", "ARRAY_AGG", "AVG", "COUNT", "CUME_DIST", "DENSE_RANK", "FIRST", "FIRST_VALUE", "LAG", "LAST"),
        *("LAST_VALUE", "LEAD", "LISTAGG", "MAX", "MEDIAN", "MIN", "NTH_VALUE", "NTILE", "PERCENT_RANK", "RANK"),
        *("ROW_NUMBER", "STDDEV", "STRING_AGG", "SUM", "VARIANCE"),
    )
)
"""Functions of SQL that look at more than one row."""
