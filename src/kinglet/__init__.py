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
    from kinglet.discover.profile import look
    from kinglet.discover.report import Look
    from kinglet.insight.cases import CaseOutcome, check_cases
    from kinglet.ocsf.schema import Model, load_model
    from kinglet.parser import Parser, Result, load
    from kinglet.parser_set import MixedResult, ParserSet, load_set

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
    "CaseOutcome": "kinglet.insight.cases",
    "check_cases": "kinglet.insight.cases",
    "Look": "kinglet.discover.report",
    "look": "kinglet.discover.profile",
    "Model": "kinglet.ocsf.schema",
    "load_model": "kinglet.ocsf.schema",
    "Parser": "kinglet.parser",
    "Result": "kinglet.parser",
    "load": "kinglet.parser",
    "MixedResult": "kinglet.parser_set",
    "ParserSet": "kinglet.parser_set",
    "load_set": "kinglet.parser_set",
}


def __getattr__(name: str) -> Any:
    if name in _LATER:
        import importlib

        return getattr(importlib.import_module(_LATER[name]), name)
    raise AttributeError(f"module 'kinglet' has no attribute {name!r}")


def __dir__() -> list[str]:
    return sorted([*globals(), *__all__])
