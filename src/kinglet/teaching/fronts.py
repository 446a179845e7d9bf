"""A value at the same place from the start in nearly all texts, whatever words stand there."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import NamedTuple

from kinglet.mining.cells import NAME, cells, is_value, is_word, value
from kinglet.patterns.grammar import escaped
from kinglet.teaching.places import type_of_values

_MOSTLY = 0.9
_LOOKED_AT = 500


class Front(NamedTuple):
    """pattern: of what stands in front of the value; behind: the sign behind it. values: by the numbers of texts."""

    pattern: str
    behind: str
    values: dict[int, str]


def front_of(texts: Sequence[str], marks: Mapping[int, str | None]) -> Front | None:
    """The place of a value by its number from the start; none where not nearly all texts begin alike up to it."""
    lines = cells([text.partition("\n")[0] for text in texts])
    told = {row: text for row, text in marks.items() if text is not None}
    first = next(iter(told))
    for i, text in enumerate(lines[first].texts):
        if text != told[first]:
            continue
        signs = _signs(lines[first].keys[: i + 1])
        behind = _sign_behind(lines[first].keys, i)
        if i and not behind and not any(len(key) == 1 and key != " " for key in signs[:-1]):
            continue  # words and blanks alone tell no place
        having = [
            row for row, line in enumerate(lines)
            if _signs(line.keys[: i + 1]) == signs and _sign_behind(line.keys, i) == behind
        ]  # fmt: skip
        values = {row: lines[row].texts[i] for row in having}
        if len(values) >= _MOSTLY * len(texts) and all(values.get(row) == text for row, text in marks.items()):
            columns = [[lines[row].texts[k] for row in having[:_LOOKED_AT]] for k in range(i)]
            pattern = "".join(_piece(key, column) for key, column in zip(signs[:-1], columns, strict=True))
            return Front(pattern, behind, values)
    return None


def _sign_behind(keys: Sequence[str], i: int) -> str:
    """The sign directly behind a cell, if there is one."""
    behind = keys[i + 1] if len(keys) > i + 1 else ""
    return behind if len(behind) == 1 and not behind.isalnum() and behind != " " else ""


def _signs(keys: Sequence[str]) -> tuple[str, ...]:
    """The cells of a text, words and names all alike."""
    return tuple("word" if is_word(key) or key == value(NAME) else key for key in keys)


def _piece(key: str, texts: Sequence[str]) -> str:
    """A cell as a pattern has it that keeps nothing."""
    if key == "word" or is_value(key):
        return f"{{:{type_of_values(texts)}}}"
    return escaped(key)
