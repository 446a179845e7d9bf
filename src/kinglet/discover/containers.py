"""The form that a log as a whole has, tried in order; the first that explains most of it is taken."""

from __future__ import annotations

import csv
import itertools
import json
import re
from collections import Counter
from collections.abc import Callable, Iterator
from typing import Any, NamedTuple

import polars as pl

from kinglet.cutting.cutter import cut
from kinglet.cutting.rule import CutRule
from kinglet.discover.report import Container
from kinglet.discover.sample import Sample
from kinglet.source.logs import open_sources
from kinglet.structured.blocks import DRAWN
from kinglet.timestamps.stamps_in_text import stamps

HEAD = 2**20
MOST_RECORDS = 20_000
_ENOUGH = 0.8
_PROBED = 64 * 1024
"""Bytes in which quotes are counted."""


class Records(NamedTuple):
    """What a container says of the log: its description, the `events` that cut it, and values by column."""

    container: Container
    events: dict[str, Any] | None = None
    values: list[dict[str, Any]] | None = None


def container_of(sample: Sample) -> Records | None:
    """The container format of a log, where it has one."""
    for form in FORMS:
        if (found := form(sample)) is not None:
            return found
    return None


def _json(sample: Sample) -> Records | None:
    head = sample.text.lstrip(b"\x1e \n\t")[:1]
    if head not in (b"{", b"[") and sample.text.count(b"\n{") < _ENOUGH * max(sample.text.count(b"\n"), 1):
        return None
    count, good, records, lines = _parsed(sample, CutRule("json", encoding="utf-8"))
    if not count or good < _ENOUGH:
        return None
    first = sample.text.lstrip()[:1]
    if count == 1 and isinstance(records[0], dict):
        key = max(records[0], key=lambda name: _objects(records[0][name]), default="")
        if _objects(records[0].get(key)) > 1:
            found = [item for item in records[0][key] if isinstance(item, dict)]
            text = f"one object, whose `{key}` holds {len(records[0][key]):,} records"
            return Records(
                Container("JSON under a key", 1.0, "bytes", text, _names(found)), {"json": key}, _flat(found)
            )
    objects = [record for record in records if isinstance(record, dict)]
    array = first == b"[" and bool(objects)
    name = "JSON array" if array else "JSON lines" if lines == count else "JSON objects, pretty-printed"
    text = f"{count:,} records" + ("" if good == 1 else f"; what is not JSON is {100 * (1 - good):.2g} % of the bytes")
    return Records(Container(name, good, "bytes", text, _names(objects)), {"json": True}, _flat(objects))


def _parsed(sample: Sample, rule: CutRule) -> tuple[int, float, list[Any], int]:
    """Records cut by the rule: how many, the share of bytes in good ones, those decoded, how many on one line."""
    count = one_line = good = total = 0
    records: list[Any] = []
    for batch in cut(open_sources(sample.text)[0], rule):
        bad = pl.Series([False]).new_from_index(0, len(batch))
        for name, mask in batch.faults:
            bad = bad | mask if name != "bad-bytes" else bad
        raw = batch.frame["raw"]
        sizes = raw.str.len_bytes()
        good += int(sizes.filter(~bad).sum())
        total += int(sizes.sum())
        count += int((~bad).sum())
        one_line += int((~raw.filter(~bad).str.contains("\n", literal=True)).sum())
        for text in raw.filter(~bad).head(MOST_RECORDS - len(records)):
            try:
                records.append(json.loads(text))
            except (ValueError, RecursionError):
                good -= len(text.encode())
    return count, max(good, 0) / max(total, 1), records or [None], one_line


def _objects(value: Any) -> int:
    return sum(isinstance(item, dict) for item in value) if isinstance(value, list) else 0


def _names(records: list[dict[str, Any]]) -> list[str]:
    counted = Counter(name for record in records for name in record)
    return [name for name, _ in counted.most_common()]


def _flat(records: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Records with the keys of inner objects as dotted paths."""
    return [dict(_leaves(record, "")) for record in records[:MOST_RECORDS]]


def _leaves(value: dict[str, Any], path: str) -> Iterator[tuple[str, Any]]:
    for name, item in value.items():
        if isinstance(item, dict) and item:
            yield from _leaves(item, f"{path}{name}.")
        elif isinstance(item, list):
            yield f"{path}{name}", json.dumps(item, ensure_ascii=False)
        elif item is not None:
            yield f"{path}{name}", item if isinstance(item, str) else json.dumps(item)


_TAG = re.compile(
    rb"<(?:!--.*?-->|!\[CDATA\[.*?\]\]>|\?.*?\?>|!.*?>|(/?)([A-Za-z_][\w:.-]*)(?:[^<>\"']|\"[^\"]*\"|'[^']*')*?(/?)>)",
    re.S,
)


def _xml(sample: Sample) -> Records | None:
    if not re.match(rb"\s*<(?:\?xml|[A-Za-z_][\w:.-]*[\s/>])", sample.text):
        return None
    depth = opened = closed = 0
    at_depth: dict[int, Counter[str]] = {0: Counter(), 1: Counter()}
    for match in _TAG.finditer(sample.text[:HEAD]):
        if match[2] is None:
            continue
        name = match[2].decode("utf-8", "replace")
        opened += not match[1]
        closed += bool(match[1] or match[3])
        if match[1]:
            depth = max(depth - 1, 0)
            continue
        if depth in at_depth:
            at_depth[depth][name] += 1
        depth += not match[3]
    if closed < 0.5 * opened:  # words in angle brackets
        return None
    level = 0 if len(at_depth[0]) and at_depth[0].most_common(1)[0][1] > 1 else 1
    if not at_depth[level]:
        return None
    name, _ = at_depth[level].most_common(1)[0]
    root = next(iter(at_depth[0]), "")
    rule = CutRule("xml", name, encoding="utf-8")
    counted = sum(len(batch) for batch in cut(open_sources(sample.text)[0], rule))
    around = f"`{root}` around " if level else ""
    text = f"{around}{counted:,} `{name}` elements"
    return Records(Container("XML", 1.0, "bytes", text), {"xml": name})


def _csv(sample: Sample) -> Records | None:
    """Delimited text: the separator that gives most rows the same number of values, three or more."""
    head = sample.text[:HEAD]
    head = head[: head.rfind(b"\n") + 1] if len(sample.text) > HEAD else head
    best: tuple[float, int, str, str, list[list[str]]] | None = None
    for delimiter in (",", "\t", ";", "|"):
        if delimiter.encode() not in head:
            continue
        for quote in _quotes(head, delimiter):
            rows = _rows(head, delimiter, quote)
            widths = Counter(len(row) for row in rows)
            if not widths:
                continue
            width, count = widths.most_common(1)[0]
            if all(not row or not row[0].strip() or row[0].rstrip().endswith((":", "=")) for row in rows):
                continue  # lines that are indented, or labels
            share = count / len(rows)
            least = 3 if delimiter == "," else 2 + (delimiter != "\t")
            if width >= least and share >= 0.95 and len(rows) > 2 and (best is None or (share, width) > best[:2]):
                best = (share, width, delimiter, quote, rows)
    if best is None:
        return None
    share, width, delimiter, quote, rows = best
    header = _is_header(rows)
    if not header and not _columns_differ(rows, width):
        return None
    quoted = quote.encode() in head
    names = (
        [name.rpartition(":")[2].strip("\ufeff# ") for name in rows[0]]
        if header
        else [f"column_{i + 1}" for i in range(width)]
    )
    values = [
        {name: value for name, value in zip(names, row, strict=False) if value != ""}
        for row in rows[header:][:MOST_RECORDS]
    ]
    shown = {"\t": "tabs", ",": "commas", ";": "semicolons", "|": "bars"}[delimiter]
    text = f"{width} columns between {shown}, " + ("a header" if header else "no header")
    text += f", quotes {quote}" if quoted else ", no quotes"
    if any("\n" in value for row in rows[:2000] for value in row):
        text += ", line ends within quotes"
    events: Any = True
    if delimiter != "," or (quoted and quote != '"') or not header:
        events = {"delimiter": delimiter} if delimiter != "," else {}
        events |= {"quote": quote} if quoted and quote != '"' else {}
        events |= {} if header else {"header": False}
    return Records(Container("CSV", share, "rows", text, names), {"csv": events}, values)


def _quotes(head: bytes, delimiter: str) -> tuple[str, ...]:
    """The signs that values may stand in between delimiters: single quotes only where more do than in double ones."""
    sign = re.escape(delimiter.encode())
    double, single = (
        len(re.findall(rb"(?m)(?:^|%b)%b(?:[^%b\n]|%b%b)*%b(?=%b|\r?$)" % (sign, *[quote] * 5, sign), head[:_PROBED]))
        for quote in (b'"', b"'")
    )
    return ('"', "'") if single > double else ('"',)


def _rows(head: bytes, delimiter: str, quote: str) -> list[list[str]]:
    rule = CutRule("csv", delimiter=delimiter, quote=quote, header=False, encoding="utf-8", max_lines=100)
    found: list[list[str]] = []
    for batch in cut(open_sources(head)[0], rule):
        for text in batch.frame["raw"].head(MOST_RECORDS - len(found)):
            lines = text.replace("\r", "\n").splitlines(keepends=True)
            try:
                found.append(next(csv.reader(lines, delimiter=delimiter, quotechar=quote), []))
            except csv.Error:  # a field too large for a look
                found.append([])
            if len(found) == 200 and Counter(map(len, found)).most_common(1)[0][1] < 150:
                return found
    return found


_NAME = re.compile(r"(?:[\ufeff@#$%(]|[^\W\d]|[0-9]+[^\W\d])[^\x00-\x1f]{0,80}")
_LETTER = re.compile(r"[^\W\d_]")
_DIGITS = re.compile(r"[-+0-9.,:/ TZ]*[0-9][-+0-9.,:/ TZ]*")
"""A number, a stamp of digits or an address: what stands below a name, and is none."""


def _is_header(rows: list[list[str]]) -> bool:
    """Whether the first row names the columns: words only, each once, most of which occur in no other row.

    They may have signs or digits in them (`@timestamp`, `src_ip4_addr`) where some column has nothing but digits below.
    A comment that has as many columns as the rows does so too.
    """
    if rows[0][0].startswith("#") and not any(row[0].startswith("#") for row in rows[1:200]):
        return True
    first = [value.strip() for value in rows[0]]
    if len(set(first)) < len(first) or not all(_NAME.fullmatch(value) and _LETTER.search(value) for value in first):
        return False
    if not all(re.match(r"[\ufeffA-Za-z_#][^0-9]*[0-9]?$", value) for value in first):
        columns = zip(*(row for row in rows[1:200] if len(row) == len(first)), strict=True)
        if not any(any(column) and all(map(_DIGITS.fullmatch, filter(None, column))) for column in columns):
            return False
    others = {value for row in rows[1:200] for value in row}
    return sum(value not in others for value in first) >= len(first) * 0.8


_PLAIN = re.compile(
    r"\s*[-+0-9.:/TZ ]*\s*|[\w.@-]{0,24}|[0-9A-Fa-f:.]{2,45}|[0-9]{1,2}/[A-Z][a-z]{2}/[0-9]{4}:[0-9: +-]+"
)


def _columns_differ(rows: list[list[str]], width: int) -> bool:
    """Whether the values look like columns: some are short and repeat, or are numbers or stamps, all the way down."""
    columns = list(zip(*(row for row in rows[:500] if len(row) == width), strict=True))
    plain = [sum(bool(_PLAIN.fullmatch(value)) for value in column) >= 0.97 * len(column) for column in columns]
    return sum(plain) >= width / 2


class _LineForm(NamedTuple):
    name: str
    regex: str
    details: str


_HOST = r"[0-9A-Za-z_.:-]+"
_LINE_FORMS = (
    _LineForm(
        "RFC 5424",
        r"^(?:[1-9][0-9]* )?<[0-9]{1,3}>[0-9]{1,2} (?:-|[0-9]{4}-[0-9]{2}-[0-9]{2}T\S+) \S+ \S+ \S+ \S+ (?:-|\[)",
        "priority, version, stamp, host, application, process, message id, structured data",
    ),
    _LineForm(
        "RFC 3164",
        rf"^(?:<[0-9]{{1,3}}>)?[A-Z][a-z]{{2}} [ 0-9][0-9] [0-9:]{{8}} {_HOST} [^ :\[]+(?:\[[^\]]*\])?:",
        "stamp without a year, host, tag, message",
    ),
    _LineForm(
        "NCSA access log",
        r'^\S+ \S+ \S+ \[[0-9]{1,2}/[A-Z][a-z]{2}/[0-9]{4}:[^\]]+\] "[^"]*" [0-9]{3} (?:[0-9]+|-)',
        "client, identity, user, stamp, request, status, bytes",
    ),
)


def _line_forms(sample: Sample) -> Records | None:
    filled = sample.lines.filter(sample.lines != "")
    for form in _LINE_FORMS:
        share = float(filled.str.contains(form.regex).mean() or 0)  # type: ignore[arg-type]
        if share >= _ENOUGH:
            details = form.details
            if form.name == "RFC 3164" and bool(filled.str.starts_with("<").mean()):
                details = "priority, " + details
            if form.name == "NCSA access log" and filled.str.contains(r'"[^"]*" "[^"]*"$').any():
                details += ", referrer, user agent"
            events: dict[str, Any] = {"line": True}
            if form.name == "RFC 5424" and bool((filled.head(50).str.contains(r"^[1-9][0-9]* <")).any()):
                events = {"counted": True}
            return Records(Container(form.name, share, "lines", details), events if events != {"line": True} else None)
    return None


_JSON_LINE = r"^\s*\{.*\}\s*$"
_FEW, _MOST = 0.03, 0.97


def mixture(sample: Sample) -> list[tuple[str, float]]:
    """Line forms that some lines have and others do not, each with its share."""
    filled = sample.lines.filter(sample.lines.str.contains(r"\S"))
    forms = [(form.name, form.regex) for form in _LINE_FORMS]
    forms += [("JSON", _JSON_LINE), ("key=value", r"^(?:\S+=(?:\"[^\"]*\"|\S*)\s*){3,}$")]
    shares = [(name, float(filled.str.contains(regex).mean() or 0)) for name, regex in forms]  # type: ignore[arg-type]
    return [(name, share) for name, share in shares if _FEW <= share <= _MOST]


def _nul(sample: Sample) -> Records | None:
    """Records with a zero byte between them: that of binary text would stand anywhere."""
    parts = [part for part in sample.text.split(b"\0") if part.strip()]
    if len(parts) < 3 or sample.text.count(b"\0") < 3:
        return None
    heads = Counter(re.sub(rb"[0-9]+", b"9", re.sub(rb"[A-Za-z]+", b"a", part[:12])) for part in parts)
    share = sum(count for _, count in heads.most_common(3) if count > 1) / len(parts)
    text = f"{len(parts):,} records with a zero byte between them"
    return Records(Container("zero bytes", share, "records", text), {"nul": True}) if share >= _ENOUGH else None


def _fixed_length(sample: Sample) -> Records | None:
    """Records of one length without anything between them: a stamp stands in each at the same place."""
    if b"\n" in sample.text.rstrip(b"\n") or len(sample.text) < 200:
        return None
    text = sample.text[:20_000].decode("utf-8", "replace")
    found = stamps(text)
    starts = [stamp.start for stamp in found if stamp.form.name == found[0].form.name]
    steps = Counter(later - earlier for earlier, later in itertools.pairwise(starts))
    if len(starts) < 4 or len(steps) != 1 or starts[0] >= min(steps):
        return None
    length = min(steps)
    whole, remainder = divmod(len(sample.text.rstrip(b"\n")), length)
    if remainder or not text.isascii():
        return None
    details = f"{whole:,} records of {length} bytes, with a stamp at the same place"
    return Records(Container("records of one length", 1.0, "records", details), {"length": length})


PAIR = r'(?<![\w.-])([A-Za-z_][\w.-]*)(=|:)("(?:[^"\\]|\\.)*"|\'[^\']*\'|[^\s,;|"\']*)'


def _pairs(sample: Sample) -> Records | None:
    filled = sample.lines.filter(sample.lines != "").head(2000)
    if not len(filled):
        return None
    counts = filled.str.count_matches(r"(?:^|[\s,;|])[A-Za-z_][\w.-]*=")
    if float((counts >= 3).mean() or 0) < _ENOUGH:  # type: ignore[arg-type]
        return None
    separators: Counter[str] = Counter()
    quotes: Counter[str] = Counter()
    keys: Counter[str] = Counter()
    flags = 0
    for line in filled.head(500):
        end = -1
        for match in re.finditer(PAIR, line):
            if match[2] != "=":
                continue
            if 0 <= end < match.start():
                between = line[end : match.start()]
                separators[between if len(between) < 4 else "other"] += 1
                flags += len(between) >= 4
            end = match.end()
            keys[match[1]] += 1
            quotes[match[3][:1] if match[3][:1] in "\"'" and match[3] else ""] += 1
    separator = separators.most_common(1)[0][0] if separators else " "
    shown = {
        " ": "a blank",
        "\t": "a tab",
        ",": "a comma",
        ", ": "a comma and a blank",
        ";": "a semicolon",
        "|": "a bar",
    }
    text = f"{len(keys)} keys, {shown.get(separator, repr(separator))} between pairs, values "
    text += "partly in double quotes" if quotes['"'] else "partly in single quotes" if quotes["'"] else "without quotes"
    share = float((counts >= 3).mean() or 0)  # type: ignore[arg-type]
    return Records(Container("key=value", share, "lines", text, [name for name, _ in keys.most_common()]))


LABEL = r"^[ \t]*([A-Za-z][A-Za-z0-9 ._/()-]{0,40}?)[ \t]*[:=](?:[ \t]|$)"


def _blocks(sample: Sample) -> Records | None:
    filled = sample.lines.filter(sample.lines.str.contains(r"\S"))
    filled = filled.filter(~filled.str.contains(f"^[ \t]*{DRAWN}[ \t\r]*$"))
    if len(filled) < 4:
        return None
    labels = filled.str.extract(LABEL)
    share = 1 - labels.null_count() / len(labels)
    counted = labels.drop_nulls().value_counts(sort=True)
    repeated = counted.filter(pl.col("count") > 1)["count"].sum() or 0
    if share < 0.6 or repeated < 0.9 * len(labels.drop_nulls()) or counted.height > max(60, len(filled) // 10):
        return None
    names = counted.to_series(0).to_list()
    return Records(
        Container("labelled blocks", share, "lines", f"{len(names)} labels, each with a value behind it", names)
    )


FORMS: tuple[Callable[[Sample], Records | None], ...] = (
    _nul,
    _json,
    _xml,
    _line_forms,
    _pairs,
    _csv,
    _blocks,
    _fixed_length,
)
"""The forms in the order in which they are tried."""
