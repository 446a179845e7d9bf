"""Writes the table of docs/library.md: what each ready parser was tried on, what it made of it, and how fast.

    python tools/build_library.py [PARSER...]

With names it prints their rows only. Values are compared where the program itself recorded its events a second time
(`tests/records.py`). The speeds are events a second of processor time to NDJSON of the fields, of samples written out
many times, the best of three runs, beside a loop over a quarter of the events in Python with the same expressions,
`strptime` and `json`, and the steps that read, remember and replace; it converts and computes nothing.
"""

from __future__ import annotations

import csv
import json
import os
import re
import sys
import tempfile
import time
from collections.abc import Callable, Sequence
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, NamedTuple
from xml.etree import ElementTree

os.environ.setdefault("POLARS_MAX_THREADS", "1")  # a loop has one processor, too

import polars as pl

import kinglet
from kinglet.drafting.cases import read_under
from kinglet.regex.for_python import for_python
from kinglet.shelf import shelf
from kinglet.spec.ready import ready_parsers
from kinglet.steps.again import ParseAgain
from kinglet.steps.fields import Remove
from kinglet.steps.finding import Find
from kinglet.steps.remembering import Remember
from kinglet.steps.values import Replace

ROOT = Path(__file__).parent.parent
sys.path.insert(0, str(ROOT))

from tests.records import RECORDS  # noqa: E402

REAL = ROOT / "tests" / "real"
PAGE = ROOT / "docs" / "library.md"
MARK, END = "<!-- made by tools/build_library.py -->\n", "\n<!-- end -->"
AT = "2026-11-30"
BYTES = 16 * 2**20


class Tried(NamedTuple):
    """What a parser was made with, the script that drives it, and the samples that it wrote."""

    program: str
    script: str
    samples: tuple[str, ...]


def _tried(program: str, script: str, *samples: str) -> Tried:
    return Tried(program, script, samples)


FORM = "its published form"
TRIED = {
    "alternatives": _tried("dpkg 1.21", "packages", "packages/alternatives.log"),
    "apache-access": _tried("Apache httpd 2.4", "apache", "apache/access.log", "apache/vhosts.log"),
    "apache-error": _tried("Apache httpd 2.4", "apache", "apache/error.log"),
    "apt-history": _tried("apt 2.6", "packages", "packages/apt-history.log"),
    "apt-term": _tried("apt 2.6", "packages", "packages/apt-term.log"),
    "audit": _tried("auditd 3.0.9, Linux 6.18", "audit", "audit/raw.log", "audit/named.log"),
    "bind": _tried("BIND 9.18", "bind", "bind/queries.log", "bind/named.log"),
    "chrony": _tried("chrony 4.3; steps of the clock: its published form", "chrony", "chrony/chrony.log"),
    "cri": _tried("Podman 4.3, conmon 2.1", "containers", "containers/cri.log"),
    "csv-header": _tried("any", ""),
    "cron": _tried("cron 3.0pl1", "jobs", "jobs/traditional.log", "jobs/rfc5424.log"),
    "dnsmasq": _tried("dnsmasq 2.90; leases: its published form", "resolvers", "resolvers/dnsmasq.log"),
    "docker-json": _tried("Docker 20.10", "containers", "containers/docker.json"),
    "dovecot": _tried("Dovecot 2.3", "mail", "mail/dovecot.log"),
    "dpkg": _tried("dpkg 1.21", ""),
    "exim": _tried("Exim 4.96; deliveries: its published form", "mail", "mail/exim.log"),
    "freeradius": _tried("FreeRADIUS 3.2", "directory", "directory/radius.log"),
    "git-log": _tried("git 2.39", "versions", "versions/git.log"),
    "haproxy": _tried("HAProxy 2.6", "haproxy", "haproxy/haproxy.log"),
    "java-logging": _tried("OpenJDK 17", "runtimes", "runtimes/java.log"),
    "journal-export": _tried("systemd 252", "journal", "journal/journal.export"),
    "journal-json": _tried("systemd 252", "journal", "journal/journal.json"),
    "json-lines": _tried("any", "", "squid/access.json"),
    "kerberos": _tried("MIT Kerberos 1.20", "directory", "directory/krb5kdc.log", "directory/kadmin.log"),
    "klog": _tried("kubectl 1.32", "kubernetes", "kubernetes/klog.log"),
    "linux-accounts": _tried("passwd 4.13", "accounts", "accounts/traditional.log", "accounts/rfc5424.log"),
    "mariadb-error": _tried("MariaDB 10.11", "mariadb", "mariadb/error.log"),
    "mariadb-general": _tried("MariaDB 10.11", "mariadb", "mariadb/general.log"),
    "mariadb-slow": _tried("MariaDB 10.11", "mariadb", "mariadb/slow.log"),
    "ncsa": _tried("any", "", "nginx/access.log"),
    "netfilter": _tried("nftables 1.0, Linux 6.18", "netfilter", "netfilter/kernel.log"),
    "nginx-access": _tried("nginx 1.22", "nginx", "nginx/access.log", "nginx/timed.log", "nginx/timed-pairs.log"),
    "nginx-error": _tried("nginx 1.22", "nginx", "nginx/error.log"),
    "node-json": _tried("Node.js 20, pino 9", "runtimes", "runtimes/node.json"),
    "openldap": _tried("OpenLDAP 2.5", "directory", "directory/slapd.log"),
    "openssh": _tried("OpenSSH 9.2", "accounts", "accounts/traditional.log", "accounts/rfc5424.log"),
    "openvpn": _tried("OpenVPN 2.6", "tunnels", "tunnels/openvpn.log"),
    "pairs": _tried("any", ""),
    "piped-head": _tried(FORM, ""),
    "postfix": _tried("Postfix 3.7", "mail", "mail/postfix.log"),
    "postgresql": _tried("PostgreSQL 15", "postgres", "postgres/postgresql.log"),
    "postgresql-csv": _tried("PostgreSQL 15", "postgres", "postgres/postgresql.csv"),
    "postgresql-json": _tried("PostgreSQL 15", "postgres", "postgres/postgresql.json"),
    "postgresql-hosted": _tried("PostgreSQL 15", "postgres", "postgres-hosted/postgresql.log"),
    "postgresql-named": _tried("PostgreSQL 15", "postgres", "postgres-named/postgresql.log"),
    "proftpd": _tried("ProFTPD 1.3.8", "ftp", "ftp/proftpd.log"),
    "python-logging": _tried("Python 3.11", "runtimes", "runtimes/python.log"),
    "redis": _tried("Redis 7.0", "redis", "redis/redis.log", "redis/replica.log"),
    "samba-audit": _tried("Samba 4.17", "samba", "samba/traditional.log", "samba/rfc5424.log"),
    "squid-access": _tried("Squid 5.7", "squid", "squid/access.log"),
    "strongswan": _tried(
        "strongSwan 5.9; tunnels for traffic: its published form",
        "strongswan",
        "strongswan/charon.log",
        "strongswan/road.log",
        "strongswan/traditional.log",
    ),
    "su": _tried("util-linux 2.38", "accounts", "accounts/traditional.log", "accounts/rfc5424.log"),
    "sudo": _tried("sudo 1.9", "accounts", "accounts/traditional.log", "accounts/rfc5424.log"),
    "syslog-rfc3164": _tried("any", "", "accounts/traditional.log"),
    "syslog-rfc5424": _tried("any", "", "accounts/rfc5424.log"),
    "unattended-upgrades": _tried("unattended-upgrades 2.9", "packages", "packages/unattended-upgrades.log"),
    "unbound": _tried("Unbound 1.17", "resolvers", "resolvers/unbound.log", "resolvers/unbound-dated.log"),
    "vsftpd": _tried("vsftpd 3.0.3", "ftp", "ftp/vsftpd.log"),
    "windows-event": _tried(FORM, ""),
    "w3c-extended": _tried(FORM, ""),
    "wireguard": _tried(FORM, ""),
    "xferlog": _tried("ProFTPD 1.3.8, vsftpd 3.0.3", "ftp", "ftp/proftpd-xferlog", "ftp/vsftpd-xferlog"),
}


def _own(name: str) -> tuple[Any, list[str], str | None]:
    """A parser, and the raw events that are its own: of its samples, or where it has none of its cases.

    Last is the header above them, where it names their columns.
    """
    parser = kinglet.load(name)
    raws: list[str] = []
    cases = parser._definition.cases
    header = next((case.header for case in cases if case.header is not None), None)
    for sample in TRIED[name].samples:
        events = parser.parse(REAL / sample, reference_time=AT).events
        raws += events.filter(events["variant"].is_not_null())["raw"].to_list()
    return parser, raws or [case.raw for case in cases if case.header == header or header is None], header


def _compared(name: str) -> str:
    """How many values the program recorded itself, and how many of them are read so."""
    if name not in RECORDS:
        return "–"
    each = [(len(one.recorded), one.equal) for one in RECORDS[name]()]
    values, equal = sum(count for count, _ in each), sum(count for _, count in each)
    return f"{values:,}, all equal" if equal == values else f"{values:,}, {equal:,} equal"


def _row(name: str, classes: list[str]) -> str:
    tried = TRIED[name]
    parser, raws, header = _own(name)
    headers = pl.Series([header] * len(raws)) if header is not None else None
    counts = read_under(parser, pl.Series(raws), headers, AT).counts
    program = f"{tried.program}, `tools/real/{tried.script}.py`" if tried.script else tried.program
    events = f"{counts['events']}" + ("" if tried.samples else " of its cases")
    ours, theirs = _speeds(parser, raws, header)
    ratio = f"{ours / theirs:.1f}" if theirs else "–"
    shown = ", ".join(classes[:4]) + (" …" if len(classes) > 4 else "")
    beside = f"{theirs / 1000:,.0f}" if theirs else "–"
    speeds = [f"{ours / 1000:,.0f}", beside, ratio]
    cells = [f"`{name}`", program, events, counts["complete"], _compared(name), shown, *speeds]
    return "| " + " | ".join(map(str, cells)) + " |"


def _header_line(parser: Any, header: str) -> str:
    """The line of a log that names columns so."""
    return f"#Fields: {header}" if parser._plan.cut.header_line is not None else header


def _speeds(parser: Any, raws: list[str], header: str | None) -> tuple[float, float]:
    """Events a second of processor time: of the parser, and of a loop over the same events."""
    many = raws * max(1, BYTES // max(1, sum(map(len, raws))))
    log = pl.Series(many) if header is None else "\n".join([_header_line(parser, header), *many]).encode()
    some = many[: max(1, len(many) // 4)]  # a loop takes as long for each event, however many there are
    ours = theirs = 0.0
    with tempfile.TemporaryDirectory() as folder:
        for _ in range(3):
            (Path(folder) / "out.ndjson").unlink(missing_ok=True)  # to take away the last one costs, too
            begun = time.process_time()
            parser.parse(log, reference_time=AT, workers=1).write(Path(folder) / "out.ndjson", as_="fields")
            ours = max(ours, len(many) / (time.process_time() - begun))
        reader = _reader(parser, header)
        if reader is None:
            return ours, 0.0
        for _ in range(3):
            begun = time.process_time()
            with (Path(folder) / "loop.ndjson").open("w", encoding="utf-8") as out:
                for raw in some:
                    values = reader(raw)
                    values["time"] = _moment(parser, values)
                    out.write(json.dumps(values, ensure_ascii=False) + "\n")
            theirs = max(theirs, len(some) / (time.process_time() - begun))
        return ours, theirs


_PAIR = re.compile(r'([^\s=\[\]]+)=("(?:[^"\\]|\\.)*"|[^\s\]]*)')


def _structured(structure: Any, names: Any, text: str) -> dict[str, Any]:
    """What the standard library, or a line of one's own, reads of a text with structure."""
    if structure.name == "json":
        found: Any = json.loads(text)
        return dict(found) if isinstance(found, dict) else {}
    if structure.name == "delimited":
        return dict(zip(names, next(csv.reader([text])), strict=False))
    if structure.name == "xml":
        return {node.tag: node.text for node in ElementTree.fromstring(text).iter()}
    if structure.name == "block":
        return dict(line.split(":", 1) for line in text.splitlines() if ":" in line)
    return {key: value.strip('"') for key, value in _PAIR.findall(text)}


def _reader(parser: Any, header: str | None) -> Any:
    """How a loop in Python would read an event: the same expressions and structures, one after the other.

    None where the structure is columns by position.
    """
    plan = parser._plan
    readings = [one for one in (plan.envelope, *(variant.reading for variant in plan.variants)) if one is not None]
    if any(one.structure.name == "fixed" for reading in readings for one in reading.structures):
        return None
    names = header.split(",") if header is not None else None

    def compiled(reading: Any) -> Any:
        regexes = [for_python(regex) for regex in reading.regexes]
        structures = [(one, names or getattr(one.structure, "names", None)) for one in reading.structures]

        def read(text: str) -> dict[str, Any] | None:
            values: dict[str, Any] = {}
            for regex in regexes:
                if (match := regex.search(text)) is not None:
                    values = match.groupdict()
                    break
            else:
                if regexes:
                    return None
            for one, columns in structures:
                part = values.get(one.source) if one.source is not None else text
                if part:
                    try:
                        found = _structured(one.structure, columns, part)
                    except (ValueError, ElementTree.ParseError):
                        return None
                    # a field may be called other than its key
                    values |= found | {f.name: found.get(key) for key, f in zip(one.keys, one.fields, strict=True)}
            return values

        return read

    envelope = compiled(plan.envelope) if plan.envelope is not None else None
    variants = [(variant, compiled(variant.reading)) for variant in plan.variants]
    routes = [
        (kind.slot, {str(value): places for value, places in kind.routes.items()}, kind.otherwise)
        for kind in plan.kinds
    ]
    every = range(len(variants))

    steps = [step for one in plan.steps if (step := _step(one.action, compiled)) is not None]

    def read(raw: str) -> dict[str, Any]:
        values: dict[str, Any] = {"raw": raw}
        if envelope is not None:
            front = envelope(raw)
            if front is None:
                return values
            values |= front
        candidates: Sequence[int] = every
        for slot, by_value, otherwise in routes:
            here = by_value.get(str(values.get(slot)), otherwise)
            candidates = here if candidates is every else [place for place in candidates if place in here]
        for place in candidates:
            variant, reader = variants[place]
            body = values.get(variant.source or plan.body) if envelope is not None else raw
            found = reader(body if isinstance(body, str) else raw)
            if found is not None:
                values |= found
                break
        for step in steps:
            step(values)
        return values

    return read


def _step(action: Any, compiled: Callable[[Any], Any]) -> Callable[[dict[str, Any]], None] | None:
    """A step that reads, as a loop does it; None for one that computes, which the loop leaves out."""
    if isinstance(action, ParseAgain):
        read = compiled(action.reading)

        def parse(values: dict[str, Any]) -> None:
            if isinstance(text := values.get(action.name), str):
                values |= read(text) or {}

        return parse
    if isinstance(action, Find):
        every = re.compile(for_python(action.regex)).finditer

        def find(values: dict[str, Any]) -> None:
            if isinstance(text := values.get(action.name), str):
                values[action.to] = [match.groupdict() for match in every(text)]

        return find
    if isinstance(action, Replace):
        replaced = re.compile(for_python(action.regex)).sub
        new = re.sub(r"\$\{(\w+)\}", r"\\g<\1>", action.with_)

        def replace(values: dict[str, Any]) -> None:
            for name in action.names:
                if isinstance(text := values.get(name), str):
                    values[name] = replaced(new, text)

        return replace
    if isinstance(action, Remember):
        known: dict[tuple[Any, ...], dict[str, Any]] = {}
        names = [name for name, _ in action.kept]

        def remember(values: dict[str, Any]) -> None:
            before = known.setdefault(tuple(values.get(name) for name in action.keys), {})
            for name in names:
                if values.get(name) is not None:
                    before[name] = values[name]
                elif name in before:
                    values[name] = before[name]

        return remember
    if isinstance(action, Remove) and not action.keeps:

        def remove(values: dict[str, Any]) -> None:
            for name in action.names:
                values.pop(name, None)

        return remove
    return None


_KNOWN = {"rfc3164": "%b %d %H:%M:%S", "ncsa": "%d/%b/%Y:%H:%M:%S %z"}


def _moment(parser: Any, values: dict[str, Any]) -> str | None:
    """The time of an event as a loop in Python would read it, by the first form that fits."""
    for rule in parser._definition.time:
        text = values.get(rule.from_)
        if not isinstance(text, str):
            continue
        for form in rule.format:
            try:
                if form.startswith("epoch"):
                    return datetime.fromtimestamp(float(text), UTC).isoformat()
                if form == "iso8601":
                    return datetime.fromisoformat(text).isoformat()
                return datetime.strptime(text, _KNOWN.get(form, form)).isoformat()
            except (ValueError, OverflowError):
                continue
    return None


def main() -> None:
    about = {one.name: one.classes for one in shelf()}
    names = sys.argv[1:] or sorted(ready_parsers())
    rows = [_row(name, about[name]) for name in names]
    if sys.argv[1:]:
        print("\n".join(rows))
        return
    head = (
        "| parser | made with | events | complete | compared values | classes | thousand events/s | a loop | ratio |\n"
        "|---|---|---|---|---|---|---|---|---|\n"
    )
    before = PAGE.read_text(encoding="utf-8")
    start, _, rest = before.partition(MARK)
    PAGE.write_text(f"{start}{MARK}{head}" + "\n".join(rows) + f"{END}{rest.partition(END)[2]}", encoding="utf-8")


if __name__ == "__main__":
    main()
