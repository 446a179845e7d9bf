"""Fields that events take over from earlier ones of the same key, held against a loop over the events."""

from __future__ import annotations

import json
import re
import unittest
from datetime import UTC, datetime, timedelta
from typing import Any, NamedTuple

from hypothesis import given
from hypothesis import strategies as st

import kinglet
from kinglet.insight.tracing import trace
from tests.helpers import InFolder, examples
from tests.helpers import kinglet as command

HEAD = """kinglet: 1
parser: lock
version: 1.0.0
product: {vendor: Quayline, name: Lock}
time: {from: stamp}
clock: {missing: file}
envelope: '{stamp:word} {conn:word} {body:rest}'
variants:
  - {name: opened, pattern: 'opened {user:word}[[ of {groups:word}]]'}
  - {name: asked, pattern: 'asked {what:word}'}
  - {name: closed, pattern: closed}
"""
STEPS = """steps:
  - when: conn != '-'
    rename: {conn: key}
  - when: groups IS NOT NULL
    split: {field: groups, at: ',', to: list}
  - when: "COALESCE(what, '') != 'quiet'"
    remember: {by: key, keep: [user, list], until: variant = 'closed', age: 40 s, events: 6}
  - when: "COALESCE(what, '') = 'gone'"
    drop: asked
"""
STEPS_OF_ALL = (
    "set: {loud: UPPER(body)}",
    "set: {loud: \"COALESCE(user, 'nobody')\"}",
    "remember: {by: conn, keep: [user, what], until: variant = 'closed'}",
    "{when: conn = '4', copy: {body: said}}",
    "replace: {fields: [user, what], regex: a, with: o}",
    "{when: \"what = 'gone'\", drop: asked}",
)
START = datetime(2026, 11, 20, 8, tzinfo=UTC)


class One(NamedTuple):
    """An event as it is written; after: seconds since the one before, None for one without a stamp."""

    after: int | None
    key: str
    what: str

    def line(self, at: datetime) -> str:
        return f"{'none' if self.after is None else at.strftime('%Y-%m-%dT%H:%M:%SZ')} {self.key} {self.what}"


EVENT = st.builds(
    One,
    st.sampled_from([0, 1, 5, 20, 45, -30, None]),
    st.sampled_from(["4", "5", "6", "-"]),
    st.sampled_from(["opened a", "opened b of x,y", "asked b", "asked quiet", "asked gone", "closed", "?"]),
)
EVENTS = st.lists(EVENT, max_size=24)


def written(events: list[One]) -> list[str]:
    at, lines = START, []
    for one in events:
        at += timedelta(seconds=one.after or 0)
        lines.append(one.line(at))
    return lines


def by_a_loop(lines: list[str]) -> list[tuple[str | None, list[str] | None]]:
    """User and list of every event."""
    found: list[tuple[str | None, list[str] | None]] = []
    known: dict[str, dict[str, tuple[Any, int, datetime | None]]] = {}
    for number, line in enumerate(lines):
        stamp, key, *words = line.split(" ")
        at = datetime.fromisoformat(stamp) if stamp != "none" else None
        own: dict[str, Any] = {"user": None, "list": None}
        if words[0] == "opened":
            own = {"user": words[1], "list": words[3].split(",") if len(words) > 2 else None}
        if key != "-" and words != ["asked", "quiet"]:
            of_key = known.setdefault(key, {})
            for name, value in own.items():
                if value is not None:
                    of_key[name] = (value, number, at)
                elif name in of_key:
                    kept, then, when = of_key[name]
                    far = at is not None and when is not None and abs((at - when).total_seconds()) > 40
                    own[name] = kept if number - then <= 6 and not far else None
            if words[0] == "closed":
                known[key] = {}
        found.append((own["user"], own["list"]))
    return found


def taken(result: kinglet.Result) -> list[tuple[Any, Any]]:
    return list(result.events.select("user", "list").iter_rows())


class Remembered(InFolder):
    PARSER = kinglet.load(HEAD.replace("clock: {missing: file}\n", "") + STEPS)

    @examples(60)
    @given(EVENTS, st.lists(st.integers(0, 400), max_size=6), st.integers(0, 5))
    def test_as_a_loop_does_it_in_whatever_pieces_the_log_comes(
        self, events: list[One], cuts: list[int], stop: int
    ) -> None:
        lines = written(events)
        expected = by_a_loop(lines)
        self.assertEqual(expected, taken(self.PARSER.parse(iter(lines))) if lines else [])
        data = "".join(f"{line}\n" for line in lines).encode()
        session = kinglet.Session(self.PARSER, name="x")
        found: list[tuple[Any, Any]] = []
        places = sorted({min(cut, len(data)) for cut in cuts})
        for i, (start, end) in enumerate(zip([0, *places], [*places, len(data)], strict=True)):
            if i == stop:  # another process goes on
                session = kinglet.Session(self.PARSER, state=session.state)
            found += taken(session.feed(data[start:end]))
        found += taken(session.finish())
        self.assertEqual(expected, found)

    @examples(10)
    @given(st.lists(EVENTS, min_size=2, max_size=3), st.integers(1, 3))
    def test_each_log_by_itself_and_beside_other_parsers(self, logs: list[list[One]], workers: int) -> None:
        # what no parser has a message for is nobody's, where there are several
        logs = [[one._replace(what="closed") if one.what == "?" else one for one in events] for events in logs]
        data = ["".join(f"{line}\n" for line in written(events)).encode() for events in logs]
        expected = [item for events in logs for item in by_a_loop(written(events))]
        if not expected:
            return
        self.assertEqual(expected, taken(self.PARSER.parse(*data, workers=workers)))
        other = kinglet.load(HEAD.replace("parser: lock", "parser: other").replace("opened", "moored"))
        several = kinglet.ParserSet([self.PARSER, other])
        self.assertTrue(several.needs_order)
        self.assertEqual(expected, taken(several.parse(*data, workers=workers)))

    def test_over_many_batches_and_threads(self) -> None:
        lines = [f"2026-11-20T08:00:00Z {i % 700} " + (f"opened u{i % 700}" if i < 700 else "asked " + "x" * 90)
                 for i in range(150_000)]  # fmt: skip
        parser = kinglet.load(HEAD + "steps: [{remember: {by: conn, keep: user, events: 1000000}}]\n")
        log = self.write("a.log", "\n".join(lines))
        results = list(parser.parse_batches(log, workers=4))
        self.assertGreater(len(results), 2)
        users = [user for result in results for user in result.events["user"]]
        self.assertTrue(users == [f"u{i % 700}" for i in range(150_000)])
        near = kinglet.load(HEAD + "steps: [{remember: {by: conn, keep: user, events: 100000}}]\n")
        users = [user for result in near.parse_batches(log, workers=2) for user in result.events["user"]]
        self.assertTrue(users == [f"u{i % 700}" if i - i % 700 <= 100_000 else None for i in range(150_000)])

    def test_a_trace_shows_what_was_taken_over(self) -> None:
        log = self.write("a.log", "2026-11-20T08:00:00Z 4 opened m.okoro\n2026-11-20T08:00:01Z 4 asked berth\n")
        shown = trace(self.PARSER, log, 2)
        step = next(stage for stage in shown.stages if stage.step.operation == "remember")
        self.assertEqual([("user", None, "m.okoro")], [tuple(change) for change in step.changes])
        path = self.write("p.yaml", HEAD + STEPS)
        traced = json.loads(command("try", path, log, "--trace", "2", "--json").out)
        self.assertIn("m.okoro", json.dumps(traced))

    @examples(8)
    @given(st.lists(EVENT, max_size=4), st.lists(st.sampled_from(STEPS_OF_ALL), min_size=1, max_size=4), st.booleans())
    def test_a_trace_ends_where_the_event_does(self, events: list[One], steps: list[str], mapped: bool) -> None:
        lines = written(events)
        text = HEAD + "steps:\n" + "".join(f"  - {step}\n" for step in steps)
        text += "event: {class: Base Event, set: {message: body}}\n" if mapped else ""
        parser = kinglet.load(text)
        data = "".join(f"{line}\n" for line in lines)
        for i, event in enumerate(parser.parse(data, reference_time="2026-11-20").events.to_dicts() if lines else []):
            shown = trace(parser, data, i + 1, reference_time="2026-11-20")
            found = dict(shown.fields)
            for stage in shown.stages:
                found |= {name: after for name, _, after in stage.changes}
            names = [name for name in parser.fields if name in event]
            self.assertEqual({name: event[name] for name in names}, {name: found.get(name) for name in names})

    def test_an_end_that_cannot_be_told_is_a_fault_where_the_step_is_done(self) -> None:
        parser = kinglet.load(
            HEAD + "steps: [{when: conn != '-', remember: {by: conn, keep: user, until: CAST(what AS INT) = 0}}]\n"
        )
        lines = ("4 opened m.okoro", "4 asked far", "- asked far", "4 asked 1", "4 asked 0", "4 asked 2")
        events = parser.parse([f"2026-11-20T08:00:00Z {line}" for line in lines]).events
        users = ["m.okoro", "m.okoro", None, "m.okoro", "m.okoro", None]
        self.assertEqual(users, events["user"].to_list())
        self.assertEqual([1], [i for i, faults in enumerate(events["faults"]) if "bad-value:what" in faults])

    def test_so_many_events_back_counts_over_pieces_of_a_log(self) -> None:
        parser = kinglet.load(HEAD + "steps: [{remember: {by: conn, keep: user, events: 2}}]\n")
        lines = [f"2026-11-20T08:00:00Z 4 {what}\n" for what in ("opened m.okoro", *["asked berth"] * 4)]
        expected = ["m.okoro"] * 3 + [None] * 2
        self.assertEqual(expected, parser.parse("".join(lines)).events["user"].to_list())
        session = kinglet.Session(parser, name="x")
        pieces = [*(session.feed(line.encode()) for line in lines), session.finish()]
        self.assertEqual(expected, [user for piece in pieces for user in piece.events["user"]])

    def test_what_is_wrong_with_it_is_said(self) -> None:
        for old, new, said in (
            ("by: key", "by: kex", "there is no field `kex` before this step; did you mean `key`?"),
            ("keep: [user, list]", "keep: [user, key]", "`key` is what events are told apart by; leave it out"),
            ("by: key", "by: [key, key]", "`key` stands here twice; name it once"),
            ("keep: [user, list]", "keep: [user, user]", "`user` stands here twice; name it once"),
            ("until: variant = 'closed'", "until: LENGTH(key)", "`LENGTH(key)` is no condition"),
            ("age: 40 s", "age: 0 s", "age"),
            ("events: 6", "events: 0", "events"),
        ):
            with self.assertRaisesRegex(kinglet.ParserFileError, re.escape(said)):
                kinglet.load(HEAD + STEPS.replace(old, new))

    def test_a_session_goes_on_with_a_parser_that_remembers_other_things(self) -> None:
        lines = ["2026-11-20T08:00:00Z 4 opened m.okoro", "2026-11-20T08:00:01Z 4 asked berth"]
        for steps, expected in (
            (STEPS, "m.okoro"),
            (STEPS.replace("keep: [user, list]", "keep: [list, user]"), "m.okoro"),
            (STEPS.replace("by: key, keep: [user, list]", "by: [key, line_number], keep: user").replace(
                "  - when: groups", "  - set: {line_number: line}\n  - when: groups"), None),
            (STEPS.replace("  - when: conn != '-'\n    rename: {conn: key}", "  - set: {key: CAST(conn AS INT)}"),
             None),
        ):  # fmt: skip
            session = kinglet.Session(self.PARSER, name="x")
            session.feed(lines[0].encode() + b"\n")
            other = kinglet.load(HEAD + steps)
            session.parser = other
            again = kinglet.Session(other, state=session.state)
            for one in (session, again):
                users = [user for user, _ in taken(one.feed(lines[1].encode() + b"\n")) if user is not None]
                self.assertEqual([expected] if expected else [], users, steps)

    def test_a_state_that_cannot_be_read_is_refused(self) -> None:
        session = kinglet.Session(self.PARSER, name="x")
        session.feed(b"2026-11-20T08:00:00Z 4 opened m.okoro\n2026-11-20T08:00:01Z 4 asked berth\n")
        state = json.loads(session.state)
        ((number, (events, table)),) = state["kept"].items()
        self.assertEqual(("3", 2), (number, events))
        state["kept"][number] = [events, table[:40]]
        with self.assertRaisesRegex(kinglet.UsageError, "no state of a session"):
            kinglet.Session(self.PARSER, state=json.dumps(state).encode())


if __name__ == "__main__":
    unittest.main()
