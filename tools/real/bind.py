"""BIND on loopback: queries good and bad, transfers and updates that are refused, and its end.

    python tools/real/bind.py FOLDER

Needs Debian's packages bind9 and bind9-dnsutils. Writes `named.log` (all but queries) and `queries.log`.
"""

from __future__ import annotations

import shutil
import socket
import sys
import tempfile
from pathlib import Path

from running import ask, keep, started

PORT = "5388"
CONFIG = """
options {{
  directory "{inner}";
  pid-file "{inner}/named.pid";
  session-keyfile "{inner}/session.key";
  listen-on port {port} {{ 127.0.0.1; }};
  listen-on-v6 port {port} {{ ::1; }};
  recursion no;
  allow-transfer {{ none; }};
  dnssec-validation no;
  querylog yes;
}};
controls {{ }};
logging {{
  channel rest {{ file "{inner}/named.log"; print-time yes; print-severity yes; print-category yes; severity info; }};
  channel asked {{ file "{inner}/queries.log"; print-time yes; print-severity yes; print-category yes; severity info; }};
  category default {{ rest; }};
  category queries {{ asked; }};
  category query-errors {{ asked; }};
}};
zone "quay.example" {{ type primary; file "{inner}/quay.zone"; allow-update {{ none; }}; }};
zone "broken.example" {{ type primary; file "{inner}/none.zone"; }};
"""
ZONE = """$TTL 300
@ IN SOA ns.quay.example. m.okoro.quay.example. 1 300 300 300 300
@ IN NS ns
ns IN A 192.0.2.53
tide IN A 192.0.2.7
tide IN AAAA 2001:db8::7
"""
QUESTIONS: tuple[tuple[str, ...], ...] = (
    ("tide.quay.example", "A"), ("tide.quay.example", "AAAA"), ("none.quay.example", "A"), ("quay.example", "SOA"),
    ("quay.example", "AXFR"), ("www.other.example", "A"), ("version.bind", "CH", "TXT"), ("tide.quay.example", "ANY"),
    ("TiDe.QUAY.example", "A", "+dnssec"), ("tide.quay.example", "A", "+tcp"), ("tide.quay.example", "A", "+cookie"),
    (r"a\032b(c).quay.example", "A"), (r"x'or\0341=1--.quay.example", "TXT"), ("tide.quay.example", "TYPE65"),
    ("tide.quay.example", "A", "+subnet=198.51.100.0/24"), ("broken.example", "A"), ("-x", "192.0.2.7"),
)  # fmt: skip


def main() -> None:
    folder = Path(sys.argv[1]).resolve()
    with tempfile.TemporaryDirectory() as name:
        inner = Path(name)
        (inner / "named.conf").write_text(CONFIG.format(inner=inner, port=PORT))
        (inner / "quay.zone").write_text(ZONE)
        for path in (inner, *inner.iterdir()):
            shutil.chown(path, "bind")
        with started("/usr/sbin/named", "-f", "-u", "bind", "-c", inner / "named.conf"):
            for question in QUESTIONS:
                for server in ("127.0.0.1", "::1"):
                    ask("dig", f"@{server}", "-p", PORT, "+tries=1", "+time=1", *question)
            for order in ("update add evil.quay.example 60 A 203.0.113.9", "update delete tide.quay.example"):
                ask("nsupdate", given=f"server 127.0.0.1 {PORT}\nzone quay.example\n{order}\nsend\n")
            with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as bare:
                for junk in (b"hello", b"\x12\x34\x01\x00\x00\x01\x00\x00\x00\x00\x00\x00\x04quay", b"\x00" * 12):
                    bare.sendto(junk, ("127.0.0.1", int(PORT)))
        for log in ("named.log", "queries.log"):
            keep(inner / log, folder / log, name)


if __name__ == "__main__":
    main()
