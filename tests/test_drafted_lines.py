"""Drafts of logs with heads of many kinds, foreign lines and traces between them; values are known."""

from __future__ import annotations

import json
import random
import re
import unittest
from collections.abc import Iterable
from datetime import UTC, datetime, timedelta
from typing import Any

import kinglet
from kinglet.discover.starts import short_start
from kinglet.drafting.report import Draft
from kinglet.timestamps.known_forms import FINDABLE
from tests.helpers import suggestion

START = datetime(2026, 3, 14, 20, 30, 5, tzinfo=UTC)
USERS = ("m.okoro", "h.fontaine", "s.amadi", "t.varela", "a.pires")


def clock(second: int, form: str = "%Y-%m-%d %H:%M:%S") -> str:
    return f"{START + timedelta(seconds=second):{form}}"


def events_of(lines: Iterable[str], **options: Any) -> tuple[Draft, list[dict[str, Any]]]:
    """The draft of a log, and what it reads of it."""
    text = "".join(f"{line}\n" for line in lines)
    draft = kinglet.draft(text, at="2026-11-30", **options)
    return draft, draft.parser.parse(text, reference_time="2026-11-30").events.to_dicts()


class Heads(unittest.TestCase):
    def said(self, i: int) -> str:
        return (f"gate {i} opened", f"feed of {USERS[i % 5]} is late", f"{i} pumps idle")[(7 * i + i // 5) % 3]

    def test_levels_of_a_programs_own_name_are_levels_beside_the_usual_ones(self) -> None:
        chance = random.Random(1)
        for levels, unknown in (
            (("DEBUG", "NOISE", "INFO", "LOG"), "`LOG`, `NOISE`"),
            (("TRC", "DBG", "INF", "WRN", "ERR"), ""),
            (("INFO", "NOTICE", "CONNECT"), "`CONNECT`"),
        ):
            for form in ("{stamp} [{pid}] {level} {text}", "{level:<9} {stamp} [{pid}]: {text}"):
                with self.subTest(levels=levels, form=form):
                    wanted = [chance.choice(levels) for _ in range(80)]
                    lines = [
                        form.format(
                            stamp=clock(i),
                            pid=812,
                            level=level,
                            text=chance.choice(
                                (f"pump {i} idle", f"gate opened by {chance.choice(USERS)}", "feed late")
                            ),
                        )
                        for i, level in enumerate(wanted)
                    ]
                    draft, events = events_of(lines)
                    self.assertEqual(wanted, [event["level"] for event in events], draft.text)
                    said = [doubt.what for doubt in draft.doubts if "how grave" in doubt.what]
                    self.assertEqual([f"how grave `level` is by {unknown} is not known"] if unknown else [], said)
                    self.assertEqual(bool(unknown), "# Unsure: how grave" in draft.text)

    def test_words_and_numbers_in_the_same_brackets_are_one_slot(self) -> None:
        wanted = [("main", "0", "tide-2", "17")[i % 4] for i in range(40)]
        lines = [f"{clock(i)} LOG{i % 3 + 4}[{unit}]: {self.said(i)}" for i, unit in enumerate(wanted)]
        draft, events = events_of(lines)
        self.assertRegex(draft.envelope, r"^\{stamp:time\} .*\[\{value_2\}\]: \{body:rest\}$")
        self.assertEqual(wanted, [event["value_2"] for event in events])

    def test_a_colour_for_each_level_makes_no_messages_of_its_own(self) -> None:
        colours = {"INFO": "32", "WARN": "1;33", "ERROR": "31", "DEBUG": "36"}
        levels = [list(colours)[i * i % 7 % 4] for i in range(60)]
        for form in (
            "{stamp} \x1b[{colour}m{level}\x1b[0m {text}",
            "\x1b[2m{stamp}\x1b[0m \x1b[{colour}m {level}\x1b[0m \x1b[2mtide::gate\x1b[0m: {text}",
            "{stamp}\t\x1b[{colour}m{level}\x1b[0m\ttide\t{text}",
            "\x1b[{colour}m[{stamp}] {level}: {text}\x1b[0m",
            "{stamp} [\x1b[{colour}m{level}\x1b[0m] {text} \x1b[36mberth\x1b[0m=7",
        ):
            with self.subTest(form=form):
                draft, events = events_of(
                    form.format(stamp=clock(i), colour=colours[level], level=level, text=self.said(i))
                    for i, level in enumerate(levels)
                )
                self.assertEqual(3, len(draft.messages), draft.text)
                self.assertEqual(levels, [event["level"] for event in events])
                gates = [i if "gate" in self.said(i) else None for i in range(60)]
                self.assertEqual(gates, [event["gate"] for event in events])

    def test_numbers_of_processes_are_no_kinds(self) -> None:
        lines = []
        for i in range(40):
            pid, text = (812, f"gate {i} opened") if i % 2 else (977, f"tide {i} read by {USERS[i % 5]}")
            lines.append(f"[{clock(i)}] [{pid}] [INFO] {text if i % 8 < 6 else ('feed late', 'feed early')[i % 2]}")
        draft, events = events_of(lines)
        self.assertEqual("", draft.kind)
        self.assertEqual(["complete"] * 40, [event["state"] for event in events])

    def test_a_number_keeps_its_digits_and_a_version_its_zeros(self) -> None:
        lines = [f"{clock(i)} thread 6322.13996435476{i:04} of release 3.{i}0 took {i}.25 s" for i in range(10, 40)]
        _, events = events_of(lines)
        values = [{str(value) for value in event.values()} for event in events]
        for i, found in enumerate(values, 10):
            self.assertLessEqual({f"6322.13996435476{i:04}", f"3.{i}0", f"{i}.25"}, found)

    def test_numbers_that_are_filled_up_with_blanks_indent_nothing(self) -> None:
        wanted = [1 + i * 7 for i in range(40)]
        draft, events = events_of(f"{number:4}(812) DEBUG: gate: {self.said(i)}" for i, number in enumerate(wanted))
        self.assertEqual("line", draft.cut)
        self.assertEqual(wanted, [event["number"] for event in events], draft.text)

    def test_letters_are_levels_where_some_are(self) -> None:
        wanted = ["dDIWE"[i * i % 7 % 5] for i in range(60)]
        draft, events = events_of(f"{level} [{clock(i)}] {self.said(i)}" for i, level in enumerate(wanted))
        self.assertEqual(wanted, [event["level"] for event in events], draft.text)
        self.assertIn("`level` is by `d` is not known", " ".join(doubt.what for doubt in draft.doubts))

    def test_parameters_of_syslog_are_fields(self) -> None:
        users = [USERS[i % 5] if i % 4 else None for i in range(40)]
        lines = [
            f"<134>1 {clock(i, '%Y-%m-%dT%H:%M:%SZ')} quay-gw flow - OPEN "
            + (f'[flow@32473 source-address="192.0.2.{i}" user="{user}" id="a{i}"] ' if user else "- ")
            + self.said(i)
            for i, user in enumerate(users)
        ]
        _, events = events_of(lines)
        self.assertEqual(users, [event["user"] for event in events])
        for name, value in (("source_address", "192.0.2."), ("id_2", "a")):
            wanted = [f"{value}{i}" if user else None for i, user in enumerate(users)]
            self.assertEqual(wanted, [event[name] for event in events])

    def test_the_date_of_a_pair_is_that_of_the_time_of_another(self) -> None:
        for front in ("", "<134>", "<134>quay-fw: "):
            for all_keys in (True, False):
                with self.subTest(front=front, all_keys=all_keys):
                    _, events = events_of(
                        f"{front}date={clock(i * 4000, '%Y-%m-%d')} time={clock(i * 4000, '%H:%M:%S')} "
                        f'devname="quay-fw" src=192.0.2.{i} '
                        + (f"user={USERS[i % 5]} " if all_keys or i % 3 else "")
                        + (f"bytes={i} " if all_keys or i % 2 else "")
                        + 'action="accept"'
                        for i in range(60)
                    )
                    wanted = [START + timedelta(seconds=i * 4000) for i in range(60)]
                    self.assertEqual(wanted, [event["time"] for event in events])
                    self.assertEqual([f"192.0.2.{i}" for i in range(60)], [event["src"] for event in events])


class Lines(unittest.TestCase):
    ACCESS = '{client} - {user} [{stamp}] "GET /tide/{i} HTTP/1.1" 200 {i}'

    def test_lines_of_an_access_log_between_others_are_events_of_their_own(self) -> None:
        for every, client in ((2, "192.0.2.7"), (9, "2001:db8::7"), (25, "::1")):
            with self.subTest(every=every, client=client):
                own, foreign, lines = [], [], []
                for i in range(300):
                    lines.append(f"[{clock(i)} +0000] [812] [INFO] gate {i} opened")
                    own.append(lines[-1])
                    if i % 10 == 0:
                        lines += ["Trace of the gate:", f"  hinge {i}", "    bolt"]
                        own[-1] += f"\nTrace of the gate:\n  hinge {i}\n    bolt"
                    if i % every == 0:
                        stamp = clock(i, "%d/%b/%Y:%H:%M:%S +0000")
                        user = ("-", "m.okoro")[i % 2]
                        foreign.append(self.ACCESS.format(client=client, user=user, stamp=stamp, i=i))
                        lines.append(foreign[-1])
                draft = kinglet.draft("\n".join(lines) + "\n", split=True)
                self.assertIn("lines of several devices", draft.doubts[0].what)
                for part, texts in ((draft, own), (draft.others[0], foreign)):
                    read = part.parser.parse(texts)
                    self.assertEqual({"complete"}, set(read.events["state"]), part.text)
                    self.assertEqual(0, read.events["time"].null_count())
                starts = kinglet.look("\n".join(lines) + "\n")[0].boundaries[0]
                self.assertEqual(len(own) + len(foreign), starts.count, starts)

    def test_what_stands_in_front_may_differ_in_its_letters_and_digits(self) -> None:
        names = ("start", "MY7SV", "q-2", "17")
        draft, events = events_of(f"[{names[i % 4]}] {clock(i)} INFO: gate {i} opened" for i in range(40))
        self.assertEqual([names[i % 4] for i in range(40)], [event["unit"] for event in events], draft.text)
        self.assertNotIn("several devices", draft.text)

    def test_a_first_word_that_recurs_does_not_swallow_lines_that_are_events(self) -> None:
        lines = [
            line for i in range(30) for line in (f"*** step {i} done ***", f"loading part {i}", f"part {i} is ready")
        ]
        for i in range(40):
            stamp = clock(i, "%a %b %e %H:%M:%S %Y")
            lines.append(
                f"[pid: 812|req: {i}] 192.0.2.{i} () {{24 vars in {i}5 bytes}} [{stamp}] GET /tide/{i} => {i} bytes"
            )
            if i % 5 == 0:
                lines += ["Trace (last call last):", f"  in hinge {i}", "Fault: bolt"]
        look = kinglet.look("\n".join(lines) + "\n")[0]
        self.assertEqual({"indent": True}, look.boundaries[0].events)
        self.assertEqual(sum(not line.startswith(" ") for line in lines), look.boundaries[0].count)
        draft, events = events_of(lines)
        self.assertEqual([f"/tide/{i}" for i in range(40)], [e["get"] for e in events if e.get("get") is not None])
        self.assertIn("of events have a stamp", draft.doubts[0].what)


class Stamps(unittest.TestCase):
    def test_clocks_of_12_hours_have_fractions_and_signs_stand_directly_before_stamps(self) -> None:
        moments = [START + timedelta(seconds=i * 1117, milliseconds=i * 37 % 1000) for i in range(40)]
        for form in (
            "####<{t:%b} {t.day}, {t:%Y} {t:%I:%M:%S},{ms} {t:%p} UTC> <Info>",
            "*{t:%b} {t.day:2d} {t:%Y %H:%M:%S}.{ms}: %GATE-4:",
            "({t:%m/%d/%Y %I:%M:%S}.{ms} {t:%p}) gate:",
            "{t:%d-%b-%Y %I:%M:%S}.{ms} {t:%p} gate:",
            "#!{t:%Y-%m-%dT%H:%M:%S}.{ms}Z gate:",
        ):
            with self.subTest(form=form):
                draft, events = events_of(
                    f"{form.format(t=t, ms=f'{t.microsecond // 1000:03}')} gate {i} opened by {USERS[i % 5]}"
                    for i, t in enumerate(moments)
                )
                self.assertEqual(moments, [event["time"] for event in events], draft.text)
                self.assertIn("{stamp:time}", draft.text)

    def test_lines_on_pages_are_events_and_the_pages_are_none(self) -> None:
        page = "\n{:>30} {}\nDATE     TIME  BERTH\n-------- ----- -----\n"
        lines = [f"{START + timedelta(minutes=9 * i):%d/%m/%y %H:%M} {i:<5}" for i in range(200)]
        text = "".join((page.format("PAGE", i // 40 + 1) if i % 40 == 0 else "") + f"{lines[i]}\n" for i in range(200))
        draft = kinglet.draft(text, at="2026-11-30")
        events = draft.parser.parse(text, reference_time="2026-11-30").events
        times = events.filter(events["state"] == "complete")["time"].to_list()
        self.assertEqual([(START + timedelta(minutes=9 * i)).replace(second=0) for i in range(200)], times, draft.text)

    def test_names_of_months_stand_in_any_case_between_any_signs_or_none(self) -> None:
        moments = [START + timedelta(seconds=97 * i) for i in range(60)]
        cases = (str.title, str.upper, str.lower)
        parts = ("dbY", "Ybd", "bdY", "dby", "db", "bd")
        forms = [sign.join(f"%{part}" for part in each) for sign in ("/", "-", ".", "_", "", " ") for each in parts]
        for number, form in enumerate((*forms, "%a %b %d", "%a, %b %d", "%a %d %b", "%a, %d %b")):
            written = cases[(number + number // 6) % 3]
            with self.subTest(form=form, written=written):
                draft, events = events_of(
                    f"{written(t.strftime(form))} {t:%H:%M:%S} gate {i} opened by {USERS[i % 5]}"
                    for i, t in enumerate(moments)
                )
                self.assertEqual(moments, [event["time"] for event in events], draft.text)
                self.assertIn("{stamp:time}", draft.text)

    def test_a_day_beyond_the_twelfth_tells_the_order_also_behind_a_clock(self) -> None:
        for day in ("%d/%m", "%m/%d"):
            lines = []
            for i in range(40):
                moment = START + timedelta(days=i // 3, seconds=i)
                lines.append(f"{moment:%H:%M:%S} {moment.replace(day=13 + i // 3):{day}/%Y} gate {i} opened")
            draft, events = events_of(lines)
            self.assertEqual([13 + i // 3 for i in range(40)], [event["time"].day for event in events], draft.text)

    def test_beside_a_clock_of_12_hours_the_month_is_taken_to_stand_first(self) -> None:
        days = [START.replace(month=3, day=2, minute=i % 60) for i in range(60)]
        for form, month, sure in (
            ("%m/%d/%Y %I:%M:%S %p", 3, "likely, not sure"),
            ("%d/%m/%Y %H:%M:%S", 3, "cannot be told"),
        ):
            lines = [f"{day.strftime(form)} gate {i} opened" for i, day in enumerate(days)]
            text = "\n".join(lines) + "\n"
            draft = kinglet.draft(text, at="2026-03-09")
            times = draft.parser.parse(text, reference_time="2026-03-09").events["time"]
            self.assertEqual({month}, {time.month for time in times}, draft.text)
            self.assertTrue(any(sure in doubt.what for doubt in draft.doubts), draft.doubts)

    def test_the_time_of_events_is_found_among_other_stamps(self) -> None:
        chance = random.Random(7)
        times = [START + timedelta(seconds=97 * i + chance.randint(0, 60)) for i in range(80)]
        for form in (
            "<13>{near:%b} {near.day:2d} {near:%H:%M:%S} quay-relay gate: time={t:%Y-%m-%dT%H:%M:%SZ} by={user}",
            'received_time="{near:%Y-%m-%d %H:%M:%S}" generated_time="{t:%Y-%m-%d %H:%M:%S}" user={user} n={i}',
            '{{"ingestTime":"{near:%Y-%m-%dT%H:%M:%SZ}","eventTime":"{t:%Y-%m-%dT%H:%M:%SZ}","user":"{user}","n":{i}}}',
            '{{"expires":"{later:%Y-%m-%dT%H:%M:%SZ}","created":"{early:%Y-%m-%dT%H:%M:%SZ}","ts":"{t:%Y-%m-%dT%H:%M:%SZ}"}}',
            "{count} {t:%Y-%m-%d %H:%M:%S} gate {i} opened by {user}",
            "Received by quay; {t:%a, %d %b %Y %H:%M:%S +0000} for {user}; Date: {early:%a, %d %b %Y %H:%M:%S +0000}",
            "token of {user} valid until {later:%Y-%m-%d %H:%M:%S} issued [{t:%Y-%m-%d %H:%M:%S}] n={i}",
            "user {user} last login {early:%Y-%m-%d %H:%M:%S} from 192.0.2.{i} at {t:%Y-%m-%d %H:%M:%S}",
        ):
            with self.subTest(form=form):
                draft, events = events_of(
                    form.format(
                        t=t,
                        i=i,
                        user=USERS[i % 5],
                        count=1_700_000_000 + 13 * i,
                        near=t + timedelta(seconds=chance.randint(1, 90)),
                        early=t - timedelta(days=chance.randint(1, 300), seconds=chance.randint(0, 80_000)),
                        later=t + timedelta(days=chance.randint(1, 300), seconds=chance.randint(0, 80_000)),
                    )
                    for i, t in enumerate(times)
                )
                self.assertEqual(times, [event["time"] for event in events], draft.text)
                raw = [event["raw"] for event in events]
                suggested = kinglet.load(suggestion("\n".join(raw) + "\n"))
                self.assertEqual(times, suggested.parse(raw).events["time"].to_list())

    def test_the_letter_of_a_level_may_stand_directly_before_a_stamp(self) -> None:
        moments = [START + timedelta(seconds=1741 * i, microseconds=7919 * i) for i in range(60)]
        for form in ("%m%d %H:%M:%S.%f", "%Y%m%d-%H%M%S.%f", "%y%m%d %H:%M:%S.%f", "%Y%m%dT%H%M%S.%f"):
            letters = [random.Random(i).choice("IWE") for i in range(60)]
            lines = [
                f"{letter}{t:{form}} {7 * i:5d} gate.go:{i % 9}] gate {i} opened"
                for i, (letter, t) in enumerate(zip(letters, moments, strict=True))
            ]
            with self.subTest(form=form):
                draft, events = events_of(lines)
                self.assertEqual({"complete"}, {event["state"] for event in events}, draft.text)
                self.assertEqual(moments, [event["time"] for event in events])
                self.assertEqual(letters, [event["level"] for event in events])
                suggested = kinglet.load(suggestion("\n".join(lines) + "\n"))
                self.assertEqual(moments, suggested.parse(lines, reference_time="2026-11-30").events["time"].to_list())

    def test_a_date_that_is_not_read_is_told(self) -> None:
        for front, behind in (
            ("0314 ", ".000017 812 gate.go:14]"),
            ("2026年3月14日 ", ""),
            ("2026/3/14 上午", ""),
            ("2026-03-14 오전 ", ""),
            ("٢٠٢٦-٠٣-١٤ ", ""),
            ("２０２６-０３-１４ ", ""),
            ("Sa 14 Mär ", " 2026"),
            ("14 мар 2026 ", ""),
            ("14-fev-2026 ", ""),
            ("14-III-2026 ", ""),
        ):
            with self.subTest(front=front):
                draft, _ = events_of(f"{front}{clock(i, '%H:%M:%S')}{behind} gate {i} opened" for i in range(40))
                self.assertIn("may be its date", " ".join(doubt.what for doubt in draft.doubts))

    def test_every_form_of_stamp_can_be_written_as_a_start(self) -> None:
        for form in FINDABLE:
            with self.subTest(form=form.name):
                self.assertIsNotNone(re.compile(short_start(f"^\\[{form.outline}")))
        moments = [START + timedelta(seconds=i) for i in range(40)]
        lines = [f"{t:%G-W%V-%uT%H:%M:%SZ} gate {i} opened" for i, t in enumerate(moments)]
        self.assertEqual(moments, [event["time"] for event in events_of(lines)[1]])


class SecondLines(unittest.TestCase):
    def test_messages_in_the_second_lines_of_events_are_read(self) -> None:
        chance = random.Random(5)
        for first in ("{stamp}", "{stamp} quay.gate.Gate open", "{stamp} [812]:"):
            with self.subTest(first=first):
                texts = [chance.choice((f"gate {i} opened", f"feed of {USERS[i % 5]} is late")) for i in range(60)]
                lines = [
                    f"{first.format(stamp=clock(i))}\nINFO: {text}{f'{chr(10)}more of it' if i % 7 == 0 else ''}"
                    for i, text in enumerate(texts)
                ]
                draft, events = events_of(lines)
                self.assertEqual(60, len(events))
                for i, (text, event) in enumerate(zip(texts, events, strict=True)):
                    value = str(i) if text.startswith("gate") else USERS[i % 5]
                    self.assertIn(value, {str(item) for item in event.values()}, draft.text)

    def test_lines_with_stamps_of_another_time_begin_no_event(self) -> None:
        further = (
            ["Value Date: 2026-01-05", "Valid until 2027-01-01 00:00:00"],
            ["  2026-01-05 00:00:00 old entry"],
            ["0000  47 45 54 20 2f 20 48 54", "0010  48 6f 73 74 3a 20 71 75"],
            ["java.lang.IllegalStateException: tide low", "\tat quay.Tide.run(Tide.java:7)"],
            ["", "see berth 3"],
            ["+ gate 7", "- gate 8"],
        )
        heads = (
            ("{t:%a %b %d %H:%M:%S %Y} {level} {said}", further),
            ("{pid:6d} {t:%d/%b/%Y:%H:%M:%S +0000} {said}", further),
            ("{t:%d.%m.%Y %H:%M:%S}|{level}|{said}", further),
            ("{t:%b %d %H:%M:%S} {level} {said}", further),
            ("== {t:%Y-%m-%dT%H:%M:%SZ} == {said}", further),
            ("{level}: {said} ({t:%b %d %H:%M:%S})", further[2:]),
            ("{level}: {said} ({t:%Y-%m-%d %H:%M:%S})", further[2:]),
        )
        for head, among in heads:
            for seed, lines in enumerate(among[:: 2 if head[0] == "{" else 3]):
                chance = random.Random(seed)
                events = []
                for i in range(60):
                    said = chance.choice(
                        [f"gate {i} opened by m.okoro", f"job {i} failed", f"user s.amadi came by 192.0.2.{i}"]
                    )
                    first = head.format(
                        t=START + timedelta(seconds=97 * i), level=chance.choice(["INFO", "WARN"]), pid=i, said=said
                    )
                    events.append("\n".join([first, *lines]) if chance.random() < 0.4 else first)
                with self.subTest(head=head, lines=lines):
                    text = "\n".join(events) + "\n"
                    draft = kinglet.draft(text, at="2026-11-30")
                    found = draft.parser.parse(text, reference_time="2026-11-30").events["raw"]
                    self.assertEqual(
                        [event.rstrip("\n") for event in events], found.str.strip_chars_end("\n").to_list()
                    )

    def test_an_event_may_begin_with_a_level_that_the_log_did_not_have(self) -> None:
        levels = ("info", "warn", "fail")
        lines = [f"{levels[i * i % 3]}: Quay.Gate[{i % 4}]\n      gate {i} opened" for i in range(60)]
        draft, events = events_of(lines)
        self.assertEqual([levels[i * i % 3] for i in range(60)], [event["level"] for event in events], draft.text)
        later = draft.parser.parse([*lines[:2], "crit: Quay.Gate[9]\n      gate 61 opened"]).events
        self.assertEqual(["info", "warn", "crit"], later["level"].to_list())
        text = "".join(f"{line}\n" for line in (*lines[:2], "crit: Quay.Gate[9]\n      gate 61 opened"))
        self.assertEqual(3, draft.parser.parse(text).events.height)


class Messages(unittest.TestCase):
    def test_bytes_one_by_one_are_one_text(self) -> None:
        chance = random.Random(3)
        for width, count in ((2, 16), (2, 6), (4, 8)):
            wanted = [
                "\n".join(
                    f"  {line * 16:04x}  " + " ".join(f"{chance.randrange(16**width):0{width}x}" for _ in range(count))
                    for line in range(chance.randint(1, 2))
                )
                for _ in range(60)
            ]
            lines = [
                f"{clock(i)}.{i:03} RX frame from 192.0.2.{i} len {i * 7}\n{text}" for i, text in enumerate(wanted)
            ]
            draft, events = events_of(lines)
            self.assertLessEqual(len(draft.messages), 2, draft.text)
            self.assertEqual([i * 7 for i in range(60)], [event["len"] for event in events])

    def test_words_behind_a_label_in_brackets_are_one_value(self) -> None:
        kinds = ("Potentially bad traffic", "Misc activity", "Late train")
        texts = ("scan of berths", "tide feed, old")
        lines = [
            f"{clock(i)} [1:{i}] {texts[i % 2]} [Kind: {kinds[i % 3]}] [Priority: {i % 4}] from 192.0.2.{i}"
            for i in range(60)
        ]
        draft, events = events_of(lines)
        self.assertEqual(2, len(draft.messages), draft.text)
        self.assertEqual([kinds[i % 3] for i in range(60)], [event["kind"] for event in events])

    def test_rows_whose_values_are_words_with_blanks(self) -> None:
        names = ("Åsa Berg", "M. Okoro", "s.amadi")
        for sign in ";|":
            lines = [
                f"{clock(i)}{sign}Tür {i % 9}{sign}geöffnet von{sign}{names[i % 3]}{sign}{('Süd', 'Nord')[i % 2]}"
                for i in range(60)
            ]
            draft, events = events_of(lines)
            rows = [tuple(event[f"column_{k}"] for k in range(2, 6)) for event in events]
            self.assertEqual([tuple(line.split(sign)[1:]) for line in lines], rows, draft.text)
        prose = [f"{clock(i)} gate {i} opened; by {names[i % 3]}; no rain; tide high" for i in range(60)]
        self.assertNotIn("delimited", events_of(prose)[0].text)

    def test_a_title_of_its_own_in_each_event_is_no_section(self) -> None:
        lines = [
            f"[event {7 * i}]\nwhen{sign}{clock(i)}\nwho{sign}{('s.amadi', 'm.okoro')[i % 2]}\nberth{sign}{i}"
            for sign in (": ", " = ")
            for i in range(50)
        ]
        for part in (lines[:50], lines[50:]):
            draft, events = events_of(part)
            self.assertEqual([(7 * i, "complete") for i in range(50)], [(e["event"], e["state"]) for e in events])
            self.assertEqual([clock(i) for i in range(50)], [f"{event['time']:%Y-%m-%d %H:%M:%S}" for event in events])
            self.assertNotIn("event_7", draft.text)

    def test_lines_before_the_labels_of_an_event_are_its_message(self) -> None:
        truth = [(f"192.0.2.{i}", f"/berth/{i}", ("s.amadi", "m.okoro")[i % 2], 7 * i) for i in range(50)]
        draft, events = events_of(
            f"=== {clock(i)} {ip}\nPOST {path} HTTP/1.1\nHost: quay.marram.example\nX-User: {user}\nLength: {length}"
            for i, (ip, path, user, length) in enumerate(truth)
        )
        self.assertEqual({"complete"}, {event["state"] for event in events}, draft.text)
        self.assertEqual(truth, [(event["ip"], event["post"], event["x_user"], event["length"]) for event in events])

    def test_brackets_within_brackets_are_taken_apart(self) -> None:
        truth = [(USERS[i % 5], f"192.0.2.{i + 1}", 40_000 + 7 * i) for i in range(60)]
        _, events = events_of(
            f"{clock(i)} visit(user({user}), from({ip}:{port}), role(crew)) {('ended', 'began')[i % 3 > 0]}"
            for i, (user, ip, port) in enumerate(truth)
        )
        self.assertEqual(truth, [(event["user"], event["src_ip"], event["src_port"]) for event in events])

    def test_what_varies_throughout_is_one_text(self) -> None:
        chance = random.Random(3)
        words = [
            chance.choice(["berth", "the tide", "'low water'", "7", "is ready", "/srv/m", "quay-7"]) for _ in range(400)
        ]
        for seed in range(6):
            chance = random.Random(seed)
            said = [" ".join(chance.sample(words, chance.randint(1, 7))) for _ in range(60)]
            draft, events = events_of(f"{clock(i)} [gate.c:{i}:open] 0-gate: {text}" for i, text in enumerate(said))
            for message in draft.messages:
                bare = r"\[\[[^A-Za-z\[\]]*(?:\{[^{}]*\}[^A-Za-z\[\]]*)+\]\]"
                self.assertNotRegex(message.pattern, rf"(?:{bare}(?:[^\[\]{{}}A-Za-z]|\{{[^{{}}]*\}})*){{3}}")
            self.assertEqual({"complete"}, {event["state"] for event in events})

    def test_flags_in_brackets_are_one_value(self) -> None:
        flags = ("S", "S.", "P.", ".", "R.")
        lines = [
            f"{clock(i)} 192.0.2.{i}.{4000 + i} > 192.0.2.1.443: Flags [{flags[i % 5]}], length {i}" for i in range(60)
        ]
        self.assertEqual([flags[i % 5] for i in range(60)], [event["flags"] for event in events_of(lines)[1]])

    def test_stamps_behind_signs_and_in_rows_of_numbers(self) -> None:
        moments = [START + timedelta(seconds=97 * i, microseconds=1000 * i) for i in range(40)]
        for front, form, fields in (
            ("<{level}>", "%Y-%m-%d %H:%M:%S.%f", ["level"]),
            ("[{level}]", "%Y-%m-%dT%H:%M:%S.%f", ["level"]),
            (" {pid}:", "%Y%m%d:%H%M%S.%f", ["number"]),
            ("{pid}:", "%Y%m%d-%H%M%S.%f", ["number"]),
        ):
            heads = [{"level": "WXE"[i % 3], "pid": 2700 + i % 5} for i in range(40)]
            lines = [
                f"{front.format(**head)}{t:{form}} gate {t:%S} opened" for head, t in zip(heads, moments, strict=True)
            ]
            with self.subTest(front=front, form=form):
                # one line without a head, at the start, is not what the others are read by
                draft, events = events_of(["Failed to set up the gate", *lines])
                self.assertEqual(moments, [event["time"] for event in events[1:]], draft.text)
                self.assertEqual(
                    [str(head["level" if fields == ["level"] else "pid"]) for head in heads],
                    [str(event[fields[0]]) for event in events[1:]],
                )
                self.assertEqual({"complete"}, {event["state"] for event in events[1:]})

    def test_a_port_may_stand_behind_a_point(self) -> None:
        truth = [(f"192.0.2.{i + 1}", 40_000 + 97 * i, "198.51.100.7", 443) for i in range(60)]
        draft, events = events_of(
            f"{clock(i)} IP {ip}.{port} > {to}.{at}: flags [{'SFR'[i % 3]}], length {i}"
            for i, (ip, port, to, at) in enumerate(truth)
        )
        names = ("ip", "port", "ip_2", "port_2")
        self.assertEqual(truth, [tuple(event[name] for name in names) for event in events], draft.text)
        draft, events = events_of(f"{clock(i)} object 1.3.6.1.{i % 9} has value {i * 7}" for i in range(60))
        self.assertEqual({f"1.3.6.1.{i}" for i in range(9)}, {event["object"] for event in events}, draft.text)

    def test_an_address_with_its_port_in_quotes_is_two_values(self) -> None:
        lines = [f"{clock(i)} call of {USERS[i % 5]} failed for '192.0.2.{i}:{5000 + i}' - no key" for i in range(60)]
        _, events = events_of(lines)
        self.assertEqual([(f"192.0.2.{i}", 5000 + i) for i in range(60)], [(one["ip"], one["port"]) for one in events])

    def test_a_stamp_behind_the_priority_of_syslog_is_the_heads(self) -> None:
        lines = [f"<{i % 190}>{clock(i, '%b %d %Y %H:%M:%S')}: %GATE-6-{i % 3}: {self.said(i)}" for i in range(60)]
        draft, events = events_of(lines)
        self.assertTrue(draft.envelope.startswith("<{priority:int}>{stamp:time}: "), draft.text)
        self.assertEqual([i % 190 for i in range(60)], [event["priority"] for event in events])

    def said(self, i: int) -> str:
        return f"gate {i} opened" if i % 3 else f"feed of {USERS[i % 5]} is late"

    def test_pairs_with_words_that_say_what_happens_are_messages(self) -> None:
        says = ("BIND dn={n}", "RESULT err={n} tag=97", "connection from 192.0.2.{n} to 192.0.2.1")
        lines = [f"[{clock(i)}] conn={i} op={i % 5} " + says[i * i % 3 if i % 7 else 2].format(n=i) for i in range(90)]
        draft, events = events_of(lines)
        self.assertNotIn("open_values", draft.text)
        self.assertEqual(len({line.split()[4] for line in lines}), len(draft.messages), draft.text)
        self.assertEqual([(i, i % 5) for i in range(90)], [(event["conn"], event["op"]) for event in events])

    def test_blanks_in_front_of_a_message_may_be_any(self) -> None:
        says = ("gate {n} opened", "feed of {u} is late", "tide/{n} (QoS 0)", "low water at berth {n}")
        for blanks in ((" ", "\t", "\t\t", "  "), (": ", ": ", ": \t", ": "), (" ", " \t", "  ", " ")):
            lines = [
                f"{clock(i)}{blanks[i * i % 4]}" + says[i * i % 4 if i % 3 else i % 4].format(n=i, u=USERS[i % 5])
                for i in range(90)
            ]
            draft, events = events_of(lines)
            self.assertEqual({"complete"}, {event["state"] for event in events}, draft.text)
            for i, event in enumerate(events):
                if "of" not in lines[i]:
                    self.assertIn(i, event.values())

    def test_a_number_with_commas_is_one_value(self) -> None:
        amounts = [f"{i * 7919 * 131:,}" for i in range(1, 60)]
        heights = [f"{i},{i % 10}" for i in range(1, 60)]
        lines = [
            f"{clock(i)} gate moved {a} bytes at {b} m" for i, (a, b) in enumerate(zip(amounts, heights, strict=True))
        ]
        _, events = events_of(lines)
        for wanted in (amounts, heights):
            self.assertIn(wanted, [[str(event[name]) for event in events] for name in events[0]])

    def test_a_word_with_a_dash_stands_where_other_names_do(self) -> None:
        names = ("m.okoro", "svc-backup", "t.varela")
        for form in ("{name} moved {n} bytes", "192.0.2.7|{name}|opened berth {n}"):
            lines = [f"{clock(i)} " + form.format(name=names[i % 3], n=i) for i in range(60)]
            draft, events = events_of(lines)
            self.assertEqual(1, len(draft.messages), draft.text)
            self.assertIn(list(names) * 20, [[event[name] for event in events] for name in events[0]])

    def test_keys_in_braces_behind_a_name_have_digits_of_base_16_whole(self) -> None:
        rng = random.Random(11)
        values = [(rng.choice(USERS), f"{rng.getrandbits(16):04x}", rng.randint(1, 900)) for _ in range(300)]
        # digits that end in a letter may be taken for bits or days
        values += [(USERS[0], code, 1) for code in ("1234b", "123d", "12b", "4711d", "90b4")]
        for opening, closing in ("{}", "[]", "()"):
            draft, events = events_of(
                f"{clock(i)} INFO q.b.Service{opening}user={user}, req={code}{closing} - booked in {took}ms"
                for i, (user, code, took) in enumerate(values)
            )
            wanted = [(user, code) for user, code, _ in values]
            self.assertEqual(wanted, [(event["user"], event["req"]) for event in events], draft.text)
            self.assertEqual(1, len(draft.messages), draft.text)

    def test_hosts_are_addresses_or_names_with_their_ports(self) -> None:
        rng = random.Random(13)
        hosts = [rng.choice((f"192.0.2.{rng.randint(1, 99)}", "feed.tide.example", "quay.example")) for _ in range(200)]
        ports = [rng.choice((80, 443, rng.randint(1024, 65_000))) for _ in hosts]
        draft, events = events_of(
            f'{clock(i)} relay: asked {host}:{port} for "/tide": done' if i % 9 else f"{clock(i)} relay:"
            for i, (host, port) in enumerate(zip(hosts, ports, strict=True))
        )
        rows = [event for i, event in enumerate(events) if i % 9]
        names = [name for name in rows[0] if name.endswith(("host", "port"))]
        self.assertEqual(["host", "port"], [name.split("_")[-1] for name in names], draft.text)
        wanted = [(host, port) for i, (host, port) in enumerate(zip(hosts, ports, strict=True)) if i % 9]
        self.assertEqual(wanted, [tuple(event[name] for name in names) for event in rows], draft.text)
        self.assertNotIn('"/tide"', draft.text.split("cases:")[0])

    def test_json_that_is_cut_off_keeps_its_keys(self) -> None:
        rng = random.Random(12)
        values = [
            (rng.choice(("open", "shut")), rng.choice(USERS), rng.randint(1, 9), rng.randint(0, 60)) for _ in range(200)
        ]
        texts = [
            json.dumps({"act": act, "gate": gate, "who": {"user": user}, "note": "x" * length})[:90]
            for act, user, gate, length in values
        ]
        draft, events = events_of(f"{clock(i)} gated: {text}" for i, text in enumerate(texts))
        found = [
            tuple(event[name] or event[other] for name, other in (("act", "act"), ("user", "who.user")))
            for event in events
        ]
        self.assertEqual([(act, user) for act, user, _, _ in values], found, draft.text)

    def test_quotes_and_brackets_of_a_pattern_are_in_pairs(self) -> None:
        chance = random.Random(3)
        lines = [
            f"{clock(i)} " + chance.choice((
                f"crew as c{i} (p2, k60, u'{chance.choice(USERS)}').",
                f"feed on [2001:db8::{i + 1:x}]:{4000 + i} of (berth {i}).",
                f"said b\"{chance.choice(USERS)}\": ok",
            ))
            for i in range(60)
        ]  # fmt: skip
        draft, events = events_of(lines)
        for message in draft.messages:
            fixed = re.sub(r"\{[a-z0-9_]*(?::[^}]*)?\}", "", message.pattern).replace("[[", "").replace("]]", "")
            for opening, closing in ("()", "[]"):
                self.assertEqual(fixed.count(opening), fixed.count(closing), message.pattern)
            self.assertFalse(fixed.count("'") % 2 or fixed.count('"') % 2, message.pattern)
        for line, event in zip(lines, events, strict=True):
            for value in re.findall(r"[a-z]\.[a-z]+|2001:db8::[0-9a-f]+|(?<=:)4\d{3}|(?<=as )c\d+", line):
                self.assertIn(value, {str(item) for item in event.values()}, draft.text)

    def test_lines_with_little_but_signs_in_common_are_a_beginning_and_a_rest(self) -> None:
        chance = random.Random(4)
        signs = ("<<- ", "->> ", "-> [", "<- [ok] ", "* ", "{", "<x ")
        said = ("PING", '{"a":true}', "M [a", "b]", '"c"', ":")
        ends = ("", " {", " ]", " >")
        lines = [
            f"{clock(i)} 192.0.2.{i % 9}:{4000 + i} - cid:{i} - "
            + "".join(chance.choice(pieces) for pieces in (signs, said, ends))
            for i in range(80)
        ]
        draft, events = events_of(lines)
        for message in draft.messages:
            loose = [part for part in re.findall(r"\[\[(.*?)\]\]", message.pattern) if not re.search(r"\w", part)]
            self.assertLess(len(loose), 3, message.pattern)
        self.assertEqual({"complete"}, {event["state"] for event in events})
        self.assertEqual(list(range(80)), [event["cid"] for event in events])

    def test_a_query_of_a_database_is_no_query_for_a_name(self) -> None:
        lines = [
            f'ts={clock(i, "%Y-%m-%dT%H:%M:%SZ")} msg="Executing query" query="SELECT * FROM t{i}"' for i in range(20)
        ]
        self.assertNotIn(
            "DNS Activity", str([event["class_name"] for event in kinglet.draft(lines).parser.parse(lines).to_model()])
        )

    def test_a_key_called_as_the_field_of_another_is(self) -> None:
        pairs = [f"ts={clock(i, '%Y-%m-%dT%H:%M:%SZ')} log_id=a{i} id={i} user=m.okoro" for i in range(20)]
        objects = [re.sub(r"(\w+)=(\S+)", r'"\1":"\2"', line).replace(" ", ",").join("{}") for line in pairs]
        rows = ["ts,log_id,id,user", *(re.sub(r"\w+=", "", line).replace(" ", ",") for line in pairs)]
        for lines in (pairs, objects, rows):
            draft, events = events_of(lines)
            self.assertEqual([(f"a{i}", i) for i in range(20)], [(e["id_2"], e["log_id"]) for e in events], draft.text)
            text = "".join(f"{line}\n" for line in lines)
            looked = kinglet.load(kinglet.look(text)[0].suggestion).parse(text).events
            self.assertEqual([f"a{i}" for i in range(20)], looked["id_2"].to_list())
        dates = [f"log_date={clock(i, '%Y-%m-%d')} log_time={clock(i, '%H:%M:%S')} id={i} n={i}" for i in range(40)]
        for front in ("", "<134>"):
            draft, events = events_of(front + line for line in dates)
            self.assertEqual([START + timedelta(seconds=i) for i in range(40)], [e["time"] for e in events], draft.text)

    def test_a_key_called_as_a_field_of_the_head_is(self) -> None:
        lines = [
            f"{clock(i, '%b %d %H:%M:%S')} quay-1 gate[4]: user={USERS[i % 5]} "
            + (f"host=crane-{i} " if i % 3 else "")
            + (f"pid={i} stamp=s{i} " if i % 2 else "")
            + f"bytes={i}"
            for i in range(40)
        ]
        draft, events = events_of(lines)
        self.assertEqual({("quay-1", "4")}, {(event["host"], event["pid"]) for event in events}, draft.text)
        self.assertEqual([f"crane-{i}" if i % 3 else None for i in range(40)], [event["host_2"] for event in events])
        self.assertEqual([i if i % 2 else None for i in range(40)], [event["pid_2"] for event in events])
        self.assertEqual([START + timedelta(seconds=i) for i in range(40)], [event["time"] for event in events])
