"""A draft in the making: the log, the shape of the parser, and how it is tried."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import polars as pl

from kinglet.calls import ReferenceTime
from kinglet.discover.facts import Facts
from kinglet.discover.suggestion import file_stem
from kinglet.discover.times import format_of_time
from kinglet.drafting.agreeing import agree
from kinglet.drafting.cases import read_under
from kinglet.drafting.patterns import Slot
from kinglet.drafting.proving import prove
from kinglet.drafting.report import Doubt
from kinglet.drafting.shape import Shape, Variant
from kinglet.drafting.writing import text_of
from kinglet.parser import Parser, load

MOST = 200
"""So many variants unless more are asked for."""
SAMPLE = 6000
"""So many events are mined at once; the others are read by what came of these, and what is left is mined again."""
_TRIES = 4


class Wishes(NamedTuple):
    """What the log does not say, and how much is wanted."""

    vendor: str = "UNKNOWN"
    product: str = "UNKNOWN"
    zone: str | None = None
    at: ReferenceTime = None
    most: int = MOST
    mask: bool = False
    encoding: str | None = None


class Work:
    """A draft in the making."""

    def __init__(self, found: Facts, wishes: Wishes, number: str = "") -> None:
        self.found = found
        self.wishes = wishes
        self.raw = found.frame["raw"]
        self.stamp_texts = found.stamps.texts[0] if format_of_time(found.stamps) is not None else None
        self.doubts: list[Doubt] = []
        self.names: set[str] = set()
        self.earlier = 0
        """Cases that a parser has already, which is added to."""
        events = dict(found.boundaries[0].events)
        self.shape = Shape(file_stem(found.name) + number, wishes.vendor, wishes.product, events)

    def doubt(self, doubt: Doubt, note: str | None = None) -> None:
        """Tells of what is unsure, on the screen and in the file. note: what the file says, if other than that."""
        self.doubts.append(doubt)
        mend = f"; {doubt.mend}" if doubt.mend else ""
        self.shape.notes.setdefault(doubt.about, []).append(note or doubt.text + mend)

    @property
    def outer(self) -> list[Slot]:
        """The slots of the envelope."""
        if self.shape.envelope is None:
            return [slot for slot, _ in self.shape.parameters]
        return self.shape.envelope.slots

    def stamp_of(self, rows: Sequence[int]) -> list[str | None] | None:
        """The stamps of events, where the log has such."""
        return self.stamp_texts.gather(list(rows)).to_list() if self.stamp_texts is not None else None

    def loaded(self) -> Parser:
        """The parser as it stands."""
        agree(self.shape)
        self._with_time()
        return load(self.written())

    def parsed(self, parser: Parser) -> pl.DataFrame:
        """The events of the log as a parser reads them."""
        reference = self.wishes.at if self.wishes.at is not None else self.found.reference
        return read_under(parser, self.raw, self.found.headers, reference).events

    def proved(self) -> tuple[pl.DataFrame, Parser]:
        """The events as the draft reads them, once it reads them as they were found, or as nearly as may be."""
        for _ in range(_TRIES):
            parser = self.loaded()
            events = self.parsed(parser)
            if not self._mended(events):
                return events, parser
        parser = self.loaded()
        return self.parsed(parser), parser

    def _mended(self, events: pl.DataFrame) -> bool:
        """Mends what the events show to be wrong; says whether there was anything to mend."""
        proof = prove(events, self.shape.variants)
        by_name = {variant.name: variant for variant in self.shape.variants}
        slots = [slot for wrong in proof.wrong.values() for slot in wrong]
        slots += [slot for name in proof.missed for slot in by_name[name].slots]
        changed = [_wider(slot) for slot in slots]
        for mine, other in proof.stolen:
            if (other, mine) not in proof.stolen:
                changed.append(self._before(by_name[mine], by_name[other]))
        return any(changed)

    def written(self) -> str:
        """The parser file as it stands."""
        return text_of(self.shape)

    def tidied(self, events: pl.DataFrame) -> None:
        """Leaves out variants that read no event."""
        read = set(events["variant"].drop_nulls().unique())
        self.shape.variants = [variant for variant in self.shape.variants if variant.name in read]

    def _before(self, first: Variant, second: Variant) -> bool:
        """Moves a variant in front of another that takes its events."""
        variants = self.shape.variants
        at, to = variants.index(first), variants.index(second)
        if at < to:
            return False
        variants.insert(to, variants.pop(at))
        return True

    def _with_time(self) -> None:
        """Says where the stamp stands where no pattern has a slot for it."""
        slots = [*self.outer, *(slot for variant in self.shape.variants for slot in variant.everything)]
        if self.shape.time is None or self.shape.structure or self.shape.syslog:
            return
        if any(slot.name == "stamp" for slot in slots):
            return
        if not self.found.stamps.where:
            self.shape.time = None
            return
        place = self.found.stamps.where[0]
        where = {"find": "start" if place.order == 0 and not place.before else "anywhere"}
        self.shape.time = where | {key: item for key, item in self.shape.time.items() if key not in ("find", "from")}


def sampled(rows: Sequence[int]) -> list[int]:
    """Rows enough to mine: the first ones, and others from all over."""
    if len(rows) <= SAMPLE:
        return list(rows)
    lead = SAMPLE // 3
    step = (len(rows) - lead) / (SAMPLE - lead)
    return [*rows[:lead], *(rows[lead + int(i * step)] for i in range(SAMPLE - lead))]


def literal(variant: Variant) -> int:
    """How much fixed text a variant has: what has most is tried first."""
    return len(variant.words.replace(" ", ""))


def _wider(slot: Slot) -> bool:
    """Gives a slot a type that reads more; says whether there was one."""
    if slot.type in ("rest", "json", "block", "time", "text") and not slot.words:
        return False
    if slot.words:
        slot.words = ()
    else:
        slot.type = "text" if slot.type == "word" else "word"
    return True
