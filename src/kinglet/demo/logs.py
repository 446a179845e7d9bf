"""The generators of the demo logs, one function each; the same seed gives the same bytes."""

from __future__ import annotations

import random
from collections.abc import Callable, Iterator
from datetime import datetime, timedelta
from zoneinfo import ZoneInfo

from kinglet.demo import scenario
from kinglet.demo.scenario import Entry

SEED = 20260302
_AZORES = ZoneInfo("Atlantic/Azores")
_LISBON = ZoneInfo("Europe/Lisbon")


def pump_panel(chance: random.Random) -> Iterator[Entry]:
    """Bunker pumps at Port Elder: a front part and message codes, local time, no year."""

    def entry(at: datetime, code: int, text: str, unit: str | None = None) -> Entry:
        unit = unit or f"P0{chance.randrange(1, 5)}"
        return Entry(at, f"{at.astimezone(_AZORES):%d/%b %H:%M:%S} {unit} PMP/{code} {text}")

    for at in scenario.working_hours(chance, 90):
        unit, pump = f"P0{chance.randrange(1, 5)}", chance.randrange(1, 7)
        yield entry(at, 4001, f"pump {pump} started", unit)
        seconds = chance.randrange(40, 2400)
        yield entry(at + timedelta(seconds=seconds), 4002, f"pump {pump} stopped after {seconds}s", unit)
    for at in scenario.working_hours(chance, 24):
        person = chance.choice(scenario.ENGINEERS)
        old = round(chance.uniform(30, 60), 1)
        place = f" from {scenario.HOMES[person]}" if chance.random() < 0.6 else ""
        new = round(old + chance.uniform(-4, 4), 1)
        yield entry(at, 4102, f"setpoint T{chance.randrange(1, 5)} {old} -> {new} by {person}{place}")
    for at in scenario.working_hours(chance, 30):
        yield entry(
            at,
            4300,
            f"tank T{chance.randrange(1, 5)} level {chance.uniform(12, 96):.1f} % temp {chance.uniform(8, 19):.1f} C",
        )
    yield entry(scenario.TAMPERED, 4102, "setpoint T2 40.0 -> 85.5 by m.okoro from 192.0.2.14", "P04")
    yield entry(scenario.TAMPERED + timedelta(minutes=3), 4001, "pump 3 started", "P04")
    at = scenario.START + timedelta(days=1, hours=9, minutes=30)
    yield entry(at, 4102, "setpoint T1 41.0 -> 43.5 by a.pires from 198.51.100.390", "P02")
    yield entry(at + timedelta(minutes=7), 4711, "service door open", "P02")
    yield entry(at + timedelta(minutes=9), 4102, "setpoint T1 43.5 -> by a.pires", "P02")


def jump_host(chance: random.Random) -> Iterator[Entry]:
    """The OpenSSH server at Sandwick Quay: a traditional syslog header, local time, no year."""
    pid = 3000

    def entry(at: datetime, text: str) -> Entry:
        local = at.astimezone(_LISBON)
        return Entry(at, f"{local:%b} {local.day:2} {local:%H:%M:%S} {scenario.JUMP_HOST} sshd[{pid}]: {text}")

    def session(at: datetime, person: str, address: str, method: str) -> Iterator[Entry]:
        port = chance.randrange(32768, 61000)
        key = " ssh2: ED25519 SHA256:" + "".join(chance.choices("abcdefghkmnpqrstuvwxyz23456789", k=43))
        yield entry(
            at,
            f"Accepted {method} for {person} from {address} port {port}" + (key if method == "publickey" else " ssh2"),
        )
        yield entry(
            at, f"pam_unix(sshd:session): session opened for user {person}(uid={1000 + len(person)}) by (uid=0)"
        )
        end = at + timedelta(minutes=chance.randrange(3, 90))
        yield entry(end, f"Received disconnect from {address} port {port}:11: disconnected by user")
        yield entry(end, f"Disconnected from user {person} {address} port {port}")
        yield entry(end, f"pam_unix(sshd:session): session closed for user {person}")

    for at in sorted(scenario.working_hours(chance, 45)):
        pid += chance.randrange(2, 90)
        person = chance.choice(scenario.ENGINEERS)
        address = scenario.HOMES[person]
        if chance.random() < 0.15:
            port = chance.randrange(32768, 61000)
            yield entry(at - timedelta(seconds=9), f"Failed password for {person} from {address} port {port} ssh2")
        yield from session(at, person, address, chance.choice(("publickey", "publickey", "password")))
    for at in sorted(scenario.working_hours(chance, 25)):
        pid += chance.randrange(2, 90)
        name, address = chance.choice(("admin", "quay", "test", "oracle")), f"203.0.113.{chance.randrange(2, 60)}"
        port = chance.randrange(32768, 61000)
        yield entry(at, f"Invalid user {name} from {address} port {port}")
        yield entry(at, f"Failed password for invalid user {name} from {address} port {port} ssh2")
        yield entry(at, f"Connection closed by invalid user {name} {address} port {port} [preauth]")
    pid += 7
    yield from session(scenario.JUMPED, "m.okoro", "192.0.2.14", "password")


def slipway_vpn(chance: random.Random) -> Iterator[Entry]:
    """The VPN gateway: key=value with quotes, epoch milliseconds, keys that are missing at times."""

    def entry(at: datetime, event: str, rest: str) -> Entry:
        return Entry(at, f"ts={int(at.timestamp() * 1000)} dev=slipway-1 event={event} {rest}")

    def login(at: datetime, person: str, address: str, reason: str = "", place: str = "") -> Entry:
        where = f' place="{place}"' if place else ""
        result = f'result=fail reason="{reason}"' if reason else "result=ok"
        return entry(at, "login", f'user="{person}" src={address}{where} {result}')

    number = 7100
    for at in scenario.working_hours(chance, 150):
        person = chance.choice(scenario.CREW)
        address = scenario.HOMES[person]
        place = chance.choice(("Sandwick Quay", "Port Elder", ""))
        if chance.random() < 0.12:
            yield login(at - timedelta(seconds=21), person, address, "bad password", place)
        yield login(at, person, address, place=place)
        number += 1
        yield entry(
            at + timedelta(seconds=1), "open", f'user="{person}" tunnel={number} addr=192.0.2.{number % 200 + 20}'
        )
        sent, received = chance.randrange(10_000, 90_000_000), chance.randrange(1_000, 4_000_000)
        yield entry(
            at + timedelta(minutes=chance.randrange(4, 240)),
            "close",
            f'user="{person}" tunnel={number} sent={sent} received={received}',
        )
    at = scenario.GUESSING
    while at < scenario.TAKEN - timedelta(seconds=30):
        yield login(at, scenario.VICTIM, scenario.STRANGER, "bad password")
        at += timedelta(seconds=chance.randrange(8, 40), milliseconds=chance.randrange(1000))
    yield login(scenario.TAKEN, scenario.VICTIM, scenario.STRANGER)
    yield entry(scenario.TAKEN + timedelta(seconds=1), "open", f'user="{scenario.VICTIM}" tunnel=7999 addr=192.0.2.14')


LOGS: dict[str, Callable[[random.Random], Iterator[Entry]]] = {
    "pump-panel": pump_panel,
    "jump-host": jump_host,
    "slipway-vpn": slipway_vpn,
}
"""The logs by the name of their parser."""


def log_text(name: str, seed: int = SEED) -> str:
    """A whole log, in the order in which its lines were written."""
    entries = sorted(LOGS[name](random.Random(f"{seed} {name}")), key=lambda entry: entry.at)
    return "".join(f"{entry.text}\n" for entry in entries)
