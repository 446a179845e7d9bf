# ruff: noqa: E501
"""Clean parsers, and changes to them: one that plants a fault of a rule, and one like it that does not."""

from __future__ import annotations

from typing import NamedTuple

LOCK = r"""kinglet: 1
parser: lock-gate
version: 1.0.0
product: {vendor: Brackwater, name: LockGate}

claims: {path: "*lock-gate*"}

time:
  from: stamp
  format: "%Y-%m-%d %H:%M:%S"
  zone: Europe/Lisbon

envelope: '{stamp:time} {unit:word} LG/{code:int} {body:rest}'
kind: code

event:
  class: Entity Management
  severity: Informational
  set: {entity.type: {text: lock gate}, device.name: unit, device.type_id: 0}

variants:
  - name: level-set
    kind: 10
    pattern: 'level of {basin:word} {old:num} to {new:num} by {user:word}[[ from {client:ip}]]'
    event:
      activity: Update
      status: Success
      set: {actor.user.name: user, src_endpoint.ip: client, entity.name: basin}
  - name: gate-moved
    kind: [20, 21]
    pattern: 'gate {gate:int} {verb:raised|lowered} in {basin:word}'
    event:
      activity: Other
      set: {activity_name: verb, entity.name: basin}
  - name: pump-read
    kind: 30
    pattern: 'pump {pump:int} runs {hours:num} h'
    event:
      activity: Read
      set: {entity.name: "'pump ' || CAST(pump AS VARCHAR)"}

cases:
  - raw: '2026-03-03 22:10:41 G4 LG/10 level of T2 40.0 to 85.5 by m.okoro from 192.0.2.14'
    expect: {variant: level-set, basin: T2, old: 40, new: 85.5, client: 192.0.2.14}
  - raw: '2026-03-03 22:12:41 G4 LG/10 level of T2 40.0 to 85.5 by m.okoro'
    expect: {variant: level-set, client: null}
  - raw: '2026-03-03 22:14:41 G4 LG/20 gate 3 raised in T2'
    expect: {variant: gate-moved, gate: 3, verb: raised}
  - raw: '2026-03-03 22:15:41 G4 LG/21 gate 3 lowered in T2'
    expect: {variant: gate-moved, verb: lowered}
  - raw: '2026-03-03 22:16:41 G4 LG/30 pump 3 runs 12.5 h'
    expect: {variant: pump-read, pump: 3, hours: 12.5}
"""

DOOR = r"""kinglet: 1
parser: harbour-door
version: 2.1.0
product: {vendor: Quayline, name: Doors}

events: {start: '^\d{4}-\d{2}-\d{2}'}

time: {from: stamp, format: iso8601}

types:
  badge: {regex: '[A-Z]{2}[0-9]{4}', about: a badge}

parts: {who: '{user:word} with {badge:badge}'}
envelope: '{stamp:time} {door:word}: {body:rest}'

event:
  class: Authentication
  severity: Low
  set: {user.name: user, service.name: door}

variants:
  - name: opened
    pattern: 'opened by {@who}[[ at {reader:ip}]]'
    event: {activity: Logon, status: Success, set: {user.credential_uid: badge, src_endpoint.ip: reader}}
  - name: refused
    regex: '^refused (?P<user>\S+) (?P<tries>\d+) times(?: since (?P<since>\d{2}:\d{2}))?$'
    types: {tries: int}
    event: {activity: Logon, status: Failure, set: {count: tries}}
  - name: version
    regex: '^door release (?P<release>\d+\.\d+)$'
    types: {release: num}
    event: {class: Base Event, set: {user.name: null, service.name: null, message: "'release ' || release"}}

steps:
  - note: doors are printed in capitals
    set: {door: LOWER(door)}

cases:
  - raw: '2026-03-03T22:10:41Z NORTH: opened by m.okoro with AB1234 at 192.0.2.9'
    expect: {variant: opened, user: m.okoro, badge: AB1234, door: north}
  - raw: '2026-03-03T22:11:41Z NORTH: opened by a.pires with AB1235'
    expect: {variant: opened, reader: null}
  - raw: '2026-03-03T22:12:41Z NORTH: refused t.varela 3 times since 21:55'
    expect: {variant: refused, tries: 3, since: '21:55'}
  - raw: '2026-03-03T22:13:41Z NORTH: refused t.varela 3 times'
    expect: {variant: refused, since: null}
  - raw: '2026-03-03T22:14:41Z NORTH: door release 4.2'
    expect: {variant: version, release: 4.2}
"""

TIDE = r"""kinglet: 1
parser: tide-feed
version: 1.0.0
product: {vendor: Tidewall, name: Feed}

time: {from: ts, format: epoch_ms}

envelope:
  pairs: true
  types: {ts: time, dev: host, ev: word, user: word, src: ip, level: int, result: word, mode: word}
kind: ev

event:
  class: API Activity
  set: {actor.user.name: user, src_endpoint.ip: src, api.service.name: dev, api.operation: ev}
  translate: {severity: {from: level, to: {1: Informational, 2: Low, 3: High}}}

variants:
  - name: asked
    kind: ask
    event: {activity: Read, translate: {status: {from: result, to: {ok: Success, no: Failure}}}}
  - name: written
    kind: write
    event: {activity: Update, status: Success}

cases:
  - raw: 'ts=1772674260000 dev=tide-1.example ev=ask user=t.varela src=203.0.113.77 level=1 result=ok mode=fast'
    expect: {variant: asked, user: t.varela, level: 1}
  - raw: 'ts=1772674261000 dev=tide-1.example ev=ask user=t.varela src=203.0.113.77 level=2 result=no'
    expect: {variant: asked, result: 'no'}
  - raw: 'ts=1772674262000 dev=tide-1.example ev=write user=t.varela src=203.0.113.77 level=3'
    expect: {variant: written}
"""

GULL = r"""kinglet: 1
parser: gull-watch
version: 1.0.0
product: {vendor: Quayline, name: Gulls}
clock: {zones: {CST: '-06:00'}}
time:
  from: stamp
  format: "%Y-%m-%d %H:%M:%S %Z"
variants:
  - name: seen
    pattern: '[{stamp:time}] {count:int} gulls at {place:text}'
    event: {class: Base Event, severity: Informational, set: {message: "'gulls at ' || place", count: count}}
cases:
  - raw: '[2026-03-03 22:10:41 CST] 4 gulls at the fish quay'
    expect: {variant: seen, time: 2026-03-04T04:10:41Z, count: 4, place: the fish quay}
"""

BASES = {"gull": GULL, "lock": LOCK, "door": DOOR, "tide": TIDE}


class Planted(NamedTuple):
    """A fault: in which parser, what is changed to plant it, and what in a change like it that is none.

    at: a text on the line at which it is found. also: codes of what follows from it.
    """

    code: str
    base: str
    old: str
    bad: str
    at: str
    good: str
    also: tuple[str, ...] = ()


_CASES = "cases:\n"
_VARIANTS = "variants:\n"
_LOCK_GENERAL = "  - name: any\n    kind: [10, 20, 21, 30]\n    pattern: '{what:text}'\n    event: {activity: Other, set: {entity.name: what}}\n"
_ANY_CASE = "  - raw: '2026-03-03 22:20:41 G4 LG/30 odd'\n    expect: {variant: any}\n"
_SPECIAL = "  - name: pump-idle\n    kind: 30\n    pattern: 'pump {pump:int} runs 0 h'\n    event: {activity: Read}\n"
_SPECIAL_CASE = "  - raw: '2026-03-03 22:20:41 G4 LG/30 pump 3 runs 0 h'\n    expect: {variant: pump-idle}\n"

PLANTED: tuple[Planted, ...] = (
    # variants
    Planted("V02", "lock", _VARIANTS, _VARIANTS + _LOCK_GENERAL, "name: level-set",
            _VARIANTS),
    Planted("V02", "lock", "  - name: pump-read", _LOCK_GENERAL.replace("[10, 20, 21, 30]", "30") + "  - name: pump-read",
            "name: pump-read", "  - name: pump-read"),
    Planted("V04", "lock", _CASES, "  - name: pump-again\n    kind: 30\n    pattern: 'pump {pump:int} runs {hours:num} h'\n"
            "    event: {activity: Read, set: {entity.name: unit}}\n" + _CASES, "name: pump-again", _CASES),
    Planted("V04", "lock", "kind: [20, 21]", "kind: [20, 21, 20]", "kind: [20", "kind: [20, 21, 22]"),
    Planted("V01", "lock", _CASES, "  - name: pump-digits\n    kind: 30\n"
            "    pattern: 'pump {number:int} runs {time_run:num} h'\n    event: {activity: Read, set: {entity.name: unit}}\n"
            + _CASES, "name: pump-digits", _CASES),
    Planted("V03", "lock", "  - name: pump-read", "  - name: pump-one\n    kind: 30\n"
            "    pattern: 'pump {pump:int} {does:word} {left:int} h'\n    event: {activity: Read, set: {entity.name: does}}\n"
            "  - name: pump-read", "name: pump-read", "  - name: pump-read", ("C01",)),
    Planted("V02", "door", "  - name: refused\n", "  - name: other\n    pattern: '{what:text}'\n    event: {class: Base Event, "
            "set: {user.name: null, service.name: null, message: what}}\n  - name: refused\n", "name: refused", "  - name: refused\n"),
    Planted("V04", "tide", "    kind: write\n", "    kind: [write, write]\n", "kind: [write", "    kind: [write, change]\n"),
    Planted("V04", "tide", _CASES, "  - name: asked-again\n    kind: ask\n    event: {activity: Read, status: Success}\n\n"
            + _CASES, "name: asked-again", _CASES),
    # regexes and patterns
    Planted("R01", "door", r"'^refused (?P", r"'refused (?P", "regex: 'refused", r"'^(?i:refused) (?P"),
    Planted("R01", "door", r"\d{2}:\d{2}))?$'", r"\d{2}:\d{2}))?'", "regex: '^refused", r"\d{2}:\d{2}))?\s*$'"),
    Planted("R01", "door", r"{start: '^\d{4}", r"{start: '\d{4}", "start: '", r"{start: '^[0-9]{4}"),
    Planted("R01", "door", r"'^door release (?P<release>\d+\.\d+)$'", r"'door release (?P<release>\d+\.\d+)'",
            "regex: 'door", r"'^door release (?P<release>\d{1,3}\.\d+)$'"),
    Planted("R02", "door", r"\d+\.\d+", r"\d+.\d+", "regex: '^door", r"\d+[.]\d+"),
    Planted("R02", "door", r"'^\d{4}-\d{2}", r"'^\d{4}-\d{2}(?: 1.2)?", "start: '", r"'^\d{4}-\d{2}(?:1\.2)?"),
    Planted("R02", "door", "regex: '[A-Z]{2}[0-9]{4}'", "regex: '[A-Z]{2}[0-9]{4}(?:0.1)?'", "badge: {regex",
            r"regex: '[A-Z]{2}[0-9]{4}(?:0\.1)?'"),
    Planted("R03", "door", r"^refused (?P<user>\S+) ", r"^refused (?P<user>.+) ", "regex: '^refused",
            r"^refused (?P<user>[^ ]+) "),
    Planted("R03", "door", r"^refused (?P<user>\S+) ", r"^refused.* (?P<user>\S+) ", "regex: '^refused",
            r"^refused[^ ]* (?P<user>\S+) "),
    Planted("R04", "lock", "by {user:word}[[ from {client:ip}]]", "by {user:text}[[ from {client:ip}]]", "pattern: 'level",
            "by {user:word}[[ out of {client:ip}]]"),
    Planted("R04", "door", "[[ at {reader:ip}]]", "[[ at {reader:ip}]][[ {:rest}]]", "pattern: 'opened",
            "[[ at {reader:ip}]][[ {:int}]]"),
    Planted("R05", "door", r"(?: since (?P<since>\d{2}:\d{2}))?$", r"(?:(?P<word>[\w ]+)|(?P<since>[a-z]+))?$",
            "regex: '^refused", r"(?: since (?P<since>\d{2}:\d{2}))?$"),
    Planted("R06", "lock", "[[ from {client:ip}]]", "[[ from {client:word}]]", "pattern: 'level", "[[ from {client:ipv4}]]"),
    Planted("R06", "tide", "src: ip,", "src: word,", "types: {ts", "src: ipv4,"),
    Planted("R07", "door", "    types: {tries: int}\n", "", "regex: '^refused", "    types: {tries: num}\n"),
    Planted("R07", "door", "    types: {release: num}\n", "", "regex: '^door", "    types: {release: text}\n"),
    # speed
    Planted("S01", "door", r"^refused (?P<user>\S+)", r"^refused (?!by)(?P<user>\S+)", "regex: '^refused",
            r"^refused (?P<user>\S+)"),
    Planted("S02", "door", r"^refused (?P<user>\S+)", r"^refused (?!by)(?P<user>(?:\w+\.?)+)", "regex: '^refused",
            r"^refused (?P<user>(?:\w+\.?)+)"),
    Planted("S02", "door", r"^door release (?P<release>\d+\.\d+)$", r"^(?<!x)(?:d|do|o|or|r| )*release (?P<release>\d+\.\d+)$",
            "release (?P", r"^(?:d|do|o|or|r| )*release (?P<release>\d+\.\d+)$"),
    Planted("S03", "door", r"^refused (?P<user>\S+)", r"^refused (?P<user>(?:[a-z.]{1,30}[ -]?){1,90})", "regex: '^refused",
            r"^refused (?P<user>[\w.]{1,60})"),
    # times
    Planted("T01", "lock", "  zone: Europe/Lisbon\n", "", "format: \"%Y", "  zone: UTC\n"),
    Planted("T02", "door", "22:10:41Z", "22:10:41", "time: {from", "22:10:41+00:00"),
    Planted("T03", "gull", "clock: {zones: {CST: '-06:00'}}\n", "", "format:", "clock: {zones: {CST: '-06:00'}, earliest: 2001-01-01}\n"),
    Planted("T04", "lock", '"%Y-%m-%d %H:%M:%S"', '["%Y-%m-%d %H:%M:%S", "%d/%m/%Y %H:%M:%S"]', "format:",
            '["%Y-%m-%d %H:%M:%S", "%Y/%m/%d %H:%M:%S"]'),
    Planted("T04", "lock", '"%Y-%m-%d %H:%M:%S"', '["%Y-%m-%d %H:%M:%S", "%d/%m/%Y %T", "%m/%d/%Y %T"]', "format:",
            '["%Y-%m-%d %H:%M:%S", "%Y-%j %T"]'),
    Planted("T05", "lock", '"%Y-%m-%d %H:%M:%S"', '["%Y-%m-%d %H:%M:%S", "%Y-%m-%d %H:%M:%S"]', "format:",
            '["%Y-%m-%d %H:%M:%S", "%Y-%m-%dT%H:%M:%S"]'),
    Planted("T06", "lock", '"%Y-%m-%d %H:%M:%S"', '["%Y-%m-%d %H:%M:%S", "%b %e %H:%M:%S"]', "format:",
            '["%Y-%m-%d %H:%M:%S", "%b %e %Y %H:%M:%S"]'),
    Planted("T07", "tide", "format: epoch_ms", "format: epoch_any", "format: epoch_any", "format: [epoch_ms, epoch_us]"),
    # mapping
    Planted("M01", "lock", "entity.name: basin}\n  - name: gate-moved", "device.name: basin}\n  - name: gate-moved",
            "activity: Update", "entity.uid: basin}\n  - name: gate-moved"),
    Planted("M01", "door", ", service.name: door}", "}", "event: {activity: Logon, status: Success",
            ", dst_endpoint.name: door}"),
    Planted("M03", "lock", "src_endpoint.ip: client, ", "", "name: level-set", "src_endpoint.uid: client, "),
    Planted("M03", "tide", "actor.user.name: user, ", "", "pairs: true", "actor.user.uid: user, ", ("M01",)),
    Planted("M04", "lock", "set: {actor.user.name: user,", "set: {activity_id: 2, actor.user.name: user,", "set: {activity_id",
            "set: {activity_id: 3, actor.user.name: user,"),
    Planted("M04", "lock", "device.type_id: 0}", "device.type_id: 1, device.type: {text: Firewall}}", "device.type_id: 1",
            "device.type_id: 9, device.type: {text: Firewall}}"),
    Planted("M04", "lock", "device.type_id: 0}", "metadata.product.vendor_name: {text: Other}, device.type_id: 0}",
            "metadata.product", "metadata.product.vendor_name: {text: Brackwater}, device.type_id: 0}"),
    Planted("M05", "lock", "{verb:raised|lowered} in {basin:word}'\n    event:\n      activity: Other\n"
            "      set: {activity_name: verb, entity.name: basin}",
            "{verb:created|deleted} in {basin:word}'\n    event:\n      activity: Create\n      set: {entity.name: basin}",
            "activity: Create",
            "{verb:raised|lowered} in {basin:word}'\n    event:\n      activity: Update\n      set: {entity.name: basin}", ("C01",)),
    Planted("M05", "tide", "event: {activity: Read, translate: {status: {from: result, to: {ok: Success, no: Failure}}}}",
            "event: {activity: Read, status: Success}", "event: {activity: Read",
            "event: {activity: Read, translate: {status: {from: result, to: {ok: Success, no: Failure}}}}"),
    Planted("M06", "tide", "api.operation: ev}\n  translate: {severity: {from: level, to: {1: Informational, 2: Low, 3: High}}}",
            "api.operation: ev, severity_id: level}", "severity_id: level",
            "api.operation: ev}\n  translate: {severity: {from: level, to: {1: Low, 2: Low, 3: High}}}"),
    Planted("M07", "lock", "set: {activity_name: verb, entity.name: basin}",
            "set: {activity_name: verb, entity.name: basin, count: basin}", "2026-03-03 22:14:41",
            "set: {activity_name: verb, entity.name: basin, count: gate}"),
    Planted("M08", "door", "activity: Logon, status: Failure", "activity: Logon, status: Success", "status: Success, set: {count",
            "activity: Logon, status: Other"),
    # cases
    Planted("C01", "lock", "  - raw: '2026-03-03 22:16:41 G4 LG/30 pump 3 runs 12.5 h'\n"
            "    expect: {variant: pump-read, pump: 3, hours: 12.5}\n", "", "name: pump-read",
            "  - raw: '2026-03-03 22:16:41 G4 LG/30 pump 4 runs 1 h'\n    expect: {variant: pump-read}\n"),
    Planted("C01", "tide", "    kind: write\n", "    kind: change\n", "name: written", "    kind: [write, change]\n"),
    Planted("C02", "lock", "    expect: {variant: pump-read, pump: 3, hours: 12.5}\n",
            "    expect: {variant: pump-read, pump: 3, hours: 12.5}\n"
            "  - raw: '2026-03-03 22:18:41 G4 LG/30 pump 3 runs 12.5 h'\n    expect: {variant: pump-read}\n",
            "22:18:41", "    expect: {variant: pump-read, pump: 3, hours: 12.5}\n"
            "  - note: the next hour\n    raw: '2026-03-03 23:18:41 G4 LG/30 pump 3 runs 13.5 h'\n"
            "    expect: {variant: pump-read}\n"),
    Planted("C03", "lock", "    expect: {variant: gate-moved, verb: lowered}\n", "", "22:15:41",
            "    expect: {variant: gate-moved}\n"),
    # what is not used
    Planted("U01", "door", "types:\n", "types:\n  plate: {regex: '[A-Z]{3}', about: a plate}\n", "plate:",
            "types:\n  # the badge has a form of its own\n"),
    Planted("U02", "door", "parts: {who:", "parts: {where: 'at {place:word}', who:", "where:", "parts: {who:"),
    Planted("U03", "door", "    set: {door: LOWER(door)}", "    set: {user: TRIM(user)}", "note: doors", "    set: {door: \"door || '-'\"}"),
    Planted("U03", "door", "steps:\n", "steps:\n  - note: never there\n    when: door = 'SOUTH'\n    set: {door: {text: x}}\n",
            "note: never there", "steps:\n"),
    Planted("U05", "door", "steps:\n", "steps:\n  - note: badges are personal\n    mask: {fields: [badge], show: 2}\n",
            "note: badges", "steps:\n  - raw: drop\n"),
    # comments that allow
    Planted("A01", "lock", "  zone: Europe/Lisbon\n", "  zone: Europe/Lisbon  # kinglet: allow X99 nothing\n", "allow X99",
            "  zone: Europe/Lisbon  # kinglet of the lock: allowed\n"),
    Planted("A01", "lock", '%S"\n  zone: Europe/Lisbon\n', '%S"  # kinglet: allow T01\n', "allow T01",
            '%S"  # kinglet: allow T01 the panel has the zone of its room\n', ("T01",)),
    Planted("A02", "lock", "  zone: Europe/Lisbon\n", "  zone: Europe/Lisbon  # kinglet: allow T01 of old\n", "allow T01",
            "  zone: Europe/Lisbon  # it stands on the quay\n"),
)  # fmt: skip
