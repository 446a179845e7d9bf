"""Writes the table of docs/library.md: what each ready parser was tried on, what it made of it, and how fast.

    python tools/build_library.py [PARSER...]

With names it prints their rows only. The speeds are events a second of processor time to NDJSON of the fields, of
samples written out many times, beside a loop over the same events in Python with the same expressions, `strptime` and
`json`.
"""

from __future__ import annotations

import csv
import json
import sys
import tempfile
import time
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, NamedTuple

import kinglet
from kinglet.regex.for_python import for_python
from kinglet.shelf import shelf
from kinglet.spec.ready import ready_parsers

ROOT = Path(__file__).parent.parent
REAL = ROOT / "tests" / "real"
PAGE = ROOT / "docs" / "library.md"
MARK, END = "<!-- made by tools/build_library.py -->\n", "\n<!-- end -->"
AT = "2026-11-30"
BYTES = 4 * 2**20


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
    "audit": _tried(FORM, ""),
    "bind": _tried("BIND 9.18", "bind", "bind/queries.log", "bind/named.log"),
    "chrony": _tried("chrony 4.3; steps of the clock: its published form", "chrony", "chrony/chrony.log"),
    "cri": _tried(FORM, ""),
    "csv-header": _tried("any", ""),
    "cron": _tried("cron 3.0pl1", "jobs", "jobs/traditional.log", "jobs/rfc5424.log"),
    "dnsmasq": _tried("dnsmasq 2.90; leases: its published form", "resolvers", "resolvers/dnsmasq.log"),
    "docker-json": _tried(FORM, ""),
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
    "linux-accounts": _tried("passwd 4.13", "accounts", "accounts/traditional.log", "accounts/rfc5424.log"),
    "mariadb-error": _tried("MariaDB 10.11", "mariadb", "mariadb/error.log"),
    "mariadb-general": _tried("MariaDB 10.11", "mariadb", "mariadb/general.log"),
    "mariadb-slow": _tried("MariaDB 10.11", "mariadb", "mariadb/slow.log"),
    "ncsa": _tried("any", "", "nginx/access.log"),
    "netfilter": _tried(FORM, ""),
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
    "proftpd": _tried("ProFTPD 1.3.8", "ftp", "ftp/proftpd.log"),
    "python-logging": _tried("Python 3.11", "runtimes", "runtimes/python.log"),
    "redis": _tried("Redis 7.0", "redis", "redis/redis.log", "redis/replica.log"),
    "samba-audit": _tried(FORM, ""),
    "squid-access": _tried("Squid 5.7", "squid", "squid/access.log"),
    "strongswan": _tried(FORM, ""),
    "su": _tried("util-linux 2.38", "accounts", "accounts/traditional.log", "accounts/rfc5424.log"),
    "sudo": _tried("sudo 1.9", "accounts", "accounts/traditional.log", "accounts/rfc5424.log"),
    "syslog-rfc3164": _tried("any", "", "accounts/traditional.log"),
    "syslog-rfc5424": _tried("any", "", "accounts/rfc5424.log"),
    "unattended-upgrades": _tried("unattended-upgrades 2.9", "packages", "packages/unattended-upgrades.log"),
    "unbound": _tried("Unbound 1.17", "resolvers", "resolvers/unbound.log", "resolvers/unbound-dated.log"),
    "vsftpd": _tried("vsftpd 3.0.3", "ftp", "ftp/vsftpd.log"),
    "windows-event": _tried(FORM, ""),
    "wireguard": _tried(FORM, ""),
    "xferlog": _tried("ProFTPD 1.3.8, vsftpd 3.0.3", "ftp", "ftp/proftpd-xferlog", "ftp/vsftpd-xferlog"),
}


def _own(name: str) -> tuple[Any, list[str]]:
    """A parser, and the raw events that are its own: of its samples, or where it has none of its cases."""
    parser = kinglet.load(name)
    raws: list[str] = []
    for sample in TRIED[name].samples:
        events = parser.parse(REAL / sample, reference_time=AT).events
        raws += events.filter(events["variant"].is_not_null())["raw"].to_list()
    return parser, raws or [case.raw for case in parser._definition.cases]


def _row(name: str, classes: list[str]) -> str:
    tried = TRIED[name]
    parser, raws = _own(name)
    counts = parser.parse(raws, reference_time=AT).counts
    program = f"{tried.program}, `tools/real/{tried.script}.py`" if tried.script else tried.program
    events = f"{counts['events']}" + ("" if tried.samples else " of its cases")
    ours, theirs = _speeds(parser, raws)
    ratio = f"{ours / theirs:.1f}" if theirs else "–"
    shown = ", ".join(classes[:4]) + (" …" if len(classes) > 4 else "")
    beside = f"{theirs / 1000:,.0f}" if theirs else "–"
    cells = [f"`{name}`", program, events, counts["complete"], shown, f"{ours / 1000:,.0f}", beside, ratio]
    return "| " + " | ".join(map(str, cells)) + " |"


def _speeds(parser: Any, raws: list[str]) -> tuple[float, float]:
    """Events a second of processor time: of the parser, and of a loop over the same events."""
    many = raws * max(1, BYTES // max(1, sum(map(len, raws))))
    ours = 0.0
    with tempfile.TemporaryDirectory() as folder:
        for _ in range(2):
            begun = time.process_time()
            parser.parse(many, reference_time=AT, workers=1).write(Path(folder) / "out.ndjson", as_="fields")
            ours = max(ours, len(many) / (time.process_time() - begun))
        reader = _reader(parser)
        if reader is None:
            return ours, 0.0
        begun = time.process_time()
        with (Path(folder) / "loop.ndjson").open("w", encoding="utf-8") as out:
            for raw in many:
                values = reader(raw)
                values["time"] = _moment(parser, values)
                out.write(json.dumps(values, ensure_ascii=False) + "\n")
        return ours, len(many) / (time.process_time() - begun)


def _reader(parser: Any) -> Any:
    """How a loop in Python would read an event: the same expressions, one after the other."""
    plan = parser._plan
    envelope = plan.envelope
    structure = envelope.structures[0].structure.name if envelope is not None and envelope.structures else None
    if envelope is None and plan.variants[0].reading.structures:
        structure = plan.variants[0].reading.structures[0].structure.name
    if structure == "json":
        return json.loads
    if structure == "delimited":
        names = parser._definition.envelope.delimited.names
        return lambda raw: dict(zip(names, next(csv.reader([raw])), strict=False))
    if structure in ("xml", "block", "pairs", "fixed"):
        return None
    heads = [for_python(regex) for regex in envelope.regexes] if envelope is not None else []
    bodies = [[for_python(regex) for regex in variant.reading.regexes] for variant in plan.variants]

    def read(raw: str) -> dict[str, Any]:
        values: dict[str, Any] = {"raw": raw}
        body = raw
        for regex in heads:
            if (match := regex.search(raw)) is not None:
                values |= match.groupdict()
                body = values.get(plan.body or "") or raw
                break
        for regexes in bodies:
            for regex in regexes:
                if (match := regex.search(body)) is not None:
                    return values | match.groupdict()
        return values

    return read


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
        "| parser | made with | events | complete | classes | thousand events/s | a loop | ratio |\n"
        "|---|---|---|---|---|---|---|---|\n"
    )
    before = PAGE.read_text(encoding="utf-8")
    start, _, rest = before.partition(MARK)
    PAGE.write_text(f"{start}{MARK}{head}" + "\n".join(rows) + f"{END}{rest.partition(END)[2]}", encoding="utf-8")


if __name__ == "__main__":
    main()
