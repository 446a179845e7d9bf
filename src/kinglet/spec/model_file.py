"""An extension of the common model, or a whole model of one's own: what its YAML file may say."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, Field

from kinglet.spec.schema import EventMapping
from kinglet.spec.section import Section

Name = Annotated[str, Field(pattern=r"^[a-z][a-z0-9_]*$")]


def _by_number(value: Any) -> Any:
    """Keys of YAML are text to the validator."""
    if not isinstance(value, dict):
        return value
    return {int(key) if isinstance(key, str) and key.isdecimal() else key: caption for key, caption in value.items()}


Captions = Annotated[dict[int, str], BeforeValidator(_by_number)]


def _as_attribute(value: Any) -> Any:
    return {"type": value} if isinstance(value, str) else value


class OwnAttribute(Section):
    """An attribute: a type of the model such as `integer_t`, or the name of an object."""

    type: str
    caption: str | None = Field(None, description="its name in words; made of its name unless given")
    requirement: Literal["required", "recommended", "optional"] = "optional"
    list_: bool = Field(False, alias="list", description="whether it holds several values")
    values: Captions = Field({}, description="of an enumeration, the numbers and what they mean")
    sibling: str | None = Field(None, description="of an enumeration, the attribute with the text of its value")


Attributes = dict[Name, Annotated[OwnAttribute, BeforeValidator(_as_attribute)]]


class OwnEntity(Section):
    """What classes and objects have."""

    caption: str
    extends: str | None = Field(None, description="a class or object whose attributes it has too")
    attributes: Attributes = Field({})
    constraints: dict[Literal["at_least_one", "just_one"], list[str]] = Field({})


class OwnClass(OwnEntity):
    """A class of events."""

    uid: int = Field(ge=1, le=999, description="within its category; the model puts the numbers of both before it")
    category: str = Field(description="a category of the model, or one of `categories`")
    extends: str = Field("Base Event", description="a class whose attributes it has too")
    activities: Captions = Field({}, description="numbers from 1 and what they mean; 0 and 99 are there already")


class OwnCategory(Section):
    """A category of classes."""

    uid: int = Field(ge=1, le=99)
    caption: str


class ModelFile(Section):
    """What is added to a model, in its own range of numbers."""

    model: Name = Field(description="name of the extension")
    kinglet: Literal[1] = Field(description="version of the file format")
    version: str = Field(pattern=r"^\d+(\.\d+){0,2}([+-][0-9A-Za-z.-]+)?$")
    base: Literal["standard", "bare"] = Field(
        "standard",
        description="what it is added to; bare: Base Event and the objects only",
    )
    uid: int = Field(ge=100, le=999, description="number of the extension, from which those of its classes are made")
    about: str = ""
    categories: dict[Name, OwnCategory] = Field({})
    objects: dict[Name, OwnEntity] = Field({})
    classes: dict[Name, OwnClass] = Field({})
    attributes: dict[str, Attributes] = Field({}, description="class or object: attributes that it gets")
    templates: dict[Name, EventMapping] = Field({}, description="mappings that parsers take over by name")
    values: dict[str, Captions] = Field({}, description="`Class.path` of an enumeration: values that it gets")
