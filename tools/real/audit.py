"""auditd of this machine, with rules for programs, files, connections and accounts: accounts are made, changed and
removed, passwords asked for and refused, files opened and refused, programs started with arguments of every kind.

    python tools/real/audit.py FOLDER

Needs to be root, a kernel that keeps an audit, and Debian's packages auditd and python3-audit. Writes what auditd wrote
with `log_format = RAW` (`raw.log`), and with `ENRICHED` and the name of the machine before each record (`named.log`), and
beside each the fields of its records as the audit library takes them apart (`NAME.fields`). `kernel.log` is what the
kernel says to syslog without auditd. Two accounts of the machine are made for a while.
"""

from __future__ import annotations

import os
import pwd
import re
import shutil
import socket
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from accounts import PASSWORD, log_on, server
from kernel import kernel_log
from running import ask, started

CONFIG = """
local_events = yes
write_logs = yes
log_file = {log}
log_group = root
log_format = {form}
flush = NONE
max_log_file = 64
num_logs = 2
max_log_file_action = IGNORE
name_format = {named}
name = quay-1
space_left = 1
space_left_action = IGNORE
admin_space_left = 0
admin_space_left_action = IGNORE
disk_full_action = IGNORE
disk_error_action = IGNORE
tcp_listen_queue = 5
plugin_dir = {inner}/plugins.d
"""
# Arguments as programs get them: with blanks, quotes, signs of the shell, line ends, other alphabets, and long ones.
ARGUMENTS = (
    [
        "/bin/true",
        "spring tide",
        "it's",
        'the "neap"',
        "a\\b",
        "c\td",
        "e\nf",
        "Flut Ä 潮",
        "",
        "x=1",
        "--if=/dev/null",
    ],
    ["/bin/cat", "/etc/shadow"],
    ["/bin/cat", "/srv/tides/no such file"],
    ["/bin/echo", "deadbeef", "DEADBEEF", "1234", "0", "?", "(null)"],
    ["/bin/echo", "long" * 2500],
    ["/bin/ls", "-l", "/srv/quay/Flut ebbe"],
)
OF_PEOPLE = "-F auid>=1000 -F auid!=unset"
# Two keys of one rule are written with a sign between them that has no shape, so as hexadecimal digits.
RULES = f"""
-D
-b 8192
-w /etc/passwd -p wa -k accounts
-w /etc/shadow -p wa -k accounts
-w /srv/quay -p rwxa -k tides -k files
-a always,exit -F arch=b64 -S execve,execveat {OF_PEOPLE} -k programs
-a always,exit -F arch=b64 -S openat -F exit=-EACCES {OF_PEOPLE} -k refused
-a always,exit -F arch=b64 -S connect,bind {OF_PEOPLE} -k network
-a always,exit -F arch=b64 -S kill {OF_PEOPLE} -k signals
-a always,exit -F arch=b64 -S unlinkat,unlink,rename,renameat2,fchmodat {OF_PEOPLE}
"""
PEOPLE = ("mokoro", "tvarela")
NAMES = {"raw": ("RAW", "NONE"), "named": ("ENRICHED", "USER")}
# What tells events of this script itself, which are not kept.
OWN = (b'comm="python', b"/.pyenv/")
FIELDS = Path(__file__).with_name("audit_fields.py")


def main() -> None:
    folder = Path(sys.argv[1]).resolve()
    folder.mkdir(parents=True, exist_ok=True)
    ask("mkdir", "-p", "/srv/quay")
    os.chdir("/")
    os.environ["PATH"] = "/usr/sbin:/usr/bin:/sbin:/bin"
    for name, (form, named) in NAMES.items():
        with tempfile.TemporaryDirectory() as place:
            inner = Path(place)
            inner.chmod(0o755)
            log = inner / "audit.log"
            rules = inner / "rules"
            rules.write_text(RULES)
            (inner / "auditd.conf").write_text(CONFIG.format(log=log, form=form, named=named, inner=inner))
            try:
                with started("/sbin/auditd", "-n", "-c", inner, wait=2):
                    ask("auditctl", "-e", "1")
                    ask("auditctl", "-R", rules)
                    _drive(inner)
                    time.sleep(2)
                    ask("auditctl", "-D")
            finally:
                ask("auditctl", "-D")
                ask("auditctl", "-e", "0")
                for person in PEOPLE:
                    ask("userdel", "-r", person)
            text = re.sub(rb'(?<=[ ="])' + socket.gethostname().encode() + rb'(?=[ "])', b"quay-1", log.read_bytes())
            (folder / f"{name}.log").write_bytes(_sample(_elsewhere(text, inner)))
        fields = subprocess.run(["/usr/bin/python3", FIELDS, folder / f"{name}.log"], capture_output=True, check=True)
        (folder / f"{name}.fields").write_bytes(fields.stdout)
    _without_daemon(folder)
    shutil.rmtree("/srv/quay")


def _without_daemon(folder: Path) -> None:
    """What the kernel says to syslog where no auditd takes it."""
    limit = Path("/proc/sys/kernel/printk_ratelimit")
    before = limit.read_text()
    limit.write_text("0")
    try:
        with tempfile.TemporaryDirectory() as place, kernel_log(folder / "kernel.log"):
            rules = Path(place) / "rules"
            rules.write_text(RULES)
            ask("auditctl", "-e", "1")
            ask("auditctl", "-R", rules)
            ask("/bin/true", *ARGUMENTS[0][1:])
            ask("/bin/cat", "/srv/tides/none")
            ask("useradd", PEOPLE[0])
            ask("bash", "-c", "kill -SEGV $$")
            ask("auditctl", "-D")
    finally:
        ask("auditctl", "-D")
        ask("auditctl", "-e", "0")
        ask("userdel", "-r", PEOPLE[0])
        limit.write_text(before)
    text = (folder / "kernel.log").read_bytes()
    (folder / "kernel.log").write_bytes(_sample(_elsewhere(text, Path(place))))


def _elsewhere(log: bytes, inner: Path) -> bytes:
    """A log with the folder of this run, and what this script is called by, as those of a place that never was."""
    title = Path("/proc/self/cmdline").read_bytes()[:127].rstrip(b"\0")
    for here, there in ((str(inner).encode(), b"/srv/set"), (title, b"-bash")):
        log = log.replace(here, there).replace(_digits(here), _digits(there))
    return log


def _digits(text: bytes) -> bytes:
    return text.hex().upper().encode()


def _sample(log: bytes) -> bytes:
    """An event of each kind, with all its records; none of this script itself."""
    lines = log.splitlines(keepends=True)
    events = [found[1] if (found := _EVENT.search(line)) else b"" for line in lines]
    texts: dict[bytes, bytes] = {}
    for event, line in zip(events, lines, strict=True):
        texts[event] = texts.get(event, b"") + line
    others = [event for event, text in texts.items() if not any(own in text for own in OWN)]
    kept = {*{tuple(_KIND.findall(texts[event])): event for event in reversed(others)}.values()}
    return b"".join(line for event, line in zip(events, lines, strict=True) if event in kept)


_EVENT = re.compile(rb"audit\(([^)]*)\)")
_KIND = re.compile(rb"\b(?:type|syscall|success|nametype|op|acct|exe|res|sig|saddr)=[^ ]{,24}")


def _drive(inner: Path) -> None:
    """Good and bad use by a person who has logged on: the kernel keeps who that was for all that is started."""
    ask("groupadd", "berth")
    for person in PEOPLE:
        ask("useradd", "-m", "-s", "/bin/sh", person)
        ask("chpasswd", given=f"{person}:{PASSWORD}\n")
    Path("/proc/self/loginuid").write_text(str(pwd.getpwnam(PEOPLE[0]).pw_uid))
    ask("useradd", PEOPLE[0])
    ask("usermod", "-aG", "sudo,berth", PEOPLE[0])
    ask("usermod", "-L", PEOPLE[1])
    ask("usermod", "-U", PEOPLE[1])
    ask("gpasswd", "-d", PEOPLE[0], "berth")
    ask("passwd", PEOPLE[1], given=f"{PASSWORD}\n{PASSWORD}\n")
    ask("chage", "-M", "90", PEOPLE[1])
    ask("groupmod", "-n", "berths", "berth")
    for arguments in ARGUMENTS:
        ask(*arguments)
        _as(PEOPLE[1], *arguments[:5])
    Path("/srv/quay/Flut ebbe").write_text("low\n")
    Path("/srv/quay/neu Ä.txt").write_text("high\n")
    ask("mv", "/srv/quay/neu Ä.txt", "/srv/quay/alt.txt")
    ask("chmod", "600", "/srv/quay/alt.txt")
    ask("rm", "-f", "/srv/quay/alt.txt", "/srv/quay/Flut ebbe", "/srv/quay/none")
    ask("bash", "-c", "echo tide > /dev/tcp/127.0.0.1/9; echo tide > /dev/tcp/::1/9; echo tide > /dev/udp/192.0.2.7/53")
    ask("bash", "-c", "sleep 5 & kill $!; kill -9 $$")
    ask("bash", "-c", "kill -SEGV $$")
    ask("ip", "link", "set", "lo", "promisc", "on")
    ask("ip", "link", "set", "lo", "promisc", "off")
    with server(inner):
        for person, secret in (
            (PEOPLE[0], PASSWORD),
            (PEOPLE[0], "wrong"),
            ("nobody here", "wrong"),
            ("root", "wrong"),
        ):
            log_on(inner, person, password=secret)
    _as(PEOPLE[0], "sudo", "-S", "-k", "id")
    _as(PEOPLE[0], "sudo", "-S", "-k", "sh", "-c", "echo 'a ; b = c'", given="wrong\nwrong\nwrong\n")
    _as(PEOPLE[0], "sudo", "-S", "-k", "sh", "-c", "echo 'a ; b = c'")
    _as(PEOPLE[1], "sudo", "-S", "-k", "cat", "/etc/shadow")
    _as(PEOPLE[1], "su", PEOPLE[0], "-c", "true")
    _as(PEOPLE[1], "su", PEOPLE[0], "-c", "true", given="wrong\n")
    ask("userdel", "-r", PEOPLE[1])
    ask("groupdel", "berths")
    ask("auditctl", "-m", "low tide of the east quay")


def _as(person: str, *command: str, given: str = f"{PASSWORD}\n") -> None:
    ask("runuser", "-u", person, "--", *command, given=given)


if __name__ == "__main__":
    main()
