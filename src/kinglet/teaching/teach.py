"""Teaching: from marks to a parser that reads the field in every event that has it."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Mapping, Sequence
from datetime import datetime
from pathlib import Path

import polars as pl

from kinglet.calls import ReferenceTime, call_options
from kinglet.discover.facts import facts
from kinglet.discover.suggestion import beginning, file_stem
from kinglet.discover.words import counted
from kinglet.discover.yaml_text import scalar
from kinglet.drafting.cases import case_of
from kinglet.drafting.editing import inserted, is_listed, node_at, with_key
from kinglet.drafting.report import Doubt
from kinglet.drafting.work import sampled
from kinglet.drafting.writing import case_lines
from kinglet.errors import UsageError
from kinglet.insight.cases import check_cases
from kinglet.insight.spans import spans
from kinglet.insight.values import values_of
from kinglet.names import field_of
from kinglet.parser import Parser, load_text
from kinglet.patterns.types import TYPES
from kinglet.plan.headers import reads_headers
from kinglet.source.logs import Given, open_sources, refuse_once
from kinglet.spec.ready import ready_parsers
from kinglet.teaching.changes import changes
from kinglet.teaching.lesson import Lesson, Matched
from kinglet.teaching.marks import Mark, field_of_marks, rows_of
from kinglet.teaching.trial import Change, Trial, same

_ROUNDS = 4
_VALUES = 6
_LINES = 3


def teach(
    parser: Parser | str,
    log: Given,
    marks: Sequence[Mark],
    *,
    kind: str | None = None,
    variant: str | None = None,
    cases: bool = True,
    at: ReferenceTime = None,
    zone: str | None = None,
    encoding: str | None = None,
) -> Lesson:
    """Teaches a parser a field by examples of its text in a log; nothing is written.

    parser: one that was loaded from a file, or the path of one; where there is no such file, one is begun for the
    log. kind: the type of slot, if not the one that fits the values. variant: what one is called that is added.
    cases: add a case for each mark. at, zone, encoding: as for `Parser.parse`.

    Raises:
        UsageError: the marks are none, contradict each other, or no way was found that does what they say.
        InputError: the log cannot be read.
        ParserFileError: the parser cannot be loaded.
    """
    field = field_of_marks(marks)
    if kind is not None and kind not in TYPES:
        raise UsageError(f"there is no slot type `{kind}`", f"types are {', '.join(TYPES)}")
    refuse_once([log], "it is parsed before and after")
    name = parser if isinstance(parser, str) else parser._document.name
    before, text = _file(name, log, encoding, zone)
    loaded = load_text(text, name)
    if reads_headers(loaded._plan):
        message = "columns that a header names are not taught"
        raise UsageError(f"{name}: {message}", f"name it under its types: `types: {{{field}: text}}`")
    events = loaded.parse(log, reference_time=at, zone=zone, encoding=encoding).events
    if not events.height:
        raise UsageError("there is nothing to parse in the log")
    rows = rows_of(marks, events)
    known = field_of(field)
    how: list[str] = []
    if known not in events.columns or not all(same(events[known][row], mark.text) for mark, row in rows.items()):
        _refuse_known(loaded, events, rows)
        text, how = _taught(text, name, field, events, rows, reference=_reference(at, events), zone=zone, kind=kind,
                            variant=variant)  # fmt: skip
    done = load_text(text, name)
    after = done.parse(log, reference_time=at, zone=zone, encoding=encoding).events
    added = 0
    if cases:
        text, added = _with_cases(text, name, field, after, rows)
    variants = {after["variant"][row] for mark, row in rows.items() if mark.text is not None}
    return Lesson(
        name,
        field,
        how or ["the parser reads it so already"],
        before,
        text,
        after.height,
        int(after[known].is_not_null().sum()),
        _matches(after, known, variants),
        _doubts(after, known, variants),
        added,
    )


def _file(name: str, log: Given, encoding: str | None, zone: str | None) -> tuple[str, str]:
    """The text of a parser file, and what it begins with: one for the log where there is none."""
    if name in ready_parsers():
        raise UsageError(f"`{name}` is a parser that ships with Kinglet", "copy it into a file of your own")
    if name.startswith("<"):
        raise UsageError("the parser was not loaded from a file", "load it from one, so that the file can be changed")
    path = Path(name)
    if path.exists():
        text = path.read_text(encoding="utf-8-sig")
        if re.search(r"^extends\s*:", text, re.MULTILINE):
            message = "a parser that extends another cannot be taught"
            raise UsageError(f"{name}: {message}", "teach the one that it extends, or write the variant by hand")
        return text, text
    found = facts(open_sources(log, encoding=encoding), log)
    text = beginning(file_stem(path.name), found).text
    places = found.stamps.places
    if zone is not None and places and places[0].zone == "none in the text" and node_at(text, ("time",)) is not None:
        text = with_key(text, ("time",), "zone", scalar(zone))
    return "", text


def _refuse_known(parser: Parser, events: pl.DataFrame, rows: Mapping[Mark, int]) -> None:
    """Refuses to read once more what has a field already."""
    names = set()
    for mark, row in rows.items():
        if mark.text is None:
            continue
        raw = str(events["raw"][row])
        here = {(span.start, span.end): span.field for span in spans(parser._plan, raw, events["variant"][row])}
        bounded = rf"(?<![^\W_]){re.escape(mark.text)}(?![^\W_])"
        fields = {here.get(match.span()) for match in re.finditer(bounded, raw)}
        if len(fields) != 1:
            return
        names |= fields
    if len(names) == 1 and (name := names.pop()) is not None and name != next(iter(rows)).field:
        raise UsageError(f"the parser reads this as `{name}` already", "rename that in the file, or map it")


def _reference(at: ReferenceTime, events: pl.DataFrame) -> ReferenceTime:
    """What times of the sample are read by: that of the call, or the newest of the log."""
    newest = events["time"].max() if at is None and "time" in events.columns else None
    return newest if isinstance(newest, datetime) else at


def _taught(
    text: str,
    name: str,
    field: str,
    events: pl.DataFrame,
    rows: Mapping[Mark, int],
    *,
    reference: ReferenceTime,
    zone: str | None,
    kind: str | None,
    variant: str | None,
) -> tuple[str, list[str]]:
    """The file with the field, and what was done."""
    call_options(reference, zone)
    chosen = sorted({*sampled(range(events.height)), *rows.values()})
    at = {row: i for i, row in enumerate(chosen)}
    wanted = {at[row]: mark.text for mark, row in rows.items()}
    raw = events["raw"].gather(chosen)
    how: list[str] = []
    for _ in range(_ROUNDS):
        trial = Trial(text, name, field, raw, wanted, reference=reference, zone=zone, kind=kind, variant=variant)
        left = trial.left()
        if not left:
            return text, how
        change = _best(trial)
        if change is None:
            break
        text = change.text
        how.append(change.how)
    mark = next(mark for mark, row in rows.items() if at[row] in left and mark.text is not None)
    others = [str(other) for other in rows if other is not mark]
    said = f"; with {', '.join(others)}" if others else ""
    problem = f"{mark}: no way was found to take this and leave the rest as it is{said}"
    raise UsageError(problem, "mark it where it stands alone, or write a pattern")


def _best(trial: Trial) -> Change | None:
    """The first change that does what the most marks say."""
    left = trial.left()
    best: tuple[int, Change] | None = None
    for change in changes(trial):
        count = len(change.handled & left)
        if count and (best is None or count > best[0]) and trial.good(change):
            best = (count, change)
            if change.handled >= left:
                break
    return best[1] if best is not None else None


def _with_cases(text: str, name: str, field: str, events: pl.DataFrame, rows: Mapping[Mark, int]) -> tuple[str, int]:
    """The file with a case for each mark that a case by itself bears out."""
    if not is_listed(text, "cases"):
        return text, 0
    known = field_of(field)
    parser = load_text(text, name)
    before = len(parser._definition.cases)
    made = []
    for row in dict.fromkeys(rows.values()):
        event = events.row(row, named=True)
        case = case_of(parser, event)
        item = event[known]
        case["expect"][field] = item if isinstance(item, str | int | float | bool | None) else str(item)
        made.append(case)
    good = []
    for case in made:
        tried = load_text(inserted(text, "cases", list(case_lines(case))), name)
        if all(outcome.good for outcome in check_cases(tried)[before:]):
            good.append(case)
    return inserted(text, "cases", [line for case in good for line in case_lines(case)]), len(good)


def _matches(events: pl.DataFrame, name: str, marked: set[str | None]) -> list[Matched]:
    """What the field is, variant by variant; those without a mark first, as they are guesses."""
    out = []
    for (variant,), own in events.group_by(["variant"], maintain_order=True):
        having = own.filter(pl.col(name).is_not_null())
        if not having.height:
            continue
        counts = having[name].cast(pl.String).alias("value").value_counts(sort=True, name="n").head(_VALUES)
        lines = having["line"].head(_LINES).to_list()
        context = str(variant) if variant is not None else ""
        out.append(Matched(context, variant in marked, having.height, own.height, [*counts.iter_rows()], lines))
    return sorted(out, key=lambda one: (one.marked, -one.count))


def _doubts(events: pl.DataFrame, name: str, marked: set[str | None]) -> list[Doubt]:
    """What to look at: values unlike the others, variants without a mark, events that look the same and got nothing."""
    out: list[Doubt] = []
    having = events.filter(pl.col(name).is_not_null())
    for one in values_of(events, name).values:
        if one.unlike:
            out.append(Doubt("values", f"unlike the others: `{one.value}`", "", one.lines))
    for (variant,), own in having.group_by(["variant"], maintain_order=True):
        if variant not in marked:
            where = f"`{variant}`" if variant is not None else "what no variant reads"
            said = f"taken in {where}, which has no mark, in {counted(own.height, 'event')}"
            out.append(Doubt("variants", said, "", own["line"].head(_LINES).to_list()))
    for variant in dict.fromkeys(marked):
        own = events.filter(pl.col("variant").eq_missing(pl.lit(variant)))
        word = _word_before(own, name)
        none = (
            own.filter(pl.col(name).is_null() & pl.col("raw").str.contains(word, literal=True)) if word else own.head(0)
        )
        if none.height:
            said = f"{counted(none.height, 'event')} of `{variant}` with `{word.strip()}` have none"
            out.append(Doubt("nothing taken", said, "", none["line"].head(_LINES).to_list()))
    return out


def _word_before(events: pl.DataFrame, name: str) -> str:
    """The word that stands in front of most values in their events."""
    words: Counter[str] = Counter()
    for raw, value in events.select("raw", pl.col(name).cast(pl.String)).head(200).iter_rows():
        at = raw.find(value) if value else -1
        if match := re.search(r"[^\W\d_][\w-]*[=: \"'(\[]+$", raw[:at]) if at > 0 else None:
            words[match[0]] += 1
    word, count = words.most_common(1)[0] if words else ("", 0)
    return word if count > 0.5 * words.total() else ""
