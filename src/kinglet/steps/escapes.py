"""The step that takes escapes out of text."""

from __future__ import annotations

from dataclasses import dataclass

import polars as pl

from kinglet.columns.escapes import has_escapes, unescaped
from kinglet.columns.faults import Faults
from kinglet.columns.put import put
from kinglet.plan.steps import Action, OnTexts
from kinglet.runtime.steps import placed
from kinglet.spec import steps as forms
from kinglet.steps.context import StepContext
from kinglet.timestamps.stamps import Reference


@dataclass(frozen=True)
class Unescape(OnTexts):
    """Texts as what their escapes stand for; a text whose escapes are none, or give no UTF-8, is a fault and null."""

    names: tuple[str, ...]
    form: str

    def act(self, frame: pl.DataFrame, where: pl.Series | None, reference: Reference) -> tuple[pl.DataFrame, Faults]:
        """See `Action`."""
        found: Faults = []
        for name in self.names:
            if name not in frame.columns:
                continue
            text = frame[name]
            escaped = has_escapes(text, self.form)
            if where is not None:
                escaped = escaped & where
            if not escaped.any():
                continue
            meant = unescaped(text.filter(escaped), self.form)
            meant = put(text, escaped.arg_true(), meant)
            found.append((f"bad-value:{name}", escaped & meant.is_null()))
            frame = placed(frame, name, meant, escaped)
        return frame, found


def unescape(context: StepContext, form: forms.Unescape) -> Action | None:
    """`unescape`: what the escapes of a text stand for."""
    return Unescape(tuple(form.fields), form.as_) if context.text(("unescape", "fields"), form.fields) else None
