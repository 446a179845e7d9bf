"""What programs send to `/dev/log` (syslog(3)), written as two files: the traditional form, and RFC 5424."""

from __future__ import annotations

import contextlib
import re
import socket
import threading
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path

_DEVICE = Path("/dev/log")
_FORM = re.compile(
    r"<(?P<pri>\d+)>(?P<stamp>\w{3} [ \d]\d \d\d:\d\d:\d\d) (?P<tag>[^:\[]+)(?:\[(?P<pid>\d+)\])?: ?"
    r"(?P<message>.*)",
    re.DOTALL,
)
HOST = "quay-1.sandwick.example"


@contextlib.contextmanager
def collected(folder: Path) -> Iterator[None]:
    """Collects into `traditional.log` and `rfc5424.log` of a folder. Needs to be root; `/dev/log` is put back after."""
    before = _DEVICE.readlink() if _DEVICE.is_symlink() else None
    _DEVICE.unlink(missing_ok=True)
    server = socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM)
    server.bind(str(_DEVICE))
    _DEVICE.chmod(0o666)
    server.settimeout(0.2)
    ended = threading.Event()
    worker = threading.Thread(target=_collect, args=(server, folder, ended))
    worker.start()
    try:
        yield
    finally:
        ended.set()
        worker.join()
        server.close()
        _DEVICE.unlink(missing_ok=True)
        if before is not None:
            _DEVICE.symlink_to(before)


def _collect(server: socket.socket, folder: Path, ended: threading.Event) -> None:
    with (folder / "traditional.log").open("a") as old, (folder / "rfc5424.log").open("a") as new:
        while True:
            try:
                text = server.recv(65_536).decode("utf-8", "backslashreplace").rstrip("\n\0")
            except TimeoutError:
                if ended.is_set():
                    return
                continue
            found = _FORM.match(text)
            if found is None:
                continue
            message = found["message"].replace("\n", "#012")
            tag = found["tag"] + (f"[{found['pid']}]" if found["pid"] else "")
            old.write(f"{found['stamp']} {HOST.partition('.')[0]} {tag}: {message}\n")
            now = datetime.now(UTC).isoformat(timespec="microseconds")
            pid = found["pid"] or "-"
            new.write(f"<{found['pri']}>1 {now} {HOST} {found['tag']} {pid} - - {message}\n")
            old.flush()
            new.flush()
