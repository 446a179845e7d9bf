"""An expression to column operations, node by node. What no rule here knows is refused."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from typing import NamedTuple

import polars as pl

from kinglet.errors import did_you_mean
from kinglet.expressions.casting import TARGETS, cast
from kinglet.expressions.terms import (
    BOOL,
    INT,
    NULL,
    NUMBER,
    TEXT,
    TIME,
    ExpressionError,
    Failure,
    Term,
    combined,
    constant,
    kind_of,
)
from kinglet.names import field_of

Fields = Mapping[str, pl.DataType]


class Expression(NamedTuple):
    """A compiled expression: its value, the type of that, the fields that it reads, and where it fails.

    An event in which it fails has null for a value though there is something to compute one of: text that is no number,
    a sum too large, a division by zero. Each failure names the first field that the failing piece reads.
    """

    text: str
    value: pl.Expr
    dtype: pl.DataType
    names: tuple[str, ...]
    fails: tuple[Failure, ...] = ()

    @property
    def failed(self) -> pl.Expr | None:
        """The events in which it fails; None where it cannot."""
        return pl.any_horizontal([bad for _, bad in self.fails]) if self.fails else None


def sql(text: str, fields: Fields) -> Expression:
    """A SQL expression over fields, which sees one event at a time.

    Raises:
        ExpressionError: it cannot be read, names a field that does not exist, or calls what is not a function of
            single events.
    """
    name = text.strip()
    if name.startswith('"') and name.endswith('"') and name[1:-1] in fields and '"' not in name[1:-1]:
        name = name[1:-1]
    name = own_name(name, fields)
    if name in fields:  # the commonest by far, and without need of a parser
        return Expression(text, pl.col(name), _known(fields[name]), (name,))
    # fixed text, also without the parser, which takes a third of a second to load
    fixed = re.fullmatch(r"'([^']*)'", name)
    if fixed is not None:
        return Expression(text, pl.lit(fixed[1]), TEXT, ())
    from kinglet.expressions.reading import tree

    try:
        term = _Compiler(fields).term(tree(text, fields))
    except ExpressionError as error:
        if isinstance(error, _UnknownFieldError):
            raise
        raise ExpressionError(f"`{text}` is not a SQL expression: {error.message}", error.hint) from None
    except RecursionError:
        raise ExpressionError(f"`{text[:40]}…` is nested too deeply", "make several steps of it") from None
    return Expression(text, term.value, term.dtype, term.names, term.fails)


def own_name(name: str, fields: Fields) -> str:
    """What a name means where a log has a value of its own that is called like a column of every event.

    Raises:
        ExpressionError: it could mean either.
    """
    own = field_of(name)
    if own == name or own not in fields:
        return name
    if name in fields:
        raise _UnknownFieldError(
            f"`{name}` could be the log's own or what every event has", f"write `{own}` for the log's own"
        )
    return own


class _UnknownFieldError(ExpressionError):
    """A name that is no field; it needs no more words around it."""


def _known(dtype: pl.DataType) -> pl.DataType:
    """The type of a column as expressions know it."""
    if isinstance(dtype, pl.Enum | pl.Categorical):
        return TEXT
    if dtype.is_integer():
        return INT
    if dtype.is_float():
        return NUMBER
    return TIME if isinstance(dtype, pl.Datetime) else dtype


class _Compiler:
    """Goes down a tree; one method or table row for each kind of node."""

    def __init__(self, fields: Fields) -> None:
        self.fields = fields

    def term(self, node: object) -> Term:
        """The term of a node.

        Raises:
            ExpressionError: something in it may not stand in an expression.
        """
        rule = _RULES.get(type(node).__name__)
        if rule is None:
            raise ExpressionError(f"`{_written(node)}` may not stand in an expression", _HINTS.get(_kind(node), ""))
        _without_more(node)
        found = rule(self, node)
        return found if found.source else found._replace(source=_written(node))

    def condition(self, node: object) -> Term:
        term = self.term(node)
        if term.dtype == NULL:
            return term._replace(value=pl.lit(None, dtype=BOOL), dtype=BOOL)
        if term.dtype != BOOL:
            raise ExpressionError(f"`{term.source}` is {kind_of(term.dtype)}, no condition", "compare it: `… = …`")
        return term

    def column(self, node: object) -> Term:
        parts = [part.name for part in getattr(node, "parts", [])]
        name = own_name(".".join(parts), self.fields)
        if name not in self.fields:
            hint = did_you_mean(name, self.fields, f"fixed text is {{text: {name}}}, within an expression '{name}'")
            raise _UnknownFieldError(f"`{name}` is no field of this variant", hint)
        dtype = self.fields[name]
        known = _known(dtype)
        value = pl.col(name) if known == dtype else pl.col(name).cast(known)
        return Term(value, known, (name,), source=name)

    def literal(self, node: object) -> Term:
        text = str(getattr(node, "this", ""))
        if getattr(node, "is_string", False):
            return constant(text)
        if re.fullmatch(r"\d{1,40}", text):
            number = int(text)
            if number >= 2**63:
                raise ExpressionError(f"`{text}` is too large", "whole numbers go up to 9223372036854775807")
            return constant(number)
        try:
            return constant(float(text))
        except ValueError:
            raise ExpressionError(f"`{text}` is no number") from None

    def call(self, node: object) -> Term:
        from kinglet.expressions.functions import ALIASES, FUNCTIONS, WIDER, call

        written = str(getattr(node, "this", ""))
        name = written.upper()
        name = ALIASES.get(name, name)
        if name in FUNCTIONS:
            return call(name, [self.term(item) for item in getattr(node, "expressions", [])])
        if name in WIDER:
            hint = "an expression sees one event at a time"
            raise ExpressionError(f"`{written}` looks beyond its own event", hint)
        known = [*FUNCTIONS, *ALIASES]
        hint = did_you_mean(name, known, "docs/expressions.md lists the functions")
        raise ExpressionError(f"there is no function `{written}`", hint)


def _kind(node: object) -> str:
    return type(node).__name__


def _written(node: object) -> str:
    """How a node is written, shortened."""
    make = getattr(node, "sql", None)
    text = str(make()) if make is not None else str(node)
    return text if len(text) <= 60 else text[:59] + "…"


def _without_more(node: object) -> None:
    """Refuses a node that says more than its rule here reads, such as what a newer release of the reader knows.

    Raises:
        ExpressionError: it says more.
    """
    read = (*_READ, *_MORE_READ.get(_kind(node), ()))
    more = [name for name, item in getattr(node, "args", {}).items() if item and name not in read]
    if more:
        raise ExpressionError(f"`{_written(node)}` may not stand in an expression: `{more[0]}` is not known")


def _both(work: _Compiler, node: object) -> tuple[Term, Term]:
    return work.term(getattr(node, "this", None)), work.term(getattr(node, "expression", None))


def _arithmetic(sign: str) -> Callable[[_Compiler, object], Term]:
    def make(work: _Compiler, node: object) -> Term:
        return _computed(sign, *_both(work, node))

    return make


def _computed(sign: str, *operands: Term) -> Term:
    from kinglet.expressions.functions import arithmetic

    terms = []
    for term in operands:
        if term.dtype == NULL:
            term = term._replace(value=pl.lit(None, dtype=INT), dtype=INT)
        if not term.is_number:
            hint = f"write CAST({term.source} AS INT)" if term.dtype == TEXT else ""
            hint = "join texts with ||" if sign == "+" and term.dtype == TEXT else hint
            raise ExpressionError(f"`{term.source}` is {kind_of(term.dtype)}, and `{sign}` wants numbers", hint)
        terms.append(term)
    return arithmetic(sign, *terms)


def _compared(sign: str) -> Callable[[_Compiler, object], Term]:
    def make(work: _Compiler, node: object) -> Term:
        return _comparison(sign, *_both(work, node))

    return make


_COMPARISONS: Mapping[str, Callable[[pl.Expr, pl.Expr], pl.Expr]] = {
    "=": lambda one, two: one == two,
    "<>": lambda one, two: one != two,
    "<": lambda one, two: one < two,
    "<=": lambda one, two: one <= two,
    ">": lambda one, two: one > two,
    ">=": lambda one, two: one >= two,
}


def _comparison(sign: str, left: Term, right: Term) -> Term:
    from kinglet.expressions.functions import common

    if NULL in (left.dtype, right.dtype):
        return combined(pl.lit(None, dtype=BOOL), BOOL, [left, right])
    if isinstance(left.dtype, pl.List | pl.Struct) or isinstance(right.dtype, pl.List | pl.Struct):
        raise ExpressionError(f"`{left.source}` {sign} `{right.source}` compares a list", "use ARRAY_CONTAINS")
    left, right = _timed(left, right), _timed(right, left)
    one, two = common(f"`{sign}`", [left, right])
    return combined(_COMPARISONS[sign](one.value, two.value), BOOL, [left, right])


def _timed(term: Term, other: Term) -> Term:
    """A fixed text as the time that it is, where it is compared with a time."""
    if isinstance(other.dtype, pl.Datetime) and term.is_constant and term.dtype == TEXT:
        from datetime import UTC, datetime

        try:
            moment = datetime.fromisoformat(term.constant)
        except ValueError:
            raise ExpressionError(f"'{term.constant}' is no time", "write '2026-03-05T22:10:41Z'") from None
        moment = moment if moment.tzinfo is not None else moment.replace(tzinfo=UTC)
        return term._replace(value=pl.lit(moment.astimezone(UTC), dtype=TIME), dtype=TIME)
    return term


def _and(work: _Compiler, node: object) -> Term:
    left, right = work.condition(getattr(node, "this", None)), work.condition(getattr(node, "expression", None))
    # where the left side decides, the right one cannot fail: a test guards what is behind it
    made = combined(left.value & right.value, BOOL, [left, right])
    return made._replace(fails=(*left.fails, *right.guarded(~left.value.fill_null(False).not_())))


def _or(work: _Compiler, node: object) -> Term:
    left, right = work.condition(getattr(node, "this", None)), work.condition(getattr(node, "expression", None))
    # the same, where the left side is true
    made = combined(left.value | right.value, BOOL, [left, right])
    return made._replace(fails=(*left.fails, *right.guarded(~left.value.fill_null(False))))


def _not(work: _Compiler, node: object) -> Term:
    term = work.condition(getattr(node, "this", None))
    return combined(~term.value, BOOL, [term])


def _negative(work: _Compiler, node: object) -> Term:
    term = work.term(getattr(node, "this", None))
    # a sign before a number is a part of it: the smallest number has no positive one
    if term.is_constant and term.is_number:
        return constant(-term.constant)
    return _computed("-", constant(0), term)


def _pipe(work: _Compiler, node: object) -> Term:
    from kinglet.expressions.functions import MOST_GROWTH, concatenated

    parts: list[object] = []
    while _kind(node) == "DPipe":  # a long chain is not nested as deeply as it is long
        parts.append(getattr(node, "expression", None))
        node = getattr(node, "this", None)
    terms = [work.term(part) for part in (node, *reversed(parts))]
    made = concatenated(terms)
    if made.growth > MOST_GROWTH:
        raise ExpressionError("it joins too many texts", "make several fields of them")
    return made


def _is(work: _Compiler, node: object) -> Term:
    term = work.term(getattr(node, "this", None))
    what = work.term(getattr(node, "expression", None))
    if what.dtype == NULL:
        return combined(term.value.is_null(), BOOL, [term])
    if what.dtype != BOOL or not what.is_constant or term.dtype not in (BOOL, NULL):
        raise ExpressionError(f"`{_written(node)}` asks what is neither NULL, TRUE nor FALSE")
    return combined((term.value == what.constant).fill_null(False), BOOL, [term])


def _in(work: _Compiler, node: object) -> Term:
    items = getattr(node, "expressions", [])
    if not items:
        raise ExpressionError(f"`{_written(node)}` names no values", "write x IN (1, 2)")
    term = work.term(getattr(node, "this", None))
    fixed = [work.term(item) for item in items]
    tests = [_comparison("=", term, item) for item in fixed]
    # one look into a set in place of a comparison for each value
    if all(item.is_constant and item.dtype == term.dtype for item in fixed):
        values = [item.constant for item in fixed]
        return combined(term.value.is_in(pl.Series(values, dtype=term.dtype).implode()), BOOL, [term])
    return combined(pl.any_horizontal([test.value for test in tests]), BOOL, [term, *fixed])


def _between(work: _Compiler, node: object) -> Term:
    term = work.term(getattr(node, "this", None))
    low = _comparison(">=", term, work.term(getattr(node, "args", {}).get("low")))
    high = _comparison("<=", term, work.term(getattr(node, "args", {}).get("high")))
    return combined(low.value & high.value, BOOL, [low, high])


def _like(ignores_case: bool) -> Callable[[_Compiler, object], Term]:
    def make(work: _Compiler, node: object, escape: str = "") -> Term:
        term, what = _both(work, node)
        if not what.is_constant or what.dtype != TEXT:
            raise ExpressionError(f"`{what.source}` is no fixed text", "LIKE takes one: user LIKE 'm.%'")
        if term.dtype not in (TEXT, NULL):
            hint = f"write CAST({term.source} AS VARCHAR)"
            raise ExpressionError(f"`{term.source}` is {kind_of(term.dtype)}, and LIKE wants text", hint)
        value = term.value if term.dtype == TEXT else pl.lit(None, dtype=TEXT)
        found = value.str.contains(like_regex(what.constant, escape, ignores_case))
        # releases of the reader write NOT LIKE as one node or as two
        negated = bool(getattr(node, "args", {}).get("negate"))
        return combined(~found if negated else found, BOOL, [term])

    return make


def like_regex(what: str, escape: str = "", ignores_case: bool = False) -> str:
    """The regex of a LIKE: `%` any text, `_` any character; what follows the escape sign is meant as it stands.

    Raises:
        ExpressionError: the escape sign stands at the end.
    """
    found, signs = "", iter(what)
    for sign in signs:
        if escape and sign == escape:
            following = next(signs, None)
            if following is None:
                raise ExpressionError(f"'{what}' ends with the sign of ESCAPE")
            found += re.escape(following)
        else:
            found += {"%": ".*", "_": "."}.get(sign, re.escape(sign))
    return f"(?s{'i' if ignores_case else ''})^(?:{found})$"


def _escape(work: _Compiler, node: object) -> Term:
    sign = work.term(getattr(node, "expression", None))
    if not sign.is_constant or sign.dtype != TEXT or len(sign.constant) != 1:
        raise ExpressionError("ESCAPE takes one sign: LIKE '50!%' ESCAPE '!'")
    inner = getattr(node, "this", None)
    if _kind(inner) not in ("Like", "ILike"):
        raise ExpressionError("ESCAPE belongs to LIKE or ILIKE")
    _without_more(inner)
    return _like(_kind(inner) == "ILike")(work, inner, sign.constant)  # type: ignore[call-arg]


def _case(work: _Compiler, node: object) -> Term:
    from kinglet.expressions.functions import common

    args = getattr(node, "args", {})
    subject = work.term(args["this"]) if args.get("this") is not None else None
    conditions: list[Term] = []
    results: list[Term] = []
    for branch in args.get("ifs") or []:
        _without_more(branch)
        test = getattr(branch, "this", None)
        conditions.append(work.condition(test) if subject is None else _comparison("=", subject, work.term(test)))
        results.append(work.term(branch.args["true"]))
    default = args.get("default")
    results = common("CASE", [*results, work.term(default) if default is not None else constant(None, "NULL")])
    value = results[-1].value
    # from the last branch to the first, each being what is otherwise for the one before it
    for condition, result in zip(reversed(conditions), reversed(results[:-1]), strict=True):
        value = pl.when(condition.value).then(result.value).otherwise(value)
    fails: list[Failure] = []
    # a branch can fail only where no condition before it was true
    reached = pl.lit(True)
    for condition, result in zip(conditions, results, strict=False):
        fails += condition.guarded(reached)
        taken = condition.value.fill_null(False)
        fails += result.guarded(reached & taken)
        reached = reached & ~taken
    fails += results[-1].guarded(reached)
    made = combined(value, results[0].dtype, [*conditions, *results])
    return made._replace(fails=tuple(fails))


def _cast(work: _Compiler, node: object) -> Term:
    args = getattr(node, "args", {})
    term = work.term(getattr(node, "this", None))
    to = args["to"]
    name = str(getattr(getattr(to, "this", None), "name", to)).upper()
    target = TARGETS.get(name)
    if target is None:
        raise ExpressionError(f"`{_written(to)}` is no type to cast to", "the types are INT, DOUBLE, VARCHAR, BOOLEAN")
    made = cast(term, target)
    return made._replace(fails=term.fails) if _kind(node) == "TryCast" else made


def _extract(work: _Compiler, node: object) -> Term:
    from kinglet.expressions.functions import part_of_time

    return part_of_time(_written(getattr(node, "this", None)).upper(), work.term(getattr(node, "expression", None)))


_RULES: Mapping[str, Callable[[_Compiler, object], Term]] = {
    "Column": _Compiler.column,
    "Literal": _Compiler.literal,
    "Boolean": lambda work, node: constant(bool(getattr(node, "this", False))),
    "Null": lambda work, node: constant(None, "NULL"),
    "Paren": lambda work, node: work.term(getattr(node, "this", None)),
    "Anonymous": _Compiler.call,
    "Add": _arithmetic("+"),
    "Sub": _arithmetic("-"),
    "Mul": _arithmetic("*"),
    "Div": _arithmetic("/"),
    "Mod": _arithmetic("%"),
    "Neg": _negative,
    "DPipe": _pipe,
    "EQ": _compared("="),
    "NEQ": _compared("<>"),
    "LT": _compared("<"),
    "LTE": _compared("<="),
    "GT": _compared(">"),
    "GTE": _compared(">="),
    "And": _and,
    "Or": _or,
    "Not": _not,
    "Is": _is,
    "In": _in,
    "Between": _between,
    "Like": _like(False),
    "ILike": _like(True),
    "Escape": _escape,
    "Case": _case,
    "Cast": _cast,
    "TryCast": _cast,
    "Extract": _extract,
}
"""What may stand in an expression, by the kind of node."""
_READ = ("this", "expression")
_MORE_READ: Mapping[str, tuple[str, ...]] = {
    "Anonymous": ("expressions",),
    "Between": ("low", "high"),
    "Case": ("ifs", "default"),
    "Cast": ("to",),
    "Column": ("table", "db", "catalog"),
    "DPipe": ("safe",),
    "ILike": ("negate",),
    "If": ("true",),
    "In": ("expressions",),
    "Like": ("negate",),
    "Literal": ("is_string",),
    "TryCast": ("to", "safe"),
}
"""What the rules read of their nodes."""
_HINTS: Mapping[str, str] = {
    "Select": "an expression reads no table",
    "Subquery": "an expression reads no table",
    "Window": "an expression sees one event at a time",
    "Star": "name a field",
    "Alias": "is a comma or an operator missing?",
    "Bracket": "use ARRAY_GET(list, 1)",
}
