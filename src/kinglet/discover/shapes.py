"""The forms that events have: fixed text kept, variable parts as slots.

What has a digit or stands in quotes varies; a word varies where many words stand at its place and
everything around it is the same.
"""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from functools import lru_cache
from typing import NamedTuple

import polars as pl

MOST_FORMS = 4000
"""So many different forms are compared with each other; of a log that has more, the commonest."""
_SLOT = "\ue000{}\ue001"
_ANY_SLOT = re.compile("\ue000([a-z])\ue001")
_NUMBER = r"[0-9A-Za-z_]*[0-9][0-9A-Za-z_]*(?:[.:+@-]+[0-9A-Za-z_]+)*"
SLOT_REGEX = {
    "q": r'[^"]*',
    "v": r"[^\s,;|]*",
    "n": r"[+-]?(?:[A-Za-z_-]+\.)*" + _NUMBER + r"(?:%[0-9A-Za-z]+)?",
    "w": r"\S+",
    "p": r"/[^\s\"',;:)\]]*",
    "r": r"(?s:.*)",
}
_KINDS = {"t": "stamp:time", "q": "text", "v": "value", "n": "value", "w": "word", "p": "path", "r": "rest"}
_LIKE_A_VALUE = re.compile(r"[A-Za-z][._@\\/][A-Za-z]")
_MANY_VALUES, _MANY_WORDS = 2, 8  # more than so many at one place vary
_TOKEN = re.compile(r"[ (\n]|[^ (\n]+")
_BEFORE_NAMES = {  # words behind which a name stands: what is there twice and not the same varies
    "user", "account", "host", "group", "name", "id", "file", "device", "interface", "role", "domain", "service",
    "process", "session", "package", "client", "server", "state", "method",
}  # fmt: skip
_BEFORE_VALUES = {"by", "from", "to", "for", "on", "at", "in"}
_KEY = re.compile(r"[\[({,;]*[A-Za-z_][\w.-]*=")


class LineForm(NamedTuple):
    """A form of events: its text with slots, and the rows that have it."""

    text: str
    rows: pl.Series

    @property
    def slots(self) -> list[str]:
        return _ANY_SLOT.findall(self.text)


def forms(texts: pl.Series, stamps: list[str], *, pairs: bool = False) -> list[LineForm]:
    """The forms of texts, the commonest first.

    stamps: regexes of the stamps in them, each with a group around what stands before. pairs: texts
    are key=value, whose values vary.
    """
    coarse = texts
    for regex in stamps:
        coarse = coarse.str.replace(regex, "${1}" + _SLOT.format("t"))
    keys = coarse.str.contains('":', literal=True).any()
    if keys:  # the names of JSON members are no values
        coarse = coarse.str.replace_all(r'"([A-Za-z_][\w.-]*)"( ?:)', "\ue005${1}\ue005${2}")
    coarse = coarse.str.replace_all(r'"[^"\n]*"', f'"{_SLOT.format("q")}"')
    if keys:
        coarse = coarse.str.replace_all("\ue005", '"', literal=True)
    if pairs:
        coarse = coarse.str.replace_all(r"([A-Za-z_][\w.-]*=)[^\s,;|\"\x{e000}\x{e001}]*", f"${{1}}{_SLOT.format('v')}")
        coarse = coarse.str.replace_all(f'{_SLOT.format("v")}"', '"')
    coarse = coarse.str.replace_all(r"(^|[ =(\[])/[^\s\"',;:)\]\x{e000}]+", "${1}" + _SLOT.format("p"))
    coarse = coarse.str.replace_all(r"(?:\b[A-Za-z_-]+\.)*" + _NUMBER, _SLOT.format("n"))
    coarse = coarse.str.replace_all(r"[ \t]+", " ").str.strip_chars_end(" ")
    frame = pl.DataFrame([coarse.alias("form"), pl.int_range(len(coarse), eager=True).alias("row")])
    grouped = (
        frame.group_by("form", maintain_order=True)
        .agg("row", pl.len().alias("count"))
        .sort("count", descending=True, maintain_order=True)
    )
    merged = _merged(grouped["form"].to_list(), grouped["count"].to_list())
    rows: dict[str, list[int]] = defaultdict(list)
    for i, text in enumerate(merged):
        rows[text].append(i)
    lists = grouped["row"]
    found = [
        LineForm(text, lists.gather(members).explode().sort() if len(members) > 1 else lists[members[0]])
        for text, members in rows.items()
    ]
    return sorted(found, key=lambda form: -len(form.rows))


def _merged(texts: list[str], counts: list[int]) -> list[str]:
    """The forms with words that vary as slots, in the same order; equal ones are one form."""
    kept = texts[:MOST_FORMS]
    now = [tuple(_TOKEN.findall(text)) for text in kept]
    weight = counts[: len(kept)]
    for _ in range(6):
        changed = _one_round(now, weight)
        if changed == now:
            break
        now = changed
    return ["".join(tokens) for tokens in now] + texts[MOST_FORMS:]


def _one_round(forms: list[tuple[str, ...]], weight: list[int]) -> list[tuple[str, ...]]:
    places: dict[tuple[int, tuple[str, ...]], Counter[str]] = defaultdict(Counter)
    distinct = dict.fromkeys(forms)
    for tokens in distinct:
        for i, token in enumerate(tokens):
            name, word = _varying(token)
            if word:
                places[i, (*tokens[:i], f"{name}\0", *tokens[i + 1 :])][word] += 1
    varying: dict[tuple[int, tuple[str, ...]], bool] = {}
    for key, words in places.items():
        if len(words) > 1:
            values = sum(bool(_LIKE_A_VALUE.search(word)) or "\ue000" in word for word in words)
            limit = _MANY_VALUES if values >= len(words) * 0.6 else _MANY_WORDS
            if all("\ue000" in word for word in words):
                limit = 1
            place, tokens = key
            before = tokens[place - 2].lower() if place > 1 else ""
            if before in _BEFORE_NAMES or tokens[place] != "\0":
                limit = 1
            elif before in _BEFORE_VALUES:
                limit = 2 if values < len(words) * 0.6 else 1
            varying[key] = len(words) > limit
    result: list[tuple[str, ...]] = []
    cache: dict[tuple[str, ...], tuple[str, ...]] = {}
    for tokens in forms:
        if tokens not in cache:
            out = list(tokens)
            for i, token in enumerate(tokens):
                name, word = _varying(token)
                if word and varying.get((i, (*tokens[:i], f"{name}\0", *tokens[i + 1 :]))):
                    out[i] = name + _with_slot(word)
            cache[tokens] = tuple(out)
        result.append(cache[tokens])
    return result


@lru_cache(1 << 16)
def _varying(token: str) -> tuple[str, str]:
    """What of a token is the key of a pair, and the word that might vary; no word where none might."""
    key = _KEY.match(token)
    word = token[key.end() :] if key else token
    might = re.search("[A-Za-z]", word) and word != _SLOT.format("w")
    return key[0] if key else "", word if might else ""


def _with_slot(token: str) -> str:
    """A token as a slot; punctuation at its ends stays."""
    match = re.fullmatch(r"([\[(<'\"]*)(.*?)([\])>'\",;:.]*)", token)
    assert match is not None
    return f"{match[1]}{_SLOT.format('w')}{match[3]}"


def regex_of(form: str, stamp: str) -> str:
    """The regex of a form, with a group for each slot; stamp is that of its stamps."""
    parts = re.split("(\ue000[a-z]\ue001)", form)
    out = "^"
    for part in parts:
        slot = _ANY_SLOT.fullmatch(part)
        if slot:
            out += f"({stamp if slot[1] == 't' else SLOT_REGEX[slot[1]]})"
        else:
            out += re.sub(" ", r"[ \\t]+", re.sub(r"([\\.^$*+?{}\[\]()|#&~-])", r"\\\1", part)).replace("\n", r"\n")
    return out + r"\s*$"


def shown(form: str, names: list[str]) -> str:
    """A form as a pattern: slots by their names in braces, fixed text as it stands."""
    remaining = iter(names)

    def name(match: re.Match[str]) -> str:
        text = next(remaining, _KINDS[match[1]])
        if text.startswith("\ue002"):
            return escaped(text[1:].replace("\ue003", ""))
        inside, _, ending = text.partition("\ue004")
        return "{" + inside + "}" + escaped(ending)

    pieces = re.split("(\ue000[a-z]\ue001)", form)
    whole = "".join(_ANY_SLOT.sub(name, piece) if i % 2 else escaped(piece) for i, piece in enumerate(pieces))
    return whole.replace('{"[["}[', '[{"[["}')


def escaped(text: str) -> str:
    """Fixed text as a pattern has it."""
    return re.sub(r"([{}])", r"\1\1", text).replace("[[", '{"[["}').replace("]]", '{"]]"}')
