"""Every place at which a stamp stands in the events: how to read it, what it says, and which is the event's time."""

from __future__ import annotations

import re
from collections import Counter
from dataclasses import replace
from datetime import datetime
from typing import NamedTuple

import polars as pl

from kinglet.discover.labels import is_label
from kinglet.discover.report import StampPlace
from kinglet.discover.words import percent
from kinglet.timestamps.ambiguity import decide, year_first
from kinglet.timestamps.formats import parse_format
from kinglet.timestamps.known_forms import Findable
from kinglet.timestamps.reading import TimeReading, instants
from kinglet.timestamps.search import NAMED, OFFSET
from kinglet.timestamps.stamps import INSTANT
from kinglet.timestamps.stamps_in_text import format_of, has_date, stamps

_PROBE = 1500
_TRIED = 300
_LONGEST = 3000  # characters of an event that are searched for places
_MOST = 65_536  # and for what stands there
_LABEL = re.compile(
    r"""["']?([A-Za-z_][\w.-]*(?: [A-Za-z][\w-]*)?)["']?(\s*[:=]\s*["'\[(]?)$|(?<=[\s(\[,])[a-z]{3,} $"""
)
_RARE = 0.002
_COMMON = 0.5  # the least share of events that have the place of their time
_FEW = 2  # of more events than that one that all have the same stamp has no time there
_SURE = 0.99  # a stamp that rises so often tells more than the place where it stands
_RISES = 0.9
_OTHER_DAY = 86_400
_BURST = 200  # so many events may well be of one second
_NAMES = {
    **dict.fromkeys(("time", "timestamp", "ts", "eventtime", "event_time", "datetime", "when", "logged", "logtime"), 2),
    **dict.fromkeys(("date", "at", "created", "occurred", "start", "begin", "t"), 1),
    **dict.fromkeys(("expires", "until", "updated", "modified", "end", "ended", "valid", "due", "born", "since"), -1),
}
"""What the name of a key says of the stamp behind it: 2 that it is likely the event's time, -1 that it is not."""
_OF_OTHERS = re.compile(
    "(?:receiv|rcv|recv|ingest|index|collect|arriv|insert|upload|import|last|prev|first|next|expir|valid)"
)
"""Begins the names of stamps that say when an event was taken in, or what was before or will be after it."""
_OF_EVENT = re.compile("(?:generat|event|occur|happen|origin|device|log)")
_DATE_BEFORE = (
    r"([0-9]{1,4}(?:st|nd|rd|th)?[ ./-]{1,2}(?:[^\W\d_]{3,}|[0-9]{1,2})[ ./-]{1,2}[0-9]{2,4}"
    r"|\b[A-Z]?(?:[0-9]{2})?(?:0[1-9]|1[0-2])[/-]?(?:0[1-9]|[12][0-9]|3[01])|\b[0-9]{1,2}\.[0-9]{1,2}\.)"
    r"(?:[^0-9A-Za-z]{0,3}| at )$"
)
_YEAR_BEFORE = r"([^\s\[(]*(?:(?:19|20)[0-9]{2}|[\p{Nd}&&[^0-9]]{4}).{0,14})$"
_YEAR_BEHIND = r"^[ /|;,@_-]{0,2}((?:19|20)[0-9]{2})(?:[^0-9]|$)"
_DAY = "(?:0?[1-9]|[12][0-9]|3[01])"
_DATE_BEHIND = (
    rf"^[^0-9A-Za-z]{{0,3}}T?({_DAY}[./-]{_DAY}(?:[./-](?:[0-9]{{2}}|[0-9]{{4}})|\.)"
    r"|(?:[0-9]{2}(?:0[1-9]|1[0-2])|(?:0[1-9]|1[0-2])[/-])(?:0[1-9]|[12][0-9]|3[01]))(?:[^0-9A-Za-z./-]|$)"
)
_SHORT = 60  # characters of a line that has little but a date
_NEAR = 40  # characters within which a text that all events begin with is taken for the place


class TextPlace(NamedTuple):
    """Where a stamp stands: after a text, at the start, or as the n-th of an event."""

    before: str
    order: int
    form: Findable

    @property
    def before_regex(self) -> str:
        """What stands before the stamp, from a place that can be searched for."""
        if self.order == 0:
            return "^" + _escaped(self.before)
        if self.order < 0:
            return (r"(?:^|[^\w.-])" if self.before[:1].isalpha() else "") + _escaped(self.before)
        return f"^(?:.*?{self.form.shape}){{{self.order - 1}}}.*?{_escaped(self.before)}"

    @property
    def regex(self) -> str:
        """The stamp as the only group."""
        return f"(?is){self.before_regex}({self.form.shape})"

    @property
    def text(self) -> str:
        if self.order == 0:
            return "at the start" + (f", after `{self.before}`" if self.before else "")
        if self.order < 0:
            return f"after `{self.before.strip()}`"
        return f"the {_nth(self.order)} in the event" + (f", after `{self.before}`" if self.before.strip() else "")


class Times(NamedTuple):
    """The places, the likeliest time of the event first, with the instants of each event."""

    places: list[StampPlace]
    where: list[TextPlace]
    texts: list[pl.Series]


def format_of_time(found: Times) -> str | None:
    """The format of the event's time."""
    if not found.places or not found.places[0].is_time or not found.places[0].format:
        return None
    try:
        parse_format(found.places[0].format)
    except ValueError:
        return None
    return found.places[0].format


def search_of(stamps: Times, raw: pl.Series) -> dict[str, str] | None:
    """Where a rule finds the stamps in the text of events: at the start, as the first, or behind what stands there."""
    text = format_of_time(stamps)
    if text is None:
        return None
    place, shape = stamps.where[0], f"({parse_format(text).shape})"
    probe, found = raw.head(_TRIED), stamps.texts[0].head(_TRIED)
    wanted = 0.9 * float(found.is_not_null().mean() or 0)  # type: ignore[arg-type]
    for where, regex in (
        ({"find": "start"}, f"^{shape}"),
        ({"find": "anywhere"}, shape),
        ({"after": place.before_regex}, f"{place.before_regex}{shape}"),
    ):
        taken = probe.str.extract(f"(?is){regex}")
        if float((taken == found).fill_null(False).mean() or 0) >= wanted:  # type: ignore[arg-type]
            return where
    return None


def times(events: pl.Series, numbers: pl.Series, reference: datetime) -> Times:
    """The stamps of events; numbers are those of their first lines."""
    if not len(events):
        return Times([], [], [])
    texts = events.str.slice(0, _MOST)
    seen, probed = _places(events.str.slice(0, _LONGEST))
    found: list[tuple[StampPlace, TextPlace, pl.Series, pl.Series]] = []
    companion: pl.Series | None = None
    common = seen.most_common(12)
    for place, count in sorted(common, key=lambda item: bool(item[0].form.swapped) or not item[0].form.date):
        if count < max(_RARE * probed, 1 if probed < 50 else 2):
            continue
        text = texts.str.extract(place.regex)
        if text.null_count() == len(text):
            continue
        described, values = _described(place, text, numbers, reference, companion, texts)
        if companion is None and place.form.date and not place.form.swapped and values.null_count() < len(values):
            companion = values
        found.append((described, place, text, values))
    found = sorted(found, key=lambda item: _likely(*item[:3], is_count=_is_count(item, found)), reverse=True)
    places = [item[0] for item in found]
    constant = bool(places) and _is_constant(found[0][2])
    counts = not constant or _may_be_time(found[0][1], found[0][2])
    if places and places[0].format and found[0][1].form.clock and places[0].share >= _COMMON and counts:
        more = "" if found[0][1].form.date else "; it has no date, which has to come from the log or an event before"
        if constant:
            more += f"; but all {len(found[0][2]):,} have the same, so a longer log should be looked at"
        places[0] = replace(places[0], is_time=True, reason=_reason(places) + more)
        if not found[0][1].form.date and not places[0].ambiguity:
            others = [item[0] for item in found[1:] if item[1].form.date and not item[1].form.clock]
            said = _date_apart(others)
            places[0] = replace(places[0], ambiguity=said, decided=not said)
        for i in range(1, len(places)):
            places[i] = replace(places[i], apart=_apart(found[0][3], found[i][3], found[i][2]))
    return Times(places, [item[1] for item in found], [item[2] for item in found])


def _places(texts: pl.Series) -> tuple[Counter[TextPlace], int]:
    step = max(1, len(texts) // _PROBE)
    probe = texts.gather_every(step).head(_PROBE)
    found = [(text, stamps(text)) for text in probe]
    leads = Counter(text[: known[0].start] for text, known in found if known and known[0].start <= _NEAR)
    lead, count = leads.most_common(1)[0] if leads else ("", 0)
    leading = lead if count >= 0.9 * leads.total() else ""
    seen: Counter[TextPlace] = Counter()
    for text, known in found:
        orders: Counter[str] = Counter()
        for stamp in known:
            orders[stamp.form.name] += 1
            before = text[: stamp.start]
            label = _label_of(before)
            if stamp.start == 0 or before == leading:
                place = TextPlace(before, 0, stamp.form)
            elif label is not None:
                place = TextPlace(label, -1, stamp.form)
            else:
                place = TextPlace(
                    before[-1:] if before[-1:] in "[(<{\"'|;," else "", orders[stamp.form.name], stamp.form
                )
            seen[place] += 1
    return seen, len(probe)


def _label_of(before: str) -> str | None:
    """The key before a stamp, with what stands between."""
    line = before[-60:].rpartition("\n")[2]
    label = _LABEL.search(line)
    if label is None:
        return None
    text = label[0].lstrip()
    if text.rstrip()[-1:] == ":" and not is_label(text.strip()):
        return None  # `WARN: ` names nothing
    first, _, second = (label[1] or "").partition(" ")
    alone = not line[: label.start()].strip() or line[: label.start()].rstrip()[-1:] in ",;|([{"
    # of `Account Name: ` both words are the key, of `gate-3 time=` the first is a value
    return text.removeprefix(first).lstrip() if second and ("=" in (label[2] or "") or not alone) else text


def _described(
    place: TextPlace,
    text: pl.Series,
    numbers: pl.Series,
    reference: datetime,
    companion: pl.Series | None,
    whole: pl.Series,
) -> tuple[StampPlace, pl.Series]:
    form = place.form
    stamps = text.drop_nulls()
    example = str(stamps[0])
    month_first = False
    ambiguity, decided = "", True
    if form.swapped:
        month_first, ambiguity, decided = _day_or_month(form, text, numbers, reference, companion)
    spec = format_of(form, example, swapped=month_first) if form.format else ""
    if form.swapped and (found := year_first(stamps, parse_format(spec), reference)) is not None:
        spec, ambiguity, decided = found[0].text, found[1], False
    if not form.date and (elsewhere := _date_beside(place, whole) or _date_between(whole)):
        ambiguity, decided = elsewhere, False
    values = _instants(text, spec, reference)
    known = values.drop_nulls()
    rising = None
    if len(known) > 1:
        steps = known.diff().drop_nulls().dt.total_microseconds()
        rising = float((steps >= 0).mean() or 0) if (steps != 0).any() else None  # type: ignore[arg-type]
    described = StampPlace(
        place.text,
        form.name,
        spec,
        example,
        len(stamps) / len(text),
        _zone(form, stamps, place, whole),
        known.min() if len(known) else None,  # type: ignore[arg-type]
        known.max() if len(known) else None,  # type: ignore[arg-type]
        rising,
        ambiguity,
        decided=decided,
        unreadable=len(stamps) - len(known) if spec and form.date else 0,
    )
    return described, values


def _date_beside(place: TextPlace, whole: pl.Series) -> str:
    """What is said where a date seems to stand beside times of day, in a form that is not read."""
    around = whole.str.extract_groups(f"(?is)(.{{0,40}}?){place.form.shape}(.{{0,14}})").struct.unnest()
    before, behind = around.to_series(0), around.to_series(1)
    for where, dates in (
        ("before", before.str.extract(_DATE_BEFORE)),
        ("before", before.str.extract(_YEAR_BEFORE)),
        ("behind", behind.str.extract(_YEAR_BEHIND)),
        ("behind", behind.str.extract(_DATE_BEHIND)),
    ):
        if dates.null_count() <= 0.5 * len(dates):
            shown = f"what stands {where} the time of day, such as `{dates.drop_nulls()[0].strip()}`"
            return f"{shown}, may be its date, in a form that is not read here"
    return ""


def _date_apart(dates: list[StampPlace]) -> str:
    """What is said where a date stands in most events, apart from their time of day."""
    usual = next((place for place in dates if place.share >= _COMMON), None)
    if usual is None:
        return ""
    where = f"a date stands {usual.place}, such as `{usual.example}`"
    return f"{where}, which may be that of the time of day; a rule reads both: `date: {{from: SLOT, …}}`"


def _date_between(whole: pl.Series) -> str:
    """What is said where lines of their own have dates, for the times of day behind them."""
    lines = whole.head(_PROBE).str.split("\n").explode()
    short = lines.filter((lines.str.len_chars() <= _SHORT) & ~lines.str.contains(r"[0-9]:[0-9]{2}"))
    dated = [line for line in short if has_date(line)]
    if not dated or len(dated) > 0.5 * len(lines):
        return ""
    return (
        f"lines such as `{dated[0].strip()}` may have the date of those behind them: "
        "read them by a variant and a time rule of their own"
    )


def _instants(text: pl.Series, spec: str, reference: datetime) -> pl.Series:
    none = pl.Series([None], dtype=INSTANT).new_from_index(0, len(text))
    if not spec:
        return none
    try:
        return instants(text, TimeReading((parse_format(spec),)), reference)
    except (ValueError, pl.exceptions.PolarsError):
        return none


def _zone(form: Findable, text: pl.Series, place: TextPlace, whole: pl.Series) -> str:
    """What the stamps say of their zone; whole: the events, in which one may stand behind the stamp."""
    in_text = _zone_within(form, text)
    if in_text != "none in the text" or not form.clock:
        return in_text
    behind = whole.str.extract(place.regex + "((?s:.{0,40}))", 2).str.extract(f"^ ?({NAMED}|{OFFSET})", 1).drop_nulls()
    if not len(behind):
        return in_text
    text_, count = behind.str.strip_chars().value_counts(sort=True, name="n").row(0)
    return f"behind it stands {text_!r} ({count:,}), which the format has to read too"


def _zone_within(form: Findable, text: pl.Series) -> str:
    if form.name.startswith("epoch"):
        return "UTC, as epoch counts are"
    offsets = (
        text.str.extract(r"(Z|[+-][0-9]{2}:?[0-9]{2}|[+-][0-9]{2}|[A-Z]{3,5})(?: [0-9]{4})?$")
        if form.clock
        else pl.Series([None])
    )
    counted = offsets.drop_nulls().value_counts(sort=True, name="n") if offsets.null_count() < len(offsets) else None
    if counted is None or not counted.height or (form.name in ("slashes, 12 hours", "month name, 12 hours")):
        return "none in the text"
    shown = ", ".join(
        f"{value} ({count:,})" if counted.height > 1 else value for value, count in counted.head(3).iter_rows()
    )
    return "in the text: " + shown + (" and others" if counted.height > 3 else "")


def _day_or_month(
    form: Findable, text: pl.Series, numbers: pl.Series, reference: datetime, companion: pl.Series | None = None
) -> tuple[bool, str, bool]:
    """Whether the month stands first, how that is known, and whether it is sure."""
    fmt = parse_format(format_of(form, str(text.drop_nulls()[0])))
    found = decide(text, numbers, fmt, TimeReading((fmt,)), reference, companion)
    if found.first is None:
        unknown = "day first or month first cannot be told from this sample"
        return False, f"{unknown}: {found.reason}; ask, or look at a longer log", found.sure
    if found.reason.startswith("both orders"):
        return found.first == "month", found.reason, found.sure
    likely = " is " if found.reason.startswith("likely") else ": "
    return found.first == "month", f"{found.first} first{likely}{found.reason}", found.sure


def _named(before: str) -> int:
    """What the key before a stamp says of it."""
    words = re.findall(r"[A-Za-z_]+", before)
    if not words:
        return 0
    name = words[-1].lower().strip("_")
    return _NAMES.get(name, -1 if _OF_OTHERS.match(name) else 1 if _OF_EVENT.match(name) else 0)


_Found = tuple[StampPlace, TextPlace, pl.Series, pl.Series]


def _is_count(item: _Found, found: list[_Found]) -> bool:
    """Whether numbers that could count seconds do not: a date in the same events is another day."""
    if not item[1].form.name.startswith("epoch"):
        return False
    dated = [other for other in found if other[1].form.date and other[1].form.clock and other[0].share >= _COMMON]
    apart = [
        (item[3] - other[3]).abs().dt.total_seconds().median()
        for other in dated
        if not other[1].form.name.startswith("epoch") and not _is_constant(other[2])
    ]
    return bool(apart) and all(isinstance(each, float) and each > _OTHER_DAY for each in apart)


def _likely(place: StampPlace, where: TextPlace, text: pl.Series, *, is_count: bool) -> tuple[float, ...]:
    named = _named(where.before)
    return (
        float(place.share >= _COMMON),
        -float(_is_constant(text)),
        round(place.share, 1) if where.form.date and place.format and place.share >= _COMMON else 0,
        round(place.share, 1) if where.form.clock and place.format and place.share >= _COMMON else 0,
        float(where.form.clock and where.form.date),
        # a plain name tells less than that the stamps do not rise
        float(named if named != 1 or (place.rising or 0) > _RISES else 0),
        -float(is_count and named <= 0),
        float((place.rising or 0) > _SURE),
        -float(where.order > 1),
        float(where.order == 0),
        round(place.rising or 0, 1),
        place.share,
    )


def _is_constant(text: pl.Series) -> bool:
    """Whether all events have one stamp, which then tells less of when they were than another would."""
    return text.n_unique() == 1 and len(text) > _FEW


def _may_be_time(where: TextPlace, text: pl.Series) -> bool:
    """Whether one stamp of all events may be their time all the same: few events of a second, at whose head it stands.

    Where another stamp of theirs differs, that one comes before it.
    """
    at_head = where.order == 0 or (where.order == 1 and where.form.date)
    return len(text) <= _BURST and not text.null_count() and (at_head or _named(where.before) > 0)


def _reason(places: list[StampPlace]) -> str:
    first = places[0]
    reasons = [f"{'every event has' if first.share == 1 else f'{percent(first.share)} of events have'} it"]
    if first.place.startswith("at the start"):
        reasons.append("it stands at the start")
    elif len(places) > 1 and not any(place.place.startswith("at the start") for place in places[1:]):
        reasons.append("no other is as common" if places[1].share < first.share else "it comes first")
    if first.rising is not None and first.rising > 0.95:
        reasons.append("it rises" + ("" if first.rising == 1 else f" in {percent(first.rising)} of steps"))
    return ", ".join(reasons)


def _apart(time: pl.Series, other: pl.Series, text: pl.Series) -> str:
    """How far another stamp lies from the event's time."""
    seconds = (other - time).drop_nulls().dt.total_milliseconds() / 1000
    if not len(seconds):
        return ""
    middle, low, high = float(seconds.median()), float(seconds.min()), float(seconds.max())  # type: ignore[arg-type]
    if low == high == 0:
        return "always the same instant"
    return f"{_span(middle)} from the event's time at the median, between {_span(low)} and {_span(high)}"


def _span(seconds: float) -> str:
    sign, size = "-" if seconds < 0 else "+", abs(seconds)
    for unit, length in (("d", 86400), ("h", 3600), ("min", 60)):
        if size >= 2 * length:
            return f"{sign}{size / length:.3g} {unit}"
    return f"{sign}{size:.3g} s"


def _nth(number: int) -> str:
    return {1: "first", 2: "second", 3: "third"}.get(number, f"{number}th")


def _escaped(text: str) -> str:
    return re.sub(r"([\\.^$*+?{}\[\]()|#])", r"\\\1", text).replace("\n", r"\n").replace("\t", r"\t")
