"""Makes the web access log that the benchmarks read; the same lines for the same count."""

from __future__ import annotations

import random
from datetime import datetime, timedelta
from pathlib import Path

DATA = Path(__file__).parent / "data"
PEOPLE = ("-", "-", "-", "m.okoro", "t.varela", "j.lindqvist")


def access_log(lines: int) -> Path:
    """The path of a log of so many lines, made where it is not there yet."""
    DATA.mkdir(exist_ok=True)
    path = DATA / f"access-{lines}.log"
    if path.exists():
        return path
    chance = random.Random(7)
    moment = datetime(2026, 3, 1)
    aside = path.with_suffix(".part")
    with aside.open("w", encoding="ascii") as out:
        for _ in range(lines):
            moment += timedelta(seconds=chance.random())
            harbour = chance.choice(("sandwick-quay", "port-elder"))
            out.write(
                f"192.0.2.{chance.randrange(1, 255)} - {chance.choice(PEOPLE)} "
                f"[{moment:%d/%b/%Y:%H:%M:%S} +0000] "
                f'"GET /timetable/{harbour}/{chance.randrange(9999)}?day={chance.randrange(31)} HTTP/1.1" '
                f"{chance.choice((200, 200, 200, 302, 404))} {chance.randrange(100_000)} "
                f'"https://www.marram.example/{harbour}" "Mozilla/5.0 (X11; Linux) Quay/{chance.randrange(60)}"\n'
            )
    aside.rename(path)
    return path
