"""Variants for what an existing parser does not read, written into its file; the rest of the file stays as it is."""

from __future__ import annotations

import re
from collections.abc import Sequence
from pathlib import Path

import polars as pl

from kinglet.discover.facts import Facts
from kinglet.drafting.editing import inserted
from kinglet.drafting.finishing import mapped, report, with_cases
from kinglet.drafting.naming import Names, variant_name
from kinglet.drafting.patterns import Slot, written
from kinglet.drafting.report import Doubt, Draft
from kinglet.drafting.shape import Variant
from kinglet.drafting.text_logs import first_lines
from kinglet.drafting.work import Wishes, Work, literal, sampled
from kinglet.drafting.writing import case_lines, variant_lines
from kinglet.errors import UsageError
from kinglet.mining.heads import Head
from kinglet.mining.messages import mine
from kinglet.parser import Parser, load
from kinglet.patterns.types import TYPES
from kinglet.plan.data import DTYPES
from kinglet.runtime.extraction.line_ends import as_read


def added(path: str, found: Facts, wishes: Wishes) -> Draft:
    """The draft of a parser with variants added for the events of a log that it does not read.

    Raises:
        ParserFileError: the parser cannot be loaded.
        UsageError: its variants are not written as a list of lines.
    """
    work = _Into(path, found, wishes)
    before = work.parsed(work.parser)
    left = before["variant"].is_null().arg_true().to_list()
    if not left:
        work.doubts.append(Doubt("messages", f"{path} reads every event: nothing is added"))
        return report(work, before)
    work.add(before, left)
    events, _parser = work.proved()
    work.tidied(events)
    mapped(work)
    with_cases(work, events, work.loaded())
    return report(work, work.parsed(work.loaded()))


class _Into(Work):
    """A parser file that gets more variants."""

    def __init__(self, path: str, found: Facts, wishes: Wishes) -> None:
        super().__init__(found, wishes)
        self.path = Path(path)
        self.parser = load(path)
        self.text = self.path.read_text(encoding="utf-8")
        _blocks(self.text, path)
        definition = self.parser._definition
        self.names = {variant.name for variant in definition.variants}
        self.shape.name = self.parser.name
        self.earlier = len(definition.cases)
        self.shape.time = (
            {"format": [fmt for rule in definition.time for fmt in rule.format]} if definition.time else None
        )
        kinds = definition.kind or []
        self.shape.kind = kinds[0] if len(kinds) == 1 else None

    def add(self, events: pl.DataFrame, left: Sequence[int]) -> None:
        """Adds variants for the events that none reads."""
        rows = sampled(left)
        some = events[rows]
        texts = some["body"] if "body" in some.columns and some["body"].null_count() == 0 else some["raw"]
        kind = self.shape.kind
        kinds = None
        if kind is not None and kind in some.columns and some[kind].null_count() == 0:
            kinds = some[kind].cast(pl.String).to_list()
            self.shape.kind_is_number = some[kind].dtype.is_integer()
        first, others = first_lines(as_read(texts))
        own = [name for name in self.parser.fields if name in some.columns and some[name].null_count() < some.height]
        more = others.to_list()
        for message in mine(first.to_list(), (), Head(), kinds).messages[: self.wishes.most]:
            found = written(message, Names(own), more=[more[row] for row in message.rows])
            name = variant_name(found.words, self.names, len(self.names) + 1)
            self.shape.variants.append(Variant(name, found, [rows[row] for row in message.rows], message.kinds))
        self.shape.variants.sort(key=lambda variant: -literal(variant))

    def loaded(self) -> Parser:
        """The parser with what is added as it stands."""
        for variant in self.shape.variants:
            for slot in variant.slots:
                self._of_one_type(slot)
        return load(self.written())

    def _of_one_type(self, slot: Slot) -> None:
        """Gives a slot another name where the parser has a field of its name and of another type."""
        kind = TYPES[slot.type].value if slot.type in TYPES and not slot.words else "text"
        known = self.parser.fields.get(slot.wanted)
        slot.name = slot.wanted if known is None or known == DTYPES[kind] else f"{slot.wanted}_{kind}"

    def written(self) -> str:
        """The parser file with what is added."""
        text = self.text if self.text.endswith("\n") else self.text + "\n"
        variants = [line for variant in self.shape.variants for line in variant_lines(self.shape, variant)]
        cases = [line for one in self.shape.cases for line in case_lines(one)]
        return inserted(inserted(text, "variants", variants), "cases", cases)


def _blocks(text: str, path: str) -> None:
    if not re.search(r"^variants:[ \t]*(?:#.*)?$", text, re.MULTILINE):
        raise UsageError(
            f"{path}: its variants are not a list with an item a line", "write them so, each behind a dash"
        )
