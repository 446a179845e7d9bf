"""Kinglet: write and test parsers that turn raw logs into events of a common model.

kinglet.look("pump-panel.log")  # what can be said of a raw log before there is a parser
parser = kinglet.load("pump-panel.yaml")
result = parser.parse("pump-panel.log")
result.events          # a polars frame: line, raw, state, faults, variant, time, then the fields
result.counts          # {"events": 9, "complete": 7, "partial": 1, "unmatched": 1, "dropped": 0}
result.to_model()      # events of the common model, as dicts
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from kinglet.errors import InputError, KingletError, ModelError, OutputError, ParserFileError, Problem, UsageError

if TYPE_CHECKING:
    from kinglet.authoring.cases import CaseOutcome, check_cases
    from kinglet.looking.profile import look
    from kinglet.looking.report import Look
    from kinglet.model.schema import Model, load_model
    from kinglet.parser import Parser, Result, load
    from kinglet.several import MixedResult, ParserSet, load_set

__version__ = "0.1.0"

__all__ = [
    "CaseOutcome",
    "InputError",
    "KingletError",
    "Look",
    "MixedResult",
    "Model",
    "ModelError",
    "OutputError",
    "Parser",
    "ParserFileError",
    "ParserSet",
    "Problem",
    "Result",
    "UsageError",
    "check_cases",
    "load",
    "load_model",
    "load_set",
    "look",
]

# Loaded when first asked for: the column engine takes longer to import than `--help` may take.
_LATER = {
    "CaseOutcome": "kinglet.authoring.cases",
    "check_cases": "kinglet.authoring.cases",
    "Look": "kinglet.looking.report",
    "look": "kinglet.looking.profile",
    "Model": "kinglet.model.schema",
    "load_model": "kinglet.model.schema",
    "Parser": "kinglet.parser",
    "Result": "kinglet.parser",
    "load": "kinglet.parser",
    "MixedResult": "kinglet.several",
    "ParserSet": "kinglet.several",
    "load_set": "kinglet.several",
}


def __getattr__(name: str) -> Any:
    if name in _LATER:
        import importlib

        return getattr(importlib.import_module(_LATER[name]), name)
    raise AttributeError(f"module 'kinglet' has no attribute {name!r}")


def __dir__() -> list[str]:
    return sorted([*globals(), *__all__])
