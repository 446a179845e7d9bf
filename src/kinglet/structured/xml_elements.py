"""XML (version 1.0, fifth edition) in texts.

The key of a value is the element's name behind those of the elements it is in, without that of the
outermost, with dots between; of an attribute, its name behind that of its element. Prefixes of namespaces are
left out. An empty element is as if it were missing. Only the five entities of the standard are known: a text
with a document type is refused, and nothing outside the text is ever read.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

import polars as pl

from kinglet.structured.by_form import Value, WithoutLists, json_strings
from kinglet.structured.in_one_pass import Loop
from kinglet.structured.unreadable import UnreadableError, why_unreadable

MOST_LEVELS = 64

_NAME = r"[^\W\d][\w.\-]*(?::[^\W\d][\w.\-]*)?"
_ATTRIBUTE = re.compile(rf"\s+({_NAME})\s*=\s*(?:\"([^\"<]*)\"|'([^'<]*)')")
_START = re.compile(rf"<({_NAME})")
_START_END = re.compile(r"\s*(/?)>")
_END = re.compile(rf"</({_NAME})\s*>")
_ASIDE = re.compile(r"<!--(?:[^-]|-[^-])*-->|<\?.*?\?>", re.DOTALL)
_CDATA = re.compile(r"<!\[CDATA\[(.*?)\]\]>", re.DOTALL)
_REFERENCE = re.compile(r"&(?:(lt|gt|amp|quot|apos)|#([0-9]{1,7})|#x([0-9A-Fa-f]{1,6}));")
_ENTITIES = {"lt": "<", "gt": ">", "quot": '"', "apos": "'", "amp": "&"}
_KNOWN = "&(?:lt|gt|amp|quot|apos);"
_WHOLE_CDATA = r"<!\[CDATA\[(?:[^\]]|\][^\]]|\]\]+[^\]>])*\]*\]\]>"


class XmlElements(WithoutLists):
    """The structure of texts that are an XML element each; by: the attribute whose value names its element."""

    name = "xml"
    nothing: str | None = None
    escape = "\0"
    may_repeat = True
    alike = r">[^<>]+<|=[ ]*(?:\"[^\"]*\"|'[^']*')"

    def __init__(self, by: str | None = None) -> None:
        self.by = by
        name = (by or "").encode()
        self.loop = Loop("xml_elements", (name, len(name)) if name else (0, 0))
        self.kinds = {
            "text": rf"(?:[^<&]|{_KNOWN})*|{_WHOLE_CDATA}",
            "attribute": rf"(?:[^\"<&]|{_KNOWN})*",
            "attribute in '": rf"(?:[^'<&]|{_KNOWN})*",
        }

    def values(self, text: str) -> list[Value] | None:
        """The values of an element; None where the text is none."""
        try:
            return read_element(text, self.by)
        except UnreadableError:
            return None

    def unread(self, text: str) -> tuple[int, str]:
        """Where it stops to be XML, and why."""
        return why_unreadable(lambda: read_element(text, self.by), "no XML element")

    def written(self, key: str) -> str | None:
        """The name, without those above it."""
        return key.rpartition(".")[2]

    def fault(self, values: Sequence[Value]) -> str | None:
        """Nothing: whatever can be read is as it should be."""
        return None

    def meaning(self, token: pl.Expr) -> pl.Expr:
        """Text without entities and without the blanks around it; nothing as null."""
        inside = token.str.strip_prefix("<![CDATA[").str.strip_suffix("]]>")
        plain = token.str.strip_chars(" \t\r\n").str.replace_many(
            [f"&{name};" for name in _ENTITIES], list(_ENTITIES.values())
        )
        text = pl.when(token.str.starts_with("<![CDATA[")).then(inside).otherwise(plain)
        return text.replace("", None)

    def unescaped(self, tokens: pl.Series, written: pl.Series) -> pl.Series:
        """The same: what text means has no entities left."""
        return tokens

    def finished(self, tokens: pl.Series) -> pl.Series:
        """Text without entities."""
        return tokens.str.replace_many([f"&{name};" for name in _ENTITIES], list(_ENTITIES.values()))

    def json_values(self, token: pl.Expr) -> pl.Expr:
        """Values as JSON strings."""
        return json_strings(self.meaning(token))


def read_element(text: str, by: str | None = None) -> list[Value]:
    """The values of an element and all in it, in order.

    Raises:
        UnreadableError: the text is not a well-formed element, or has more than MOST_LEVELS levels.
    """
    reader = _Reader(text, by)
    reader.read()
    return reader.found


class _Reader:
    def __init__(self, text: str, by: str | None) -> None:
        self.text, self.by = text, by
        self.found: list[Value] = []
        self.open: list[tuple[str, str]] = []  # names and paths of the elements that are not closed

    def read(self) -> None:
        at = self._between(0)
        at = self._start(at)
        while self.open:
            at = self._inside(at)
        at = self._between(at)
        if at < len(self.text):
            raise UnreadableError("nothing more expected", at)

    def _between(self, at: int) -> int:
        """Over blanks, comments and instructions."""
        while True:
            while at < len(self.text) and self.text[at] in " \t\r\n\ufeff":
                at += 1
            aside = _ASIDE.match(self.text, at)
            if aside is None:
                return at
            at = aside.end()

    def _start(self, at: int) -> int:
        tag = _START.match(self.text, at)
        if tag is None:
            what = "a document type is not read" if self.text.startswith("<!D", at) else "an element expected"
            raise UnreadableError(what, at)
        attributes: list[tuple[str, int, int, str]] = []
        end = tag.end()
        while attribute := _ATTRIBUTE.match(self.text, end):
            group = 2 if attribute[2] is not None else 3
            kind = "attribute" if group == 2 else "attribute in '"
            attributes.append((attribute[1], attribute.start(group), attribute.end(group), kind))
            end = attribute.end()
        close = _START_END.match(self.text, end)
        if close is None:
            raise UnreadableError("a tag that is not closed", end)
        if len(self.open) >= MOST_LEVELS:
            raise UnreadableError(f"more than {MOST_LEVELS} levels", at)
        path = self._path(tag[1], attributes)
        for name, start, stop, kind in attributes:
            local = name.rpartition(":")[2]
            if name.startswith("xmlns") or local == self.by:
                continue
            self._value(f"{path}.{local}" if path else local, start, stop, kind)
        if not close[1]:
            self.open.append((tag[1], path))
            return self._leaf(close.end(), path)
        return close.end()

    def _path(self, name: str, attributes: list[tuple[str, int, int, str]]) -> str:
        local = name.rpartition(":")[2]
        for attribute, start, stop, _ in attributes:
            if attribute.rpartition(":")[2] == self.by and stop > start:
                local = _without_references(self.text[start:stop], start)
        if not self.open:
            return ""
        above = self.open[-1][1]
        return f"{above}.{local}" if above else local

    def _leaf(self, at: int, path: str) -> int:
        """The text of an element in which there is nothing else."""
        end = self.text.find("<", at)
        cdata = _CDATA.match(self.text, at)
        if cdata is not None:
            end = cdata.end()
        if end >= 0 and _END.match(self.text, end):
            self._value(path or "text", at, end, "text")
            return end
        return at

    def _inside(self, at: int) -> int:
        end = self.text.find("<", at)
        if end < 0:
            raise UnreadableError(f"`</{self.open[-1][0]}>` is missing", len(self.text))
        if self.text[at:end].strip():
            self._value(self.open[-1][1] or "text", at, end, "mixed")
        at = end
        close = _END.match(self.text, at)
        if close is not None:
            if close[1] != self.open[-1][0]:
                raise UnreadableError(f"`</{self.open[-1][0]}>` expected", at)
            self.open.pop()
            return close.end()
        aside = _ASIDE.match(self.text, at)
        if aside is not None:
            return aside.end()
        cdata = _CDATA.match(self.text, at)
        if cdata is not None:
            self._value(self.open[-1][1] or "text", at, cdata.end(), "mixed")
            return cdata.end()
        return self._start(at)

    def _value(self, path: str, start: int, end: int, kind: str) -> None:
        written = self.text[start:end]
        cdata = _CDATA.fullmatch(written) if written.startswith("<!") else None
        plain = cdata[1] if cdata else _without_references(written.strip(" \t\r\n"), start)
        coded = cdata is None and "&#" in written
        self.found.append(Value(path, start, end, "coded" if coded else kind, plain or None))


def _without_references(written: str, at: int) -> str:
    """Text without references."""
    if "&" not in written:
        return written
    parts: list[str] = []
    last = 0
    for ampersand in re.finditer("&", written):
        reference = _REFERENCE.match(written, ampersand.start())
        if reference is None:
            raise UnreadableError("an entity that is not known", at + ampersand.start())
        number = int(reference[2]) if reference[2] else int(reference[3] or "0", 16)
        if (not reference[1] and not (0 < number < 0x110000)) or 0xD800 <= number < 0xE000:
            raise UnreadableError("a reference to no character", at + ampersand.start())
        parts += [written[last : ampersand.start()], _ENTITIES[reference[1]] if reference[1] else chr(number)]
        last = reference.end()
    return "".join(parts) + written[last:]
