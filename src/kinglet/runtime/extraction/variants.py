"""The events of a batch by the variant that reads them: the envelope, the kind, then variants in their order."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Sequence
from itertools import accumulate, groupby
from typing import NamedTuple

import polars as pl

from kinglet.columns.put import rows_where
from kinglet.cutting.cutter import EventBatch
from kinglet.plan.data import MORE, ROW, KindPlan, Plan, Reading
from kinglet.plan.headers import is_under_header, reads_headers
from kinglet.runtime.extraction.candidate_variants import FEW, candidates_by_text, slices
from kinglet.runtime.extraction.headers import by_header, rejoined, with_headers, with_other_columns
from kinglet.runtime.extraction.line_ends import TEXT_READ, as_read, has_one_line_each, with_text_read
from kinglet.runtime.extraction.read import read_texts
from kinglet.runtime.extraction.regex_groups import RegexGroups
from kinglet.runtime.extraction.regex_requests import RegexRequest, Requests, side_by_side
from kinglet.runtime.extraction.same_but_prefix import behind_prefixes
from kinglet.runtime.extraction.variants_at_once import first_of
from kinglet.runtime.groups import Group, every, joined, near
from kinglet.runtime.typed_values import convert
from kinglet.runtime.work import Extracted
from kinglet.timestamps.stamps import Reference


class _Run(NamedTuple):
    """Neighbours in a group, and the variants that come into question for them."""

    candidates: tuple[int, ...]
    start: int
    length: int

    def of(self, group: Group) -> Group:
        return group.slice(self.start, self.length)


def read_events(plan: Plan, batch: EventBatch, rows: pl.Series, reference: Reference) -> Requests[list[Extracted]]:
    """The events of a batch by the variant that reads them, their fields still text; rows: what they are called."""
    columns = batch.frame if has_one_line_each(plan, batch) else with_text_read(batch.frame, "raw", batch.lone_returns)
    if reads_headers(plan) or (plan.cut.kind == "csv" and plan.cut.header):
        columns = with_headers(columns, batch.sources)
    start = Group(rows.alias(ROW), columns, pl.DataFrame(height=len(batch)), list(batch.faults))
    extracted: list[Extracted] = []
    entered, outside = yield from _envelope(plan, start, reference)
    if outside is not None:
        outside = outside._replace(faults=[*outside.faults, ("no-match", every(outside))])
        extracted.append(Extracted.of(plan, None, outside, "unmatched"))
    if entered is None:
        return extracted
    entered, runs = _routes(plan, entered)
    if len(runs) > FEW:
        known, entered, runs = _of_all_runs(plan, entered, runs, reference)
        extracted += known
    shared, pending = yield from _alike(plan, entered, runs, reference)
    readers = [
        _read_in_turn(plan, rest, run.candidates, reference)
        for run, rest in zip(runs, pending, strict=True)
        if rest is not None
    ]
    others = yield from side_by_side(readers)
    return [*extracted, *shared, *(item for found in others for item in found)]


def _of_all_runs(
    plan: Plan, group: Group, runs: list[_Run], reference: Reference
) -> tuple[list[Extracted], Group, list[_Run]]:
    """What machine code reads of many runs at once; the events that are left, and their runs.

    The first variant of all that matches an event is the first of its run, too, where it is one of that.
    """
    indices = sorted({index for run in runs for index in run.candidates})
    if any(plan.variants[index].source is not None for index in indices):
        return [], group, runs
    text = _message(plan, group)
    shares = first_of(text, [plan.variants[index].reading for index in indices])
    if shares is None:
        return [], group, runs
    ends = list(accumulate(run.length for run in runs))
    ends_column = pl.Series(ends, dtype=pl.UInt32)
    extracted: list[Extracted] = []
    left: list[pl.Series] = []
    for rows, start, number, found in shares:
        if found is None or number is None:
            left.append(rows)
            continue
        index = indices[number]
        if start is not None and (run := bisect_right(ends, start)) == bisect_right(ends, start + len(rows) - 1):
            if index not in runs[run].candidates:
                left.append(rows)
                continue
        else:
            may = pl.Series([index in run.candidates for run in runs])
            mine = may[ends_column.search_sorted(rows, side="right")]
            if not mine.all():
                left.append(rows.filter(~mine))
                rows, start = rows.filter(mine), None
                found = found._replace(texts=rows_where(found.texts, mine), matched=mine.filter(mine))
        if len(rows):
            part = group.slice(start, len(rows)) if start is not None else group.gather(rows)
            extracted.append(_known(plan, index, part, text, reference, found))
    rest = pl.concat(left).sort() if left else pl.Series([], dtype=pl.UInt32)
    lengths: dict[int, int] = dict(ends_column.search_sorted(rest, side="right").value_counts().rows())
    starts = accumulate((lengths.get(number, 0) for number in range(len(runs))), initial=0)
    others = [
        run._replace(start=start, length=lengths[number])
        for number, (run, start) in enumerate(zip(runs, starts, strict=False))
        if number in lengths
    ]
    return extracted, group.gather(rest), others


def _known(
    plan: Plan, index: int, group: Group, text: pl.Series, reference: Reference, found: RegexGroups
) -> Extracted:
    """Events of which it is known that a variant reads all of them."""
    matched, _ = _taken(plan.variants[index].reading, group, text, reference, frozenset(), found)
    assert matched is not None
    return Extracted.of(plan, index, matched, "complete")


def _envelope(plan: Plan, group: Group, reference: Reference) -> Requests[tuple[Group | None, Group | None]]:
    if plan.envelope is None:
        return group, None
    now = frozenset(name for name in (*(kind.slot for kind in plan.kinds), plan.body, MORE) if name is not None)
    found: list[tuple[Group | None, Group | None]] = []
    for reading, part in by_header(plan.envelope, group):
        text = part.columns.get_column(TEXT_READ if reading.regexes and TEXT_READ in part.columns.columns else "raw")
        matched, rest = yield from _take(reading, part, text, reference, now)
        found.append((with_other_columns(reading, matched), rest))
    inside, outside = rejoined([one for one, _ in found]), rejoined([other for _, other in found])
    if inside is not None:
        wanted = plan.texts_later.union(item.name for item in inside.pending)
        texts = pl.DataFrame([text for text in inside.texts.get_columns() if text.name in wanted])
        columns = inside.columns if plan.body is None else _with_message(plan, inside.columns)
        inside = inside._replace(columns=columns, texts=texts if texts.width else pl.DataFrame(height=len(inside.rows)))
    return inside, outside


def _take(
    reading: Reading, group: Group, text: pl.Series, reference: Reference, now: frozenset[str] = frozenset()
) -> Requests[tuple[Group | None, Group | None]]:
    """The events that a reading matches, with their fields, and those that it does not.

    Only the fields asked for `now` get their types now; the others at the end of the batch, which is quicker where many
    readings do.
    """
    # the regex itself runs elsewhere, beside those of other readers
    (found,) = yield [RegexRequest(text, reading)]
    return _taken(reading, group, text, reference, now, found)


def _taken(
    reading: Reading, group: Group, text: pl.Series, reference: Reference, now: frozenset[str], found: RegexGroups
) -> tuple[Group | None, Group | None]:
    """The same once it is known what the regexes of the reading find."""
    more = group.texts.get_column(MORE) if MORE in group.texts.columns else None
    took = read_texts(reading, text, more, found)
    if took is None:
        return None, group
    hit, rest = group, None
    if not took.matched.all():
        hit, rest = group.where(took.matched), group.where(~took.matched)
    faults = [*hit.faults, *took.faults]
    # what the envelope left over goes into the new rest
    before = hit.texts.drop(MORE, strict=False) if MORE in took.texts.columns else hit.texts
    if not took.texts.width:
        return hit._replace(faults=faults), rest
    texts = before.hstack(took.texts)
    fields = reading.every_field
    # one conversion for all variants is cheaper than one for each
    columns, pending = hit.columns, hit.pending + tuple(item for item in fields if item.name not in now)
    if len(pending) < len(hit.pending) + len(fields):
        values, bad = convert(took.texts, [item for item in fields if item.name in now], near(reference, hit))
        columns, faults = columns.hstack(values), [*faults, *bad]
    return Group(hit.rows, columns, texts, faults, pending), rest


def _alike(
    plan: Plan, group: Group, runs: Sequence[_Run], reference: Reference
) -> Requests[tuple[list[Extracted], list[Group | None]]]:
    """What the first candidates of runs read where several are alike, and of each run what is left to be read, if any.

    Runs of candidates that are alike stand beside each other. What is left may still be read by the same candidate.
    """
    pending: list[Group | None] = []
    shared: list[tuple[int, list[_Run]]] = []
    for number, members in groupby(runs, lambda run: _number(plan, run.candidates)):
        alike = list(members)
        if number is not None and len(alike) > 1:
            shared.append((len(pending), alike))
            pending += [None] * len(alike)
        else:
            pending += [run.of(group) for run in alike]
    extracted: list[Extracted] = []
    readers = [_behind_prefixes(plan, group, alike, reference) for _, alike in shared]
    for (first, alike), (read, rests) in zip(shared, (yield from side_by_side(readers)), strict=True):
        pending[first : first + len(alike)] = rests
        extracted += read
    return extracted, pending


def _number(plan: Plan, candidates: tuple[int, ...]) -> int | None:
    """The number of what is alike to the first candidate; None where nothing is, or it is not clear who is first."""
    if not 0 < len(candidates) <= FEW or plan.variants[candidates[0]].reading.literal_prefix is None:
        return None
    return plan.alike[candidates[0]]


def _behind_prefixes(
    plan: Plan, group: Group, runs: Sequence[_Run], reference: Reference
) -> Requests[tuple[list[Extracted], list[Group | None]]]:
    """The same for neighbouring runs whose first candidates are alike."""
    variants = [run.candidates[0] for run in runs]
    lengths = [run.length for run in runs]
    part = group.slice(runs[0].start, sum(lengths))
    prefixes = [plan.variants[index].reading.literal_prefix for index in variants]
    texts = [prefix.text for prefix in prefixes if prefix is not None]
    behind = behind_prefixes(_text(plan, variants[0], part), texts, lengths)
    reading = plan.variants[variants[0]].reading.behind_prefix
    matched, rest = yield from _take(reading, part, behind, reference)
    missed = [0] * len(runs)
    if rest is not None:
        missing = part.rows.is_in(rest.rows.implode())
        starts = accumulate(lengths, initial=0)
        missed = [int(missing.slice(start, length).sum()) for start, length in zip(starts, lengths, strict=False)]
    read = tuple((index, length - less) for index, length, less in zip(variants, lengths, missed, strict=True))
    extracted = (
        [] if matched is None else [Extracted(plan, tuple(item for item in read if item[1]), matched, "complete")]
    )
    ends = accumulate(missed)
    return extracted, [
        rest.slice(end - less, less) if rest is not None and less else None
        for end, less in zip(ends, missed, strict=True)
    ]


def _read_in_turn(
    plan: Plan, group: Group, candidates: tuple[int, ...], reference: Reference
) -> Requests[list[Extracted]]:
    """The events that each candidate reads, then those that none does."""
    at_once = _read_at_once(plan, group, candidates, reference) if len(candidates) > 1 else None
    if at_once is None:
        return (yield from _read_one_by_one(plan, group, candidates, reference))
    extracted, rest = at_once
    if rest is not None:
        extracted += yield from _read_one_by_one(plan, rest, candidates, reference)
    return extracted


def _read_at_once(
    plan: Plan, group: Group, candidates: tuple[int, ...], reference: Reference
) -> tuple[list[Extracted], Group | None] | None:
    """The same by machine code, and the events that are left to the column engine; None where all are."""
    variants = [plan.variants[index] for index in candidates]
    if any(variant.source is not None for variant in variants):
        return None
    text = _message(plan, group)
    shares = first_of(text, [variant.reading for variant in variants])
    if shares is None:
        return None
    extracted: list[Extracted] = []
    left: Group | None = None
    for rows, start, number, found in shares:
        part = group.slice(start, len(rows)) if start is not None else group.gather(rows)
        if found is None:
            left = part
        elif number is None:
            extracted.append(Extracted.of(plan, None, *_leftover(plan, part, candidates)))
        else:
            extracted.append(_known(plan, candidates[number], part, text, reference, found))
    return extracted, left


def _read_one_by_one(
    plan: Plan, group: Group, candidates: tuple[int, ...], reference: Reference
) -> Requests[list[Extracted]]:
    """The same, where each candidate is tried on what those before it have left."""
    text = _message(plan, group)
    by_text = candidates_by_text(plan, text, candidates) if len(candidates) > FEW else None
    if by_text is not None:
        return (yield from _read_by_text(plan, group, candidates, by_text, reference))
    extracted: list[Extracted] = []
    rest: Group | None = group
    for index in candidates:
        if rest is not None:
            matched, rest = yield from _read(plan, index, rest, reference)
            if matched is not None:
                extracted.append(Extracted.of(plan, index, matched, "complete"))
    if rest is not None:
        extracted.append(Extracted.of(plan, None, *_leftover(plan, rest, candidates)))
    return extracted


def _read_by_text(
    plan: Plan, group: Group, candidates: tuple[int, ...], by_text: pl.Series, reference: Reference
) -> Requests[list[Extracted]]:
    """The same, where each event is tried only by the candidates whose places are listed for it."""
    extracted: list[Extracted] = []
    unread = [group.where(by_text.is_null())] if by_text.null_count() else []
    waiting, places = (group, by_text) if not unread else (group.where(by_text.is_not_null()), by_text.drop_nulls())
    # candidates that are alike beside each other, so that one regex reads them all
    by_rank = sorted(range(len(candidates)), key=lambda place: (plan.alike[candidates[place]], place))
    ranks = pl.Series(by_rank, dtype=pl.UInt32).arg_sort().cast(pl.UInt32)
    turn = 0
    # each turn tries the next candidate of every event that is left
    while len(waiting.rows):
        order, ranked = slices(ranks[places.list.get(turn, null_on_oob=True)])
        waiting, places = waiting.gather(order), places[order]
        runs = [_Run((candidates[by_rank[rank]],), start, length) for rank, start, length in ranked]
        shared, pending = yield from _alike(plan, waiting, runs, reference)
        extracted += shared
        readers = [
            _read(plan, run.candidates[0], rest, reference)
            for run, rest in zip(runs, pending, strict=True)
            if rest is not None
        ]
        found = iter((yield from side_by_side(readers)))
        others: list[tuple[Group, pl.Series]] = []
        for run, rest_of_run in zip(runs, pending, strict=True):
            matched, rest = next(found) if rest_of_run is not None else (None, None)
            if matched is not None:
                extracted.append(Extracted.of(plan, run.candidates[0], matched, "complete"))
            if rest is not None:
                lists, rows = (column.slice(run.start, run.length) for column in (places, waiting.rows))
                others.append((rest, lists.filter(rows.is_in(rest.rows.implode()))))
        used = sum(run.length for run in runs)
        if used < len(waiting.rows):
            unread.append(waiting.slice(used, len(waiting.rows) - used))
        if not others:
            break
        waiting, places = joined([item for item, _ in others]), pl.concat([lists for _, lists in others])
        turn += 1
    if unread:
        extracted.append(Extracted.of(plan, None, *_leftover(plan, joined(unread), candidates)))
    return extracted


def _read(plan: Plan, index: int, group: Group, reference: Reference) -> Requests[tuple[Group | None, Group | None]]:
    """The events that a variant reads, and the others."""
    reading = plan.variants[index].reading
    if not is_under_header(reading):
        matched, rest = yield from _take(reading, group, _text(plan, index, group), reference)
        is_row = plan.envelope is None and plan.variants[index].source is None
        return (with_other_columns(reading, matched) if is_row else matched), rest
    found: list[tuple[Group | None, Group | None]] = []
    for one, part in by_header(reading, group):
        matched, rest = yield from _take(one, part, _text(plan, index, part), reference)
        found.append((with_other_columns(one, matched), rest))
    return rejoined([one for one, _ in found]), rejoined([other for _, other in found])


def _text(plan: Plan, index: int, group: Group) -> pl.Series:
    """What a variant reads of events."""
    source, by_regex = plan.variants[index].source, bool(plan.variants[index].reading.regexes)
    if source is None:
        return _message(plan, group) if by_regex else group.columns[plan.body or "raw"]
    return as_read(group.texts[source]) if by_regex else group.texts[source]


def _message(plan: Plan, group: Group) -> pl.Series:
    """What variants read of events that name nothing else, as their regexes read it."""
    return group.columns[TEXT_READ if TEXT_READ in group.columns.columns else plan.body or "raw"]


def _with_message(plan: Plan, columns: pl.DataFrame) -> pl.DataFrame:
    """Events behind their envelope, with what regexes read of their message; an envelope's own regexes read it so."""
    assert plan.envelope is not None and plan.body is not None
    if plan.envelope.structures:
        return with_text_read(columns, plan.body)
    return columns.drop(TEXT_READ, strict=False)


def _routes(plan: Plan, group: Group) -> tuple[Group, list[_Run]]:
    """Events so ordered that those with the same variants in question, or with some alike, stand together."""
    if not plan.has_routes:
        return group, [_Run(plan.without_kind, 0, len(group.rows))]
    # one number for the routes of all kinds, with a digit for each
    combined = pl.zeros(len(group.rows), pl.UInt32, eager=True)
    lists: list[list[tuple[int, ...]]] = []
    for kind in plan.kinds:
        routes = list(dict.fromkeys((*kind.routes.values(), kind.otherwise)))
        combined = combined * len(routes) + _route(group.columns[kind.slot], kind, routes)
        lists.append(routes)
    by_number = {number: plan.candidates(_routes_of(number, lists)) for number in combined.unique().to_list()}
    candidates = list(dict.fromkeys(by_number.values()))
    candidates.sort(key=lambda route: -1 if (number := _number(plan, route)) is None else number)
    places = [candidates.index(route) for route in by_number.values()]
    route = combined.replace_strict(list(by_number), places, return_dtype=pl.UInt32)
    order, ranges = slices(route)
    if len(ranges) > 1:
        group = group.gather(order)
    return group, [_Run(candidates[number], start, length) for number, start, length in ranges]


def _route(values: pl.Series, kind: KindPlan, routes: list[tuple[int, ...]]) -> pl.Series:
    """The number of the route that each value of a kind takes."""
    return values.replace_strict(
        pl.Series(list(kind.routes), dtype=values.dtype),
        pl.Series([routes.index(route) for route in kind.routes.values()], dtype=pl.UInt32),
        default=routes.index(kind.otherwise),
        return_dtype=pl.UInt32,
    )


def _routes_of(number: int, lists: list[list[tuple[int, ...]]]) -> list[tuple[int, ...]]:
    """The routes of all kinds that a number stands for, which has a digit for each of them."""
    found: list[tuple[int, ...]] = []
    for routes in reversed(lists):
        number, place = divmod(number, len(routes))
        found.append(routes[place])
    return found


def _leftover(plan: Plan, group: Group, candidates: tuple[int, ...]) -> tuple[Group, str]:
    """Events whose message no variant reads; with an envelope that much of them is understood."""
    if plan.envelope is None:
        return group._replace(faults=[*group.faults, ("no-match", every(group))]), "unmatched"
    # only variants without a kind came into question: no variant knows the value
    unknown = plan.has_routes and candidates == plan.without_kind
    fault = "unknown-kind" if unknown else "no-variant"
    return group._replace(faults=[*group.faults, (fault, every(group))]), "partial"
