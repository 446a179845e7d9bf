"""Texts of structures with given values."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping
from typing import Any

from kinglet.structured.blocks import Blocks
from kinglet.structured.by_form import Structure
from kinglet.structured.delimited import Delimited
from kinglet.structured.pairs import Pairs
from kinglet.structured.xml_elements import XmlElements

Values = Mapping[str, str]


def _json(structure: Any, values: Values, typed: Values) -> str | None:
    whole: dict[str, Any] = {}
    for path, text in values.items():
        *above, last = path.split(".")
        inner = whole
        for part in above:
            inner = inner.setdefault(part, {})
            if not isinstance(inner, dict):
                return None  # one key holds another, which is read as text too
        if isinstance(inner.get(last), dict):
            return None
        inner[last] = _of_type(text, typed.get(path, "text"))
    return json.dumps(whole, ensure_ascii=False)


def _of_type(text: str, kind: str) -> Any:
    """A number as a number, where JSON writes it as the log would."""
    if kind in ("int", "float", "bool"):
        try:
            value = json.loads(text)
        except ValueError:
            return text
        return value if json.dumps(value) == text else text
    return text


def _pairs(structure: Any, values: Values, typed: Values) -> str | None:
    equals, between, quote = structure.equals, structure.between, structure.quote
    out = []
    for key, text in values.items():
        plain = text and not any(sign in text for sign in (quote, "\\", "'", "\n", "\r", *between, " ", "\t"))
        escaped = text.replace("\\", "\\\\").replace(quote, f"\\{quote}")
        out.append(f"{key}{equals}{text if plain else quote + escaped + quote}")
    return str(between).join(out)


def _delimited(structure: Any, values: Values, typed: Values) -> str | None:
    quote = structure.quote
    cells = []
    for name in structure.names:
        text = values.get(name, "" if structure.none is None else structure.none)
        odd = any(sign in text for sign in (quote, structure.delimiter, "\n", "\r")) or text != text.strip()
        odd = odd or (name in values and text == structure.none)
        cells.append(quote + text.replace(quote, quote * 2) + quote if odd else text)
    return str(structure.delimiter).join(cells)


def _block(structure: Any, values: Values, typed: Values) -> str | None:
    lines = []
    for path, text in values.items():
        if "[" in path or "." in path or "\n" in text or text != text.strip() or not text:
            return None
        lines.append(f"{path}{structure.equals} {text}")
    return "\n".join(lines)


def _xml(structure: Any, values: Values, typed: Values) -> str | None:
    return None


_MAKERS: Mapping[type[Any], Callable[[Any, Values, Values], str | None]] = {
    Pairs: _pairs,
    Delimited: _delimited,
    Blocks: _block,
    XmlElements: _xml,
}


def structured(structure: Structure, values: Values, typed: Values) -> str | None:
    """A text of a structure that has these values by key; none where it cannot be made.

    typed: the types of values by key: numbers are written as JSON numbers.
    """
    make = _json if structure.name == "json" else _MAKERS.get(type(structure))
    if make is None or any("[" in path for path in values):
        return None
    return make(structure, values, typed)
