"""What the two baselines share: the constants of the output and the name of an event."""

from __future__ import annotations

import hashlib
from pathlib import Path

PATTERN = (
    r'^(?P<client>\S+) (?P<ident>\S+) (?P<user>\S+) \[(?P<stamp>[^\]]+)\] "(?P<method>\S+) (?P<target>\S+) '
    r'(?P<protocol>[^"]*)" (?P<status>\d+) (?P<size>\d+) "(?P<referrer>[^"]*)" "(?P<agent>[^"]*)"$'
)
STAMP = "%d/%b/%Y:%H:%M:%S %z"


def fingerprint(path: Path) -> str:
    with path.open("rb") as stream:
        first = stream.readline().rstrip(b"\n")
    return hashlib.blake2b(str(path.resolve()).encode() + b"\n" + first, digest_size=6).hexdigest()
