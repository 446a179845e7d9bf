"""The heads of syslog messages: RFC 5424, and the traditional one that RFC 3164 describes.

Many write the traditional one with a stamp of RFC 3339 today, as the daemons of recent systems do by default. A line
that begins so could be of any program; so there the tag and the zone have to be there.
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
    regexes = [regex.replace(_or_nil("app"), named) for regex in head.regexes]
    regexes = [regex.replace(_TAG, _GIVEN_TAG).replace(_APP, named).replace(_NO_LEVEL, _ANY_HOST) for regex in regexes]
    return head._replace(regexes=tuple(regexes))


_PRIORITY = r"<(?P<priority>[0-9]{1,3})>"
_DATA = r'(?P<data_text>-|(?:\[(?:[^"\]]|"(?:[^"\\]|\\(?s:.))*")*\])+)'
_RFC5424 = (
    rf"^{_PRIORITY}[1-9][0-9]{{0,2}} (?P<stamp>-|[0-9T:.+Z-]+) {_or_nil('host')} {_or_nil('app')} {_or_nil('pid')}"
    rf" {_or_nil('msgid')} {_DATA}(?: \x{{feff}}?(?P<body>(?s:.*)))?$"
).replace(r"\x{feff}", "\ufeff")
_APP = r"(?P<app>[^ \t:\[]+)"
_GIVEN_TAG = rf"(?:{_APP}(?:\[(?P<pid>[^\]]*)\])?: ?)"
_TAG = f"{_GIVEN_TAG}?"
_ANY_HOST = "(?P<host>[!-~]+)"
_RFC3164 = (
    rf"^(?:{_PRIORITY})?(?P<stamp>[A-Z][a-z]{{2}} [ 0-9][0-9] [0-9]{{2}}:[0-9]{{2}}:[0-9]{{2}}(?:\.[0-9]{{1,6}})?)"
    rf" {_ANY_HOST} {_TAG}(?P<body>(?s:.*))$"
)
_NO_LEVEL = "(?P<host>[A-Z]*[!-@\\[-~][!-~]*)"
"""A word of capitals only is a level, and no host, unless it is known whose message it is."""
_DATED = (
    rf"^(?:{_PRIORITY})?(?P<stamp>[0-9]{{4}}-[0-9]{{2}}-[0-9]{{2}}T[0-9]{{2}}:[0-9]{{2}}:[0-9]{{2}}(?:[.,][0-9]{{1,9}})?"
    rf"(?:Z|[+-][0-9]{{2}}:?[0-9]{{2}})) {_NO_LEVEL} {_GIVEN_TAG}(?P<body>(?s:.*))$"
)

_OLD = {"priority": "int", "stamp": "text", "host": "text", "app": "text", "pid": "text", "body": "text"}
_NEW = {**_OLD, "msgid": "text", "data_text": "text"}

HEADS: Mapping[str, Head] = {
    "rfc5424": Head((_RFC5424,), _NEW, "data_text"),
    "rfc3164": Head((_RFC3164, _DATED), _OLD, None),
    "any": Head((_RFC5424, _RFC3164, _DATED), _NEW, "data_text"),
}
