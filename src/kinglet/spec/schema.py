"""The keys of a parser file, and the values each may have.

What can be judged key by key stands here; what needs several keys together (a slot that a rule
names, an attribute that a class has) is judged by a pass of `kinglet.compiler`.
"""

from __future__ import annotations

import re
from typing import Annotated, Any, Literal, NamedTuple, Self

from pydantic import BeforeValidator, Discriminator, Field, Tag, WithJsonSchema, field_validator, model_validator

from kinglet.errors import InvalidError
from kinglet.spec.forms import ReadingForm
from kinglet.spec.section import FieldName, FieldNames, FixedText, Scalar, Section, Texts, as_list, marked, one_or_many

_SIZE = re.compile(r"\s*(\d+(?:\.\d+)?)\s*(B|KiB|MiB|GiB|kB|MB|GB)?\s*", re.IGNORECASE)
_UNITS = {"b": 1, "kib": 2**10, "mib": 2**20, "gib": 2**30, "kb": 10**3, "mb": 10**6, "gb": 10**9}

DEFAULT_MAX_BYTES = 8 * 2**20


class Cut(NamedTuple):
    """What makes a key of `events` a cutting rule.

    cut_by: the function that makes what finds the events, as `MODULE:FUNCTION` within `kinglet.cutting.boundaries`.
    plain: whether the rule can stand by itself: `events: json`.
    """

    cut_by: str
    plain: bool = False


def cut_rules() -> dict[str, Cut]:
    """The cutting rules by what parser files call them."""
    return marked(Events, Cut)


def plain_rules() -> list[str]:
    """Those that can stand by themselves."""
    return [name for name, rule in cut_rules().items() if rule.plain]


def _as_events(value: Any) -> Any:
    if isinstance(value, str):
        if value not in plain_rules():
            raise ValueError(f"is not a rule by itself: `{value}`")
        return {value: True}
    return value


def _seconds(value: Any) -> Any:
    from kinglet.timestamps.reference_time import as_span

    if not isinstance(value, str):
        return value
    span = as_span(value)
    if span is None:
        raise InvalidError(f"{value!r} is no length of time", "write it like `500 ms`, `90 s`, `10 min` or `2 hours`")
    return span.total_seconds()


def _as_rules(value: Any) -> Any:
    return [value] if isinstance(value, dict) else value


def bytes_of(value: Any) -> Any:
    """A number of bytes from text such as `64 KiB`; what is no text stays as it is."""
    if not isinstance(value, str):
        return value
    match = _SIZE.fullmatch(value)
    if match is None:
        raise ValueError("is not a size such as `64 KiB`")
    return int(float(match[1]) * _UNITS[(match[2] or "B").lower()])


Kinds = Annotated[
    list[str | int], BeforeValidator(as_list), one_or_many({"type": ["string", "integer"]}), Field(min_length=1)
]
Size = Annotated[
    int,
    BeforeValidator(bytes_of),
    WithJsonSchema({"type": ["integer", "string"], "examples": ["64 KiB"]}),
    Field(ge=64, le=2**40),
]
Seconds = Annotated[
    float,
    BeforeValidator(_seconds),
    WithJsonSchema({"type": ["number", "string"], "examples": ["500 ms", "5 s"]}),
    Field(gt=0, le=3600),
]

Age = Annotated[
    float,
    BeforeValidator(_seconds),
    WithJsonSchema({"type": ["number", "string"], "examples": ["10 minutes", "2 hours"]}),
    Field(gt=0, le=366 * 86_400),
]


class Product(Section):
    """Constants that the log itself does not carry."""

    vendor: str
    name: str
    version: str | None = None


class Claims(Section):
    """What tells that a log is this parser's own."""

    path: Texts | None = Field(None, description="glob on the path of the log")
    contains: Texts | None = Field(None, description="text that every log of this kind contains")


class Csv(Section):
    """Rows of delimited text."""

    delimiter: str = Field(",", min_length=1, max_length=1, description="the character between values")
    quote: str = Field('"', min_length=1, max_length=1, description="the character around values")
    header: bool = Field(True, description="the first row names the columns and is no event")


Flag = Literal[True] | None
Count = Literal[True, "line", "2 bytes", "4 bytes", "2 bytes little-endian", "4 bytes little-endian"]


class Events(Section):
    """What breaks the log into events: one of the rules, and limits. Without a rule every line is an event."""

    line: Annotated[Flag, Cut("lines:every_line", plain=True)] = Field(None, description="every line is an event")
    start: Annotated[str | None, Cut("lines:by_start")] = Field(
        None, description="regex that the first line of an event matches"
    )
    end: Annotated[str | None, Cut("lines:by_end")] = Field(
        None, description="regex that the last line of an event matches"
    )
    blank_line: Annotated[Flag, Cut("lines:by_blank_line", plain=True)] = Field(
        None, alias="blank-line", description="a line with nothing on it stands between events"
    )
    indent: Annotated[Flag, Cut("lines:by_indent", plain=True)] = Field(
        None, description="indented lines continue the event before them"
    )
    json_: Annotated[Literal[True] | str | None, Cut("objects:by_json", plain=True)] = Field(
        None, alias="json", description="JSON values: true for one after another or an array, or the key of an array"
    )
    xml: Annotated[str | None, Cut("elements:by_xml")] = Field(
        None, pattern=r"^[A-Za-z_][\w.-]*(:[A-Za-z_][\w.-]*)?$", description="name of the XML element that is an event"
    )
    csv: Annotated[Literal[True] | Csv | None, Cut("rows:by_csv", plain=True)] = Field(
        None, description="rows of delimited text, quotes around line ends respected"
    )
    nul: Annotated[Flag, Cut("separated:by_nul", plain=True)] = Field(
        None, description="a zero byte stands between events"
    )
    separator: Annotated[str | None, Cut("separated:by_separator")] = Field(
        None, min_length=1, description="this text stands between events"
    )
    length: Annotated[int | None, Cut("framed:by_length")] = Field(
        None, ge=1, le=2**40, description="every event has so many bytes"
    )
    counted: Annotated[Count | None, Cut("framed:by_count", plain=True)] = Field(
        None,
        description="before each event stands how many bytes it has: true for a count and a blank (RFC 6587), "
        "`line` for a line with the count, `4 bytes` for a number of so many bytes",
    )
    lead: str | None = Field(None, description="regex of lines that belong to the event behind them; goes with `start`")
    banner: str | None = Field(
        None,
        description="regex of lines that are events by themselves, and no fault before the first; with `start`",
    )
    header: str | None = Field(
        None,
        description="regex at the start of lines that are no events: what stands behind it names the columns of the "
        "lines below; with `line`",
    )
    max_bytes: Size = Field(DEFAULT_MAX_BYTES, description="longer events come in pieces, with a fault")
    max_lines: int | None = Field(None, ge=1, le=2**40, description="events of more lines come in pieces, with a fault")
    idle: Seconds = Field(
        5.0, description="what has come of an event is given out when so long no more has come; seconds"
    )
    line_ends: Literal["auto", "lf", "any"] = Field(
        "auto", description="lf: LF and CRLF; any: CR too; auto: by what the start of the log has"
    )
    encoding: str | None = Field(None, description="encoding of the log; told by its content unless given")

    @property
    def rules(self) -> dict[str, Any]:
        """The rules that are given, by their names in the file."""
        return self.given(cut_rules())

    @model_validator(mode="after")
    def _one_rule(self) -> Events:
        if len(self.rules) > 1:
            raise ValueError("has more than one rule: " + ", ".join(f"`{name}`" for name in self.rules))
        if self.start is None and (self.lead or self.banner) is not None:
            raise ValueError("has `lead` or `banner`, which go with `start`")
        if self.header is not None and any(name != "line" for name in self.rules):
            raise ValueError("has `header`, which goes with `line`")
        if self.length is not None and self.length > self.max_bytes:
            raise ValueError("has a `length` that is more than `max_bytes` allows")
        return self


class ZoneFrom(Section):
    """A zone that the event itself names."""

    from_: FieldName = Field(description="the slot that holds an offset, a zone name or an abbreviation", alias="from")


_DATE_WORD = {"type": "string", "enum": ["previous", "file", "event"]}
_DATES = {
    "anyOf": [
        _DATE_WORD,
        {"type": "array", "items": _DATE_WORD, "minItems": 1},
        {
            "type": "object",
            "properties": {"from": {"type": "string"}, "format": {"type": ["string", "array"]}},
            "required": ["from"],
            "additionalProperties": False,
        },
    ]
}


class DateFrom(Section):
    """A date that stands in a slot of its own."""

    from_: FieldName = Field(description="the slot that holds the date", alias="from")
    format: Texts = Field(["%Y-%m-%d"], description="directives of the date, tried in order")


class TimeRule(Section):
    """Where a stamp stands and how to read it."""

    from_: FieldName | None = Field(
        None, description="the slot or field that holds the stamp, or is searched", alias="from"
    )
    after: str | None = Field(None, description="regex; the stamp stands behind what it matches first")
    find: Literal["start", "anywhere"] | None = Field(
        None, description="search for the stamp at the start, or anywhere"
    )
    within: int | None = Field(
        None, ge=0, le=1000, description="characters among which the stamp has to begin; counted from `after`"
    )
    format: Texts = Field(["iso8601"], description="directives or names of formats, tried in order")
    zone: str | ZoneFrom | None = Field(None, description="zone of stamps that carry none, or the slot that has it")
    since: str | None = Field(None, description="the stamp is a count since this moment, such as 1601-01-01")
    unit: str | None = Field(None, description="unit of a count: `s`, `ms`, `us`, `100 ns`, `d`; goes with `since`")
    year: Literal["nearest", "file"] | Annotated[int, Field(ge=1, le=9999)] | None = Field(
        None,
        description="for stamps without one: nearest to the reference, that of the log's name, or a number",
    )
    pivot: int | None = Field(None, ge=0, le=100, description="two-digit years from here on are 19xx; 70 unless given")
    date: Annotated[
        list[Literal["previous", "file", "event"] | DateFrom],
        BeforeValidator(as_list),
        WithJsonSchema(_DATES),
    ] = Field([], description="where stamps without a date take it from, or the slot that has it")
    to: str | None = Field(None, description="a field for this stamp, which then is not the event's time")
    nanoseconds: str | None = Field(None, description="a field for nanoseconds since 1970")

    @model_validator(mode="after")
    def _somewhere(self) -> TimeRule:
        if self.after is not None and self.find is not None:
            raise ValueError("has both `after` and `find`")
        if self.from_ is None and self.after is None and self.find is None:
            raise ValueError("does not say where the stamp stands: add `from`, `after` or `find`")
        if self.within is not None and self.after is None and self.find != "anywhere":
            raise ValueError("has `within`, which goes with `after` and `find: anywhere`")
        if (self.since is None) != (self.unit is None):
            raise ValueError("has one of `since` and `unit`, which go together: `since: 1601-01-01`, `unit: 100 ns`")
        if self.since is not None and "format" in self.model_fields_set:
            raise InvalidError("has both `since` and `format`", "a count needs no format")
        slots = [way for way in self.date if isinstance(way, DateFrom)]
        if slots and (len(self.date) > 1 or self.from_ is None or self.after is not None or self.find is not None):
            raise ValueError("takes its date from a slot: that goes with `from` alone, and with no other `date`")
        return self


class Clock(Section):
    """What holds for all stamps of the log."""

    zone: str | None = Field(None, description="zone of stamps that carry none")
    zones: dict[str, str] = Field({}, description="abbreviations in the log and the zone or offset they mean")
    missing: Literal["fault", "previous", "file"] = Field("fault", description="the time of events without a stamp")
    earliest: str = Field("1990-01-01", description="stamps before this moment are faults")
    latest: str = Field("366 days", description="stamps after this moment, or so long after the reference, are faults")

    @field_validator("earliest")
    @classmethod
    def _moment(cls, value: str) -> str:
        from kinglet.timestamps.reference_time import as_moment

        as_moment(value)
        return value

    @field_validator("latest")
    @classmethod
    def _moment_or_span(cls, value: str) -> str:
        from kinglet.timestamps.reference_time import as_moment, as_span

        if as_span(value) is None:
            try:
                as_moment(value)
            except ValueError:
                raise ValueError(f"{value!r} is neither a date nor a span such as `2 days`") from None
        return value


class Translation(Section):
    """Words of the log, and the values of an enumeration that they mean; any other word is Other."""

    from_: str = Field(description="SQL expression over fields that gives the word", alias="from")
    to: dict[str | int | bool, str | int] = Field(min_length=1, description="word: value, by caption or id")

    @property
    def words(self) -> dict[str, str | int]:
        """The values by the words as the log writes them; YAML reads `true` and `4` as other than text."""
        return {str(word).lower() if isinstance(word, bool) else str(word): value for word, value in self.to.items()}


class EventMapping(Section):
    """How an event maps onto the common model."""

    template: str | None = Field(None, description="a mapping of the model's file that this one stands over")
    class_: str | int | None = Field(None, alias="class", description="class of the model, by caption or uid")
    activity: str | int | None = Field(None, description="activity of that class, by caption or id")
    status: str | int | None = Field(None, description="Success, Failure, … or id")
    severity: str | int | None = Field(None, description="Informational, Low, … or id")
    set: dict[str, Scalar | FixedText | Annotated[list[Scalar | FixedText], Field(min_length=1)] | None] = Field(
        {},
        description="attribute path: SQL expression over fields, `{text: …}` for fixed text, or a list of such; "
        "null leaves out what all variants share",
    )
    translate: dict[str, Translation | None] = Field(
        {},
        description="class, activity, status, severity, or the path of an enumeration: the log's words, what they mean",
    )
    observables: bool | None = Field(
        None, description="list the values that are observables, such as addresses and users"
    )


Escapes = Literal["c", "json", "percent", "html", "hex", "base64"]


class OwnType(Section):
    """A slot type of the parser's own."""

    regex: str = Field(min_length=1, description="the text that it reads")
    base: str = Field("text", description="the slot type whose value it becomes and whose limits it keeps")
    about: str = Field("", description="what it is, said where a value is not valid")
    unescape: Escapes | None = Field(None, description="escapes in its text stand for something else")


class Envelope(ReadingForm):
    """A front part: structure, a head of syslog, or a pattern with structure in it."""

    syslog: Literal["rfc5424", "rfc3164", "any"] | None = Field(
        None, description="the event begins with the head of a syslog message"
    )

    app: Texts | None = Field(None, description="with `syslog`: the applications whose messages these are")

    @property
    def given_forms(self) -> dict[str, object]:
        """The ways of reading that are given; it has one."""
        return super().given_forms | ({"syslog": self.syslog} if self.syslog else {})

    @model_validator(mode="after")
    def _some_form(self) -> Self:
        if self.app is not None and self.syslog is None:
            raise InvalidError("has `app`, which goes with `syslog`", "in a pattern write its name as text")
        if not self.forms:
            raise InvalidError(
                "does not say what it reads", "give it a `pattern`, `json`, `pairs`, `syslog` or the like"
            )
        return self


class Variant(ReadingForm):
    """One of the messages of a log."""

    name: str = Field(pattern=r"^[A-Za-z0-9][A-Za-z0-9_.-]*$")
    kind: (
        Annotated[
            Annotated[Kinds, Tag("values")] | Annotated[dict[FieldName, Kinds], Tag("by slot")],
            Discriminator(lambda value: "by slot" if isinstance(value, dict) else "values"),
        ]
        | None
    ) = Field(
        None,
        description="values of the kind slot that mean this message; where there are several, by their names",
    )
    from_: FieldName | None = Field(
        None, alias="from", description="the field it reads, if not the end of the envelope"
    )
    onward: FieldName | None = Field(None, description="the slot of the envelope from which on it reads the event")
    event: EventMapping | None = None

    @model_validator(mode="after")
    def _reads(self) -> Self:
        if not self.forms and (self.types or self.from_ or self.onward):
            raise ValueError("has `types`, `from` or `onward`, but does not say how it reads: `pattern`, `regex`, …")
        if self.from_ is not None and self.onward is not None:
            raise ValueError("has both `from` and `onward`")
        return self


class Case(Section):
    """A raw event and what must come out of it."""

    raw: str
    before: Texts | None = Field(None, description="raw events of the log that stand before it, for `remember`")
    note: str | None = None
    at: str | None = Field(None, description="the moment to take a missing year from")
    header: str | None = Field(None, description="the header of the log, where it names the columns")
    expect: dict[str, Any] = Field({}, description="state, variant, time, faults and fields by name")
    model: dict[str, Any] = Field({}, description="attributes of the mapped event by dotted path")

    @field_validator("at")
    @classmethod
    def _moment(cls, value: str | None) -> str | None:
        from kinglet.timestamps.reference_time import as_moment

        if value is not None:
            as_moment(value)
        return value


class ParserFile(Section):
    """A whole parser file, but for steps: see `kinglet.spec.steps.FileWithSteps`."""

    kinglet: Literal[1] = Field(description="version of the file format")
    parser: str = Field(pattern=r"^[A-Za-z0-9][A-Za-z0-9_.-]*$", description="name of the parser")
    version: str = Field(pattern=r"^\d+(\.\d+){0,2}([+-][0-9A-Za-z.-]+)?$", description="version, such as 1.2.0")
    about: str = ""
    product: Product
    claims: Claims | None = None
    events: Annotated[Events, BeforeValidator(_as_events)] = Field(default_factory=Events.model_construct)
    time: Annotated[list[TimeRule], BeforeValidator(_as_rules)] = Field([])
    clock: Clock = Field(default_factory=Clock.model_construct)
    types: dict[str, OwnType] = Field({}, description="slot types of this parser, by name")
    parts: dict[str, str] = Field({}, description="pieces of pattern by name; patterns refer to them as {@name}")
    envelope: str | Envelope | None = Field(
        None, description="pattern of the front part that all messages share, or the structure that they have"
    )
    kind: FieldNames | None = Field(
        None, description="slot whose value tells which variant an event is; or several, whose values tell it together"
    )
    event: EventMapping | None = Field(None, description="mapping that all variants share")
    templates: dict[str, EventMapping] = Field({}, description="mappings that some variants share, by name")
    variants: list[Variant] = Field(min_length=1)
    steps: list[Any] = Field([], max_length=0)
    cases: list[Case] = Field([])

    @property
    def maps(self) -> bool:
        """Whether it says anything of the model."""
        return self.event is not None or any(variant.event is not None for variant in self.variants)
