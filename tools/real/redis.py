"""Redis on loopback: starts, saves, a replica, an attack over HTTP, a wrong configuration, and its end.

    python tools/real/redis.py FOLDER

Needs Debian's package redis-server. Writes `redis.log`.
"""

from __future__ import annotations

import sys
import tempfile
from pathlib import Path

from running import ask, keep, started
from sending import send

PORT = "6388"


def main() -> None:
    folder = Path(sys.argv[1]).resolve()
    with tempfile.TemporaryDirectory() as name:
        inner = Path(name)
        log = inner / "redis.log"
        options = ("--bind", "127.0.0.1", "::1", "--port", PORT, "--dir", name, "--logfile", str(log))
        with started("redis-server", *options, "--save", "1 1", "--loglevel", "verbose"):
            for order in (
                "SET tide low",
                "SAVE",
                "BGSAVE",
                "CONFIG SET maxmemory 1mb",
                "NONSENSE",
                "SHUTDOWN NOSAVE NOW x",
            ):
                ask("redis-cli", "-p", PORT, *order.split(" "))
            send("127.0.0.1", int(PORT), b"POST / HTTP/1.1\r\nHost: tide.example\r\n\r\n")
            send("::1", int(PORT), b"Host: tide.example\r\n\r\n")
            send("127.0.0.1", int(PORT), b"*3\r\n$-9\r\nxx\r\n")
            with started(
                "redis-server",
                "--bind",
                "127.0.0.1",
                "--port",
                "6389",
                "--dir",
                name,
                "--logfile",
                str(inner / "second.log"),
                "--replicaof",
                "127.0.0.1",
                PORT,
                wait=3,
            ):
                ask("redis-cli", "-p", PORT, "BGREWRITEAOF")
            ask("redis-cli", "-p", PORT, "DEBUG", "SLEEP", "0")
        with started("redis-server", *options[:6], name, "--logfile", str(log), "--maxmemory", "1"):
            pass
        keep(log, folder / "redis.log", name)
        keep(inner / "second.log", folder / "replica.log", name)


if __name__ == "__main__":
    main()
