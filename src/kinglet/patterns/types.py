"""The types a slot can have: the text each reads, and the value it becomes.

A type's `shape` is generous and its `valid` strict: text that has the shape but is not valid
(an IPv4 address with a 999) is a fault with a name, not a line that nothing matched.
"""

from __future__ import annotations

from typing import Literal, NamedTuple

from kinglet import structures
from kinglet.columns.amounts import AMOUNT, BYTES, COUNT

BLANK = r"[ \t]"
_BYTE = "(?:25[0-5]|2[0-4][0-9]|1[0-9][0-9]|[1-9]?[0-9])"
_IPV4 = rf"(?:{_BYTE}\.){{3}}{_BYTE}"
_GROUP = "[0-9A-Fa-f]{1,4}"
_IPV6 = (
    "(?:"
    + "|".join(
        [
            f"(?:{_GROUP}:){{7}}(?:{_GROUP}|:)",
            *(
                f"(?:{_GROUP}:){{{left}}}(?:(?::{_GROUP}){{1,{7 - left}}}|(?::{_GROUP}){{0,{5 - left}}}:{_IPV4}|:)"
                for left in range(5, 0, -1)
            ),
            f"(?:{_GROUP}:){{6}}(?::{_GROUP}|{_IPV4}|:)",
            f":(?:(?::{_GROUP}){{1,7}}|(?::{_GROUP}){{0,5}}:{_IPV4}|:)",
        ]
    )
    + ")(?:%[0-9A-Za-z_.-]+)?"
)

_LABEL = "[0-9A-Za-z_](?:[0-9A-Za-z_-]{0,61}[0-9A-Za-z_])?"
_NAME = rf"{_LABEL}(?:\.{_LABEL})*"

FLAG = "flag"
Value = Literal["text", "int", "float", "bool", "time"]


class SlotType(NamedTuple):
    """A slot type.

    shape: regex of the text it reads. stops: for types that read on and on, the characters it
    may consist of, as the inside of a character class, negated; such a slot ends where the text
    after it begins. valid, own: regexes that the whole text must match, also where no slot has read it. value: what it
    becomes.
    change: how, where the value's own way of reading text is not it.
    """

    name: str
    about: str
    example: str
    shape: str
    value: Value = "text"
    stops: str | None = None
    may_be_empty: bool = False
    valid: str | None = None
    own: str | None = None
    low: int | None = None
    high: int | None = None
    change: str = ""
    escapes: str = ""
    """The escapes of its text that stand for something else; see `columns.escapes`."""

    @property
    def checks(self) -> tuple[str, ...]:
        """Regexes that the whole text must match."""
        return tuple(regex for regex in (self.valid, self.own) if regex is not None)

    @property
    def is_plain(self) -> bool:
        """Whether every text that the shape matches is a value, as it stands."""
        return self.value == "text" and not self.change and not self.escapes and not self.checks


_AMOUNT = r"[0-9]+(?:[.,][0-9]+)?"
_UNITS = "(?:days?|d|hours?|hrs?|h|milliseconds?|msecs?|ms|minutes?|mins?|microseconds?|us|µs|ns|seconds?|secs?|m|s)"
_CLOCK = r"[0-9]+:[0-9]{2}(?::[0-9]{2})?(?:[.,][0-9]+)?"
_QUOTED = r"""(?:"(?:[^"\\]|\\.)*"|'(?:[^'\\]|\\.)*')"""
_MAC = "(?:[0-9A-Fa-f]{2}(?:[:-][0-9A-Fa-f]{2}){5}|[0-9A-Fa-f]{4}(?:[.][0-9A-Fa-f]{4}){2})"
_UUID = "[0-9A-Fa-f]{8}(?:-[0-9A-Fa-f]{4}){3}-[0-9A-Fa-f]{12}"
_HEX = "(?:0[xX])?[0-9A-Fa-f]+"
_SIZE, _COUNT, _SHARE = f"{AMOUNT} ?{BYTES}", f"{AMOUNT} ?{COUNT}", f"{AMOUNT} ?%"
_TABLE = (
    SlotType("word", "a run of characters without blanks", "m.okoro", "", stops=r"\x09-\x0d "),
    SlotType("text", "anything, as little as possible", "valve open", "", stops="", may_be_empty=True),
    SlotType("rest", "anything, to the end of the event", "valve open", "(?s:.*)", may_be_empty=True),
    SlotType(
        "quoted",
        "text in double or single quotes, kept without them",
        '"night shift"',
        _QUOTED,
        change="quoted",
        valid=_QUOTED,
    ),
    SlotType("int", "a whole number", "-42", "[+-]?[0-9]+", "int"),
    SlotType(
        "num",
        "a number with or without a fraction",
        "85.5",
        r"[+-]?(?:[0-9]+(?:\.[0-9]*)?|\.[0-9]+)(?:[eE][+-]?[0-9]+)?",
        "float",
    ),
    SlotType("hex", "a whole number in base 16", "0x1f", _HEX, "int", change="hex", valid=_HEX),
    SlotType(
        "duration",
        "a length of time, in seconds: `1h 5m`, `250 ms`, `2 days 01:00:00`, `01:30` (minutes), `PT1M30S` (ISO 8601)",
        "1m30s",
        rf"[+-]?(?:P[0-9.,WDTHMS]+|(?:{_AMOUNT} ?{_UNITS},? ?)*(?:{_AMOUNT} ?{_UNITS}|{_CLOCK}))",
        "float",
        change="duration",
    ),
    SlotType(
        "size",
        "a number of bytes: `185.8 MiB` (1024), `2 GB` (1000), `512 bytes`; a letter alone could mean either",
        "185.8 MiB",
        _SIZE,
        "int",
        change="amount",
        valid=_SIZE,
    ),
    SlotType("count", "a number of things: `12.5k`, `3M`, `17`", "12.5k", _COUNT, "int", change="amount", valid=_COUNT),
    SlotType("percent", "a number and a percent sign", "45.5 %", _SHARE, "float", change="percent", valid=_SHARE),
    SlotType("bool", "true/false, yes/no, on/off, 1/0", "yes", "[A-Za-z01]{1,5}", "bool"),
    SlotType(
        "ip",
        "an IPv4 or IPv6 address (RFC 4291)",
        "192.0.2.14",
        r"(?:[0-9]{1,3}(?:\.[0-9]{1,3}){3}|[0-9A-Fa-f:.]+(?:%[0-9A-Za-z_.-]+)?)",  # a port may stand behind the first
        valid=f"(?:{_IPV4}|{_IPV6})",
    ),
    SlotType("ipv4", "an IPv4 address", "192.0.2.14", "[0-9.]+", valid=_IPV4),
    SlotType("ipv6", "an IPv6 address (RFC 4291)", "2001:db8::14", "[0-9A-Fa-f:.]+(?:%[0-9A-Za-z_.-]+)?", valid=_IPV6),
    SlotType(
        "network",
        "an IPv4 or IPv6 address with the length of its prefix (RFC 4632, RFC 4291)",
        "192.0.2.0/24",
        "[0-9A-Fa-f:.]+/[0-9]{1,3}",
        valid=f"(?:{_IPV4}/(?:[12]?[0-9]|3[0-2])|{_IPV6}/(?:1[01][0-9]|12[0-8]|[1-9]?[0-9]))",
    ),
    SlotType(
        "mac",
        "a hardware address",
        "00:00:5e:00:53:0a",
        _MAC,
        valid=_MAC,
    ),
    SlotType(
        "host",
        "a host name (RFC 1123, and with `_`) or an address",
        "quay-2.sandwick.example",
        "[0-9A-Za-z_.:-]+",
        valid=rf"(?:{_NAME}\.?|{_IPV6})",
    ),
    SlotType("port", "a port, 0 to 65535", "8443", "[0-9]+", "int", low=0, high=65535),
    SlotType("path", "a file path without blanks", "/srv/manifests/7.json", "", stops=r"\x09-\x0d "),
    SlotType(
        "url",
        "a URL with its scheme (RFC 3986)",
        "https://tide.marram.example/now",
        "",
        stops=r"\x09-\x0d ",
        valid=r"[A-Za-z][A-Za-z0-9+.-]*:\S+",
    ),
    SlotType(
        "email",
        "an e-mail address",
        "quay@marram.example",
        r"[^\x09-\x0d @<>]+@[0-9A-Za-z.-]+",
        valid=rf"[^@]+@{_NAME}",
    ),
    SlotType(
        "uuid",
        "a UUID (RFC 9562)",
        "0f1c2d3e-0000-4000-8000-00000000002a",
        _UUID,
        valid=_UUID,
    ),
    SlotType(
        FLAG,
        "nothing: true where the optional part that it stands in is there, otherwise false",
        "",
        "",
        "bool",
        may_be_empty=True,
    ),
    SlotType(
        "time",
        "a timestamp, in the formats of the time rule of its slot, or ISO 8601",
        "2026-03-03T22:10:41Z",
        "",
        "time",
    ),
    *(
        SlotType(
            name,
            row.slot.about,
            row.slot.example,
            row.slot.shape,
            stops=None if row.slot.shape else "",
            may_be_empty=not row.slot.shape,
        )
        for name, row in structures.STRUCTURES.items()
        if row.slot is not None
    ),
)

TYPES: dict[str, SlotType] = {slot.name: slot for slot in _TABLE}
"""The types by name, in the order in which they are documented."""

STRUCTURES = tuple(name for name, row in structures.STRUCTURES.items() if row.slot is not None)
"""The types that are structures."""
OF_PATTERNS = ("rest", FLAG, *STRUCTURES)
"""The types that say something of the place of a slot in its pattern, and have no meaning elsewhere."""
BASES = tuple(name for name in TYPES if name not in ("time", *OF_PATTERNS))
"""The types that a parser's own types may be built on."""


def own_type(name: str, regex: str, base: str, about: str, escapes: str = "") -> SlotType:
    """A type of a parser's own: text of its regex, with the value and the limits of its base."""
    built_on = TYPES[base]
    return built_on._replace(
        name=name,
        about=about or f"of the type {name}: `{regex}`",
        example="",
        shape=f"(?:{regex})",
        stops=None,
        may_be_empty=False,
        valid=built_on.valid if built_on.valid != built_on.shape else None,  # its regex takes the place of the form
        own=f"(?:{regex})",
        escapes=escapes,
    )
