"""The end of a draft: classes of the model, cases, and what is said of it."""

from __future__ import annotations

import polars as pl

from kinglet.discover.words import counted
from kinglet.discover.yaml_text import scalar
from kinglet.drafting.cases import case, chosen, read_under
from kinglet.drafting.classes import severities, suggested
from kinglet.drafting.masking import Masks
from kinglet.drafting.patterns import Slot
from kinglet.drafting.ready import ready
from kinglet.drafting.report import Doubt, Draft, DraftedMessage
from kinglet.drafting.shape import Variant
from kinglet.drafting.work import Work
from kinglet.errors import ParserFileError
from kinglet.insight.cases import check_cases
from kinglet.insight.coverage import coverage
from kinglet.names import field_of
from kinglet.parser import Parser

_PLAIN = 4
"""The score from which on a class is mapped, rather than suggested."""
_SHOWN = 3
_OF_SYSLOG = (Slot("host", "host", []), Slot("app", "word", [], alias="service"))


def with_encoding(work: Work) -> None:
    """Says in the file how the log is encoded, where it was said that its content does not tell."""
    if work.wishes.encoding is not None:
        work.shape.events["encoding"] = work.wishes.encoding


def mapped(work: Work) -> None:
    """Suggests classes; what the model has nothing against and words leave no doubt of is mapped."""
    for slot in work.outer:
        if meant := severities(slot):
            work.shape.event = {"class": "Base Event", "translate": {"severity": {"from": slot.name, "to": meant}}}
            unknown = sorted({text for text in slot.values if text is not None} - meant.keys())
            if unknown:
                what = f"how grave `{slot.name}` is by {', '.join(f'`{word}`' for word in unknown)} is not known"
                work.doubt(Doubt("event", what, "add what it means under `translate`"))
    outer = work.outer if work.shape.syslog is None else [*_OF_SYSLOG, *work.outer]
    for variant in work.shape.variants:
        for i, one in enumerate(suggested(variant.words, variant.everything, outer)):
            if i == 0 and one.score >= _PLAIN:
                variant.mapping = one.mapping
                variant.notes.append(f"{one.caption}: {one.reasons}")
            else:
                variant.suggested.append(
                    (f"or {one.caption}: {one.reasons}" if i else f"{one.caption}: {one.reasons}", one.mapping)
                )
    try:
        parser = work.loaded()
    except ParserFileError:
        wrong = {variant.name for variant in work.shape.variants}
    else:
        wrong = {item.variant for item in coverage(parser) if item.missing}
    for variant in work.shape.variants:
        if variant.name in wrong and variant.mapping is not None:
            variant.suggested.insert(0, (variant.notes.pop() + "; add what the class requires", variant.mapping))
            variant.mapping = None


def with_cases(work: Work, events: pl.DataFrame, parser: Parser) -> None:
    """Adds a case for each variant and optional part."""
    masks = Masks() if work.wishes.mask else None
    outer = [slot.name for slot in work.outer if slot.name != "stamp"]
    heads = ("host",) if work.shape.syslog is not None else ()
    rows: list[tuple[int, Variant]] = []
    for variant in work.shape.variants:
        rows += [(row, variant) for row in chosen(variant, events["variant"], work.raw)]
    raws = [str(work.raw[row]) for row, _ in rows]
    found = events[[row for row, _ in rows]].to_dicts()
    if masks is not None:
        named = [{*outer, *heads, *(slot.name for slot in variant.everything)} for _, variant in rows]
        raws = [
            masks.text(raw, [(name, text) for name in names if isinstance(text := event.get(name), str)])
            for raw, event, names in zip(raws, found, named, strict=True)
        ]
    at = work.wishes.at if work.wishes.at is not None else work.found.reference
    headers = work.found.headers.gather([row for row, _ in rows]) if work.found.headers is not None else None
    read = read_under(parser, pl.Series(raws, dtype=pl.String), headers, at).events.to_dicts()
    for place, ((_, variant), raw, event) in enumerate(zip(rows, raws, read, strict=True)):
        if event["variant"] != variant.name:
            continue
        names = [slot.name for slot in variant.everything if slot.name]
        made = case(work.shape, raw, event, names if work.shape.cases else [*outer, *names])
        work.shape.cases.append(made | ({"header": headers[place]} if headers is not None else {}))
    for aside in work.shape.aside:
        line = masks.text(aside.line, []) if masks is not None else aside.line
        work.shape.cases.append({"raw": line, "expect": {"variant": aside.name, "state": "dropped"}})
    if parser.needs_order or any("state" in one["expect"] for one in work.shape.cases):
        _checked(work)


def _checked(work: Work) -> None:
    """Leaves out what a case by itself does not bear out, such as a time that the event before it gives."""
    bad = [outcome for outcome in check_cases(work.loaded()) if not outcome.good]
    for outcome in reversed(bad):
        number = outcome.number - 1 - work.earlier
        if number < 0:
            continue  # a case of the parser that is added to
        expect = work.shape.cases[number]["expect"]
        for difference in outcome.differences:
            expect.pop(difference.name, None)
        if "variant" not in expect:
            del work.shape.cases[number]


def report(work: Work, events: pl.DataFrame) -> Draft:
    """The draft, with what is to be said of it."""
    counts = events["state"].value_counts(name="n")
    states = dict(counts.iter_rows())
    each = dict(events["variant"].drop_nulls().value_counts(name="n").iter_rows())
    numbers = work.found.frame["number"]
    messages = []
    for variant in work.shape.variants:
        count = each.get(variant.name, 0)
        row = variant.rows[0]
        messages.append(
            DraftedMessage(
                variant.name,
                variant.pattern,
                count,
                count / events.height,
                str(work.raw[row])[:1000],
                int(numbers[row]),
                [slot.name for slot in variant.everything if slot.name],
                [str(variant.mapping["class"])] if variant.mapping is not None else [],
            )
        )
    messages.sort(key=lambda message: -message.count)
    left = events["variant"].null_count()
    full = len(work.shape.variants) >= work.wishes.most
    if left:
        lines = [int(numbers[row]) for row in events["variant"].is_null().arg_true().head(_SHOWN)]
        mend = "--most N writes more variants" if full else "look at them with `kinglet try`, `--only partial`"
        what = f"{counted(left, 'event')} {'is' if left == 1 else 'are'} read by no variant"
        work.doubt(Doubt("messages", what, mend, lines))
    if doubt := _stamps_missed(work, events, numbers):
        work.doubt(doubt)
    return Draft(
        work.found.name,
        work.shape.name,
        work.written(),
        scalar(work.shape.events)[1:-1].removesuffix(": true"),
        scalar(work.shape.time)[1:-1] if work.shape.time is not None else "",
        _front(work),
        work.shape.kind or "",
        events.height,
        states.get("complete", 0),
        states.get("partial", 0),
        states.get("unmatched", 0),
        messages,
        work.doubts,
        ready(work.found.sample.text),
        len(work.shape.cases),
        left if full else 0,
    )


def _stamps_missed(work: Work, events: pl.DataFrame, numbers: pl.Series) -> Doubt | None:
    """What is to be said of stamps that are not read as they were found, or give no time."""
    if work.stamp_texts is None or work.shape.time is None:
        return None
    found = work.stamp_texts.is_not_null() & events["variant"].is_not_null()
    other = events["time"].is_null()
    if (slot := field_of(work.shape.time.get("from", ""))) in events.columns:
        other |= (events[slot] != work.stamp_texts).fill_null(True)
    rows = (found & other).arg_true()
    if not len(rows):
        return None
    lines = [int(numbers[row]) for row in rows.head(_SHOWN)]
    return Doubt(
        "time",
        f"{counted(len(rows), 'stamp')} without a time, or read otherwise than found",
        "see `kinglet try`",
        lines,
    )


def _front(work: Work) -> str:
    if work.shape.syslog is not None:
        return f"syslog: {work.shape.syslog}"
    return work.shape.envelope.pattern if work.shape.envelope is not None else ""
