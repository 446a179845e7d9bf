"""dnsmasq and Unbound on loopback: the same questions, as each of them logs them.

    python tools/real/resolvers.py FOLDER

Needs Debian's packages dnsmasq-base, unbound and bind9-dnsutils. Writes `dnsmasq.log`, `unbound.log` and, in the form of
Unbound with stamps to read, `unbound-dated.log`.
"""

from __future__ import annotations

import shutil
import sys
import tempfile
from pathlib import Path

from running import ask, keep, started

PORT = "5389"
QUESTIONS: tuple[tuple[str, ...], ...] = (
    ("tide.quay.example", "A"), ("tide.quay.example", "AAAA"), ("none.quay.example", "A"), ("quay.example", "SOA"),
    ("www.other.example", "A"), ("version.bind", "CH", "TXT"), ("TiDe.QUAY.example", "A"), ("old.quay.example", "A"),
    (r"a\032b(c).quay.example", "A"), ("tide.quay.example", "TYPE65"), ("-x", "192.0.2.7"), ("bad.example", "A"),
    ("tide.quay.example", "A", "+tcp"), ("www.other.example", "MX"),
)  # fmt: skip
UNBOUND = """
server:
  interface: 127.0.0.1@{port}
  interface: ::1@{port}
  username: ""
  chroot: ""
  directory: "{inner}"
  pidfile: "{inner}/unbound.pid"
  logfile: "{inner}/{log}"
  use-syslog: no
  log-queries: yes
  log-replies: yes
  log-local-actions: yes
  log-time-ascii: {dated}
  verbosity: 1
  do-not-query-localhost: no
  module-config: "iterator"
  access-control: ::1 refuse
  local-zone: "quay.example." static
  local-data: "tide.quay.example. A 192.0.2.7"
  local-data: "tide.quay.example. AAAA 2001:db8::7"
  local-data-ptr: "192.0.2.7 tide.quay.example"
  local-zone: "bad.example." always_refuse
  local-zone: "old.quay.example." inform_deny
forward-zone:
  name: "."
  forward-addr: 127.0.0.1@1
remote-control:
  control-enable: no
"""


def _ask() -> None:
    for question in QUESTIONS:
        for server in ("127.0.0.1", "::1"):
            ask("dig", f"@{server}", "-p", PORT, "+tries=1", "+time=1", *question)


def main() -> None:
    folder = Path(sys.argv[1]).resolve()
    with tempfile.TemporaryDirectory() as name:
        inner = Path(name)
        inner.chmod(0o777)
        (inner / "hosts").write_text("192.0.2.7 tide.quay.example\n2001:db8::7 tide.quay.example\n")
        log = inner / "dnsmasq.log"
        with started(
            "/usr/sbin/dnsmasq", "-k", "-C", "/dev/null", "-p", PORT, "--no-resolv", "--no-hosts", f"--addn-hosts={inner}/hosts",
            "--log-queries", f"--log-facility={log}", "--server=127.0.0.1#1", "--address=/bad.example/", "--local=/quay.example/",
            "--listen-address=127.0.0.1,::1", "--bind-interfaces", "--user=root", "--cname=old.quay.example,tide.quay.example",
        ):  # fmt: skip
            _ask()
        keep(log, folder / "dnsmasq.log", name)
        for file, dated in (("unbound.log", "no"), ("unbound-dated.log", "yes")):
            config = inner / "unbound.conf"
            config.write_text(UNBOUND.format(inner=inner, port=PORT, log=file, dated=dated))
            shutil.chown(config, "unbound")
            with started("/usr/sbin/unbound", "-d", "-c", config):
                _ask()
            keep(inner / file, folder / file, name)


if __name__ == "__main__":
    main()
