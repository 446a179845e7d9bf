"""Logons and accounts: OpenSSH server, sudo, su, PAM, useradd and its like, driven on loopback.

    python tools/real/accounts.py FOLDER

Needs to be root, and Debian's packages openssh-server, sudo and passwd. Leaves nothing behind but the logs.
"""

from __future__ import annotations

import contextlib
import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

from collector import collected

PORT = 2222
PASSWORD = "low tide at 4"
PEOPLE = ("mokoro", "apires", "tvarela")


def _run(*command: str, given: str = "", people: dict[str, str] | None = None) -> None:
    """Runs a command whatever comes of it: that it fails is part of what is logged."""
    with contextlib.suppress(subprocess.TimeoutExpired):
        subprocess.run(
            command, input=given, text=True, capture_output=True, timeout=20, check=False, cwd="/",
            env={**os.environ, **(people or {})},
        )  # fmt: skip


@contextlib.contextmanager
def server(folder: Path) -> Iterator[None]:
    """An OpenSSH server on loopback, with its keys and configuration in a folder."""
    Path("/run/sshd").mkdir(exist_ok=True)
    key = folder / "host_key"
    _run("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(key))
    config = folder / "sshd_config"
    config.write_text(
        f"Port {PORT}\nListenAddress 127.0.0.1\nListenAddress ::1\nHostKey {key}\nUsePAM yes\n"
        f"PidFile {folder}/sshd.pid\n"
        "MaxAuthTries 3\nLoginGraceTime 5\nAllowUsers mokoro apires root\nSubsystem sftp internal-sftp\n"
        "PermitRootLogin no\nMaxStartups 3:50:5\n"
    )
    server = subprocess.Popen(["/usr/sbin/sshd", "-D", "-f", str(config)])
    time.sleep(1)
    try:
        yield
    finally:
        server.terminate()
        server.wait()


def log_on(folder: Path, person: str, *more: str, password: str = PASSWORD, command: str = "true") -> None:
    """Logs on as a person, with a password or as more options say."""
    ask = folder / "ask"
    ask.write_text(f"#!/bin/sh\necho '{password}'\n")
    ask.chmod(0o755)
    options = [
        "-o",
        "StrictHostKeyChecking=no",
        "-o",
        "UserKnownHostsFile=/dev/null",
        "-o",
        "NumberOfPasswordPrompts=2",
    ]
    _run("setsid", "ssh", "-p", str(PORT), *options, *more, "-l", person, "127.0.0.1", command,
         people={"SSH_ASKPASS": str(ask), "SSH_ASKPASS_REQUIRE": "force", "DISPLAY": ":0"})  # fmt: skip


def _accounts() -> None:
    _run("groupadd", "berth")
    for person in PEOPLE:
        _run("useradd", "-m", "-s", "/bin/sh", "-G", "berth", person)
        _run("chpasswd", given=f"{person}:{PASSWORD}\n")
    _run("useradd", "mokoro")
    _run("usermod", "-aG", "sudo", "mokoro")
    _run("usermod", "-s", "/bin/bash", "apires")
    _run("usermod", "-L", "tvarela")
    _run("usermod", "-U", "tvarela")
    _run("gpasswd", "-d", "tvarela", "berth")
    _run("gpasswd", "-a", "tvarela", "berth")
    _run("chage", "-M", "90", "apires")
    _run("passwd", "-d", "tvarela")
    _run("passwd", "mokoro", given=f"{PASSWORD}\n{PASSWORD}\n")
    _run("groupmod", "-n", "berths", "berth")


def _logons(folder: Path) -> None:
    key = folder / "key"
    _run("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(key))
    home = Path("/home/mokoro/.ssh")
    home.mkdir(mode=0o700, exist_ok=True)
    shutil.copy(f"{key}.pub", home / "authorized_keys")
    _run("chown", "-R", "mokoro:mokoro", str(home))
    with server(folder):
        log_on(folder, "mokoro", "-i", str(key))
        log_on(folder, "apires")
        log_on(folder, "apires", password="wrong")
        log_on(folder, "tvarela")
        log_on(folder, "root")
        log_on(folder, "nobody here")
        log_on(folder, "x from 192.0.2.1 port 1 ssh2")
        log_on(folder, "admin", "-o", "PreferredAuthentications=none")
        log_on(folder, "mokoro", "-i", str(key), "-s", command="sftp")
        _run("bash", "-c", f"echo hello > /dev/tcp/127.0.0.1/{PORT}")
        _run("bash", "-c", f"exec 3<>/dev/tcp/127.0.0.1/{PORT}; sleep 6")
        _run("ssh", "-p", str(PORT), "-o", "KexAlgorithms=diffie-hellman-group1-sha1", "-o", "BatchMode=yes",
             "-o", "StrictHostKeyChecking=no", "mokoro@127.0.0.1")  # fmt: skip


def _as(person: str, *command: str, given: str = f"{PASSWORD}\n") -> None:
    _run("runuser", "-u", person, "--", *command, given=given)


def _rights() -> None:
    _run("su", "-s", "/bin/sh", "apires", "-c", "true")
    _as("apires", "su", "mokoro", "-c", "true")
    _as("apires", "su", "mokoro", "-c", "true", given="wrong\n")
    _as("mokoro", "sudo", "-S", "-k", "id")
    _as("mokoro", "sudo", "-S", "-k", "-u", "apires", "sh", "-c", "echo 'a ; b = c'")
    _as("mokoro", "sudo", "-S", "-k", "-g", "berths", "TIDE=low", "id")
    _as("mokoro", "script", "-qec", f"echo '{PASSWORD}' | sudo -S -k true", "/dev/null")
    _as("mokoro", "sudo", "-S", "-k", "id", given="wrong\nwrong\nwrong\n")
    _as("apires", "sudo", "-S", "-k", "cat", "/etc/shadow")
    _as("mokoro", "sudo", "-n", "-k", "true")


def main() -> None:
    folder = Path(sys.argv[1])
    folder.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as inner, collected(folder):
        Path(inner).chmod(0o755)
        try:
            _accounts()
            _logons(Path(inner))
            _rights()
        finally:
            for person in PEOPLE:
                _run("userdel", "-r", person)
            _run("groupdel", "berths")
        time.sleep(0.5)


if __name__ == "__main__":
    main()
