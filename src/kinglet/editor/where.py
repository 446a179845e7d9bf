"""Where in a parser file a place is, also while the file is half written: by its lines, not by reading it as YAML."""

from __future__ import annotations

import re
from typing import NamedTuple

_KEY = re.compile(r"(?P<indent>[ ]*)(?P<dash>(?:- +)*)(?P<key>[\w.-]+|'[^']*'|\"[^\"]*\")\s*:(?:\s|$)(?P<value>.*)")


class Where(NamedTuple):
    """A place in a file.

    path: the keys above it, the items of lists left out. key: the one whose value it is in, "" where a key is to stand.
    word: what stands in front of it of a word. item: the number of the item of the list at the top level it is in.
    """

    path: tuple[str, ...]
    key: str
    word: str
    item: int


def where(text: str, line: int, column: int) -> Where:
    """The place of a line and column, both from 0."""
    lines = text.split("\n")
    here = lines[line][:column] if line < len(lines) else ""
    path = _above(lines, line, len(here) - len(here.lstrip(" ")) if here.strip() else column)
    match = _KEY.fullmatch(here)
    inside, key = re.sub(r"^\s*(?:- *)*", "", here), ""
    if match is not None:
        key, inside = match["key"].strip("'\""), match["value"]
    opened = _open_braces(inside)
    for piece in opened[:-1]:
        path, key = (*path, key) if key else path, piece
    if opened:
        path = (*path, key) if key else path
        found = re.search(r"([\w.-]+|'[^']*')\s*:\s*([^,]*)$", opened[-1])
        key, inside = (found[1].strip("'"), found[2]) if found else ("", opened[-1].rpartition(",")[2])
    word = re.search(r"[\w.%/+-]*$", inside)
    return Where(path, key, word[0] if word else "", _item(lines, line))


def item_lines(text: str, key: str) -> list[int]:
    """The lines, from 0, on which the items of a list at the top level begin."""
    lines = text.split("\n")
    start = next((i for i, own in enumerate(lines) if own.startswith(f"{key}:")), len(lines))
    found: list[int] = []
    indent: int | None = None
    for i, own in enumerate(lines[start + 1 :], start + 1):
        if own.strip() and not own.startswith((" ", "-", "#")):
            break
        if own.lstrip().startswith("- ") and (indent is None or len(own) - len(own.lstrip(" ")) == indent):
            indent = len(own) - len(own.lstrip(" "))
            found.append(i)
    return found


def section_of(text: str, line: int) -> str:
    """The lines of the section at the top level that a line is in; where that is a list, of the item."""
    lines = text.split("\n")
    tops = [i for i, own in enumerate(lines) if re.match(r"[A-Za-z]", own)]
    start = max((i for i in tops if i <= line), default=0)
    starts = [start, *item_lines(text, lines[start].partition(":")[0]), *tops, len(lines)]
    return "\n".join(lines[max(i for i in starts if i <= line) : min(i for i in starts if i > line)])


def _item(lines: list[str], line: int) -> int:
    """The number of the item that a line is in, of the list at the top level around it."""
    top = next((own.partition(":")[0] for own in reversed(lines[: line + 1]) if re.match(r"[A-Za-z]\w*:", own)), "")
    return max(sum(at <= line for at in item_lines("\n".join(lines), top)) - 1, 0)


def _open_braces(text: str) -> list[str]:
    """What stands in open braces of YAML, which those of patterns are not: the keys above, and the innermost."""
    found: list[str] = []
    start, quote = 0, ""
    for i, sign in enumerate(text):
        if quote:
            quote = "" if sign == quote else quote
        elif sign in "'\"" and (i == 0 or text[i - 1] in " {[,"):
            quote = sign
        elif sign == "{" and (i == 0 or text[i - 1] in " [,{"):
            name = re.search(r"([\w.-]+)\s*:\s*$", text[start:i])
            found.append(name[1] if name else "")
            start = i + 1
        elif sign == "}" and found:
            found.pop()
            start = i + 1
    return [*found[1:], text[start:]] if found else []


def _above(lines: list[str], line: int, indent: int) -> tuple[str, ...]:
    """The keys above a line that is indented so far."""
    path: list[str] = []
    for text in reversed(lines[:line]):
        match = _KEY.match(text)
        if match is None or text.lstrip().startswith("#"):
            continue
        own = len(match["indent"])
        if match["dash"] and own < indent <= own + len(match["dash"]):
            indent = own + 1  # a sibling that begins the same item
        elif own + len(match["dash"]) < indent and not match["value"].strip().startswith(("'", '"')):
            path.append(match["key"].strip("'\""))
            indent = own + 1 if match["dash"] else own
        if indent <= 0:
            break
    return tuple(reversed(path))
