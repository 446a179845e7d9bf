"""The model that ships with Kinglet, and what files of extensions add to it."""

from __future__ import annotations

import functools
import gzip
import importlib.resources
import json
import os
from pathlib import Path

from kinglet.ocsf.schema import VERSION, Model


def load_model(*extensions: str | os.PathLike[str]) -> Model:
    """The model that ships with Kinglet, with what files of extensions add to it, in their order.

    Raises:
        ParserFileError: a file of an extension has problems.
    """
    model = _shipped(VERSION)
    for file in extensions:
        from kinglet.ocsf.extending import extended

        model = extended(model, Path(file))
    return model


@functools.cache
def _shipped(version: str) -> Model:
    file = importlib.resources.files("kinglet.ocsf") / "data" / f"ocsf-{version}.json.gz"
    return Model(json.loads(gzip.decompress(file.read_bytes())))
