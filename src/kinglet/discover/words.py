"""Figures as words say them."""

from __future__ import annotations


def percent(share: float) -> str:
    """A share that never rounds up to all nor down to none."""
    if share in (0, 1):
        return f"{100 * share:.0f} %"
    return f"{min(max(100 * share, 0.01), 99.99):.3g} %"


def size(count: float) -> str:
    """A number of bytes in the largest unit that leaves a figure before the point."""
    if count < 1024:
        return f"{count:,.0f} bytes"
    for unit in ("KiB", "MiB"):
        count /= 1024
        if count < 1024:
            return f"{count:.1f} {unit}"
    return f"{count / 1024:,.1f} GiB"


def counted(number: int, noun: str) -> str:
    """A number of things."""
    return f"{number:,} {noun}" if number == 1 else f"{number:,} {noun}s"
