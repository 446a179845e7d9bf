"""How much of two things one tells of the other."""

from __future__ import annotations

import math
from collections.abc import Iterable


def entropy(counts: Iterable[int]) -> float:
    """The entropy of what occurs so often, in bits."""
    known = [count for count in counts if count]
    total = sum(known)
    return -sum(count / total * math.log2(count / total) for count in known)


def shared(joint: Iterable[int], one: Iterable[int], other: Iterable[int]) -> tuple[float, float, float]:
    """The mutual information of two things by the counts of both together and of each, and the entropy of each."""
    first, second = entropy(one), entropy(other)
    return first + second - entropy(joint), first, second
