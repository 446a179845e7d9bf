"""Where events start: ways to cut the log, each with how much of it they make sense of."""

from __future__ import annotations

import re
from dataclasses import replace
from typing import Any, NamedTuple

import polars as pl

from kinglet.discover.heads import HEADS_BETWEEN, Heads, escaped, stamp_heads
from kinglet.discover.report import Boundary
from kinglet.discover.sample import Sample
from kinglet.discover.words import counted, percent
from kinglet.mining.levels import LEVELS
from kinglet.structured.blocks import DRAWN
from kinglet.timestamps.stamps_in_text import stamps

_FEW = 0.005
_PROBE = 500
_LABEL_WORDS = 3  # that a label of a block may have
_CLOSING = 2  # signs that may stand behind a stamp that a line ends with
_LONGEST_WORD = 60
_END = 300  # characters at an end of a line in which a stamp and its zone have room
_MANY_TIMES = 10
_MOST = 0.7
_PAGE = 8  # lines with stamps that a stretch of lines has which is no event
_SOME = 0.3  # of the lines that a rule begins events with, so many have a stamp where it cuts by stamps
_WORD = re.compile(r"[A-Za-z_][A-Za-z0-9_.-]*[:=]?")
_SIGNS = re.compile(r"[^\sA-Za-z0-9]{2,}|[\[(<{#*@][A-Za-z_][A-Za-z0-9_.-]*")
"""What else a first line may begin with: signs, or a sign and a word."""


class _Way(NamedTuple):
    """A way to cut: the `events` of a parser file, which lines begin an event, and what they have in common.

    head: which lines look like first lines, where that is known. between: lines that separate events. is_sure: whether
    no line but a first one begins so, whatever stands behind it.
    """

    events: dict[str, Any]
    begins: pl.Series
    head: pl.Series | None
    what: str
    between: pl.Series | None = None
    is_sure: bool = False

    def says_no_more(self, than: _Way) -> bool:
        """Whether it is the same rule, or as sure of the same lines: that they begin with a stamp says the most."""
        return self.events == than.events or (self.is_sure and than.is_sure and self.begins.equals(than.begins))


def boundaries(sample: Sample, known: Boundary | None = None) -> list[Boundary]:
    """The ways that come into question, the likeliest first; known is that of the container."""
    lines = sample.lines
    filled = lines.str.contains(r"\S")
    total = int(filled.sum())
    if not total:
        return []
    stamped = stamp_heads(lines.filter(filled))
    padded = stamped is None and _are_padded(lines.filter(filled))
    candidates = [
        candidate
        for candidate in (
            _by_line(lines, filled, stamped),
            _by_stamp(lines, filled, stamped),
            _by_first_line(lines, filled),
            _by_separator(lines, filled),
            _by_blank_line(lines, filled),
            None if padded else _by_indent(lines, filled),
            _by_last_line(lines, filled),
        )
        if candidate is not None
    ]
    candidates = [way for i, way in enumerate(candidates) if not any(map(way.says_no_more, candidates[:i]))]
    shown = lines.str.strip_chars_start(" ") if padded else lines
    judged = [
        _judged(way, shown if "line" in way.events else lines, filled, sample.numbers, stamped) for way in candidates
    ]
    order = {"line": 0, "separator": 1, "start": 2, "indent": 3, "blank-line": 4, "end": 5}
    judged = [_same(item, judged) for item in judged]
    if stamped is None:
        judged = _blocks_over_lines(judged, total)
    else:
        judged = _lines_over_pages(judged, lines.filter(filled), stamped)
    judged.sort(
        key=lambda item: (
            -round(item.explained, 3),
            -item.count,
            order[next(iter(item.events))],
            len(str(item.events)),
        )
    )
    judged = _framed_first(_whole_lines(judged, lines.filter(filled)), lines, filled)
    if known is None:
        judged = _first_line_first(judged, lines, filled)
    else:
        others = [
            replace(item, wrong=item.wrong or "gives as many events as the first")
            if item.count == known.count
            else item
            for item in judged
            if item.events != known.events
        ]
        judged = [known, *others]
    return judged[:3]


def _first_line_first(all_: list[Boundary], lines: pl.Series, filled: pl.Series) -> list[Boundary]:
    """Puts lines like the log's first one before a stamp that stands as often in a line behind them.

    The stamp of such an event is a line of it and not its beginning, of which the first event would be robbed.
    """
    best = all_[0]
    first = lines[int(filled.arg_true()[0])]
    if "start" not in best.events or re.search(best.events["start"], first):
        return all_
    for way in all_[1:]:
        begins = way.events.get("start")
        if begins is not None and re.search(begins, first) and abs(way.count - best.count) <= 0.02 * best.count:
            return [way, *(one for one in all_ if one is not way)]
    return all_


def _whole_lines(all_: list[Boundary], written: pl.Series) -> list[Boundary]:
    """Puts single lines first where each ends with a stamp: what stands before it is its message and no head."""
    probe = written.gather_every(max(1, len(written) // _PROBE)).head(_PROBE)
    if sum(_ends_in_stamp(line) for line in probe) < (1 - _FEW) * len(probe):
        return all_
    lines = [replace(way, explained=1.0, wrong="") for way in all_ if "line" in way.events]
    others = [
        replace(way, explained=min(way.explained, way.count / len(written)), wrong=way.wrong or "each line has a stamp")
        for way in all_
        if "line" not in way.events
    ]
    return [*lines, *others]


def _ends_in_stamp(line: str) -> bool:
    """Whether a line ends with a stamp that no label stands before: of a block each line may have one."""
    end = line[-_END:]
    found = stamps(end)
    if not found or line[:1].isspace() or not (found[-1].form.date and found[-1].form.clock):
        return False
    if len(line) == len(end) and found[-1].start == 0:
        return False
    before = end[: found[-1].start].rstrip("\"' ")
    is_labelled = before[-1:] in (":", "=") and len(before.split()) <= _LABEL_WORDS
    return len(end.rstrip()) - found[-1].end <= _CLOSING and not is_labelled


def _framed_first(all_: list[Boundary], lines: pl.Series, filled: pl.Series) -> list[Boundary]:
    """Puts lines like the log's first one before ways that would begin an event with the line that closes one."""
    written = lines.filter(filled)
    for way in all_:
        begins = way.events.get("start")
        if begins is None or not re.search(begins, written[0]):
            continue
        opening = written.str.contains(begins)
        closing = written.filter(opening.shift(-1, fill_value=True))
        marks = len(closing) > 2 and closing.n_unique() == 1 and not re.fullmatch(DRAWN, closing[0])
        if marks and int((written == closing[0]).sum()) == len(closing):
            return [way, *(one for one in all_ if one is not way)]
    return all_


def _blocks_over_lines(all_: list[Boundary], total: int) -> list[Boundary]:
    """Holds against single lines that one word recurs with the same lines behind it, three or more to a block."""
    starts = [way for way in all_ if "start" in way.events and way.explained >= 0.95 and way.multi_line >= 0.9]
    if not starts or total < 3 * starts[0].count:
        return all_
    wrong = f"`{starts[0].events['start']}` recurs with like lines behind it"
    return [
        replace(way, explained=min(way.explained, starts[0].count / total), wrong=wrong)
        if "line" in way.events
        else way
        for way in all_
    ]


def _lines_over_pages(all_: list[Boundary], written: pl.Series, stamped: Heads) -> list[Boundary]:
    """Holds against stretches of many lines, such as the pages of a report, that nearly all lines have a stamp."""
    heads = written.str.contains(stamped.any)
    count, share = int(heads.sum()), float(heads.mean() or 0)  # type: ignore[arg-type]
    return [
        replace(way, explained=min(way.explained, 1 - share), wrong=f"{percent(share)} of lines begin with a stamp")
        if share >= _MOST and not {"line", "start"} & {*way.events} and count >= _PAGE * way.count
        else way
        for way in all_
    ]


def _same(way: Boundary, all_: list[Boundary]) -> Boundary:
    """Says of a way that it cuts like the simplest one, where it does."""
    if way is all_[0] or way.wrong or way.count != all_[0].count or way.explained != all_[0].explained:
        return way
    return replace(way, wrong="gives the same events as `line`, which is simpler")


def _by_line(lines: pl.Series, filled: pl.Series, stamped: Heads | None) -> _Way:
    head = lines.str.contains(stamped.any) if stamped else None
    return _Way({"line": True}, filled, head, "every line is an event")


def _by_stamp(lines: pl.Series, filled: pl.Series, stamped: Heads | None) -> _Way | None:
    if stamped is None:
        return None
    head = lines.str.contains(stamped.start)
    start = short_start(stamped.start)
    begins = lines.str.contains(start)
    if (head & ~begins).any():  # the short form would miss an event: the long one is printed
        start, begins = stamped.start, head
    return _Way({"start": start}, begins, head, "lines that begin with a stamp", is_sure=True)


def short_start(regex: str) -> str:
    """A start regex as a person would write it."""
    several = re.fullmatch(r"\^\(\?:(.*)\)", regex)
    if several is not None and HEADS_BETWEEN in several[1]:
        return "^(?:" + "|".join(short_start(one) for one in several[1].split(HEADS_BETWEEN)) + ")"
    text = regex.replace("[0-9]{1,2}", r"\d+").replace("[0-9]+", r"\d+").replace("[0-9]", r"\d")
    for long, short in (
        (r"(?:Jan|Feb|Mar|Apr|May|Jun|Jul|Aug|Sep|Oct|Nov|Dec)", r"\w{3}"),
        (r"(?:Mon|Tue|Wed|Thu|Fri|Sat|Sun)", r"\w{3}"),
    ):
        text = text.replace(long, short)
    text = re.sub(r"\(\?:\[\.,\]\\d\{1,9\}\)\?|\(\?:\[\.,:\]\\d\{1,9\}\)\?", "", text)
    text = re.sub(r"\(\?: \?\(\?:Z.*\)\)\?$|\(\?:Z\\b.*\)\?$", "", text).replace(r"(?::\d{2})?", "")
    text = text.removesuffix(r"(?:\d{2})?")
    if text.count("(") != text.count(")"):
        return regex  # what would be left out stands within a group
    return text.replace(r"[ 0-9]?\d", r"[ \d]\d").replace(r"[ \d]?\d", r"[ \d]\d")


def _by_first_line(lines: pl.Series, filled: pl.Series) -> _Way | None:
    """Lines that begin with the same word as the first one, or are the same mark, where others stand between."""
    rows = filled.arg_true()
    first = lines[int(rows[0])]
    again = lines == first
    marks = re.match(r"[^\sA-Za-z0-9]{2,}.{0,56}\S$", first) is not None
    if marks and 2 <= int(again.sum()) <= 0.5 * int(filled.sum()):
        return _Way({"start": f"^{escaped(first)}$"}, again, again, f"lines of `{first}`, as the first one is")
    if (at := stamps(first[:_END])) and at[0].start == 0:
        return None  # of a stamp it is the month, or the day
    word = _WORD.match(first) or _SIGNS.match(first)
    if word is None or len(word[0]) > _LONGEST_WORD:
        return None
    levels = _levels(lines, word[0])
    regex = "^" + (levels or escaped(word[0]))
    begins = lines.str.contains(regex)
    if levels is not None and lines.filter(filled & ~begins).str.contains(r"^[ \t]").all():
        # so are those that begin with a level which this log has not
        return _Way({"indent": True}, begins, begins, "lines that are not indented, which begin with a level")
    count = int(begins.sum())
    if count < 2 or count > (0.6 if levels is None else 0.99) * int(filled.sum()):
        return None
    what = (
        f"lines that begin with `{word[0]}`, as the first one does"
        if levels is None
        else "lines that begin with a level"
    )
    return _Way({"start": regex}, begins, begins, what, is_sure=levels is not None)


def _are_padded(written: pl.Series) -> bool:
    """Whether the blanks before most lines fill up a number in front of them, and indent nothing."""
    numbered = written.str.contains("^ +[0-9]")
    if float(numbered.mean() or 0) < _MOST:  # type: ignore[arg-type]
        return False
    forms = _first_word(written.filter(numbered).str.strip_chars_start(" ")).value_counts(sort=True)
    return float(forms["count"][0]) >= _MOST * len(written)


def _levels(lines: pl.Series, word: str) -> str | None:
    """Where lines begin with a level, all levels that some begin with, and the sign behind."""
    bare = word.rstrip(":=")
    if bare.lower() not in LEVELS:
        return None
    sign = word.removeprefix(bare)
    firsts = lines.str.extract(f"^([A-Za-z]+){sign}").drop_nulls().unique()
    levels = sorted(text for text in firsts if text.lower() in LEVELS)
    return f"(?:{'|'.join(levels)}){sign}" if len(levels) > 1 else None


def _by_separator(lines: pl.Series, filled: pl.Series) -> _Way | None:
    """Lines of one sign repeated, where the same one recurs and other lines stand between."""
    rules = lines.filter(lines.str.contains(f"^{DRAWN}$"))
    if len(rules) < 2:
        return None
    text, count = rules.value_counts(sort=True, name="n").row(0)
    if count < 2 or count > 0.4 * int(filled.sum()):
        return None
    between = lines == text
    begins = filled & ~between & between.shift(1, fill_value=True)
    return _Way({"separator": f"\n{text}\n"}, begins, None, f"stretches between lines of `{text[:20]}`", between)


def _by_blank_line(lines: pl.Series, filled: pl.Series) -> _Way | None:
    begins = filled & ~filled.shift(1, fill_value=False)
    count = int(begins.sum())
    if count < 2 or count > 0.8 * int(filled.sum()):
        return None
    return _Way({"blank-line": True}, begins, None, "stretches between empty lines")


def _by_indent(lines: pl.Series, filled: pl.Series) -> _Way | None:
    begins = filled & ~lines.str.contains(r"^[ \t]")
    count = int(begins.sum())
    if count == int(filled.sum()) or not count:
        return None
    return _Way({"indent": True}, begins, None, "lines that are not indented")


def _by_last_line(lines: pl.Series, filled: pl.Series) -> _Way | None:
    """Lines that are the same wherever they stand, of which the log ends with one."""
    rows = filled.arg_true()
    last = lines[int(rows[-1])].strip()
    if not last or len(last) > _LONGEST_WORD:
        return None
    ends = lines.str.strip_chars() == last
    count = int(ends.sum())
    if count < 3 or count > 0.6 * int(filled.sum()):
        return None
    begins = filled & ends.shift(1, fill_value=True)
    return _Way({"end": rf"^\s*{escaped(last)}\s*$"}, begins, None, f"stretches that end with `{last}`")


def _judged(way: _Way, lines: pl.Series, filled: pl.Series, numbers: pl.Series, stamped: Heads | None) -> Boundary:
    """How many lines a way explains: first lines that look like first lines, and others that do not."""
    total = int(filled.sum())
    head = way.head
    if head is None and stamped is None and "indent" in way.events and 2 * int(way.begins.sum()) > total:
        # mostly single lines, which may begin in as many ways as where each line is an event
        head = _first_word(lines).is_in(_common_forms(lines.filter(way.begins))["forms"].implode())
    elif head is None:
        head = (
            _usual_head(lines, way.begins)
            if stamped is None or not _mostly(lines, way.begins, stamped.any)
            else lines.str.contains(stamped.any)
        )
    elif stamped is not None and "start" in way.events and not stamped.is_labelled:
        # no line that begins like a stamp is a continuation
        head = head | lines.str.contains(stamped.any)
    good = filled & ((way.begins & head) | (~way.begins & ~head))
    event = way.begins.cum_sum()
    before = filled & (event == 0)
    good = good & ~before
    if way.between is not None:
        good = good | way.between
    explained = int(good.sum()) / total
    if way.head is not None and "start" in way.events and not way.is_sure:
        explained *= _coherence(lines, way.begins, filled) * _evenness(event.filter(filled & ~before))
    count = int(way.begins.sum())
    sizes = event.filter(filled & ~before).value_counts()
    many = sizes.filter(pl.col("count") > 1).height / max(count, 1)
    if way.events == {"line": True} and stamped is None:
        explained = _alike(lines, filled)
    evidence = f"{way.what}: {counted(count, 'event')}" + (
        f", {percent(many)} of them of several lines" if many else ""
    )
    wrong = ""
    if explained < 0.9995:
        bad = (filled & ~good).arg_true()
        if len(bad):
            example = int(bad[0])
            place = f"line {numbers[example]}" if numbers[example] else "such as"
            why = (
                "would be no first line of an event"
                if way.begins[example]
                else "looks like the first line of an event and would not begin one"
            )
            if before[example]:
                why = "stands before the first event"
            fit = "1 line does not fit" if len(bad) == 1 else f"{len(bad):,} lines do not fit"
            wrong = f"{fit}; {place} `{lines[example][:50]}` {why}"
        else:
            wrong = (
                "the lines do not begin alike"
                if "line" in way.events
                else "the second lines of its events differ in form"
            )
    return Boundary(way.events, count, explained, many, evidence, wrong)


def _mostly(lines: pl.Series, begins: pl.Series, regex: str) -> bool:
    return bool((lines.filter(begins).str.contains(regex).mean() or 0) > _SOME)  # type: ignore[operator]


def _first_word(lines: pl.Series) -> pl.Series:
    """The form of the beginning of lines: a first word that ends in a colon, or the kinds of its characters."""
    coarse = lines.str.slice(0, 24).str.extract(r"^(\s+|\S+)").fill_null("")
    labels = coarse.str.contains(r"^[A-Za-z][\w-]*[:=]$")
    kinds = (
        coarse.str.replace_all(r"^\s+$", "_")
        .str.replace_all("[0-9]+", "9")
        .str.replace_all("[A-Za-z]+", "a")
        .str.replace_all(r"(?:[a9][^a9\s]?){3,}", "a9")
    )
    return coarse.zip_with(labels, kinds)


def _usual_head(lines: pl.Series, begins: pl.Series) -> pl.Series:
    """Which lines have the form that most first lines have."""
    forms = _first_word(lines)
    usual = forms.filter(begins).value_counts(sort=True)
    same: pl.Series = forms == usual.item(0, 0)
    return same


def _alike(lines: pl.Series, filled: pl.Series) -> float:
    """For single lines without stamps: the share that begin in one of the forms that are common here."""
    written = lines.filter(filled)
    indented = float(written.str.contains(r"^[ \t]").mean() or 0)  # type: ignore[arg-type]
    empty = 1 - len(written) / max(len(lines), 1)
    common = _common_forms(written)["count"].sum() or 0
    return float(common) / len(written) * (1 - indented) * (1 - min(empty, 1))


def _common_forms(written: pl.Series) -> pl.DataFrame:
    """The forms in which many lines begin, each with the count of its lines."""
    forms = _first_word(written).alias("forms").value_counts(sort=True)
    return forms.filter(pl.col("count") >= max(2, 0.02 * len(written)))


def _evenness(event: pl.Series) -> float:
    """The share of lines that are not in an event many times as long as most: such a one holds others."""
    sizes = event.value_counts()["count"]
    longest = _MANY_TIMES * max(float(sizes.median() or 0), 1)  # type: ignore[arg-type]
    return 1 - float(sizes.filter(sizes > longest).sum()) / max(len(event), 1)


def _coherence(lines: pl.Series, begins: pl.Series, filled: pl.Series) -> float:
    """How alike the events are in the form of their second line."""
    written = lines.filter(filled)
    first = begins.filter(filled)
    second = first.shift(1, fill_value=False) & ~first
    if not int(second.sum()):
        return 0.0
    forms = _first_word(written).filter(second).value_counts(sort=True)
    lone = first & first.shift(-1, fill_value=True)
    return float(forms.item(0, 1)) / float(forms["count"].sum()) * (1 - float(lone.sum()) / float(first.sum()))
