"""Stamps of any form, behind any head, in any structure: what `look` says is held against the generator's truth."""

from __future__ import annotations

import json
import random
import unittest
from collections.abc import Callable
from datetime import UTC, datetime, timedelta, timezone

import kinglet
from tests.helpers import suggestion

DATES = (
    "%Y-%m-%d", "%Y/%m/%d", "%Y.%m.%d", "%d.%m.%Y", "%d/%b/%Y", "%d-%b-%Y", "%d %b %Y", "%b %d %Y", "%b %d, %Y",
    "%Y%m%d", "%a %b %d %Y", "%d %B %Y",
)  # fmt: skip
CLOCKS = ("%H:%M:%S", "%H:%M:%S.%3", "%H:%M:%S,%3", "%I:%M:%S %p", "%H:%M:%S.%f")
BETWEEN = (" ", "T", "  ", "|", "\t", ", ", " at ", " - ", ";", "_")
ZONES = ("", "", "", "Z", " UTC", "+00:00", " +0000")
WHOLE = (
    "%b %e %H:%M:%S", "%a %b %e %H:%M:%S %Y", "%d/%b/%Y:%H:%M:%S +0000", "%Y-%m-%dT%H:%M:%S.%3Z", "%s", "%s%3", "%s.%3",
    "%a, %d %b %Y %H:%M:%S +0000", "%Y%m%dT%H%M%SZ", "%Y%m%d%H%M%S", "%d/%b %H:%M:%S",
)  # fmt: skip
ZONED = (
    "%Y-%m-%dT%H:%M:%S%z", "%Y-%m-%d %H:%M:%S.%3 %z", "%d/%b/%Y:%H:%M:%S %z", "%d.%m.%Y %H:%M:%S %z",
    "%a %b %d %H:%M:%S %Y %z", "%a, %d %b %Y %H:%M:%S %z", "%b %d %Y %H:%M:%S %z", "%Y-%m-%d|%H:%M:%S|%z",
    "%Y-%m-%d %H:%M:%S CET", "%a %b %d %H:%M:%S CET %Y",
)  # fmt: skip
HEADS = {
    "": "", "[": "]", "(": ")", "<13>": "", "quay-# ": "", "@ ": "", "LEVEL ": "", "LEVEL: ": "", "@ - USER [": "]",
    "{": "}", "ts=": "", 'time="': '"', "app[#]: ": "", "| ": "", "at ": "", '"': '"', "2001:db8::# ": "", " ": "",
}  # fmt: skip
TAILS = (
    "door # opened by USER",
    "USER@ cmd=ls rc=#",
    "src=@ dst=@ act=deny",
    "pump #: 3.5 bar",
    ": low tide",
    "LEVEL -",
)
USERS = ("m.okoro", "t.varela", "a.pires", "s.amadi")


def filled(rng: random.Random, text: str) -> str:
    """A text with values for what stands for one."""
    values: dict[str, Callable[[], str]] = {
        "#": lambda: str(rng.randrange(1, 9999)), "USER": lambda: rng.choice(USERS),
        "LEVEL": lambda: rng.choice(("INFO", "WARN", "ERROR")), "@": lambda: f"192.0.2.{rng.randrange(1, 250)}",
    }  # fmt: skip
    for name, value in values.items():
        while name in text:
            text = text.replace(name, value(), 1)
    return text


def stamp(moment: datetime, form: str) -> str:
    text = form.replace("%3", f"{moment.microsecond // 1000:03}").replace("%s", str(int(moment.timestamp())))
    return moment.strftime(text)


def moments(rng: random.Random, form: str) -> list[datetime]:
    """Instants that a form can tell."""
    at = datetime(2026, 11, rng.randrange(14, 20), rng.randrange(24), tzinfo=UTC)
    step, found = rng.choice((3, 200, 2000)), []
    for _ in range(rng.choice((12, 60, 120))):
        at += timedelta(seconds=rng.randrange(1, step), microseconds=rng.randrange(10**6))
        micros = at.microsecond if "%f" in form else at.microsecond // 1000 * 1000 if "%3" in form else 0
        found.append(at.replace(microsecond=micros))
    return found


class Forms(unittest.TestCase):
    def held(self, lines: list[str], wanted: list[datetime]) -> None:
        """What is suggested reads every event, and every time."""
        log = ("\n".join(lines) + "\n").encode()
        parser = kinglet.load(suggestion(log))
        events = parser.parse(log, reference_time="2026-11-30").events
        self.assertEqual(len(wanted), events.height)
        wrong = [(line, time) for line, want, time in zip(lines, wanted, events["time"], strict=True) if want != time]
        self.assertEqual([], wrong[:2])

    def test_lines_of_text(self) -> None:
        for seed in range(14):
            rng = random.Random(seed)
            date, between, clock = rng.choice(DATES), rng.choice(BETWEEN), rng.choice(CLOCKS)
            zone = rng.choice(ZONES) if "%p" not in clock else ""
            form = f"{date}{between}{clock}{zone}"
            if rng.random() < 0.15:
                form = f"{clock}{between.replace('T', ' ')}{date}"
            form = rng.choice(WHOLE) if rng.random() < 0.3 else form
            head, tail = rng.choice(list(HEADS)), rng.choice(TAILS)
            wanted = moments(rng, form)
            lines = [
                f"{filled(rng, head)}{stamp(at, form)}{HEADS[head]} {filled(rng, tail)}"
                + ("\n    at quay.Berth.moor(Berth.java:7)" if seed % 4 == 0 and rng.random() < 0.5 else "")
                for at in wanted
            ]
            with self.subTest(seed=seed, form=form, head=head, tail=tail):
                self.held(lines, wanted)

    def test_structure_zones_and_a_second_stamp(self) -> None:
        for seed in range(14):
            rng = random.Random(seed + 1000)
            zoned = rng.random() < 0.5
            between = rng.choice([one for one in BETWEEN if one != "\t"])  # JSON writes a tab as an escape
            form = rng.choice(ZONED) if zoned else rng.choice(DATES) + between + rng.choice(CLOCKS)
            minutes = 60 if "CET" in form else rng.choice((60, 120, -300, 540, 0, 330))
            zone = timezone(timedelta(minutes=minutes)) if zoned else UTC
            key = rng.choice(("time", "ts", "timestamp", "when", "at", "date", "eventTime"))
            wanted, lines = moments(rng, form), []
            way = rng.choice(("json", "within", "pairs", "csv", "semicolons", "bars", "second", "plain"))
            for i, at in enumerate(wanted):
                text = stamp(at.astimezone(zone), form)
                born = (at - timedelta(days=rng.randrange(20, 600))).strftime("%Y-%m-%dT%H:%M:%SZ")
                user, address = rng.choice(USERS), f"192.0.2.{rng.randrange(1, 250)}"
                lines.append(
                    {
                        "json": json.dumps({"n": i, key: text, "user": user, "born": born}, separators=(",", ":")),
                        "within": json.dumps({"meta": {key: text, "v": 2}, "msg": f"login of {user}"}),
                        "pairs": f'dev=gate-{rng.randrange(4)} {key}="{text}" user={user} src={address} n={i}',
                        "csv": f'{rng.randrange(9999)},"{text}",{user},{address},ok',
                        "semicolons": f"{user};{text};{address};{born};{i}",
                        "bars": f"{text}|{user}|{address}|valid until {born}",
                        "second": f"{user} born {born} seen {text} at {address}",
                        "plain": f"{text} {user}@{address} door {i}",
                    }[way]
                )
            with self.subTest(seed=seed, form=form, way=way):
                self.held(lines, wanted)

    def test_events_of_several_lines(self) -> None:
        ways = ("block", "within", "begin-end", "rules", "trace", "dates", "title", "pretty", "tabs", "separator")
        for seed in range(10):
            rng = random.Random(seed + 2000)
            way = ways[seed % len(ways)]
            form = rng.choice(WHOLE) if rng.random() < 0.4 else f"{rng.choice(DATES)} {rng.choice(CLOCKS)}"
            wanted, events = moments(rng, form), []
            for i, at in enumerate(wanted):
                text, user, more = stamp(at, form), rng.choice(USERS), rng.random() < 0.5
                born = (at - timedelta(days=rng.randrange(20, 600))).strftime("%Y-%m-%d %H:%M:%S")
                events.append(
                    {
                        "block": f"Time: {text}\nUser: {user}\nFrom: 192.0.2.7\nResult: ok\n",
                        "within": f"Record {i}\nUser: {user}\nTime: {text}\nFrom: 192.0.2.7\n",
                        "begin-end": f"BEGIN {text} {user}\n address 192.0.2.7\nEND",
                        "rules": f"--------\n{text}\n{user} from 192.0.2.7",
                        "trace": f"{text} ERROR of {user}" + "\nTraceback:\n  File a.py\nValueError: bad" * more,
                        "dates": f"{text} INFO ticket of {user}" + f"\n  issued {born}\n  by 192.0.2.7" * more,
                        "title": f"=== {text} ===\naction: read\nuser: {user}",
                        "pretty": json.dumps({"at": text, "user": user, "n": i}, indent=2),
                        "tabs": f"Audit record:\n\tTime:\t{text}\n\tUser:\t{user}\n\tAddress:\t192.0.2.7\n",
                        "separator": f"{text} session of {user}\nfrom 192.0.2.7\nstate open\n---",
                    }[way]
                )
            with self.subTest(seed=seed, form=form, way=way):
                self.held(events, wanted)


if __name__ == "__main__":
    unittest.main()
