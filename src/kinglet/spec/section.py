"""What the sections of a parser file are built of."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Annotated, Any, TypeVar

from pydantic import AfterValidator, BaseModel, BeforeValidator, ConfigDict, Field, WithJsonSchema

from kinglet.names import field_of


def as_list(value: Any) -> Any:
    return value if isinstance(value, list) or value is None else [value]


def one_or_many(kind: dict[str, Any]) -> WithJsonSchema:
    return WithJsonSchema({"anyOf": [kind, {"type": "array", "items": kind, "minItems": 1}]})


FieldName = Annotated[str, AfterValidator(field_of)]
"""What a parser file calls a field: as the log does, also where every event has a column of that name."""
FieldNames = Annotated[list[FieldName], BeforeValidator(as_list), one_or_many({"type": "string"}), Field(min_length=1)]
Scalar = str | int | float | bool
Texts = Annotated[list[str], BeforeValidator(as_list), one_or_many({"type": "string"}), Field(min_length=1)]


class Section(BaseModel):
    """A mapping in the parser file that knows all its keys."""

    model_config = ConfigDict(extra="forbid", frozen=True, strict=True, defer_build=True)

    def given(self, keys: Iterable[str]) -> dict[str, Any]:
        """What the file says of some keys, without those that it leaves out."""
        attributes = {info.alias or name: name for name, info in type(self).model_fields.items()}
        values = {key: getattr(self, attributes[key]) for key in keys if key in attributes}
        return {key: value for key, value in values.items() if value is not None}


class FixedText(Section):
    """Text that is the same in every event, where other text is an expression."""

    text: str


Mark = TypeVar("Mark")


def marked(section: type[Section], mark: type[Mark]) -> dict[str, Mark]:
    """The keys of a section that have a mark of some kind in their annotation, each with its mark."""
    return {
        info.alias or name: item
        for name, info in section.model_fields.items()
        for item in info.metadata
        if isinstance(item, mark)
    }
