"""What slots and variants are called: by keys and words beside them, by their types, by their neighbours."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterable

from kinglet.mining.cells import COLOUR, QUOTING
from kinglet.names import RESERVED

_KEY = re.compile(rf"([A-Za-z_][\w.-]*)[\"']?\s*[=:]\s*[\"'\[(<{{#{QUOTING}]?$")
_WORDS = re.compile(rf"([A-Za-z][A-Za-z_-]*)[\s\"'(\[<{{#:={QUOTING}]*$")
_SIDES = {
    "from": "src",
    "to": "dst",
    "source": "src",
    "destination": "dst",
    "src": "src",
    "dst": "dst",
    "client": "src",
}
"""Words in front of an address that tell which end of a connection it is."""
_PEOPLE = ("user", "by", "for", "account", "login")
_USER = re.compile("(?i:user|account|login)[^A-Za-z]*$")
_WORDS_THAT_JOIN = (
    "a an and are as at be but by for from has in into is it its no not of on or so than that the this to was were with"
)
JOINING = frozenset(_WORDS_THAT_JOIN.split())
"""Words that stand in front of anything."""
_LEVELS = "trace debug info notice warn warning error err crit critical fatal alert emerg"
_SMALL = frozenset([*JOINING, *_LEVELS.split()])
_ENDS = ("ip", "host", "port", "mac")
_PLAIN = {
    "int": "number", "num": "number", "hex": "number", "text": "text", "rest": "text", "word": "value",
    "time": "moment", "size": "bytes", "email": "mail", "port": "port", "bool": "value",
}  # fmt: skip
_MOST = 40
_YAML = ("true", "false", "null")


_ANYONE = frozenset(
    ["user", "host", "src_host", "dst_host", "name", "owner", "file", "path", "unit", "account", "mail"]
)


def is_open(name: str) -> bool:
    """Whether a field of this name can have a few words only: people and machines come and go."""
    return name.rstrip("_0123456789") not in _ANYONE


class Names:
    """The names of the slots of one pattern: none twice, none that an event has already."""

    def __init__(self, taken: Iterable[str] = ()) -> None:
        self._taken = {*RESERVED, "body", "more", *taken}
        self._side = ""
        self.last = ""
        """The type of the slot that was named last."""

    def name(self, before: str, type_: str, wanted: str | None = None, *, codes: bool = False) -> str:
        """A name for the slot of this type behind this text. codes: its values are numbers with letters before them."""
        chosen = wanted or self._called(re.sub(COLOUR, "", before.rpartition("\n")[2]), type_)
        if chosen == "user" and codes and not _USER.search(before):
            chosen = "value"
        self.last = type_
        number, found = 1, chosen
        while found in self._taken:
            number += 1
            found = f"{chosen}_{number}"
        self._taken.add(found)
        return found

    def _called(self, before: str, type_: str) -> str:
        if type_ == "port" and before in (":", ".") and self._side:
            return f"{self._side}_port" if self._side != "ip" else "port"
        key = _KEY.search(before)
        word = _WORDS.search(before)
        label = plain_name(key[1]) if key else ""
        last = plain_name(word[1]) if word else ""
        self._side = ""
        if type_ in _ENDS:
            side = _SIDES.get(label or last, "")
            self._side = side or ("ip" if type_ == "ip" else "")
            if side:
                return f"{side}_{type_}"
        if label:
            return label
        if type_ in ("word", "email") and last in _PEOPLE:
            return "user"
        if last and last not in _SMALL and type_ not in _ENDS:
            return last
        return _PLAIN.get(type_, type_)


def plain_name(text: str) -> str:
    """A word as the name of a field: small letters without marks."""
    plain = unicodedata.normalize("NFKD", text).encode("ascii", "ignore").decode()
    return re.sub(r"[^a-z0-9]+", "_", plain.lower()).strip("_")[:_MOST]


def variant_name(text: str, taken: set[str], number: int) -> str:
    """A name for a variant by the words of its fixed text, none of those that are taken."""
    words = [word for word in re.findall(r"[a-z][a-z0-9]*", plain_name(text).replace("_", " ")) if len(word) > 1]
    telling = [word for word in words if word not in _SMALL] or words
    chosen = "-".join(telling[:4])[:_MOST] or f"message-{number}"
    chosen = f"{chosen}-message" if chosen in _YAML else chosen
    found, count = chosen, 1
    while found in taken:
        count += 1
        found = f"{chosen}-{count}"
    taken.add(found)
    return found
