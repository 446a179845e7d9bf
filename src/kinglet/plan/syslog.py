"""The heads of syslog messages: RFC 5424, and the traditional one that RFC 3164 describes."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple


class Head(NamedTuple):
    """A head: regexes tried in order, the types of their groups, and the group of structured data."""

    regexes: tuple[str, ...]
    types: Mapping[str, str]
    data: str | None


def _or_nil(name: str, chars: str = r"[!-~]+") -> str:
    return f"(?:-|(?P<{name}>{chars}))"


_PRIORITY = r"<(?P<priority>[0-9]{1,3})>"
_DATA = r'(?P<data_text>-|(?:\[(?:[^"\]]|"(?:[^"\\]|\\(?s:.))*")*\])+)'
_RFC5424 = (
    rf"^{_PRIORITY}[1-9][0-9]{{0,2}} (?P<stamp>-|[0-9T:.+Z-]+) {_or_nil('host')} {_or_nil('app')} {_or_nil('pid')}"
    rf" {_or_nil('msgid')} {_DATA}(?: \x{{feff}}?(?P<body>(?s:.*)))?$"
).replace(r"\x{feff}", "\ufeff")
_RFC3164 = (
    rf"^(?:{_PRIORITY})?(?P<stamp>[A-Z][a-z]{{2}} [ 0-9][0-9] [0-9]{{2}}:[0-9]{{2}}:[0-9]{{2}}) (?P<host>[!-~]+)"
    r" (?:(?P<app>[^ :\[]+)(?:\[(?P<pid>[^\]]*)\])?: ?)?(?P<body>(?s:.*))$"
)
_OLD = {"priority": "int", "stamp": "text", "host": "text", "app": "text", "pid": "text", "body": "text"}
_NEW = {**_OLD, "msgid": "text", "data_text": "text"}

HEADS: Mapping[str, Head] = {
    "rfc5424": Head((_RFC5424,), _NEW, "data_text"),
    "rfc3164": Head((_RFC3164,), _OLD, None),
    "any": Head((_RFC5424, _RFC3164), _NEW, "data_text"),
}
