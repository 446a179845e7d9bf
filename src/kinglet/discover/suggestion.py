"""The beginning of a parser for a log: what is known after a look, in the words of a parser file."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from pathlib import PurePath
from typing import Any, NamedTuple

import polars as pl

from kinglet.discover.date_and_time import Parted
from kinglet.discover.facts import Facts
from kinglet.discover.header_lines import DIRECTIVE
from kinglet.discover.structured import Structured, structured
from kinglet.discover.syslog_heads import head_formats, stamp_of_message, syslog_head
from kinglet.discover.times import TextPlace, Times, format_of_time, search_of
from kinglet.discover.yaml_text import quoted, scalar
from kinglet.patterns.compiling import escape, to_regexes
from kinglet.patterns.grammar import PatternError, escaped, parse
from kinglet.timestamps.formats import parse_format

_PROBE = 300
_MOST_WORDS = 6
_YAML_WORDS = ("null", "true", "false")


class Beginning(NamedTuple):
    """The text of a parser file, and how it reads a date and a time of day that stand in two fields."""

    text: str
    parted: Parted | None = None


def beginning(stem: str, log: Facts) -> Beginning:
    """A parser file that cuts a log and reads its time, as far as that can be told; it loads as it is."""
    events, stamps, raw = log.boundaries[0].events, log.stamps, log.frame["raw"]
    columns = log.records.container.columns if log.records is not None else []
    out = ["kinglet: 1", f"parser: {scalar(stem)}", "version: 0.1.0", "product: {vendor: UNKNOWN, name: UNKNOWN}"]
    if events != {"line": True}:
        name, value = next(iter(events.items()))
        out.append(f"events: {name}" if value is True else f"events: {flow(events)}")
    found = structured(raw, stamps, events, columns, log.reference, log.headers)
    head = syslog_head(raw) if found is None else None
    if head is not None:
        formats = head_formats(raw, head)
        written = f"[{', '.join(formats)}]" if len(formats) > 1 else formats[0]
        own = stamp_of_message(raw, head, stamps)
        inner = [f"{key}: {scalar(item)}" for key, item in own.items()] if own is not None else []
        time = ", ".join(inner) or f"from: stamp, format: {written}"
        out += [f"envelope: {{syslog: {head}}}", f"time: {{{time}}}"]
        return _text([*out, "variants: [{name: any, pattern: '{message:rest}'}]"])
    access = access_pattern(raw) if found is None else None
    if access is not None:
        out += ["time: {from: stamp, format: ncsa}", "variants:", "  - name: request", f"    pattern: {flow(access)}"]
        return _text(out)
    if found is not None:
        rule = f"time: {flow(found.parted.rule)}" if found.parted is not None else _rule(found.stamp, stamps, raw)
        lines = [*out, *([rule] if rule is not None else []), *_of_structure(found)]
        return _text(lines)._replace(parted=found.parted)
    where = _time(stamps, raw)
    if where is None and (rule := _rule(None, stamps, raw)) is not None:
        out.append(rule)
    if where is not None:
        date = "" if parse_format(where[0]).has_date else ", date: [previous, file]"
        out.append(f"time: {{from: stamp, format: {flow(where[0])}{date}}}")
    pattern = where[1] if where is not None else "{body:rest}"
    out.append(f"variants: [{{name: any, pattern: {flow(pattern)}}}]")
    return _text(out)


def _text(lines: Sequence[str]) -> Beginning:
    return Beginning("\n".join(lines) + "\n")


_ENOUGH = 0.95
_ACCESS = (
    '{client} {ident} {user} [{stamp:time}] "{request:text}" {status:int} {size}'
    '[[ "{referrer:text}" "{agent:text}"]][[ {others:rest}]]'
)


def access_pattern(raw: pl.Series) -> str | None:
    """The pattern of a web server's log of accesses (NCSA common and combined) where nearly all events are its lines.

    A client is an address where all are; a server may write names instead.
    """

    def share(pattern: str, events: pl.Series) -> float:
        regex = to_regexes(parse(pattern), {"stamp": parse_format("ncsa").shape})[-1]
        return float(events.str.contains(regex).mean() or 0)  # type: ignore[arg-type]

    if share(_ACCESS, raw.head(4 * _PROBE)) < _ENOUGH:
        return None
    of_addresses = _ACCESS.replace("{client}", "{client:ip}")
    return of_addresses if share(of_addresses, raw) == share(_ACCESS, raw) else _ACCESS


def _rule(key: str | None, stamps: Times, raw: pl.Series) -> str | None:
    """The time rule of events with structure: from a key of theirs, or where none holds the stamp from the text."""
    text = format_of_time(stamps)
    if text is None:
        return None
    where = {"from": key} if key is not None else search_of(stamps, raw)
    if where is None:
        return None
    date = "" if parse_format(text).has_date else ", date: [previous, file]"
    name, value = next(iter(where.items()))
    return f"time: {{{name}: {_key(value)}, format: {flow(text)}{date}}}"


def _of_structure(found: Structured) -> Iterator[str]:
    """The one variant of a parser for JSON objects, pairs and the like."""
    if found.directives:
        yield "steps:"
        yield "  - {note: lines about the log itself, when: variant = 'directive', drop: directive}"
    yield "variants:"
    if found.directives:
        yield f"  - {{name: directive, pattern: {flow(DIRECTIVE)}}}"
    yield f"  - name: any\n    {found.name}: {found.form if isinstance(found.form, str) else flow(found.form)}"
    if found.keys:
        yield f"    keys: {flow(dict(found.keys))}"
    if found.types:
        yield "    types:"
    for name, kind in found.types.items():
        yield f"      {_key(name)}: {kind}"


def _key(name: str) -> str:
    return name if re.fullmatch(r"[A-Za-z_][A-Za-z0-9_.]*", name) and name not in _YAML_WORDS else flow(name)


def _time(stamps: Times, raw: pl.Series) -> tuple[str, str] | None:
    """The format of the event's time, and a pattern with the slot that holds it."""
    text = format_of_time(stamps)
    if text is None:
        return None
    shape = parse_format(text).shape
    probe, found = raw.head(_PROBE), stamps.texts[0].head(_PROBE)
    wanted = 0.9 * float(found.is_not_null().mean() or 0)  # type: ignore[arg-type]
    for pattern in _patterns(stamps.where[0], probe):
        try:
            regex = to_regexes(parse(pattern), {"stamp": shape})[-1]
            taken = probe.str.extract_groups(regex).struct.field("stamp")
            if float((taken == found).fill_null(False).mean() or 0) >= wanted:  # type: ignore[arg-type]
                return text, pattern
        except (PatternError, pl.exceptions.PolarsError):
            continue
    return None


def _patterns(place: TextPlace, raw: pl.Series) -> Iterator[str]:
    """Patterns that may find a stamp at this place, the plainest first."""
    before = escaped(place.before)
    follows = raw.str.extract(f"{place.regex}([^0-9A-Za-z\\s]{{1,3}} ?)", 2).drop_nulls()
    usual = follows.alias("text").value_counts(sort=True)["text"].head(2).to_list()
    closing = [f"{escaped(text.rstrip())}{' ' * text.endswith(' ')}{{body:rest}}" for text in usual]
    words = (
        raw.str.extract(f"(?is)^(.*?){escape(place.before)}{place.form.shape}").str.count_matches(r"\S+").drop_nulls()
    )
    count = int(words.mode()[0]) if len(words) else 0
    heads = "".join(f"{{head_{number}:word}} " for number in range(1, count + 1))
    for behind in (" {body:rest}", *closing, "{body:rest}"):
        if place.order <= 0 and re.search(r"(?:^|[^\w.])[A-Z]$", place.before):  # of a level, which others have too
            yield f"{escaped(place.before[:-1])}{{head:text}}{{stamp:time}}{behind}"
        if place.order <= 0:
            yield f"{before}{{stamp:time}}{behind}"
        yield f"{{head:text}}{before}{{stamp:time}}{behind}"
        if 0 < count <= _MOST_WORDS:  # a stamp such as `1795972829` looks like other numbers
            yield f"{heads}{before}{{stamp:time}}{behind}"


def flow(value: Any) -> str:
    """A value as YAML on one line."""
    if isinstance(value, dict):
        return "{" + ", ".join(f"{key}: {flow(item)}" for key, item in value.items()) + "}"
    if isinstance(value, list):
        return "[" + ", ".join(_key(item) for item in value) + "]"
    if isinstance(value, bool):
        return str(value).lower()
    text = str(value)
    if not isinstance(value, str):
        return text
    return quoted(text)


def command_text(name: str) -> str:
    """The command that tries a parser on this log: a ready one, or the one that is begun here."""
    from kinglet.spec.ready import ready_parsers

    plain = name if name not in ("<stdin>", "<bytes>", "<text>", "<events>") else "LOG"
    quoted = f"'{plain}'" if re.search(r"[\s*?\[]", plain) else plain
    stem = file_stem(name)
    if stem in ready_parsers():
        return f"kinglet try {stem} {quoted}"
    return f"kinglet try {stem}.yaml {quoted}"


def file_stem(name: str) -> str:
    """A name for a parser of this log."""
    stem = PurePath(name.rstrip("/*")).name.split(".")[0]
    return re.sub(r"[^A-Za-z0-9_-]+", "-", stem).strip("-") or "log"
