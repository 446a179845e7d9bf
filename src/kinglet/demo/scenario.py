"""The people, places and days that all demo logs share, and the story that runs through them.

A deckhand's password is guessed on the VPN; the guesser comes in from an address that nobody
has used before, goes on to the jump host, has a pump's setpoint changed in the night and reads
more manifests than anybody should.
"""

from __future__ import annotations

import random
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

FIRST_DAY = datetime(2026, 3, 2, tzinfo=UTC)
DAYS = 5
"""Monday to Friday, unless the story is told of other days."""

CREW = ("m.okoro", "t.varela", "j.lindqvist", "a.pires", "s.amadi", "h.fontaine")
ENGINEERS = ("m.okoro", "a.pires", "h.fontaine")
HOMES = dict(zip(CREW, (f"198.51.100.{last}" for last in (23, 41, 67, 90, 112, 140)), strict=True))
JUMP_HOST = "jump-1.sandwick.example"

VICTIM = "t.varela"
STRANGER = "203.0.113.77"
TUNNEL = "192.0.2.14"

VESSELS = ("MV Sandpiper", "MV Dunlin", "MV Turnstone", "RV Whimbrel")


@dataclass(frozen=True, order=True)
class Entry:
    """A line of a log, or several, at an instant."""

    at: datetime
    text: str


@dataclass(frozen=True)
class Story:
    """The days that the logs tell of; start is the midnight, UTC, of the first."""

    start: datetime = FIRST_DAY

    @property
    def end(self) -> datetime:
        return self.start + timedelta(days=DAYS)

    @property
    def guessing(self) -> datetime:
        """When the guessing begins: at a quarter past one in the night to the fourth day."""
        return self.start + timedelta(days=3, hours=1, minutes=12)

    @property
    def taken(self) -> datetime:
        return self.guessing + timedelta(minutes=19)

    @property
    def jumped(self) -> datetime:
        return self.taken + timedelta(minutes=6)

    @property
    def tampered(self) -> datetime:
        return self.jumped + timedelta(minutes=11)

    @property
    def reading(self) -> datetime:
        """When the reading of manifests begins, from the address that the VPN gave out."""
        return self.tampered + timedelta(minutes=9)

    def working_hours(self, chance: random.Random, count: int) -> Iterator[datetime]:
        """Instants on working days, most of them by day."""
        for _ in range(count):
            day = self.start + timedelta(days=chance.randrange(DAYS))
            hour = chance.triangular(4, 23, 13)
            yield day + timedelta(hours=hour, milliseconds=chance.randrange(3_600_000))


STORY = Story()
