"""The JSON Schema of parser files, with which editors complete keys and class names."""

from __future__ import annotations

import json
from typing import Any

from kinglet import structures
from kinglet.ocsf.loading import load_model
from kinglet.ocsf.schema import Model
from kinglet.patterns.types import BASES, STRUCTURES, TYPES
from kinglet.spec.forms import ReadingForm
from kinglet.spec.schema import plain_rules
from kinglet.spec.steps import FileWithSteps, operations


def file_schema(model: Model | None = None) -> dict[str, Any]:
    """The schema (JSON Schema, draft 2020-12); slot types and captions of the model's classes are enumerated in it."""
    schema = FileWithSteps.model_json_schema(by_alias=True)
    sections = schema["$defs"]
    captions = [item.caption for item in (model or load_model()).classes()]
    sections["EventMapping"]["properties"]["class"]["examples"] = captions
    sections["EventMapping"]["properties"]["class"]["anyOf"][0]["enum"] = captions
    sections["Variant"]["properties"]["types"]["additionalProperties"]["examples"] = list(TYPES)
    sections["OwnType"]["properties"]["base"]["enum"] = list(BASES)
    keys = {info.alias or name for name, info in ReadingForm.model_fields.items()}
    forms = [name for name in ("pattern", "regex", *structures.STRUCTURES) if name in keys]
    alone = [{"required": [name]} for name in forms]
    sections["Variant"]["oneOf"] = [*alone, {"not": {"anyOf": alone}}]
    sections["Envelope"]["oneOf"] = [*alone, {"required": ["syslog"]}]
    again = [*alone, {"required": ["parser"]}]
    sections["ParseAgain"]["oneOf"] = again
    sections["Step"]["properties"]["convert"]["anyOf"][0]["additionalProperties"]["examples"] = [*TYPES, "list"]
    sections["Step"]["oneOf"] = [{"required": [name]} for name in operations()]
    structured = {"type": "string", "pattern": rf":\s*({'|'.join(STRUCTURES)})\s*\}}"}
    schema["if"] = {"properties": {"envelope": {"anyOf": [{"type": "object"}, structured]}}, "required": ["envelope"]}
    schema["else"] = {"properties": {"variants": {"items": {"anyOf": alone}}}}
    time = schema["properties"]["time"]
    schema["properties"]["time"] = {"anyOf": [time["items"], {"type": "array", "items": time["items"]}]}
    events = schema["properties"]["events"]
    schema["properties"]["events"] = {
        "anyOf": [{"enum": plain_rules()}, {key: events[key] for key in events if key != "default"}]
    }
    _extending(schema)
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **schema, "title": "Kinglet parser file"}


def _extending(schema: dict[str, Any]) -> None:
    """What a file may have that extends another, and what it then may lack."""
    schema["properties"]["extends"] = {
        "type": "string",
        "pattern": "^[A-Za-z0-9][A-Za-z0-9_.-]*@[0-9]+([.][0-9]+){0,2}$",
        "description": "the parser that this one says only its differences from, and its version",
        "examples": ["openssh@1"],
    }
    keys = [key for key in schema["properties"] if key not in ("kinglet", "parser", "version", "extends")]
    schema["properties"]["without"] = {
        "type": "array",
        "items": {"enum": keys},
        "description": "with `extends`: sections of the base that are not taken",
    }
    always = [key for key in schema["required"] if key not in ("product", "variants")]
    alone = {"required": [key for key in schema["required"] if key not in always]}
    schema["required"] = always
    schema["anyOf"] = [{"required": ["extends"]}, alone]
    schema["if"] = {"anyOf": [schema["if"], {"required": ["extends"]}]}
    for key, about in (
        ("before", "with `extends`: the variant that this one stands before"),
        ("after", "with `extends`: the variant that this one stands behind"),
        ("tail", "with `extends`: pattern or regex of text behind what the base's variant reads"),
    ):
        schema["$defs"]["Variant"]["properties"][key] = {"type": "string", "description": about}
    off = {"const": True, "description": "with `extends`: without this variant of the base"}
    schema["$defs"]["Variant"]["properties"]["off"] = off


def file_schema_text(model: Model | None = None) -> str:
    """The schema as JSON text."""
    return json.dumps(file_schema(model), indent=2, ensure_ascii=False) + "\n"
