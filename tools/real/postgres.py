"""PostgreSQL on loopback, driven by good and bad use; its log as text, as CSV and as JSON, all of the same events.

    python tools/real/postgres.py FOLDER [PREFIX]

PREFIX is another `log_line_prefix` than Debian's. Needs to be root, and Debian's package postgresql. The server itself writes `postgresql.log`, `.csv` and `.json`.
"""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

PORT = "5488"
CONFIG = """
listen_addresses = '127.0.0.1,::1'
port = {port}
unix_socket_directories = '{inner}'
logging_collector = on
log_destination = 'stderr,csvlog,jsonlog'
log_directory = '{inner}/log'
log_filename = 'postgresql.log'
log_line_prefix = '{prefix}'
log_timezone = 'UTC'
log_connections = on
log_disconnections = on
log_statement = 'ddl'
log_min_duration_statement = 200
log_lock_waits = on
deadlock_timeout = 100ms
log_checkpoints = on
log_temp_files = 0
work_mem = 64kB
ssl = off
"""
ACCESS = """
local all postgres trust
host all postgres 127.0.0.1/32 trust
host quay m.okoro 127.0.0.1/32 scram-sha-256
host quay m.okoro ::1/128 scram-sha-256
host all "tide ""low"" [1]" 127.0.0.1/32 scram-sha-256
"""
ORDERS: tuple[tuple[str, str, str, str], ...] = (
    ("postgres", "postgres", "", "CREATE ROLE \"m.okoro\" LOGIN PASSWORD 'low tide'"),
    ("postgres", "postgres", "", "CREATE ROLE tide_readers"),
    ("postgres", "postgres", "", "GRANT tide_readers TO \"m.okoro\""),
    ("postgres", "postgres", "", "CREATE DATABASE quay OWNER \"m.okoro\""),
    ("postgres", "postgres", "", "CREATE ROLE \"m.okoro\" LOGIN"),
    ("postgres", "postgres", "", "ALTER ROLE \"m.okoro\" VALID UNTIL '2030-01-01'"),
    ("m.okoro", "quay", "low tide", "CREATE TABLE tides (\n  height numeric,\n\tberth text\n)"),
    ("m.okoro", "quay", "low tide", "INSERT INTO tides VALUES (3.2, 'it''s \\ \"low\"')"),
    ("m.okoro", "quay", "low tide", "SELECT height FROM nothing"),
    ("m.okoro", "quay", "low tide", "SELECT 1/0"),
    ("m.okoro", "quay", "low tide", "SELEC 'åβ字 \t tab'\n  FROM tides\nERROR:  none"),
    ("m.okoro", "quay", "low tide", "SELECT pg_sleep(0.3)"),
    ("m.okoro", "quay", "low tide", "SELECT pg_reload_conf()"),
    ("m.okoro", "quay", "low tide", "ALTER TABLE tides ADD UNIQUE (berth)"),
    ("m.okoro", "quay", "low tide", "INSERT INTO tides VALUES (1, 'B1'), (2, 'B1')"),
    ("m.okoro", "quay", "low tide", "DO $$ BEGIN RAISE WARNING 'tide is %', 'low\n2026-11-29 10:00:00.000 UTC [1] a@b FATAL:  x'"
     " USING DETAIL = 'seen', HINT = 'wait'; END $$"),
    ("m.okoro", "quay", "low tide", "DO $$ BEGIN RAISE EXCEPTION 'no % here', 'berth'; END $$"),
    ("m.okoro", "quay", "low tide", "SET statement_timeout = 50; SELECT pg_sleep(1)"),
    ("m.okoro", "quay", "low tide", "SELECT count(*) FROM (SELECT i FROM generate_series(1, 200000) i ORDER BY i DESC) x"),
    ("m.okoro", "quay", "high tide", "SELECT 1"),
    ("nobody", "quay", "x", "SELECT 1"),
    ("m.okoro", "none", "low tide", "SELECT 1"),
    ("postgres", "none", "", "SELECT 1"),
    ("postgres", "quay", "", "SELECT pg_reload_conf()"),
    ("postgres", "quay", "", "DROP ROLE tide_readers"),
    ("postgres", "quay", "", "CHECKPOINT"),
    ("tide \"low\" [1]", "quay", "x", "SELECT 1"),
)  # fmt: skip


def _psql(user: str, database: str, password: str, order: str, host: str = "127.0.0.1") -> subprocess.Popen[bytes]:
    return subprocess.Popen(
        ["psql", "-qAt", "-h", host, "-p", PORT, "-U", user, "-d", database, "-c", order],
        env={**os.environ, "PGPASSWORD": password, "PGAPPNAME": "tide desk"},
        stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, cwd="/",
    )  # fmt: skip


def main() -> None:
    folder = Path(sys.argv[1]).resolve()
    folder.mkdir(parents=True, exist_ok=True)
    prefix = sys.argv[2] if len(sys.argv) > 2 else "%m [%p] %q%u@%d "
    programs = sorted(Path("/usr/lib/postgresql").glob("*/bin"))[-1]
    with tempfile.TemporaryDirectory() as name:
        inner = Path(name)
        shutil.chown(inner, "postgres")
        data = str(inner / "data")
        as_server = ["setpriv", "--reuid=postgres", "--regid=postgres", "--init-groups"]
        subprocess.run([*as_server, programs / "initdb", "-D", data, "-A", "trust", "-E", "UTF8", "--locale=C.UTF-8"],
                       check=True, capture_output=True, cwd="/")  # fmt: skip
        (inner / "data" / "postgresql.conf").write_text(CONFIG.format(port=PORT, inner=inner, prefix=prefix))
        (inner / "data" / "pg_hba.conf").write_text(ACCESS)
        for again in range(2):
            server = subprocess.Popen(
                [*as_server, programs / "postgres", "-D", data], stderr=subprocess.DEVNULL, cwd="/"
            )
            time.sleep(2)
            if not again:
                _drive()
            server.send_signal(signal.SIGINT)
            server.wait()
        for ending in ("log", "csv", "json"):
            text = (inner / "log" / f"postgresql.{ending}").read_text("utf-8", "surrogateescape")
            (folder / f"postgresql.{ending}").write_text(
                text.replace(str(inner), "/srv/quay"), "utf-8", "surrogateescape"
            )


def _drive() -> None:
    for user, database, password, order in ORDERS:
        _psql(user, database, password, order).wait()
    _psql("m.okoro", "quay", "low tide", "SELECT 1", host="::1").wait()
    # two that wait for each other
    halves = [
        _psql("m.okoro", "quay", "low tide", f"BEGIN; SELECT pg_advisory_xact_lock({a}); SELECT pg_sleep(0.4);"
              f" SELECT pg_advisory_xact_lock({b}); COMMIT")
        for a, b in ((1, 2), (2, 1))
    ]  # fmt: skip
    for half in halves:
        half.wait()
    # one that another ends, and one that dies
    sleeper = _psql("m.okoro", "quay", "low tide", "SELECT pg_sleep(20)")
    time.sleep(0.5)
    _psql(
        "postgres",
        "quay",
        "",
        "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE query LIKE '%sleep(20)' AND pid <> pg_backend_pid()",
    ).wait()
    sleeper.wait()
    sleeper = _psql("m.okoro", "quay", "low tide", "SELECT pg_sleep(30)")
    time.sleep(0.5)
    found = subprocess.run(
        ["pgrep", "-f", r"postgres: m.okoro quay .*SELECT"], capture_output=True, text=True, check=False
    )
    for pid in found.stdout.split():
        os.kill(int(pid), signal.SIGKILL)
    sleeper.wait()
    time.sleep(2)


if __name__ == "__main__":
    main()
