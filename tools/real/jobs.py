"""cron, driven for a little more than a minute: jobs that run, tables that are changed, refused and wrong.

    python tools/real/jobs.py FOLDER

Needs to be root, and Debian's package cron. Writes `traditional.log` and `rfc5424.log`; the tables of root are put back.
"""

from __future__ import annotations

import sys
import time
from pathlib import Path

from collector import collected
from running import ask, started

TABLE = """* * * * * echo "low tide" | cat -v; echo 50\\% (a) CMD (b)
* * * * * exit 3
@reboot true
"""


def main() -> None:
    folder = Path(sys.argv[1]).resolve()
    folder.mkdir(parents=True, exist_ok=True)
    for log in folder.glob("*.log"):
        log.unlink()
    before = ask("crontab", "-l")
    ask("useradd", "-M", "mokoro")
    Path("/var/spool/cron").mkdir(exist_ok=True)
    with collected(folder):
        with started("/usr/sbin/cron", "-f", "-L", "15"):
            ask("crontab", "-", given=TABLE)
            ask("crontab", "-l")
            ask("crontab", "-", given="nonsense\n")
            ask("crontab", "-u", "mokoro", "-", given="* * * * * id\n")
            ask("su", "mokoro", "-s", "/bin/sh", "-c", "crontab -l")
            Path("/etc/cron.deny").write_text("mokoro\n")
            ask("su", "mokoro", "-s", "/bin/sh", "-c", "crontab -l")
            Path("/etc/cron.deny").unlink()
            time.sleep(65)
            ask("crontab", "-u", "mokoro", "-r")
            ask("crontab", "-r")
        time.sleep(1)
    ask("userdel", "mokoro")
    if before and "no crontab" not in before:
        ask("crontab", "-", given=before)


if __name__ == "__main__":
    main()
