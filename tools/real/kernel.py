"""What the kernel says while a block runs, as a syslog daemon writes it."""

from __future__ import annotations

import contextlib
import os
import re
import time
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path


@contextlib.contextmanager
def kernel_log(path: Path) -> Iterator[None]:
    """Writes the messages of the kernel's buffer that come in between, with the time of their arrival. Needs to be root."""
    device = os.open("/dev/kmsg", os.O_RDONLY | os.O_NONBLOCK)
    os.lseek(device, 0, os.SEEK_END)
    try:
        yield
        time.sleep(0.5)
        path.write_text("".join(_lines(device)), encoding="utf-8")
    finally:
        os.close(device)


def _lines(device: int) -> Iterator[str]:
    booted = datetime.now(UTC) - timedelta(seconds=time.clock_gettime(time.CLOCK_BOOTTIME))
    while True:
        try:
            record = os.read(device, 8192).decode()
        except BlockingIOError:
            return
        head, _, text = record.partition(";")
        seconds = int(head.split(",")[2]) / 1e6
        moment = booted + timedelta(seconds=seconds)
        text = re.sub(r"\\x([0-9a-f]{2})", lambda sign: chr(int(sign[1], 16)), text.splitlines()[0])
        yield f"{moment:%b} {moment.day:2} {moment:%H:%M:%S} quay-1 kernel: [{seconds:12.6f}] {text}\n"
