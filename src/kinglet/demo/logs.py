"""The generators of the demo logs, one function each; the same seed gives the same bytes."""

from __future__ import annotations

import gzip
import json
import random
from collections.abc import Callable, Iterator
from datetime import datetime, timedelta
from typing import NamedTuple
from zoneinfo import ZoneInfo

from kinglet.demo import scenario
from kinglet.demo.scenario import STORY, Entry, Story

SEED = 20260302
_AZORES = ZoneInfo("Atlantic/Azores")
_LISBON = ZoneInfo("Europe/Lisbon")


def _panel_entry(at: datetime, unit: str, code: int, text: str) -> Entry:
    return Entry(at, f"{at.astimezone(_AZORES):%d/%b %H:%M:%S} {unit} PMP/{code} {text}")


def pump_panel(story: Story, chance: random.Random) -> Iterator[Entry]:
    """Bunker pumps at Port Elder: a front part and message codes, local time, no year."""

    def entry(at: datetime, code: int, text: str, unit: str | None = None) -> Entry:
        return _panel_entry(at, unit or f"P0{chance.randrange(1, 5)}", code, text)

    for at in story.working_hours(chance, 90):
        unit, pump = f"P0{chance.randrange(1, 5)}", chance.randrange(1, 7)
        yield entry(at, 4001, f"pump {pump} started", unit)
        seconds = chance.randrange(40, 2400)
        yield entry(at + timedelta(seconds=seconds), 4002, f"pump {pump} stopped after {seconds}s", unit)
    for at in story.working_hours(chance, 24):
        person = chance.choice(scenario.ENGINEERS)
        old = round(chance.uniform(30, 60), 1)
        place = f" from {scenario.HOMES[person]}" if chance.random() < 0.6 else ""
        new = round(old + chance.uniform(-4, 4), 1)
        yield entry(at, 4102, f"setpoint T{chance.randrange(1, 5)} {old} -> {new} by {person}{place}")
    for at in story.working_hours(chance, 30):
        yield entry(
            at,
            4300,
            f"tank T{chance.randrange(1, 5)} level {chance.uniform(12, 96):.1f} % temp {chance.uniform(8, 19):.1f} C",
        )
    yield entry(story.tampered, 4102, "setpoint T2 40.0 -> 85.5 by m.okoro from 192.0.2.14", "P04")
    yield entry(story.tampered + timedelta(minutes=3), 4001, "pump 3 started", "P04")


def pump_bench(story: Story, chance: random.Random) -> Iterator[Entry]:
    """A pump panel on the workshop's bench, its firmware not finished: three of its lines are wrong."""
    at = story.start + timedelta(days=1, hours=9, minutes=30)
    for minute in range(0, 90, 9):
        pump, seconds = chance.randrange(1, 7), chance.randrange(40, 300)
        start = at + timedelta(minutes=minute)
        yield _panel_entry(start, "P09", 4001, f"pump {pump} started")
        yield _panel_entry(start + timedelta(seconds=seconds), "P09", 4002, f"pump {pump} stopped after {seconds}s")
    for minute in range(6, 90, 18):
        level, warmth = chance.uniform(12, 96), chance.uniform(8, 19)
        yield _panel_entry(
            at + timedelta(minutes=minute), "P09", 4300, f"tank T1 level {level:.1f} % temp {warmth:.1f} C"
        )
    yield _panel_entry(at, "P09", 4102, "setpoint T1 40.0 -> 41.0 by a.pires from 198.51.100.90")
    at += timedelta(minutes=30)
    yield _panel_entry(at, "P09", 4102, "setpoint T1 41.0 -> 43.5 by a.pires from 198.51.100.390")
    yield _panel_entry(at + timedelta(minutes=7), "P09", 4711, "service door open")
    yield _panel_entry(at + timedelta(minutes=9), "P09", 4102, "setpoint T1 43.5 -> by a.pires")


def jump_host(story: Story, chance: random.Random) -> Iterator[Entry]:
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

    for at in sorted(story.working_hours(chance, 45)):
        pid += chance.randrange(2, 90)
        person = chance.choice(scenario.ENGINEERS)
        address = scenario.HOMES[person]
        if chance.random() < 0.15:
            port = chance.randrange(32768, 61000)
            yield entry(at - timedelta(seconds=9), f"Failed password for {person} from {address} port {port} ssh2")
        yield from session(at, person, address, chance.choice(("publickey", "publickey", "password")))
    for at in sorted(story.working_hours(chance, 25)):
        pid += chance.randrange(2, 90)
        name, address = chance.choice(("admin", "quay", "test", "oracle")), f"203.0.113.{chance.randrange(2, 60)}"
        port = chance.randrange(32768, 61000)
        yield entry(at, f"Invalid user {name} from {address} port {port}")
        yield entry(at, f"Failed password for invalid user {name} from {address} port {port} ssh2")
        yield entry(at, f"Connection closed by invalid user {name} {address} port {port} [preauth]")
    pid += 7
    yield from session(story.jumped, "m.okoro", "192.0.2.14", "password")


def slipway_vpn(story: Story, chance: random.Random) -> Iterator[Entry]:
    """The VPN gateway: key=value with quotes, epoch milliseconds, keys that are missing at times."""

    def entry(at: datetime, event: str, rest: str) -> Entry:
        return Entry(at, f"ts={int(at.timestamp() * 1000)} dev=slipway-1 event={event} {rest}")

    def login(at: datetime, person: str, address: str, reason: str = "", place: str = "") -> Entry:
        where = f' place="{place}"' if place else ""
        result = f'result=fail reason="{reason}"' if reason else "result=ok"
        return entry(at, "login", f'user="{person}" src={address}{where} {result}')

    number = 7100
    for at in story.working_hours(chance, 150):
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
    at = story.guessing
    while at < story.taken - timedelta(seconds=30):
        yield login(at, scenario.VICTIM, scenario.STRANGER, "bad password")
        at += timedelta(seconds=chance.randrange(8, 40), milliseconds=chance.randrange(1000))
    yield login(story.taken, scenario.VICTIM, scenario.STRANGER)
    yield entry(story.taken + timedelta(seconds=1), "open", f'user="{scenario.VICTIM}" tunnel=7999 addr=192.0.2.14')


def kiosk_app(story: Story, chance: random.Random) -> Iterator[Entry]:
    """Ticket kiosks at both harbours: a severity, JSON behind the message, errors over several lines."""

    def entry(at: datetime, severity: str, kiosk: str, text: str, **values: object) -> Entry:
        zone = _LISBON if kiosk.startswith("SQ") else _AZORES
        stamp = at.astimezone(zone).isoformat(timespec="milliseconds")
        tail = " " + json.dumps(values) if values else ""
        return Entry(at, f"{severity:<5} {stamp} [{kiosk}] {text}{tail}")

    for at in story.working_hours(chance, 120):
        kiosk = f"{chance.choice(('SQ', 'PE'))}-{chance.randrange(1, 5)}"
        price = chance.choice((640, 1280, 2150))
        ticket = f"T{chance.randrange(100_000, 999_999)}"
        vessel = chance.choice(scenario.VESSELS)
        yield entry(at, "INFO", kiosk, "ticket sold", ticket=ticket, cents=price, vessel=vessel)
        if chance.random() < 0.3:
            later = at + timedelta(seconds=chance.randrange(2, 30))
            yield entry(later, "WARN", kiosk, f"printer slow: {chance.randrange(900, 4000)} ms")
        if chance.random() < 0.15:
            later = at + timedelta(seconds=chance.randrange(30, 60))
            booked = at.astimezone(_LISBON).strftime("%d/%m/%Y")
            trace = (
                f"payment failed for {ticket}\n"
                "kiosk.pay.TerminalError: no answer\n"
                f"    at kiosk.pay.Terminal.send(Terminal.java:{chance.choice((88, 91))})\n"
                "    at kiosk.pay.Terminal.pay(Terminal.java:41)\n"
                f"Caused by: kiosk.net.Timeout: 2000 ms, booked {booked}\n"
                "    ... 12 more"
            )
            yield entry(later, "ERROR", kiosk, trace)
        if chance.random() < 0.4:
            owner = chance.randrange(len(scenario.CREW))
            borrowed = owner == scenario.CREW.index("s.amadi") and chance.random() < 0.4
            person = "t.varela" if borrowed else scenario.CREW[owner]
            yield entry(
                at + timedelta(minutes=3), "INFO", kiosk, "service card read", card=f"staff-{20 + owner}", user=person
            )


def winch_audit(story: Story, chance: random.Random) -> Iterator[Entry]:
    """Mooring winches: labelled blocks with tabs, in which the same label stands twice."""
    number = 4100
    for at in sorted(story.working_hours(chance, 70)):
        number += 1
        local = at.astimezone(_AZORES)
        person = chance.choice(scenario.CREW)
        before, after = chance.randrange(20, 60), chance.randrange(20, 90)
        remote = chance.random() < 0.3
        lines = [
            f"Winch record {number}",
            f"Time:\t\t{local:%d/%m/%Y %H:%M:%S}",
            f"Winch:\t\tW{chance.randrange(1, 4)}",
            "Operator:",
            f"\tName:\t\t{person}",
            f"\tStation:\t{'remote' if remote else 'deck'}",
            "Before:",
            f"\tTension:\t{before} kN",
            "After:",
            f"\tTension:\t{after} kN",
        ]
        if remote:
            lines.insert(6, f"\tAddress:\t{scenario.HOMES[person]}")
        yield Entry(at, "\n".join([*lines, ""]))


def manifest_store(story: Story, chance: random.Random) -> Iterator[Entry]:
    """The store of passenger and cargo manifests: nested JSON, one object a line, kept packed."""
    request = 880_000

    def entry(at: datetime, action: str, user: str, address: str, item: str, status: int = 200) -> Entry:
        nonlocal request
        request += 1
        record: dict[str, object] = {
            "time": at.isoformat(timespec="milliseconds").replace("+00:00", "Z"),
            "request": {
                "id": f"r-{request}",
                "action": action,
                "from": {"ip": address, "port": 1024 + request % 60_000},
            },
            "user": {"name": user, "roles": ["crew"] if user in scenario.CREW else []},
            "manifest": {"id": item, "vessel": chance.choice(scenario.VESSELS)},
            "status": status,
        }
        if status == 200:
            record["bytes"] = chance.randrange(900, 60_000)
        return Entry(at, json.dumps(record))

    def manifest() -> str:
        return f"M-{chance.randrange(2000, 2600)}"

    for at in story.working_hours(chance, 160):
        person = chance.choice(scenario.CREW)
        action = chance.choice(("read", "read", "read", "list", "write"))
        status = 403 if action == "write" and chance.random() < 0.2 else 200
        yield entry(at, action, person, scenario.HOMES[person], manifest(), status)
    for i in range(140):
        yield entry(story.reading + timedelta(seconds=2 * i), "read", scenario.VICTIM, scenario.TUNNEL, f"M-{2000 + i}")


def resolver(story: Story, chance: random.Random) -> Iterator[Entry]:
    """The name resolver at Sandwick Quay: comma-separated values with a header."""
    yield Entry(story.start, "time,client,name,type,answer,milliseconds")
    names = ("tide.marram.example", "tickets.marram.example", "jump-1.sandwick.example", "store.marram.example")
    for at in story.working_hours(chance, 220):
        name = chance.choice(names)
        kind = chance.choice(("A", "A", "A", "AAAA", "TXT"))
        answer = {"A": f"192.0.2.{10 + names.index(name)}", "AAAA": f"2001:db8::{10 + names.index(name):x}"}.get(
            kind, f'"""v=1, host={name}"""'
        )
        if chance.random() < 0.06:
            name, answer = f"{chance.randrange(16**6):06x}.{name}", "NXDOMAIN"
        client = scenario.HOMES[chance.choice(scenario.CREW)]
        yield Entry(at, f"{at.timestamp():.3f},{client},{name},{kind},{answer},{chance.uniform(0.2, 40):.1f}")
    at = story.reading - timedelta(seconds=20)
    yield Entry(at, f"{at.timestamp():.3f},{scenario.TUNNEL},store.marram.example,A,192.0.2.13,1.1")


def harbour_radar(story: Story, chance: random.Random) -> Iterator[Entry]:
    """The radar station of Port Elder writes UTF-16 rows, whose remarks go on over line ends."""
    yield Entry(story.start, "Hora;Alvo;Navio;Distância;Observação")
    remarks = (
        "", "", '"Rumo estável"', '"Chamada sem resposta;\r\nsegunda tentativa"', '"Piloto «a.pires» a bordo"',
        '"Visibilidade < 2 mn\r\nNevoeiro, velocidade reduzida\r\n"',
    )  # fmt: skip
    track = 300
    for at in sorted(story.working_hours(chance, 110)):
        track += chance.random() < 0.4
        local = at.astimezone(_AZORES)
        distance = f"{chance.uniform(0.3, 24):.1f}".replace(".", ",")
        vessel = scenario.VESSELS[track % 4]
        yield Entry(at, f"{local:%d.%m.%Y %H:%M:%S};{track};{vessel};{distance};{chance.choice(remarks)}")


class DemoForm(NamedTuple):
    """A log: what writes its entries, what its file is called, and how its text becomes bytes."""

    entries: Callable[[Story, random.Random], Iterator[Entry]]
    suffix: str = ".log"
    encode: Callable[[str], bytes] = str.encode


def _packed(text: str) -> bytes:
    return gzip.compress(text.encode(), mtime=0)


def _utf16(text: str) -> bytes:
    return text.replace("\r\n", "\n").replace("\n", "\r\n").encode("utf-16")


LOGS: dict[str, DemoForm] = {
    "pump-panel": DemoForm(pump_panel),
    "slipway-vpn": DemoForm(slipway_vpn),
    "jump-host": DemoForm(jump_host),
    "kiosk-app": DemoForm(kiosk_app),
    "winch-audit": DemoForm(winch_audit),
    "manifest-store": DemoForm(manifest_store, ".json.gz", _packed),
    "resolver": DemoForm(resolver, ".csv"),
    "harbour-radar": DemoForm(harbour_radar, ".csv", _utf16),
}
"""The logs by the name of their parser."""
BENCH = "pump-bench"
_ALL = {**LOGS, BENCH: DemoForm(pump_bench)}


def log_text(name: str, seed: int = SEED, story: Story = STORY) -> str:
    """A whole log, or that of the bench, as text, in the order in which its entries were written."""
    entries = sorted(_ALL[name].entries(story, random.Random(f"{seed} {name}")), key=lambda entry: entry.at)
    return "".join(f"{entry.text}\n" for entry in entries)


def log_bytes(name: str, seed: int = SEED, story: Story = STORY) -> bytes:
    """A whole log as it lies on the disk."""
    return _ALL[name].encode(log_text(name, seed, story))
