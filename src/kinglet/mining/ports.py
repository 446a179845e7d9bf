"""Ports behind addresses of IPv6, whose last group may be a part of the address as well."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator, Sequence
from ipaddress import AddressValueError, IPv6Address

from kinglet.mining.cells import ADDRESS, NUMBER, Cells, value

_PORT = re.compile(r"(.+[0-9A-Fa-f:]):([1-9][0-9]{0,4})")
_LARGEST = 65_535
_MOSTLY = 0.9
_ADDRESS, _NUMBER = value(ADDRESS), value(NUMBER)
_NEAR = 2  # cells in front that tell a place


def with_ports(lines: Sequence[Cells]) -> list[Cells]:
    """Lines in which `2001:db8::5:443` is an address and a port, where others surely have a port behind an address.

    RFC 5952 (section 6) has this as a way to write a port that the address alone does not tell.
    """
    having: Counter[tuple[str, ...]] = Counter()
    total: Counter[tuple[str, ...]] = Counter()
    open_: list[tuple[int, int, tuple[str, str]]] = []
    for number, line in enumerate(lines):
        for i in _addresses(line):
            parts = _parts(line.texts[i]) if line.keys[i + 1 : i + 2] != (":",) else None
            if parts is not None:
                open_.append((number, i, parts))
            else:
                place = line.keys[max(0, i - _NEAR) : i]
                total[place] += 1
                having[place] += line.keys[i + 1 : i + 3] == (":", _NUMBER)
    out = list(lines)
    for number, i, parts in reversed(open_):  # from the end of each line, so that the places before stay
        place = lines[number].keys[max(0, i - _NEAR) : i]
        if having[place] and having[place] >= _MOSTLY * total[place]:
            keys, texts = out[number]
            out[number] = Cells(
                (*keys[:i], _ADDRESS, ":", _NUMBER, *keys[i + 1 :]),
                (*texts[:i], parts[0], ":", parts[1], *texts[i + 1 :]),
            )
    return out


def _addresses(line: Cells) -> Iterator[int]:
    return (i for i, key in enumerate(line.keys) if key == _ADDRESS)


def _parts(text: str) -> tuple[str, str] | None:
    """The address and the port that an address of IPv6 may be."""
    match = _PORT.fullmatch(text)
    if match is None or int(match[2]) > _LARGEST:
        return None
    try:
        IPv6Address(match[1])
    except AddressValueError:
        return None
    return match[1], match[2]
