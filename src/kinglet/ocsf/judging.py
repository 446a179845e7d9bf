"""Which mapped events lack what their class requires, told on whole columns.

A mapping that could fill everything may still leave an attribute of an event empty: the log did not have the value, or
what it had does not fit. The same that `validation` finds of one event is counted here for all of a batch.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any, NamedTuple

import polars as pl

from kinglet.columns.paths import Items, Tree, tree
from kinglet.ocsf.identity import Leaf
from kinglet.ocsf.schema import Entity, Model


class Judgement(NamedTuple):
    """A reason for which an event is not valid, and of which events it is true, over the columns of mapped events."""

    reason: str
    test: pl.Expr


def judgements(model: Model, entity: Entity, leaves: Sequence[Leaf]) -> list[Judgement]:
    """All that may be missing from events with these leaves."""
    own = [leaf for leaf in leaves if not leaf.path.startswith("unmapped.")]
    return list(_of(model, entity, tree((leaf.path, leaf) for leaf in own), "", None))


def _there(value: Any) -> pl.Expr | None:
    """Where something of a tree is there; None where something always is."""
    if isinstance(value, Leaf):
        return None if value.is_constant else pl.col(value.path).is_not_null()
    tests = [_there(inner) for inner in value.values()]
    return (
        None if any(test is None for test in tests) else pl.any_horizontal([test for test in tests if test is not None])
    )


def _of(model: Model, entity: Entity, filled: Tree, prefix: str, present: pl.Expr | None) -> Iterator[Judgement]:
    """What an entity lacks, and those beneath it; present: where it is there at all, None for always."""

    def where(test: pl.Expr) -> pl.Expr:
        return test if present is None else present & test

    def is_sure(names: Sequence[str]) -> bool:
        """Whether one of them is there wherever the entity is: it has no others."""
        return present is not None and set(filled) <= set(names)

    for name, attribute in entity.attributes.items():
        if attribute.requirement != "required" or attribute.profiles or is_sure([name]):
            continue
        there = _there(filled[name]) if name in filled else pl.lit(False)
        if there is not None:
            yield Judgement(f"missing:{prefix}{name}", where(~there))
    for kind, names in entity.constraints.items():
        tests = {name: _there(filled[name]) for name in names if name in filled}
        filled_in = [test if test is not None else pl.lit(True) for test in tests.values()]
        wanted = ", ".join(f"{prefix}{name}" for name in names)
        if not is_sure(names) and not any(test is None for test in tests.values()):
            yield Judgement(
                f"at least one of {wanted}", where(~pl.any_horizontal(filled_in) if filled_in else pl.lit(True))
            )
        if kind == "just_one" and len(filled_in) > 1:
            count = pl.sum_horizontal([test.cast(pl.Int32) for test in filled_in])
            yield Judgement(f"just one of {wanted}", where(count > 1))
    for name, below in filled.items():
        if name not in entity.attributes or not entity.attributes[name].is_object or isinstance(below, Leaf):
            continue
        for number, inner in below.items() if isinstance(below, Items) else [(0, below)]:
            here = f"{prefix}{name}[{number}]." if number else f"{prefix}{name}."
            yield from _of(model, model.object(entity.attributes[name].type), inner, here, _there(inner))
