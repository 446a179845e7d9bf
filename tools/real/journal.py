"""systemd's journal: what programs hand to it, as `journalctl` writes it as JSON, in its export format, and as lines.

    python tools/real/journal.py FOLDER

Needs to be root, and Debian's package systemd; journald is started by hand. Writes `journal.json`, `journal.export` and `journal.short`.
"""

from __future__ import annotations

import re
import socket
import sys
import time
from pathlib import Path

from running import ask, started

SOCKET = "/run/systemd/journal/socket"
ENTRIES: tuple[bytes, ...] = (
    b"MESSAGE=low tide\nPRIORITY=6\nSYSLOG_IDENTIFIER=tide\n",
    b"MESSAGE=Accepted password for m.okoro from 192.0.2.14 port 4022 ssh2\nPRIORITY=6\nSYSLOG_FACILITY=4\nSYSLOG_IDENTIFIER=sshd\nSYSLOG_PID=812\n",
    'MESSAGE=字 åβ "x" = \\ \t tab\nPRIORITY=3\nSYSLOG_IDENTIFIER=tide\nTIDE_HEIGHT=3.2\nCODE_FILE=tide.c\nCODE_LINE=7\n'.encode(),
    b"MESSAGE=a=b\n__REALTIME_TIMESTAMP=1\nPRIORITY=2\nSYSLOG_IDENTIFIER=tide\n",
    b"MESSAGE=\nPRIORITY=7\nSYSLOG_IDENTIFIER=tide\n",
    b"MESSAGE=no level\nSYSLOG_IDENTIFIER=tide\n",
    b"MESSAGE=fails\nPRIORITY=4\nERRNO=13\nSYSLOG_IDENTIFIER=tide\nMESSAGE_ID=0123456789abcdef0123456789abcdef\nUNIT=tide.service\n",
)
LINES = b"two\nlines of\n\nPRIORITY=0"


def _field(name: bytes, value: bytes) -> bytes:
    return name + b"\n" + len(value).to_bytes(8, "little") + value + b"\n"


def main() -> None:
    folder = Path(sys.argv[1]).resolve()
    folder.mkdir(parents=True, exist_ok=True)
    Path("/run/systemd/journal").mkdir(parents=True, exist_ok=True)
    with started("/lib/systemd/systemd-journald", wait=2):
        with socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM) as bare:
            bare.connect(SOCKET)
            for entry in (*ENTRIES, _field(b"MESSAGE", LINES) + b"PRIORITY=5\nSYSLOG_IDENTIFIER=tide\n",
                          _field(b"MESSAGE", b"\xff\xfe raw") + b"SYSLOG_IDENTIFIER=tide\n"):  # fmt: skip
                bare.send(entry)
        ask("systemd-cat", "-t", "tide", "-p", "warning", "sh", "-c", "echo from a stream; echo '<3>worse'")
        time.sleep(1)
        for form, name in (
            ("json", "journal.json"),
            ("export", "journal.export"),
            ("short-iso-precise", "journal.short"),
        ):
            text = ask("journalctl", "--no-pager", "-q", "-o", form, "-t", "tide", "-t", "sshd", "--since", "-5s", "-m")
            for pattern, instead in (
                (rf"\b{re.escape(socket.gethostname())}\b", "quay-1"), (r'("?_MACHINE_ID"?[:=]"?)[0-9a-f]{32}', r"\g<1>" + "5a" * 16),
                (r'(_BOOT_ID"?[:=]"?|;b=)[0-9a-f]{32}', r"\g<1>" + "b0" * 16),
                (r"[^\s\"=]*/python3[.\d]*", "/usr/bin/python3"), (re.escape(" ".join(sys.argv)), "journal.py"),
            ):  # fmt: skip
                text = re.sub(pattern, instead, text)
            (folder / name).write_text(text, "utf-8", newline="")


if __name__ == "__main__":
    main()
