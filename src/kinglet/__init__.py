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

from kinglet.errors import (
    InputError,
    KingletError,
    ModelError,
    OutputError,
    ParserFileError,
    Place,
    Problem,
    UsageError,
)

if TYPE_CHECKING:
    from kinglet.calls import ParseCalls, ReferenceTime
    from kinglet.comparing.compare import compare
    from kinglet.discover.report import (
        Anomaly,
        Basics,
        Boundary,
        Container,
        Look,
        Pair,
        Ready,
        Shape,
        ShapeColumn,
        StampPlace,
    )
    from kinglet.drafting.drafted import draft
    from kinglet.drafting.report import Doubt, Draft, DraftedMessage
    from kinglet.insight.cases import CaseDifference, CaseOutcome, check_cases
    from kinglet.insight.comparing import Comparison, Example, Moved, RuleChange, ValueChange
    from kinglet.insight.diagnosis import Diagnosis, diagnose
    from kinglet.insight.explaining import Explanation, FieldNote, Overview, StepNote, explain
    from kinglet.insight.needs import Need, Rule, RuleSource, load_rules
    from kinglet.insight.tracing import FieldChange, Trace, TraceStage, trace
    from kinglet.looking.profile import look
    from kinglet.ocsf.loading import load_model
    from kinglet.ocsf.schema import Attribute, Entity, Model, ModelClass, Observables
    from kinglet.parser import Parser, load
    from kinglet.parser_set import ParserSet, load_set
    from kinglet.result import Result
    from kinglet.session import Session
    from kinglet.source.logs import Given
    from kinglet.spec.schema import Case
    from kinglet.teaching.lesson import Lesson, Matched
    from kinglet.teaching.marks import Mark
    from kinglet.teaching.teach import teach

__version__ = "0.1.0"

__all__ = [
    "Anomaly",
    "Attribute",
    "Basics",
    "Boundary",
    "Case",
    "CaseDifference",
    "CaseOutcome",
    "Comparison",
    "Container",
    "Diagnosis",
    "Doubt",
    "Draft",
    "DraftedMessage",
    "Entity",
    "Example",
    "Explanation",
    "FieldChange",
    "FieldNote",
    "Given",
    "InputError",
    "KingletError",
    "Lesson",
    "Look",
    "Mark",
    "Matched",
    "Model",
    "ModelClass",
    "ModelError",
    "Moved",
    "Need",
    "Observables",
    "OutputError",
    "Overview",
    "Pair",
    "ParseCalls",
    "Parser",
    "ParserFileError",
    "ParserSet",
    "Place",
    "Problem",
    "Ready",
    "ReferenceTime",
    "Result",
    "Rule",
    "RuleChange",
    "RuleSource",
    "Session",
    "Shape",
    "ShapeColumn",
    "StampPlace",
    "StepNote",
    "Trace",
    "TraceStage",
    "UsageError",
    "ValueChange",
    "check_cases",
    "compare",
    "diagnose",
    "draft",
    "explain",
    "load",
    "load_model",
    "load_rules",
    "load_set",
    "look",
    "teach",
    "trace",
]

# Loaded when first asked for: the column engine takes longer to import than `--help` may take.
_LATER = {
    "ParseCalls": "kinglet.calls",
    "ReferenceTime": "kinglet.calls",
    "look": "kinglet.looking.profile",
    "Lesson": "kinglet.teaching.lesson",
    "Mark": "kinglet.teaching.marks",
    "Matched": "kinglet.teaching.lesson",
    "teach": "kinglet.teaching.teach",
    "draft": "kinglet.drafting.drafted",
    "Doubt": "kinglet.drafting.report",
    "Draft": "kinglet.drafting.report",
    "DraftedMessage": "kinglet.drafting.report",
    "Ready": "kinglet.discover.report",
    "Basics": "kinglet.discover.report",
    "Boundary": "kinglet.discover.report",
    "Container": "kinglet.discover.report",
    "Look": "kinglet.discover.report",
    "Pair": "kinglet.discover.report",
    "Anomaly": "kinglet.discover.report",
    "Shape": "kinglet.discover.report",
    "ShapeColumn": "kinglet.discover.report",
    "StampPlace": "kinglet.discover.report",
    "CaseDifference": "kinglet.insight.cases",
    "CaseOutcome": "kinglet.insight.cases",
    "check_cases": "kinglet.insight.cases",
    "Comparison": "kinglet.insight.comparing",
    "Example": "kinglet.insight.comparing",
    "Moved": "kinglet.insight.comparing",
    "RuleChange": "kinglet.insight.comparing",
    "ValueChange": "kinglet.insight.comparing",
    "compare": "kinglet.comparing.compare",
    "Diagnosis": "kinglet.insight.diagnosis",
    "diagnose": "kinglet.insight.diagnosis",
    "Explanation": "kinglet.insight.explaining",
    "FieldNote": "kinglet.insight.explaining",
    "Overview": "kinglet.insight.explaining",
    "StepNote": "kinglet.insight.explaining",
    "explain": "kinglet.insight.explaining",
    "Need": "kinglet.insight.needs",
    "Rule": "kinglet.insight.needs",
    "RuleSource": "kinglet.insight.needs",
    "load_rules": "kinglet.insight.needs",
    "FieldChange": "kinglet.insight.tracing",
    "Trace": "kinglet.insight.tracing",
    "TraceStage": "kinglet.insight.tracing",
    "trace": "kinglet.insight.tracing",
    "load_model": "kinglet.ocsf.loading",
    "Attribute": "kinglet.ocsf.schema",
    "Entity": "kinglet.ocsf.schema",
    "Model": "kinglet.ocsf.schema",
    "ModelClass": "kinglet.ocsf.schema",
    "Observables": "kinglet.ocsf.schema",
    "Parser": "kinglet.parser",
    "load": "kinglet.parser",
    "ParserSet": "kinglet.parser_set",
    "load_set": "kinglet.parser_set",
    "Result": "kinglet.result",
    "Session": "kinglet.session",
    "Given": "kinglet.source.logs",
    "Case": "kinglet.spec.schema",
}


def __getattr__(name: str) -> Any:
    if name in _LATER:
        import importlib

        return getattr(importlib.import_module(_LATER[name]), name)
    raise AttributeError(f"module 'kinglet' has no attribute {name!r}")


def __dir__() -> list[str]:
    return sorted([*globals(), *__all__])
