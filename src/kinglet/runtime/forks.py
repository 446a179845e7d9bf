"""Processes that are forked: the column engine has threads, and a fork is without them."""

from __future__ import annotations

import os

from kinglet.errors import UsageError

_state = {"used": False, "orphaned": False}


def _forked() -> None:
    _state["orphaned"] = _state["orphaned"] or _state["used"]


if hasattr(os, "register_at_fork"):
    os.register_at_fork(after_in_child=_forked)


def begin() -> None:
    """Notes that the engine is at work in this process.

    Raises:
        UsageError: the process was forked from one in which it was, and would wait for ever for threads it lacks.
    """
    if _state["orphaned"]:
        raise UsageError(
            "this process was forked from one that had loaded a parser, whose threads it lacks",
            "start it by spawn or forkserver, or fork before the first parser is loaded",
        )
    _state["used"] = True
