"""Regexes as trees of their parts."""

from __future__ import annotations

import importlib
import warnings
from typing import Any

_parser: Any = importlib.import_module("re._parser")


def tree_of(regex: str) -> Any:
    """The tree that Python's `re` makes of a regex of the dialect: pairs of an operation and what it is about."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        return _parser.parse(regex)
