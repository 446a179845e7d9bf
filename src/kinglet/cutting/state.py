"""What a cutting rule knows between two buffers, as JSON that can be stored and read back."""

from __future__ import annotations

import functools
from typing import Any

from pydantic import BaseModel, ConfigDict, create_model

from kinglet.cutting.boundaries.base import Boundary


class Stored(BaseModel):
    """Values as JSON, bytes among them as base64."""

    model_config = ConfigDict(strict=True, extra="forbid", ser_json_bytes="base64", val_json_bytes="base64")


def stored(boundary: Boundary) -> str:
    """What a rule knows: the attributes that its class says it keeps."""
    return _model_of(boundary)(**{name: getattr(boundary, name) for name in boundary.kept}).model_dump_json()


def restore(boundary: Boundary, text: str) -> None:
    """Gives a new rule of the same kind what another knew.

    Raises:
        ValueError: the text is not what `stored` gives for such a rule.
    """
    for name, value in _model_of(boundary).model_validate_json(text):
        setattr(boundary, name, value)


def _model_of(boundary: Boundary) -> type[Stored]:
    return _model(type(boundary).__name__, tuple(boundary.kept.items()))


@functools.cache
def _model(name: str, kept: tuple[tuple[str, Any], ...]) -> type[Stored]:
    fields: dict[str, Any] = {attribute: (hint, ...) for attribute, hint in kept}
    return create_model(name, __base__=Stored, **fields)
