"""Size and form of a log, and what is odd about it."""

from __future__ import annotations

import polars as pl

from kinglet.cutting.cutter import EventBatch
from kinglet.discover.containers import mixture
from kinglet.discover.report import Anomaly, Basics
from kinglet.discover.sample import Sample

_SHOWN = 3
_LONG_LINE = 16_384


def basics(
    sample: Sample, batches: list[EventBatch], frame: pl.DataFrame, *, contained: bool, by_lines: bool
) -> Basics:
    """What can be counted in the sample; lines are estimated from it where it is not all.

    contained: the log has a container, whose share says how much of it is something else. by_lines:
    events end with lines.
    """
    lines = sample.lines
    lengths = lines.str.len_bytes()
    longest = int(lengths.arg_max() or 0)
    count = len(lines)
    estimated = not sample.whole and sample.size is not None
    if estimated and sample.size and sample.text:
        width = sample.encoding.width if sample.encoding and sample.encoding.width > 0 else 1
        count = round(count * sample.size / (len(sample.text) * width))
    return Basics(
        size=sample.size,
        lines=count,
        lines_estimated=estimated,
        packing=sample.packing,
        encoding=sample.encoding.name if sample.encoding else "utf-8",
        encoding_evidence=sample.encoding.evidence if sample.encoding else "",
        line_ends=sample.ends,
        longest_line=int(lengths.max() or 0),  # type: ignore[arg-type]
        longest_line_number=int(sample.numbers[longest]) if len(lines) else 0,
        empty_lines=int((lengths == 0).sum()),
        anomalies=[*_in_lines(sample, contained, by_lines), *_in_events(batches, frame)],
    )


def _in_lines(sample: Sample, contained: bool, by_lines: bool) -> list[Anomaly]:
    found: list[Anomaly] = []
    lines = sample.lines
    for what, text, count in (
        ("zero bytes", "\0", sample.text.count(b"\0")),
        ("bytes that are not in the encoding, shown as \ufffd", "\ufffd", sample.bad_bytes),
        ("escape sequences for colours and the like", "\x1b", sample.text.count(b"\x1b")),
        ("byte order marks within the text", "\ufeff", sample.text.count(b"\xef\xbb\xbf")),
    ):
        if count:
            rows = lines.str.contains(text, literal=True).arg_true().head(_SHOWN)
            found.append(Anomaly(what, count, sample.numbers.gather(rows).to_list()))
    if sample.unended and by_lines:
        what = "the last line has no end: it may be cut off, or still be written"
        found.append(Anomaly(what, sample.unended, sample.numbers.tail(1).to_list()))
    for name, share in [] if contained else mixture(sample):
        found.append(Anomaly(f"lines are {name}, the others are not: mixed formats", round(share * len(lines))))
    if sample.ends.get("CR") and len(sample.ends) > 1:
        found.append(
            Anomaly(
                "carriage returns by themselves, kept as text (`line_ends: any` ends lines there)", sample.ends["CR"]
            )
        )
    if {"LF", "CRLF"} <= set(sample.ends) and min(sample.ends["LF"], sample.ends["CRLF"]) > 0:
        found.append(Anomaly("mixed line ends, both LF and CRLF", min(sample.ends["LF"], sample.ends["CRLF"])))
    long = (lines.str.len_bytes() > _LONG_LINE).arg_true()
    if len(long):
        found.append(
            Anomaly(
                f"lines of more than {_LONG_LINE:,} bytes",
                len(long),
                sample.numbers.gather(long.head(_SHOWN)).to_list(),
            )
        )
    return found


_WORDS = {
    "cut-off": "events whose end is missing",
    "no-start": "lines before the first event begins: its start was cut off",
    "stray-text": "lines between records that belong to none",
    "bad-count": "frames with a wrong count",
    "too-long": "events longer than 8 MiB",
}


def _in_events(batches: list[EventBatch], frame: pl.DataFrame) -> list[Anomaly]:
    counts: dict[str, list[int]] = {}
    first = 0
    for batch in batches:
        for name, mask in batch.faults:
            if name in _WORDS:
                counts.setdefault(name, []).extend((mask.arg_true() + first).to_list())
        first += len(batch)
    return [
        Anomaly(_WORDS[name], len(rows), frame["number"].gather(rows[:_SHOWN]).to_list())
        for name, rows in counts.items()
    ]
