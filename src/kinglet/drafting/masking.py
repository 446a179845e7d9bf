"""Stand-ins for what tells of people and machines: of the same sort, and the same for the same text."""

from __future__ import annotations

import re
from collections.abc import Iterable

from kinglet.mining.cells import ADDRESS, MAIL, cells, value

_NAMES = frozenset(["user", "account", "login", "owner", "name", "mail", "sender", "recipient", "person", "actor"])
_HOSTS = frozenset(["host", "src_host", "dst_host", "client", "server"])
_NETS = ("192.0.2", "198.51.100", "203.0.113")
_MOST = 254
_ADDRESS = re.compile(r"[0-9]+(?:\.[0-9]+){3}|[0-9A-Fa-f]*:[0-9A-Fa-f:.]+(?:%\w+)?|[^@ ]+@[^@ ]+")
"""What is masked as what it is, whatever the field is called."""


class Masks:
    """Stand-ins, given out in the order in which they are asked for (RFC 5737, RFC 3849, RFC 2606, RFC 7042)."""

    def __init__(self) -> None:
        self._known: dict[str, str] = {}
        self._counts: dict[str, int] = {}

    def text(self, raw: str, values: Iterable[tuple[str, str]]) -> str:
        """An event with stand-ins. values: names and texts of its fields."""
        kinds = {}
        for name, text in values:
            base = name.rstrip("_0123456789")
            if text and (base in _NAMES or base in _HOSTS) and not _ADDRESS.fullmatch(text):
                kinds[text] = "host" if base in _HOSTS else "name"
        for text in sorted(kinds, key=len, reverse=True):
            if re.search(r"\W", text):  # it stands in several cells
                raw = re.sub(rf"(?<!\w){re.escape(text)}(?!\w)", self._of(text, kinds[text]).replace("\\", r"\\"), raw)
        (found,) = cells([raw])
        out = ""
        for key, text in zip(found.keys, found.texts, strict=True):
            if key == value(ADDRESS):
                out += self._of(
                    text, "mac" if re.fullmatch(r"(?:..[:-]){5}..", text) else "v6" if ":" in text else "v4"
                )
            elif key == value(MAIL):
                out += self._of(text, "mail")
            elif text in kinds:
                out += self._of(text, kinds[text])
            else:
                out += text
        return out

    def _of(self, text: str, kind: str) -> str:
        if text in self._known.values():
            return text
        if text not in self._known:
            number = self._counts.get(kind, 0)
            self._counts[kind] = number + 1
            net, last = _NETS[number // _MOST % len(_NETS)], number % _MOST + 1
            self._known[text] = {
                "mail": f"person{number + 1}@mail.example",
                "v4": f"{net}.{last}" + ("/" + text.partition("/")[2] if "/" in text else ""),
                "v6": f"2001:db8::{number + 1:x}",
                "mac": "00:00:5e:00:53:" + f"{number % 256:02x}",
                "host": f"host{number + 1}.example" if "." in text else f"host{number + 1}",
                "name": f"person{number + 1}",
            }[kind]
        return self._known[text]
