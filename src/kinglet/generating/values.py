"""Values of slot types, usual ones and such as break careless patterns."""

from __future__ import annotations

import random
import re
import string
from collections.abc import Callable

from kinglet.columns.escapes import meaning
from kinglet.generating.walk import text_of
from kinglet.patterns.types import SlotType
from kinglet.regex.for_python import for_python

_TRIES = 12
_SYLLABLES = (
    "an",
    "bo",
    "ce",
    "da",
    "el",
    "fi",
    "go",
    "ha",
    "iv",
    "ju",
    "ka",
    "lo",
    "mi",
    "ne",
    "or",
    "pa",
    "qu",
    "ru",
)


def name(rng: random.Random) -> str:
    """A word that no text has."""
    return "".join(rng.choices(_SYLLABLES, k=rng.randint(2, 3))) + rng.choice(["", "", rng.choice(string.digits)])


def _words(rng: random.Random) -> str:
    return " ".join(name(rng) for _ in range(rng.randint(1, 3)))


def _number(rng: random.Random) -> str:
    return str(rng.randint(1, 9999))


def _v4(rng: random.Random) -> str:
    return f"{rng.choice(['192.0.2', '198.51.100', '203.0.113'])}.{rng.randint(1, 254)}"


def _v6(rng: random.Random) -> str:
    return f"2001:db8::{rng.randint(1, 0xFFFF):x}"


def _hex(rng: random.Random, count: int) -> str:
    return "".join(rng.choices("0123456789abcdef", k=count))


Usual = Callable[[random.Random], str]
USUAL: dict[str, Usual] = {
    "word": name,
    "text": _words,
    "rest": _words,
    "quoted": lambda rng: f'"{_words(rng)}"',
    "int": _number,
    "num": lambda rng: str(rng.randint(0, 999)) + rng.choice(["", f".{rng.randint(0, 9)}"]),
    "hex": lambda rng: "0x" + _hex(rng, 4),
    "duration": lambda rng: f"{rng.randint(1, 59)}s",
    "size": lambda rng: f"{rng.randint(1, 900)} KiB",
    "count": _number,
    "percent": lambda rng: f"{rng.randint(0, 100)}%",
    "bool": lambda rng: rng.choice(["true", "false"]),
    "ip": lambda rng: rng.choice([_v4, _v4, _v6])(rng),
    "ipv4": _v4,
    "ipv6": _v6,
    "network": lambda rng: f"192.0.2.0/{rng.randint(24, 30)}",
    "mac": lambda rng: f"00:00:5e:00:53:{_hex(rng, 2)}",
    "host": lambda rng: f"{name(rng)}.example",
    "port": lambda rng: str(rng.randint(1, 65535)),
    "path": lambda rng: f"/{name(rng)}/{name(rng)}",
    "url": lambda rng: f"https://{name(rng)}.example/{name(rng)}",
    "email": lambda rng: f"{name(rng)}@{name(rng)}.example",
    "uuid": lambda rng: f"{_hex(rng, 8)}-0000-4000-8000-{_hex(rng, 12)}",
    "flag": lambda rng: "",
    "json": lambda rng: f'{{"{name(rng)}": "{name(rng)}"}}',
    "pairs": lambda rng: f"{name(rng)}={name(rng)}",
    "xml": lambda rng: f"<{name(rng)}>{name(rng)}</{name(rng)}>",
    "block": lambda rng: f"{name(rng)}: {name(rng)}",
    "sdata": lambda rng: f'[{name(rng)}@32473 {name(rng)}="{name(rng)}"]',
}
"""What a usual value of each type is made by; of other types the regex is walked."""

_SIGNS = ('a"b', "a'b", "a\\b", "a=b", "a|b", "a,b", "a;b", "[a]", "(a)", "{a}", "<a>", "a:b", "%41", "-", "åβ字", "🐦")
_SPACED = ("a b", "a  b", "a\tb", '"a b"')
HOSTILE: dict[str, tuple[str, ...]] = {
    "word": _SIGNS,
    "path": ("/a\\b", "/åβ", "/a=b", "C:\\a\\b", '/a"b'),
    "text": (*_SIGNS, *_SPACED),
    "rest": (*_SIGNS, "a b", "a  b", "a\tb", "a\nb", '"a b"'),
    "quoted": (r'"a \"b\" c"', '""', "'a \"b'", '"a, b"', r'"C:\\a"'),
    "int": ("0", "-1", "+7", "007", str(2**63 - 1), str(-(2**63))),
    "num": ("0", "-0.5", ".5", "5.", "1e9", "-1E-3"),
    "hex": ("0", "0XFF", "ffff", "00"),
    "ip": ("0.0.0.0", "255.255.255.255", "::", "::1", "::ffff:192.0.2.1", "fe80::1%eth0"),
    "ipv4": ("0.0.0.0", "255.255.255.255"),
    "ipv6": ("::", "::1", "::ffff:192.0.2.1", "fe80::1%eth0"),
    "port": ("0", "65535", "0080"),
    "host": ("a", "a_b", "192.0.2.1", "2001:db8::1", "xn--a.example", "a.example."),
    "mac": ("00-00-5E-00-53-0A", "0000.5e00.530a"),
    "bool": ("yes", "no", "on", "off", "0", "1", "TRUE"),
    "url": ("https://[2001:db8::1]:8443/a?b=c&d=%20#e", "urn:a:b"),
    "email": ("a+b@c.example", "åβ@c.example"),
    "duration": ("1h 5m", "250 ms", "0s"),
}
"""Values at the edge of each type: signs that separate, other alphabets, the smallest and the largest."""


def usual(kind: SlotType, rng: random.Random) -> str | None:
    """A usual value of a type; none where its regex cannot be walked."""
    make = USUAL.get(kind.name)
    if make is not None:
        return make(rng)
    for _ in range(_TRIES):
        text = text_of(kind.shape, rng)
        if text is not None and is_value(kind, text):
            return text
    return None


def hostile(kind: SlotType) -> tuple[str, ...]:
    """Values at the edge of a type; of types without such, none."""
    return HOSTILE.get(kind.name, ())


def is_value(kind: SlotType, text: str) -> bool:
    """Whether a text has the form of a type; of one whose form depends on what follows it all have."""
    checks = kind.checks or ((kind.shape,) if kind.shape and kind.stops is None else ())
    if not all(re.fullmatch(for_python(regex).pattern, text) for regex in checks):
        return False
    if kind.stops is not None:
        return True
    if kind.escapes and meaning(text, kind.escapes) is None:
        return False
    return not (kind.low is not None and not (text.isdigit() and kind.low <= int(text) <= (kind.high or int(text))))
