"""Parsers that exist already and read a log: perhaps nothing needs writing."""

from __future__ import annotations

import functools
import re
from pathlib import Path

from kinglet.discover.report import Ready
from kinglet.parser import Parser, load_to_parse
from kinglet.spec.document import from_text
from kinglet.spec.ready import ready_parsers

NEARLY_ALL = 0.9
_BYTES = 256 * 1024


def ready(text: bytes, enough: float = NEARLY_ALL, most: int = _BYTES) -> list[Ready]:
    """The ready parsers that read so large a share of a text wholly, the best first.

    most: so many bytes of it are looked at.
    """
    part = text if len(text) <= most else text[: text.rfind(b"\n", 0, most) + 1] or text[:most]
    found = []
    for name, path in ready_parsers().items():
        changed = path.stat().st_mtime_ns
        texts = _claimed_texts(path, changed)
        claimed = next((one for one in texts if one.encode() in part), None)
        if texts and claimed is None:
            continue  # it says itself that the log is none of its own
        counts = _loaded(path, changed).parse(part, workers=1).counts
        kept = counts["events"] - counts["dropped"]  # what it drops it has read, too
        if counts["complete"] >= max(enough * kept, 1):
            found.append(Ready(name, counts["complete"] / kept, claimed))
    return sorted(found, key=lambda one: -one.complete)


_CLAIMS = re.compile(r"^claims:.*(?:\n[ \t#].*|\n)*", re.MULTILINE)


# speed: a notebook looks at many logs; changed: when a file was, so that another one is read anew
@functools.lru_cache(maxsize=256)
def _loaded(path: Path, changed: int) -> Parser:
    return load_to_parse(path, maps=False)


@functools.lru_cache(maxsize=256)
def _claimed_texts(path: Path, changed: int) -> list[str]:
    """The texts that a parser file claims, without reading the rest of it."""
    found = _CLAIMS.search(path.read_text("utf-8"))
    claims = from_text(found[0], "claims").values["claims"] if found is not None else {}
    texts = claims.get("contains", []) if isinstance(claims, dict) else []
    return [texts] if isinstance(texts, str) else list(texts)
