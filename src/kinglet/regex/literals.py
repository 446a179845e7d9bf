"""What can be said of a regex without running it: the text that every match contains, and how long matches are."""

from __future__ import annotations

import functools
import re
from collections.abc import Iterator
from typing import Any, NamedTuple

from kinglet.regex.syntax_tree import tree_of

# the standard library writes an endless repeat as a huge number, which differs by version
_ENDLESS = 1_000_000
_MOST_REPEATS = 16


class Known(NamedTuple):
    """literals: runs of characters that stand in every match, in order. least, most: characters of a match;
    most is None where there is no end to it.
    """

    literals: tuple[str, ...]
    least: int
    most: int | None
    vague: bool = False
    keeps_vague: bool = False


@functools.lru_cache(maxsize=4096)
def pieces(regex: str) -> tuple[str, ...]:
    """Runs of characters that stand in every match once runs of blanks and tabs are made one blank each."""
    tree = tree_of(regex)
    runs: list[str] = [""]
    _collect(tree, runs, bool(tree.state.flags & re.IGNORECASE), blanks=True)
    return tuple(re.sub("[ \t]+", " ", run) for run in runs if run)


@functools.lru_cache(maxsize=4096)
def known(regex: str) -> Known:
    """Reads a regex of the dialect."""
    tree = tree_of(regex)
    runs: list[str] = [""]
    _collect(tree, runs, bool(tree.state.flags & re.IGNORECASE))
    least, most = tree.getwidth()
    literals = tuple(run for run in runs if run)
    end = int(most) if most < _ENDLESS else None
    found = list(_repeats_of_nothing(tree))
    return Known(literals, int(least), end, bool(found), any(found))


def _repeats_of_nothing(tree: Any) -> Iterator[bool]:
    """For each repeat of what may be nothing, whether a group stands in it."""
    for operation, value in tree:
        name = str(operation)
        if name == "SUBPATTERN":
            yield from _repeats_of_nothing(value[3])
        elif name == "BRANCH":
            for inner in value[1]:
                yield from _repeats_of_nothing(inner)
        elif name in ("MAX_REPEAT", "MIN_REPEAT"):
            _, most, inner = value
            if most > 1 and inner.getwidth()[0] == 0:
                yield _has_group(inner)
            yield from _repeats_of_nothing(inner)


def _has_group(tree: Any) -> bool:
    return any(
        (str(operation) == "SUBPATTERN" and (value[0] is not None or _has_group(value[3])))
        or (str(operation) == "BRANCH" and any(map(_has_group, value[1])))
        or (str(operation) in ("MAX_REPEAT", "MIN_REPEAT") and _has_group(value[2]))
        for operation, value in tree
    )


def _collect(tree: Any, runs: list[str], any_case: bool, *, blanks: bool = False) -> None:
    """Adds to the last run what must follow it, and begins another where something else may stand.

    blanks: a run of blanks and tabs is taken for a blank.
    """
    for operation, value in tree:
        name = str(operation)
        # a letter that may have either case is no fixed text, a digit or sign is
        if name == "LITERAL" and not (any_case and chr(value).lower() != chr(value).upper()):
            runs[-1] += chr(value)
        # `^` and `$` read nothing: what stands on either side is still side by side
        elif name == "AT":
            continue
        elif name == "SUBPATTERN":
            _, on, off, inner = value
            inside = (any_case or bool(on & re.IGNORECASE)) and not off & re.IGNORECASE
            _collect(inner, runs, inside, blanks=blanks)
        elif name in ("MAX_REPEAT", "MIN_REPEAT"):
            least, most, inner = value
            if blanks and least and _is_blank(inner):
                runs[-1] += " "
                continue
            counted = least == most and least <= _MOST_REPEATS
            # `(ab){3}` is `ababab`; of `(ab){2,9}` only one `ab` is sure to stand beside what came before
            for _ in range(least if counted else min(least, 1)):
                _collect(inner, runs, any_case, blanks=blanks)
            if not counted:
                runs.append("")
        else:
            runs.append("")


def _is_blank(tree: Any) -> bool:
    """Whether something reads a blank or a tab and nothing else."""
    if len(tree) != 1 or str(tree[0][0]) != "IN":
        return False
    return {(str(operation), value) for operation, value in tree[0][1]} == {("LITERAL", 32), ("LITERAL", 9)}
