"""Drafts: held against logs whose makers know each message, value and time, and against odd and hostile ones."""

from __future__ import annotations

import contextlib
import json
import random
import re
import unittest
from collections import defaultdict
from datetime import UTC, datetime, timedelta
from typing import Any

import polars as pl
from hypothesis import given
from hypothesis import strategies as st

import kinglet as package
from kinglet.demo.writing import write_demo
from kinglet.discover.yaml_text import quoted, scalar
from kinglet.drafting.masking import Masks
from kinglet.drafting.ready import ready
from kinglet.drafting.report import Draft
from kinglet.errors import KingletError
from kinglet.mining.cells import cells
from kinglet.mining.columns import table
from kinglet.mining.heads import Head, head_of
from kinglet.mining.messages import Mined, mine
from kinglet.mining.parts import Literal, Maybe
from kinglet.mining.words import free_text, vary
from kinglet.names import field_of
from kinglet.spec.document import from_text
from tests.helpers import InFolder, examples, kinglet

START = datetime(2026, 5, 6, 7, 8, 9, tzinfo=UTC)
USERS = ("m.okoro", "h.fontaine", "s.amadi", "t.varela", "a.pires")
TOKENS = ("gate", "by", "=", "[", "]]", "{x}", "192.0.2.1", "::1", "5", "k=v", "|", "é", "{", "}", "a:b", "'", "-")
TANKS = ("brine", "ballast", "bilge", "fuel", "grey", "black")


class Made:
    """A log of an invented device: its lines, and of each the message, the values and the time."""

    def __init__(self, seed: int, count: int) -> None:
        self.rng = random.Random(seed)
        self.lines: list[str] = []
        self.message: list[str] = []
        self.values: list[dict[str, Any]] = []
        self.times: list[datetime] = []
        self.stamp = "%Y-%m-%d %H:%M:%S"
        now = START
        for _ in range(count):
            now += timedelta(seconds=self.rng.randint(1, 90))
            kind = self.rng.choice(["opened", "login", "level", "mail", "reset", "card"])
            text, values = getattr(self, kind)()
            unit = self.rng.choice(("north", "south"))
            self.lines.append(f"{now:%Y-%m-%d %H:%M:%S} [{unit}] {text}")
            self.message.append(kind)
            self.values.append({**values, "unit": unit})
            self.times.append(now)

    def ip(self) -> str:
        return f"192.0.2.{self.rng.randint(1, 254)}"

    def opened(self) -> tuple[str, dict[str, Any]]:
        gate, user = self.rng.randint(1, 40), self.rng.choice(USERS)
        if self.rng.random() < 0.5:
            return f"sluice gate {gate} opened by {user}", {"gate": gate, "user": user}
        ip = self.ip()
        return f"sluice gate {gate} opened by {user} from {ip}", {"gate": gate, "user": user, "ip": ip}

    def login(self) -> tuple[str, dict[str, Any]]:
        user, ip, port = self.rng.choice(USERS), self.ip(), self.rng.randint(1024, 65535)
        return f"login failed for {user} from {ip}:{port}", {"user": user, "ip": ip, "port": port}

    def level(self) -> tuple[str, dict[str, Any]]:
        tank, level = self.rng.choice(TANKS), round(self.rng.uniform(0, 100), 1)
        return f"tank {tank} is at {level}% of its volume", {"tank": tank, "level": level}

    def mail(self) -> tuple[str, dict[str, Any]]:
        user = self.rng.choice(USERS)
        return f'notice "{self.rng.choice(("low tide", "storm", "fog ahead"))}" sent to {user}@quay.example', {
            "mail": f"{user}@quay.example"
        }

    def reset(self) -> tuple[str, dict[str, Any]]:
        return "controller was reset", {}

    def card(self) -> tuple[str, dict[str, Any]]:
        badge = f"B{self.rng.randint(100, 999)}"
        return f'card read {{"badge": "{badge}", "door": {self.rng.randint(1, 9)}}}', {"badge": badge}


def groups(keys: list[Any]) -> set[frozenset[int]]:
    """Which rows are together."""
    found = defaultdict(set)
    for row, key in enumerate(keys):
        found[key].add(row)
    return {frozenset(rows) for rows in found.values()}


def text_of(parts: Any) -> str:
    """A message as text, with signs for what varies and what may be missing."""
    return "".join(
        part.text if isinstance(part, Literal) else f"[{text_of(part.parts)}]" if isinstance(part, Maybe) else "~"
        for part in parts
    )


def texts_of(found: Mined) -> list[str]:
    return [text_of(message.parts) for message in found.messages]


class Mining(unittest.TestCase):
    def test_cells_are_the_whole_text(self) -> None:
        @examples(400)
        @given(st.text(alphabet=st.sampled_from("ab1 .:=-_/\\\"'[](){}<>@|;,\t\né世"), max_size=60))
        def holds(text: str) -> None:
            (found,) = cells([text])
            self.assertEqual(text, "".join(found.texts))
            self.assertEqual(len(found.keys), len(found.texts))

        holds()

    def test_what_a_cell_looks_like(self) -> None:
        for text, looks in (
            ("from 192.0.2.1:5555", ["from", " ", "a", ":", "n"]),
            ("2001:db8::1: done", ["a", ":", " ", "done"]),
            ("b4:f2:a1:56:8a:9e up", ["a", " ", "up"]),
            ("gated[812]: ok", ["gated", "[", "n", "]", ":", " ", "ok"]),
            ('user="a b" n=-5', ["user", "=", '"', "q", '"', " ", "n", "=", "n"]),
            ("libc6:amd64 1.2-3~x", ["i", " ", "i"]),
            ("12ms 91 KiB 30%", ["n", "ms", " ", "z", " ", "n", "%"]),
            (r"C:\a\b.exe /var/log x@y.example", ["p", " ", "p", " ", "m"]),
            ('read {"a": 1}', ["read", " ", "j"]),
            ("it's 07:08:09", ["it's", " ", "t"]),
        ):
            with self.subTest(text=text):
                self.assertEqual(looks, [key.removeprefix("\ue000") for key in cells([text])[0].keys])

    def test_a_word_varies_where_many_stand(self) -> None:
        forms = [cells([f"tank {tank} drained"])[0].keys for tank in TANKS]
        self.assertEqual(1, len(set(vary(forms))))
        few = [cells([text])[0].keys for text in ("pump started", "pump stopped", "valve jammed")]
        self.assertEqual(few, vary(few))

    def test_what_stands_behind_a_colon_is_text_where_much_does(self) -> None:
        tails = ("no route", "card expired today", "wrong pin", "door is open")
        forms = [cells([f"refused by reader: {tail}"])[0].keys for tail in tails]
        self.assertEqual(1, len(set(free_text(forms))))

    def test_the_head_ends_where_messages_begin(self) -> None:
        made = Made(1, 300)
        lines = cells(made.lines, [r"[0-9-]{10} [0-9:]{8}"])
        self.assertEqual(6, head_of(lines).length)  # stamp, blank, bracket, unit, bracket, blank

    def test_what_some_forms_lack_is_in_one_piece(self) -> None:
        forms = [cells([text])[0].keys for text in ("gate 4 opened", "gate 4 opened by m.okoro from 192.0.2.1")]
        found = table(forms)
        self.assertEqual([False] * 3 + [True] * 4, [len(column.forms) < 2 for column in found.columns])

    def test_messages_with_optional_parts(self) -> None:
        texts = [
            text
            for i in range(40)
            for text in (
                f"gate {i} opened by m.okoro",
                f"gate {i} opened by s.amadi from 192.0.2.{i}",
                f"valve {i} shut",
            )
        ]
        found = mine(texts)
        self.assertEqual(["gate ~ opened by ~[ from ~]", "valve ~ shut"], texts_of(found))
        self.assertEqual(list(range(2, 120, 3)), found.messages[1].rows)

    def test_kinds_keep_messages_apart_and_share_those_that_are_the_same(self) -> None:
        lines = [(kind, text.format(user)) for user in TANKS for kind, text in (
            ("door", "opened by {} at 4"), ("gate", "opened by {} at 4"), ("door", "shut by {} at 4"))]  # fmt: skip
        found = mine([text for _, text in lines], head=Head(), kinds=[kind for kind, _ in lines])
        self.assertEqual(["opened by ~ at ~", "shut by ~ at ~"], texts_of(found))
        self.assertEqual([["door", "gate"], ["door"]], [message.kinds for message in found.messages])

    def test_keys_in_any_combination_are_one_message_but_for_words_that_go_with_them(self) -> None:
        rng = random.Random(4)
        keys = ("berth", "depth", "draught", "cargo", "pilot")
        lines = []
        for i in range(300):
            pairs = [f"{key}={rng.randint(1, 9)}" for key in keys if rng.random() < 0.5]
            lines += [" ".join(["ship moored", f"at={i}", *pairs]), f"tide is {i} cm"]
        self.assertEqual(2, len(mine(lines).messages))
        lines = [f"dev=lock event={word} gate={i} {own}={i}"
                 for i in range(40) for word, own in (("open", "level"), ("closed", "reason"))]  # fmt: skip
        self.assertEqual(groups([i % 2 for i in range(80)]), {frozenset(one.rows) for one in mine(lines).messages})

    def test_two_words_are_two_messages_only_where_the_head_tells_them_apart(self) -> None:
        rng = random.Random(5)
        words = ("inner", "outer")
        for told in (False, True):
            picked = [rng.randrange(2) for _ in range(60)]
            lines = [
                f"{('INFO', 'WARN')[one if told else rng.randrange(2)]}; quay-{rng.randint(1, 25)}.quay.example; {body}"
                for i, one in enumerate(picked)
                for body in (f"gate {i} [{words[one]}] moved by {i} cm", f"tide is {i} cm", f"lamp {i} lit")
            ]
            of_gates = {frozenset(row // 3 for row in one.rows) for one in mine(lines).messages if one.rows[0] % 3 == 0}
            self.assertEqual(groups(picked) if told else groups([0] * 60), of_gates)

    def test_what_a_text_repeats_again_and_again_is_text(self) -> None:
        lines = []
        for i in range(40):
            lines += [
                f"link /srv/a{i} set {i}" + "".join(f" --also name{k} /srv/b{i}-{k}" for k in range(i % 9)),
                f"{i} up",
            ]
        found = {tuple(one.rows): text_of(one.parts) for one in mine(lines).messages}
        self.assertEqual({"~ up", "link ~ set ~[ ~]"}, set(found.values()))
        self.assertEqual({tuple(range(0, 80, 2)), tuple(range(1, 80, 2))}, set(found))

    def test_two_people_are_values_and_what_happens_to_them_is_not(self) -> None:
        for words, found in (
            (("okoro", "tait"), {"note ~: user ~ on deck ~"}),
            (("added", "removed"), {"note ~: user added on deck ~", "note ~: user removed on deck ~"}),
        ):
            lines = [
                line for i in range(9) for word in words for line in (f"note {i}: user {word} on deck {i}", f"{i} up")
            ]
            self.assertEqual({*found, "~ up"}, set(texts_of(mine(lines))))

    def test_signs_that_stand_for_each_other_and_around_values(self) -> None:
        texts = [
            f"swap {'*' if i % 2 else '#'} of {f'<{name}>' if i % 3 else name} done"
            for i in range(60)
            for name in TANKS
        ]
        self.assertEqual(["swap ~ of ~ done"], texts_of(mine(texts, head=Head())))


class Drafts(unittest.TestCase):
    made: Made
    drafted: Draft
    events: pl.DataFrame

    @classmethod
    def setUpClass(cls) -> None:
        cls.made = Made(7, 900)
        cls.drafted = package.draft(cls.made.lines, zone="UTC", product="Brackwater/Sluice")
        cls.events = cls.drafted.parser.parse(cls.made.lines).events

    def test_messages_are_those_of_the_device(self) -> None:
        self.assertEqual(groups(self.made.message), groups(self.events["variant"].to_list()))
        self.assertEqual((900, 0, 0), (self.drafted.complete, self.drafted.partial, self.drafted.unmatched))
        self.assertEqual(6, len(self.drafted.messages))

    def test_every_value_is_a_field(self) -> None:
        columns = {name: self.events[name].to_list() for name in self.drafted.parser.fields}
        for message in set(self.made.message):
            rows = [row for row, kind in enumerate(self.made.message) if kind == message]
            for name in {name for row in rows for name in self.made.values[row]}:
                wanted = [self.made.values[row].get(name) for row in rows]
                same = [field for field, column in columns.items() if [column[row] for row in rows] == wanted]
                self.assertTrue(same, (message, name))

    def test_times_are_those_of_the_device(self) -> None:
        self.assertEqual(self.made.times, self.events["time"].to_list())
        self.assertEqual([], self.drafted.doubts)

    def test_stamps_that_are_no_times_are_told(self) -> None:
        lines = [f"2026-05-{i % 28 + 1:02} 07:08:{i:02} gate {i} shut" for i in range(40)]
        lines[7] = "2026-02-31 07:08:07 gate 7 shut"
        found = package.draft(lines)
        self.assertIn("1 stamp without a time", " ".join(doubt.what for doubt in found.doubts))

    def test_names_and_types_come_from_words_and_neighbours(self) -> None:
        patterns = {message.pattern for message in self.drafted.messages}
        self.assertIn("sluice gate {gate:int} opened by {user}[[ from {src_ip:ip}]]", patterns)
        self.assertIn("login failed for {user} from {src_ip:ip}:{src_port:port}", patterns)
        self.assertIn("controller was reset", patterns)

    def test_each_variant_and_optional_part_has_a_case_and_all_are_good(self) -> None:
        parser = self.drafted.parser
        self.assertTrue(all(outcome.good for outcome in package.check_cases(parser)))
        cases = [case.expect for case in parser._definition.cases]
        self.assertEqual({message.variant for message in self.drafted.messages}, {case["variant"] for case in cases})
        opened = [case for case in cases if case["variant"].startswith("sluice")]
        self.assertEqual({True, False}, {"src_ip" in case for case in opened})

    def test_words_tell_the_class_and_doubts_stand_in_the_file(self) -> None:
        self.assertIn("event: {class: Authentication, activity: Logon, status: Failure", self.drafted.text)
        bare = package.draft(self.made.lines)
        self.assertTrue(any("no zone" in doubt.what for doubt in bare.doubts))
        self.assertIn("# Unsure: the stamps carry no zone", bare.text)

    def test_the_file_reads_back_as_it_is_told(self) -> None:
        found = json.loads(json.dumps(self.drafted.to_dict()))
        self.assertEqual(self.drafted.text, found["text"])
        page = package.draft(["<b>gate</b> 4", "<b>gate</b> 5", "<b>gate</b> 6"])._repr_html_()
        self.assertNotIn("<b>gate", page)

    def test_levels_are_severities(self) -> None:
        rng = random.Random(5)
        levels = {"INFO": 1, "WARN": 3, "ERROR": 4}
        lines = [
            f"{START + timedelta(seconds=i):%Y-%m-%dT%H:%M:%SZ} {rng.choice(list(levels))} "
            f"{rng.choice(('berth', 'crane', 'winch', 'hoist'))} {i} {rng.choice(('moved', 'idle'))} by dock {i % 7}"
            for i in range(200)
        ]
        result = package.draft(lines).parser.parse(lines)
        wanted = [levels[line.split()[1]] for line in lines]
        self.assertEqual(wanted, [event["severity_id"] for event in result.to_model()])

    def test_a_code_that_tells_messages_apart_is_the_kind(self) -> None:
        texts = {4001: "pump {} started", 4002: "pump {} stopped after {}s", 4300: "tank {} is empty"}
        lines = [f"0{i % 9 + 1}/Mar 22:10:41 P{i % 4} PMP/{code} {text.format(i % 9, i)}"
                 for i in range(60) for code, text in texts.items()]  # fmt: skip
        found = package.draft(lines, at="2026-03-20")
        self.assertEqual("code", found.kind)
        self.assertIn("PMP/{code:int}", found.envelope)
        self.assertEqual({4001, 4002, 4300}, {int(kind) for kind in re.findall(r"kind: (\d+)", found.text)})

    def test_pieces_that_recur_are_parts(self) -> None:
        lines = [
            f"2026-05-06 07:08:{i % 60:02} {verb} gate {i % 9} from 192.0.2.{i % 200}:{4000 + i} now"
            for i in range(90)
            for verb in ("opened north", "shut south", "jammed west", "moved east")
        ]
        found = package.draft(lines)
        self.assertIn("parts:\n  from: 'from {src_ip:ip}:{src_port:port}'\n", found.text)
        self.assertEqual(4, found.text.count("{@from}"))
        self.assertEqual(360, found.complete)

    def test_day_or_month_is_decided_by_when_the_log_was_written(self) -> None:
        lines = [f"05/06/2026 07:08:{i:02} AM gate {i} opened" for i in range(40)]
        events = package.draft(lines, at="2026-05-07").parser.parse(lines).events
        self.assertEqual((5, 6), (events["time"][0].month, events["time"][0].day))


class Structure(unittest.TestCase):
    def test_a_key_tells_the_messages_apart(self) -> None:
        lines = [
            json.dumps(
                {"ts": f"2026-05-06T07:08:{i % 60:02}Z", "event": "open", "gate": i, "by": {"ip": f"192.0.2.{i % 200}"}}
                if i % 2
                else {"ts": f"2026-05-06T07:08:{i % 60:02}Z", "event": "login", "user": USERS[i % 5]}
            )
            for i in range(120)
        ]
        found = package.draft(lines)
        events = found.parser.parse(lines).events
        self.assertEqual(("event", 120), (found.kind, found.complete))
        self.assertEqual(["login", "open"] * 60, events["variant"].to_list())
        self.assertEqual([None, 1, None, 3], events["gate"].to_list()[:4])
        self.assertEqual(list(range(1, 120, 2)), events["gate"].drop_nulls().to_list())

    def test_a_key_that_holds_texts_has_messages(self) -> None:
        texts = ("user {} logged in", "queue {} is full now", "lock of {} was picked")
        lines = [
            json.dumps({"ts": f"2026-05-06T07:08:{i % 60:02}Z", "msg": texts[i % 3].format(USERS[i % 5])})
            for i in range(150)
        ]
        found = package.draft(lines)
        self.assertEqual((3, 150), (len(found.messages), found.complete))
        self.assertEqual(
            groups([i % 3 for i in range(150)]), groups(found.parser.parse(lines).events["variant"].to_list())
        )

    def test_a_key_of_json_in_another_script_names_no_slot(self) -> None:
        users = ("okoro", "tait", "brandt", "amadi")
        lines = [
            f"2026-05-06 07:08:{i % 60:02} {text}"
            for i in range(80)
            for text in (f'card read {{"имя": "{users[i % 4]}", "n": {i}}}', f"gate {i} left {users[(i + 1) % 4]} in")
        ]
        found = package.draft(lines, zone="UTC")
        self.assertEqual([80, 80], [one.count for one in found.messages])
        self.assertFalse(any("no pattern" in doubt.what for doubt in found.doubts))

    def test_numbers_with_zeros_in_front_stay_as_they_are(self) -> None:
        lines = [
            f"ts=2026-05-06T07:08:{i:02}Z badge=00{i:03} gate={i} act={'in' if i % 2 else 'out'}" for i in range(60)
        ]
        events = package.draft(lines).parser.parse(lines).events
        self.assertEqual([f"00{i:03}" for i in range(60)], events["badge"].to_list())
        self.assertEqual(list(range(60)), events["gate"].to_list())

    def test_keys_called_like_columns_of_every_event(self) -> None:
        lines = [
            f'{{"id": {i}, "time": "2026-05-06T07:08:{i % 60:02}Z", "state": "up", "line": {i}}}' for i in range(80)
        ]
        found = package.draft(lines)
        self.assertTrue(all(outcome.good for outcome in package.check_cases(found.parser)))
        events = found.parser.parse(lines).events
        for name in ("id", "line"):
            self.assertEqual(list(range(80)), events[field_of(name)].to_list())


class OddLogs(unittest.TestCase):
    def held(self, log: Any, **options: Any) -> Draft:
        """A draft that loads, whose counts add up and whose cases are good."""
        found = package.draft(log, **options)
        self.assertEqual(found.events, found.complete + found.partial + found.unmatched)
        self.assertEqual([], [outcome for outcome in package.check_cases(found.parser) if not outcome.good])
        return found

    def test_few_lines_and_many_of_one(self) -> None:
        self.assertEqual(2, self.held(["2026-05-06 07:08:09 a b", "2026-05-06 07:08:10 c 5\nx"]).events)
        self.assertEqual(1, len(self.held(["2026-05-06 07:08:09 all is well 5"] * 20_000).messages))

    def test_stack_traces(self) -> None:
        trace = 'Traceback (most recent call last):\n  File "dock.py", line {0}, in f\n    x()\nValueError: berth {0}\n'
        found = self.held("".join(trace.format(i) for i in range(60)))
        self.assertEqual((60, 1), (found.complete, len(found.messages)))

    def test_lines_behind_a_message_are_its_own_field(self) -> None:
        lines = [f"ERROR 2026-05-06 07:08:{i:02} pay failed for u{i}\n  at dock.pay\n  at dock.main" for i in range(30)]
        lines += [f"INFO 2026-05-06 07:09:{i:02} paid {i} coins" for i in range(30)]
        found = self.held("\n".join(lines) + "\n")
        events = found.parser.parse("\n".join(lines) + "\n").events
        self.assertEqual("  at dock.pay\n  at dock.main", events["lines"][0])
        self.assertEqual([f"u{i}" for i in range(30)], events.filter(events["lines"].is_not_null())["u"].to_list()
                         if "u" in events.columns else events["user"].drop_nulls().to_list())  # fmt: skip

    def test_a_name_at_the_end_of_what_all_lines_say_is_a_value(self) -> None:
        lines = [
            f"2026-05-06 07:08:{i:02} [{('TX', 'RX')[i % 2]}] order {i * 37} by {USERS[i % 5]}"
            + "\n  2 bolts" * (i % 3)
            for i in range(60)
        ]
        found = self.held(lines)
        self.assertEqual(1, len(found.messages))
        self.assertEqual([USERS[i % 5] for i in range(60)], found.parser.parse(lines).events["user"].to_list())

    def test_ports_behind_addresses_of_both_kinds(self) -> None:
        rng = random.Random(3)
        ends = [(rng.choice(("192.0.2.7", "2001:db8::5", "2001:db8::af")), rng.randint(20, 65_000)) for _ in range(90)]
        lines = [f"2026-05-06 07:08:09 link from {ip}:{port} is up" for ip, port in ends]
        found = self.held(lines)
        self.assertEqual(ends, found.parser.parse(lines).events.select("src_ip", "src_port").rows())
        bare = [f"2026-05-06 07:08:09 link from 2001:db8::{i}:22 is up" for i in range(1, 60)]
        self.assertEqual(
            [f"2001:db8::{i}:22" for i in range(1, 60)], self.held(bare).parser.parse(bare).events["src_ip"].to_list()
        )

    def test_levels_however_they_are_written(self) -> None:
        texts = ("session {0} of {1} closed after {0}s", "cannot reach 192.0.2.{0}: timed out", "cache holds {0} items")
        for head, levels in (
            ("[{1:5}][2026-05-06 07:08:{0:02},008][core]", ("INFO", "WARN", "ERROR")),
            ("2026-05-06 07:08:{0:02}.008 {1}", ("I", "W", "E")),
            ("\x1b[90m2026-05-06 07:08:{0:02}.008\x1b[0m \x1b[32m{1}\x1b[0m", ("info", "warning", "error")),
        ):
            with self.subTest(head=head):
                lines = [
                    f"{head.format(i, levels[i * 7 % 3])} {texts[i % 10 % 3].format(i + 9, USERS[i % 4])}"
                    for i in range(60)
                ]
                found = self.held(lines)
                events = found.parser.parse(lines).events
                self.assertEqual((60, 3), (found.complete, len(found.messages)))
                self.assertEqual([levels[i * 7 % 3] for i in range(60)], events["level"].to_list())
                self.assertEqual(
                    [datetime(2026, 5, 6, 7, 8, i, 8000, UTC) for i in range(60)], events["time"].to_list()
                )

    def test_rows_of_values_are_one_message(self) -> None:
        rng = random.Random(5)
        rows = [
            (f"192.0.2.{rng.randint(1, 9)}", rng.choice(USERS).replace(".", ""), rng.randint(1, 9)) for _ in range(80)
        ]
        for line in ("2026-05-06 07:08:09 {0} {1} {2} 200", "{0} | {1} | {2} | 2026/05/06@09:08:09 (UTC+2)"):
            with self.subTest(line=line):
                lines = [line.format(*row) for row in rows]
                found = self.held(lines)
                self.assertEqual((80, 1), (found.complete, len(found.messages)))
                events = found.parser.parse(lines).events
                self.assertEqual([datetime(2026, 5, 6, 7, 8, 9, tzinfo=UTC)] * 80, events["time"].to_list())
                name = next(name for name in events.columns if events[name].to_list() == [row[1] for row in rows])
                self.assertNotIn(rows[0][1], name)

    def test_rows_with_quotes_are_columns(self) -> None:
        lines = [
            f'192.0.2.{i},{USERS[i % 5]},"May 6, 2026 07:08:{i:02} AM","a note, with ""quotes"""' for i in range(50)
        ]
        found = self.held(lines)
        events = found.parser.parse(lines).events
        self.assertEqual(['a note, with "quotes"'] * 50, events["column_4"].to_list())
        self.assertEqual([datetime(2026, 5, 6, 7, 8, i, tzinfo=UTC) for i in range(50)], events["time"].to_list())

    def test_what_has_no_time_is_said(self) -> None:
        found = self.held([f"pump {i} runs at {i * 3} rpm" for i in range(40)])
        self.assertEqual(["no stamp of a known form was found, so events have no time"], [d.what for d in found.doubts])
        self.assertIn("# Unsure: no stamp of a known form was found", found.text)

    def test_blocks_between_drawn_lines(self) -> None:
        text = "".join(
            f"{'=' * 20}\nReport {i}\nDate : Tuesday, November 03, 2026 21:15:{i:02}\n"
            f"User : {USERS[i % 5]}\nLoad : {i} t\n\n"
            for i in range(40)
        )
        found = self.held(text.encode())
        events = found.parser.parse(text).events
        self.assertEqual((40, list(range(40))), (found.complete, events["report"].to_list()))
        self.assertEqual([datetime(2026, 11, 3, 21, 15, i, tzinfo=UTC) for i in range(40)], events["time"].to_list())

    def test_hostile_text(self) -> None:
        for text in (
            "\x1b[31m red {{x}} [[ y ]] 'q' \"z{0}\" - name: evil # c: {{{{",
            "key: [[{0}]] }} {{@a}} {{:json}} \u202e tab\tx",
            "C:\\temp\\new{0} read by DOM\\user \\d it's 'fine'",
            "]]{0}[[ %s ~ null: true",
        ):
            with self.subTest(text=text):
                lines = [f"2026-05-06 07:08:{i:02} {text.format(i)}" for i in range(40)]
                self.assertEqual(40, self.held(lines).complete)

    def test_more_messages_than_are_wanted(self) -> None:
        rng = random.Random(2)
        letters = "abcdefghij"
        lines = [
            f"2026-05-06 07:08:09 {' '.join(''.join(rng.choices(letters, k=7)) for _ in range(5))}" for _ in range(300)
        ]
        lines = [line.replace("09", f"{i % 60:02}", 1) for i, line in enumerate(lines)]
        found = self.held(lines, most=20)
        self.assertEqual(20, len(found.messages))
        self.assertEqual(300 - found.complete, found.left)
        said = next(doubt for doubt in found.doubts if "read by no variant" in doubt.what)
        self.assertIn(f"# Unsure: {said.text}", found.text)
        read = package.load(found.text).parse("\n".join(lines)).events["variant"]
        self.assertEqual([None] * 3, [read[line - 1] for line in said.lines])

    def test_two_devices_in_one_log(self) -> None:
        lines = [line for i in range(60) for line in (
            f"2026-05-06 07:08:{i:02} gate {i} opened", f'{{"time": "2026-05-06T07:08:{i:02}Z", "n": {i}}}',
            f"2026-05-06 07:08:{i:02} gate {i} shut")]  # fmt: skip
        text = "\n".join(lines) + "\n"
        found = self.held(text)
        self.assertIn("several devices", found.doubts[0].what)
        self.assertEqual((120, []), (found.complete, found.others))
        both = self.held(text, split=True)
        self.assertEqual([60], [other.complete for other in both.others])
        self.assertEqual([1, 3, 2], [one.line for part in (both, *both.others) for one in part.messages])
        self.assertIn("# Unsure: lines of several devices: 120 are", found.text)
        self.assertIn("(lines 1, 2); the largest is drafted", " ".join(found.text.replace("\n#", "").split()))

    def test_long_lines_and_no_times(self) -> None:
        self.assertEqual(3, self.held([f"2026-05-06 07:08:{i:02} " + "x" * 300_000 for i in range(3)]).complete)
        found = self.held([f"gate {i} opened" for i in range(50)])
        self.assertEqual(("", 50), (found.time, found.complete))

    def test_any_lines(self) -> None:
        words = st.sampled_from([*TOKENS, "\\", "2026-05-06 07:08:09", "07:08:09", '"a b"', '{"a":1}', "\t"])

        @examples(40)
        @given(st.lists(st.lists(words, min_size=1, max_size=8).map(" ".join), min_size=1, max_size=12))
        def holds(lines: list[str]) -> None:
            with contextlib.suppress(KingletError):
                self.held([*lines, *lines])

        holds()

    def test_words_like_zones_and_elements_are_neither(self) -> None:
        lines = [f"2026-05-06 07:08:{i:02} est {i} opened" for i in range(30)]
        self.assertEqual("2026-05-06 07:08:00", package.look(lines)[0].stamps[0].example)
        levels = [f"<{'INFO' if i % 2 else 'WARN'}> 2026-05-06 07:08:{i:02} gate {i} shut" for i in range(30)]
        self.assertIsNone(package.look(levels)[0].container)
        for name in ("阀门", "šluza", "quay-7.marram.example"):
            apps = [f"{name}{i % 3}[{i}] - 2026-05-06 07:08:{i:02} gate {i} shut" for i in range(40)]
            self.assertEqual(40, package.look(apps)[0].events)
        rare = [f"07:08:{i:02} berth {i}" + (" until 2026-07-01" if i % 12 == 0 else "") for i in range(48)]
        first = package.look(rare)[0].stamps[0]
        self.assertEqual(("time of day", True), (first.form, first.is_time))


class Masking(unittest.TestCase):
    def test_the_same_text_has_the_same_stand_in(self) -> None:
        masks = Masks()
        text = "login of m.okoro from 10.1.2.3 (fe80::1, b4:f2:a1:56:8a:9e) as m.okoro@real.test"
        first = masks.text(text, [("user", "m.okoro")])
        self.assertEqual(first, masks.text(text, [("user", "m.okoro")]))
        for gone in ("okoro", "10.1.2.3", "fe80", "b4:f2", "real.test"):
            self.assertNotIn(gone, first)
        self.assertRegex(
            first, r"^login of person1 from 192\.0\.2\.1 \(2001:db8::1, 00:00:5e:00:53:00\) as person1@mail"
        )
        self.assertNotEqual(first, masks.text(text.replace("10.1.2.3", "10.1.2.4"), []))

    def test_cases_have_stand_ins(self) -> None:
        lines = [f"2026-05-06 07:08:{i:02} login of user {USERS[i % 5]} from 10.1.2.{i}" for i in range(50)]
        found = package.draft(lines, mask=True)
        cases = [case.raw for case in found.parser._definition.cases]
        self.assertNotIn("10.1.2", " ".join(cases))
        self.assertFalse(any(user in case for user in USERS for case in cases))


class YamlText(unittest.TestCase):
    def test_any_text_reads_back(self) -> None:
        @examples(300)
        @given(st.text(st.characters(codec="utf-8"), max_size=30))
        def holds(text: str) -> None:
            for written in (quoted(text), scalar(text)):
                self.assertEqual(text, from_text(f"a: {{b: {written}}}\n", "x").values["a"]["b"])

        holds()


class CommandLine(InFolder):
    def setUp(self) -> None:
        super().setUp()
        self.made = Made(3, 300)
        self.log = self.write("sluice.log", "\n".join(self.made.lines) + "\n")

    def test_a_parser_is_written_and_checks_clean(self) -> None:
        called = kinglet("draft", self.log, "-o", "sluice.yaml", "--zone", "UTC", "--product", "Brackwater/Sluice")
        self.assertEqual((0, ""), (called.status, called.err))
        self.assertIn("300 of 300 events, 100 %", called.out)
        self.assertIn("kinglet check sluice.yaml", called.out)
        self.assertEqual(0, kinglet("check", "sluice.yaml").status)
        for name in ("20260305", "2026-03-05", "true", "null", "1e5", "0x1F", "12_3"):  # which YAML reads as no text
            self.write(f"{name}.log", "\n".join(self.made.lines[:40]) + "\n")
            with self.subTest(name=name):
                called = kinglet("draft", f"{name}.log", "-o", "named.yaml")
                self.assertEqual((0, ""), (called.status, called.err))
                self.assertEqual(name, package.load("named.yaml").name)
                self.assertEqual((0, ""), (kinglet("look", f"{name}.log").status, kinglet("look", f"{name}.log").err))
                (self.folder / "named.yaml").unlink()
        again = kinglet("draft", self.log, "-o", "sluice.yaml")
        self.assertEqual((2, True), (again.status, "is there already" in again.err))

    def test_without_a_place_nothing_is_written(self) -> None:
        called = kinglet("draft", self.log)
        self.assertIn("nothing was written", called.out)
        self.assertEqual([self.log.name], [path.name for path in self.folder.iterdir()])
        self.assertEqual("kinglet: 1", kinglet("draft", self.log, "-o", "-").out.splitlines()[0])
        self.assertEqual(300, kinglet("draft", self.log, "--json").json()["complete"])

    def test_variants_are_added_to_a_parser_and_the_rest_stays(self) -> None:
        text = package.draft(self.made.lines, zone="UTC").text
        kept = [line for line in text.split("\n  - name: ") if not line.startswith(("login", "controller"))]
        before = "\n  - name: ".join(kept).split("\ncases:")[0] + "\n\n# the end\nclock: {latest: 9999-01-01}\n"
        path = self.write("mine.yaml", before)
        lost = package.load(path).parse(self.log).counts
        self.assertGreater(lost["partial"], 0)
        self.assertEqual(0, kinglet("draft", self.log, "--into", path).status)
        after = path.read_text()
        self.assertEqual([], [line for line in before.splitlines() if line not in after.splitlines()])
        self.assertEqual(300, package.load(path).parse(self.log).counts["complete"])
        self.assertEqual(0, kinglet("check", path).status)
        self.assertIn("nothing is added", kinglet("draft", self.log, "--into", path).out)
        self.assertEqual(after, path.read_text())

    def test_each_of_several_devices_has_a_file(self) -> None:
        mixed = "\n".join(
            f"{line}\n" + json.dumps({"time": "2026-05-06T07:08:09Z", "n": i}) for i, line in enumerate(self.made.lines)
        )
        self.write("mixed.log", mixed)
        self.assertEqual(0, kinglet("draft", "mixed.log", "--split", "-o", "out.yaml").status)
        self.assertEqual(["out-2.yaml", "out.yaml"], sorted(path.name for path in self.folder.glob("out*.yaml")))

    def test_a_ready_parser_is_named_first(self) -> None:
        lines = [f"2026-05-06 07:08:{i:02} status installed libx{i}:amd64 1.{i}-1" for i in range(60)]
        self.write("p.log", "\n".join(lines) + "\n")
        self.assertIn("`dpkg` reads 100 %", kinglet("draft", "p.log").out.splitlines()[1])
        # what a parser drops it has read; a log of which it keeps nothing it does not read
        fields = "#Software: Quay Gate 2.1\n#Fields: date time cs-method cs-uri\n"
        rows = "2026-11-29 15:44:03 GET /tide\n2026-11-29 15:44:04 GET /\n"
        found = [one for one in ready((fields + rows).encode()) if one.parser == "w3c-extended"]
        self.assertEqual([1.0], [one.complete for one in found])
        self.assertEqual([], [one for one in ready(fields.encode()) if one.parser == "w3c-extended"])

    def test_an_encoding_that_was_named_stands_in_the_file(self) -> None:
        text = "".join(f"2026-05-06 07:08:{i:02} Schütte {i} geöffnet\n" for i in range(40))
        self.write("old.log", text.encode("cp850"))
        self.assertEqual(0, kinglet("draft", "old.log", "--encoding", "cp850", "-o", "old.yaml").status)
        events = package.load("old.yaml").parse("old.log").events
        self.assertEqual((40, True), (events.height, (events["state"] == "complete").all()))
        self.assertTrue(events["raw"].str.contains("geöffnet").all())

    def test_several_files_are_one_log(self) -> None:
        (self.folder / "logs").mkdir()
        for i in range(3):
            self.write(f"logs/s-{i}.log", "\n".join(self.made.lines[i * 100 : i * 100 + 100]) + "\n")
        self.assertEqual(300, kinglet("draft", "logs", "--json").json()["complete"])
        files = [f"logs/s-{i}.log" for i in range(3)]
        self.assertEqual(300, kinglet("draft", *files, "--json").json()["complete"])

    def test_wrong_use(self) -> None:
        self.write("empty.log", "")
        for arguments, said in (
            (("nope.log",), "no such file"),
            (("empty.log",), "is empty"),
            ((self.log, "--most", "0"), "no number of variants"),
            ((self.log, "--product", "x"), "VENDOR/NAME"),
            ((self.log, "--zone", "Nowhere/Else"), "no such zone"),
            ((self.log, "-o", "a.yaml", "--into", "b.yaml"), "both -o and --into"),
            ((self.log, "--into", "nope.yaml"), "no such parser file"),
            ((self.log, "--into", "nope.yaml", "--zone", "UTC"), "goes with a new draft"),
            ((self.log, "-o", "no/such/folder.yaml"), "there is no folder"),
        ):
            with self.subTest(arguments=arguments):
                called = kinglet("draft", *arguments)
                self.assertEqual((2, 1), (called.status, len(called.err.strip().splitlines())))
                self.assertIn(said, called.err)

    def test_every_demo_log(self) -> None:
        for item in write_demo(self.folder):
            with self.subTest(log=item.name):
                found = package.draft(item.log)
                self.assertEqual(found.events, found.complete)
                self.assertEqual([], [one for one in package.check_cases(found.parser) if not one.good])
