"""What registries name by text, and is imported when it is first needed: a command must start at once."""

from __future__ import annotations

from importlib import import_module
from typing import Any


def lazy(package: str, reference: str) -> Any:
    """What `MODULE:NAME` means within a package."""
    module, _, name = reference.partition(":")
    return getattr(import_module(f"{package}.{module}"), name)
