"""Steps for personal data: mask, and hash with a key (HMAC, RFC 2104, with SHA-256)."""

from __future__ import annotations

import hashlib
import hmac
import os
from dataclasses import dataclass

import polars as pl

from kinglet.columns.faults import Faults
from kinglet.errors import UsageError
from kinglet.plan.steps import Action, OnTexts, StepAbout
from kinglet.runtime.steps import placed
from kinglet.spec import steps as forms
from kinglet.steps.context import StepContext
from kinglet.timestamps.stamps import Reference


@dataclass(frozen=True)
class Mask(OnTexts):
    """Characters of fields as `*`, but for some at the end; a value that is no longer than those is all masked."""

    names: tuple[str, ...]
    show: int

    @property
    def about(self) -> StepAbout:
        return StepAbout(hidden="masked")

    def act(self, frame: pl.DataFrame, where: pl.Series | None, reference: Reference) -> tuple[pl.DataFrame, Faults]:
        """See `Action`."""
        for name in self.names:
            if name in frame.columns:
                column = pl.col(name).cast(pl.String)
                shown = pl.when(column.str.len_chars() > self.show).then(self.show).otherwise(0)
                hidden = column.str.head(column.str.len_chars() - shown).str.replace_all(r"(?s:.)", "*")
                value = frame.select_seq(hidden + column.str.tail(shown)).to_series()
                frame = placed(frame, name, value, where)
        return frame, []


@dataclass(frozen=True)
class Hash(OnTexts):
    """Fields as the first digits of their keyed hashes in base 16; key: the environment variable that has it."""

    names: tuple[str, ...]
    key: str
    digits: int
    label: str

    @property
    def about(self) -> StepAbout:
        return StepAbout(hidden="hashed")

    def act(self, frame: pl.DataFrame, where: pl.Series | None, reference: Reference) -> tuple[pl.DataFrame, Faults]:
        """See `Action`."""
        key = self.secret()
        for name in self.names:
            if name in frame.columns:
                text = frame[name].cast(pl.String)
                seen = text if where is None else text.filter(where)
                known = {
                    value: hmac.new(key, value.encode(), hashlib.sha256).hexdigest()[: self.digits]
                    for value in seen.drop_nulls().unique().to_list()
                }
                value = text.replace_strict(list(known), list(known.values()), default=None, return_dtype=pl.String)
                frame = placed(frame, name, value, where)
        return frame, []

    def secret(self) -> bytes:
        """The key.

        Raises:
            UsageError: there is none.
        """
        key = os.environ.get(self.key, "")
        if not key:
            raise UsageError(
                f"{self.label} needs a key in the environment variable {self.key}", "set it before the call"
            )
        return key.encode()


def mask(context: StepContext, form: forms.Mask) -> Action | None:
    """`mask`: characters as `*`."""
    return Mask(tuple(form.fields), form.show) if context.text(("mask", "fields"), form.fields) else None


def hash_fields(context: StepContext, form: forms.Hash) -> Action | None:
    """`hash`: keyed hashes."""
    if not context.text(("hash", "fields"), form.fields):
        return None
    label = f"{context.work.document.place(context.path)}: steps[{context.path[1]}].hash:"
    return Hash(tuple(form.fields), form.key, form.digits, label)
