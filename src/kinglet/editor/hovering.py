"""What is said of a place in a parser file: a key, a slot type, an attribute of the model, a pattern, a slot."""

from __future__ import annotations

import re

import polars as pl

from kinglet.editor.completing import SECTIONS, class_at, described
from kinglet.editor.where import item_lines, where
from kinglet.errors import ModelError
from kinglet.insight.explaining import explain
from kinglet.insight.values import values_of
from kinglet.names import field_of
from kinglet.ocsf.loading import load_model
from kinglet.parser import Parser
from kinglet.patterns.types import TYPES

_SLOT = re.compile(r"\{([A-Za-z_]\w*)?(?::([^{}]*))?\}")
_SHOWN = 5


def hover(text: str, line: int, column: int, parser: Parser | None, events: pl.DataFrame | None) -> str:
    """What there is to say of a place, as Markdown; nothing where there is nothing.

    line, column: from 0. parser, events: as it was last loaded, and what it reads of the sample.
    """
    here = text.split("\n")[line] if line <= text.count("\n") else ""
    for match in _SLOT.finditer(here):
        if match.start() <= column < match.end() and (match[1] or match[2]):
            return _of_slot(match[1], match[2] or "word", events)
    word = next((m for m in re.finditer(r"[\w.]+", here) if m.start() <= column <= m.end()), None)
    if word is None:
        return ""
    place = where(text, line, word.start())
    is_key = here[word.end() :].lstrip().startswith(":")
    if is_key and place.path[-1:] == ("set",):
        return _of_attribute(text, line, word[0])
    if is_key and word[0] in ("pattern", "regex") and parser is not None:
        return _of_pattern(text, line, parser)
    if is_key and (section := SECTIONS.get(place.path)) is not None:
        for name, info in section.model_fields.items():
            if word[0] == (info.alias or name):
                return f"**{word[0]}**: {info.description}" if info.description else f"**{word[0]}**"
    if word[0] in TYPES and place.path[-1:] == ("types",):
        return f"**{word[0]}**: {TYPES[word[0]].about}"
    if events is not None and field_of(word[0]) in events.columns:
        return _of_slot(word[0], "", events)
    return ""


def _of_slot(name: str | None, kind: str, events: pl.DataFrame | None) -> str:
    """A slot: its type, and what it took in the sample."""
    about = TYPES[kind].about if kind in TYPES else f"one of {', '.join(kind.split('|'))}" if "|" in kind else kind
    said = f"**{name or 'not kept'}**" + (f": {about}" if about else "")
    if name is None or events is None or field_of(name) not in events.columns:
        return said
    found = values_of(events, name, _SHOWN)
    values = ", ".join(f"`{one.value[:60]}` ({one.count:,})" for one in found.values)
    return f"{said}\n\nin {found.count:,} of {found.of:,} events, {found.distinct:,} different: {values}"


def _of_attribute(text: str, line: int, path: str) -> str:
    found = class_at(text, line)
    if found is None:
        return ""
    try:
        attribute = load_model().path(found, path)[-1]
    except ModelError:
        return ""
    values = ", ".join(f"{number} {caption}" for number, caption in list(attribute.enum.items())[:20])
    return f"**{attribute.caption}** (`{path}`): {described(attribute)}" + (f"\n\n{values}" if values else "")


def _of_pattern(text: str, line: int, parser: Parser) -> str:
    """The regexes that the pattern of a variant becomes."""
    starts = item_lines(text, "variants")
    number = sum(at <= line for at in starts) - 1
    overview = explain(parser)
    found = overview.variants[number] if 0 <= number < len(overview.variants) else overview.envelope
    if found is None or not found.regexes:
        return ""
    return "becomes\n\n" + "\n".join(f"```\n{regex}\n```" for regex in found.regexes)
