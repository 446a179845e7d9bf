"""vsftpd and ProFTPD on loopback: the same visits, as each of them logs them.

    python tools/real/ftp.py FOLDER VSFTPD

Needs to be root, and Debian's package proftpd-core; VSFTPD is the program of the package vsftpd, which does not stand beside it. Writes `vsftpd.log`, `vsftpd-xferlog`, `proftpd.log`,
`proftpd-xferlog`. Two accounts of the machine are made for a while.
"""

from __future__ import annotations

import contextlib
import ftplib
import io
import sys
import tempfile
from pathlib import Path

from running import ask, keep, started
from sending import send

PORT = 2188
VSFTPD = """
listen=YES
listen_address=127.0.0.1
listen_port={port}
background=NO
local_enable=YES
write_enable=YES
anonymous_enable=YES
anon_root={inner}/pub
xferlog_enable=YES
xferlog_std_format={std}
log_ftp_protocol={protocol}
vsftpd_log_file={inner}/vsftpd.log
xferlog_file={inner}/vsftpd-xferlog
secure_chroot_dir=/var/run/vsftpd/empty
pam_service_name=vsftpd
max_login_fails=2
"""
PROFTPD = """
ServerName tide
ServerType standalone
Port {port}
DefaultAddress 127.0.0.1
User nobody
Group nogroup
ScoreboardFile {inner}/scoreboard
PidFile {inner}/proftpd.pid
TransferLog {inner}/proftpd-xferlog
RequireValidShell off
AuthOrder mod_auth_unix.c
WtmpLog off
UseReverseDNS off
<Limit LOGIN>
  DenyUser tvarela
</Limit>
"""


def _visit() -> None:
    for user, password in (("mokoro", "low tide"), ("mokoro", "high tide"), ("nobody-here", "x"), ("anonymous", "m@quay.example"),
                           ('x" [1] from 192.0.2.1', "x"), ("root", "x"), ("tvarela", "low tide")):  # fmt: skip
        with contextlib.suppress(*ftplib.all_errors, OSError), ftplib.FTP() as ftp:
            ftp.encoding = "utf-8"
            ftp.connect("127.0.0.1", PORT, timeout=5)
            ftp.login(user, password)
            steps = (
                lambda ftp=ftp: ftp.storbinary('STOR tide table "1" åβ.txt', io.BytesIO(b"low\n" * 50)),
                lambda ftp=ftp: ftp.retrbinary('RETR tide table "1" åβ.txt', lambda _: None),
                lambda ftp=ftp: ftp.retrbinary("RETR none", lambda _: None),
                lambda ftp=ftp: ftp.mkd("berth"),
                lambda ftp=ftp: ftp.rmd("berth"),
                lambda ftp=ftp: ftp.rename('tide table "1" åβ.txt', "low.txt"),
                lambda ftp=ftp: ftp.delete("low.txt"),
                lambda ftp=ftp: ftp.delete("/etc/passwd"),
                lambda ftp=ftp: ftp.sendcmd("SITE CHMOD 777 none"),
                lambda ftp=ftp: ftp.sendcmd("NONSENSE"),
            )
            for step in steps:
                with contextlib.suppress(*ftplib.all_errors):
                    step()  # type: ignore[no-untyped-call]
            ftp.quit()
    send("127.0.0.1", PORT, b"GET / HTTP/1.1\r\n\r\n")
    send("127.0.0.1", PORT, b"USER \xe5\xad\x97 \x01\r\nPASS x\r\nQUIT\r\n")


def main() -> None:
    folder = Path(sys.argv[1]).resolve()
    with tempfile.TemporaryDirectory() as name:
        inner = Path(name)
        inner.chmod(0o755)
        (inner / "pub").mkdir()
        Path("/var/run/vsftpd/empty").mkdir(parents=True, exist_ok=True)
        for person in ("mokoro", "tvarela"):
            ask("useradd", "-m", "-d", f"{name}/{person}", "-s", "/bin/sh", person)
            ask("chpasswd", given=f"{person}:low tide\n")
        try:
            for std, protocol in (("NO", "NO"), ("YES", "NO"), ("NO", "YES")):
                config = inner / "vsftpd.conf"
                config.write_text(VSFTPD.format(port=PORT, inner=inner, std=std, protocol=protocol))
                config.chmod(0o600)
                with started(sys.argv[2], config, wait=1):
                    _visit()
            config = inner / "proftpd.conf"
            config.write_text(PROFTPD.format(port=PORT, inner=inner))
            with (inner / "proftpd.log").open("wb") as out, started("/usr/sbin/proftpd", "-n", "-c", config, out=out):
                _visit()
        finally:
            for person in ("mokoro", "tvarela"):
                ask("userdel", person)
        for log in ("vsftpd.log", "vsftpd-xferlog", "proftpd.log", "proftpd-xferlog"):
            keep(inner / log, folder / log, name)


if __name__ == "__main__":
    main()
