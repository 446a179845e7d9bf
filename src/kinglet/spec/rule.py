"""A rule: what a detection reads of the mapped events, in a short YAML file."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BeforeValidator, Field

from kinglet.spec.section import Section, Texts, as_list


class RuleFile(Section):
    """A condition on the events of one class."""

    kinglet: Literal[1] = Field(description="version of the file format")
    rule: str = Field(pattern=r"^[A-Za-z0-9][A-Za-z0-9_.-]*$", description="name of the rule")
    about: str = Field("", description="what it finds")
    class_: Annotated[list[str | int], BeforeValidator(as_list), Field(min_length=1)] = Field(
        alias="class", description="class of the model, or several, by caption or uid"
    )
    reads: Texts = Field(description="paths of the attributes that it cannot do without")
    when: str = Field(min_length=1, description="SQL condition over attributes of the class")
