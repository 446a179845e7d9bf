"""Steps: what is done to the fields of events after they are read."""

from __future__ import annotations

from typing import Annotated, Any, Literal, NamedTuple, Self

from pydantic import Field, model_validator

from kinglet.spec.forms import ReadingForm
from kinglet.spec.schema import Age, Escapes, ParserFile
from kinglet.spec.section import FieldName, FieldNames, FixedText, Scalar, Section, marked


class Replace(Section):
    """Text that is put in place of other text."""

    fields: FieldNames
    regex: str = Field(min_length=1, description="what is replaced, wherever it stands")
    with_: str = Field(
        default="", alias="with", description="what takes its place; ${1}, ${name} for a group, $$ for a dollar"
    )


class Split(Section):
    """One text as several."""

    field: FieldName
    at: str = Field(min_length=1, description="the text between two parts")
    into: list[str] | None = Field(None, min_length=1, description="fields for the parts, by their places")
    to: str | None = Field(None, description="a field for all parts, as a list")

    @model_validator(mode="after")
    def _one_target(self) -> Self:
        if (self.into is None) == (self.to is None):
            raise ValueError("needs either `into`, fields for the parts, or `to`, a field for the list of them")
        return self


class Find(Section):
    """All matches of a pattern in a text."""

    field: FieldName
    pattern: str = Field(description="what is found, anywhere in the text; with one slot values, with several records")
    to: str = Field(description="the field of the list")


class Join(Section):
    """Several texts, or the items of a list, as one."""

    fields: FieldNames = Field(description="the fields; empty ones are left out")
    with_: str = Field(default="", alias="with", description="the text between two parts")
    to: str


class Translate(Section):
    """What words become; as in a mapping, where the words of an enumeration are the model's."""

    from_: str | None = Field(
        None, alias="from", description="SQL expression over fields that gives the word; the field itself unless given"
    )
    to: dict[str | int | bool, Scalar] | None = Field(None, min_length=1, description="word: what it becomes")
    file: str | None = Field(None, description="CSV beside the parser file; its first two columns are the table")
    otherwise: str | None = Field(None, description="what words become that the table lacks")

    @model_validator(mode="after")
    def _one_table(self) -> Self:
        if (self.to is None) == (self.file is None):
            raise ValueError("needs either `to` or `file`")
        return self


class Lookup(Section):
    """Columns of the row of a table that goes with a value."""

    field: FieldName
    file: str = Field(description="CSV with a header, beside the parser file")
    by: Literal["value", "network", "prefix"] = Field(
        "value", description="value: the same text; network: the smallest CIDR range; prefix: the longest beginning"
    )
    key: str | None = Field(None, description="the column to find the value in; the first unless given")
    take: dict[str, str] = Field(min_length=1, description="columns and the fields that they become")


class Unescape(Section):
    """Text with escapes as what they stand for."""

    fields: FieldNames
    as_: Escapes = Field(
        alias="as",
        description="c: \\n, \\xHH, \\uXXXX; json: as in its strings; percent: %HH; html: &amp;; hex, base64: bytes",
    )


class Remember(Section):
    """Fields that an event lacks, as earlier events of the same key had them."""

    by: FieldNames = Field(description="the fields that tell which events belong together")
    keep: FieldNames = Field(description="the fields that later events take over where they lack them")
    until: str | None = Field(None, description="SQL condition; behind such an event the values are forgotten")
    age: Age = Field(3600.0, description="how long ago a value may stand; an hour unless given")
    events: int = Field(100_000, ge=1, le=10_000_000, description="how many events before a value may stand")


class Mask(Section):
    """Text whose characters become `*`."""

    fields: FieldNames
    show: int = Field(0, ge=0, le=64, description="so many characters at the end stay as they are")


class Hash(Section):
    """Values as keyed hashes: alike where they were alike, and not to be undone."""

    fields: FieldNames
    key: str = Field(pattern=r"^[A-Za-z_][A-Za-z0-9_]*$", description="the environment variable that holds the key")
    digits: int = Field(32, ge=8, le=64, description="digits of base 16 that are kept")


class ParseAgain(ReadingForm):
    """A field that holds text with fields of its own."""

    field: FieldName
    parser: str | None = Field(None, description="another parser that reads it, by its name beside this file")
    optional: bool = Field(False, description="text that does not fit is no fault")

    @model_validator(mode="after")
    def _reads(self) -> Self:
        if bool(self.forms) == (self.parser is not None):
            raise ValueError("needs a way to read: `pattern`, `regex`, `json`, …, or `parser`")
        return self


class Roll(Section):
    """Several fields as one JSON object."""

    fields: FieldNames
    to: str


class Shorten(Section):
    """Raw text that is cut."""

    shorten: int = Field(ge=1, le=2**40, description="so many characters are kept")


class Measure(Section):
    """Numbers as metric points."""

    values: dict[str, FieldName] = Field(min_length=1, description="names of metrics and the fields of their values")
    labels: FieldNames | None = Field(None, description="fields that tell points apart")
    to: str = Field("points", description="the field of the list of points")


class MadeBy(NamedTuple):
    """The function that makes the action of an operation, as `MODULE:FUNCTION` within `kinglet.steps`."""

    function: str


class Step(Section):
    """One operation on fields, with a note, a condition, and a switch."""

    name: str | None = Field(
        None, pattern=r"^[A-Za-z0-9][A-Za-z0-9_.-]*$", description="what a parser that extends this one calls it"
    )
    note: str = Field("", description="what it is for")
    when: str | None = Field(None, description="SQL condition over fields; other events stay as they are")
    off: bool = Field(False, description="as if the step were not there")
    set: Annotated[dict[str, Scalar | FixedText] | None, MadeBy("fields:set_fields")] = Field(
        None, min_length=1, description="fields and SQL expressions of their values, or `{text: …}` for fixed text"
    )
    rename: Annotated[dict[FieldName, str] | None, MadeBy("fields:rename")] = Field(
        None, min_length=1, description="fields and their new names"
    )
    copy_: Annotated[dict[FieldName, str] | None, MadeBy("fields:copy")] = Field(
        None, alias="copy", min_length=1, description="fields and names of copies"
    )
    keep: Annotated[FieldNames | None, MadeBy("fields:keep")] = Field(None, description="all other fields are removed")
    remove: Annotated[FieldNames | None, MadeBy("fields:remove")] = Field(None, description="fields that are removed")
    convert: Annotated[dict[FieldName, str] | None, MadeBy("values:convert_fields")] = Field(
        None, min_length=1, description="fields and the slot types they become"
    )
    replace: Annotated[Replace | None, MadeBy("values:replace")] = None
    split: Annotated[Split | None, MadeBy("values:split")] = None
    find: Annotated[Find | None, MadeBy("finding:find")] = None
    join: Annotated[Join | None, MadeBy("values:join")] = None
    translate: Annotated[dict[str, Translate] | None, MadeBy("tables:translate")] = Field(
        None, min_length=1, description="fields, and the words that they take the place of"
    )
    lookup: Annotated[Lookup | None, MadeBy("tables:lookup")] = None
    remember: Annotated[Remember | None, MadeBy("remembering:remember")] = None
    unescape: Annotated[Unescape | None, MadeBy("escapes:unescape")] = None
    mask: Annotated[Mask | None, MadeBy("privacy:mask")] = None
    hash: Annotated[Hash | None, MadeBy("privacy:hash_fields")] = None
    parse: Annotated[ParseAgain | None, MadeBy("again:parse")] = None
    roll: Annotated[Roll | None, MadeBy("shrinking:roll")] = None
    raw: Annotated[Literal["drop"] | Shorten | None, MadeBy("shrinking:raw")] = Field(
        None, description="the raw text of complete events, dropped or cut"
    )
    measure: Annotated[Measure | None, MadeBy("measuring:measure")] = None
    drop: Annotated[str | None, MadeBy("shrinking:drop")] = Field(
        None, pattern=r"^[a-z0-9][a-z0-9_-]*$", description="the event is dropped for this reason, and counted"
    )

    @property
    def operation(self) -> str:
        """What the step does, as the file calls it."""
        return next(iter(self.given(operations())))

    @property
    def form(self) -> Any:
        """What the file says of it."""
        return next(iter(self.given(operations()).values()))

    @model_validator(mode="after")
    def _one_operation(self) -> Self:
        found = self.given(operations())
        if len(found) != 1:
            names = " and ".join(f"`{name}`" for name in found)
            raise ValueError(f"does {names}; make them steps of their own" if names else "does nothing; see the docs")
        return self


def operations() -> dict[str, MadeBy]:
    """The operations by what the file calls them."""
    return marked(Step, MadeBy)


class FileWithSteps(ParserFile):
    """A whole parser file."""

    steps: list[Step] = Field([], description="what is done to the fields after they are read, in order")
