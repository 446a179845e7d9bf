"""Texts broken into cells: words, values by their look, quoted text, signs and blanks."""

from __future__ import annotations

import json
import re
from collections.abc import Iterable
from functools import lru_cache
from typing import NamedTuple

from kinglet.timestamps.known_forms import COLOURED

TIME, ADDRESS, NUMBER, PATH, MAIL, URL, QUOTED, SIZE, NAME, JSON, COLOURING = "tanpmuqzije"
"""What a cell looks like. NUMBER is anything of digits, NAME a word with digits, points or the like in it, COLOURING a
sequence that colours what follows.
"""
WORD = "w"
"""A word that was found to vary."""
TEXT = "x"
"""Several words that vary."""

_UNIT = r"(?:ms|us|µs|ns|s|sec|min|h|d|%|[KMGT]i?B|[kKMGT]?b|B)"
_V4 = r"[0-9]{1,3}(?:\.[0-9]{1,3}){3}"
_GROUPS = "[0-9A-Fa-f]{1,4}(?::[0-9A-Fa-f]{1,4})*"
_V6 = rf"(?:(?:[0-9A-Fa-f]{{1,4}}:){{7}}[0-9A-Fa-f]{{1,4}}|(?:{_GROUPS})?::(?:{_GROUPS})?)"
_QUOTES = (
    r"(?:(?<=[\s=:(\[,{|;])|^)\"(?P<q>[^\"\n]*)\"(?!\w)",
    r"(?:(?<=[\s=:(\[,{|;])|^)'(?P<q2>[^'\n]*)'(?!\w)",
)
COLOUR = r"\x1b\[[0-9;]*m"
"""A sequence that colours what follows (ECMA-48)."""
_BYTES = "[0-9A-Fa-f]{{{0}}}(?: {{1,2}}[0-9A-Fa-f]{{{0}}}){{5,}}"
"""Bytes that are written one by one, or in pairs."""
_PIECES = (  # amounts, colours, bytes, blanks, keys, signs that open or part, and the rest of what has no blank in it
    r"(?P<z>(?<![\w.])[0-9]+(?:\.[0-9]+)? ?(?:[KMGT]i?B|bytes)\b)",
    f"(?P<e>{COLOUR})",
    r"(?P<n>(?<=^<)[0-9]{1,3}(?=>))",  # the priority of syslog
    r"(?P<s4>(?<=^<[0-9])>|(?<=^<[0-9]{2})>|(?<=^<[0-9]{3})>)",
    r"(?P<y>(?<=\[)(?P<label>[A-Z]\w+: )(?P<said>[^\s\[\]]+(?: [^\s\[\]]+)+)(?=\]))",
    rf"(?P<x>(?<!\w)(?:{_BYTES.format(2)}|(?=[0-9 ]*[A-Fa-f]){_BYTES.format(4)})(?!\w))",
    r"(?P<i5>(?<=\[)[A-Za-z]{0,6}\.(?=\]))",  # flags, of which a point is one
    r"(?P<b>[ \t]+)",
    r"(?P<k>(?<![^\s,;|&(\[{<])(?!(?:[0-9A-Fa-f]{0,4}:){2})(?:[^\W\d][\w.-]*=|[^\W\d_]{2,}:(?=[0-9\"'\[(]))(?!=))",
    r"(?P<s3>[(\[{<|;\n\"]|'(?!\w))",
    r"(?P<c>(?:(?!,[\w.-]+=|(?<=\])\[|(?<=\w)[(\[{<][^\W\d][\w.-]*=)[^\s|;\"\x1b]|(?<=\w)\"(?=\w))+)",
    r"(?P<s2>.)",
)
_TYPES = (
    ("u", r"[A-Za-z][A-Za-z0-9+.-]*://.+"),
    ("m", r"[\w.+-]+@[\w-]+(?:\.[\w-]+)+"),
    ("n", r"[0-9A-Fa-f]{8}-[0-9A-Fa-f]{4}-[0-9A-Fa-f]{4}-[0-9A-Fa-f]{4}-[0-9A-Fa-f]{12}"),
    ("a", r"(?:[0-9A-Fa-f]{2}[:-]){5}[0-9A-Fa-f]{2}"),
    ("a", _V6),
    ("a", rf"{_V4}(?:/[0-9]{{1,2}})?"),
    ("t", r"[0-9]{1,2}:[0-9]{2}(?::[0-9]{2}(?:[.,][0-9]+)?)?|[0-9]{4}-[0-9]{2}-[0-9]{2}"),
    ("p", r"~?/.*|[A-Za-z]:\\.+"),
    ("n", r"0[xX][0-9A-Fa-f]+|[+-]?[0-9]+(?:\.[0-9]+)?"),
    ("w", r"[^\W\d]+(?:[-'’][^\W\d]+)*"),
)
_SIGNED = re.compile(r"[+-][0-9]+(?:\.[0-9]+)?[^\W\d_]{1,3}$")
"""A number with its sign and a unit, whatever that is."""
_TYPED = re.compile("|".join(f"(?P<{name}_{i}>{part})" for i, (name, part) in enumerate(_TYPES)))
_HASH = r"(?![0-9]{6,8}[bd](?![0-9A-Za-z]))"
"""Seven to nine digits and a letter are hexadecimal digits, rather than so many days."""
_COMPOSED = (
    re.compile(rf"({_V4}|{_V6})([:#/])([0-9]{{1,5}})"),
    re.compile(rf"({_V4})(\.)([0-9]{{2,5}})"),
    re.compile(r"((?:[0-9A-Za-z_-]+\.)+[A-Za-z]{2,})(:)([0-9]{1,5})"),
    re.compile(rf"{_HASH}([+-]?[0-9]{{1,9}}(?:\.[0-9]+)?)({_UNIT})"),
    re.compile(r"([^()\[\]<>]+)([\[(<])([^()\[\]<>]*)([\])>])"),
    re.compile(r"([^()\[\]<>]+)(\()([^()]+\([^()]*\))"),
    re.compile(r"([^\"'\[(<]*)([\"'])([^\"']+)(\2)"),
    re.compile(r"([^\"]+)(\")([^\"]+)"),
    re.compile(r"([^()\[\]<>]+)([\])>][^\w\s()\[\]<>\"']*)([^()\[\]<>]+)"),
)
"""Text without blanks that has parts of its own: an address or a host and a port, a number and its unit, a name and a
number, a letter and a quoted text, what stands in a bracket and what is behind that.
"""
_LONGEST = 2000
"""Characters of a text that are looked into."""
QUOTING = "«»„“”‘’‚‹›"
_LEADING = "#*@$&!~^+-,:=" + QUOTING
_ENDING = ",;:.!?=\"'" + QUOTING
_CLOSERS = ("]", ")")
_CLOSING = {")": "(", "]": "[", "}": "{", ">": "<"}


class Cells(NamedTuple):
    """A text in cells: their keys, equal where texts are to be compared as equal, and their texts."""

    keys: tuple[str, ...]
    texts: tuple[str, ...]


def value(kind: str) -> str:
    """The key of cells that are values of this look."""
    return "\ue000" + kind


def is_value(key: str) -> bool:
    return key[0] == "\ue000"


def is_word(key: str) -> bool:
    """Whether a cell is a word as it stands."""
    return key[0].isalpha() or key[0] == "_"


@lru_cache(32)
def _regex(stamps: tuple[str, ...]) -> re.Pattern[str]:
    lone = r"(?<![\w.:/-])"
    letter = f"(?:{lone}(?=[A-Z][0-9]{{4}}))[A-Z]"  # of a level, as some programs have it directly before the stamp
    digits = "(?<=[0-9A-Za-z]:)(?=(?:19|20)[0-9]{6}[:T_-]?[0-9])"  # in a row of numbers
    before, behind = rf"(?:{lone}|(?<={letter})|{digits}|{COLOURED})", "(?![0-9A-Za-z_]|:[0-9A-Fa-f])"
    stamp = f"(?i:{'|'.join(stamps)}){behind}"
    # signs directly before a stamp are no part of it, nor of a word
    parts = (
        [
            f"(?P<t>{before}{stamp})",
            f"(?P<c0>{letter}(?={stamp}))",
            rf"(?P<c1>[^\s|;\"\x1b'(\[{{<]{{1,40}}?[>)\]}}:](?:(?<!:)|{digits})(?={stamp}))",
            rf"(?P<s0>[^\w\s.:/|;,()\[\]{{}}<>\"'-]+(?=[(\[{{<\"']?{stamp}))",
        ]
        if stamps
        else []
    )
    return re.compile("|".join([*parts, *_QUOTES, *_PIECES]), re.DOTALL)


def cells(texts: Iterable[str], stamps: Iterable[str] = ()) -> list[Cells]:
    """The cells of texts. stamps: regexes of stamps in them."""
    regex = _regex(tuple(dict.fromkeys(stamps)))
    return [_cells(text, regex) for text in texts]


def _cells(text: str, regex: re.Pattern[str]) -> Cells:
    keys: list[str] = []
    found: list[str] = []
    tail = _json_tail(text)
    end = len(text) - len(tail)
    if end > _LONGEST:  # what is behind is text
        cut = text.rfind(" ", _LONGEST // 2, _LONGEST)
        end = cut + 1 if cut > 0 else _LONGEST
    is_json = end == len(text) - len(tail)
    tail = text[end:]
    for piece in regex.finditer(text, 0, end):
        kind = (piece.lastgroup or "s")[0]
        part = piece[0]
        match kind:
            case "c" | "k":
                inner = _chunk(part)
                keys += inner.keys
                found += inner.texts
                continue
            case "q":
                content = piece[piece.lastgroup or 0]
                address = _COMPOSED[0].fullmatch(content)
                inner = _core(content) if address is not None else Cells((value(_look(content)),), (content,))
                keys += [part[0], *inner.keys, part[0]]
                found += [part[0], *inner.texts]
                part = part[-1]
            case "y":  # words behind a label in brackets
                keys += [piece["label"][:-2], ":", " ", value(TEXT)]
                found += [piece["label"][:-2], ":", " "]
                part = piece["said"]
            case "b" if keys and is_word(keys[-1]) and text[piece.end() : piece.end() + 1] in _CLOSERS:
                keys[-1] += part  # it fills the word up
                found[-1] += part
                continue
            case "b":
                keys.append("\t" if part == "\t" else " ")  # a blank of a pattern is any blanks
            case "s":
                keys.append(part)
            case _:
                keys.append(value(kind))
        found.append(part)
    if tail:
        keys.append(value(JSON) if is_json else value(TEXT))
        found.append(tail)
    return Cells(tuple(keys), tuple(found))


@lru_cache(1 << 16)
def _chunk(text: str) -> Cells:
    """The cells of text without blanks: signs around it by themselves, and within it only where its form is known."""
    core, signs = text, ""
    while core and (
        (core[-1] in _ENDING and not _closes_quote(core))
        or (core[-1] in _CLOSING and core.count(_CLOSING[core[-1]]) < core.count(core[-1]))
    ):
        core, signs = core[:-1], core[-1] + signs
    lead = ""
    while len(core) > 1 and core[0] in _LEADING and not _TYPED.fullmatch(core) and not _SIGNED.match(core):
        core, lead = core[1:], lead + core[0]
    inner = _core(core) if core else Cells((), ())
    return Cells((*lead, *inner.keys, *signs), (*lead, *inner.texts, *signs))


def _closes_quote(text: str) -> bool:
    """Whether a text ends with the second of two quotes, the first of which does not begin it."""
    return text[-1] in "\"'" and text.count(text[-1]) == 2 and text[0] != text[-1]


def _core(text: str) -> Cells:
    if not any(char.isalnum() for char in text):
        return Cells(tuple(text), tuple(text))
    kind = _look(text, "i")
    if kind == "w":
        return Cells((text,), (text,))
    if kind == "i":
        for form in _COMPOSED:
            if composed := form.fullmatch(text):
                keys: list[str] = []
                texts: list[str] = []
                for i, part in enumerate(composed.groups()):
                    own = Cells((part,) if part else (), (part,) if part else ()) if i % 2 or not part else _core(part)
                    keys += own.keys
                    texts += own.texts
                return Cells(tuple(keys), tuple(texts))
    return Cells((value(kind),), (text,))


def _look(text: str, otherwise: str = QUOTED) -> str:
    """What a text looks like: the look of its whole, or none of these."""
    typed = _TYPED.fullmatch(text)
    kind = (typed.lastgroup or otherwise)[0] if typed else otherwise
    return QUOTED if kind == "w" and otherwise == QUOTED else kind


def _json_tail(text: str) -> str:
    """The JSON object that a text ends with."""
    if not text.endswith("}"):
        return ""
    start = text.find('{"')
    while start >= 0:
        try:
            if isinstance(json.loads(text[start:]), dict):
                return text[start:]
        except ValueError:
            pass
        except RecursionError:
            return ""
        start = text.find('{"', start + 1)
        if start > 4000:
            break
    return ""
