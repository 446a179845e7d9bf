"""The heads of syslog messages: RFC 5424, and the traditional one that RFC 3164 describes.

Many write the traditional one with a stamp of RFC 3339 today, as the daemons of recent systems do by default. A line
that begins so could be of any program; so there the tag and the zone have to be there. A line with the old stamp could
be too, where it has neither a priority nor a tag: there a word that begins a sentence is no host. What a program sends
to the daemon of its own machine has no host, but a priority or the number of a process.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import NamedTuple

from kinglet.patterns.compiling import escape


class Head(NamedTuple):
    """A head: regexes tried in order, the types of their groups, and the group of structured data."""

    regexes: tuple[str, ...]
    types: Mapping[str, str]
    data: str | None


def _or_nil(name: str, chars: str = r"[!-~]+") -> str:
    return f"(?:-|(?P<{name}>{chars}))"


def head_of(form: str, apps: Sequence[str] = ()) -> Head:
    """A head by its form; apps: the applications whose messages it is, of which one has to be named. None means any."""
    head = HEADS[form]
    if not apps:
        return head
    named = f"(?P<app>{'|'.join(map(escape, sorted(apps, key=len, reverse=True)))})"
    regexes = [regex for regex in head.regexes if "(?P<app>" in regex]
    regexes = [regex.replace(_or_nil("app"), named).replace(_APP, named) for regex in regexes]
    return head._replace(regexes=tuple(regex.replace(_NO_LEVEL, _HOST) for regex in regexes))


_PRIORITY = r"<(?P<priority>[0-9]{1,3})>"
_DATA = r'(?P<data_text>-|(?:\[(?:[^"\]]|"(?:[^"\\]|\\(?s:.))*")*\])+)'
_RFC5424 = (
    rf"^{_PRIORITY}[1-9][0-9]{{0,2}} (?P<stamp>-|[0-9T:.+Z-]+) {_or_nil('host')} {_or_nil('app')} {_or_nil('pid')}"
    rf" {_or_nil('msgid')} {_DATA}(?: \x{{feff}}?(?P<body>(?s:.*)))?$"
).replace(r"\x{feff}", "\ufeff")
_APP = r"(?P<app>[^ \t:\[]+)"
_GIVEN_TAG = rf"(?:{_APP}(?:\[(?P<pid>[^\]]*)\])?: ?)"
_OF_HOST = "0-9A-Za-z_.%@/~-"
_END_OF_HOST = f"(?:[:{_OF_HOST}]*(?:[{_OF_HOST}]|::))?"
_ADDRESS = r"\[[0-9A-Fa-f.:]*[.:][0-9A-Fa-f.:]*\]"
_HOST = f"(?:-|(?P<host>(?:[0-9A-Za-z_]|::){_END_OF_HOST}|{_ADDRESS}))"
"""A name or an address, the latter also in brackets; nothing with a colon behind it."""
_NO_LEVEL = f"(?P<host>(?:[A-Z]*[0-9a-z_]|[A-Z]+(?:[.%@/~-]|::)){_END_OF_HOST}|{_ADDRESS})"
"""A word of capitals only is a level, and no host, unless it is known whose message it is."""
_NO_SENTENCE = f"(?P<host>(?:[0-9a-z_]|[A-Z][A-Za-z]*[0-9_.%@/~-]){_END_OF_HOST}|{_ADDRESS})"
_STAMP = r"(?P<stamp>[A-Z][a-z]{2} [ 0-9][0-9] [0-9]{2}:[0-9]{2}:[0-9]{2}(?:\.[0-9]{1,6})?)"
_BODY = "(?P<body>(?s:.*))$"
_RFC3164 = (
    f"^(?:{_PRIORITY})?{_STAMP} {_HOST} {_GIVEN_TAG}{_BODY}",
    f"^{_PRIORITY}{_STAMP} {_GIVEN_TAG}{_BODY}",
    rf"^{_STAMP} {_APP}\[(?P<pid>[0-9]+)\]: ?{_BODY}",
    f"^{_PRIORITY}{_STAMP} {_HOST} {_BODY}",
    f"^{_STAMP} {_NO_SENTENCE} {_BODY}",
)
_DATED = (
    rf"^(?:{_PRIORITY})?(?P<stamp>[0-9]{{4}}-[0-9]{{2}}-[0-9]{{2}}T[0-9]{{2}}:[0-9]{{2}}:[0-9]{{2}}(?:[.,][0-9]{{1,9}})?"
    rf"(?:Z|[+-][0-9]{{2}}:?[0-9]{{2}})) {_NO_LEVEL} {_GIVEN_TAG}(?P<body>(?s:.*))$"
)

_OLD = {"priority": "int", "stamp": "text", "host": "text", "app": "text", "pid": "text", "body": "text"}
_NEW = {**_OLD, "msgid": "text", "data_text": "text"}

FIELDS = tuple(_OLD)
"""The groups that every head may have."""
HEADS: Mapping[str, Head] = {
    "rfc5424": Head((_RFC5424,), _NEW, "data_text"),
    "rfc3164": Head((*_RFC3164, _DATED), _OLD, None),
    "any": Head((_RFC5424, *_RFC3164, _DATED), _NEW, "data_text"),
}
