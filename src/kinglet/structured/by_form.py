"""Reading texts by their forms: what makes the readers of structure quick.

A log has few forms of structured text: the same keys in the same order. The form of a text that is
not read yet becomes a regex, which reads all texts of that form at once; then the next. What is left
after many forms is read text by text, with the same result.
"""

from __future__ import annotations

import functools
import json
from collections.abc import Sequence
from typing import NamedTuple, Protocol

import polars as pl

from kinglet.columns.put import put, rows_where
from kinglet.patterns.compiling import escape
from kinglet.structured import in_one_pass
from kinglet.structured.in_one_pass import Loop
from kinglet.structured.repeats import is_twice, taken

MOST_FORMS = 96
"""So many forms are looked for in a batch; the rest is read one by one."""
_FEW_FORMS = 4
_MANY = 500
_RARE = 500
_SAMPLE = 64
_FEW_TEXTS = 24
"""A form of so few texts, or so small a part of what is left, costs more than it saves; after some of them texts are
read one by one."""
_MOST_KEYS = 400
_KEYS_A_TEXT = 8
"""A regex of so many values for each text that is left takes longer to compile than it takes to read them."""


class Value(NamedTuple):
    """A value of one text.

    path: its key, with those above it and dots between. start, end: the characters it takes; a key
    that stands for itself takes none. kind: how it is read, one of the structure's `kinds`. text: what it
    means; None where it is as if the key were missing.
    """

    path: str
    start: int
    end: int
    kind: str
    text: str | None


def is_within(one: str, other: str) -> bool:
    """Whether one path is that of a key within what the other is."""
    return one.startswith(f"{other}.") or other.startswith(f"{one}.")


def json_strings(text: pl.Expr) -> pl.Expr:
    """Text as JSON strings, null as null."""
    whole = pl.struct(text.alias("v")).struct.json_encode().str.strip_prefix('{"v":').str.strip_suffix("}")
    # speed: the engine computes an expression as often as it stands there
    return whole.replace("null", None)


class Structure(Protocol):
    """A way in which texts hold keys and values."""

    name: str
    nothing: str | None
    """How a value is written that is as if its key were missing, where that is the one way, and all others are JSON."""
    escape: str
    """What stands in every text that has escapes."""
    may_repeat: bool
    """Whether a key may well stand more than once."""
    has_lists: bool
    """Whether a value may be a list, of which an item can be asked for."""

    @property
    def loop(self) -> Loop | None:
        """What reads it in one pass where there is machine code; None where nothing does, as it is set up here."""

    def __hash__(self) -> int: ...

    @property
    def kinds(self) -> dict[str, str]:
        """The regex, without groups, of each kind of value."""

    @property
    def alike(self) -> str:
        """A regex of values; texts that are equal without them are likely of one form."""

    def values(self, text: str) -> list[Value] | None:
        """The values of a text in order; None where it does not have this structure."""

    def written(self, key: str) -> str | None:
        """Text that stands in every text that has a key; None where there is none such."""

    def fault(self, values: Sequence[Value]) -> str | None:
        """What is strange about a text with these values."""

    def meaning(self, token: pl.Expr) -> pl.Expr:
        """What values mean, from how they are written, but for escapes."""

    def unescaped(self, tokens: pl.Series, written: pl.Series) -> pl.Series:
        """The same without escapes; written: how they stand in the texts."""

    def finished(self, tokens: pl.Series) -> pl.Series:
        """What values mean that a loop took from texts with escapes as they stand."""

    def json_values(self, token: pl.Expr) -> pl.Expr:
        """Values as they are written, as JSON."""

    def unread(self, text: str) -> tuple[int, str]:
        """For a text that does not have it: the character at which that shows, and what is wrong there."""

    def item(self, text: str | None, path: str) -> str | None:
        """An item of a list, or a value in one, by what leads to it, such as `[1].name`; where values may be lists."""

    def items(self, texts: pl.Series, path: str) -> pl.Series:
        """The same for many lists."""


class WithoutLists:
    """Structures none of whose values is a list, and of which the beginning of a text is one too."""

    has_lists = False
    loop: Loop | None = None
    unread_words = "something else"
    """What is said of the place from which on a text does not have it."""

    def values(self, text: str) -> list[Value] | None:
        """See `Structure`."""
        raise NotImplementedError

    def unread(self, text: str) -> tuple[int, str]:
        """See `Structure`: the end of the longest beginning that has it."""
        low, high = 0, len(text)
        while low < high:
            middle = (low + high + 1) // 2
            fits = self.values(text[:middle].rstrip()) is not None
            low, high = (middle, high) if fits else (low, middle - 1)
        return low, self.unread_words

    def finished(self, tokens: pl.Series) -> pl.Series:
        """The same."""
        return tokens

    def item(self, text: str | None, path: str) -> str | None:
        """Nothing."""
        return None

    def items(self, texts: pl.Series, path: str) -> pl.Series:
        """Nothing."""
        return texts.clear(len(texts))


class KeyColumns(NamedTuple):
    """What a column of texts holds.

    columns: the text of each wanted key's value, null where a text lacks it. more: the other keys and
    their values as a JSON object, null where there are none. good: whether a text has the structure;
    null texts have not. faults: what is strange about a text that could be read, null where nothing is.
    """

    columns: pl.DataFrame
    more: pl.Series
    good: pl.Series
    faults: pl.Series

    def column(self, key: str) -> pl.Series:
        """The values of a key that became a column."""
        return self.columns[column_of(key)]

    def where(self, mask: pl.Series) -> KeyColumns:
        return KeyColumns(
            rows_where(self.columns, mask), self.more.filter(mask), self.good.filter(mask), self.faults.filter(mask)
        )


def column_of(key: str) -> str:
    """The column of a key: a name that neither our own columns have nor the engine takes for a choice of several."""
    return f"={key}"


_MORE = "#more"
_FAULT = "#fault"


class _Form(NamedTuple):
    """A regex with a group for each value that is not said by its key alone.

    keys: those of all values. groups: for each value its group, None for one that its key alone says. raw: the
    groups of lists.
    """

    regex: str
    keys: tuple[str, ...]
    groups: tuple[str | None, ...]
    raw: frozenset[str]
    fault: str | None


def read(texts: pl.Series, structure: Structure, wanted: Sequence[str], prefix: str = "") -> KeyColumns:
    """The values of all texts; wanted: the keys that become columns; prefix: of the other keys, in `more`."""
    selects = any("[" in key for key in wanted) and not structure.has_lists
    found = in_one_pass.read(texts, None if selects else structure.loop, wanted, prefix)
    if found is None:
        return _read(texts, structure, wanted, prefix)
    columns = []
    for key, column in zip(wanted, found.columns, strict=True):
        _, bracket, rest = key.partition("[")
        if len(found.escaped) and not bracket:
            escaped = column.gather(found.escaped)
            column = put(column, found.escaped, structure.finished(escaped))
        columns.append((structure.items(column, bracket + rest) if bracket else column).alias(column_of(key)))
    none = pl.Series(_FAULT, [None], dtype=pl.String).new_from_index(0, len(texts))
    whole = KeyColumns(
        pl.DataFrame(columns) if columns else pl.DataFrame(height=len(texts)), found.more.alias(_MORE), found.read, none
    )
    odd = (~found.read & texts.is_not_null()).arg_true()
    if not len(odd):
        return whole
    others = _read(texts[odd], structure, wanted, prefix)
    return KeyColumns(
        whole.columns.with_columns_seq(
            put(whole.columns[name], odd, others.columns[name]) for name in others.columns.columns
        ),
        put(whole.more, odd, others.more),
        put(whole.good, odd, others.good),
        put(none, odd, others.faults),
    )


def _read(texts: pl.Series, structure: Structure, wanted: Sequence[str], prefix: str) -> KeyColumns:
    """The same with the column engine alone."""
    escapes = texts.str.contains(structure.escape, literal=True).fill_null(False)
    some_escaped = bool(escapes.any())
    # where nothing is written as null, each value stands for itself and need not be looked at again
    always = structure.nothing is not None and not texts.str.contains(structure.nothing, literal=True).any()
    pieces: list[pl.DataFrame] = []
    odd: list[pl.Series] = []

    def by_forms(rows: pl.Series, most: int) -> pl.Series:
        """Reads texts by the form of the first, then by that of the first that is left; returns what is left."""
        rare = 0
        for _ in range(most):
            if not len(rows) or rare > _FEW_FORMS:
                break
            form = _form_of(texts[int(rows[0])], structure, tuple(wanted), _KEYS_A_TEXT * len(rows))
            found = _by_form(texts[rows], form, structure) if form is not None else None
            if form is None or found is None:
                odd.append(rows.head(1))
                rows = rows.slice(1)
                continue
            tokens, matched = found
            # forms that few texts have are a sign that there are many: reading by forms is then given up
            rare += tokens.height < _FEW_TEXTS or tokens.height * _RARE < len(rows)
            mine = rows if tokens.height == len(rows) else rows.filter(matched)
            named = _meanings(form.keys, form.groups, structure, tuple(wanted), prefix, always)
            values = tokens.select_seq(mine.alias("#row"), *named, pl.lit(form.fault, dtype=pl.String).alias(_FAULT))
            here = taken(form.keys, tuple(wanted), structure.has_lists)
            # most logs have no escape at all, and most of their texts none
            if some_escaped and escapes[mine].any():
                plain = [(column_of(key), form.groups[place]) for key, place in here.chosen.items()]
                values = values.with_columns_seq(
                    structure.unescaped(values[name], tokens[group])
                    for name, group in plain
                    if group is not None and group not in form.raw
                )
            values = values.with_columns_seq(
                structure.items(values[column_of(key)], path) for key, path in here.items.items()
            )
            pieces.append(values)
            rows = rows.clear() if mine is rows else rows.filter(~matched)
        return rows

    remaining = texts.is_not_null().arg_true()
    # the usual log has one or two forms, for which sorting the texts by form would cost more than reading them
    if not _has_many(texts, remaining, structure):
        remaining = by_forms(remaining, _FEW_FORMS)
    # many forms: texts that look alike are read together, so that each regex meets only its own
    if len(remaining) > _MANY:
        remaining = pl.concat([by_forms(rows, _FEW_FORMS) for rows in _alike(texts, remaining, structure)])
    remaining = by_forms(remaining, MOST_FORMS)
    # what is left has a form of its own, or is odd
    single, bad = _one_by_one(texts, pl.concat([*odd, remaining]) if odd else remaining, structure, wanted, prefix)
    frame = _together(len(texts), [*pieces, *single], wanted)
    good = texts.is_not_null()
    return KeyColumns(
        frame.select_seq([column_of(key) for key in wanted]) if wanted else pl.DataFrame(height=len(texts)),
        frame[_MORE],
        put(good, bad, False) if bad else good,
        frame[_FAULT],
    )


def _has_many(texts: pl.Series, rows: pl.Series, structure: Structure) -> bool:
    """Whether texts seem to have more than a few forms, so that to try one after the other on all takes too long."""
    bare = texts[rows.head(_SAMPLE)].str.replace_all(structure.alike, "")
    return len(rows) > _MANY and bare.n_unique() > _FEW_FORMS


def _alike(texts: pl.Series, rows: pl.Series, structure: Structure) -> list[pl.Series]:
    """Rows by what their texts look like without values: a guess at which have the same form."""
    bare = texts[rows].str.replace_all(structure.alike, "")
    groups = pl.DataFrame({"bare": bare, "row": rows}).group_by("bare", maintain_order=True).agg("row")
    # nearly every text looks different: the guess has told nothing
    if groups.height * 10 > len(rows):
        return [rows]
    if groups.height > MOST_FORMS:
        groups = groups.sort(pl.col("row").list.len(), descending=True, maintain_order=True)
        return [*groups["row"].head(MOST_FORMS), groups["row"].slice(MOST_FORMS).explode()]
    return list(groups["row"])


def _form_of(text: str, structure: Structure, wanted: tuple[str, ...], most: int) -> _Form | None:
    """The form of a text; None where it has none, or none with so few values that a regex for it is worth its time."""
    values = structure.values(text)
    if values is None or len(values) > min(_MOST_KEYS, most):
        return None
    outline: list[str] = []
    groups: list[str | None] = []
    last = 0
    for value in values:
        # such as a value over more lines than any kind's regex allows: read by itself
        if value.kind not in structure.kinds and value.kind:
            return None
        groups.append(f"{len(outline) // 2}" if value.kind else None)
        if value.kind:
            outline += [text[last : value.start], value.kind]
            last = value.end
    raw = frozenset(group for value, group in zip(values, groups, strict=True) if group and value.kind.endswith("list"))
    regex = _regex((*outline, text[last:]), tuple(sorted(structure.kinds.items())))
    keys = tuple(value.path for value in values)
    return _Form(regex, keys, tuple(groups), raw, _fault(structure, values, wanted))


def _fault(structure: Structure, values: Sequence[Value], wanted: tuple[str, ...]) -> str | None:
    """What is strange about a text: what its structure says, or that a key stands there more than once."""
    found = structure.fault(values)
    keys = tuple(value.path for value in values)
    if (
        found is None
        and is_twice(keys)
        and (not structure.may_repeat or taken(keys, wanted, structure.has_lists).repeated)
    ):
        return "repeated-key"
    return found


@functools.lru_cache(maxsize=4096)
def _regex(outline: tuple[str, ...], kinds: tuple[tuple[str, str], ...]) -> str:
    """A form's regex: text as it stands, and the kinds of values at every second place."""
    known = dict(kinds)
    return "^" + "".join(f"({known[piece]})" if i % 2 else escape(piece) for i, piece in enumerate(outline)) + "$"


def _by_form(texts: pl.Series, form: _Form, structure: Structure) -> tuple[pl.DataFrame, pl.Series] | None:
    """The values, as written, of the texts of a form, and which these are; None where the first is not among them."""
    # keys alone say all: there is nothing to take out
    names = [group for group in form.groups if group is not None]
    if not names:
        matched = texts.str.contains(form.regex)
        return (pl.DataFrame(height=int(matched.sum())), matched) if matched[0] else None
    try:
        groups = texts.str.extract_groups(form.regex).struct.unnest()
    except pl.exceptions.ComputeError:  # larger than the engine allows
        return None
    groups.columns = names
    matched = groups.to_series(0).is_not_null()
    # the text it was made of has to be among them; if it is not, the form is no true picture of it
    if not matched[0]:
        return None
    return groups if matched.all() else rows_where(groups, matched), matched


@functools.lru_cache(maxsize=1024)
def _meanings(
    keys: tuple[str, ...],
    groups: tuple[str | None, ...],
    structure: Structure,
    wanted: tuple[str, ...],
    prefix: str,
    always: bool,
) -> list[pl.Expr]:
    """The wanted values as text, the others as a JSON object; always: whether every value is there."""

    def json_values(place: int) -> pl.Expr:
        group = groups[place]
        if group is None:
            return pl.lit("true")
        return pl.col(group) if always else structure.json_values(pl.col(group))

    def as_list(places: tuple[int, ...]) -> pl.Expr:
        items = [json_values(place).fill_null("null") for place in places]
        return pl.concat_str(pl.lit("["), pl.concat_str(items, separator=","), pl.lit("]"))

    here = taken(keys, wanted, structure.has_lists)
    meant: list[pl.Expr] = []
    for key, place in here.chosen.items():
        group = groups[place]
        meant.append((pl.lit("true") if group is None else structure.meaning(pl.col(group))).alias(column_of(key)))
    meant += [as_list(places).alias(column_of(key)) for key, places in here.lists.items()]
    others = {
        f"{json.dumps(prefix + key, ensure_ascii=False)}:": (
            json_values(places[0]) if len(places) == 1 else as_list(places)
        )
        for key, places in here.left.items()
    }
    if not others:
        more = pl.lit(None, dtype=pl.String)
    # no value can be null, so no comma can be one too many
    elif always:
        pieces = [[pl.lit(f",{key}"), value] for key, value in others.items()]
        pieces[0][0] = pl.lit("{" + next(iter(others)))
        more = pl.concat_str([*(part for piece in pieces for part in piece), pl.lit("}")])
    else:
        members = [pl.concat_str(pl.lit(f",{key}"), value).fill_null("") for key, value in others.items()]
        inside = pl.concat_str(members).str.slice(1)
        more = pl.when(inside != "").then(pl.concat_str(pl.lit("{"), inside, pl.lit("}")))
    return [*meant, more.alias(_MORE)]


def _one_by_one(
    texts: pl.Series, rows: pl.Series, structure: Structure, wanted: Sequence[str], prefix: str
) -> tuple[list[pl.DataFrame], list[int]]:
    """Some texts' values, and the rows that lack the structure."""
    found: dict[str, list[str | None]] = {name: [] for name in (*map(column_of, wanted), _MORE, _FAULT)}
    where: list[int] = []
    bad: list[int] = []
    for row in rows.to_list():
        text = texts[row]
        values = structure.values(text)
        if values is None:
            bad.append(row)
            continue
        here = taken(tuple(value.path for value in values), tuple(wanted), structure.has_lists)
        found[_FAULT].append(_fault(structure, values, tuple(wanted)))
        for path in wanted:
            if path in here.lists:
                items = [_as_json(values[place], text, structure) or "null" for place in here.lists[path]]
                found[column_of(path)].append(f"[{','.join(items)}]")
            else:
                value = values[here.chosen[path]].text if path in here.chosen else None
                item = structure.item(value, here.items[path]) if path in here.items else value
                found[column_of(path)].append(item)
        members: list[str] = []
        for key, places in here.left.items():
            others = [_as_json(values[place], text, structure) for place in places]
            whole = others[0] if len(others) == 1 else f"[{','.join(item or 'null' for item in others)}]"
            if whole is not None:
                members.append(f"{json.dumps(prefix + key, ensure_ascii=False)}:{whole}")
        found[_MORE].append(f"{{{','.join(members)}}}" if members else None)
        where.append(row)
    if not where:
        return [], bad
    frame = pl.DataFrame(found, schema=dict.fromkeys(found, pl.String))
    return [frame.with_columns_seq(pl.Series("#row", where, dtype=pl.UInt32))], bad


def _as_json(value: Value, text: str, structure: Structure) -> str | None:
    """A value as JSON; None where it is as if it were missing."""
    if not value.kind:
        return "true"
    if value.text is None:
        return None
    if structure.nothing is not None:
        return text[value.start : value.end]
    return json.dumps(value.text, ensure_ascii=False)


def _together(height: int, pieces: list[pl.DataFrame], wanted: Sequence[str]) -> pl.DataFrame:
    """Frames of some rows each as one of all rows, in order."""
    columns = dict.fromkeys((*map(column_of, wanted), _MORE, _FAULT), pl.String())
    null = pl.lit(None, dtype=pl.String)
    frames = [
        piece.select_seq("#row", *(pl.col(name) if name in piece.columns else null.alias(name) for name in columns))
        for piece in pieces
    ]
    if len(frames) == 1 and frames[0].height == height:
        return frames[0].sort("#row") if not frames[0]["#row"].is_sorted() else frames[0]
    if not frames:
        return pl.DataFrame({name: [None] * height for name in columns}, schema=columns)
    whole = pl.concat(frames, rechunk=True)
    # rows without a piece point nowhere, and get nulls
    nowhere = pl.Series([None], dtype=pl.UInt32).new_from_index(0, height)
    places = put(nowhere, whole["#row"], pl.int_range(whole.height, dtype=pl.UInt32, eager=True))
    return whole.select_seq(pl.col(name).gather(places) for name in columns)
