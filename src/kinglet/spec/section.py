"""What the sections of a parser file are built of."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, WithJsonSchema


def as_list(value: Any) -> Any:
    return value if isinstance(value, list) or value is None else [value]


def one_or_many(kind: dict[str, Any]) -> WithJsonSchema:
    return WithJsonSchema({"anyOf": [kind, {"type": "array", "items": kind, "minItems": 1}]})


Scalar = str | int | float | bool
Texts = Annotated[list[str], BeforeValidator(as_list), one_or_many({"type": "string"}), Field(min_length=1)]


class Section(BaseModel):
    """A mapping in the parser file that knows all its keys."""

    model_config = ConfigDict(extra="forbid", frozen=True, strict=True, defer_build=True)
