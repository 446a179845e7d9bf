"""Where patterns stand in the values of a parser file."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from kinglet.spec.document import KeyPath


def patterns_of(values: Any) -> Iterator[tuple[KeyPath, str]]:
    """The patterns of a parser file, with where they stand."""
    envelope = values.get("envelope")
    if isinstance(envelope, str):
        yield ("envelope",), envelope
    elif isinstance(envelope, dict) and isinstance(envelope.get("pattern"), str):
        yield ("envelope", "pattern"), envelope["pattern"]
    for name, text in (values.get("parts") or {}).items():
        yield ("parts", name), text
    for i, variant in enumerate(values.get("variants") or []):
        if isinstance(variant.get("pattern"), str):
            yield ("variants", i, "pattern"), variant["pattern"]
