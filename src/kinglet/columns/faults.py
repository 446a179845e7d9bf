"""What is wrong with some of the events that a column stands for."""

from __future__ import annotations

import polars as pl

Faults = list[tuple[str, pl.Series]]
"""Faults by name, each with a mask of the events that have it; the masks are as long as the columns."""
