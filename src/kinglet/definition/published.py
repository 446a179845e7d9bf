"""The JSON Schema of parser files, with which editors complete keys and class names."""

from __future__ import annotations

import json
from typing import Any

from kinglet.definition.schema import ParserFile
from kinglet.model.schema import load_model
from kinglet.patterns.types import BASES, TYPES


def file_schema() -> dict[str, Any]:
    """The schema (JSON Schema, draft 2020-12); class captions and slot types are enumerated in it."""
    schema = ParserFile.model_json_schema(by_alias=True)
    sections = schema["$defs"]
    captions = [item.caption for item in load_model().classes()]
    sections["EventMapping"]["properties"]["class"]["examples"] = captions
    sections["EventMapping"]["properties"]["class"]["anyOf"][0]["enum"] = captions
    sections["Variant"]["properties"]["types"]["additionalProperties"]["examples"] = list(TYPES)
    sections["OwnType"]["properties"]["base"]["enum"] = list(BASES)
    forms = ("pattern", "regex", "json", "pairs", "delimited")
    alone = [{"required": [name]} for name in forms]
    sections["Variant"]["oneOf"] = [*alone, {"not": {"anyOf": alone}}]
    schema["if"] = {"properties": {"envelope": {"type": "object"}}, "required": ["envelope"]}
    schema["else"] = {"properties": {"variants": {"items": {"anyOf": alone}}}}
    time = schema["properties"]["time"]
    schema["properties"]["time"] = {"anyOf": [time["items"], {"type": "array", "items": time["items"]}]}
    events = schema["properties"]["events"]
    schema["properties"]["events"] = {
        "anyOf": [{"const": "line"}, {key: events[key] for key in events if key != "default"}]
    }
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **schema, "title": "Kinglet parser file"}


def file_schema_text() -> str:
    return json.dumps(file_schema(), indent=2, ensure_ascii=False) + "\n"
