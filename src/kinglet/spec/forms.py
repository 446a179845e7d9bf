"""Ways of reading text, as a parser file has them: patterns, regexes, structure."""

from __future__ import annotations

import itertools
import re
from typing import Annotated, Any, Literal, Self

from pydantic import BeforeValidator, Field, WithJsonSchema, field_validator, model_validator

from kinglet.errors import InvalidError
from kinglet.names import field_of
from kinglet.spec.section import FieldNames, Section, Texts
from kinglet.structures import STRUCTURES


class PairsForm(Section):
    """How pairs of keys and values are written."""

    between: str = Field(" ", min_length=1, description="what stands between two pairs; a blank means any blanks")
    equals: str = Field("=", min_length=1, description="what stands between a key and its value")
    quote: str = Field('"', min_length=1, max_length=1, description="the character around values")

    open_values: bool = Field(False, description="values without quotes may hold blanks, up to the next key")
    escapes: bool = Field(False, description="in values without quotes a backslash lets the next sign be itself")

    @field_validator("between", "equals")
    @classmethod
    def _meant(cls, value: str) -> str:
        if re.search(r"\\[tnr]", value):
            raise InvalidError("is a backslash and a letter", f'in double quotes it is what is meant: "{value}"')
        return value


class DelimitedForm(Section):
    """How rows of values are written, and what their columns are called."""

    names: Literal["header"] | Annotated[list[str], Field(min_length=1)] = Field(
        description="the columns, in order, each of which becomes a field; or `header`: a log's own names them, and "
        "those with a type become fields"
    )
    delimiter: str = Field(",", min_length=1, max_length=1, description="the character between values")
    quote: str = Field('"', min_length=1, max_length=1, description="the character around values")
    nothing: str | None = Field(
        None, min_length=1, description="a text without quotes that stands for no value, such as `-`"
    )

    @field_validator("names")
    @classmethod
    def _once(cls, value: list[str] | str) -> list[str] | str:
        if isinstance(value, list) and (twice := [name for name in value if value.count(name) > 1]):
            raise ValueError(f"has the name `{twice[0]}` twice")
        return value


class XmlForm(Section):
    """How XML elements are called."""

    by: str = Field(min_length=1, description="the attribute whose value is what its element is called")


class BlockForm(Section):
    """How labels are written."""

    equals: str = Field(":", min_length=1, description="what stands behind a label")
    labels: Texts | None = Field(None, description="the labels, where other lines may look like one")
    quote: str | None = Field(None, min_length=1, max_length=1, description="the character around values")


def _as_columns(value: Any) -> Any:
    """Positions such as `1-19`, `21` and `30-` as numbers of the first and last character."""
    if not isinstance(value, dict):
        return value
    columns: dict[str, tuple[int, int | None]] = {}
    for name, written in value.items():
        match = re.fullmatch(r"\s*([1-9]\d{0,5})\s*(?:(-)\s*([1-9]\d{0,5})?)?\s*", str(written))
        if match is None:
            raise InvalidError(f"`{written}` is no range of characters", "write `1-19`, or `30-` for all from there on")
        first = int(match[1])
        columns[str(name)] = (first, int(match[3]) if match[3] else None if match[2] else first)
    ends = sorted((first, last or 10**9) for first, last in columns.values())
    if any(last < first for first, last in ends) or any(
        last >= after for (_, last), (after, _) in itertools.pairwise(ends)
    ):
        raise InvalidError("has columns that overlap", "each begins behind the one before")
    return columns


Columns = Annotated[
    dict[str, tuple[int, int | None]],
    BeforeValidator(_as_columns),
    WithJsonSchema({"type": "object", "additionalProperties": {"type": ["string", "integer"]}, "minProperties": 1}),
    Field(min_length=1),
]


class ReadingForm(Section):
    """A way of reading text: a pattern, a regex or a structure, of which it has one at most."""

    pattern: str | None = Field(None, description="readable form with typed slots")
    regex: str | None = Field(None, description="regular expression with named groups")
    json_: Literal[True] | None = Field(None, alias="json", description="the text is a JSON object")
    pairs: Literal[True] | PairsForm | None = Field(None, description="the text is pairs of keys and values")
    delimited: DelimitedForm | None = Field(None, description="the text is a row of delimited values")
    xml: Literal[True] | XmlForm | None = Field(None, description="the text is an XML element")
    block: Literal[True] | BlockForm | None = Field(None, description="the text is a labelled block")
    fixed: Columns | None = Field(None, description="the text has columns by position, such as `unit: 21-23`")
    types: dict[str, str] = Field({}, description="types of the groups of `regex`; the keys that become fields")
    keys: dict[str, str] = Field(
        {}, description="fields and the keys they are of, where these differ: `after: tension[2]`"
    )

    needs: FieldNames | None = Field(None, description="fields of structure without which a text is not read by it")

    @property
    def given_forms(self) -> dict[str, object]:
        """The ways of reading that are given, by their names in the file."""
        return self.given(("pattern", "regex", *STRUCTURES))

    @property
    def forms(self) -> list[str]:
        """What these ways are called."""
        return list(self.given_forms)

    @property
    def written(self) -> dict[str, str]:
        """What the file calls each field of structure: as the log does."""
        named = self.delimited is not None and not self.has_header
        columns = [*(self.delimited.names if self.delimited is not None and named else ()), *(self.fixed or ())]
        return {field_of(name): name for name in (*self.keys, *columns, *self.types)}

    @property
    def has_header(self) -> bool:
        """Whether the header of a log says what its columns are called."""
        return self.delimited is not None and self.delimited.names == "header"

    @model_validator(mode="after")
    def _one_form(self) -> Self:
        names = {*self.keys, *self.types}
        if clash := [name for name in names if field_of(name) != name and field_of(name) in names]:
            hint = f"call one by `keys`: `other: {clash[0]}`"
            raise InvalidError(f"has `{clash[0]}` and `{field_of(clash[0])}`, which are one field", hint)
        if len(self.forms) > 1:
            raise ValueError("has both " + " and ".join(f"`{name}`" for name in self.forms))
        return self
