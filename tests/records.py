"""What programs wrote twice: the values of events as Kinglet reads them from one form, and as the program itself set
them apart in another.
"""

from __future__ import annotations

import ast
import html
import json
import re
from collections.abc import Callable, Iterator, Mapping
from datetime import UTC, datetime, timedelta
from ipaddress import ip_address
from itertools import pairwise
from typing import Any, NamedTuple

import kinglet
from tests.helpers import ROOT

REAL = ROOT / "tests" / "real"


class Compared(NamedTuple):
    """Values of an event: as the program recorded them, and as they were read."""

    recorded: dict[str, Any]
    read: dict[str, Any]
    raw: str

    @property
    def equal(self) -> int:
        """How many are equal."""
        return sum(self.read[name] == value for name, value in self.recorded.items())


def _of(event: Mapping[str, Any], recorded: dict[str, Any], **more: Any) -> Compared:
    """Fields of an event by their names; more: values that take a few words to compare."""
    return Compared(recorded, {name: more.get(name, event.get(name)) for name in recorded}, event["raw"])


def _events(parser: str, log: str) -> list[dict[str, Any]]:
    return kinglet.load(parser).parse(REAL / log, reference_time="2026-11-30").events.rows(named=True)


def _objects(log: str) -> list[dict[str, Any]]:
    text = (REAL / log).read_text("utf-8", "surrogateescape")
    return [json.loads(line.replace("\\'", "'")) for line in text.splitlines()]


def _is_near(moment: datetime, seconds: float, within: float = 1) -> bool:
    return abs(moment.timestamp() - seconds) < within


def nginx_access() -> Iterator[Compared]:
    """Requests, beside the server's record in JSON."""
    records = _objects("nginx/access.json")
    for log, more in (
        ("access.log", ()),
        ("timed.log", ("forwarded", "took", "upstream_took")),
        ("timed-pairs.log", ("took", "upstream_connect", "upstream_header", "upstream_took")),
    ):
        for event, record in zip(_events("nginx-access", f"nginx/{log}"), records, strict=True):
            own = {
                "state": "complete", "time": True, "client": record["ip"], "user": record["user"] or None,
                "status": int(record["status"]), "bytes": int(record["bytes"]), "referrer": record["referrer"] or None,
                "agent": record["agent"] or None,
            }  # fmt: skip
            if event["variant"] == "request":
                method, _, rest = record["request"].partition(" ")
                target, _, protocol = rest.rpartition(" ")
                own |= {"method": method, "target": target, "http_version": protocol.removeprefix("HTTP/")}
            elif record["request"].isprintable():
                own |= {"request": record["request"]}
            own |= {name: None if record[name] in ("", "-") else record[name] for name in more}
            if "took" in more:
                own["took"] = float(record["took"])
            yield _of(event, own, time=_is_near(event["time"], float(record["time"])))


def apache_access() -> Iterator[Compared]:
    """Requests, beside values that the server itself sets apart by tabs."""
    names = ("micros", "client", "ident", "user", "request", "status", "bytes", "referrer", "agent", "host", "port")
    rows = (REAL / "apache" / "access.fields").read_text("utf-8").splitlines()
    for log in ("access.log", "vhosts.log"):
        for event, row in zip(_events("apache-access", f"apache/{log}"), rows, strict=True):
            record = dict(zip(names, row.split("\t"), strict=True))
            own: dict[str, Any] = {"state": "complete", "time": True, "client": record["client"]}
            for name in ("ident", "user", "referrer", "agent"):
                # escapes as those of a literal of Python, whose bytes are UTF-8
                text = ast.literal_eval('b"' + record[name] + '"').decode()
                own[name] = None if record[name] == "-" else text
            for name in ("status", "bytes"):
                own[name] = int(record[name])
            method, _, rest = record["request"].partition(" ")
            target, _, protocol = rest.rpartition(" ")
            if re.fullmatch(r"HTTP/\d\.\d", protocol) and target and " " not in method:
                own |= {"variant": "request", "method": method, "http_version": protocol.removeprefix("HTTP/")}
                own |= {"target": ast.literal_eval('b"' + target + '"').decode()}
            else:
                own |= {"variant": "no-request"}
                own |= {"request": None if record["request"] == "-" else record["request"]}
            if log == "vhosts.log":
                own |= {"vhost": record["host"], "vhost_port": int(record["port"])}
            yield _of(event, own, time=_is_near(event["time"], int(record["micros"]) / 1e6))


def apache_error() -> Iterator[Compared]:
    """Errors, beside a second run in which the server sets a bar between its parts."""
    records = (REAL / "apache" / "error.fields").read_text("utf-8").splitlines()
    for event, record in zip(_events("apache-error", "apache/error.log"), records, strict=True):
        if record.count("|") < 5:  # of a program, which has no time of its own
            notes = [note for note in event["time_notes"] if "prev" in note]
            yield _of(event, {"raw": record, "level": None, "notes": ["time-of-previous"]}, notes=notes)
            continue
        level, module, error, client, referrer, message = record.split("|", 5)
        stamp = datetime.strptime(event["stamp"], "%a %b %d %H:%M:%S.%f %Y").replace(tzinfo=UTC)
        own: dict[str, Any] = {
            "state": "complete", "level": level, "module": module, "number": error, "referrer": referrer,
            "client": client.rpartition(":")[0] or None, "time": stamp,
        }  # fmt: skip
        code, _, rest = message.partition(": ") if message.startswith("AH") else (None, "", message)
        if not rest.startswith("Command line"):
            own["code"] = code
        for name in ("user", "target", "path", "why", "backend"):
            if event[name] is not None:
                own[name] = event[name] if event[name] in message else message
        number = f"({event['error']}){event['reason']}" if event["error"] is not None else "-"
        yield _of(event, own, number=number, referrer=event["referrer"] or "-")


def haproxy() -> Iterator[Compared]:
    """Sessions, beside a second run in which the balancer sets a bar between its parts."""
    records = (REAL / "haproxy" / "haproxy.fields").read_text("utf-8").splitlines()
    for event, record in zip(_events("haproxy", "haproxy/haproxy.log"), records, strict=True):
        if "|" not in record:
            yield _of(event, {"state": "complete", "end": True}, end=event["raw"].endswith(": " + record))
            continue
        told = record.split("|")
        own: dict[str, Any] = dict(zip(("client", "frontend", "backend", "server"), told[:4], strict=True))
        own["state"] = "complete"
        if told[-1] == "tcp":
            yield _of(event, own | {"bytes": told[4], "ending": told[5]})
            continue
        # times taken differ between the runs; that a step was never reached does not
        reached = {"request_ms": told[4] != "-1", "queue_ms": told[5] != "-1", "connect_ms": told[6] != "-1"}
        names = ("status", "bytes", "request_cookie", "response_cookie", "ending")
        own |= reached | dict(zip(names, told[7:12], strict=True))
        own |= {"captured": told[12] or "-", "captured_response": told[13] or "-", "asked": told[14]}
        own["time"] = datetime.strptime(event["accepted"], "%d/%b/%Y:%H:%M:%S.%f").replace(tzinfo=UTC)
        given = {name: event[name] != -1 for name in reached} | {name: str(event[name]) for name in names}
        given["captured"] = " ".join(part or "-" for part in (event["captured"] or "").split("|")) if told[12] else "-"
        given["captured_response"] = event["captured_response"] or "-"
        given["asked"] = event["request"] or f"{event['method']} {event['target']} HTTP/{event['http_version']}"
        yield _of(event, own, **given)


POSTGRES = {
    "postgresql": "postgres/postgresql.log",
    "postgresql-csv": "postgres/postgresql.csv",
    "postgresql-json": "postgres/postgresql.json",
    "postgresql-named": "postgres-named/postgresql.log",
    "postgresql-hosted": "postgres-hosted/postgresql.log",
}
"""The forms in which the database writes each event, by the parser that reads it."""


def postgresql(form: str) -> Iterator[Compared]:
    """What the database says in one form, beside its record in JSON and what is read from its text."""
    log = POSTGRES[form]
    stem = log.rpartition(".")[0]
    records = _objects(f"{stem}.json")
    prefixed = ("postgresql-named", "postgresql-hosted")
    texts = _events(form if form in prefixed else "postgresql", f"{stem}.log")
    for record, text, event in zip(records, texts, _events(form, log), strict=True):
        own = {
            "pid": record["pid"], "level": record["error_severity"], "user": record.get("user"),
            "database": record.get("dbname"), "detail": record.get("detail"), "hint": record.get("hint"),
            "context": record.get("context"), "statement": record.get("statement"), "state": "complete",
            "time": datetime.strptime(record["timestamp"], "%Y-%m-%d %H:%M:%S.%f UTC").replace(tzinfo=UTC),
            "variant": text["variant"], "login": text["login"], "sql": text["sql"],
        }  # fmt: skip
        given: dict[str, Any] = {}
        if form in prefixed:
            # its stamps are of a clock of whole seconds, which is late by some milliseconds
            given["time"] = own["time"] if abs(own["time"] - event["time"]) < timedelta(seconds=1.1) else event["time"]
            own |= {"app_name": record.get("application_name")} if form == "postgresql-named" else {}
        if record.get("remote_host") and event["client"]:
            own |= {"client": record["remote_host"], "client_port": record["remote_port"]}
        yield _of(event, own, **given)


def squid_access() -> Iterator[Compared]:
    """Requests through a proxy, beside its record in JSON."""
    for event, record in zip(_events("squid-access", "squid/access.log"), _objects("squid/access.json"), strict=True):
        own = {
            "state": "complete", "took_ms": record["took"], "client": record["client"], "outcome": record["outcome"],
            "code": record["code"], "bytes": record["bytes"], "method": record["method"],
            "hierarchy": record["hierarchy"], "server": record["server"] if record["server"] != "-" else None,
            "type": record["type"] if record["type"] != "-" else None, "time": round(record["time"] * 1000),
            "path": record["url"].partition("?")[0],
        }  # fmt: skip
        user = record["user"].replace("%22", '"').replace("%20", " ")
        if event["user"] is not None:
            own["user_begins"] = True
        given = {"user_begins": (event["user"] or "")[:3] in user, "path": event["url"].partition("?")[0]}
        yield _of(event, own, time=round(event["time"].timestamp() * 1000), **given)


def mariadb_general() -> Iterator[Compared]:
    """Statements, beside the database's table of them."""
    whole = [event for event in _events("mariadb-general", "mariadb/general.log") if event["state"] == "complete"]
    for event, record in zip(whole, _objects("mariadb/general.json"), strict=False):
        said = event["raw"].split(f"{event['command']}\t", 1)[1]
        own = {
            "thread": record["thread"], "command": record["command"], "said": record["said"], "faults": [],
            "sql": record["said"] if event["sql"] is not None else None,
            "time": datetime.fromisoformat(record["at"]).replace(tzinfo=UTC, microsecond=0),
        }  # fmt: skip
        yield _of(event, own, said=said)


def mariadb_slow() -> Iterator[Compared]:
    """Slow statements, beside the database's table of them."""
    whole = [event for event in _events("mariadb-slow", "mariadb/slow.log") if event["state"] == "complete"]
    for event, record in zip(whole, _objects("mariadb/slow.json"), strict=True):
        own = {
            "sql": record["said"] + ";", "database": record["database"] or None, "rows_sent": record["sent"],
            "rows_examined": record["examined"], "took_s": round(float(record["took"].rpartition(":")[2]), 5),
        }  # fmt: skip
        yield _of(event, own, took_s=round(event["took_s"], 5))


def python_logging() -> Iterator[Compared]:
    """Messages and traces, beside a handler of the same program that writes JSON.

    A message of two lines of which the second reads like the head of an event is torn: the form does not tell.
    """
    told = {(item["level"], item["logger"], item["said"]): item for item in _objects("runtimes/python.json")}
    for event in _events("python-logging", "runtimes/python.log"):
        item = told.get((event["level"], event["logger"], event["said"]))
        if item is None:
            continue
        own = {"level": item["level"], "logger": item["logger"], "said": item["said"], "time": True}
        if event["trace"] is not None and "2026-11-29 10:00" not in item["trace"]:
            own["trace"] = item["trace"]
        yield _of(event, own, time=_is_near(event["time"], item["at"], 0.05), trace=(event["trace"] or "").rstrip("\n"))


def java_logging() -> Iterator[Compared]:
    """Messages and traces, beside a handler of the same program that writes XML."""
    text = (REAL / "runtimes" / "java.xml").read_text("utf-8")
    records = [one.split("<record>", 1)[1] for one in text.split("</record>")[:-1]]
    for event, record in zip(_events("java-logging", "runtimes/java.log"), records, strict=True):
        found = {
            key: re.search(f"<{key}>(.*?)</{key}>", record, re.DOTALL)
            for key in ("level", "class", "method", "message", "millis")
        }
        said = {key: html.unescape(match[1]) for key, match in found.items() if match is not None}
        own = {
            "level": said["level"], "source": said["class"], "method": said["method"],
            "said": said["message"].replace("{0}", "字 åβ"), "time": int(said["millis"]) // 1000,
            "has_exception": "<exception>" in record,
        }  # fmt: skip
        given = {"time": int(event["time"].timestamp()), "has_exception": event["exception"] is not None}
        yield _of(event, own, **given)


def node_json() -> Iterator[Compared]:
    """JSON lines, beside what a JSON parser reads of them."""
    for event, item in zip(_events("node-json", "runtimes/node.json"), _objects("runtimes/node.json"), strict=True):
        own = {
            "level": item["level"], "time": item["time"], "msg": item.get("msg"),
            "trace": item.get("err", {}).get("stack"), "user": item.get("user"),
        }  # fmt: skip
        yield _of(event, own, time=round(event["time"].timestamp() * 1000))


def git_log() -> Iterator[Compared]:
    """Commits, beside the same with zero bytes between their parts."""
    text = (REAL / "versions" / "git.fields").read_text("utf-8")
    records = [one.split("\0") for one in text.split("\0\1\n")[:-1]]
    for event, record in zip(_events("git-log", "versions/git.log"), records, strict=True):
        commit, author, mail, at, parents, message = record[:6]
        # git puts blanks for tabs
        own = {
            "commit": commit, "author": author, "mail": mail, "time": datetime.fromisoformat(at),
            "is_merge": len(parents.split()) > 1,
            "message": re.sub(r"[^\S\n]*\t[^\S\n]*| {4,}", "|", message.rstrip("\n")),
        }  # fmt: skip
        said = re.sub(r" {4,}", "|", (event["message"] or "").rstrip("\n "))
        yield _of(event, own, is_merge=event["parents"] is not None, message=said)


def journal_json() -> Iterator[Compared]:
    """Entries of the journal, beside what a JSON parser reads of them."""
    for event, item in zip(
        _events("journal-json", "journal/journal.json"), _objects("journal/journal.json"), strict=True
    ):
        stamp = int(item.get("_SOURCE_REALTIME_TIMESTAMP", item["__REALTIME_TIMESTAMP"]))
        own = {"time": stamp, "host": item["_HOSTNAME"], "pid": int(item["_PID"])}
        yield _of(event, own, time=round(event["time"].timestamp() * 1_000_000))


def journal_export() -> Iterator[Compared]:
    """Entries of the journal in its export format, beside those in JSON."""
    names = ("app", "priority", "host", "pid", "uid", "program", "command", "transport", "boot", "errno", "time")
    others = _events("journal-json", "journal/journal.json")
    items = _objects("journal/journal.json")
    for event, other, item in zip(_events("journal-export", "journal/journal.export"), others, items, strict=True):
        if event["variant"] == "entry":
            yield _of(event, {name: other[name] for name in names} | {"message": item["MESSAGE"] or None})


def audit() -> Iterator[Compared]:
    """Records of the kernel and of programs, beside what the audit library takes them for.

    The library ends what a program says at its first blank, and says the last of several keys.
    """
    for log in ("raw", "named"):
        events: dict[tuple[Any, ...], list[dict[str, Any]]] = {}
        for event in _events("audit", f"audit/{log}.log"):
            events.setdefault((event["log_id"], event["type"]), []).append(event)
        for record in _objects(f"audit/{log}.fields"):
            event = events[record["id"], record["type"]].pop(0)
            fields = [(name, text) for name, text in record["fields"] if (name, text) != ("type", record["type"])]
            recorded = {"stamp": record["time"], "time": float(record["time"]), "type": record["type"]}
            read = {**event, **json.loads(event["more"] or "{}"), "time": event["time"].timestamp()}
            if record["type"] == "EXECVE":
                fields = [(name, text) for name, text in fields if not re.fullmatch(r"a\d+(?:_len|\[\d+\])?", name)]
                recorded["args"] = [
                    text for name, text in record["fields"] if re.fullmatch(r"a\d+(?:\[0\])?", name)
                ] or None
            for name, text in fields:
                if name == "saddr":
                    address = dict(re.findall(r"([a-z_]+)=(\S+)", text))
                    if "laddr" in address:
                        recorded |= {"remote": address["laddr"], "remote_port": address["lport"]}
                        read["remote"] = str(ip_address(event["remote"]))
                    elif "path" in address:
                        recorded["socket"] = address["path"]
                else:
                    recorded[_IN_AUDIT.get(name, name)] = text
            if log == "named":
                recorded |= {
                    _IN_AUDIT[f"{name}:known"]: text
                    for name, text in record["known"].items()
                    if f"{name}:known" in _IN_AUDIT and text != "unset" and not text.startswith("unknown(")
                }
            for name in {"op", "text"} & recorded.keys():
                read[name] = read[name].split()[0]
            recorded = {name: None if value in ("?", "(null)") else value for name, value in recorded.items()}
            if read.get("key"):
                read["key"] = read["key"].split()[-1]
            read |= {name: None for name in recorded if read.get(name) in ("?", "(null)")}
            read |= {name: str(read[name]) for name, value in recorded.items() if type(read.get(name)) in (int, bool)}
            yield Compared(recorded, {name: read.get(name) for name in recorded}, event["raw"])


def netfilter() -> Iterator[Compared]:
    """Packets that rules logged, beside the octets that a socket saw; each has the number that its sender gave it."""
    seen = [_packet(bytes.fromhex(line)) for line in (REAL / "netfilter/packets.hex").read_text("ascii").split()]
    for event in _events("netfilter", "netfilter/kernel.log"):
        (packet,) = (
            one for one in seen if all(event[name] == one[name] for name in ("SRC", "LEN", "PROTO", *_NUMBERS))
        )
        packet = {
            name: value for name, value in packet.items() if name not in ("seq", "ack") or event["seq"] is not None
        }
        yield _of(event, packet)


def containers(form: str) -> Iterator[Compared]:
    """What a program said on each of its streams, beside the lines, or parts of lines, that a runtime wrote of it."""
    log, field = {"docker-json": ("docker.json", "log"), "cri": ("cri.log", "said")}[form]
    (said,) = _objects("containers/said.json")
    for event in _events(form, f"containers/{log}"):
        stream = event["stream"]
        line, _, rest = said[stream].partition("\n")
        if form == "docker-json":  # whose parts are events, and have the end of the line
            line, rest = said[stream][: len(event["log"])], said[stream][len(event["log"]) :]
        said[stream] = rest
        yield _of(event, {"stream": stream, field: line})


def kubernetes() -> Iterator[Compared]:
    """Requests that a client logged, on one line or on two, beside what the cluster was asked."""
    asked = iter(_objects("kubernetes/requests.json"))
    open_: dict[int, dict[str, Any]] = {}
    for event in _events("klog", "kubernetes/klog.log"):
        if event["variant"] == "asked":
            open_[event["thread"]] = event
        elif event["variant"] == "answered":
            yield _of({**open_.pop(event["thread"]), "code": event["code"]}, _asked(asked))
        elif event["variant"] == "request" and event["code"] is not None:  # one that could not be sent has none
            yield _of(event, _asked(asked))
    assert not open_ and next(asked, None) is None


def _asked(records: Iterator[dict[str, Any]]) -> dict[str, Any]:
    record = next(records)
    return {"method": record["method"], "url": record["url"], "code": record["status"]}


_NUMBERS = ("packet", "flow", "icmp_type", "window", "tcp_flags")
_PROTOCOLS = {1: "ICMP", 6: "TCP", 17: "UDP", 50: "ESP", 51: "AH", 58: "ICMPv6"}


def _packet(octets: bytes) -> dict[str, Any]:
    """A packet's header and that of its protocol (RFC 791, 8200, 9293, 768, 792)."""
    four = octets[0] >> 4 == 4
    length, number = int.from_bytes(octets[2:4]), int.from_bytes(octets[4:6])
    found = dict.fromkeys((*_NUMBERS, "SPT", "DPT", "seq", "ack", "icmp_code", "spi", "ttl", "hops"))
    protocol, places, behind = (9, (12, 16, 20), 4 * (octets[0] & 15)) if four else (6, (8, 24, 40), 40)
    found |= {"LEN": length, "packet": number, "ttl": octets[8]} if four else {"LEN": number + 40, "hops": octets[7]}
    found["flow"] = None if four else int.from_bytes(octets[1:4]) & 0xFFFFF
    digits = [octets[start:end] for start, end in pairwise(places)]
    found["SRC"], found["DST"] = (_written(part) for part in digits)
    found["protocol"] = octets[protocol]
    found["PROTO"] = _PROTOCOLS.get(octets[protocol], str(octets[protocol]))
    inner = octets[behind:]
    if found["PROTO"] in ("TCP", "UDP"):
        found["SPT"], found["DPT"] = int.from_bytes(inner[:2]), int.from_bytes(inner[2:4])
    if found["PROTO"] == "TCP":
        found |= {"seq": int.from_bytes(inner[4:8]), "ack": int.from_bytes(inner[8:12]), "tcp_flags": inner[13]}
        found["window"] = int.from_bytes(inner[14:16])
    elif found["PROTO"] in ("ICMP", "ICMPv6"):
        found |= {"icmp_type": inner[0], "icmp_code": inner[1]}
    elif found["PROTO"] in ("ESP", "AH"):
        found["spi"] = int.from_bytes(inner[:4] if found["PROTO"] == "ESP" else inner[4:8])
    return found


def _written(octets: bytes) -> str:
    """An address as the kernel writes it: that of IPv6 with all its zeros."""
    return ip_address(octets).exploded


_IN_AUDIT = {
    "id": "target_id", "auid:known": "auid_name", "uid:known": "uid_name", "gid:known": "gid_name",
    "euid:known": "euid_name", "syscall:known": "call", "id:known": "target_name",
}  # fmt: skip

RECORDS: Mapping[str, Callable[[], Iterator[Compared]]] = {
    "apache-access": apache_access,
    "apache-error": apache_error,
    "audit": audit,
    "cri": lambda: containers("cri"),
    "klog": kubernetes,
    "docker-json": lambda: containers("docker-json"),
    "git-log": git_log,
    "haproxy": haproxy,
    "java-logging": java_logging,
    "journal-export": journal_export,
    "journal-json": journal_json,
    "mariadb-general": mariadb_general,
    "mariadb-slow": mariadb_slow,
    "netfilter": netfilter,
    "nginx-access": nginx_access,
    "node-json": node_json,
    **{form: lambda form=form: postgresql(form) for form in POSTGRES},  # type: ignore[misc]
    "python-logging": python_logging,
    "squid-access": squid_access,
}
"""By parser, the events that the program itself recorded a second time."""
