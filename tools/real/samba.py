"""smbd on loopback, with its module full_audit: files and folders are made, read, renamed, removed and refused.

    python tools/real/samba.py FOLDER

Needs to be root, and Debian's packages samba and smbclient. Writes `traditional.log` and `rfc5424.log`. Two accounts of
the machine are made for a while.
"""

from __future__ import annotations

import socket
import sys
import tempfile
import time
from pathlib import Path

from collector import collected
from running import ask, started

PORT = "4455"
PEOPLE = {"mokoro": "Ebb-and-flow-1", "tvarela": "Slack-water-2"}
CONFIG = """
[global]
server role = standalone server
workgroup = QUAY
netbios name = quay-1
interfaces = lo
bind interfaces only = yes
smb ports = {port}
disable netbios = yes
map to guest = never
private dir = {inner}/private
lock directory = {inner}/lock
state directory = {inner}/state
cache directory = {inner}/cache
pid directory = {inner}/pid
ncalrpc dir = {inner}/ncalrpc
passdb backend = tdbsam:{inner}/private/passdb.tdb
log file = {inner}/smbd.log
load printers = no

[tides]
path = {inner}/tides
read only = no
vfs objects = full_audit
full_audit:prefix = %u|%I|%m|%S
full_audit:success = connect disconnect mkdirat unlinkat renameat openat create_file pwrite_send pread_send fsetxattr
full_audit:failure = connect mkdirat unlinkat renameat openat create_file
full_audit:facility = local5
full_audit:priority = notice

[charts]
path = {inner}/charts
read only = yes
valid users = mokoro
vfs objects = full_audit
full_audit:success = connect disconnect openat
full_audit:failure = all
"""
GOOD = (
    "mkdir spring; cd spring; put {note} low.txt; get low.txt {copy}; rename low.txt high.txt; chmod 600 high.txt; "
    "put {note} \"neap 'tide'.txt\"; del high.txt; cd ..; del spring/*; rmdir spring"
)
ODD = (
    'put {note} "flut ebbe Ä 潮.txt"; put {note} "  two  blanks .txt"; rename "flut ebbe Ä 潮.txt" "neu Ä.txt"; '
    'get none.txt {copy}; rmdir none; del none.txt; mkdir "spring"; mkdir "spring"; rename none.txt other.txt'
)


def main() -> None:
    folder = Path(sys.argv[1]).resolve()
    folder.mkdir(parents=True, exist_ok=True)
    for log in folder.glob("*.log"):
        log.unlink()
    with tempfile.TemporaryDirectory() as name:
        inner = Path(name)
        inner.chmod(0o755)
        for part in ("private", "lock", "state", "cache", "pid", "ncalrpc", "tides", "charts"):
            (inner / part).mkdir()
        (inner / "tides").chmod(0o777)
        (inner / "charts" / "north.txt").write_text("shoals\n")
        (inner / "note.txt").write_text("low tide at 06:12\n")
        config = inner / "smb.conf"
        config.write_text(CONFIG.format(port=PORT, inner=inner))
        for person, secret in PEOPLE.items():
            ask("useradd", "-M", person)
            ask("smbpasswd", "-c", config, "-s", "-a", person, given=f"{secret}\n{secret}\n")
        paths = {"note": inner / "note.txt", "copy": inner / "copy.txt"}
        with collected(folder):
            with started("/usr/sbin/smbd", "-F", "-s", config, wait=3):
                for person, share, commands in (
                    ("mokoro", "tides", GOOD), ("tvarela", "tides", ODD), ("mokoro", "charts", "get north.txt {copy}"),
                    ("mokoro", "charts", "put {note} south.txt; del north.txt"), ("tvarela", "charts", "ls"),
                    ("tvarela", "none", "ls"),
                ):  # fmt: skip
                    _visit(person, PEOPLE[person], share, commands.format(**paths))
                _visit("mokoro", "wrong", "tides", "ls")
                _visit("nobody-here", "wrong", "tides", "ls")
                time.sleep(1)
            time.sleep(1)
        for person in PEOPLE:
            ask("userdel", person)
    for log in folder.glob("*.log"):
        text = log.read_text().replace(str(inner), "/srv/quay")
        log.write_text(text.replace(f"|{socket.gethostname()}|", "|quay-1|"))


def _visit(person: str, secret: str, share: str, commands: str) -> None:
    ask("smbclient", f"//127.0.0.1/{share}", "-p", PORT, "-U", f"{person}%{secret}", "-c", commands)


if __name__ == "__main__":
    main()
