"""MariaDB on loopback: its error log, and statements in the general and the slow log, which it keeps as tables too.

    python tools/real/mariadb.py FOLDER

Needs Debian's package mariadb-server. Writes `error.log`, `general.log`, `slow.log`, and the tables as `general.json` and `slow.json`.
"""

from __future__ import annotations

import sys
import tempfile
from pathlib import Path

from running import ask, keep, started

PORT = "3388"
ORDERS = (
    "CREATE DATABASE quay", "CREATE USER 'm.okoro'@'127.0.0.1' IDENTIFIED BY 'low tide'", "GRANT ALL ON quay.* TO 'm.okoro'@'127.0.0.1'",
    "CREATE TABLE quay.tides (height INT, berth TEXT)", "INSERT INTO quay.tides VALUES (3, 'it''s \\\\ \"low\"\n# Time: none')",
    "SELECT SLEEP(0.3), 'åβ字\t tab'\n  FROM quay.tides", "SELECT * FROM quay.none", "SELEC 1", "SET GLOBAL max_connections = 50",
    "ALTER USER 'm.okoro'@'127.0.0.1' ACCOUNT UNLOCK", "UPDATE quay.tides SET height = 4 WHERE SLEEP(0.25) = 0", "DROP USER 'm.okoro'@'127.0.0.1'",
)  # fmt: skip


def main() -> None:
    folder = Path(sys.argv[1]).resolve()
    with tempfile.TemporaryDirectory() as name:
        inner = Path(name)
        data, socket = inner / "data", inner / "sock"
        ask(
            "mariadb-install-db",
            "--user=root",
            f"--datadir={data}",
            "--auth-root-authentication-method=normal",
            "--skip-test-db",
        )
        with started(
            "/usr/sbin/mariadbd", "--no-defaults", "--user=root", f"--datadir={data}", f"--socket={socket}", f"--port={PORT}",
            "--bind-address=127.0.0.1", f"--log-error={inner}/error.log", "--log-warnings=9", "--general-log=1", f"--general-log-file={inner}/general.log",
            "--slow-query-log=1", f"--slow-query-log-file={inner}/slow.log", "--long-query-time=0.2", "--log-output=FILE,TABLE",
            f"--pid-file={inner}/pid", wait=4,
        ):  # fmt: skip
            root = ("mariadb", "--no-defaults", f"--socket={socket}", "-u", "root", "--default-character-set=utf8mb4")
            for order in ORDERS[:4]:
                ask(*root, "-e", order)
            tcp = ("mariadb", "--no-defaults", "-h", "127.0.0.1", f"--port={PORT}", "--default-character-set=utf8mb4")
            for order in ORDERS[4:7]:
                ask(*tcp, "-u", "m.okoro", "-plow tide", "quay", "-e", order)
            ask(*tcp, "-u", "m.okoro", "-phigh tide", "quay", "-e", "SELECT 1")
            ask(*tcp, "-u", "x ' \"[1]", "-px", "-e", "SELECT 1")
            ask(*tcp, "-u", "m.okoro", "-plow tide", "mysql", "-e", "SELECT 1")
            for order in ORDERS[7:]:
                ask(*root, "-e", order)
            fields = (
                "'at', event_time, 'who', user_host, 'thread', thread_id, 'command', command_type, 'said', argument"
            )
            general = ask(*root, "-NBre", f"SELECT JSON_OBJECT({fields}) FROM mysql.general_log")
            fields = "'at', start_time, 'who', user_host, 'took', query_time, 'locked', lock_time, 'sent', rows_sent, 'examined', rows_examined, 'database', db, 'said', sql_text"
            slow = ask(*root, "-NBre", f"SELECT JSON_OBJECT({fields}) FROM mysql.slow_log")
        for log in ("error.log", "general.log", "slow.log"):
            keep(inner / log, folder / log, name)
        (folder / "general.json").write_text(general.replace(name, "/srv/quay"))
        (folder / "slow.json").write_text(slow.replace(name, "/srv/quay"))


if __name__ == "__main__":
    main()
