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

BERTH = r"""kinglet: 1
parser: berth-guard
version: 1.0.0
product: {vendor: Kaldhaven, name: BerthGuard}
envelope: {syslog: rfc5424, app: berthd}
time: {from: stamp, format: iso8601}
event:
  class: Authentication
  severity: Informational
  set: {dst_endpoint.hostname: host, service.name: {text: berthd}, user.name: user}
variants:
  - name: entered
    pattern: 'user {user:word} entered from {src:ip} port {port:port}[[ using {how:word}]]'
    event: {activity: Logon, status: Success, set: {src_endpoint.ip: src, src_endpoint.port: port, auth_protocol: how}}
  - name: refused
    pattern: 'user {user:word} refused from {src:ip}: {why:rest}'
    event: {activity: Logon, status: Failure, set: {src_endpoint.ip: src, status_detail: why}}
  - name: left
    pattern: 'user {user:word} left after {secs:int} s'
    event: {activity: Logoff, status: Success}
cases:
  - raw: '<38>1 2026-03-02T06:15:00Z quay-2.example berthd 812 - - user m.okoro entered from 192.0.2.7 port 5100 using card'
    expect: {variant: entered, user: m.okoro, src: 192.0.2.7}
  - raw: '<38>1 2026-03-02T06:15:00Z quay-2.example berthd 812 - - user m.okoro entered from 192.0.2.7 port 5100'
    expect: {variant: entered, how: null}
  - raw: '<38>1 2026-03-02T06:15:00Z quay-2.example berthd 812 - - user t.varela refused from 192.0.2.8: card is old'
    expect: {variant: refused, why: card is old}
  - raw: '<38>1 2026-03-02T06:15:00Z quay-2.example berthd 812 - - user t.varela left after 31 s'
    expect: {variant: left, secs: 31}
"""

CRANE = r"""kinglet: 1
parser: crane-api
version: 2.0.0
product: {vendor: Quayline, name: CraneAPI}
events: json
envelope:
  json: true
  types: {ts: time, op: word, who.name: word, who.ip: ip, crane: int, level: int, ok: bool, took: num}
kind: op
time: {from: ts, format: epoch_ms}
event:
  class: API Activity
  set: {actor.user.name: who.name, src_endpoint.ip: who.ip, api.operation: op, api.service.name: {text: crane}, duration: "CAST(took AS BIGINT)"}
  translate: {status: {from: "CAST(ok AS VARCHAR)", to: {"true": Success, "false": Failure}}, severity: {from: level, to: {1: Low, 2: High}}}
variants:
  - name: lift
    kind: lift
    event: {activity: Update}
  - name: look
    kind: [look, list]
    event: {activity: Read}
cases:
  - raw: '{"ts": 1772674260000, "op": "lift", "who": {"name": "m.okoro", "ip": "192.0.2.9"}, "crane": 4, "level": 1, "ok": true, "took": 2.5}'
    expect: {variant: lift, crane: 4}
  - raw: '{"ts": 1772674261000, "op": "look", "who": {"name": "m.okoro", "ip": "192.0.2.9"}, "level": 2, "ok": false}'
    expect: {variant: look, ok: false}
  - raw: '{"ts": 1772674262000, "op": "list", "who": {"name": "m.okoro", "ip": "192.0.2.9"}, "level": 1, "ok": true}'
    expect: {variant: look}
"""

SLUICE = r"""kinglet: 1
parser: sluice
version: 1.0.0
product: {vendor: Brackwater, name: Sluice}
events: {start: '^\[\d{2}\.\d{2}\.\d{4}'}
time: {from: stamp, format: "%d.%m.%Y %H:%M:%S", zone: Europe/Lisbon}
envelope: {regex: '^\[(?P<stamp>[^\]]+)\] (?P<unit>\w+): (?P<body>(?s:.*))$'}
event: {class: Entity Management, severity: Low, set: {device.name: unit, device.type_id: 0}}
variants:
  - name: set
    regex: '^set (?P<gate>\w+) to (?P<height>\d+\.\d+) by (?P<who>[\w.]+)(?: at (?P<addr>[0-9.]+))?$'
    types: {height: num, addr: ipv4}
    event: {activity: Update, status: Success, set: {entity.name: gate, actor.user.name: who, src_endpoint.ip: addr}}
  - name: moved
    regex: '^gate (?P<gate>\w+) (?P<way>raised|lowered) (?P<secs>\d+)s$'
    types: {secs: int}
    event: {activity: Other, set: {entity.name: gate, activity_name: way}}
  - name: fault
    regex: '^fault (?P<code>E\d{3}) in (?P<part>[a-z ]+)$'
    event: {activity: Other, set: {entity.name: part, activity_name: {text: fault}, status_code: code}}
cases:
  - raw: '[28.02.2026 10:00:01] S1: set west to 2.50 by m.okoro at 192.0.2.3'
    expect: {variant: set, height: 2.5, time: 2026-02-28T10:00:01Z}
  - raw: '[28.02.2026 10:00:01] S1: set west to 2.50 by m.okoro'
    expect: {variant: set, addr: null}
  - raw: '[28.02.2026 10:00:01] S1: gate west raised 12s'
    expect: {variant: moved, way: raised}
  - raw: '[28.02.2026 10:00:01] S1: gate west lowered 12s'
    expect: {variant: moved, way: lowered}
  - raw: '[28.02.2026 10:00:01] S1: fault E101 in west gate'
    expect: {variant: fault, part: west gate}
"""

BASES = {"berth": BERTH, "crane": CRANE, "sluice": SLUICE, "gull": GULL, "lock": LOCK, "door": DOOR, "tide": TIDE}


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
    Planted("R01", "door", r"\d{2}:\d{2}))?$'", r"\d{2}:\d{2}))?'", "regex: '^refused", r"\d{2}:\d{2}))?\s*$'", ("R05",)),
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
    Planted("U06", "tide", "  types: {ts: time, ", "  keys: {unit: 'dev[0]'}\n  types: {unit: text, ts: time, ", "unit: 'dev", "  keys: {unit: 'dev[1]'}\n  types: {unit: text, ts: time, "),
    # comments that allow
    Planted("A01", "lock", "  zone: Europe/Lisbon\n", "  zone: Europe/Lisbon  # kinglet: allow X99 nothing\n", "allow X99",
            "  zone: Europe/Lisbon  # kinglet of the lock: allowed\n"),
    Planted("A01", "lock", '%S"\n  zone: Europe/Lisbon\n', '%S"  # kinglet: allow T01\n', "allow T01",
            '%S"  # kinglet: allow T01 the panel has the zone of its room\n', ("T01",)),
    Planted("A02", "lock", "  zone: Europe/Lisbon\n", "  zone: Europe/Lisbon  # kinglet: allow T01 of old\n", "allow T01",
            "  zone: Europe/Lisbon  # it stands on the quay\n"),
    # a head of syslog, JSON objects, regexes
    Planted('V02', 'berth', 'variants:\n', "variants:\n  - name: any\n    pattern: 'user {user:word} {what:rest}'\n    event: {activity: Other, set: {activity_name: what}}\n", 'name: entered', 'variants:\n'),
    Planted('R06', 'berth', 'refused from {src:ip}', 'refused from {src:word}', 'refused from', 'refused from {src:ip}'),
    Planted('R06', 'berth', 'refused from {src:ip}: ', 'refused from {src:text}: ', 'refused from', 'refused from {src:ip}: '),
    Planted('V04', 'berth', 'cases:\n', "  - name: left-again\n    pattern: 'user {user:word} left after {secs:int} s'\n    event: {activity: Logoff, status: Success}\ncases:\n", 'name: left-again', 'cases:\n'),
    Planted('M08', 'berth', 'activity: Logon, status: Failure', 'activity: Logon, status: Success', 'status: Success, set: {src_endpoint.ip: src, status', 'activity: Logon, status: Failure'),
    Planted('M03', 'berth', 'set: {src_endpoint.ip: src, status_detail: why}', 'set: {status_detail: why}', 'name: refused', 'set: {src_endpoint.ip: src, status_detail: why}'),
    Planted('C01', 'berth', "  - raw: '<38>1 2026-03-02T06:15:00Z quay-2.example berthd 812 - - user t.varela left after 31 s'\n    expect: {variant: left, secs: 31}\n", '', 'name: left', "  - raw: '<38>1 2026-03-02T06:15:00Z quay-2.example berthd 812 - - user t.varela left after 31 s'\n    expect: {variant: left, secs: 31}\n"),
    Planted('M01', 'berth', 'set: {dst_endpoint.hostname: host, service.name: {text: berthd}, user.name: user}', 'set: {device.hostname: host, user.name: user}', 'activity: Logon, status: Success', 'set: {dst_endpoint.hostname: host, service.name: {text: berthd}, user.name: user}'),
    Planted('M04', 'berth', 'activity: Logoff, status: Success}\ncases', 'activity: Logoff, status: Success, set: {status_id: 2}}\ncases', 'status_id: 2', 'activity: Logoff, status: Success}\ncases'),
    Planted('U01', 'berth', 'variants:\n', "types: {card: {regex: '[0-9]{8}'}}\nvariants:\n", 'card: {regex', 'variants:\n'),
    Planted('U02', 'berth', 'variants:\n', "parts: {who: 'user {user:word}'}\nvariants:\n", 'parts: {who', 'variants:\n'),
    Planted('V04', 'crane', 'kind: [look, list]', 'kind: [look, list, look]', 'kind: [look', 'kind: [look, list]'),
    Planted('V04', 'crane', 'kind: [look, list]', 'kind: [look, list, lift]', 'kind: [look', 'kind: [look, list]'),
    Planted('V04', 'crane', 'cases:\n', '  - name: lift-again\n    kind: lift\n    event: {activity: Update}\ncases:\n', 'name: lift-again', 'cases:\n'),
    Planted('M06', 'crane', 'api.operation: op,', 'api.operation: op, severity_id: level,', 'severity_id: level', 'api.operation: op,'),
    Planted('M03', 'crane', 'actor.user.name: who.name, ', 'actor.user.uid: crane, ', 'json: true', 'actor.user.name: who.name, ', ('M07',)),
    Planted('R06', 'crane', 'who.ip: ip', 'who.ip: word', 'types: {ts', 'who.ip: ip'),
    Planted('T07', 'crane', 'format: epoch_ms', 'format: epoch_any', 'epoch_any', 'format: epoch_ms'),
    Planted('M05', 'crane', 'translate: {status: {from: "CAST(ok AS VARCHAR)", to: {"true": Success, "false": Failure}}, severity', 'status: Success\n  translate: {severity', 'status: Success', 'translate: {status: {from: "CAST(ok AS VARCHAR)", to: {"true": Success, "false": Failure}}, severity'),
    Planted('U03', 'crane', 'cases:\n', 'steps:\n  - {note: x, when: crane > 99, set: {crane: crane - 99}}\ncases:\n', 'note: x', 'cases:\n'),
    Planted('C02', 'crane', 'cases:\n', 'cases:\n  - raw: \'{"ts": 1772674290000, "op": "lift", "who": {"name": "t.varela", "ip": "192.0.2.8"}, "crane": 5, "level": 1, "ok": true, "took": 3.5}\'\n    expect: {variant: lift}\n', '1772674260000', 'cases:\n'),
    Planted('C03', 'crane', '    expect: {variant: look}\n', '', '1772674262000', '    expect: {variant: look}\n'),
    Planted('R01', 'sluice', "by (?P<who>[\\w.]+)(?: at (?P<addr>[0-9.]+))?$'", "by (?P<who>[\\w.]+)(?: at (?P<addr>[0-9.]+))?'", "regex: '^set", "by (?P<who>[\\w.]+)(?: at (?P<addr>[0-9.]+))?$'", ('R04',)),
    Planted('R01', 'sluice', "'^gate (", "'gate (", "regex: 'gate", "'^gate ("),
    Planted('R02', 'sluice', '\\d+\\.\\d+', '\\d+.\\d+', "regex: '^set", '\\d+\\.\\d+'),
    Planted('R01', 'sluice', "{start: '^", "{start: '", 'events: {start', "{start: '^"),
    Planted('R03', 'sluice', 'by (?P<who>[\\w.]+)(?:', 'by (?P<who>.*)(?:', "regex: '^set", 'by (?P<who>[\\w.]+)(?:', ('R05',)),
    Planted('R03', 'sluice', '^gate (?P<gate>\\w+) ', '^gate (?P<gate>.+) ', "regex: '^gate", '^gate (?P<gate>\\w+) '),
    Planted('R03', 'sluice', '\\[(?P<stamp>[^\\]]+)\\] ', '\\[(?P<stamp>.*)\\] ', 'envelope:', '\\[(?P<stamp>[^\\]]+)\\] '),
    Planted('R07', 'sluice', '    types: {secs: int}\n', '', "regex: '^gate", '    types: {secs: int}\n'),
    Planted('S02', 'sluice', '(?P<part>[a-z ]+)$', '(?P<part>(?:[a-z]+ ?)+)(?<!x)$', "regex: '^fault", '(?P<part>[a-z ]+)$'),
    Planted('T01', 'sluice', ', zone: Europe/Lisbon', '', 'time: {from', ', zone: Europe/Lisbon'),
    Planted('T04', 'sluice', 'format: "%d.%m.%Y %H:%M:%S"', 'format: ["%d.%m.%Y %H:%M:%S", "%m.%d.%Y %H:%M:%S"]', 'time: {from', 'format: "%d.%m.%Y %H:%M:%S"'),
    Planted('T06', 'sluice', '"%d.%m.%Y %H:%M:%S"', '["%d.%m.%Y %H:%M:%S", "%d.%m %H:%M:%S"]', 'time: {from', '"%d.%m.%Y %H:%M:%S"', ('T04',)),
    Planted('V02', 'sluice', '  - name: moved\n', "  - name: gates\n    regex: '^gate (?P<text>.*)$'\n    event: {activity: Other, set: {entity.name: text, activity_name: text}}\n  - name: moved\n", 'name: moved', '  - name: moved\n', ('C02',)),
    Planted('R05', 'sluice', '(?P<code>E\\d{3}) in (?P<part>[a-z ]+)$', '(?P<code>E\\d{3}) in (?:(?P<part>[a-z ]+)|(?P<word>west))$', "regex: '^fault", '(?P<code>E\\d{3}) in (?P<part>[a-z ]+)$'),
    Planted('R06', 'sluice', 'addr: ipv4}', 'addr: text}', "regex: '^set", 'addr: ipv4}'),
)  # fmt: skip
