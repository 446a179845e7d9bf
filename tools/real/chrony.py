"""chrony on loopback: a clock that follows another until this ends.

    python tools/real/chrony.py FOLDER

Needs Debian's package chrony. Writes `chrony.log`. The clock of the machine is not touched.
"""

from __future__ import annotations

import sys
import tempfile
import time
from pathlib import Path

from running import keep, started

CHRONY = """
port {port}
bindaddress 127.0.0.1
pidfile {inner}/{name}.pid
bindcmdaddress {inner}/{name}.sock
cmdport 0
driftfile {inner}/{name}.drift
{rest}
"""


def _clock(inner: Path, folder: Path) -> None:
    (inner / "server.conf").write_text(
        CHRONY.format(inner=inner, name="server", port=1123, rest="local stratum 8\nallow 127.0.0.1")
    )
    rest = "server 127.0.0.1 port 1123 iburst minpoll 0 maxpoll 0\nserver none.quay.example\nserver 127.0.0.1 port 1 iburst"
    (inner / "client.conf").write_text(CHRONY.format(inner=inner, name="client", port=0, rest=rest))
    log = inner / "chrony.log"
    with (
        started("/usr/sbin/chronyd", "-x", "-d", "-u", "root", "-f", inner / "server.conf") as server,
        log.open("wb") as out,
    ):
        clock = ("/usr/sbin/chronyd", "-x", "-d", "-u", "root", "-f")
    with (
        started(*clock, inner / "server.conf") as server,
        log.open("wb") as out,
        started(*clock, inner / "client.conf", out=out),
    ):
        time.sleep(8)
        server.terminate()
        time.sleep(12)
    keep(log, folder / "chrony.log", inner)


def main() -> None:
    folder = Path(sys.argv[1]).resolve()
    with tempfile.TemporaryDirectory() as name:
        _clock(Path(name), folder)


if __name__ == "__main__":
    main()
